"""Closed bodies: a surface with a base, cut into tiles; cylinders and boxes."""

from __future__ import annotations

import itertools

import numpy as np
from numpy.typing import NDArray

from vastgrid.data.dataset import Floats
from vastgrid.kernels.cells.raster import lattice_triangles
from vastgrid.kernels.lines.chains import lattice_rim


def without_single_bridges(heights: Floats) -> tuple[Floats, int]:
    """Return heights of nodes without those at which two pieces touch in one point only, and how many went.

    Where pieces touch in a single node, a solid would have an edge with four sides: no body has.
    """
    out = heights.copy()
    gone = 0
    while True:
        rim = lattice_rim(out)
        number = np.bincount(rim.ravel(), minlength=out.size) if len(rim) else np.zeros(out.size, np.int64)
        bad = np.flatnonzero(number > 2)
        if len(bad) == 0:
            return out, gone
        out.reshape(-1)[bad] = np.nan
        gone += len(bad)


def solid_of(heights: Floats, step: float, floor: float) -> tuple[Floats, NDArray[np.int32]]:
    """Return a closed body: the surface through nodes on top, a level floor below, walls around; faces turn outwards.

    Parameters
    ----------
    heights : (rows, columns) float64
        Nodes, row 0 northernmost, NaN where there is nothing.
    step : float
        Distance of nodes.
    floor : float
        Height of the floor.

    Returns
    -------
    vertices : (n, 3) float64
        From (0, 0) at the south-western node.
    triangles : (m, 3) int32
    """
    rows, columns = heights.shape
    top = lattice_triangles(np.ascontiguousarray(heights))
    if len(top) == 0:
        return np.zeros((0, 3)), np.zeros((0, 3), np.int32)
    used, numbers = np.unique(top, return_inverse=True)
    top = numbers.reshape(-1, 3).astype(np.int32)
    row, column = np.divmod(used, columns)
    plan = np.column_stack((column * step, (rows - 1 - row) * step))
    upper = np.column_stack((plan, heights.ravel()[used]))
    lower = np.column_stack((plan, np.full(len(used), floor)))
    count = len(used)
    # An edge that only one triangle has is the rim; it runs with the ground on its left.
    following = np.roll(top, -1, axis=1)
    start, stop = top.ravel().astype(np.int64), following.ravel().astype(np.int64)
    key, back = start * count + stop, stop * count + start
    alone = ~np.isin(key, back)
    a, b = start[alone].astype(np.int32), stop[alone].astype(np.int32)
    walls = np.concatenate((np.column_stack((b, a, a + count)), np.column_stack((b, a + count, b + count))))
    faces = np.concatenate((top, top[:, ::-1] + count, walls)).astype(np.int32)
    return np.concatenate((upper, lower)), faces


def tiles_of(
    rows: int, columns: int, step: float, bed: tuple[float, float]
) -> tuple[list[tuple[int, int]], list[tuple[int, int]]]:
    """Return the ranges of rows and columns of nodes into which a solid is cut so that each piece fits a bed.

    Neighbouring pieces share the nodes along their cut. Both ways of laying the bed are tried; the fewer pieces count.
    """
    ways = []
    for wide, tall in (bed, bed[::-1]):
        across, up = max(int(np.floor(wide / step + 1e-9)), 1), max(int(np.floor(tall / step + 1e-9)), 1)
        ways.append((_ranges(rows, up), _ranges(columns, across)))
    return min(ways, key=lambda way: len(way[0]) * len(way[1]))


def _ranges(nodes: int, most: int) -> list[tuple[int, int]]:
    """Return ranges of nodes with at most so many steps each, about equal, each beginning where the last one ends."""
    number = max(int(np.ceil((nodes - 1) / most)), 1)
    edges = np.round(np.linspace(0, nodes - 1, number + 1)).astype(int).tolist()
    return [(first, last + 1) for first, last in itertools.pairwise(edges)]


def cylinder(sides: int) -> tuple[Floats, NDArray[np.int32]]:
    """Return a closed cylinder of diameter 1 from z 0 to 1, faces outwards; four sides make a box of width 1."""
    turn = 2.0 * np.pi * (np.arange(sides) + (0.5 if sides == 4 else 0.0)) / sides
    radius = np.sqrt(0.5) if sides == 4 else 0.5
    ring = radius * np.column_stack((np.cos(turn), np.sin(turn)))
    vertices = np.vstack((np.column_stack((ring, np.zeros(sides))), np.column_stack((ring, np.ones(sides)))))
    k = np.arange(sides)
    o = (k + 1) % sides
    walls = np.concatenate((np.column_stack((k, o, o + sides)), np.column_stack((k, o + sides, k + sides))))
    fan = np.arange(1, sides - 1)
    floor = np.column_stack((np.zeros(sides - 2, np.int64), fan + 1, fan))
    roof = np.column_stack((np.full(sides - 2, sides), fan + sides, fan + 1 + sides))
    return vertices, np.concatenate((walls, floor, roof)).astype(np.int32)


def standing(places: Floats, floor: Floats, top: Floats, size: float, sides: int) -> tuple[Floats, NDArray[np.int32]]:
    """Return bodies that stand at places, from a floor to a top.

    Parameters
    ----------
    places : (n, 2) float64
    floor, top : (n,) float64
    size : float
        Diameter, or width of a box.
    """
    body, faces = cylinder(sides)
    number, each = len(places), len(body)
    xy = places[:, None, :] + size * body[None, :, :2]
    z = floor[:, None] + body[None, :, 2] * (top - floor)[:, None]
    vertices = np.concatenate((xy, z[:, :, None]), axis=2).reshape(-1, 3)
    triangles = (faces[None] + (np.arange(number, dtype=np.int64) * each)[:, None, None]).reshape(-1, 3)
    return vertices, triangles.astype(np.int32)
