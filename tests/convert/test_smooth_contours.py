"""Smoothing and weeding never let contours cross nor leave their band; supplementary ones lie in flat ground only."""

import json

import numpy as np
import pytest
import shapely
from hypothesis import example, given, settings
from hypothesis import strategies as st

from builders import DATA, METRES, ORIGIN, ground
from vastgrid.base.errors import CallError, ParamError
from vastgrid.base.progress import Silent
from vastgrid.conversions.lines import contours
from vastgrid.data.grid import Grid
from vastgrid.measures.heights import heights
from vastgrid.params import declare

SAID = json.loads((DATA / "volcano.json").read_text())
HEIGHTS = np.array(SAID["values"], float).reshape(SAID["height"], SAID["width"])
CRATER = Grid(name="Crater", frame=METRES, heights=HEIGHTS, west=0.0, north=SAID["height"] * 10.0, dx=10.0, dy=10.0)


def made(surface, **words):
    params = declare.build(contours.ContourParams, words)
    return contours.run([surface], contours.settle([surface], params), Silent())


def apart(own, surface):
    """Check with GEOS that no line crosses another or itself, and that each stays between its neighbouring levels."""
    lines = [shapely.LineString(own.plan[a:b]) for a, b in zip(own.offsets[:-1], own.offsets[1:], strict=True)]
    assert len(shapely.STRtree(lines).query(lines, predicate="crosses")[0]) == 0
    assert shapely.is_simple(np.array(lines)).all()
    for line, level in zip(lines, own.levels, strict=True):
        places = shapely.get_coordinates(shapely.segmentize(line, 0.5))
        gap = np.abs(heights(surface, np.ascontiguousarray(places)) - level)
        assert np.nanmax(gap, initial=0.0) < own.interval


@pytest.mark.parametrize("strength", ["light", "medium", "strong"])
@pytest.mark.parametrize("held", ["no", "yes"])
def test_smoothed_contours_keep_apart(strength, held):
    for surface, interval in ((ground(1200), "0.5m"), (CRATER, "5m")):
        result = made(surface, interval=interval, smooth=strength, held=held)
        apart(result.dataset, surface)
        assert result.loss is not None


def bends(own):
    """Return the sum of what lines turn, in radians."""
    total = 0.0
    for a, b in zip(own.offsets[:-1], own.offsets[1:], strict=True):
        legs = np.diff(own.plan[a:b], axis=0)
        angle = np.arctan2(legs[:, 1], legs[:, 0])
        total += np.abs((np.diff(angle) + np.pi) % (2 * np.pi) - np.pi).sum()
    return total


def test_each_strength_rounds_more_of_the_bends():
    none, light, medium, strong = (
        bends(made(CRATER, interval="5m", smooth=each).dataset) for each in ("none", "light", "medium", "strong")
    )
    assert none > 1.4 * light > 1.6 * medium and strong < 0.6 * none


def test_a_ring_of_a_cone_stays_where_it_is():
    """A circle is smooth: a cone's contours keep their radius, worked out from the slope."""
    east, north = np.meshgrid(np.arange(101.0), np.arange(101.0))
    cone = Grid(name="Cone", frame=METRES, heights=60.0 - np.hypot(east - 50.0, north - 50.0), west=0.0, north=101.0, dx=1.0, dy=1.0)  # fmt: skip
    own = made(cone, interval="10m", lowest="20m", highest="50m", smooth="strong").dataset
    for a, b, level in zip(own.offsets[:-1], own.offsets[1:], own.levels, strict=True):
        radius = np.hypot(*(own.plan[a:b] - (50.5, 50.5)).T)
        assert np.abs(radius - (60.0 - level)).max() < 0.25


@settings(deadline=None, max_examples=30)
@example(194, "light", False, "3m", True)
@given(
    st.integers(0, 10_000),
    st.sampled_from(["light", "medium", "strong"]),
    st.booleans(),
    st.sampled_from(["", "0.4m", "3m"]),
    st.booleans(),
)
def test_whatever_the_ground_nothing_crosses(seed, strength, held, weed, whole):
    rng = np.random.default_rng(seed)
    rough = rng.normal(0.0, 1.0, (14, 14)).cumsum(axis=0) + rng.normal(0.0, 1.5, (14, 14))
    # Whole numbers put levels exactly on cells, edges and flats.
    rough = np.round(rough) if whole else rough
    rough[rng.random((14, 14)) < 0.04] = np.nan
    dem = Grid(name="Rough", frame=METRES, heights=rough, west=0.0, north=14.0, dx=1.0, dy=1.0)
    words = {"interval": "1m", "smooth": strength, "held": "yes" if held else "no"} | ({"weed": weed} if weed else {})
    own = made(dem, **words).dataset
    lines = [shapely.LineString(own.plan[a:b]) for a, b in zip(own.offsets[:-1], own.offsets[1:], strict=True)]
    pairs = shapely.STRtree(lines).query(lines, predicate="crosses").T
    for one, two in pairs.tolist():
        # Lines of one level may touch where four cells alternate; what they share is places, not a crossing.
        assert own.levels[one] == own.levels[two], (seed, one, two)


def test_held_contours_leave_every_point_on_its_side():
    tin = ground(800)
    own = made(tin, interval="0.5m", smooth="strong", held="yes").dataset
    before = made(tin, interval="0.5m").dataset
    places = shapely.points(tin.vertices[:, :2])
    for level in np.unique(own.levels):
        # A closed line parts what is above its level from what is below; both versions have to agree on every point.
        rings = [
            [shapely.Polygon(each.plan[a:b]) for a, b, z in zip(each.offsets[:-1], each.offsets[1:], each.levels, strict=True)
             if z == level and (each.plan[a] == each.plan[b - 1]).all()]
            for each in (own, before)
        ]  # fmt: skip
        for one, two in zip(*rings, strict=True):
            assert (shapely.contains(one, places) == shapely.contains(two, places)).all()


def test_weeding_keeps_within_its_tolerance():
    tin = ground(1200)
    before, after = made(tin, interval="0.5m").dataset, made(tin, interval="0.5m", weed="0.5m").dataset
    assert len(after.plan) < 0.6 * len(before.plan) and len(after) == len(before)
    apart(after, tin)
    for k in range(len(before)):
        one, two = (shapely.LineString(each.plan[each.offsets[k] : each.offsets[k + 1]]) for each in (before, after))
        assert shapely.hausdorff_distance(one, two) <= 0.5 + 1e-9


def test_supplementary_contours_lie_where_it_is_flat():
    """A ramp of 2 % beside one of 20 %: between the levels lines are drawn on the flat half only."""
    east = np.arange(200.0)
    z = 100.0 + np.where(east < 100, 0.02 * east, 2.0 + 0.2 * (east - 100))
    ramp = Grid(name="Ramp", frame=METRES, heights=np.tile(z, (120, 1)), west=0.0, north=120.0, dx=1.0, dy=1.0)
    own = made(ramp, interval="1m", supplementary="5%").dataset
    assert set(own.levels[own.supplementary].tolist()) == {100.5, 101.5}
    assert not (own.supplementary & own.index).any()
    assert {name for name, _ in own.groups()} == {"Contours", "Index contours", "Supplementary contours"}
    assert own.as_lines().layers == ("Contours", "Index contours", "Supplementary contours")
    with pytest.raises(ParamError, match="not both"):
        made(ramp, levels="100,101", supplementary="5%")


def test_depressions_are_told_from_hills():
    east, north = np.meshgrid(np.arange(80.0), np.arange(40.0))
    z = 10.0 * np.exp(-((east - 20) ** 2 + (north - 20) ** 2) / 60) - 10.0 * np.exp(-((east - 60) ** 2 + (north - 20) ** 2) / 60)  # fmt: skip
    own = made(Grid(name="Both", frame=METRES, heights=z, west=0.0, north=40.0, dx=1.0, dy=1.0), interval="2m").dataset
    assert (own.depressions() == (own.levels < 0)).all()


def test_only_inside_an_area_and_what_makes_no_sense():
    tin = ground()
    box = (ORIGIN[0] + 40, ORIGIN[1] + 30, ORIGIN[0] + 120, ORIGIN[1] + 90)
    own = made(tin, interval="1m", area=",".join(map(str, box))).dataset
    low, high = own.plan.min(axis=0), own.plan.max(axis=0)
    assert low == pytest.approx(box[:2], abs=1e-6) and high == pytest.approx(box[2:], abs=1e-6)
    with pytest.raises(CallError, match="held"):
        made(tin, interval="1m", held="yes")
    for words in ({"smooth": "much"}, {"weed": "-1m"}, {"supplementary": "0%"}, {"supplementary": "steep"}):
        with pytest.raises(ParamError):
            made(tin, interval="1m", **words)


@pytest.mark.parametrize(
    ("word", "rise"), [("3%", 0.03), ("3", 0.03), ("45deg", 1.0), ("2:1", 0.5), ("1.5 : 1", 2 / 3)]
)
def test_slopes_as_people_write_them(word, rise):
    own = declare.build(contours.ContourParams, {"supplementary": word}).supplementary
    assert own.rise == pytest.approx(rise)
    assert (
        declare.parse_value(declare.field_named(contours.ContourParams, "supplementary"), declare.value_text(own))
        == own
    )
