"""A TIN from points, every kind of line, and contours without false plateaus; its rim, its limits, its crossings."""

import contourpy
import numpy as np
import pytest
import shapely
from matplotlib.cbook import get_sample_data

from builders import DATA, METRES, ORIGIN, scattered, sound
from vastgrid.base.errors import DataError
from vastgrid.base.progress import Silent
from vastgrid.base.quantities import Length
from vastgrid.conversions.surfaces import tin as building
from vastgrid.data.line_roles import BREAKLINE
from vastgrid.data.linework import from_lines
from vastgrid.data.pointset import PointSet
from vastgrid.data.tin import Tin, areas
from vastgrid.execution.steps import read_file
from vastgrid.formats import landxml
from vastgrid.lineage.store import Store
from vastgrid.measures.heights import heights
from vastgrid.params import declare
from vastgrid.terrain.tin.rims import rim_ring

E, N = ORIGIN


def lines(*courses, layer="L"):
    own = [np.array(course, float) + (E, N, 0.0) for course in courses]
    return from_lines("lines", METRES, own, [layer] * len(own))


def build(inputs, **words):
    params = building.settle(inputs, declare.build(building.TinParams, words))
    result = building.run(inputs, params, Silent())
    sound(result.dataset)
    return result


def at(tin, *places):
    return heights(tin, np.array(places, float) + ORIGIN)


def said(result):
    return " ".join(finding.text for finding in result.findings)


def jacksboro_contours(step):
    """Contours of the Jacksboro fault DEM (matplotlib's sample, USGS), traced by contourpy."""
    with np.load(get_sample_data("jacksboro_fault_dem.npz", asfileobj=False)) as data:
        z = data["elevation"].astype(np.float64)[:200, :200]
    x, y = np.arange(z.shape[1]) * 30.0, -np.arange(z.shape[0]) * 30.0
    traced = contourpy.contour_generator(x, y, z)
    own = [
        np.column_stack((line, np.full(len(line), level)))
        for level in np.arange(240, 1080, step)
        for line in traced.lines(level)
    ]
    return from_lines("contours", METRES, own, ["C"] * len(own)), z, np.stack(np.meshgrid(x, y), -1).reshape(-1, 2)


@pytest.mark.parametrize("step", [20, 50])
def test_contours_give_no_false_plateaus_and_come_nearer_to_the_ground_they_were_traced_from(step):
    contours, z, places = jacksboro_contours(step)
    plain, corrected = build([contours], flats="no"), build([contours])
    errors = []
    for result in (plain, corrected):
        gap = heights(result.dataset, places) - z.ravel()
        errors.append(float(np.sqrt(np.nanmean(gap**2))))
    assert errors[1] < 0.85 * errors[0], f"RMSE {errors[0]:.2f} m before, {errors[1]:.2f} m after"
    figures = corrected.figures
    assert figures["flat_before"] > 0.05 and figures["flat_after"] < 0.001 and figures["added"] > 1000
    flat = np.ptp(corrected.dataset.corners()[:, :, 2], axis=1) == 0.0
    assert areas(corrected.dataset)[flat].sum() < 0.005 * areas(corrected.dataset).sum()
    assert "lay flat between contours" in said(corrected)


def test_traced_contours_of_a_real_coast():
    source = read_file(DATA / "olinda_c10.shp", {}, Silent()).datasets
    result = build(list(source))
    assert result.figures["flat_after"] < 0.001 < 0.3 < result.figures["flat_before"]
    weeded = build(list(source), weed="5", spacing="500")
    assert "weeded" in said(weeded) and len(weeded.dataset.break_vertices) < len(result.dataset.break_vertices)
    assert weeded.figures["flat_after"] < 0.01


def test_true_plateaus_between_breaklines_stay():
    """The toes of benches are level and keep an interval too, but other lines beside them say that they are no contours."""
    ring = [(0, 0, 10), (30, 0, 10), (30, 30, 10), (0, 30, 10), (0, 0, 10)]
    inputs = [
        lines(*([(x, y, z) for x, y, _ in ring] for z in (10, 20, 30)), layer="TOE"),
        lines([(0, 50, 1), (9, 60, 4)]),
    ]
    params = building.settle([inputs[0], inputs[1]], building.TinParams())
    assert params.contours == "" and params.flats is None


def test_a_wall_stands_towards_the_higher_ground():
    points = scattered(800, height=lambda x, y: np.where(y > 60.0, 240.0, 230.0))
    foot, top = [(20, 60, 230), (100, 60, 230)], [(20, 60, 240), (100, 60, 240)]
    result = build([points, lines(foot, top)], walls="L", offset="0.05m")
    tin = result.dataset
    assert np.allclose(at(tin, (60, 59.999), (60, 60.051)), (230.0, 240.0), atol=0.05)
    assert "leans 0.05 m towards the higher ground" in said(result)
    other = build(
        [scattered(800, height=lambda x, y: np.where(y < 60.0, 240.0, 230.0)), lines(top, foot[::-1])]
    ).dataset
    assert np.allclose(at(other, (60, 60.001), (60, 59.985)), (230.0, 240.0), atol=0.2), "found without being said"


def test_lines_over_the_nearest_points_add_none():
    points = scattered(500)
    result = build([points, lines([(20, 20, 999), (60, 30, 999), (110, 90, 999)])], proximity="L")
    tin = result.dataset
    assert len(tin.vertices) == 500 and tin.vertices[:, 2].max() < 300 and tin.constrained.any()


def test_lines_that_change_nothing():
    points = scattered(500)
    plain = build([points]).dataset
    result = build([points, lines([(20, 20, 999), (60, 30, 999), (110, 90, 999)])], nondestructive="L")
    tin = result.dataset
    places = np.random.default_rng(2).uniform((5, 5), (190, 140), (2000, 2))
    assert np.nanmax(np.abs(at(tin, *places) - at(plain, *places))) < 1e-6 and tin.constrained.any()
    known = {tuple(vertex) for vertex in tin.vertices.tolist()}
    assert {tuple(vertex) for vertex in plain.vertices.tolist()} <= known
    assert "without changing the ground" in said(result)


def test_files_say_which_lines_are_what():
    work = lines([(20, 60, 230), (100, 60, 230)], [(20, 60, 240), (100, 60, 240)])
    import dataclasses

    marked = dataclasses.replace(work, attributes={BREAKLINE: np.array([b"wall", b"wall"])})
    assert building.settle([scattered(50), marked], building.TinParams()).walls == "L"


CROSSING = ([(20, 20, 231), (80, 80, 231)], [(20, 80, 235), (80, 20, 235)])


@pytest.mark.parametrize(
    ("rule", "height"), [("mean", 233), ("first", 231), ("last", 235), ("highest", 235), ("lowest", 231)]
)
def test_crossing_breaklines_follow_the_rule(rule, height):
    tin = build([scattered(300), lines(*CROSSING)], crossings=rule).dataset
    assert at(tin, (50, 50))[0] == pytest.approx(height, abs=1e-6)


def test_crossings_are_refused_with_every_place():
    with pytest.raises(DataError, match=r"1 place: E 431050.000, N 887050.000 \(4.000 m apart\)"):
        build([scattered(300), lines(*CROSSING)], crossings="refuse")
    assert build([scattered(300), lines(CROSSING[0])], crossings="refuse").dataset is not None


def half_moon(count=3000):
    rng = np.random.default_rng(7)
    angle, reach = rng.uniform(0, np.pi, count), rng.uniform(60, 75, count)
    xyz = np.column_stack((100 + reach * np.cos(angle), 10 + reach * np.sin(angle), np.sin(angle)))
    return PointSet(name="bay", frame=METRES, xyz=xyz + (E, N, 200.0))


def test_the_rim_follows_the_density_into_a_bay():
    """The area of the half ring that the points fill, by formula."""
    hull, bay = build([half_moon()]), build([half_moon()], rim_length="auto")
    area = np.pi / 2 * (75**2 - 60**2)
    assert float(areas(hull.dataset).sum()) > 2.5 * area
    assert float(areas(bay.dataset).sum()) == pytest.approx(area, rel=0.06)
    assert len(bay.dataset.vertices) == 3000, "a rim is worn, no point is lost"
    typed = build([half_moon()], rim_length="8m").dataset
    assert float(areas(typed).sum()) == pytest.approx(area, rel=0.2)


def test_small_angles_at_the_rim_go():
    tin = build([scattered(400)], rim_angle="20").dataset
    corner = tin.corners()[:, :, :2]
    sides = np.hypot(*np.moveaxis(np.roll(corner, -1, axis=1) - corner, 2, 0))
    a, b, c = np.sort(sides, axis=1).T
    angle = np.degrees(np.arccos(np.clip((b**2 + c**2 - a**2) / (2 * b * c), -1, 1)))
    at_rim = (tin.edges_across < 0).any(axis=1)
    assert np.sort(angle[at_rim])[max(int(0.1 * at_rim.sum()), 1)] >= 20.0 - 1e-9
    assert len(tin.spare) > 0, "they can be brought back by hand"


def test_the_rim_taken_as_boundary_keeps_triangles_away():
    bay = build([half_moon()], rim_length="auto").dataset
    ring = rim_ring(bay)
    area = ", ".join(f"{e!r} {n!r}" for e, n in ring[:-1].tolist())
    again = build([half_moon()], area=area).dataset
    assert float(areas(again).sum()) == pytest.approx(shapely.Polygon(ring).area, rel=1e-9)


def test_a_boundary_that_leaves_triangles_whole():
    ring = lines([(30, 30, 0), (120, 30, 0), (120, 110, 0), (30, 110, 0), (30, 30, 0)], layer="RIM")
    exact = build([scattered(400), ring], boundary="RIM").dataset
    whole = build([scattered(400), ring], boundary="RIM", whole="RIM").dataset
    assert float(areas(exact).sum()) == pytest.approx(90 * 80, rel=1e-9)
    known = {tuple(place) for place in (scattered(400).xyz).tolist()}
    assert all(tuple(vertex) in known for vertex in whole.vertices.tolist()), "no vertex on the boundary"
    assert float(areas(whole).sum()) == pytest.approx(90 * 80, rel=0.1)
    assert whole.limit_whole == (True,) and exact.limit_whole == ()


def test_whole_triangles_go_out_and_come_back_as_such(tmp_path):
    ring = lines([(30, 30, 0), (120, 30, 0), (120, 110, 0), (30, 110, 0), (30, 30, 0)], layer="RIM")
    whole = build([scattered(400), ring], boundary="RIM", whole="RIM").dataset
    path = tmp_path / "whole.xml"
    landxml.FORMAT.write([whole], path, landxml.FORMAT.write_params(), Silent())
    assert b'edgeTrim="false"' in path.read_bytes() and b'edgeTrim="true"' not in path.read_bytes()
    back = next(each for each in read_file(path, {}, Silent()).datasets if isinstance(each, Tin))
    assert back.limit_whole == (True,)
    store = Store(tmp_path / "job")
    assert store.get(store.put(back)).limit_whole == (True,)


def test_a_void_that_covers_everything_is_an_error_in_words():
    ring = lines([(-9, -9, 0), (900, -9, 0), (900, 900, 0), (-9, 900, 0), (-9, -9, 0)], layer="V")
    with pytest.raises(DataError, match="no part of the ground"):
        build([scattered(100), ring], voids="V")


def test_duplicates_by_tolerance_and_rule():
    points = scattered(100)
    near = PointSet(name="again", frame=METRES, xyz=points.xyz + (0.004, 0.0, 1.0))
    tin = build([points, near], same_place="0.01", heights="highest").dataset
    assert len(tin.vertices) == 100 and np.allclose(np.sort(tin.vertices[:, 2]), np.sort(points.xyz[:, 2] + 1.0))
    assert isinstance(building.TinParams(same_place=Length(0.01)).same_place, Length)
