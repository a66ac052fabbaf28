"""What a surface is to be built from anew: its source data where it has some, else its vertices, breaklines and rim."""

from __future__ import annotations

import dataclasses
import functools
from collections.abc import Sequence
from typing import Any

import numpy as np

from vastgrid.base import late_shapely as shapely
from vastgrid.base.findings import Finding, count, note
from vastgrid.data.dataset import Dataset, Floats
from vastgrid.data.line_roles import BOUNDARY, BREAKLINE, ISLAND, OUTER, STANDARD, TRIM, UNTRIMMED, VOID
from vastgrid.data.linework import Linework, from_lines
from vastgrid.data.pointset import PointSet
from vastgrid.data.tin import Tin
from vastgrid.declarations.conversion import listed
from vastgrid.terrain.tin.building import left_of
from vastgrid.terrain.tin.merging import outline


def has_source(tin: Tin) -> bool:
    """Return whether a surface says what it was built from."""
    return len(tin.source_points) + len(tin.break_vertices) > 2


def with_sources(inputs: Sequence[Dataset]) -> list[Dataset]:
    """Return datasets with each TIN among them as the points and lines that it is built from."""
    found: list[Dataset] = []
    for each in inputs:
        if isinstance(each, Tin):
            found += each.worked_out("source data", functools.partial(_parts, each))
        else:
            found.append(each)
    return found


def told(inputs: Sequence[Dataset]) -> list[Finding]:
    """Return what is said of surfaces that are built anew."""
    found = []
    for each in inputs:
        if not isinstance(each, Tin):
            continue
        parts = with_sources([each])
        points = sum(len(part.xyz) for part in parts if isinstance(part, PointSet))
        roles = [role for part in parts if isinstance(part, Linework) for role in part.attributes[BOUNDARY].tolist()]
        lines, limits = roles.count(b""), len(roles) - roles.count(b"")
        what = listed([count(points, "point"), count(lines, "breakline"), count(limits, "boundary", "boundaries")])
        text = f"{each.name} was built anew from its source data: {what}."
        if not has_source(each):
            text = f"{each.name} has no source data; it was built anew from its {count(points, 'vertex', 'vertices')}, inside its rim, with {count(lines, 'edge')} of breaklines and rim kept."
        found.append(note("built-anew", text))
    return found


def _parts(tin: Tin) -> list[Dataset]:
    if has_source(tin):
        points = tin.source_points
        cuts = tin.break_offsets
        lines = [tin.break_vertices[cuts[k] : cuts[k + 1]] for k in range(len(cuts) - 1)]
        # Lines that were drawn by hand come last, and are standard ones.
        kinds = [*tin.break_kinds, *[STANDARD] * len(lines)][: len(lines)]
        limits = tin.limits()
        whole = list(tin.limit_whole) or [False] * len(limits)
    else:
        used = np.unique(tin.triangles)
        points = tin.vertices[used]
        lines = _edges(tin)
        kinds = [STANDARD] * len(lines)
        limits = rings_of(outline(tin))
        whole = [False] * len(limits)
    parts: list[Dataset] = []
    if len(points):
        parts.append(PointSet(name=tin.name, frame=tin.frame, xyz=points))
    if lines or limits:
        # Of one layer are lines of one kind: by their layers a step says what they are.
        names = [*kinds, *(f"{role} untrimmed" if own else role for (role, _), own in zip(limits, whole, strict=True))]
        work = from_lines(f"{tin.name} lines", tin.frame, [*lines, *(ring for _, ring in limits)], names)
        attributes = {
            BREAKLINE: _words([*kinds, *[""] * len(limits)]),
            BOUNDARY: _words([*[""] * len(lines), *(role for role, _ in limits)]),
            TRIM: _words([*[""] * len(lines), *(UNTRIMMED if own else "" for own in whole)]),
        }
        parts.append(dataclasses.replace(work, attributes=attributes))
    return parts


def _words(words: Sequence[str]) -> np.ndarray:
    return np.array([word.encode() for word in words] or [b""])[: len(words)]


def _edges(tin: Tin) -> list[Floats]:
    """Return the edges on breaklines and on the rim, each as a line."""
    assert tin.constrained is not None
    across = tin.edges_across
    once = (tin.constrained & (across > np.arange(len(across), dtype=np.int32)[:, None])) | (across < 0)
    following = np.roll(tin.triangles, -1, axis=1)
    pairs = np.column_stack((tin.triangles[once], following[once]))
    return list(tin.vertices[pairs])


def rings_of(area: Any) -> list[tuple[str, Floats]]:
    """Return what a surface covers as one outer boundary, voids and islands; nothing where these cannot say it."""
    pieces = sorted(getattr(area, "geoms", [area]), key=lambda piece: -piece.area)
    hull = shapely.Polygon(pieces[0].exterior)
    islands = pieces[1:]
    if any(len(piece.interiors) or not hull.covers(piece) for piece in islands):
        return []
    rings = [(OUTER, pieces[0].exterior), *((VOID, ring) for ring in pieces[0].interiors)]
    rings += [(ISLAND, piece.exterior) for piece in islands]
    found = []
    for role, ring in rings:
        plan = np.asarray(shapely.get_coordinates(ring), np.float64)
        found.append((role, np.column_stack((plan, np.full(len(plan), np.nan)))))
    return found


def inside_rims(tin: Tin, inputs: Sequence[Dataset]) -> Tin:
    """Return a TIN without the triangles outside of the surface that it was built anew from, where that says no limits itself.

    The rim's edges are edges of both, so no triangle is parted.
    """
    if len(inputs) != 1 or not isinstance(inputs[0], Tin) or has_source(inputs[0]):
        return tin
    area = outline(inputs[0])
    middle = tin.corners()[:, :, :2].mean(axis=1)
    shapely.prepare(area)
    return left_of(tin, np.asarray(shapely.contains_xy(area, middle[:, 0], middle[:, 1])))
