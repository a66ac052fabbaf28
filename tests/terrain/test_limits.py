"""The outer boundary: rings mended or refused by place, and ground inside that stays what it was."""

import numpy as np
import pytest
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st

from builders import METRES, scattered
from vastgrid.base.errors import DataError
from vastgrid.base.progress import Silent
from vastgrid.base.quantities import Unit
from vastgrid.conversions.surfaces import tin as tin_conversion
from vastgrid.data.linework import from_lines
from vastgrid.data.tin import areas
from vastgrid.kernels.triangles.topology import neighbours_of
from vastgrid.measures.heights import heights
from vastgrid.terrain.tin.limits import cut_to, limits_area, ring_area

BOX = [(20, 20), (80, 20), (80, 80), (20, 80)]


def closed(points):
    ring = np.array([*points, points[0]], float)
    return np.column_stack((ring, np.zeros(len(ring))))


def ground(count=400, seed=2, relief=8.0):
    rng = np.random.default_rng(seed)
    xy = rng.uniform(0, 100, (count, 2))
    z = 10 + relief * np.sin(xy[:, 0] / 9) + 3 * np.cos(xy[:, 1] / 7)
    return xy, z


def built(xy, z, ring=None, **options):
    from vastgrid.data.pointset import PointSet

    points = PointSet(name="p", frame=METRES, xyz=np.column_stack((xy, z)))
    inputs = [points] if ring is None else [points, from_lines("b", METRES, [closed(ring)], ["LIMIT"])]
    params = tin_conversion.TinParams(boundary="" if ring is None else "LIMIT", **options)
    return tin_conversion.run(inputs, tin_conversion.settle(inputs, params), Silent())


def edges_meet(tin):
    """Every edge that is not on the rim has a triangle on both sides, and no vertex lies inside a rim edge."""
    from vastgrid.kernels.triangles.crossings import on_segments

    across = neighbours_of(tin.triangles)
    following = np.roll(tin.triangles, -1, axis=1)
    a, b = tin.vertices[tin.triangles[across < 0]], tin.vertices[following[across < 0]]
    pairs, _ = on_segments(tin.vertices, a, b, 1e-9)
    return len(pairs) == 0


@pytest.mark.parametrize(
    ("ring", "area", "said"),
    [
        (BOX, 3600.0, ""),
        ([(20, 20), (80, 20), (80, 80), (19, 80), (20, 81)], 3600.0, "crosses itself at E 20.000, N 80.000"),
        ([(20, 20), (80, 20), (80, 80), (80, 90), (80, 80), (20, 80)], 3600.0, "doubles back on itself"),
        ([*BOX, *BOX], 3600.0, "doubles back on itself"),
        ([(20, 20), (20, 20), (80, 20), (80, 80), (80, 80), (20, 80)], 3600.0, ""),
    ],
)
def test_rings_that_can_be_mended(ring, area, said):
    findings = []
    made = ring_area(closed(ring), "outer boundary", findings)
    assert made.area == pytest.approx(area) and made.is_valid
    assert said in " ".join(finding.text for finding in findings) and bool(findings) == bool(said)


@pytest.mark.parametrize(
    ("ring", "why"),
    [
        ([(20, 20), (80, 80), (80, 20), (20, 80)], "crosses itself at E 50.000, N 50.000"),
        ([(20, 20), (80, 80), (50, 50)], "encloses nothing"),
        ([(20, 20), (80, 80)], "fewer than three corners"),
        ([(20, 20), (80, np.nan), (20, 80)], "not a place"),
    ],
)
def test_rings_that_cannot(ring, why):
    with pytest.raises(DataError, match=why):
        ring_area(closed(ring), "outer boundary", [])


@pytest.mark.parametrize(
    ("unit", "word"), [(Unit.METRE, "900 m²"), (Unit.US_FOOT, "900 us-ft²"), (None, "900 square units")]
)
def test_areas_are_told_in_the_unit_of_the_ring(unit, word):
    with pytest.raises(DataError, match=f"900 and {word}; nobody"):
        ring_area(closed([(20, 20), (80, 80), (80, 20), (20, 80)]), "outer boundary", [], unit)
    slip = closed([(20, 20), (80, 20), (80, 80), (19, 80), (20, 81)])
    findings = []
    limits_area([slip], [], [], slip, findings, unit)
    assert word.removeprefix("900") + " cut off there" in findings[0].text


def test_the_boundary_that_was_ignored_is_kept():
    xy, z = ground()
    result = built(xy, z, [(20, 20), (80, 20), (80, 80), (19, 80), (20, 81)])
    assert areas(result.dataset).sum() == pytest.approx(3600.0, rel=1e-9)
    assert "ring-mended" in {finding.code for finding in result.findings}


def test_a_ring_through_the_outermost_points_leaves_no_face_without_area():
    xy, z = ground()
    hull = np.array(shapely.MultiPoint(xy).convex_hull.exterior.coords)[:-1]
    made = built(xy, z, hull.tolist()).dataset
    assert (areas(made) > 0).all()
    assert areas(made).sum() == pytest.approx(shapely.MultiPoint(xy).convex_hull.area, rel=1e-12)
    assert edges_meet(made)


@pytest.mark.parametrize("offset", [(0.0, 0.0), (431_000.0, 5_887_000.0)])
@given(
    seed=st.integers(0, 10_000),
    corners=st.lists(st.tuples(st.floats(2, 98), st.floats(0.2, 1.0)), min_size=3, max_size=14),
    on_points=st.booleans(),
)
@settings(max_examples=60, deadline=None)
def test_the_ground_inside_stays_the_same(offset, seed, corners, on_points):
    """A star-shaped ring around the middle, some of its corners exactly on vertices; ±8 m of relief."""
    xy, z = ground(120, seed)
    xy = xy + offset
    middle = xy.mean(axis=0)
    angles = np.sort(np.linspace(0, 2 * np.pi, len(corners), endpoint=False) + 0.2)
    reach = np.array([share for _, share in corners]) * 45.0
    ring = middle + np.column_stack((np.cos(angles), np.sin(angles))) * reach[:, None]
    if on_points:
        ring[0] = xy[np.argmin(np.hypot(*(xy - ring[0]).T))]
    polygon = shapely.Polygon(ring)
    if not polygon.is_valid or polygon.area < 1.0:
        return
    whole = built(xy, z).dataset
    made = cut_to(whole, polygon)
    rng = np.random.default_rng(seed)
    inside = middle + rng.uniform(-45, 45, (300, 2))
    inside = inside[shapely.contains_xy(polygon.buffer(-1e-6), inside[:, 0], inside[:, 1])]
    before, after = heights(whole, inside), heights(made, inside)
    known = np.isfinite(before)
    assert np.isfinite(after[known]).all()
    slope = np.abs(np.diff(z)).max() * 10
    assert np.abs(after[known] - before[known]).max(initial=0.0) < 1e-9 * max(1.0, slope if offset[0] else 1.0)
    hull = shapely.MultiPoint(xy).convex_hull
    assert areas(made).sum() == pytest.approx(polygon.intersection(hull).area, rel=1e-7)
    assert (areas(made) > 0).all() and edges_meet(made)
    corners_z = heights(whole, made.vertices[:, :2])
    assert np.nanmax(np.abs(corners_z - made.vertices[:, 2])) < 1e-6


def test_voids_and_islands():
    xy, z = ground(800)
    rings = [
        closed(BOX),
        closed([(30, 30), (60, 30), (60, 60), (30, 60)]),
        closed([(40, 40), (50, 40), (50, 50), (40, 50)]),
    ]
    from vastgrid.data.pointset import PointSet

    points = PointSet(name="p", frame=METRES, xyz=np.column_stack((xy, z)))
    lines = from_lines("b", METRES, rings, ["LIMIT", "POND", "ISLE"])
    params = tin_conversion.TinParams(boundary="LIMIT", voids="POND", islands="ISLE")
    result = tin_conversion.run([points, lines], tin_conversion.settle([points, lines], params), Silent())
    made = result.dataset
    assert areas(made).sum() == pytest.approx(3600 - 900 + 100, rel=1e-9) and edges_meet(made)
    assert [role for role, _ in made.limits()] == ["outer", "void", "island"]
    assert (
        np.isnan(heights(made, np.array([[35.0, 35.0]])))[0] and np.isfinite(heights(made, np.array([[45.0, 45.0]])))[0]
    )
    assert "without POND, but with ISLE" in _said(params)


def _said(params):
    from vastgrid.params import declare

    return declare.plain(tin_conversion.CONVERSION.sentence(params, ["p"]))


def test_two_boundaries_are_refused_unless_they_are_one():
    ring, other = closed(BOX), closed([(0, 0), (9, 0), (9, 9)])
    findings = []
    assert limits_area([ring, ring[::-1]], [], [], ring, findings).area == 3600.0
    assert "2 times, alike" in findings[0].text
    with pytest.raises(DataError, match="2 closed lines where one outer boundary is needed"):
        limits_area([ring, other], [], [], ring, [])
    assert limits_area([], [], [], ring, []) is None


def test_a_ring_that_misses_its_beginning_by_a_hair_is_closed_and_an_open_one_left_out():
    xy, z = ground()
    from vastgrid.data.pointset import PointSet

    points = PointSet(name="p", frame=METRES, xyz=np.column_stack((xy, z)))
    nearly = np.array([*BOX, (20.0004, 20.0)], float)
    nearly = np.column_stack((nearly, np.zeros(len(nearly))))
    stray = np.array([(5, 5, 0), (95, 5, 0), (95, 95, 0.0)])
    lines = from_lines("b", METRES, [nearly, stray], ["LIMIT", "LIMIT"])
    params = tin_conversion.settle([points, lines], tin_conversion.TinParams(boundary="LIMIT"))
    result = tin_conversion.run([points, lines], params, Silent())
    assert areas(result.dataset).sum() == pytest.approx(3600.0, rel=1e-5)
    assert {"ring-closed", "open-boundary"} <= {finding.code for finding in result.findings}


def test_no_common_ground_says_where_both_are():
    xy, z = ground()
    with pytest.raises(DataError, match=r"lies inside the outer boundary .E 200\.00"):
        built(xy, z, [(200, 200), (300, 200), (300, 300)])


def test_breaklines_stay_edges_where_they_are_cut():
    points = scattered(200, size=(100.0, 100.0))
    xyz = points.xyz - (431_000.0, 887_000.0, 0.0)
    from vastgrid.data.pointset import PointSet

    cloud = PointSet(name="p", frame=METRES, xyz=xyz)
    lines = from_lines(
        "b", METRES, [closed(BOX), np.array([(5.0, 50.0, 300.0), (95.0, 50.0, 300.0)])], ["LIMIT", "EDGE"]
    )
    made = tin_conversion.run([cloud, lines], tin_conversion.TinParams(boundary="LIMIT"), Silent()).dataset
    following = np.roll(made.triangles, -1, axis=1)
    a, b = made.vertices[made.triangles[made.constrained]], made.vertices[following[made.constrained]]
    length = np.hypot(*(b - a)[:, :2].T).sum()
    assert length == pytest.approx(2 * 60.0, rel=1e-6), "each edge counts from both sides"
    assert np.abs(np.concatenate((a, b))[:, 1] - 50.0).max() < 1e-9
