"""The same ground in metres, feet, millimetres and degrees gives the same results: units change numbers, not ground."""

import dataclasses

import numpy as np
import pytest

from builders import DATA, METRES, ORIGIN, ground, scattered
from vastgrid import catalog
from vastgrid.base.errors import CallError, ParamError
from vastgrid.base.progress import Silent
from vastgrid.base.quantities import DEGREE, Length, Unit, length_in
from vastgrid.conversions.grids import grid
from vastgrid.conversions.lines import contours
from vastgrid.conversions.surfaces import tin
from vastgrid.data.frame import Frame
from vastgrid.data.linework import from_lines
from vastgrid.data.pointset import PointSet
from vastgrid.data.tin import areas
from vastgrid.execution.steps import convert, read_file
from vastgrid.params import declare
from vastgrid.terrain.place.units import in_units

# 1 ft = 0.3048 m and 1 US survey ft = 1200/3937 m exactly (NIST SP 811, B.6).
UNITS = [(Unit.FOOT, 0.3048), (Unit.US_FOOT, 1200 / 3937), (Unit.MILLIMETRE, 0.001)]


def made(operation, source, **words):
    own = catalog.conversion_named(operation)
    return convert(own, source, declare.build(own.params, words), Silent())


@pytest.fixture(scope="module")
def points():
    return scattered(800)


@pytest.mark.parametrize(("unit", "metres"), UNITS, ids=lambda value: getattr(value, "value", None))
def test_contours_of_the_same_ground(points, unit, metres):
    other = in_units(points, unit, unit)
    np.testing.assert_allclose(other.xyz * metres, points.xyz, rtol=1e-12)
    results = []
    for each in (points, other):
        surface, _ = made("tin", [each], same_place="1mm")
        results.append(made("contours", [surface.dataset], interval="1m", base="0.25m")[0])
    one, two = (result.dataset for result in results)
    assert len(one) == len(two) > 20
    np.testing.assert_allclose(np.unique(two.levels) * metres, np.unique(one.levels), atol=1e-6)
    lengths = [np.hypot(*np.diff(each.plan, axis=0).T).sum() for each in (one, two)]
    # Places round to a millimetre of their own unit; whole lines come to the same.
    assert lengths[1] * metres == pytest.approx(lengths[0], rel=1e-3)
    assert results[1].loss.largest * metres == pytest.approx(results[0].loss.largest, rel=1e-3)


@pytest.mark.parametrize(("unit", "metres"), UNITS, ids=lambda value: getattr(value, "value", None))
def test_grids_of_the_same_ground(points, unit, metres):
    results = []
    for each in (points, in_units(points, unit, unit)):
        surface, _ = made("tin", [each], same_place="1mm")
        results.append(made("grid", [surface.dataset], cell="5m")[0].dataset)
    one, two = results
    assert one.heights.shape == two.heights.shape
    assert (two.west * metres, two.north * metres) == pytest.approx((one.west, one.north), abs=1e-6)
    both = np.isfinite(one.heights) & np.isfinite(two.heights)
    assert both.sum() > 0.99 * np.isfinite(one.heights).sum()
    np.testing.assert_allclose(two.heights[both] * metres, one.heights[both], atol=0.01)


@pytest.mark.parametrize("unit", [unit for unit, _ in UNITS], ids=lambda unit: unit.value)
def test_estimates_mind_the_unit_that_is_typed(points, unit):
    surface = made("tin", [points])[0].dataset
    other = in_units(surface, unit, unit)
    lines, cells = contours.ContourParams(interval=Length(0.5, Unit.METRE)), grid.GridParams(cell=Length(2, Unit.METRE))
    for own, params in ((contours.CONVERSION, lines), (grid.CONVERSION, cells)):
        told = [own.estimate([each], own.settle([each], params)) for each in (surface, other)]
        assert told[0] == told[1] != ""


def test_too_many_levels_or_cells_are_refused_with_their_number():
    surface = ground(200)
    with pytest.raises(ParamError, match=r"interval: 1e-06 m would give"):
        made("contours", [surface], interval="0.000001")
    with pytest.raises(ParamError, match=r"cell: 0.001 m would give .* cells; choose a larger one"):
        made("grid", [surface], cell="0.001m")


def test_a_level_no_ground_reaches():
    found = made("contours", [ground(200)], interval="500m")[0]
    assert len(found.dataset) == 0 and found.loss is None
    assert any("No contour crosses the heights" in finding.text for finding in found.findings)


# -- one place


def test_one_place_is_a_thousandth_of_the_unit_unless_said():
    for frame, size in ((METRES, Length(0.001, Unit.METRE)), (Frame(None, Unit.FOOT, None), Length(0.001, Unit.FOOT))):
        settled = tin.settle([scattered(10, frame=frame)], tin.TinParams())
        assert settled.same_place == size
    assert tin.settle([scattered(10)], tin.TinParams(same_place=Length(2))).same_place == Length(2)


def test_a_small_place_inside_a_boundary_stays_small():
    """A place of one millimetre is not one of one metre: cutting at a limit keeps every point inside."""
    points = scattered(2000, size=(60.0, 60.0))
    ring = np.array([(5, 5, 0), (55, 5, 0), (55, 55, 0), (5, 55, 0), (5, 5, 0.0)]) + (*ORIGIN, 0.0)
    work = from_lines("limit", METRES, [ring], ["LIMIT"])
    own = [made("tin", [points, work], boundary="LIMIT", same_place=size)[0].dataset for size in ("0.001", "1mm")]
    assert len(own[0].vertices) == len(own[1].vertices) > 1000
    assert areas(own[1]).sum() == pytest.approx(2500.0, rel=1e-9)


def test_degrees_are_not_metres():
    """The track's 871 places stay apart: rounded to a thousandth of a degree, which is 111 m, most would be one."""
    (track,) = read_file(DATA / "korita-zbevnica.gpx", {}, Silent()).datasets
    result, params = made("tin", [track])
    good = track.xyz[np.isfinite(track.xyz[:, 2])]
    places = np.unique(np.round(good[:, :2], 8), axis=0)
    assert len(result.dataset.vertices) == len(places) > 800
    assert params.same_place == Length(1e-8)
    assert any(finding.code == "degrees" for finding in result.findings)


def test_checks_measure_in_degrees_what_is_said_in_metres():
    assert length_in(Length(DEGREE), Unit.DEGREE) == pytest.approx(1.0)
    assert length_in(Length(1.0, Unit.FOOT), Unit.DEGREE) == pytest.approx(0.3048 / 111_195, rel=1e-5)
    north = np.array([0.0, 0.001, 0.0011, 0.0011 + 4e-8])
    xyz = np.column_stack((np.full(4, 14.1), 45.4 + north, (700.0, 705.0, 720.0, 750.0)))
    points = PointSet(name="walk", frame=Frame("EPSG:4326", Unit.DEGREE, Unit.METRE), xyz=xyz)
    check = catalog.check_named("two-heights-here")
    (found,) = check.run(points, [], check.params(), Silent())
    assert "720.000 m and 750.000 m" in found.text, "eleven metres are two places, four millimetres are one"


def test_a_drawing_in_degrees_is_refused_and_the_way_out_named(run_cli, tmp_path):
    arguments = ("convert", DATA / "korita-zbevnica.gpx", tmp_path / "a.dxf")
    code, _, said = run_cli(*arguments, "--via", "tin", "--via", "contours", "interval=10m")
    assert code != 0 and "--via reproject crs=EPSG:32633" in said and not list(tmp_path.iterdir())
    code, _, said = run_cli(
        *arguments, "--via", "reproject", "crs=EPSG:32633", "--via", "tin", "--via", "contours", "interval=10m"
    )
    assert code == 0, said


def test_a_bare_number_takes_the_datas_unit_and_says_so():
    surface = in_units(ground(200), Unit.FOOT, Unit.FOOT)
    _, params = made("contours", [surface], interval="5")
    assert params.interval == Length(5, Unit.FOOT)
    unknown = dataclasses.replace(ground(200), frame=Frame(None, None, Unit.METRE))
    with pytest.raises(CallError, match=r"the plan unit of .* is unknown and the other unit is metre"):
        made("grid", [unknown], cell="5ft")
