"""Measuring against worked figures and a reference library; the interval check on contours that keep it and that do not."""

import dataclasses
import math

import numpy as np
import pytest
import shapely

from vastgrid import catalog
from vastgrid.base.errors import DataError
from vastgrid.base.progress import Silent
from vastgrid.base.quantities import Unit
from vastgrid.data.frame import Frame
from vastgrid.data.linework import Contours
from vastgrid.data.pointset import PointSet
from vastgrid.measures.measure import (
    area_of,
    chain_rows,
    check_interval,
    grade_text,
    leg,
    leg_rows,
)
from vastgrid.measures.snap import Caught, catch
from vastgrid.params import declare

METRIC = Frame(None, Unit.METRE, Unit.METRE)
E0, N0 = 500_000.0, 4_000_000.0


def at(east, north, z=math.nan):
    return Caught(E0 + east, N0 + north, z)


@pytest.mark.parametrize(
    ("east", "north", "bearing"),
    [(0, 10, 0.0), (10, 10, 45.0), (10, 0, 90.0), (0, -10, 180.0), (-10, 0, 270.0), (-10, 10, 315.0)],
)
def test_bearings_are_clockwise_from_grid_north(east, north, bearing):
    assert leg(at(0, 0), at(east, north)).bearing == pytest.approx(bearing)


def test_a_leg_of_a_3_4_5_triangle():
    # 3-4-5 in plan, then 12 up: 13 along the slope (common practice).
    own = leg(at(0, 0, 100.0), at(3, 4, 112.0))
    assert (own.plan, own.slope, own.up) == pytest.approx((5.0, 13.0, 12.0))
    assert own.grade == pytest.approx(2.4)
    assert grade_text(0.125) == "+12.50 % · 1 : 8.00 · +7.13°"
    assert grade_text(-1.0) == "-100.00 % · 1 : 1.00 · -45.00°"
    assert dict(leg_rows(own, METRIC))["Slope"] == "13.000 m"


def test_vertical_and_unknown_heights_are_said():
    up = leg(at(0, 0, 1.0), at(0, 0, 3.0))
    assert grade_text(up.grade) == "vertical" and math.isnan(up.bearing)
    rows = dict(leg_rows(leg(at(0, 0), at(3, 4)), METRIC))
    assert rows["ΔZ"] == "–" and rows["Slope"] == "–" and rows["Plan"] == "5.000 m"


def test_heights_in_feet_over_metres_give_the_same_grade():
    mixed = Frame(None, Unit.METRE, Unit.FOOT)
    rows = dict(chain_rows([at(0, 0, 0.0), at(30, 40, 5.0 / 0.3048)], mixed))
    assert rows["Grade"].startswith("+10.00 %")
    assert rows["ΔZ"] == "+16.404 ft" and rows["Slope"] == f"{math.hypot(50, 5):.3f} m"


def test_areas_agree_with_geos_at_utm_size():
    rng = np.random.default_rng(4)
    for _ in range(30):
        angle = np.sort(rng.uniform(0, 2 * np.pi, 9))
        reach = rng.uniform(5, 90, 9)
        ring = np.column_stack((reach * np.cos(angle), reach * np.sin(angle)))
        mine = area_of([at(*corner) for corner in ring])
        assert mine == pytest.approx(shapely.Polygon(ring).area, rel=1e-9)


def test_a_chain_and_an_area_in_rows():
    places = [at(0, 0, 1.0), at(30, 0, 2.0), at(30, 40, 2.0)]
    rows = dict(chain_rows(places, METRIC))
    assert rows["Legs"] == "2" and rows["Plan in all"] == "70.000 m"
    assert rows["Ends: plan, slope"].startswith("50.000 m") and rows["Last: plan, slope"] == "40.000 m, 40.000 m"
    assert rows["Last: ΔE, ΔN, ΔZ"] == "+0.000 m, +40.000 m, +0.000 m" and rows["Last: bearing"] == "0.0000°"
    rows = dict(chain_rows(places, METRIC, closed=True))
    assert rows["Area in plan"] == "600.00 m²" and rows["Around it"] == "120.000 m" and rows[""] == "0.0600 ha"


# -- the interval of contours


@pytest.fixture(scope="module")
def ground():
    rng = np.random.default_rng(6)
    xy = rng.uniform(0, 400, (4000, 2))
    z = 200 + 0.06 * xy[:, 0] + 8 * np.sin(xy[:, 1] / 60.0)
    points = PointSet(name="p", frame=METRIC, xyz=np.column_stack((xy + (E0, N0), z)))
    made = catalog.conversion_named("tin")
    return made.run([points], made.params(), Silent()).dataset


def contours_of(tin, interval):
    made = catalog.conversion_named("contours")
    params = made.settle([tin], declare.build(made.params, {"interval": interval}))
    return made.run([tin], params, Silent()).dataset


def test_contours_that_keep_their_interval(ground):
    made = check_interval(contours_of(ground, "2m"), ground)
    assert made.good and made.found == 2.0 and made.keep == made.pairs == 30
    assert made.on_surface < 1e-6, "contours lie on the TIN they are made from"
    assert "30 of 30 neighbouring pairs are 2 metre apart" in made.sentence()


def test_a_foot_taken_for_a_metre_is_named(ground):
    made = check_interval(contours_of(ground, "1ft"), ground, asked=1.0)
    assert not made.good
    assert "0.3048 metre, which is 1 international foot: the unit was mixed up" in made.sentence()


def test_one_mistyped_level_is_found(ground):
    contours = contours_of(ground, "2m")
    levels = contours.levels.copy()
    levels[levels == 210.0] = 210.7
    wrong = dataclasses.replace(contours, levels=levels)
    made = check_interval(wrong, None, pairs=300)
    assert not made.good and made.keep < made.pairs and math.isnan(made.on_surface)


def test_one_level_has_no_interval(ground):
    one = contours_of(ground, "2m")
    line = np.array([(E0, N0), (E0 + 1, N0)])
    alone = Contours(frame=one.frame, plan=line, offsets=[0, 2], levels=[5.0], index=[True])
    with pytest.raises(DataError, match="only one level"):
        check_interval(alone, None)


# -- catching


def test_what_is_nearest_is_caught(ground):
    vertex = ground.vertices[1234]
    found = catch([ground], vertex[0] + 0.04, vertex[1] - 0.03, 1.0)
    assert found.what == "vertex" and (found.east, found.north, found.z) == tuple(vertex)
    a, b = ground.vertices[ground.triangles[50, :2]]
    middle = (a + b) / 2.0
    found = catch([ground], middle[0] + 0.01, middle[1], 0.3)
    assert found.what in ("edge", "vertex") and math.hypot(found.east - middle[0], found.north - middle[1]) < 0.35
    found = catch([ground], vertex[0] + 0.4, vertex[1], 0.0)
    assert found.what in ("surface", "vertex")
    assert catch([ground], E0 - 900, N0, 1.0).what == ""


def test_points_and_lines_are_caught_before_surfaces(ground):
    from vastgrid.data.linework import from_lines

    line = from_lines("edge", METRIC, [np.array([(E0, N0 + 100, 5.0), (E0 + 400, N0 + 100, 9.0)])], ["KERB"])
    off = (E0 + 100.0, N0 + 100.2)
    assert catch([ground, line], *off, 0.0).what == "surface"
    found = catch([line], E0 + 100.0, N0 + 100.2, 0.5)
    assert found.what == "line" and found.z == pytest.approx(6.0)
    points = PointSet(name="p", frame=METRIC, xyz=np.array([(E0 + 100.1, N0 + 100.1, 3.0)]))
    assert catch([line, points], E0 + 100.0, N0 + 100.2, 0.5).what == "point"
