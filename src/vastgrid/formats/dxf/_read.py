"""Reading what terrain a drawing holds."""

from __future__ import annotations

import io
import math
import re
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.errors import FormatError, library_faults
from vastgrid.base.findings import Finding, count
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Unit
from vastgrid.kernels.tags import scan_tags, tag_hashes, tag_numbers, word
from vastgrid.params.declare import Param
from vastgrid.terrain.assemble import tin_from_faces
from vastgrid.terrain.dataset import Dataset, Floats
from vastgrid.terrain.fileformat import ReadResult
from vastgrid.terrain.frame import Frame
from vastgrid.terrain.linework import Linework
from vastgrid.terrain.pointset import PointSet

# $INSUNITS by the DXF reference.
_UNITS = {1: Unit.INCH, 2: Unit.FOOT, 4: Unit.MILLIMETRE, 6: Unit.METRE, 21: Unit.US_FOOT}


@dataclass(frozen=True)
class DxfReadParams:
    """How a drawing is read."""

    accept_cut: Annotated[
        bool, Param("Accept a cut-off file", "Take the whole entities of a drawing that ends before its end mark.")
    ] = False
    chord: Annotated[
        float,
        Param("Chord tolerance", "Largest distance of a chord from the arc it stands for, in drawing units.", above=0),
    ] = 0.01


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
    """The entities of a drawing: tags, and for each entity its first tag, its kind and its layer."""

    tags: Tags
    first: NDArray[np.int64]
    kind: NDArray[np.uint64]
    layer: NDArray[np.int64]
    layers: list[str]
    owner: NDArray[np.int64]

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


def read(path: Path, params: DxfReadParams, progress: Progress) -> ReadResult:
    """Read what terrain a drawing holds; see `FORMAT`.

    Raises
    ------
    FormatError
        If it is not DXF, or is cut off and that was not accepted.
    """
    data = _bytes(path)
    progress.report(0.1, f"reading {path.name}")
    codes, starts, stops, words, fault = scan_tags(data)
    if fault and not (len(codes) and params.accept_cut):
        line = bytes(data[:4000]).split(b"\n")[fault - 1 : fault][:1]
        text = line[0].decode("latin-1").strip()[:40] if line else ""
        raise FormatError(
            path, f"a group code was expected, not “{text}”; this is not a whole DXF file", line=int(fault)
        )
    if len(codes) == 0:
        raise FormatError(path, "the file is empty" if len(data) == 0 else "there is no DXF tag in the file")
    tags = Tags(data, codes, starts, stops, words, tag_numbers(data, codes, starts, stops))
    progress.report(0.5, f"reading {path.name}")
    findings: list[Finding] = []
    header = _header(tags)
    entities = _entities(path, tags, params, header, findings)
    frame = _frame(header, findings)
    shown = np.ones(len(entities.first), np.bool_)
    shown[entities.owner[(entities.tags.codes == 67) & (entities.tags.numbers == 1)]] = False
    datasets = _datasets(path, entities, shown, frame, params, findings)
    progress.report(0.9, f"reading {path.name}")
    if not datasets:
        kinds = "; ".join(finding.text for finding in findings) or "it is empty"
        raise FormatError(path, f"the drawing has no faces, lines, polylines or points in its model space ({kinds})")
    return ReadResult(tuple(datasets), tuple(findings))


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


def _header(tags: Tags) -> dict[str, tuple[bytes, float]]:
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


def _entities(
    path: Path, tags: Tags, params: DxfReadParams, header: dict[str, tuple[bytes, float]], findings: list[Finding]
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
    own = tags.part(start, stop)
    first = np.flatnonzero(own.codes == 0)
    if not whole:
        # The last entity may lack its end.
        kept = max(len(first) - 1, 0) if not len(ends) else len(first)
        line = 2 * (start + int(first[-1])) + 1 if len(first) else 2 * start
        why = f"the drawing is cut off: there is no end mark; the {count(kept, 'entity', 'entities')} before are whole"
        if not params.accept_cut:
            raise FormatError(path, f"{why} (accept_cut=yes takes those)", line=line)
        findings.append(Finding("cut-off", f"The drawing is cut off; {kept} whole entities were taken."))
        own = own.part(0, int(first[kept]) if kept < len(first) else len(own.codes))
        first = first[:kept]
    owner = np.cumsum(own.codes == 0) - 1
    layer, layers = _layers(own, owner, len(first), _encoding(header))
    return Entities(own, first, own.words[first], layer, layers, owner)


def _encoding(header: dict[str, tuple[bytes, float]]) -> str:
    version = header.get("$ACADVER", (b"AC1009", 0.0))[0]
    page = header.get("$DWGCODEPAGE", (b"", 0.0))[0].decode("latin-1").upper()
    if version >= b"AC1021":
        return "utf-8"
    number = re.search(r"(\d{3,4})$", page)
    return f"cp{number[1]}" if number else "cp1252"


def _layers(tags: Tags, owner: NDArray[np.int64], number: int, encoding: str) -> tuple[NDArray[np.int64], list[str]]:
    at = np.flatnonzero((tags.codes == 8) & (owner >= 0))
    layer = np.zeros(number, np.int64)
    if len(at) == 0:
        return layer, ["0"]
    _, first, inverse = np.unique(
        tag_hashes(tags.data, tags.starts[at], tags.stops[at]), return_index=True, return_inverse=True
    )
    names = []
    for k in first.tolist():
        raw = tags.text(int(at[k]))
        try:
            text = raw.decode(encoding)
        except (UnicodeDecodeError, LookupError):
            text = raw.decode("utf-8", "replace")
        names.append(re.sub(r"\\U\+([0-9A-Fa-f]{4})", lambda code: chr(int(code[1], 16)), text))
    layer[owner[at]] = inverse.ravel()
    return layer, names


def _frame(header: dict[str, tuple[bytes, float]], findings: list[Finding]) -> Frame:
    code = header.get("$INSUNITS", (b"", 0.0))[1]
    unit = _UNITS.get(int(code)) if math.isfinite(code) else None
    if unit is None and math.isfinite(code) and code != 0:
        findings.append(Finding("unit-not-used", f"The drawing's unit ($INSUNITS {code:g}) is not one used here."))
    return Frame(None, unit, unit)


_USED = ("3DFACE", "LINE", "LWPOLYLINE", "POLYLINE", "VERTEX", "SEQEND", "POINT")


def _datasets(
    path: Path,
    entities: Entities,
    shown: NDArray[np.bool_],
    frame: Frame,
    params: DxfReadParams,
    findings: list[Finding],
) -> list[Dataset]:
    faces, face_layer = _faces(entities, entities.of("3DFACE", shown))
    lines: list[Floats] = []
    line_layer: list[int] = []
    at = entities.of("LINE", shown)
    if len(at):
        ends = [[entities.values(at, code + k, 0.0) for code in (10, 20, 30)] for k in (0, 1)]
        lines += list(np.moveaxis(np.array(ends), 2, 0).transpose(0, 1, 2))
        line_layer += entities.layer[at].tolist()
    for own, layer in _lightweight(entities, entities.of("LWPOLYLINE", shown), params.chord):
        lines.append(own)
        line_layer.append(layer)
    for own, layer, is_face in _polylines(entities, shown, params.chord):
        if is_face:
            faces = np.concatenate((faces, own))
            face_layer = np.concatenate((face_layer, np.full(len(own), layer)))
        else:
            lines.append(own)
            line_layer.append(layer)
    at = entities.of("POINT", shown)
    xyz = np.column_stack([entities.values(at, code, 0.0) for code in (10, 20, 30)])
    found: list[Dataset] = []
    several = (len(xyz) > 0) + (len(lines) > 0) + (len(faces) > 0) > 1
    good = np.isfinite(faces).all(axis=(1, 2))
    for layer in np.unique(face_layer[good]).tolist():
        name = entities.layers[layer] if several or len(np.unique(face_layer)) > 1 else path.stem
        tin, said = tin_from_faces(name, frame, faces[good & (face_layer == layer)])
        findings += said
        if len(tin.triangles):
            found.append(tin)
    if len(lines):
        found.append(_linework(f"{path.stem} lines" if several else path.stem, frame, lines, line_layer, entities))
    if len(xyz):
        names = np.array([name.encode() for name in entities.layers])
        attributes = {"layer": names[entities.layer[at]]}
        name = f"{path.stem} points" if several else path.stem
        found.append(PointSet(name=name, frame=frame, xyz=xyz, attributes=attributes))
    _left_out(entities, shown, findings)
    return found


def _linework(name: str, frame: Frame, lines: list[Floats], layer: list[int], entities: Entities) -> Linework:
    used, number = np.unique(np.array(layer), return_inverse=True)
    offsets = np.concatenate(([0], np.cumsum([len(line) for line in lines])))
    return Linework(
        name=name,
        frame=frame,
        vertices=np.concatenate(lines),
        offsets=offsets,
        layer=number.astype(np.int32),
        layers=tuple(entities.layers[k] for k in used.tolist()),
    )


def _left_out(entities: Entities, shown: NDArray[np.bool_], findings: list[Finding]) -> None:
    kinds, first, number = np.unique(entities.kind[shown], return_index=True, return_counts=True)
    used = {int(word(name)) for name in _USED}
    other = []
    for kind, k, times in zip(kinds.tolist(), first.tolist(), number.tolist(), strict=True):
        if kind not in used:
            tag = int(entities.first[np.flatnonzero(shown)[k]])
            other.append(f"{times} {entities.tags.text(tag).decode('latin-1')}")
    if other:
        findings.append(
            Finding("entities-left-out", f"Entities that hold no terrain here were left out: {', '.join(other)}.")
        )
    if not shown.all():
        findings.append(
            Finding("paper-space", f"{count(int((~shown).sum()), 'entity', 'entities')} in paper space were left out.")
        )


def _faces(entities: Entities, at: NDArray[np.int64]) -> tuple[Floats, NDArray[np.int64]]:
    place = np.full(len(entities.first), -1, np.int64)
    place[at] = np.arange(len(at))
    corners = np.full((len(at), 4, 3), np.nan)
    codes = entities.tags.codes
    mine = (place[entities.owner] >= 0) & (codes >= 10) & (codes < 40) & (codes % 10 < 4)
    tag = np.flatnonzero(mine)
    corners[place[entities.owner[tag]], codes[tag] % 10, codes[tag] // 10 - 1] = entities.tags.numbers[tag]
    # The reference lets a triangle leave out its fourth corner, and heights default to zero.
    missing = np.isnan(corners[:, 3, :2]).any(axis=1)
    corners[missing, 3] = corners[missing, 2]
    corners[..., 2] = np.where(np.isnan(corners[..., 2]), 0.0, corners[..., 2])
    quad = (corners[:, 3] != corners[:, 2]).any(axis=1) & (corners[:, 3] != corners[:, 0]).any(axis=1)
    # A quadrilateral becomes two triangles, in its own place.
    number = np.repeat(np.arange(len(at)), 1 + quad)
    second = np.zeros(len(number), np.bool_)
    second[1:] = number[1:] == number[:-1]
    triangles = np.where(second[:, None, None], corners[number][:, [0, 2, 3]], corners[number][:, :3])
    return triangles, entities.layer[at][number]


def _arbitrary_axis(extrusion: Floats) -> Floats | None:
    """Return the matrix from an object's own plane to the world, None where they agree (DXF's arbitrary axis)."""
    length = float(np.linalg.norm(extrusion))
    if length == 0 or np.allclose(extrusion / length, (0, 0, 1), atol=1e-12):
        return None
    z = extrusion / length
    pole = np.array((0.0, 1.0, 0.0) if abs(z[0]) < 1 / 64 and abs(z[1]) < 1 / 64 else (0.0, 0.0, 1.0))
    x = np.cross(pole, z)
    x /= np.linalg.norm(x)
    return np.column_stack((x, np.cross(z, x), z))


def _with_bulges(xyz: Floats, bulges: Floats, closed: bool, chord: float) -> Floats:
    """Return a polyline with its arcs as chords (a bulge is the tangent of a quarter of the arc's angle)."""
    if closed and len(xyz) > 1 and (xyz[0] != xyz[-1]).any():
        xyz, bulges = np.concatenate((xyz, xyz[:1])), np.append(bulges, 0.0)
    if not bulges.any():
        return xyz
    out: list[Floats] = []
    for k in range(len(xyz) - 1):
        a, b, bulge = xyz[k], xyz[k + 1], float(bulges[k])
        out.append(a[None])
        span = float(np.hypot(*(b - a)[:2]))
        if bulge == 0.0 or span == 0.0:
            continue
        angle = 4.0 * math.atan(bulge)
        radius = span / 2.0 / abs(math.sin(angle / 2.0))
        step = 2.0 * math.acos(max(1.0 - chord / radius, -0.5))
        pieces = min(max(math.ceil(abs(angle) / step), 2), 1000)
        share = np.arange(1, pieces) / pieces
        mid, normal = (a + b)[:2] / 2.0, np.array((a[1] - b[1], b[0] - a[0])) / span
        centre = mid + normal * (span / 2.0 / math.tan(angle / 2.0))
        turn = share * angle
        arm = a[:2] - centre
        x = centre[0] + arm[0] * np.cos(turn) - arm[1] * np.sin(turn)
        y = centre[1] + arm[0] * np.sin(turn) + arm[1] * np.cos(turn)
        out.append(np.column_stack((x, y, a[2] + share * (b[2] - a[2]))))
    out.append(xyz[-1:])
    return np.concatenate(out)


def _lightweight(entities: Entities, at: NDArray[np.int64], chord: float) -> Iterator[tuple[Floats, int]]:
    elevation = entities.values(at, 38, 0.0)
    flags = entities.values(at, 70, 0.0).astype(np.int64)
    extrusion = np.column_stack([entities.values(at, code, 1.0 * (code == 230)) for code in (210, 220, 230)])
    stops = np.append(entities.first, len(entities.tags.codes))
    codes, numbers = entities.tags.codes, entities.tags.numbers
    for k, entity in enumerate(at.tolist()):
        cut = slice(int(stops[entity]), int(stops[entity + 1]))
        code, number = codes[cut], numbers[cut]
        x, y = number[code == 10], number[code == 20]
        size = min(len(x), len(y))
        if size < 2:
            continue
        xyz = np.column_stack((x[:size], y[:size], np.full(size, elevation[k])))
        bulges = np.zeros(size)
        if (code == 42).any():
            vertex = np.cumsum(code == 10) - 1
            bulges[np.minimum(vertex[code == 42], size - 1)] = number[code == 42]
        line = _with_bulges(xyz, bulges, bool(flags[k] & 1), chord)
        axis = _arbitrary_axis(extrusion[k])
        yield line if axis is None else line @ axis.T, int(entities.layer[entity])


def _polylines(entities: Entities, shown: NDArray[np.bool_], chord: float) -> Iterator[tuple[Floats, int, bool]]:
    at = entities.of("POLYLINE", shown)
    if len(at) == 0:
        return
    flags = entities.values(at, 70, 0.0).astype(np.int64)
    elevation = entities.values(at, 30, 0.0)
    extrusion = np.column_stack([entities.values(at, code, 1.0 * (code == 230)) for code in (210, 220, 230)])
    sizes = np.column_stack([entities.values(at, code, 0.0) for code in (71, 72)]).astype(np.int64)
    vertex = np.flatnonzero(entities.kind == word("VERTEX"))
    xyz = np.column_stack([entities.values(vertex, code, 0.0) for code in (10, 20, 30)])
    marks = entities.values(vertex, 70, 0.0).astype(np.int64)
    bulges = entities.values(vertex, 42, 0.0)
    corners = np.column_stack([entities.values(vertex, code, 0.0) for code in (71, 72, 73, 74)]).astype(np.int64)
    # A polyline's vertices follow it, up to whatever is no vertex.
    follows = np.searchsorted(vertex, at)
    others = np.flatnonzero(entities.kind != word("VERTEX"))
    after = np.append(others, len(entities.first))[np.searchsorted(others, at, side="right")]
    ends = np.searchsorted(vertex, after)
    for k, entity in enumerate(at.tolist()):
        cut = slice(int(follows[k]), int(ends[k]))
        layer = int(entities.layer[entity])
        if flags[k] & 64:
            own = (marks[cut] & 64) > 0
            faces = _polyface(xyz[cut][own], np.abs(corners[cut][~own]))
            if len(faces):
                yield faces, layer, True
        elif flags[k] & 16:
            faces = _mesh(xyz[cut][(marks[cut] & 16) == 0], *sizes[k].tolist())
            if len(faces):
                yield faces, layer, True
        else:
            # Control points of a fitted curve are not on the line.
            real = (marks[cut] & 16) == 0
            line, bulge = xyz[cut][real], bulges[cut][real]
            if len(line) < 2:
                continue
            if not flags[k] & 8:
                line = np.column_stack((line[:, :2], np.full(len(line), elevation[k])))
            line = _with_bulges(line, bulge, bool(flags[k] & 1), chord)
            axis = None if flags[k] & 8 else _arbitrary_axis(extrusion[k])
            yield line if axis is None else line @ axis.T, layer, False


def _polyface(vertices: Floats, corners: NDArray[np.int64]) -> Floats:
    corners = corners[((corners > 0) & (corners <= len(vertices)))[:, :3].all(axis=1)]
    first = corners[:, :3]
    quad = (corners[:, 3] > 0) & (corners[:, 3] <= len(vertices))
    both = np.concatenate((first, corners[quad][:, [0, 2, 3]]))
    return vertices[both - 1] if len(both) else np.zeros((0, 3, 3))


def _mesh(vertices: Floats, rows: int, columns: int) -> Floats:
    if rows < 2 or columns < 2 or rows * columns > len(vertices):
        return np.zeros((0, 3, 3))
    lattice = vertices[: rows * columns].reshape(rows, columns, 3)
    a, b, c, d = lattice[:-1, :-1], lattice[:-1, 1:], lattice[1:, 1:], lattice[1:, :-1]
    both = np.stack((np.stack((a, b, c), axis=2), np.stack((a, c, d), axis=2)), axis=2)
    return np.ascontiguousarray(both.reshape(-1, 3, 3))
