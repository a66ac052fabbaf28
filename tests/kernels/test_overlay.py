"""Two sets of triangles laid over each other, held against GEOS: pieces, prisms, areas that count, places on edges."""

import numpy as np
import pytest
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.spatial import Delaunay

from vastgrid.kernels.triangles.locate import buckets
from vastgrid.kernels.triangles.overlay import level_with, packed, pieces, prisms

NONE = np.zeros((0, 2)), np.zeros((0, 3), np.int32), np.zeros(0, np.int64)


def mesh(xy, z):
    triangles = Delaunay(xy).simplices.astype(np.int32)
    a, b, c = (xy[triangles[:, k]] for k in range(3))
    turned = (b[:, 0] - a[:, 0]) * (c[:, 1] - a[:, 1]) - (b[:, 1] - a[:, 1]) * (c[:, 0] - a[:, 0])
    triangles[turned < 0] = triangles[turned < 0][:, ::-1]
    return np.column_stack((xy, z)), triangles[turned != 0]


def scattered(seed, count=40):
    rng = np.random.default_rng(seed)
    corners = [[0, 0], [10, 0], [10, 10], [0, 10]]
    xy = np.concatenate((rng.random((count, 2)) * 10.0, corners))
    return mesh(xy, rng.normal(0.0, 1.0, len(xy)))


def lattice(steps, shift=0.0):
    at = np.linspace(0.0, 10.0, steps + 1)
    x, y = (each.ravel() for each in np.meshgrid(at, at))
    return mesh(np.column_stack((x, y)), np.sin(x + shift) + 0.1 * y)


def polygons(own):
    return shapely.polygons(own[0][own[1]][:, :, :2])


def laid(one, other):
    index = packed(buckets(*other))
    return pieces(*one, *other, index, 0, len(one[1]))


def added(one, other, region=NONE, parts=1, limits=(), tolerance=0.0):
    index = packed(buckets(*other))
    own = index
    if len(region[1]):
        own = packed(buckets(np.column_stack((region[0], np.zeros(len(region[0])))), region[1]))
    return prisms(*one, *other, index, *region, own, parts, np.array(limits, float), tolerance, 0, len(one[1]))


@settings(max_examples=30, deadline=None)
@given(first=st.integers(0, 10**6), second=st.integers(0, 10**6))
def test_pieces_cover_what_geos_says_is_common(first, second):
    one, other = scattered(first), scattered(second)
    plan, heights = laid(one, other)
    faces = shapely.polygons(plan)
    assert shapely.is_valid(faces).all() and (shapely.area(faces) > 0.0).all()
    left, right = shapely.STRtree(polygons(other)).query(polygons(one), predicate="intersects")
    common = shapely.area(shapely.intersection(polygons(one)[left], polygons(other)[right]))
    assert shapely.area(faces).sum() == pytest.approx(common.sum(), rel=1e-9)
    # No two of them overlap: together they cover as much as one by one.
    assert shapely.area(shapely.union_all(faces, grid_size=1e-9)) == pytest.approx(shapely.area(faces).sum(), rel=1e-6)
    volume = (shapely.area(faces) * (heights[..., 1] - heights[..., 0]).mean(axis=1)).sum()
    sums, _ = added(one, other)
    common, _, _, cut, fill = sums[0]
    assert fill - cut == pytest.approx(volume, rel=1e-9, abs=1e-9)
    assert common == pytest.approx(shapely.area(faces).sum(), rel=1e-12)


@pytest.mark.parametrize(("one", "other"), [(4, 4), (4, 8), (5, 10), (3, 7)])
def test_edges_and_vertices_that_lie_on_each_other_are_counted_once(one, other):
    plan, _ = laid(lattice(one), lattice(other, 0.3))
    assert shapely.area(shapely.polygons(plan)).sum() == pytest.approx(100.0, rel=1e-12)
    sums, _ = added(lattice(one), lattice(other, 0.3))
    assert sums[0, 0] == pytest.approx(100.0, rel=1e-12)


@settings(max_examples=20, deadline=None)
@given(seed=st.integers(0, 10**6), west=st.floats(0.5, 4.0), width=st.floats(0.5, 5.0))
def test_only_what_lies_in_an_area_counts(seed, west, width):
    one, other = scattered(seed), scattered(seed + 1)
    box = shapely.box(west, 2.0, west + width, 7.0)
    region = np.array([[west, 2], [west + width, 2], [west + width, 7], [west, 7]], float)
    triangles = np.array([[0, 1, 2], [0, 2, 3]], np.int32)
    sums, _ = added(one, other, (region, triangles, np.array([0, 1])), parts=2)
    plan, heights = laid(one, other)
    faces = shapely.polygons(plan)
    inside = shapely.intersection(faces, box)
    assert sums[:, 0].sum() == pytest.approx(shapely.area(inside).sum(), rel=1e-9)
    # Over each piece the difference is a plane: its height over the middle of what is inside, times that area.
    middle = shapely.get_coordinates(shapely.centroid(inside[shapely.area(inside) > 0.0]))
    own = plan[shapely.area(inside) > 0.0]
    gap = (heights[..., 1] - heights[..., 0])[shapely.area(inside) > 0.0]
    matrix = np.concatenate((own, np.ones((*own.shape[:2], 1))), axis=2)
    planes = np.linalg.solve(matrix, gap[..., None])[..., 0]
    at = np.einsum("ij,ij->i", np.column_stack((middle, np.ones(len(middle)))), planes)
    volume = (at * shapely.area(inside)[shapely.area(inside) > 0.0]).sum()
    assert (sums[:, 4] - sums[:, 3]).sum() == pytest.approx(volume, rel=1e-6, abs=1e-6)


@settings(max_examples=20, deadline=None)
@given(seed=st.integers(0, 10**6))
def test_classes_add_up_to_the_whole(seed):
    one, other = scattered(seed), scattered(seed + 1)
    sums, classes = added(one, other, limits=(-1.0, -0.25, 0.0, 0.6))
    assert classes[0, :, 0].sum() == pytest.approx(sums[0, 0], rel=1e-9)
    assert classes[0, :3, 1].sum() == pytest.approx(-sums[0, 3], rel=1e-9, abs=1e-9)
    assert classes[0, 3:, 1].sum() == pytest.approx(sums[0, 4], rel=1e-9, abs=1e-9)
    # Within a class the mean depth lies between its ends.
    for k, (low, high) in enumerate(((-1.0, -0.25), (-0.25, 0.0), (0.0, 0.6)), 1):
        area, volume = classes[0, k]
        if area > 1e-9:
            assert low - 1e-9 <= volume / area <= high + 1e-9


def test_stretches_of_triangles_add_up_to_the_whole():
    one, other = scattered(3, 200), scattered(4, 200)
    index = packed(buckets(*other))
    whole, _ = added(one, other)
    cuts = [0, 50, 51, 170, len(one[1])]
    parts = [
        prisms(*one, *other, index, *NONE, index, 1, np.zeros(0), 0.0, a, b)[0]
        for a, b in zip(cuts[:-1], cuts[1:], strict=True)
    ]
    np.testing.assert_allclose(sum(parts), whole, rtol=1e-12)


def test_differences_below_the_tolerance_are_none():
    one = lattice(6)
    lifted = one[0] + (0.0, 0.0, 1e-9), one[1]
    assert added(one, lifted, tolerance=1e-8)[0][0, 1:].tolist() == [0.0] * 4
    assert added(one, lifted, tolerance=1e-10)[0][0, 2] == pytest.approx(100.0)


def test_where_both_are_equally_high_lies_on_both():
    one, other = scattered(11, 120), scattered(12, 120)
    low, high = np.zeros(2), np.full(2, 10.0)
    lines = level_with(*one, *other, buckets(*other), low, high)
    assert len(lines) > 10
    from vastgrid.kernels.triangles.locate import heights_at

    places = np.ascontiguousarray(lines.reshape(-1, 2))
    inner = ((places > 1e-6) & (places < 10.0 - 1e-6)).all(axis=1)
    gap = heights_at(places[inner], *other, buckets(*other)) - heights_at(places[inner], *one, buckets(*one))
    np.testing.assert_allclose(gap, 0.0, atol=1e-9)
    # Cut and fill part along it: no piece of the line is left out.
    plan, heights = laid(one, other)
    change = heights[..., 1] - heights[..., 0]
    mixed = (change.min(axis=1) < -1e-9) & (change.max(axis=1) > 1e-9)
    length = np.hypot(*(lines[:, 1] - lines[:, 0]).T).sum()
    joined = shapely.union_all(shapely.linestrings(lines)).buffer(1e-6)
    assert length > 0.0 and shapely.intersects(joined, shapely.polygons(plan[mixed])).all()
