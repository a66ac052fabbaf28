"""Constrained Delaunay triangulation on plain arrays, with heights at the places where constraints cross."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pythoncdt as cdt
from numpy.typing import NDArray

from vastgrid.base.errors import DataError
from vastgrid.base.progress import Progress
from vastgrid.kernels.triangles.crossings import on_segments
from vastgrid.kernels.triangles.topology import compact, corners, edge_flags


@dataclass(frozen=True, slots=True)
class Triangulation:
    """What a triangulation gives.

    Attributes
    ----------
    xy : (n + c, 2) float64
        The input places, then the places where constraints cross.
    triangles, neighbours : (m, 3) int32
        Counter-clockwise; neighbour k lies across the edge from corner k to k + 1, -1 at the hull.
    constrained : (m, 3) bool
        Edges that lie on a constraint.
    crossings : list of (vertex, (edge, …))
        For each added vertex, the indices of the constraint edges that meet in it.
    """

    xy: NDArray[np.float64]
    triangles: NDArray[np.int32]
    neighbours: NDArray[np.int32]
    constrained: NDArray[np.bool_]
    crossings: list[tuple[int, tuple[int, ...]]]


def triangulate(xy: NDArray[np.float64], edges: NDArray[np.int64], progress: Progress) -> Triangulation:
    """Triangulate distinct places in plan, with edges that have to stay.

    Parameters
    ----------
    xy : (n, 2) float64
        Distinct, finite places.
    edges : (e, 2) int
        Constraint edges as indices of places.

    Raises
    ------
    DataError
        If the places do not span a plane, or the constraints cannot be resolved.
    """
    if len(xy) < 3:
        raise DataError(f"a TIN needs at least three places in plan; there are {len(xy)}")
    low, high = corners(xy)
    origin = np.floor(low)
    local = np.ascontiguousarray(xy - origin)
    extent = float((high - low).max())
    if _collinear(local, extent):
        raise DataError("all points lie on one straight line in plan, so no triangle can be made")
    pairs = np.ascontiguousarray(edges, np.uint32).reshape(-1, 2)
    # With a least distance of 0 crossings at lattice-like places fail; the smallest one that works is best.
    for share in (1e-12, 1e-10, 1e-8, 1e-6):
        engine = cdt.Triangulation(
            cdt.VertexInsertionOrder.AUTO, cdt.IntersectingConstraintEdges.TRY_RESOLVE, extent * share
        )
        try:
            engine.insert_vertices(local)
            progress.report(0.6, "triangulating")
            if len(pairs):
                engine.insert_edges(pairs)
            break
        except RuntimeError:
            continue
        except ValueError as error:
            raise DataError(
                "the points cannot be triangulated: two of them are at one place, or one is at none"
            ) from error
    else:
        raise DataError(
            "the lines cannot all become edges: some lie so close to each other, or cross at so small an angle, that "
            "there is no place between them; a wider “one place” (same_place) joins them"
        )
    progress.report(0.8, "triangulating")
    return _collect(engine, local, origin, pairs)


def _collinear(local: NDArray[np.float64], extent: float) -> bool:
    if extent == 0:
        return True
    low = local[np.lexsort((local[:, 1], local[:, 0]))[0]] if len(local) < 1000 else local[local[:, 0].argmin()]
    away = local - low
    far = away[(away**2).sum(axis=1).argmax()]
    across = np.abs(away[:, 0] * far[1] - away[:, 1] * far[0]) / np.hypot(*far)
    return bool(across.max() <= 1e-9 * extent)


def _collect(
    engine: cdt.Triangulation, local: NDArray[np.float64], origin: NDArray[np.float64], edges: NDArray[np.uint32]
) -> Triangulation:
    # The three outer helper vertices come first; triangles that use them are dropped here, which is far cheaper
    # than asking the engine to erase them.
    raw = engine.triangles_array(copy=False)
    triangles = raw["vertices"].astype(np.int32) - 3
    keep = (triangles >= 0).all(axis=1)
    across = raw["neighbors"].view(np.int32) if raw["neighbors"].dtype == np.uint32 else raw["neighbors"]
    places = engine.vertices_array(copy=False)[3:]
    total = len(places)
    pairs = np.zeros((0, 2), np.int64)
    crossings: list[tuple[int, tuple[int, ...]]] = []
    if len(edges):
        pairs = np.array([(edge.v1, edge.v2) for edge in engine.fixed_edges_iter()], np.int64).reshape(-1, 2) - 3
        if total > len(local):
            crossings = _crossings(engine, len(local), edges)
    flags = (
        edge_flags(np.where(keep[:, None], triangles, 0), pairs, total)
        if len(pairs)
        else np.zeros(triangles.shape, np.bool_)
    )
    out, neighbours, marks, used = compact(triangles, np.ascontiguousarray(across), flags, keep, total)
    if len(out) == 0:
        raise DataError("no triangle can be made from these points")
    xy = np.column_stack((places["x"], places["y"])) + origin
    xy[: len(local)] = local + origin
    if len(used) != total:
        # A place that no triangle uses keeps its number: callers index by place.
        out = used[out].astype(np.int32)
    return Triangulation(xy, out, neighbours, marks, crossings)


def _crossings(engine: cdt.Triangulation, given: int, edges: NDArray[np.uint32]) -> list[tuple[int, tuple[int, ...]]]:
    place = {(min(a, b), max(a, b)): k for k, (a, b) in enumerate(edges.tolist())}
    found: dict[int, set[int]] = {}
    for piece, originals in engine.piece_to_originals_iter():
        for vertex in (piece.v1 - 3, piece.v2 - 3):
            if vertex >= given:
                for edge in originals:
                    key = (min(edge.v1, edge.v2) - 3, max(edge.v1, edge.v2) - 3)
                    if key in place:
                        found.setdefault(vertex, set()).add(place[key])
    return [(vertex, tuple(sorted(group))) for vertex, group in sorted(found.items())]


def parted_at_places(xy: NDArray[np.float64], edges: NDArray[np.int64], tolerance: float) -> NDArray[np.int64]:
    """Return edges parted at every place that lies on them, each once."""
    pairs, shares = on_segments(xy, xy[edges[:, 0]], xy[edges[:, 1]], tolerance)
    return once(along_edges(edges, pairs, shares)[0])


def along_edges(
    edges: NDArray[np.int64], pairs: NDArray[np.int64], shares: NDArray[np.float64]
) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Return the pieces of edges that places lie on, and the edge that each is a piece of.

    Parameters
    ----------
    pairs, shares
        As `on_segments` gives them.
    """
    every = np.arange(len(edges))
    number = np.concatenate((every, every, pairs[:, 1]))
    share = np.concatenate((np.zeros(len(edges)), np.ones(len(edges)), shares))
    place = np.concatenate((edges[:, 0], edges[:, 1], pairs[:, 0]))
    by_edge = np.lexsort((share, number))
    number, place = number[by_edge], place[by_edge]
    together = number[1:] == number[:-1]
    return np.column_stack((place[:-1], place[1:]))[together], number[:-1][together]


def once(edges: NDArray[np.int64]) -> NDArray[np.int64]:
    """Return edges with their smaller number first, each once, without those that lead nowhere."""
    edges = np.sort(edges[edges[:, 0] != edges[:, 1]], axis=1)
    return np.unique(edges, axis=0) if len(edges) else edges
