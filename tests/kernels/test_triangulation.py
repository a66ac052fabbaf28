"""Triangulation against its definition and against GEOS."""

import numpy as np
import pytest
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st

from builders import METRES, ORIGIN, scattered
from vastgrid.base.errors import CallError, DataError
from vastgrid.base.progress import Silent
from vastgrid.base.quantities import Length
from vastgrid.conversions.surfaces.tin import Meeting, TinParams, run
from vastgrid.data.linework import from_lines
from vastgrid.data.pointset import PointSet
from vastgrid.data.tin import areas
from vastgrid.kernels.triangles.topology import neighbours_of
from vastgrid.kernels.triangles.triangulate import triangulate


def in_circle(a, b, c, d):
    """Determinant of the empty-circle test; positive when d lies inside the circle of the counter-clockwise a, b, c."""
    m = np.stack([np.column_stack((p - d, ((p - d) ** 2).sum(axis=1))) for p in (a, b, c)], axis=1)
    return np.linalg.det(m)


def worst_circle(xy, triangles, neighbours):
    """Return the largest relative violation of the empty circle over all inner edges."""
    local = xy - xy.mean(axis=0)
    scale = np.abs(local).max()
    t, k = np.nonzero(neighbours >= 0)
    other = neighbours[t, k]
    own = triangles[t]
    opposite = [np.setdiff1d(triangles[o], own[i])[0] for i, o in enumerate(other)]
    a, b, c = (local[own[:, j]] for j in range(3))
    return float((in_circle(a, b, c, local[opposite]) / scale**4).max())


def test_empty_circle_at_utm_size():
    xy = np.random.default_rng(3).random((1500, 2)) * 800 + (512_345.0, 5_412_345.0)
    made = triangulate(xy, np.zeros((0, 2)), Silent())
    assert worst_circle(made.xy, made.triangles, made.neighbours) < 1e-9
    assert len(np.unique(made.triangles)) == 1500, "no point may be dropped"


def test_agrees_with_geos():
    # GEOS's Delaunay triangulation is the outside reference; points in general position have only one.
    xy = np.random.default_rng(4).random((700, 2)) * 100
    made = triangulate(xy, np.zeros((0, 2)), Silent())
    ours = {tuple(sorted(map(tuple, np.round(made.xy[t], 9)))) for t in made.triangles}
    theirs = {
        tuple(sorted(map(tuple, np.round(np.array(g.exterior.coords[:3]), 9))))
        for g in shapely.delaunay_triangles(shapely.MultiPoint(xy)).geoms
    }
    # Slivers at the hull may be judged differently by rounding.
    assert len(ours ^ theirs) <= 2
    hull = shapely.MultiPoint(xy).convex_hull.area
    corner = made.xy[made.triangles]
    u, v = corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0]
    assert (u[:, 0] * v[:, 1] - u[:, 1] * v[:, 0]).sum() / 2 == pytest.approx(hull, rel=1e-7)


@settings(max_examples=40, deadline=None)
@given(st.lists(st.tuples(st.integers(0, 12), st.integers(0, 12)), min_size=4, max_size=60, unique=True), st.data())
def test_lattice_with_crossing_constraints(places, data):
    """Lattice points with constraints that cross and pass through points: the hardest case for the engine."""
    xy = np.array(places, float)
    index = st.integers(0, len(xy) - 1)
    pairs = data.draw(st.lists(st.tuples(index, index).filter(lambda p: p[0] != p[1]), max_size=8))
    try:
        made = triangulate(xy, np.unique(np.sort(np.array(pairs or np.zeros((0, 2), int)), axis=1), axis=0), Silent())
    except DataError:
        assert np.linalg.matrix_rank(xy - xy[0]) < 2
        return
    corner = made.xy[made.triangles]
    u, v = corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0]
    area = u[:, 0] * v[:, 1] - u[:, 1] * v[:, 0]
    assert (area > -1e-9).all()
    assert area.sum() / 2 == pytest.approx(shapely.MultiPoint(xy).convex_hull.area, rel=1e-9)


def test_neighbours_are_mutual():
    points = scattered(500)
    tin = run([points], TinParams(), Silent()).dataset
    across = neighbours_of(tin.triangles)
    np.testing.assert_array_equal(across, tin.neighbours)
    t, k = np.nonzero(across >= 0)
    assert (across[across[t, k]] == t[:, None]).any(axis=1).all()


def test_breakline_becomes_edges_and_its_heights_count():
    points = scattered(800, height=lambda x, y: np.full_like(x, 100.0))
    line = np.column_stack((np.linspace(20, 180, 9) + ORIGIN[0], np.full(9, 70.0) + ORIGIN[1], np.full(9, 105.0)))
    work = from_lines("kerb", METRES, [line], ["KERB"])
    tin = run([points, work], TinParams(), Silent()).dataset
    at = {tuple(v): k for k, v in enumerate(np.round(tin.vertices, 6))}
    numbers = [at[tuple(np.round(v, 6))] for v in line]
    edges = {tuple(sorted((t[i], t[(i + 1) % 3]))) for t in tin.triangles.tolist() for i in range(3)}
    assert all(tuple(sorted(pair)) in edges for pair in zip(numbers[:-1], numbers[1:], strict=True))
    assert int(tin.constrained.sum()) == 16, "each of eight segments is met from both sides"


@pytest.mark.parametrize(
    ("rule", "height"),
    [
        (Meeting.MEAN, 11.0),
        (Meeting.FIRST, 10.0),
        (Meeting.LAST, 12.0),
        (Meeting.HIGHEST, 12.0),
        (Meeting.LOWEST, 10.0),
    ],
)
def test_rule_where_heights_meet(rule, height):
    xyz = np.array([(0, 0, 10), (10, 0, 5), (0, 10, 5), (10, 10, 5), (0, 0, 12.0)])
    result = run([PointSet(frame=METRES, xyz=xyz)], TinParams(heights=rule), Silent())
    corner = result.dataset.vertices[(result.dataset.vertices[:, :2] == 0).all(axis=1)]
    assert corner[:, 2].tolist() == [height]
    said = {finding.code: finding for finding in result.findings}
    assert said["two-heights"].at == (0.0, 0.0)
    assert "at most by 2.000" in said["two-heights"].text
    assert result.loss.largest == pytest.approx(max(abs(height - 10), abs(height - 12)))


def test_crossing_breaklines_meet_by_the_rule():
    square = np.array([(0, 0, 0), (10, 0, 0), (10, 10, 0), (0, 10, 0.0)])
    lines = [np.array([(0, 5, 10), (10, 5, 10.0)]), np.array([(5, 0, 20), (5, 10, 20.0)])]
    work = from_lines("edges", METRES, lines, ["A", "B"])
    for rule, height in ((Meeting.MEAN, 15.0), (Meeting.HIGHEST, 20.0), (Meeting.LOWEST, 10.0)):
        result = run([PointSet(frame=METRES, xyz=square), work], TinParams(heights=rule), Silent())
        middle = result.dataset.vertices[np.abs(result.dataset.vertices[:, :2] - 5).max(axis=1) < 1e-9]
        assert middle[:, 2].tolist() == [height]
        assert any("10.000 m apart" in finding.text for finding in result.findings)


def test_outer_boundary_cuts_exactly_and_keeps_the_ground():
    points = scattered(3000)
    ring = np.array([(20, 20), (180, 30), (150, 90), (170, 130), (60, 140), (20, 20.0)]) + ORIGIN
    work = from_lines("limit", METRES, [np.column_stack((ring, np.zeros(6)))], ["SITE_LIMIT"])
    whole = run([points], TinParams(), Silent()).dataset
    tin = run([points, work], TinParams(boundary="site_limit"), Silent()).dataset
    assert areas(tin).sum() == pytest.approx(shapely.Polygon(ring).area, rel=1e-9)
    from vastgrid.measures.difference import difference

    assert difference(whole, tin, Silent()).rmse < 0.02


def test_boundary_partly_outside_the_ground():
    points = scattered(1000, size=(100.0, 100.0))
    ring = np.array([(50, -50), (150, -50), (150, 150), (50, 150), (50, -50.0)]) + ORIGIN
    work = from_lines("limit", METRES, [np.column_stack((ring, np.zeros(5)))], ["LIMIT"])
    tin = run([points, work], TinParams(boundary="LIMIT"), Silent()).dataset
    hull = shapely.MultiPoint(points.xyz[:, :2]).convex_hull
    assert areas(tin).sum() == pytest.approx(hull.intersection(shapely.Polygon(ring)).area, rel=1e-6)


def test_boundary_that_is_not_there_is_the_callers_fault():
    work = from_lines("limit", METRES, [np.array([(0, 0, 0), (1, 1, 0.0)])], ["OPEN"])
    with pytest.raises(CallError, match="no closed line on a layer “LIMIT”"):
        run([scattered(20), work], TinParams(boundary="LIMIT"), Silent())


def test_longest_edge_leaves_breaklines_alone():
    points = scattered(400, size=(60.0, 60.0))
    far = np.array([(300.0, 0.0, 230.0)]) + (*ORIGIN, 0.0)
    both = PointSet(frame=METRES, xyz=np.concatenate((points.xyz, far)))
    tin = run([both], TinParams(max_edge=Length(30.0)), Silent()).dataset
    corner = tin.corners()[:, :, :2]
    assert np.hypot(*np.moveaxis(np.roll(corner, -1, axis=1) - corner, 2, 0)).max() <= 30.0
    assert not (tin.vertices[:, 0] > ORIGIN[0] + 100).any()


@pytest.mark.parametrize(
    ("xyz", "why"),
    [
        ([(1, 2, 3)], "at least three places"),
        ([(0, 0, 1), (1, 1, 2), (2, 2, 3), (5, 5, 0)], "one straight line"),
        ([(0, 0, np.nan), (1, 0, np.inf), (0, 1, np.nan)], "nothing in it has heights"),
        ([(7, 7, 1), (7, 7, 2), (7, 7, 3)], "at least three places"),
    ],
)
def test_what_cannot_become_a_tin_says_why(xyz, why):
    with pytest.raises(DataError, match=why):
        run([PointSet(frame=METRES, xyz=np.array(xyz, float))], TinParams(), Silent())


def test_flat_lines_at_zero_are_not_ground():
    points = scattered(300)
    line = np.array([(10, 10, 0), (90, 90, 0.0)]) + (*ORIGIN, 0.0)
    result = run([points, from_lines("old", METRES, [line], ["0"])], TinParams(), Silent())
    assert result.dataset.vertices[:, 2].min() > 200
    assert any(finding.code == "lines-without-height" for finding in result.findings)
