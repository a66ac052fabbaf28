"""A drawing's tags and entities, as arrays."""

from __future__ import annotations

import io
import re
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.errors import FormatError, library_faults
from vastgrid.base.findings import Finding, count, either, left_out
from vastgrid.data.dataset import Floats
from vastgrid.kernels.text.tags import scan_tags, tag_hashes, tag_numbers, with_plain_exponents, word


@dataclass(frozen=True, slots=True)
class Tags:
    """The tags of one section, with their numbers read."""

    data: NDArray[np.uint8]
    codes: NDArray[np.int32]
    starts: NDArray[np.int64]
    stops: NDArray[np.int64]
    words: NDArray[np.uint64]
    numbers: Floats

    def part(self, start: int, stop: int) -> Tags:
        """Return some of the tags."""
        cut = slice(start, stop)
        return Tags(self.data, self.codes[cut], self.starts[cut], self.stops[cut], self.words[cut], self.numbers[cut])

    def text(self, index: int) -> bytes:
        """Return one tag's value."""
        return self.data[self.starts[index] : self.stops[index]].tobytes()


@dataclass(frozen=True, slots=True)
class Entities:
    """The entities of a drawing.

    Attributes
    ----------
    tags : Tags
        Of the ENTITIES section; `offset` of all tags come before it.
    first, kind, layer : (k,) arrays
        First tag, name (as a word) and layer number of each entity.
    layers : list of str
        Layer names.
    owner : (tags,) int64
        Entity that each tag belongs to.
    encoding : str
        Of the drawing's texts.
    bad : (k,) bool
        Entities with a coordinate that is no number; their polyline with them.
    """

    tags: Tags
    first: NDArray[np.int64]
    kind: NDArray[np.uint64]
    layer: NDArray[np.int64]
    layers: list[str]
    owner: NDArray[np.int64]
    offset: int
    encoding: str
    bad: NDArray[np.bool_]

    def of(self, name: str, shown: NDArray[np.bool_]) -> NDArray[np.int64]:
        """Return the numbers of the entities of one kind."""
        return np.flatnonzero((self.kind == word(name)) & shown)

    def values(self, entities: NDArray[np.int64], code: int, default: float) -> Floats:
        """Return one number of each entity: its first tag of that code, or a default."""
        out = np.full(len(self.first), np.nan)
        at = np.flatnonzero(self.tags.codes == code)[::-1]
        out[self.owner[at]] = self.tags.numbers[at]
        found = out[entities]
        return np.where(np.isnan(found), default, found)


def tags_of(path: Path, data: NDArray[np.uint8], *, accept_cut: bool) -> Tags:
    """Return a drawing's tags.

    Raises
    ------
    FormatError
        If it is not made of tags.
    """
    data = np.require(data, requirements="W")
    codes, starts, stops, words, fault = scan_tags(data)
    with_plain_exponents(data, codes, starts, stops)
    if fault and not (len(codes) and accept_cut):
        line = bytes(data[:4000]).split(b"\n")[fault - 1 : fault][:1]
        text = line[0].decode("latin-1").strip()[:40] if line else ""
        raise FormatError(
            path,
            f"a group code was expected, not “{text}”; this is not a whole DXF file (recover=yes repairs what can be)",
            line=int(fault),
        )
    if len(codes) == 0:
        raise FormatError(path, "the file is empty" if len(data) == 0 else "there is no DXF tag in the file")
    return Tags(data, codes, starts, stops, words, tag_numbers(data, codes, starts, stops))


def drawing_bytes(path: Path, *, recover: bool, findings: list[Finding]) -> NDArray[np.uint8]:
    """Return a drawing as text; a binary one is turned into it, a damaged one repaired where that is asked for."""
    if recover:
        import ezdxf.recover

        with library_faults(path, "repairing the drawing"):
            document, audit = ezdxf.recover.read(io.BytesIO(_ended(_readable(path.read_bytes()), findings)))
            text = io.StringIO()
            document.write(text)
        if audit.errors or audit.fixes:
            number = len(audit.errors) + len(audit.fixes)
            findings.append(
                Finding(
                    "drawing-repaired",
                    f"{count(number, 'fault')} of the drawing {either(number, 'was', 'were')} repaired.",
                )
            )
        return np.frombuffer(text.getvalue().encode("utf-8", "surrogateescape"), np.uint8)
    return _bytes(path)


def _readable(raw: bytes) -> bytes:
    """Return a drawing with exponents as the library knows them: it would pass over one that begins with D."""
    data = np.frombuffer(bytearray(raw), np.uint8)
    with_plain_exponents(data, *scan_tags(data)[:3])
    return data.tobytes()


def _ended(data: bytes, findings: list[Finding]) -> bytes:
    """Return a drawing that was cut off with its last, partial entity taken away and its end marks added."""
    if b"Binary DXF\r\n\x1a\0" in data[:32] or data.rstrip().endswith(b"EOF"):
        return data
    whole = [match.start() for match in re.finditer(rb"(?<=\n)[ \t]*0\r?\n[A-Z0-9_]+\r?\n", data)]
    if not whole:
        return data
    findings.append(Finding("cut-off", "The drawing is cut off; its whole entities were taken."))
    return data[: whole[-1]] + b"  0\nENDSEC\n  0\nEOF\n"


def _bytes(path: Path) -> NDArray[np.uint8]:
    with path.open("rb") as file:
        head = file.read(32)
    if b"Binary DXF\r\n\x1a\0" in head:
        import ezdxf

        with library_faults(path, "reading the binary drawing"):
            text = io.StringIO()
            ezdxf.readfile(path).write(text)
            return np.frombuffer(text.getvalue().encode("utf-8", "surrogateescape"), np.uint8)
    return np.fromfile(path, np.uint8)


def header_of(tags: Tags) -> dict[str, tuple[bytes, float]]:
    sections = np.flatnonzero((tags.codes == 2) & (tags.words == word("HEADER")))
    if len(sections) == 0:
        return {}
    start = int(sections[0])
    ends = np.flatnonzero((tags.codes[start:] == 0) & (tags.words[start:] == word("ENDSEC")))
    stop = start + int(ends[0]) if len(ends) else len(tags.codes)
    names = start + np.flatnonzero(tags.codes[start:stop] == 9)
    return {
        tags.text(k).decode("latin-1").upper(): (tags.text(k + 1), float(tags.numbers[k + 1]))
        for k in names.tolist()
        if k + 1 < stop
    }


def entities_of(
    path: Path, tags: Tags, accept_cut: bool, header: dict[str, tuple[bytes, float]], findings: list[Finding]
) -> Entities:
    zero = tags.codes == 0
    names = np.flatnonzero((tags.codes == 2) & (tags.words == word("ENTITIES")))
    names = names[zero[names - 1]] if len(names) else names
    if len(names) == 0:
        raise FormatError(path, "the drawing has no ENTITIES section; the file is cut off or not a drawing")
    start = int(names[0]) + 1
    ends = np.flatnonzero(zero[start:] & (tags.words[start:] == word("ENDSEC")))
    whole = len(ends) > 0 and bool((zero & (tags.words == word("EOF"))).any())
    stop = start + int(ends[0]) if len(ends) else len(tags.codes)
    part = tags.part(start, stop)
    first = np.flatnonzero(part.codes == 0)
    if not whole:
        # The last entity may lack its end.
        kept = max(len(first) - 1, 0) if not len(ends) else len(first)
        line = 2 * (start + int(first[-1])) + 1 if len(first) else 2 * start
        why = f"the drawing is cut off: there is no end mark; the {count(kept, 'entity', 'entities')} before {either(kept, 'is', 'are')} whole"
        if not accept_cut:
            raise FormatError(path, f"{why} (accept_cut=yes takes those)", line=line)
        findings.append(
            Finding("cut-off", f"The drawing is cut off; what is whole was taken: {count(kept, 'entity', 'entities')}.")
        )
        part = part.part(0, int(first[kept]) if kept < len(first) else len(part.codes))
        first = first[:kept]
    owner = np.cumsum(part.codes == 0) - 1
    encoding = _encoding(header)
    layer, layers = texts_of(part, owner, len(first), 8, encoding, "0")
    bad = _damaged(part, first, owner, start, findings)
    return Entities(part, first, part.words[first], layer, layers, owner, start, encoding, bad)


def no_numbers(tags: Tags) -> NDArray[np.int64]:
    """Return the tags that have to be numbers, for geometry to be read, and are none or not finite."""
    codes = tags.codes
    geometry = ((codes >= 10) & (codes <= 39)) | (codes == 42) | ((codes >= 70) & (codes <= 74)) | (codes // 10 == 21)
    geometry |= (codes >= 220) & (codes <= 239)
    return np.flatnonzero(geometry & ~np.isfinite(tags.numbers))


def _damaged(
    tags: Tags, first: NDArray[np.int64], owner: NDArray[np.int64], offset: int, findings: list[Finding]
) -> NDArray[np.bool_]:
    bad = np.zeros(len(first), np.bool_)
    # Radii, angles, knots and scales belong to the geometry of these.
    curved = np.isin(
        tags.words[first], [word(name) for name in ("ARC", "CIRCLE", "ELLIPSE", "SPLINE", "HELIX", "INSERT")]
    )
    more = (tags.codes >= 40) & (tags.codes <= 59) & ~np.isfinite(tags.numbers) & (owner >= 0)
    wrong = np.union1d(no_numbers(tags), np.flatnonzero(more & curved[owner]) if len(first) else no_numbers(tags)[:0])
    wrong = wrong[owner[wrong] >= 0]
    bad[owner[wrong]] = True
    # A place has an easting and a northing; the reference lets only heights be left out.
    kinds = tags.words[first]
    needed = np.isin(kinds, [word(name) for name in ("POINT", "LINE", "3DFACE", "VERTEX")])
    has = np.zeros((2, len(first)), np.bool_)
    for k, code in enumerate((10, 20)):
        has[k, owner[(tags.codes == code) & (owner >= 0)]] = True
    # A face of a polyface mesh is a vertex that names others.
    names = np.zeros(len(first), np.bool_)
    names[owner[(tags.codes == 71) & (owner >= 0)]] = True
    lacking = needed & ~has.all(axis=0) & ~(names & (kinds == word("VERTEX")))
    bad |= lacking
    if not bad.any():
        return bad
    entity = int(np.flatnonzero(bad)[0])
    own = wrong[owner[wrong] == entity]
    name = tags.text(int(first[entity])).decode("latin-1")
    at = int(own[0]) if len(own) else int(first[entity])
    why = f"“{tags.text(at).decode('latin-1')[:30]}”" if len(own) else "without easting or northing"
    text = (
        f"{count(int(bad.sum()), 'entity has', 'entities have')} coordinates that are not numbers, the first a {name} in "
        f"line {2 * (offset + at) + 2} ({why}); left out, a polyline as a whole."
    )
    findings.append(left_out("not-a-number", text))
    # A polyline with a wrong vertex is wrong itself.
    begins = np.flatnonzero(kinds == word("POLYLINE"))
    vertices = np.flatnonzero(bad & (kinds == word("VERTEX")))
    of = np.searchsorted(begins, vertices) - 1
    bad[begins[of[of >= 0]]] = True
    return bad


def _encoding(header: dict[str, tuple[bytes, float]]) -> str:
    version = header.get("$ACADVER", (b"AC1009", 0.0))[0]
    page = header.get("$DWGCODEPAGE", (b"", 0.0))[0].decode("latin-1").upper()
    if version >= b"AC1021":
        return "utf-8"
    number = re.search(r"(\d{3,4})$", page)
    return f"cp{number[1]}" if number else "cp1252"


def decoded(raw: bytes, encoding: str) -> str:
    r"""Return a text of a drawing: in its encoding, or in UTF-8 where that cannot be, with escapes read (\\U+00F6)."""
    try:
        text = raw.decode(encoding)
    except (UnicodeDecodeError, LookupError):
        text = raw.decode("utf-8", "replace")
    return re.sub(r"\\U\+([0-9A-Fa-f]{4})", lambda code: chr(int(code[1], 16)), text)


def texts_of(
    tags: Tags, owner: NDArray[np.int64], number: int, code: int, encoding: str, default: str
) -> tuple[NDArray[np.int64], list[str]]:
    """Return each entity's text of one group code, as numbers of names; a default where it has none."""
    at = np.flatnonzero((tags.codes == code) & (owner >= 0))
    layer = np.zeros(number, np.int64)
    if len(at) == 0:
        return layer, [default]
    _, first, inverse = np.unique(
        tag_hashes(tags.data, tags.starts[at], tags.stops[at]), return_index=True, return_inverse=True
    )
    names = [decoded(tags.text(int(at[k])), encoding) for k in first.tolist()]
    # The first tag of a code counts, as for numbers.
    layer[:] = len(names)
    layer[owner[at][::-1]] = inverse.ravel()[::-1]
    return layer, [*names, default]
