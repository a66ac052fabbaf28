"""Areas in a drawing: hatches, with their islands and arcs."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from vastgrid.base.progress import Progress
from vastgrid.data.areas import Areas
from vastgrid.data.dataset import Floats
from vastgrid.formats.dxf._geometry import with_bulges
from vastgrid.formats.dxf._pen import Pen

# Flags of a hatch's boundary path by the DXF reference, group 92: outer, polyline, outermost.
_OUTER, _POLYLINE, _OUTERMOST = 1, 2, 16


def rings_of_hatch(entity: Any, chord: float) -> list[Floats]:
    """Return the closed boundary paths of a hatch, each (n, 3) with its first place repeated.

    A hatch lies in a plane; where that is at 0, as hatches are drawn that have no height, its places have none.
    """
    from ezdxf.math import Vec3

    level = float(entity.dxf.elevation.z) if entity.dxf.hasattr("elevation") else 0.0
    rings: list[Floats] = []
    for path in entity.paths:
        plan = _polyline(path, chord) if hasattr(path, "vertices") else _edges(path, chord)
        if len(plan) < 3 or not np.isfinite(plan).all():
            continue
        ring = plan if (plan[0] == plan[-1]).all() else np.concatenate((plan, plan[:1]))
        flat = np.column_stack((ring, np.full(len(ring), level)))
        world = np.array([tuple(each) for each in entity.ocs().points_to_wcs(Vec3.generate(flat))], np.float64)
        if len(world) > 3:
            # The last place is the first one, to the last digit.
            world[-1] = world[0]
            world[:, 2] = np.nan if not world[:, 2].any() else world[:, 2]
            rings.append(world)
    return rings


def _polyline(path: Any, chord: float) -> Floats:
    rows = np.array([tuple(each) for each in path.vertices], np.float64).reshape(-1, 3)
    xyz = np.column_stack((rows[:, :2], np.zeros(len(rows))))
    return np.asarray(with_bulges(xyz, rows[:, 2], True, chord)[:, :2], np.float64)


def _edges(path: Any, chord: float) -> Floats:
    """Return a path of edges, each turned so that it goes on where the one before ended."""
    pieces = [piece for piece in (_edge(edge, chord) for edge in path.edges) if len(piece) > 1]
    if not pieces:
        return np.zeros((0, 2))
    if len(pieces) > 1 and _far(pieces[0][-1], pieces[1]) > _far(pieces[0][0], pieces[1]):
        pieces[0] = pieces[0][::-1]
    for k in range(1, len(pieces)):
        last, own = pieces[k - 1][-1], pieces[k]
        if math.dist(last, own[-1]) < math.dist(last, own[0]):
            pieces[k] = own[::-1]
    joined = np.concatenate([pieces[0], *(piece[1:] for piece in pieces[1:])])
    # Where an edge ends and the next begins rounding may part them.
    if math.dist(joined[0], joined[-1]) <= 1e-9 * max(1.0, float(np.abs(joined).max())):
        joined[-1] = joined[0]
    return joined


def _far(place: Floats, piece: Floats) -> float:
    return min(math.dist(place, piece[0]), math.dist(place, piece[-1]))


def _edge(edge: Any, chord: float) -> Floats:
    kind = type(edge).__name__
    if kind == "LineEdge":
        return np.array([tuple(edge.start)[:2], tuple(edge.end)[:2]], np.float64)
    if kind == "ArcEdge":
        return _arc(edge, chord)
    tool = edge.construction_tool()
    places = tool.flattening(chord, 8) if kind == "SplineEdge" else tool.flattening(chord)
    found = np.array([tuple(each)[:2] for each in places], np.float64).reshape(-1, 2)
    return found if kind == "SplineEdge" or edge.ccw else found[::-1]


def _arc(edge: Any, chord: float) -> Floats:
    first, last = math.radians(edge.start_angle), math.radians(edge.end_angle)
    turn = (last - first) % (2.0 * math.pi) or 2.0 * math.pi
    step = 4.0 * math.asin(math.sqrt(min(chord / max(edge.radius, 1e-300) / 2.0, 0.75)))
    pieces = min(max(math.ceil(turn / step), 2), 1000)
    angle = first + turn * np.arange(pieces + 1) / pieces
    found = np.column_stack(
        (edge.center[0] + edge.radius * np.cos(angle), edge.center[1] + edge.radius * np.sin(angle))
    )
    return np.asarray(found if edge.ccw else found[::-1], np.float64)


def level_of(areas: Areas) -> Floats:
    """Return the height in which each area can be hatched, (k,): that of its vertices where they have one, else 0."""
    z = areas.vertices[:, 2]
    owner = np.repeat(areas.area_of_ring(), np.diff(areas.offsets))
    low, high = np.full(len(areas), np.inf), np.full(len(areas), -np.inf)
    np.fmin.at(low, owner, z)
    np.fmax.at(high, owner, z)
    return np.where(low == high, low, 0.0)


def write_hatches(pen: Pen, areas: Areas, layers: list[str], progress: Progress) -> None:
    """Write each area as a solid hatch: of each part its rim, then its holes (DXF reference, HATCH).

    Parameters
    ----------
    layers : list of str
        Names of the areas' layers in the drawing.
    """
    digits = pen.decimals
    plan = pen.moved(areas.vertices[:, :2])
    level = level_of(areas) - pen.shift[2]
    rims = ~areas.holes()
    for k in range(len(areas)):
        head, slots = pen.head("HATCH", layers[areas.layer[k]], "AcDbHatch")
        first, last = (int(areas.parts[areas.members[k + step]]) for step in (0, 1))
        text = [head.format(pen.one()) if slots else head]
        text.append(
            f"10\n0.0\n20\n0.0\n30\n{level[k]:.{digits}f}\n210\n0.0\n220\n0.0\n230\n1.0\n2\nSOLID\n70\n1\n71\n0\n"
        )
        text.append(f"91\n{last - first}\n")
        for ring in range(first, last):
            places = plan[areas.offsets[ring] : areas.offsets[ring + 1] - 1].tolist()
            flag = _POLYLINE + (_OUTER if rims[ring] else _OUTERMOST)
            text.append(f"92\n{flag}\n72\n0\n73\n1\n93\n{len(places)}\n")
            text.append("".join(f"10\n{x:.{digits}f}\n20\n{y:.{digits}f}\n" for x, y in places))
            text.append("97\n0\n")
        text.append("75\n0\n76\n1\n98\n0\n")
        pen.file.write(pen.text("".join(text)))
        if k % 1000 == 0:
            progress.report(k / len(areas), "writing hatches")
