"""Slopes to the ground against closed forms: pads on planes, frustums, corners, benches, and where no ground is."""

import numpy as np
import pytest
import shapely

from builders import METRES, ORIGIN, ground, sound
from vastgrid.base.errors import CallError, DataError
from vastgrid.base.progress import Silent
from vastgrid.conversions.surfaces import daylight
from vastgrid.data.grid import Grid
from vastgrid.data.linework import from_lines
from vastgrid.data.tin import Tin, areas
from vastgrid.declarations.conversion import Inputs
from vastgrid.measures.heights import heights
from vastgrid.params import declare
from vastgrid.terrain.tin.surfaces import grid_tin


def plane(east=0.0, north=0.0, at=0.0, size=400.0):
    """Two triangles on a plane that is `at` high in the middle, (0, 0)."""
    xy = np.array([(-size, -size), (size, -size), (size, size), (-size, size)])
    z = at + xy @ (east, north)
    return Tin(
        name="Plane", frame=METRES, vertices=np.column_stack((xy, z)), triangles=np.array([(0, 1, 2), (0, 2, 3)])
    )


def pad(z=10.0, half=20.0, turned=False):
    ring = np.array([(-half, -half), (half, -half), (half, half), (-half, half), (-half, -half)])
    ring = ring[::-1] if turned else ring
    return from_lines("Pad", METRES, [np.column_stack((ring, np.full(5, z)))], ["PAD"])


def made(line, surface, **words):
    params = declare.build(daylight.DaylightParams, {name: str(word) for name, word in words.items()})
    inputs = Inputs.of_pairs([("line", line), ("surface", surface)])
    return daylight.run(inputs, daylight.settle(inputs, params), Silent())


def volume(top: Tin, base: float) -> float:
    """Return the volume between a TIN and a level, prism by prism."""
    z = top.vertices[top.triangles, 2].mean(axis=1) - base
    return float((np.abs(areas(top)) * z).sum())


@pytest.mark.parametrize("turned", [False, True])
def test_a_pad_above_level_ground_makes_a_frustum(turned):
    """Fill 2:1 from 10 m: square corners reach 20 m out, so the frustum is 80 m wide below and 40 m above."""
    result = made(pad(turned=turned), plane(), fill=2, gives="ground")
    tin = result.dataset
    sound(tin)
    lower, upper, high = 80.0**2, 40.0**2, 10.0
    frustum = high / 3.0 * (lower + upper + np.sqrt(lower * upper))
    assert volume(tin, 0.0) == pytest.approx(frustum, rel=1e-9)
    limit = made(pad(turned=turned), plane(), fill=2, gives="limit").dataset
    assert limit.closed().all()
    assert shapely.Polygon(limit.vertices[:, :2]).area == pytest.approx(80.0**2, rel=1e-9)
    assert np.abs(limit.vertices[:, 2]).max() < 1e-9


def test_a_pit_in_level_ground_is_a_frustum_turned_over():
    tin = made(pad(-6.0), plane(), cut="1.5:1", gives="ground").dataset
    lower, upper, deep = 40.0**2, 58.0**2, 6.0
    assert -volume(tin, 0.0) == pytest.approx(deep / 3.0 * (lower + upper + np.sqrt(lower * upper)), rel=1e-9)


def test_round_corners_are_quarters_of_a_cone():
    slopes = made(pad(), plane(), fill=2, corners="round").dataset
    # Four strips 40 by 20, and a quarter of a circle of 20 at each corner.
    assert np.abs(areas(slopes)).sum() == pytest.approx(4 * 40 * 20 + np.pi * 20**2, rel=2e-3)
    limit = made(pad(), plane(), fill=2, corners="round", gives="limit").dataset
    far = shapely.distance(shapely.box(-20, -20, 20, 20), shapely.points(limit.vertices[:, :2]))
    assert far == pytest.approx(20.0, abs=1e-6)


def test_on_sloping_ground_the_daylight_line_is_where_the_planes_meet():
    """Ground z = 0.1 x: the fill plane east of the pad, z = 10 - (x - 20) / 2, meets it at x = 20 / 0.6."""
    limit = made(pad(), plane(east=0.1), fill=2, gives="limit").dataset
    x, y = limit.vertices[:, 0], limit.vertices[:, 1]
    assert x.max() == pytest.approx(20.0 / 0.6, abs=1e-9)
    # West: z = 10 + (x + 20) / 2 = 0.1 x.
    assert x.min() == pytest.approx(-20.0 / 0.4, abs=1e-9)
    # North: z = 10 - (y - 20) / 2 = 0.1 x, so y = 40 - 0.2 x, a straight line.
    north = (y > 20) & (np.abs(y - (40 - 0.2 * x)) < 1e-6)
    assert north.sum() >= 2
    assert np.abs(limit.vertices[:, 2] - 0.1 * x).max() < 1e-9


def test_cut_and_fill_in_one_pad():
    """A pad at 0 on z = 0.1 x is in cut to the east, in fill to the west, and both end where it lies on the ground."""
    ground_ = plane(east=0.1)
    tin = made(pad(0.0), ground_, cut=1, fill=3, gives="ground").dataset
    sound(tin)
    # East: z = (x - 20) = 0.1 x; west: z = (x + 20) / 3 = 0.1 x.
    limit = made(pad(0.0), ground_, cut=1, fill=3, gives="limit").dataset
    assert limit.vertices[:, 0].max() == pytest.approx(20 / 0.9, abs=1e-9)
    assert limit.vertices[:, 0].min() == pytest.approx(-20 / (1 - 0.3), abs=1e-9)
    assert np.abs(limit.vertices[:, 2] - 0.1 * limit.vertices[:, 0]).max() < 1e-9
    inside = np.array([(0.0, 0.0), (15.0, -15.0), (-19.0, 19.0)])
    assert np.abs(heights(tin, inside)).max() < 1e-12, "the pad is level"
    beyond = np.array([(100.0, 50.0), (-300.0, 20.0), (0.0, 200.0)])
    assert heights(tin, beyond) == pytest.approx(0.1 * beyond[:, 0]), "beyond the daylight line the ground is as it was"


def test_inner_corners_end_where_both_slopes_meet():
    """An L: at its inner corner both fill planes meet above the bisector; the daylight line has that corner at 20, 20."""
    ring = np.array([(-40, -40), (40, -40), (40, 0), (0, 0), (0, 40), (-40, 40), (-40, -40)], float)
    line = from_lines("L", METRES, [np.column_stack((ring, np.full(7, 10.0)))], ["PAD"])
    limit = made(line, plane(), fill=2, gives="limit").dataset
    place = shapely.Polygon(limit.vertices[:, :2])
    wanted = shapely.Polygon([(-60, -60), (60, -60), (60, 20), (20, 20), (20, 60), (-60, 60)])
    assert shapely.symmetric_difference(place, wanted).area < 1e-6 * wanted.area
    tin = made(line, plane(), fill=2, gives="ground").dataset
    sound(tin)
    places = np.array([(5.0, 5.0), (5.0, 12.0), (30.0, 10.0), (50.0, -10.0), (-50.0, -50.0)])
    assert heights(tin, places) == pytest.approx([7.5, 7.5, 5.0, 5.0, 5.0], abs=1e-6)


def test_benches_by_hand():
    """10 m down at 2:1 with a bench 3 m wide after every 4 m: 8 + 3 + 8 + 3 + 4 = 26 m out."""
    result = made(pad(), plane(), fill=2, bench="4m", width="3m")
    assert np.abs(result.dataset.vertices[:, :2]).max() == pytest.approx(46.0, abs=1e-9)
    places = np.array([(20.0 + d, 0.0) for d in (4, 8, 9.5, 11, 15, 19, 20, 22, 24)])
    assert heights(result.dataset, places) == pytest.approx([8, 6, 6, 6, 4, 2, 2, 2, 1], abs=1e-9)


def test_an_open_line_on_one_side_or_both():
    edge = from_lines("Edge", METRES, [np.array([(-50.0, 0, 10), (50, 0, 10)])], ["EDGE"])
    both = made(edge, plane(), fill=2).dataset
    right = made(edge, plane(), fill=2, side="right").dataset
    left = made(edge, plane(), fill=2, side="left").dataset
    assert np.abs(areas(both)).sum() == pytest.approx(2 * 100 * 20)
    assert right.vertices[:, 1].min() == pytest.approx(-20) and right.vertices[:, 1].max() == pytest.approx(0, abs=1e-9)
    assert left.vertices[:, 1].max() == pytest.approx(20)
    with pytest.raises(CallError, match="not closed"):
        made(edge, plane(), side="outside")


def test_a_line_that_falls_keeps_its_slope_square_to_it():
    """A road edge that falls 5 %: the slope is 2:1 square to it, so the daylight line runs where 10 - 0.05 x = y / 2."""
    edge = from_lines("Edge", METRES, [np.array([(0.0, 0, 10), (100, 0, 5)])], ["EDGE"])
    limit = made(edge, plane(), fill=2, side="left", gives="limit").dataset
    assert limit.vertices[:, 1] == pytest.approx(2 * (10 - 0.05 * limit.vertices[:, 0]), abs=1e-6)


def test_slope_lines_are_long_and_short_in_turn():
    own = made(pad(), plane(), fill=2, gives="lines", lines="5m").dataset
    assert own.layers == ("Slope lines, long", "Slope lines, short")
    lengths = [float(np.hypot(*(own.line(k)[-1] - own.line(k)[0])[:2])) for k in range(len(own))]
    assert len(own) == 32
    assert {round(length, 6) for length in lengths} == {20.0, 10.0}
    assert all(own.line(k)[0, 2] == pytest.approx(10.0) and own.line(k)[-1, 2] < 6 for k in range(len(own))), (
        "from the top"
    )


def test_where_the_ground_ends_first_it_is_said():
    small = plane(size=30.0)
    result = made(pad(), small, fill=2)
    found = [finding for finding in result.findings if finding.code == "no-daylight"]
    assert found and "do not reach the ground" in found[0].text and found[0].at is not None
    with pytest.raises(DataError, match="lies beside"):
        made(from_lines("Far", METRES, [np.array([(900.0, 0, 10), (950, 0, 10)])], ["EDGE"]), small)


def test_on_rough_ground_every_end_lies_on_it():
    tin = ground(3000, size=(300.0, 240.0))
    ring = np.array([(100, 80), (180, 80), (180, 140), (100, 140), (100, 80)], float) + ORIGIN
    line = from_lines("Pad", METRES, [np.column_stack((ring, np.full(5, 231.0)))], ["PAD"])
    limit = made(line, tin, cut=1, fill=2, gives="limit").dataset
    gap = heights(tin, np.ascontiguousarray(limit.vertices[:, :2])) - limit.vertices[:, 2]
    assert np.abs(gap).max() < 1e-6
    merged = made(line, tin, cut=1, fill=2, gives="ground").dataset
    assert sound(merged) == pytest.approx(np.abs(areas(tin)).sum(), rel=1e-6)
    inside = np.array([(140.0, 110.0), (101, 81), (179, 139)]) + ORIGIN
    assert heights(merged, inside) == pytest.approx(231.0, abs=1e-6)
    # Between its vertices the daylight line keeps within 3 cm of plan.
    middle = (limit.vertices[1:] + limit.vertices[:-1]) / 2.0
    off = np.abs(heights(tin, np.ascontiguousarray(middle[:, :2])) - middle[:, 2])
    assert np.quantile(off, 0.95) < 0.05


def test_a_grid_is_ground_as_well_and_a_level_may_be_said():
    east, _ = np.meshgrid(np.arange(200.0), np.arange(200.0))
    dem = Grid(name="DEM", frame=METRES, heights=100.0 + 0.02 * east, west=0.0, north=200.0, dx=1.0, dy=1.0)
    ring = np.array([(80, 80), (120, 80), (120, 120), (80, 120), (80, 80)], float)
    flat = from_lines("Pad", METRES, [np.column_stack((ring, np.full(5, np.nan)))], ["PAD"])
    with pytest.raises(DataError, match="no heights everywhere"):
        made(flat, dem)
    tin = made(flat, dem, level="105m", gives="ground").dataset
    assert sound(tin) == pytest.approx(np.abs(areas(grid_tin(dem))).sum(), rel=1e-6)
    assert heights(tin, np.array([(100.0, 100.0)])) == pytest.approx(105.0)


def test_what_makes_no_sense_is_refused():
    with pytest.raises(CallError, match="no benches"):
        made(pad(), plane(), width="2m")
    with pytest.raises(DataError, match="lies on the ground"):
        made(pad(0.0), plane())


def test_slope_lines_are_edges_of_the_tin_or_lie_beside_the_daylight_line():
    plain, lined = made(pad(), plane(), fill=2).dataset, made(pad(), plane(), fill=2, lines="5m").dataset
    assert np.abs(areas(lined)).sum() == pytest.approx(np.abs(areas(plain)).sum())
    feet = {tuple(np.round(v, 6)) for v in lined.vertices[np.abs(lined.vertices[:, 2] - 10.0) < 1e-9][:, :2].tolist()}
    assert {(-15.0, -20.0), (0.0, -20.0), (20.0, 5.0)} <= feet
    both = made(pad(), plane(), fill=2, gives="limit", lines="5m").dataset
    assert both.layers == ("Daylight", "Slope lines, long", "Slope lines, short") and len(both) == 33
    sound(made(pad(), plane(), fill=2, gives="ground", lines="5m").dataset)
