"""Bands, arrows, lines beside lines, points along and at random, and where surfaces meet, against closed forms and GEOS."""

import numpy as np
import pytest
import shapely

from builders import METRES, ORIGIN, ground, scattered
from vastgrid.base.errors import CallError, DataError, ParamError
from vastgrid.base.progress import Silent
from vastgrid.conversions.grids import grid as grid_conversion
from vastgrid.conversions.grids import slope
from vastgrid.conversions.lines import arrows, bands, no_change, offset
from vastgrid.conversions.points import along, scatter
from vastgrid.data.grid import Grid
from vastgrid.data.linework import from_lines
from vastgrid.data.tin import Tin, areas
from vastgrid.declarations.conversion import Inputs
from vastgrid.kernels.triangles.below import area_below
from vastgrid.measures.heights import heights
from vastgrid.params import declare


def made(module, sources, **words):
    params = declare.build(module.CONVERSION.params, {name.rstrip("_"): str(word) for name, word in words.items()})
    return module.run(sources, module.CONVERSION.settle(sources, params), Silent())


def ramp(slope_east=0.1, size=100):
    """A plane that rises to the east, 0 at its western centres."""
    z = np.tile(slope_east * np.arange(float(size)), (size, 1))
    return Grid(name="Ramp", frame=METRES, heights=z, west=0.0, north=float(size), dx=1.0, dy=1.0)


def polygons(areas):
    """Return the pieces of bands as GEOS polygons, by number."""
    return dict(enumerate(areas.shapes()))


def test_bands_of_a_plane_have_the_areas_of_the_closed_form():
    result = made(bands, [ramp()], interval=2)
    # Between centres the plane is 99 by 99; each 2 of height are 20 of way east, 0.95 of the last band's.
    table = result.more["areas"].columns
    assert table["area"] == pytest.approx([20 * 99, 20 * 99, 20 * 99, 20 * 99, 19 * 99], abs=1e-9)
    assert result.dataset.layers[1] == "2 to 4 m"
    assert polygons(result.dataset)[1].area == pytest.approx(20 * 99)


def test_bands_cover_the_surface_and_do_not_overlap():
    tin = ground(2000)
    result = made(bands, [tin], interval=1)
    own = list(polygons(result.dataset).values())
    whole = shapely.union_all(own)
    assert sum(each.area for each in own) == pytest.approx(np.abs(areas(tin)).sum(), rel=1e-9)
    assert whole.area == pytest.approx(np.abs(areas(tin)).sum(), rel=1e-9)
    lows, highs = result.dataset.attributes["from"], result.dataset.attributes["to"]
    for k, polygon in polygons(result.dataset).items():
        place = shapely.get_coordinates(shapely.point_on_surface(polygon))
        z = heights(tin, place)[0]
        assert not (z < lows[k]) and not (z > highs[k])
        assert result.dataset.attributes["area"][k] == pytest.approx(polygon.area)


def test_areas_below_levels_are_those_of_the_bands():
    tin = ground(700)
    corner = np.sort(tin.vertices[tin.triangles, 2], axis=1)
    levels = np.array([225.0, 228.0, 231.5])
    below = area_below(corner, np.abs(areas(tin)), levels)
    table = made(bands, [tin], limits="225, 228, 231.5").more["areas"].columns
    assert np.cumsum(table["area"])[:3] == pytest.approx(below, rel=1e-9)


@pytest.mark.parametrize("source", ["tin", "grid"])
def test_equal_shares_are_equal(source):
    tin = ground(2000)
    surface = tin if source == "tin" else grid_conversion.run([tin], grid_conversion.GridParams(), Silent()).dataset
    table = made(bands, [surface], shares=5, as_="polygons" if source == "tin" else "grid").more["areas"].columns
    assert len(table["share"]) == 5
    assert table["share"] == pytest.approx(20.0, abs=1e-6 if source == "tin" else 0.1)


def test_whole_number_heights_and_flats_do_no_harm():
    rng = np.random.default_rng(3)
    z = np.round(rng.random((30, 40)) * 6.0)
    z[5:12, 8:20] = 3.0
    z[20, 20] = np.nan
    dem = Grid(name="Whole", frame=METRES, heights=z, west=0.0, north=30.0, dx=1.0, dy=1.0)
    own = list(polygons(made(bands, [dem], limits="1, 2, 3, 4, 5").dataset).values())
    whole = shapely.union_all(own).area
    assert sum(each.area for each in own) == pytest.approx(whole, rel=1e-9)
    assert whole == pytest.approx(39 * 29 - 2.0, abs=1.01), "two to four half cells are missing around the gap"


def test_slope_classes_are_bands_of_a_grid_of_slope():
    steep = made(slope, [ramp(0.1)], as_="percent").dataset
    assert bands.CONVERSION.can_use(steep)
    table = made(bands, [steep], limits="5, 15").more["areas"].columns
    assert table["from"].tolist() == [5.0] and table["share"].tolist() == [100.0]
    said = declare.plain(bands.CONVERSION.sentence(declare.build(bands.BandParams, {"limits": "5, 15"}), ["Slope"]))
    assert said == "Bands of Slope, with limits at 5, 15, as polygons."


def test_what_bands_refuse():
    with pytest.raises(CallError, match="not by both"):
        made(bands, [ramp()], interval=1, shares=3)
    with pytest.raises(CallError, match="TIN"):
        made(bands, [ground(100)], as_="grid")
    with pytest.raises(ParamError, match="larger"):
        made(bands, [ramp()], interval="0.000001")


def test_arrows_point_down_the_slope():
    result = made(arrows, [ramp(0.1)], spacing=10)
    own = result.dataset
    assert own.attributes["bearing"] == pytest.approx(270.0) and own.attributes["slope_percent"] == pytest.approx(10.0)
    for k in range(len(own)):
        tail, tip = own.line(k)[0], own.line(k)[1]
        assert tip[0] < tail[0] and tip[2] < tail[2]
    with pytest.raises(DataError, match="nowhere"):
        made(arrows, [ramp(0.001)], spacing=10)


def lines(*courses):
    return from_lines("Edge", METRES, [np.array(each, float) for each in courses], ["EDGE"] * len(courses))


def test_offset_of_a_right_angle_worked_by_hand():
    """East then north; 3 to the right is south of the first leg and east of the second, meeting at (13, -3)."""
    own = made(offset, [lines([(0, 0, 5), (10, 0, 6), (10, 10, 7)])], by="3m", rise="0.3m").dataset
    assert own.vertices[:, :2] == pytest.approx(np.array([(0, -3), (13, -3), (13, 10)]), abs=1e-9)
    assert own.vertices[:, 2] == pytest.approx([5.3, 6.3, 7.3])
    left = made(offset, [lines([(0, 0, 5), (10, 0, 6), (10, 10, 7)])], by="-3m").dataset
    assert left.vertices[:, :2] == pytest.approx(np.array([(0, 3), (7, 3), (7, 10)]), abs=1e-9)
    arc = made(offset, [lines([(0, 0, 5), (10, 0, 6), (10, 10, 7)])], by="3m", corners="round").dataset
    away = np.hypot(*(arc.vertices[:, :2] - (10, 0)).T)
    assert len(arc.vertices) > 10 and away.min() == pytest.approx(3.0, abs=1e-6)


@pytest.mark.parametrize("turned", [False, True])
def test_offset_of_a_ring(turned):
    square = [(0, 0, 1), (20, 0, 2), (20, 20, 3), (0, 20, 4), (0, 0, 1)]
    own = made(offset, [lines(square[::-1] if turned else square)], by="2m").dataset
    # To the right of a ring that runs counter-clockwise is outside.
    assert shapely.Polygon(own.vertices[:, :2]).area == pytest.approx(16.0**2 if turned else 24.0**2)
    assert own.closed().all()
    with pytest.raises(DataError, match="too narrow"):
        made(offset, [lines(square)], by="-11m")


def test_every_place_beside_a_line_is_so_far_away():
    rng = np.random.default_rng(2)
    wild = np.column_stack((np.cumsum(rng.random(40) * 6), np.cumsum(rng.normal(0, 3, 40)), rng.random(40)))
    for by in ("2.5m", "-2.5m"):
        own = made(offset, [lines(wild)], by=by, corners="round").dataset
        far = shapely.distance(shapely.LineString(wild[:, :2]), shapely.points(own.vertices[:, :2]))
        assert far.min() > 2.49 and far.max() < 2.51
    up = made(offset, [lines(wild)], rise="-1m").dataset
    assert np.allclose(up.vertices, wild - (0, 0, 1.0))


def test_points_along_a_line():
    edge = lines([(0, 0, 0), (10, 0, 1), (10, 15, 4)])
    own = made(along, Inputs.of_pairs([("lines", edge)]), spacing="10m").dataset
    assert own.xyz == pytest.approx(np.array([(0, 0, 0), (10, 0, 1), (10, 10, 3), (10, 15, 4)]))
    assert own.attributes["distance"] == pytest.approx([0, 10, 20, 25])
    assert own.attributes["code"].tolist() == [b"EDGE"] * 4
    tin = ground()
    flat = lines([(ORIGIN[0] + 20, ORIGIN[1] + 20, np.nan), (ORIGIN[0] + 120, ORIGIN[1] + 90, np.nan)])
    laid = made(along, Inputs.of_pairs([("lines", flat), ("surface", tin)]), spacing="7m").dataset
    assert np.allclose(laid.xyz[:, 2], heights(tin, np.ascontiguousarray(laid.xyz[:, :2])))
    with pytest.raises(DataError, match="surface"):
        made(along, Inputs.of_pairs([("lines", flat)]), spacing="7m")


def test_points_at_random_come_again_with_their_seed():
    tin = ground()
    one, two, other = (made(scatter, [tin], number=500, seed=seed).dataset.xyz for seed in (7, 7, 8))
    assert np.array_equal(one, two) and not np.array_equal(one, other)
    assert len(one) == 500 and np.allclose(one[:, 2], heights(tin, np.ascontiguousarray(one[:, :2])))
    box = f"{ORIGIN[0] + 50},{ORIGIN[1] + 50},{ORIGIN[0] + 60},{ORIGIN[1] + 60}"
    inside = made(scatter, [tin], number=50, area=box).dataset.xyz
    assert ((inside[:, :2] >= np.array(ORIGIN) + 50) & (inside[:, :2] <= np.array(ORIGIN) + 60)).all()


def test_a_cone_meets_a_plane_in_a_circle():
    east, north = np.meshgrid(np.arange(101.0), np.arange(101.0))
    cone = Grid(name="Cone", frame=METRES, heights=40.0 - np.hypot(east - 50, north - 50), west=0.0, north=101.0, dx=1.0, dy=1.0)  # fmt: skip
    flat = Grid(name="Flat", frame=METRES, heights=np.full((101, 101), 10.0), west=0.0, north=101.0, dx=1.0, dy=1.0)
    own = made(no_change, Inputs.of_pairs([("first", cone), ("second", flat)])).dataset
    assert len(own) == 1 and own.closed().all()
    assert np.hypot(*(own.vertices[:, :2] - 50.5).T) == pytest.approx(30.0, abs=0.02)
    assert own.vertices[:, 2] == pytest.approx(10.0)


def test_two_planes_meet_in_a_straight_line():
    places = scattered(900).xyz[:, :2]
    one = _plane(places, lambda x, y: 200 + 0.1 * x)
    two = _plane(scattered(700, seed=5).xyz[:, :2], lambda x, y: 205 + 0.05 * x + 0.02 * y)
    own = made(no_change, Inputs.of_pairs([("first", one), ("second", two)])).dataset
    x, y = (own.vertices[:, :2] - ORIGIN).T
    assert np.abs(0.05 * x - 5 - 0.02 * y).max() < 1e-6
    with pytest.raises(DataError, match="nowhere"):
        made(no_change, Inputs.of_pairs([("first", one), ("second", _plane(places, lambda x, y: 100 + 0 * x))]))


def _plane(places, height) -> Tin:
    points = scattered(len(places), height=height)
    from vastgrid.conversions.surfaces import tin as tin_conversion

    x, y = (places - ORIGIN).T
    import dataclasses

    points = dataclasses.replace(points, xyz=np.column_stack((places, height(x, y))))
    return tin_conversion.run([points], tin_conversion.TinParams(), Silent()).dataset
