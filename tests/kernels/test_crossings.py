"""Crossing segments against GEOS, by shapely."""

import numpy as np
import pytest
import shapely

from vastgrid.kernels.triangles.crossings import crossings


@pytest.mark.parametrize("seed", range(6))
@pytest.mark.parametrize("reach", [3.0, 60.0])
def test_pairs_are_those_of_geos(seed, reach):
    rng = np.random.default_rng(seed)
    a = rng.uniform(0, 100, (300, 2)) + (5e5, 4e6)
    b = a + rng.uniform(-reach, reach, (300, 2))
    pairs, shares = crossings(a, b)
    lines = shapely.linestrings(np.stack((a, b), axis=1))
    one, other = shapely.STRtree(lines).query(lines, predicate="intersects")
    expected = {(i, j) for i, j in zip(one.tolist(), other.tolist(), strict=True) if i < j}
    assert {tuple(pair) for pair in pairs.tolist()} == expected
    assert len(pairs) == len(expected), "each pair once"
    at = a[pairs[:, 0]] + shares[:, :1] * (b - a)[pairs[:, 0]]
    again = a[pairs[:, 1]] + shares[:, 1:] * (b - a)[pairs[:, 1]]
    np.testing.assert_allclose(at, again, atol=1e-6)


def test_neighbours_along_a_line_and_parallels_are_no_pairs():
    line = np.array([(0, 0), (10, 0), (20, 5), (30, 5)], float)
    assert len(crossings(line[:-1], line[1:])[0]) == 0
    a, b = np.array([(0, 0), (0, 1)], float), np.array([(10, 0), (10, 1)], float)
    assert len(crossings(a, b)[0]) == 0 == len(crossings(a[:1], b[:1])[0])
