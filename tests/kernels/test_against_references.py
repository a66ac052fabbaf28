"""Kernels against what others compute: SciPy, shapely, fractions, the standard library, and closed forms."""

import heapq
from fractions import Fraction

import numpy as np
import pytest
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import ndimage, stats
from scipy.interpolate import LinearNDInterpolator
from scipy.spatial import Delaunay, cKDTree

from builders import ground, scattered
from vastgrid.kernels.cells import cellstats, thinning
from vastgrid.kernels.cells.raster import bilinear, gap_sizes, largest_gap, lattice_triangles
from vastgrid.kernels.drawing.shade import hillshade, slope_aspect
from vastgrid.kernels.lines.chains import lattice_rim
from vastgrid.kernels.lines.joining import joined_lines
from vastgrid.kernels.lines.nearest import on_lines, on_places
from vastgrid.kernels.lines.profiles import needed
from vastgrid.kernels.text.tags import scan_tags
from vastgrid.kernels.triangles import heap as heaps
from vastgrid.kernels.triangles.locate import buckets, heights_at, triangles_at
from vastgrid.kernels.triangles.predicates import in_circle, turn
from vastgrid.kernels.triangles.rims import worn_rim
from vastgrid.kernels.triangles.topology import neighbours_of
from vastgrid.kernels.triangles.vertexwise import around, groups

RNG = np.random.default_rng(20)
NONE = np.zeros(0, np.bool_)


# -- predicates


@given(
    st.tuples(*[st.integers(-(2**20), 2**20)] * 6), st.floats(1e5, 1e7), st.integers(-3, 3)
)  # fmt: skip
@settings(max_examples=300, deadline=None)
def test_the_side_of_a_line_is_exact(numbers, away, nudge):
    """Against rational arithmetic (fractions), for places far from the origin and almost on the line."""
    ax, ay, bx, by, *_ = (away + number / 2**10 for number in numbers)
    cx, cy = ax + (bx - ax) * 0.5, ay + (by - ay) * 0.5
    cy = float(np.nextafter(cy, np.inf * (nudge or 1))) if nudge else cy
    a, b, c = ((Fraction(x), Fraction(y)) for x, y in ((ax, ay), (bx, by), (cx, cy)))
    true = (a[0] - c[0]) * (b[1] - c[1]) - (a[1] - c[1]) * (b[0] - c[0])
    found = turn(ax, ay, bx, by, cx, cy)
    assert (found > 0) == (true > 0) and (found < 0) == (true < 0)


def test_a_circle_holds_what_lies_in_it():
    """The unit circle through three places: its middle lies inside, the fourth corner of the square on it, the rest outside."""
    square = (1.0, 0.0, 0.0, 1.0, -1.0, 0.0)
    assert in_circle(*square, 0.0, 0.0) and in_circle(*square, 0.0, -0.999)
    assert not in_circle(*square, 0.0, -1.0), "on it is not in it"
    assert not in_circle(*square, 2.0, 0.0)


# -- heap


@given(st.lists(st.tuples(st.integers(0, 29), st.floats(0, 10)), min_size=1, max_size=120))
@settings(max_examples=100, deadline=None)
def test_the_heap_gives_the_largest_first(changes):
    """Against the standard library's heap, with the same changes; errors up to 1 are enough and leave it."""
    n = 30
    heap, place, rank, key = np.zeros(n, np.int64), np.full(n, -1, np.int64), np.zeros(n), np.zeros(n)
    heaped, true = np.zeros(1, np.int64), {}
    for t, error in changes:
        heaps.put(heap, place, rank, key, heaped, t, error, 1.0)
        if error > 1.0:
            true[t] = error
        else:
            true.pop(t, None)
        assert heaped[0] == len(true)
        if true:
            assert rank[0] == -min(-value for value in true.values())
    order = []
    while heaped[0]:
        t = heap[0]
        order.append(key[t])
        heaps.put(heap, place, rank, key, heaped, t, 0.0, 1.0)
    other = [-value for value in true.values()]
    heapq.heapify(other)
    assert order == [-heapq.heappop(other) for _ in range(len(other))]


# -- cells


@pytest.mark.parametrize(("what", "name"), [(0, "min"), (1, "max"), (2, "mean"), (4, "count")])
def test_cells_gather_as_scipy_does(what, name):
    """scipy.stats.binned_statistic_2d over the same lattice."""
    xyz = np.column_stack((RNG.uniform(0, 40, 3000), RNG.uniform(0, 30, 3000), RNG.normal(200, 5, 3000)))
    rows, columns = 15, 10
    number, value = np.zeros((rows, columns), np.int64), np.full((rows, columns), np.nan)
    cellstats.gather(xyz, NONE, 0.0, 30.0, 4.0, 2.0, 0, 0, rows, columns, number, value, what)
    true = stats.binned_statistic_2d(
        xyz[:, 0], 30.0 - xyz[:, 1], xyz[:, 2], name, [columns, rows], [[0, 40], [0, 30]]
    ).statistic.T
    if name == "count":
        assert np.array_equal(number, true)
    else:
        np.testing.assert_allclose(value, true, atol=1e-9)


def test_cells_gathered_in_parts_are_the_whole():
    xyz = np.column_stack((RNG.uniform(0, 40, 500), RNG.uniform(0, 30, 500), RNG.normal(0, 5, 500)))
    for what in (0, 1, 2, 4):
        whole, parts = [], []
        for piece in (xyz, xyz[:200], xyz[200:]):
            number, value = np.zeros((6, 8), np.int64), np.full((6, 8), np.nan)
            cellstats.gather(piece, NONE, 0.0, 30.0, 5.0, 5.0, 0, 0, 6, 8, number, value, what)
            (whole if piece is xyz else parts).append((number, value))
        (number, value), (more, other) = parts
        cellstats.joined(number, value, more, other, what)
        assert np.array_equal(number, whole[0][0])
        np.testing.assert_allclose(value, whole[0][1], atol=1e-12)


def test_a_median_is_numpys():
    heights = RNG.normal(size=101)
    starts = np.array([0, 1, 1, 4, 50, 101])
    out = np.full(5, np.nan)
    cellstats.medians(heights, starts, out)
    for k in range(5):
        piece = heights[starts[k] : starts[k + 1]]
        assert np.isnan(out[k]) if not len(piece) else out[k] == np.median(piece)


def test_heights_by_distance_are_shepards():
    """Shepard (1968): weights 1/d²; written out with a k-d tree."""
    places, heights = RNG.uniform(0, 10, (60, 2)), RNG.normal(100, 3, 60)
    wanted = np.vstack((RNG.uniform(0, 10, (20, 2)), places[:3]))
    far, nearest = cKDTree(places).query(wanted, 6)
    found = cellstats.weighted(heights, nearest, far)
    exact = far[:, 0] == 0.0
    weights = 1.0 / np.where(exact[:, None], 1.0, far) ** 2
    true = np.where(exact, heights[nearest[:, 0]], (weights * heights[nearest]).sum(1) / weights.sum(1))
    np.testing.assert_allclose(found, true, atol=1e-9)


def test_thinning_takes_one_of_each_cell():
    """Against a dictionary of cells, for points on both sides of zero."""
    xyz = np.column_stack((RNG.uniform(-20, 20, (800, 2)), RNG.normal(0, 3, 800)))
    cell, number = thinning.cells_of(xyz, 2.5)
    keys = [tuple(key) for key in np.floor(xyz[:, :2] / 2.5).astype(int)]
    assert number == len(set(keys))
    members = {}
    for k, key in enumerate(keys):
        members.setdefault(key, []).append(k)
    lowest = thinning.chosen_of_cells(xyz, cell, number, 2.5, thinning.LOWEST)
    highest = thinning.chosen_of_cells(xyz, cell, number, 2.5, thinning.HIGHEST)
    central = thinning.chosen_of_cells(xyz, cell, number, 2.5, thinning.CENTRAL)
    means = thinning.means_of_cells(xyz, cell, number)
    for key, own in members.items():
        c = cell[own[0]]
        assert lowest[c] == min(own, key=lambda k: xyz[k, 2]) and highest[c] == max(own, key=lambda k: xyz[k, 2])
        middle = (np.array(key) + 0.5) * 2.5
        assert central[c] == min(own, key=lambda k: float(((xyz[k, :2] - middle) ** 2).sum()))
        np.testing.assert_allclose(means[c], xyz[own].mean(axis=0), atol=1e-12)


# -- rasters


def test_bilinear_is_scipys():
    """scipy.ndimage.map_coordinates of order 1 inside; nothing outside, and nothing beside a gap."""
    heights = RNG.normal(size=(20, 30))
    rows, columns = RNG.uniform(0, 19, 300), RNG.uniform(0, 29, 300)
    np.testing.assert_allclose(
        bilinear(heights, columns, rows), ndimage.map_coordinates(heights, [rows, columns], order=1), atol=1e-12
    )
    assert np.isnan(bilinear(heights, np.array([-0.5, 29.5]), np.array([3.0, 3.0]))).all()
    heights[5, 5] = np.nan
    assert np.isnan(bilinear(heights, np.array([5.4]), np.array([5.4])))[0]
    assert bilinear(heights, np.array([6.0]), np.array([5.0]))[0] == heights[5, 6], (
        "on a centre the gap beside it is not asked"
    )


def test_gaps_are_numpys():
    made, heights = RNG.normal(size=500), RNG.normal(size=500)
    made[::7], heights[::11] = np.nan, np.nan
    size, total, squares, worst = gap_sizes(made, heights)
    true = (made - heights)[np.isfinite(made - heights)]
    np.testing.assert_allclose(np.sort(size), np.sort(np.abs(true)))
    assert total == pytest.approx(true.sum()) and squares == pytest.approx((true**2).sum())
    assert worst == np.nanargmax(np.abs(made - heights))
    gap, row, column = largest_gap(made.reshape(20, 25), heights.reshape(20, 25))
    assert gap == np.nanmax(np.abs(made - heights)) and (row, column) == divmod(int(worst), 25)


def test_triangles_of_a_lattice_cover_it_and_leave_gaps_open():
    heights = RNG.normal(size=(6, 8))
    triangles = lattice_triangles(heights)
    assert len(triangles) == 2 * 5 * 7
    heights[2, 3] = np.nan
    triangles = lattice_triangles(heights)
    assert 2 * 8 + 3 not in triangles
    assert len(triangles) == 2 * 5 * 7 - 4, "three centres still give one triangle"
    rim = lattice_rim(heights)
    edges = np.sort(np.vstack([triangles[:, [0, 1]], triangles[:, [1, 2]], triangles[:, [2, 0]]]), axis=1)
    pairs, times = np.unique(edges, axis=0, return_counts=True)
    assert {tuple(pair) for pair in np.sort(rim, axis=1)} == {tuple(pair) for pair in pairs[times == 1]}


def test_slope_and_light_of_a_plane():
    """Horn (1981) on a plane, closed form: slope arctan √(p² + q²), light the cosine of the angle to the sun."""
    rows, columns = np.mgrid[0:7, 0:9]
    east, north = 0.3, -0.2
    heights = 100.0 + east * columns * 2.0 - north * rows * 3.0
    degrees, bearing = slope_aspect(heights, 2.0, 3.0)
    np.testing.assert_allclose(degrees, np.degrees(np.arctan(np.hypot(east, north))), atol=1e-9)
    np.testing.assert_allclose(bearing, np.degrees(np.arctan2(-east, -north)) % 360.0, atol=1e-9)
    azimuth, altitude = np.radians(315.0), np.radians(45.0)
    sun = np.array([np.sin(azimuth) * np.cos(altitude), np.cos(azimuth) * np.cos(altitude), np.sin(altitude)])
    normal = np.array([-east, -north, 1.0]) / np.sqrt(1.0 + east**2 + north**2)
    np.testing.assert_allclose(hillshade(heights, 2.0, 3.0, 315.0, 45.0), max(normal @ sun, 0.0), atol=1e-6)


# -- lines


def test_the_nearest_place_is_the_trees():
    places = np.column_stack((RNG.uniform(0, 100, (400, 2)), np.zeros(400)))
    tree = cKDTree(places[:, :2])
    for east, north in RNG.uniform(0, 100, (50, 2)):
        far, k = tree.query((east, north))
        found, away = on_places(places, east, north, 30.0)
        assert found == k and away == pytest.approx(far, abs=1e-12)
    assert on_places(places, 500.0, 500.0, 10.0) == (-1, np.inf)


def test_the_nearest_segment_is_shapelys():
    lines = [RNG.uniform(0, 50, (k, 2)) for k in (3, 6, 2)]
    xyz = np.column_stack((np.vstack(lines), np.zeros(11)))
    offsets = np.array([0, 3, 9, 11])
    whole = shapely.MultiLineString(lines)
    for east, north in RNG.uniform(0, 50, (60, 2)):
        first, share, away = on_lines(xyz, offsets, east, north, 100.0)
        assert away == pytest.approx(shapely.distance(whole, shapely.Point(east, north)), abs=1e-9)
        place = xyz[first, :2] + share * (xyz[first + 1, :2] - xyz[first, :2])
        assert np.hypot(*(place - (east, north))) == pytest.approx(away, abs=1e-9)
    assert on_lines(xyz, offsets, 900.0, 900.0, 5.0)[0] == -1


def test_lines_join_where_one_ends_on_a_seam():
    one, other, loose = (
        np.array([(0.0, 0.0), (10.0, 5.0)]),
        np.array([(10.0, 5.0), (20.0, 0.0)]),
        np.array([(10.0, 5.0), (11.0, 9.0)]),
    )
    plan, offsets = np.vstack((other, one, loose)), np.array([0, 2, 4, 6])
    made, starts, level = joined_lines(plan, offsets, np.array([7, 7, 8]), (np.array([10.0]), np.zeros(0)))
    lines = [made[starts[k] : starts[k + 1]].tolist() for k in range(len(level))]
    assert [(0.0, 0.0), (10.0, 5.0), (20.0, 0.0)] in [[tuple(p) for p in line] for line in lines]
    assert sorted(level.tolist()) == [7, 8]
    apart, _, level = joined_lines(plan, offsets, np.array([7, 7, 8]), (np.array([99.0]), np.zeros(0)))
    assert len(level) == 3 and len(apart) == 6, "ends elsewhere are true ends"


def test_halves_of_a_ring_become_a_ring():
    plan = np.array([(5.0, 0.0), (0.0, 3.0), (5.0, 6.0), (5.0, 6.0), (9.0, 3.0), (5.0, 0.0)])
    made, starts, level = joined_lines(plan, np.array([0, 3, 6]), np.array([1, 1]), (np.array([5.0]), np.zeros(0)))
    assert len(level) == 1 and (made[0] == made[-1]).all() and len(made) == 5 and starts.tolist() == [0, 5]


@given(st.lists(st.floats(-50, 50), min_size=2, max_size=60), st.floats(0.01, 5))
@settings(max_examples=150, deadline=None)
def test_a_thinned_profile_keeps_its_tolerance(heights, tolerance):
    z = np.array(heights)
    keep = needed(z, np.zeros(len(z), np.bool_), tolerance)
    assert keep[0] and keep[-1]
    at = np.flatnonzero(keep)
    assert np.abs(np.interp(np.arange(len(z)), at, z[at]) - z).max() <= tolerance + 1e-9


def test_a_profile_with_gaps_keeps_the_ends_of_each_part():
    z = np.array([1.0, 1.0, 1.0, np.nan, 5.0, np.nan, np.nan, 2.0, 3.0, 4.0])
    keep = needed(z, np.eye(10, dtype=bool)[8], 0.5)
    assert np.flatnonzero(keep).tolist() == [0, 2, 4, 7, 8, 9]


# -- triangles


def test_heights_on_a_surface_are_scipys():
    """scipy's piecewise linear interpolation over the same triangles."""
    points = scattered(500).xyz
    triangles = Delaunay(points[:, :2] - points[0, :2])
    faces = triangles.simplices.astype(np.int32)
    a, b, c = (points[faces[:, k], :2] for k in range(3))
    one, other = b - a, c - a
    flipped = one[:, 0] * other[:, 1] < one[:, 1] * other[:, 0]
    faces[flipped] = faces[flipped][:, ::-1]
    found = buckets(points, faces)
    places = RNG.uniform(points[:, :2].min(0) - 5, points[:, :2].max(0) + 5, (2000, 2))
    heights = heights_at(places, points, faces, found)
    true = LinearNDInterpolator(triangles, points[:, 2])(places - points[0, :2])
    assert np.array_equal(np.isnan(heights), np.isnan(true))
    np.testing.assert_allclose(heights, true, atol=1e-7)
    which = triangles_at(places, points, faces, found)
    assert np.array_equal(which >= 0, np.isfinite(heights))


def test_what_lies_around_a_vertex_is_that_of_its_edges():
    tin = ground(300)
    found = around(tin.vertices, tin.triangles)
    edges = {tuple(sorted((a, b))) for t in tin.triangles.tolist() for a, b in zip(t, t[1:] + t[:1], strict=True)}
    beside = {}
    for a, b in edges:
        beside.setdefault(a, []).append(b)
        beside.setdefault(b, []).append(a)
    for vertex, others in beside.items():
        z = tin.vertices[others, 2]
        lengths = np.sort(np.hypot(*(tin.vertices[others, :2] - tin.vertices[vertex, :2]).T))
        np.testing.assert_allclose(found[vertex], (z.min(), z.max(), lengths[0], lengths[1]), atol=1e-12)


def test_groups_are_connected_across_edges():
    """Against scipy.sparse.csgraph over the chosen triangles."""
    from scipy.sparse import coo_matrix
    from scipy.sparse.csgraph import connected_components

    tin = ground(400)
    neighbours = neighbours_of(tin.triangles)
    chosen = RNG.random(len(tin.triangles)) < 0.5
    found = groups(neighbours, chosen)
    one, k = np.nonzero((neighbours >= 0) & chosen[:, None])
    other = neighbours[one, k]
    both = chosen[other]
    links = coo_matrix((np.ones(both.sum()), (one[both], other[both])), shape=(len(chosen),) * 2)
    _, true = connected_components(links, directed=False)
    assert (found[~chosen] == -1).all()
    pairs = {(f, t) for f, t in zip(found[chosen], true[chosen], strict=True)}
    assert len(pairs) == len({f for f, _ in pairs}) == len({t for _, t in pairs})


def test_the_rim_wears_off_long_edges_and_stays_in_one_piece():
    tin = ground(500)
    neighbours = neighbours_of(tin.triangles)
    free = np.zeros(neighbours.shape, np.bool_)
    for longest in (np.inf, 25.0, 12.0):
        keep = worn_rim(tin.vertices[:, :2], tin.triangles, neighbours, free, np.full(len(neighbours), longest), 0.0)
        if longest == np.inf:
            assert keep.all()
            continue
        left = shapely.union_all(shapely.polygons(tin.vertices[tin.triangles[keep], :2]))
        assert left.geom_type == "Polygon" and shapely.is_valid(left) and not left.interiors
        # An edge that is left is short, or its triangle could not go without parting the rest.
        assert keep.sum() < len(keep)


def test_tags_of_a_drawing_are_pairs_of_lines():
    text = b"  0\nSECTION\n  2\nHEADER\n 9\n$ACADVER\n  1\n AC1015 \n-5\nneg\n"
    codes, starts, stops, words, fault = scan_tags(np.frombuffer(text, np.uint8))
    assert codes.tolist() == [0, 2, 9, 1, -5] and fault == 0
    assert [text[a:b].decode() for a, b in zip(starts, stops, strict=True)] == [
        "SECTION",
        "HEADER",
        "$ACADVER",
        "AC1015",
        "neg",
    ]
    assert words[0] != words[1]
    *_, fault = scan_tags(np.frombuffer(b"0\nLINE\nnot a code\n1\n", np.uint8))
    assert fault == 3
