"""The steps of building a TIN: places from points, edges from lines, heights where they meet."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.findings import Finding, count, note
from vastgrid.base.words import gap_words, place_words, spaced
from vastgrid.data.dataset import Flags, Floats
from vastgrid.data.frame import Frame
from vastgrid.data.linework import Linework, legs
from vastgrid.data.loss import Loss
from vastgrid.data.tin import Tin, areas
from vastgrid.kernels.triangles import topology
from vastgrid.kernels.triangles.triangulate import Triangulation
from vastgrid.measures.levels import line_levels
from vastgrid.terrain.tin.meeting import RULE, Meeting, Met, height_along, once_in_order, undecided


def building_loss(xyz: Floats, height: Floats, met: Met, tin: Tin, frame: Frame) -> Loss | None:
    """Return how far the ground lies from the points and lines it was built from: nothing, but where heights met."""
    if len(xyz) == 0:
        return None
    gap = np.concatenate((height - xyz[:, 2], met.gaps))
    place = np.concatenate((xyz[:, :2], np.array(met.at).reshape(-1, 2)))
    worst = int(np.abs(gap).argmax())
    return Loss(
        largest=float(abs(gap[worst])),
        rmse=float(np.sqrt(np.mean(gap**2))),
        mean=float(gap.mean()),
        p95=float(np.quantile(np.abs(gap), 0.95)),
        at=(float(place[worst, 0]), float(place[worst, 1])),
        area=float(areas(tin).sum()),
        share=1.0,
        unit=frame.vertical,
        plan_unit=frame.horizontal,
    )


def places_of(
    xyz: Floats, tolerance: float, rule: Meeting, findings: list[Finding], unit: str = ""
) -> tuple[Floats, NDArray[np.int32]]:
    """Return the places that points are at, (k, 3), in an order that keeps neighbours near, and the place of each point."""
    origin = np.floor(topology.corners(xyz[:, :2])[0])
    group, first = topology.group_places(xyz[:, 0] - origin[0], xyz[:, 1] - origin[1], tolerance)
    height, spread = topology.heights_of_places(group, np.ascontiguousarray(xyz[:, 2]), len(first), RULE[rule])
    if len(first) < len(xyz):
        findings.append(
            note(
                "same-place",
                f"{count(len(xyz) - len(first), 'point shares', 'points share')} a place with another, of {spaced(len(xyz))}.",
            )
        )
    # Heights a float's rounding apart are one height.
    differ = spread > 1e-9
    if differ.any():
        worst = int(spread.argmax())
        east, north = (float(value) for value in xyz[first[worst], :2])
        text = (
            f"Heights differ at {count(int(differ.sum()), 'place')}, at most by {gap_words(spread[worst])}{unit} "
            f"({place_words(east, north)}); the {rule.value} counts."
        )
        findings.append(undecided("two-heights", text, (east, north), rule, "heights"))
    places = np.column_stack((xyz[first, :2], height))
    order = topology.spatial_order(places[:, :2])
    number = np.zeros(len(order), np.int32)
    number[order] = np.arange(len(order), dtype=np.int32)
    return np.ascontiguousarray(places[order]), number[group]


def edges_of(
    group: NDArray[np.int32], points: int, lines: list[Linework]
) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Return the lines' edges as pairs of places, each once, and where in the inputs each comes first."""
    pairs, orders = [], []
    start = points
    for work in lines:
        own = group[start : start + len(work.vertices)].astype(np.int64)
        at = legs(work.offsets, len(own))
        pairs.append(np.column_stack((own[at], own[at + 1])))
        orders.append(start + at)
        start += len(work.vertices)
    edges = np.concatenate([np.zeros((0, 2), np.int64), *pairs])
    order = np.concatenate([np.zeros(0, np.int64), *orders])
    return once_in_order(edges, order)


def with_heights(
    places: Floats, edges: NDArray[np.int64], order: NDArray[np.int64], made: Triangulation, met: Met
) -> Floats:
    """Return the vertices of a triangulation, crossings with the height that the rule gives them."""
    z = np.concatenate((places[:, 2], np.zeros(len(made.xy) - len(places))))
    for vertex, group in made.crossings:
        xy = made.xy[vertex]
        values = [height_along(places, edges[k], xy) for k in group]
        if values:
            orders = [int(order[k]) for k in group]
            z[vertex] = met.choose("crossing", values, orders, (float(xy[0]), float(xy[1])))
    return np.column_stack((made.xy, z))


def compacted(vertices: Floats, made: Triangulation) -> Tin:
    """Return a triangulation as a TIN, without vertices that nothing uses."""
    triangles, neighbours, flags, used = topology.compact(
        made.triangles, made.neighbours, made.constrained, np.ones(len(made.triangles), np.bool_), len(vertices)
    )
    return Tin(vertices=vertices[used], triangles=triangles, neighbours=neighbours, constrained=flags)


def left_of(tin: Tin, keep: Flags) -> Tin:
    """Return the triangles of a TIN that are left; those taken out can be brought back by hand."""
    triangles, neighbours, flags, used = topology.compact(
        tin.triangles, tin.edges_across, tin.constrained, keep, len(tin.vertices)
    )
    number = np.full(len(tin.vertices), -1, np.int32)
    number[used] = np.arange(len(used), dtype=np.int32)
    gone = tin.triangles[~keep]
    only = np.setdiff1d(gone, used)
    number[only] = len(used) + np.arange(len(only), dtype=np.int32)
    assert tin.constrained is not None
    return Tin(
        vertices=tin.vertices[used],
        triangles=triangles,
        neighbours=neighbours,
        constrained=flags,
        spare_vertices=tin.vertices[only],
        spare=number[gone],
        spare_constrained=tin.constrained[~keep],
    )


def nearest_edges(
    lines: list[Linework],
    places: Floats,
    points: NDArray[np.int32],
    edges: NDArray[np.int64],
    order: NDArray[np.int64],
    findings: list[Finding],
) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Add edges along lines of which only the course counts: from the point nearest to each vertex to the next."""
    if not lines or len(points) == 0:
        return edges, order
    from scipy.spatial import cKDTree

    own = np.unique(points).astype(np.int64)
    tree = cKDTree(places[own, :2])
    pairs = []
    far = 0.0
    for work in lines:
        away, found = tree.query(work.vertices[:, :2])
        far = max(far, float(away.max()))
        at = legs(work.offsets, len(work.vertices))
        pairs.append(np.column_stack((own[found[at]], own[found[at + 1]])))
    new = np.concatenate(pairs)
    text = f"{count(sum(len(work) for work in lines), 'line')} lead over the nearest points, at most {gap_words(far)} away."
    findings.append(note("nearest-points", text))
    last = int(order.max(initial=0)) + 1
    return once_in_order(np.concatenate((edges, new)), np.concatenate((order, last + np.arange(len(new)))))


def on_contours(edged: list[Linework], points: Floats, group: NDArray[np.int32], number: int) -> Flags:
    """Return which places are on contours and nothing but contours."""
    out = np.zeros(number, np.bool_)
    start = len(points)
    for work in edged:
        own = group[start : start + len(work.vertices)]
        start += len(work.vertices)
        levels = line_levels(work)
        level = np.repeat(np.isfinite(levels), np.diff(work.offsets))
        out[own[level]] = True
    out[group[: len(points)]] = False
    return out
