"""Everything that a drawing holds, in one table: lines, faces, points and texts, each with what rules can ask for."""

from __future__ import annotations

import io
import re
from collections import Counter
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.errors import library_faults
from vastgrid.base.findings import Finding, Severity, count, left_out
from vastgrid.base.progress import Progress
from vastgrid.data.dataset import Floats
from vastgrid.formats.dxf._blocks import drawable_inserts, sound_head
from vastgrid.formats.dxf._geometry import faces_of, lightweight, meshes, polylines, with_bulges
from vastgrid.formats.dxf._tags import Entities, Tags, texts_of
from vastgrid.formats.dxf.sorting import Items
from vastgrid.kernels.tags import word

FAST = ("3DFACE", "LINE", "LWPOLYLINE", "POLYLINE", "POINT", "MESH")
PARTS = ("VERTEX", "SEQEND")
# What the library decomposes and flattens for us; the rest has no place in terrain.
SLOW = ("INSERT", "ARC", "CIRCLE", "ELLIPSE", "SPLINE", "HELIX", "TEXT", "MTEXT", "ATTRIB", "SOLID", "TRACE")
BYLAYER = 256


Look = tuple[str, str, int, str]
"""What rules can ask of an entity: type, layer, colour, line type."""


class Names:
    """Names numbered in the order in which they come."""

    def __init__(self) -> None:
        self.of: dict[str, int] = {}

    def number(self, name: str) -> int:
        """Return a name's number."""
        return self.of.setdefault(name, len(self.of))

    def all(self) -> tuple[str, ...]:
        """Return the names in their order."""
        return tuple(self.of) or ("",)


@dataclass(slots=True)
class Drawing:
    """A drawing's content: lines, triangles and places, each with the entity it belongs to.

    Attributes
    ----------
    lines : list of (m, 3) float64
        Polylines; a closed one repeats its first vertex.
    corners : list of (m, 3, 3) float64
        Blocks of triangles.
    owners : list of (m,) int64
        For each block, which of the faces' entities a triangle belongs to.
    places : list of (k, 3) float64
        Blocks of points.
    texts : dict of int, str
        What stands at a place, by the number of the point.
    said : dict of int, dict
        What a block says of a point in it: its number, code or description.
    looks : dict of str, list of (k, 4) int64
        Of “lines”, “faces” and “points”: numbers of type, layer, colour and line type of each entity.
    """

    lines: list[Floats] = field(default_factory=list)
    corners: list[Floats] = field(default_factory=list)
    owners: list[NDArray[np.int64]] = field(default_factory=list)
    places: list[Floats] = field(default_factory=list)
    texts: dict[int, str] = field(default_factory=dict)
    said: dict[int, dict[str, str]] = field(default_factory=dict)
    looks: dict[str, list[NDArray[np.int64]]] = field(default_factory=lambda: {"lines": [], "faces": [], "points": []})
    types: Names = field(default_factory=Names)
    layers: Names = field(default_factory=Names)
    line_types: Names = field(default_factory=Names)

    def count(self, what: str) -> int:
        """Return how many entities there are of “lines”, “faces” or “points”."""
        return sum(len(block) for block in self.looks[what])

    def look(self, what: str, look: Look) -> None:
        """Add one entity's look."""
        kind, layer, colour, line = look
        row = (self.types.number(kind), self.layers.number(layer), colour, self.line_types.number(line))
        self.looks[what].append(np.array([row], np.int64))

    def table(self, what: str) -> NDArray[np.int64]:
        """Return the looks of all entities of a kind, (k, 4)."""
        return np.concatenate([np.zeros((0, 4), np.int64), *self.looks[what]])

    def faces(self) -> tuple[Floats, NDArray[np.int64]]:
        """Return all triangles and the entity of each."""
        return (
            np.concatenate([np.zeros((0, 3, 3)), *self.corners]),
            np.concatenate([np.zeros(0, np.int64), *self.owners]),
        )

    def points(self) -> Floats:
        """Return all places, (k, 3)."""
        return np.concatenate([np.zeros((0, 3)), *self.places])

    def move(self, by: Floats) -> None:
        """Move everything."""
        self.lines = [line + by for line in self.lines]
        self.corners = [block + by for block in self.corners]
        self.places = [block + by for block in self.places]

    def add_faces(self, triangles: Floats, look: Look) -> None:
        """Add one entity's triangles."""
        self.owners.append(np.full(len(triangles), self.count("faces"), np.int64))
        self.corners.append(triangles)
        self.look("faces", look)

    def add_point(self, place: Floats, look: Look, text: str | None = None) -> None:
        """Add one place, perhaps with the text that stands there."""
        if text is not None:
            self.texts[self.count("points")] = text
        self.places.append(place[None])
        self.look("points", look)

    def items(self) -> Items:
        """Return the table that rules sort: lines first, then faces, then points."""
        rows = np.concatenate([self.table(what) for what in ("lines", "faces", "points")])
        triangles, owner = self.faces()
        places = self.points()
        low = np.full(len(rows), np.inf)
        high = np.full(len(rows), -np.inf)
        number = np.repeat(np.arange(len(self.lines)), [len(line) for line in self.lines])
        z = np.concatenate([np.zeros(0), *(line[:, 2] for line in self.lines)])
        first, last = len(self.lines), len(self.lines) + self.count("faces")
        for index, heights in (
            (number, z),
            (np.repeat(owner + first, 3), triangles[:, :, 2].ravel()),
            (np.arange(last, len(rows)), places[:, 2]),
        ):
            np.minimum.at(low, index, heights)
            np.maximum.at(high, index, heights)
        for k, text in self.texts.items():
            value = text_height(text)
            if value is not None:
                low[last + k] = high[last + k] = value
        names = (self.types.all(), self.layers.all(), self.line_types.all())
        return Items(rows[:, 0], rows[:, 1], rows[:, 2], rows[:, 3], low, high, *names)


# Words that stand before an elevation on plans (common practice); before any other word a number is a name, like R-7.
_HEIGHT_WORDS = "el|elev|elevation|h|hgt|ht|height|z|rl|lvl|level|gl|fgl|egl|fl|ffl|tl|hp|lp|cote|cota|höhe|hoehe|ok|uk"
_HEIGHT = re.compile(
    rf"(?:(?:{_HEIGHT_WORDS})\.?\s*[:=]?\s*|[(\[]\s*)?(?<![A-Za-z])(?P<sign>[+\-−±]?)\s?(?P<number>\d{{1,5}}(?:[.,]\d{{1,4}})?)"
    r"\s*(?:m|ft|')?\s*[)\]]?",
    re.IGNORECASE,
)


def text_height(text: str) -> float | None:
    """Return the elevation that a text says, such as 231.44, +231,44 or “EL 231.44 m”; None where it is no elevation."""
    found = re.fullmatch(_HEIGHT, text.strip())
    if not found:
        return None
    value = float(found["number"].replace(",", "."))
    return -value if found["sign"] in ("-", "−") else value


def collected(
    path: Path,
    entities: Entities,
    whole: Tags,
    in_model: NDArray[np.bool_],
    chord: float,
    findings: list[Finding],
    progress: Progress,
    *,
    hidden: bool,
) -> Drawing:
    """Return what a drawing holds; entities of no use here are counted in a finding.

    Parameters
    ----------
    in_model : (k,) bool
        Entities of model space.
    hidden : bool
        Whether entities that a drawing hides (on layers that are off or frozen) are taken.
    """
    drawing = Drawing()
    dark = hidden_layers(whole, entities.encoding)
    shown = in_model & ~entities.bad
    shown &= _told_hidden(entities, shown, dark, findings, taken=hidden) | hidden
    look = _looks(entities, whole, drawing)
    triangles, owner = faces_of(entities, entities.of("3DFACE", shown))
    good = np.isfinite(triangles).all(axis=(1, 2))
    if good.any():
        which, number = np.unique(owner[good], return_inverse=True)
        drawing.corners.append(triangles[good])
        drawing.owners.append(number.ravel())
        drawing.looks["faces"].append(look(which, "3DFACE"))
    at = entities.of("LINE", shown)
    if len(at):
        ends = [[entities.values(at, code + k, 0.0) for code in (10, 20, 30)] for k in (0, 1)]
        drawing.lines += list(np.moveaxis(np.array(ends), 2, 0))
        drawing.looks["lines"].append(look(at, "LINE"))
    for kind, found in (
        ("LWPOLYLINE", [(own, e, False) for own, e in lightweight(entities, entities.of("LWPOLYLINE", shown), chord)]),
        ("POLYLINE", list(polylines(entities, shown, chord))),
    ):
        courses = [(own, entity) for own, entity, is_face in found if not is_face]
        drawing.lines += [own for own, _ in courses]
        drawing.looks["lines"].append(look(np.array([entity for _, entity in courses], np.int64), kind))
        for own, entity, is_face in found:
            if is_face:
                drawing.owners.append(np.full(len(own), drawing.count("faces"), np.int64))
                drawing.corners.append(own)
                drawing.looks["faces"].append(look(np.array([entity]), "POLYFACE"))
    for own, entity in meshes(entities, shown):
        drawing.owners.append(np.full(len(own), drawing.count("faces"), np.int64))
        drawing.corners.append(own)
        drawing.looks["faces"].append(look(np.array([entity]), "MESH"))
    at = entities.of("POINT", shown)
    drawing.places.append(np.column_stack([entities.values(at, code, 0.0) for code in (10, 20, 30)]))
    drawing.looks["points"].append(look(at, "POINT"))
    _by_library(path, entities, whole, shown, chord, drawing, findings, progress, set() if hidden else dark)
    _left_out(entities, in_model, findings)
    return drawing


def _told_hidden(
    entities: Entities, shown: NDArray[np.bool_], dark: set[str], findings: list[Finding], *, taken: bool
) -> NDArray[np.bool_]:
    """Return which entities the drawing shows, and say how many it hides."""
    on_dark = np.array([name.lower() in dark for name in entities.layers], np.bool_)
    every = np.arange(len(entities.first))
    off = on_dark[entities.layer] | (entities.values(every, 60, 0.0) == 1.0)
    parts = np.isin(entities.kind, [word(name) for name in PARTS])
    number = int((off & shown & ~parts).sum())
    if number:
        names = sorted({entities.layers[k] for k in np.unique(entities.layer[off & shown]).tolist()})
        what = f"{count(number, 'entity', 'entities')} that the drawing hides (layers off or frozen: {', '.join(names[:8])})"
        if taken:
            findings.append(Finding("hidden-taken", f"{what} came in as well; hidden=leave leaves them out."))
        else:
            findings.append(left_out("hidden-left-out", f"{what} were left out, as asked.", Severity.NOTE))
    return np.asarray(~off, np.bool_)


def hidden_layers(whole: Tags, encoding: str) -> set[str]:
    """Return the names of layers that are off or frozen, in small letters."""
    begin = np.flatnonzero((whole.codes == 0) & (whole.words == word("LAYER")))
    found = set()
    for start in begin.tolist():
        name, dark = "", False
        for k in range(start + 1, min(start + 40, len(whole.codes))):
            code, number = int(whole.codes[k]), whole.numbers[k]
            if code == 0:
                break
            if code == 2:
                name = whole.text(k).decode(encoding, "replace")
            # By the DXF reference a negative colour is a layer that is off, and 1 of its flags one that is frozen.
            dark |= np.isfinite(number) and ((code == 62 and number < 0) or (code == 70 and bool(int(number) & 1)))
        if dark:
            found.add(name.lower())
    return found


def _looks(entities: Entities, whole: Tags, drawing: Drawing) -> Callable[[NDArray[np.int64], str], NDArray[np.int64]]:
    """Return a function: entities → numbers of their type, layer, colour and line type, by layer resolved."""
    every = np.arange(len(entities.first))
    colour = entities.values(every, 62, BYLAYER).astype(np.int64)
    kind, kinds = texts_of(entities.tags, entities.owner, len(every), 6, entities.encoding, "BYLAYER")
    table = _layer_table(whole, entities.encoding)
    by_layer = [table.get(name.lower(), (7, "CONTINUOUS")) for name in entities.layers]
    layer_colour = np.array([own for own, _ in by_layer], np.int64)
    used = np.unique(entities.layer[np.isin(entities.kind, [word(name) for name in FAST])])
    layer_number = np.zeros(len(entities.layers), np.int64)
    for k in used.tolist():
        layer_number[k] = drawing.layers.number(entities.layers[k])
    layer_line = np.array([drawing.line_types.number(line) for _, line in by_layer], np.int64)
    own_line = np.array([-1 if k.upper() == "BYLAYER" else drawing.line_types.number(k) for k in kinds], np.int64)

    def look(which: NDArray[np.int64], name: str) -> NDArray[np.int64]:
        layer = entities.layer[which]
        lines = own_line[kind[which]]
        return np.column_stack(
            (
                np.full(len(which), drawing.types.number(name) if len(which) else 0),
                layer_number[layer],
                np.where(colour[which] == BYLAYER, layer_colour[layer], colour[which]),
                np.where(lines < 0, layer_line[layer], lines),
            )
        ).astype(np.int64)

    return look


def _layer_table(whole: Tags, encoding: str) -> dict[str, tuple[int, str]]:
    """Return colour and line type of each layer."""
    begin = np.flatnonzero((whole.codes == 0) & (whole.words == word("LAYER")))
    found: dict[str, tuple[int, str]] = {}
    for start in begin.tolist():
        name, colour, line = "", 7, "CONTINUOUS"
        for k in range(start + 1, min(start + 40, len(whole.codes))):
            code = int(whole.codes[k])
            if code == 0:
                break
            if code == 2:
                name = whole.text(k).decode(encoding, "replace")
            elif code == 62:
                colour = abs(int(whole.numbers[k])) if np.isfinite(whole.numbers[k]) else 7
            elif code == 6:
                line = whole.text(k).decode(encoding, "replace")
        found[name.lower()] = (colour, line)
    return found


def _by_library(
    path: Path,
    entities: Entities,
    whole: Tags,
    shown: NDArray[np.bool_],
    chord: float,
    drawing: Drawing,
    findings: list[Finding],
    progress: Progress,
    dark: set[str],
) -> None:
    """Read blocks, curves, texts and meshes with the library, from a drawing that holds only those."""
    words = np.array([word(name) for name in SLOW], np.uint64)
    chosen = np.isin(entities.kind, words) & shown
    chosen &= drawable_inserts(entities, whole, chosen, findings)
    if not chosen.any():
        return
    import ezdxf.recover

    with library_faults(path, "reading blocks, curves and texts"):
        document, _ = ezdxf.recover.read(io.BytesIO(_only(entities, whole, chosen, findings)))
        faults: Counter[str] = Counter()
        unseen = 0
        for seen, (entity, said) in enumerate(_parts(document)):
            if seen % 1000 == 0:
                progress.report(0.5, f"reading {path.name}: {seen} parts of blocks, curves and texts")
            if str(entity.dxf.layer).lower() in dark:
                unseen += 1
                continue
            try:
                before = drawing.count("points")
                _take(entity, chord, drawing, document)
                if said and entity.dxftype() == "POINT" and drawing.count("points") > before:
                    drawing.said[before] = said
            except (ValueError, TypeError, ArithmeticError, AttributeError, IndexError):
                faults[entity.dxftype()] += 1
        for name, number in faults.items():
            findings.append(left_out("entity-damaged", f"{number} {name} cannot be drawn; left out."))
        if unseen:
            text = f"{count(unseen, 'part')} of blocks on layers that are off or frozen: left out, as asked."
            findings.append(left_out("hidden-left-out", text, Severity.NOTE))


# Attributes of blocks that tell what a surveyed point is called and coded (common practice).
_POINT_TAGS = {
    **dict.fromkeys(("NUMBER", "NO", "NR", "NUM", "PT", "POINT", "PNT", "PTNO", "ID", "NAME"), "point"),
    **dict.fromkeys(("CODE", "COD", "FEATURE", "KEY"), "code"),
    **dict.fromkeys(("DESC", "DESCRIPTION", "REMARK", "NOTE"), "description"),
}


def _parts(document: Any) -> Iterator[tuple[Any, dict[str, str]]]:
    """Yield every part of a drawing, blocks taken apart, with what the attributes of its block say of a point."""
    from ezdxf.disassemble import recursive_decompose

    for entity in document.modelspace():
        said: dict[str, str] = {}
        if entity.dxftype() == "INSERT":
            for attribute in entity.attribs:
                name = _POINT_TAGS.get(str(attribute.dxf.tag).upper())
                if name and str(attribute.dxf.text).strip():
                    said[name] = str(attribute.dxf.text).strip()
        for part in recursive_decompose([entity]):
            yield part, said


def _only(entities: Entities, whole: Tags, chosen: NDArray[np.bool_], findings: list[Finding]) -> bytes:
    """Return the drawing's text with the chosen entities only (sequences of attributes go with their insert)."""
    data = whole.data
    names = entities.kind
    follows = np.isin(names, [word("ATTRIB"), word("SEQEND")])
    keep = chosen.copy()
    for k in np.flatnonzero(follows).tolist():
        keep[k] = keep[k] or (k > 0 and keep[k - 1] and names[k - 1] != word("SEQEND"))
    ends = np.append(entities.first[1:], len(entities.tags.codes)) + entities.offset
    begin = entities.first + entities.offset
    stops = whole.stops
    parts = sound_head(whole, entities.offset, findings)
    edges = np.flatnonzero(np.diff(np.concatenate(([0], keep.astype(np.int8), [0]))))
    for first, last in zip(edges[::2].tolist(), edges[1::2].tolist(), strict=True):
        parts.append(data[int(stops[begin[first] - 1]) : int(stops[ends[last - 1] - 1])].tobytes())
    parts.append(b"\n  0\nENDSEC\n  0\nEOF\n")
    return b"".join(parts)


def _take(entity: Any, chord: float, drawing: Drawing, document: Any) -> None:
    kind = entity.dxftype()
    layer = str(entity.dxf.layer)
    colour, line = int(entity.dxf.get("color", BYLAYER)), str(entity.dxf.get("linetype", "BYLAYER"))
    if colour in (0, BYLAYER) or line.upper() in ("BYLAYER", "BYBLOCK"):
        own = document.layers.get(layer) if document.layers.has_entry(layer) else None
        colour = (abs(int(own.dxf.color)) if own else 7) if colour in (0, BYLAYER) else colour
        if line.upper() in ("BYLAYER", "BYBLOCK"):
            line = str(own.dxf.linetype) if own else "CONTINUOUS"
    look = (kind, layer, colour, line)
    if kind in ("TEXT", "MTEXT", "ATTRIB"):
        text = entity.plain_text() if kind == "MTEXT" else str(entity.dxf.text)
        place = np.array(entity.ocs().to_wcs(entity.dxf.insert) if kind != "MTEXT" else entity.dxf.insert, np.float64)
        drawing.add_point(place, look, text.strip())
    elif kind == "POINT":
        drawing.add_point(np.array(entity.dxf.location, np.float64), look)
    elif kind in ("3DFACE", "SOLID", "TRACE", "MESH") or (
        kind == "POLYLINE" and (entity.is_poly_face_mesh or entity.is_polygon_mesh)
    ):
        triangles = list(_triangles(entity))
        if triangles:
            name = "POLYFACE" if kind == "POLYLINE" else kind
            drawing.add_faces(np.array(triangles, np.float64), (name, layer, colour, line))
    elif kind in ("LINE", "LWPOLYLINE", "POLYLINE", "ARC", "CIRCLE", "ELLIPSE", "SPLINE", "HELIX"):
        own = _course(entity, chord)
        if len(own) > 1 and np.isfinite(own).all():
            drawing.lines.append(own)
            drawing.look("lines", look)


def _course(entity: Any, chord: float) -> Floats:
    """Return an entity's course, curves as chords; the library's own paths are Bézier curves, too rough for surveys."""
    kind = entity.dxftype()
    if kind == "LINE":
        return np.array([entity.dxf.start, entity.dxf.end], np.float64)
    if kind in ("LWPOLYLINE", "POLYLINE"):
        return _polyline(entity, chord)
    points = entity.flattening(chord) if kind != "SPLINE" else entity.flattening(chord, 8)
    return np.array([tuple(point) for point in points], np.float64).reshape(-1, 3)


def _polyline(entity: Any, chord: float) -> Floats:
    from ezdxf.math import Vec3

    if entity.dxftype() == "LWPOLYLINE":
        rows = np.array(entity.get_points("xyb"), np.float64).reshape(-1, 3)
        xyz = np.column_stack((rows[:, :2], np.full(len(rows), float(entity.dxf.elevation))))
        bulges, flat = rows[:, 2], True
    else:
        xyz = np.array([tuple(vertex.dxf.location) for vertex in entity.vertices], np.float64).reshape(-1, 3)
        bulges = np.array([float(vertex.dxf.get("bulge", 0.0)) for vertex in entity.vertices])
        flat = bool(entity.is_2d_polyline)
        if flat:
            xyz[:, 2] = float(entity.dxf.elevation.z) if entity.dxf.hasattr("elevation") else 0.0
    if len(xyz) < 2:
        return xyz
    line = with_bulges(xyz, bulges, bool(entity.is_closed), chord)
    if not flat:
        return line
    return np.array([tuple(place) for place in entity.ocs().points_to_wcs(Vec3.generate(line))], np.float64)


def _triangles(entity: Any) -> Iterator[Any]:
    from ezdxf.render import MeshBuilder

    kind = entity.dxftype()
    if kind in ("3DFACE", "SOLID", "TRACE"):
        corners = [tuple(v) for v in entity.wcs_vertices()]
        polygons = [corners]
    elif kind == "MESH":
        vertices = [tuple(v) for v in entity.vertices]
        polygons = [[vertices[k] for k in face] for face in entity.faces]
    else:
        mesh = MeshBuilder.from_polyface(entity)
        polygons = [[tuple(mesh.vertices[k]) for k in face] for face in mesh.faces]
    for polygon in polygons:
        for k in range(1, len(polygon) - 1):
            triangle = (polygon[0], polygon[k], polygon[k + 1])
            if len(set(triangle)) == 3:
                yield triangle


def _left_out(entities: Entities, shown: NDArray[np.bool_], findings: list[Finding]) -> None:
    """Say which kinds of entity hold no terrain, and what is not in model space."""
    kinds, first, number = np.unique(entities.kind[shown], return_index=True, return_counts=True)
    used = {int(word(name)) for name in (*FAST, *PARTS, *SLOW)}
    other = []
    for kind, k, times in zip(kinds.tolist(), first.tolist(), number.tolist(), strict=True):
        if kind not in used:
            tag = int(entities.first[np.flatnonzero(shown)[k]])
            other.append(f"{times} {entities.tags.text(tag).decode('latin-1')}")
    if other:
        findings.append(
            left_out("entities-left-out", f"Entities that hold no terrain here, left out: {', '.join(other)}.")
        )
    if not shown.all():
        findings.append(
            left_out("paper-space", f"{count(int((~shown).sum()), 'entity', 'entities')} in paper space: left out.")
        )
