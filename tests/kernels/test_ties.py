"""Places on one circle: a fan from the first, whatever the order of triangulation; radii in closed form."""

from __future__ import annotations

import math

import numpy as np
import pytest

from vastgrid.base.progress import Silent
from vastgrid.kernels.triangles.ties import circle_radii, settle_ties
from vastgrid.kernels.triangles.triangulate import triangulate

NO_EDGES = np.zeros((0, 2), np.int64)


def sides(made):
    """Return the undirected edges of a triangulation by their places."""
    found = set()
    for triangle in made.triangles.tolist():
        for a, b in zip(triangle, triangle[1:] + triangle[:1], strict=True):
            found.add(frozenset((tuple(made.xy[a]), tuple(made.xy[b]))))
    return found


def neighbours_are_whole(made):
    for t, own in enumerate(made.neighbours.tolist()):
        for k, u in enumerate(own):
            if u < 0:
                continue
            a, b = made.triangles[t, k], made.triangles[t, (k + 1) % 3]
            j = made.neighbours[u].tolist().index(t)
            assert (made.triangles[u, j], made.triangles[u, (j + 1) % 3]) == (b, a)


def test_a_lattice_is_parted_one_way_whatever_the_order():
    x, y = np.meshgrid(np.arange(12.0), np.arange(9.0))
    xy = np.column_stack((x.ravel() + 500_000, y.ravel() + 5_200_000))
    kept = None
    for seed in range(4):
        made = triangulate(xy[np.random.default_rng(seed).permutation(len(xy))], NO_EDGES, Silent())
        settle_ties(made.xy, made.triangles, made.neighbours, made.constrained)
        neighbours_are_whole(made)
        kept = kept or sides(made)
        assert sides(made) == kept
    # From the south-western corner of each cell to its north-eastern: the first is on every diagonal.
    assert frozenset(((500_000.0, 5_200_000.0), (500_001.0, 5_200_001.0))) in kept


def test_a_regular_polygon_becomes_a_fan():
    """(±5, 0), (±3, ±4) and so on: twelve whole places on the circle of radius 5 (Pythagorean triples)."""
    own = [(x, y) for x in range(-5, 6) for y in range(-5, 6) if x * x + y * y == 25]
    assert len(own) == 12
    xy = np.array(own, np.float64)
    made = triangulate(xy, NO_EDGES, Silent())
    settle_ties(made.xy, made.triangles, made.neighbours, made.constrained)
    first = min(own)
    assert all(first in [tuple(made.xy[k]) for k in triangle] for triangle in made.triangles)


def test_edges_that_stay_stay():
    xy = np.array([(0.0, 0.0), (1.0, 0.0), (1.0, 1.0), (0.0, 1.0)])
    made = triangulate(xy, np.array([(1, 3)]), Silent())
    assert settle_ties(made.xy, made.triangles, made.neighbours, made.constrained) == 0


def test_radii_of_circles():
    xy = np.array([(0.0, 0.0), (4.0, 0.0), (0.0, 3.0), (2.0, 0.0), (1.0, math.sqrt(3.0))])
    radii = circle_radii(xy, np.array([(0, 1, 2), (0, 3, 1), (0, 3, 4)], np.int32))
    # Thales: half the hypotenuse; on a line: none; equilateral: side over the root of three.
    assert radii == pytest.approx([2.5, math.inf, 2.0 / math.sqrt(3.0)])
