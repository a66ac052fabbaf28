"""Blocks, curves and texts of a drawing, which the library takes apart and flattens."""

from __future__ import annotations

import io
from collections import Counter
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.errors import library_faults
from vastgrid.base.findings import Finding, Severity, count, left_out
from vastgrid.base.progress import Progress
from vastgrid.data.dataset import Floats
from vastgrid.formats.dxf._blocks import drawable_inserts, sound_head
from vastgrid.formats.dxf._drawing import BYLAYER, Drawing
from vastgrid.formats.dxf._geometry import with_bulges
from vastgrid.formats.dxf._hatches import rings_of_hatch
from vastgrid.formats.dxf._tags import Entities, Tags
from vastgrid.kernels.text.tags import word

# What the library decomposes and flattens for us; the rest has no place in terrain.
SLOW = ("INSERT", "ARC", "CIRCLE", "ELLIPSE", "SPLINE", "HELIX", "TEXT", "MTEXT", "ATTRIB", "SOLID", "TRACE", "HATCH")


def by_library(
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
    elif kind == "HATCH":
        drawing.hatches.append((layer, rings_of_hatch(entity, chord)))
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
