"""Data moved, turned and scaled, and heights changed: by closed form, by shapely's affinity, by PROJ."""

import dataclasses
import json
import math
import struct

import numpy as np
import pyproj
import pytest
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st
from shapely import affinity

from builders import METRES, ORIGIN, ground, scattered, sound
from examples import examples
from vastgrid.base.errors import CallError, DataError, ParamError
from vastgrid.base.progress import Silent
from vastgrid.base.quantities import Unit
from vastgrid.conversions.whole import heights, move
from vastgrid.data.frame import Frame, epsg_code, height_system
from vastgrid.data.grid import Grid
from vastgrid.data.linework import Contours
from vastgrid.execution.steps import convert
from vastgrid.measures.grid_ground import gaussian_radius, grid_factors
from vastgrid.params import declare
from vastgrid.params.kinds import Steps
from vastgrid.terrain.place.moving import Motion

KINDS = ("points", "lines", "contours", "tin", "grid", "mesh", "survey")


def done(conversion, data, **words):
    params = declare.build(conversion.params, words)
    result, params = convert(conversion, [data], params, Silent())
    return result


def plain_grid(heights=None, **options):
    heights = np.arange(12.0).reshape(3, 4) if heights is None else heights
    values = {"west": 100.0, "north": 50.0, "dx": 2.0, "dy": 3.0, **options}
    return Grid(name="Heights", frame=METRES, heights=heights, **values)


@pytest.mark.parametrize("kind", KINDS)
def test_every_kind_is_shifted_to_the_last_bit(kind):
    data = examples()[kind]
    made = done(move.CONVERSION, data, by="100,200,0.5").dataset
    assert type(made) is type(data)
    assert np.array_equal(made.coordinates(), data.coordinates() + (100.0, 200.0, 0.5))
    assert made.frame == data.frame and made.count() == data.count()


@pytest.mark.parametrize("kind", [each for each in KINDS if each != "grid"])
@pytest.mark.parametrize("turn", [12.5, 90.0, -30.0, 400.0])
def test_plan_is_turned_and_scaled_as_shapely_does(kind, turn):
    """General-purpose reference: shapely.affinity (rotate is counter-clockwise about an origin)."""
    data = examples()[kind]
    about = (431_000.0, 887_000.0)
    made = done(move.CONVERSION, data, by="100,200,0.5", turn=str(turn), scale="1.0002", about="431000,887000").dataset
    before = shapely.MultiPoint(data.coordinates()[:, :2])
    true = affinity.translate(
        affinity.scale(affinity.rotate(before, turn, about), 1.0002, 1.0002, origin=about), 100, 200
    )
    np.testing.assert_allclose(made.coordinates()[:, :2], shapely.get_coordinates(true), rtol=0, atol=2e-9)
    np.testing.assert_allclose(made.coordinates()[:, 2], data.coordinates()[:, 2] + 0.5, atol=1e-12)


def test_a_moved_surface_is_sound_with_all_it_was_built_from():
    tin = ground(800)
    made = done(move.CONVERSION, tin, turn="33", scale="2").dataset
    assert sound(made) == pytest.approx(4.0 * sound(tin), rel=1e-12)
    assert len(made.source_points) == len(tin.source_points)
    back = done(
        move.CONVERSION, made, turn="-33", scale="0.5", about=move.settle([tin], move.MoveParams(turn=33.0)).about
    )
    np.testing.assert_allclose(back.dataset.vertices, tin.vertices, atol=1e-8)


@given(
    st.floats(-720, 720), st.floats(0.01, 50), st.tuples(st.floats(-1e4, 1e4), st.floats(-1e4, 1e4)),
    st.tuples(st.floats(-1e5, 1e5), st.floats(-1e5, 1e5)),
)  # fmt: skip
@settings(max_examples=150, deadline=None)
def test_a_motion_goes_back_as_it_came(turn, scale, about, shift):
    motion = Motion(shift, turn, scale, about)
    places = np.array([(0.0, 0.0), (10.0, -3.0), (-250.5, 777.25)])
    away = max(map(abs, (*about, *shift, 1000.0)))
    np.testing.assert_allclose(motion.back(motion.plan(places)), places, atol=1e-11 * away * max(scale, 1 / scale))


# -- grids


def test_a_shifted_grid_keeps_every_cell():
    grid = plain_grid()
    made = done(move.CONVERSION, grid, by="10,20").dataset
    assert np.array_equal(made.heights, grid.heights) and (made.west, made.north) == (110.0, 70.0)
    assert (made.dx, made.dy) == (grid.dx, grid.dy)


@pytest.mark.parametrize("turn", [90, 180, 270, -90, 360, 450])
def test_quarters_of_a_circle_sample_nothing(turn):
    grid = plain_grid()
    result = done(move.CONVERSION, grid, turn=str(turn), about="100,50")
    made = result.dataset
    assert result.loss is None and not [each for each in result.findings if each.code == "grid-sampled"]
    x, y = np.meshgrid(grid.eastings(), grid.northings())
    true = Motion(turn=float(turn), about=(100.0, 50.0)).plan(np.column_stack((x.ravel(), y.ravel())))
    column = np.rint((true[:, 0] - made.west) / made.dx - 0.5).astype(int)
    row = np.rint((made.north - true[:, 1]) / made.dy - 0.5).astype(int)
    assert np.array_equal(made.heights[row, column], grid.heights.ravel())
    np.testing.assert_allclose(made.eastings()[column], true[:, 0], atol=1e-12)
    np.testing.assert_allclose(made.northings()[row], true[:, 1], atol=1e-12)


def test_a_scaled_grid_keeps_every_height():
    made = done(move.CONVERSION, plain_grid(), scale="2", about="100,50").dataset
    assert (made.dx, made.dy, made.west, made.north) == (4.0, 6.0, 100.0, 50.0)
    assert np.array_equal(made.heights, plain_grid().heights)


def test_a_turned_grid_of_a_plane_is_the_plane_and_says_what_it_cost():
    """A plane is reproduced by bilinear sampling to rounding (closed form)."""
    x, y = np.meshgrid(np.arange(40) * 2.0 + 101.0, 48.5 - np.arange(30) * 3.0)
    grid = plain_grid(200.0 + 0.1 * x - 0.05 * y)
    result = done(move.CONVERSION, grid, turn="30", about="100,50")
    made = result.dataset
    assert [each.code for each in result.findings] == ["grid-sampled"]
    assert result.loss.largest < 1e-9 and 0.85 < result.loss.share <= 1.0
    x, y = np.meshgrid(made.eastings(), made.northings())
    back = Motion(turn=30.0, about=(100.0, 50.0)).back(np.column_stack((x.ravel(), y.ravel())))
    true = 200.0 + 0.1 * back[:, 0] - 0.05 * back[:, 1]
    known = np.isfinite(made.heights.ravel())
    assert known.sum() > 900
    np.testing.assert_allclose(made.heights.ravel()[known], true[known], atol=1e-9)


def test_a_rough_grid_that_is_turned_says_what_it_lost():
    rng = np.random.default_rng(4)
    result = done(move.CONVERSION, plain_grid(rng.random((60, 60)) * 5.0), turn="17")
    assert 0.1 < result.loss.largest < 5.0 and result.loss.rmse < result.loss.largest


def test_a_grid_of_slopes_is_moved_as_well_but_not_up():
    grid = plain_grid(quantity="slope", measure="%")
    assert done(move.CONVERSION, grid, by="1,1").dataset.quantity == "slope"
    with pytest.raises(CallError, match="no heights"):
        done(move.CONVERSION, grid, by="1,1,5")


# -- what is said


@pytest.mark.parametrize(
    ("words", "why"),
    [
        ({}, "say how it is to be moved"), ({"turn": "10", "about": "here"}, "is not a place"), ({"by": "5"}, "is not east,north"),
        ({"scale": "0"}, "more than 0"), ({"by": "1,2,3,4"}, "is not east,north"),
    ],
)  # fmt: skip
def test_what_cannot_be_moved_so_is_refused(words, why):
    with pytest.raises((CallError, ParamError), match=why):
        done(move.CONVERSION, scattered(20), **words)


def test_degrees_are_shifted_but_not_turned():
    data = scattered(20).with_coordinates(1e-5, 1.0, Frame("EPSG:4326", Unit.DEGREE, Unit.METRE))
    assert done(move.CONVERSION, data, by="0.001,0.001").dataset is not None
    with pytest.raises(CallError, match="cannot be turned"):
        done(move.CONVERSION, data, turn="5")


def test_lengths_with_units_are_brought_into_those_of_the_data():
    feet = Frame(None, Unit.FOOT, Unit.FOOT)
    data = scattered(20).with_coordinates(1.0, 1.0, feet)
    made = done(move.CONVERSION, data, by="3.048m,0m,0.3048m").dataset
    np.testing.assert_allclose(made.xyz - data.xyz, [(10.0, 0.0, 1.0)] * 20, atol=1e-9)


def test_steps_are_kept_and_spoken():
    own = declare.build(move.MoveParams, {"by": "100, 200m, -0.5"}).by
    assert declare.build(move.MoveParams, {"by": declare.value_text(own)}).by == own
    assert (
        str(own) == "100 east, 200 m north and -0.5 up"
        and str(Steps(own.east, own.north)) == "100 east and 200 m north"
    )
    assert declare.value_text(own) == "100.0,200.0m,-0.5"


def test_labels_of_contours_go_along():
    from vastgrid.conversions.lines import labels

    own = examples()["contours"]
    params = labels.settle([own], declare.build(labels.LabelParams, {"only": "all"}))
    labelled = labels.run([own], params, Silent()).dataset
    assert isinstance(labelled, Contours) and len(labelled.labels["place"])
    made = done(move.CONVERSION, labelled, by="10,0,2", turn="90", scale="2", about="431000,887000").dataset
    true = Motion((10.0, 0.0), 90.0, 2.0, ORIGIN).plan(labelled.labels["place"])
    np.testing.assert_allclose(made.labels["place"], true)
    np.testing.assert_allclose(made.labels["angle"] - labelled.labels["angle"], math.pi / 2.0)
    np.testing.assert_allclose(made.labels["level"], labelled.labels["level"] + 2.0)
    assert made.label_height == pytest.approx(2.0 * labelled.label_height)


# -- heights


@pytest.mark.parametrize("kind", KINDS)
def test_heights_are_multiplied_and_raised(kind):
    data = examples()[kind]
    made = done(heights.CONVERSION, data, times="0.3048", add="0.35m").dataset
    np.testing.assert_allclose(made.coordinates()[:, 2], data.coordinates()[:, 2] * 0.3048 + 0.35, atol=1e-12)
    assert np.array_equal(made.coordinates()[:, :2], data.coordinates()[:, :2])


def test_what_has_no_height_gets_none():
    data = scattered(30)
    xyz = data.xyz.copy()
    xyz[::3, 2] = np.nan
    made = done(heights.CONVERSION, dataclasses.replace(data, xyz=xyz), add="1").dataset
    assert np.isnan(made.xyz[::3, 2]).all() and np.isfinite(np.delete(made.xyz[:, 2], np.s_[::3])).all()


@pytest.mark.parametrize(
    ("words", "why"),
    [
        ({}, "say how heights are to change"), ({"geoid": "none.gtx"}, "needs its direction"), ({"to": "orthometric", "add": "1"}, "needs a geoid"),
        ({"geoid": "missing.gtx", "to": "orthometric"}, "there is no geoid grid"), ({"times": "0"}, "more than 0"),
    ],
)  # fmt: skip
def test_heights_that_cannot_change_so_are_refused(words, why):
    with pytest.raises((CallError, ParamError), match=why):
        done(
            heights.CONVERSION,
            scattered(20).with_coordinates(1.0, 1.0, Frame("EPSG:25832", Unit.METRE, Unit.METRE)),
            **words,
        )
    with pytest.raises(CallError, match="no heights"):
        done(heights.CONVERSION, plain_grid(quantity="slope", measure="%"), add="1")


def gtx(path, value, west=7.0, south=47.0, step=0.25, rows=17, columns=17):
    """Write a geoid grid: big-endian header, then heights row by row from the south (NOAA's GTX, as GDAL and PROJ read it)."""
    lat, lon = south + step * np.arange(rows), west + step * np.arange(columns)
    values = value(lon[None, :], lat[:, None]) * np.ones((rows, columns))
    path.write_bytes(struct.pack(">4d2i", south, west, step, step, rows, columns) + values.astype(">f4").tobytes())
    return path


def plane(lon, lat):
    return 46.0 + 0.5 * (lon - 9.0) - 0.25 * (lat - 49.0)


@pytest.fixture
def geoid(tmp_path):
    return gtx(tmp_path / "plane of a geoid.gtx", plane)


def in_utm(data):
    frame = Frame("EPSG:25832", Unit.METRE, Unit.METRE)
    return data.with_coordinates(1.0, 1.0, frame)


def somewhere(count=400, seed=3):
    rng = np.random.default_rng(seed)
    xyz = np.column_stack(
        (rng.uniform(450_000, 550_000, count), rng.uniform(5_330_000, 5_460_000, count), rng.uniform(100, 900, count))
    )
    return dataclasses.replace(in_utm(scattered(count)), xyz=xyz)


def test_a_geoid_brings_heights_from_the_ellipsoid_and_back(geoid):
    """Closed form: in a plane of longitude and latitude, which bilinear interpolation keeps; 0.1 mm is asked for."""
    data = somewhere()
    result = done(heights.CONVERSION, data, geoid=str(geoid), to="orthometric")
    lon, lat = pyproj.Transformer.from_crs("EPSG:25832", "EPSG:4258", always_xy=True).transform(
        data.xyz[:, 0], data.xyz[:, 1]
    )
    np.testing.assert_allclose(result.dataset.xyz[:, 2], data.xyz[:, 2] - plane(lon, lat), atol=1e-4)
    (told,) = [each.text for each in result.findings if each.code == "height-example"]
    assert "ellipsoidal" in told and "becomes orthometric" in told
    back = done(heights.CONVERSION, result.dataset, geoid=str(geoid), to="ellipsoidal").dataset
    np.testing.assert_allclose(back.xyz[:, 2], data.xyz[:, 2], atol=1e-9)


def test_a_geoid_is_interpolated_as_proj_does(tmp_path):
    """Against PROJ's own pipeline from projected coordinates, in one step (proj.org, “vgridshift”)."""
    rough = gtx(tmp_path / "rough.gtx", lambda lon, lat: 40.0 + np.sin(lon * 9.0) * np.cos(lat * 7.0))
    data = somewhere(2000, 8)
    made = done(heights.CONVERSION, data, geoid=str(rough), to="orthometric").dataset
    own = pyproj.Transformer.from_pipeline(
        f"+proj=pipeline +step +inv +proj=utm +zone=32 +ellps=GRS80 +step +proj=vgridshift +grids={rough} +step +proj=utm +zone=32 +ellps=GRS80"
    )
    true = own.transform(*data.xyz.T)[2]
    np.testing.assert_allclose(made.xyz[:, 2], true, atol=1e-4)


def test_feet_stay_feet(geoid):
    data = somewhere().with_coordinates(1.0, 1.0 / 0.3048, Frame("EPSG:25832", Unit.METRE, Unit.FOOT))
    metres = somewhere()
    feet = done(heights.CONVERSION, data, geoid=str(geoid), to="orthometric").dataset
    true = done(heights.CONVERSION, metres, geoid=str(geoid), to="orthometric").dataset
    np.testing.assert_allclose(feet.xyz[:, 2] * 0.3048, true.xyz[:, 2], atol=1e-9)


def test_outside_the_geoid_is_refused_by_count(geoid):
    data = in_utm(scattered(50))
    with pytest.raises(DataError, match=r"50 places of 50 lie outside the geoid grid"):
        done(heights.CONVERSION, data, geoid=str(geoid), to="orthometric")
    with pytest.raises(CallError, match="reference system of the data is unknown"):
        done(heights.CONVERSION, scattered(5), geoid=str(geoid), to="orthometric")
    broken = geoid.with_name("broken.gtx")
    broken.write_bytes(b"nothing")
    with pytest.raises(DataError, match=r"broken\.gtx"):
        done(heights.CONVERSION, somewhere(), geoid=str(broken), to="orthometric")


def test_outside_the_geoid_is_left_out_by_count_where_asked(geoid):
    data = somewhere(300)
    far = data.xyz.copy()
    far[::3, 0] += 1_000_000.0
    mixed = dataclasses.replace(data, xyz=far)
    result = done(heights.CONVERSION, mixed, geoid=str(geoid), to="orthometric", outside="drop")
    true = done(heights.CONVERSION, data, geoid=str(geoid), to="orthometric").dataset
    kept = np.ones(300, np.bool_)
    kept[::3] = False
    np.testing.assert_allclose(result.dataset.xyz, true.xyz[kept], atol=1e-9)
    (told,) = [each for each in result.findings if each.code == "outside-geoid"]
    assert told.text.startswith("100 points of") and told.drops
    with pytest.raises(DataError, match="all of Points lies outside"):
        done(heights.CONVERSION, in_utm(scattered(50)), geoid=str(geoid), to="orthometric", outside="drop")


def test_a_system_of_heights_that_is_left_is_no_longer_named(geoid):
    frame = Frame("EPSG:25832+5783", Unit.METRE, Unit.METRE)
    data = somewhere(20).with_coordinates(1.0, 1.0, frame)
    result = done(heights.CONVERSION, data, geoid=str(geoid), to="ellipsoidal")
    assert height_system(result.dataset.frame.crs) == "" and epsg_code(result.dataset.frame.crs) == 25832
    assert any(each.code == "height-system-left" and "DHHN92" in each.text for each in result.findings)
    raised = done(heights.CONVERSION, data, add="1m").dataset
    assert height_system(raised.frame.crs), "raised heights are in the same system"


def test_a_grid_takes_the_geoid_of_each_cell_and_contours_cannot(geoid):
    xyz = somewhere(1).xyz[0]
    frame = Frame("EPSG:25832", Unit.METRE, Unit.METRE)
    grid = Grid(name="H", frame=frame, heights=np.full((5, 7), 300.0), west=xyz[0], north=xyz[1], dx=100.0, dy=100.0)
    made = done(heights.CONVERSION, grid, geoid=str(geoid), to="orthometric").dataset
    points = done(heights.CONVERSION, somewhere(), geoid=str(geoid), to="orthometric").dataset
    assert points is not None and np.ptp(made.heights) > 1e-4
    lon, lat = pyproj.Transformer.from_crs("EPSG:25832", "EPSG:4258", always_xy=True).transform(
        *(each.ravel() for each in np.meshgrid(grid.eastings(), grid.northings()))
    )
    np.testing.assert_allclose(made.heights.ravel(), 300.0 - plane(lon, lat), atol=1e-4)
    with pytest.raises(CallError, match="make them again"):
        done(heights.CONVERSION, in_utm(examples()["contours"]), geoid=str(geoid), to="orthometric")


def test_moving_is_asked_for_on_the_command_line(tmp_path, run_cli):
    np.savetxt(
        tmp_path / "a.csv", scattered(40).xyz, fmt="%.3f", delimiter=",", header="E (m),N (m),Z (m)", comments=""
    )
    words = ["--via", "move", "by=100,200,0.5", "turn=12.5", "about=431000,887000", "scale=1.0002"]
    code, out, err = run_cli("convert", tmp_path / "a.csv", tmp_path / "b.csv", *words)
    assert code == 0, err
    assert (
        "a moved by 100 m east, 200 m north and 0.5 m up, turned by 12.5°, scaled by 1.0002 about 431000,887000." in out
    )
    before = np.loadtxt(tmp_path / "a.csv", delimiter=",", skiprows=1)
    after = np.loadtxt(tmp_path / "b.csv", delimiter=",", skiprows=1)
    true = Motion((100.0, 200.0), 12.5, 1.0002, ORIGIN, 0.5).places(before)
    np.testing.assert_allclose(after, true, atol=6e-5)
    code, out, err = run_cli("convert", tmp_path / "a.csv", tmp_path / "c.las", "--via", "heights", "times=0.3048")
    assert code == 0 and "times 0.3048" in out, err


def test_clouds_with_heights_worked_out_go_into_las(tmp_path, run_cli):
    """Millimetres times 0.3048 have seven decimals, too fine for 32 bits over half a kilometre: a micrometre is enough."""
    data = scattered(500, size=(500.0, 400.0))
    np.savetxt(tmp_path / "a.csv", data.xyz, fmt="%.3f", delimiter=",", header="E (m),N (m),Z (m)", comments="")
    code, _, err = run_cli("convert", tmp_path / "a.csv", tmp_path / "c.las", "--via", "heights", "times=0.3048")
    assert code == 0, err
    import laspy

    cloud = laspy.read(tmp_path / "c.las")
    np.testing.assert_allclose(np.sort(cloud.z), np.sort(np.round(data.xyz[:, 2], 3) * 0.3048), atol=6e-7)


# -- grid and ground


def test_the_gaussian_radius_is_that_of_the_ellipsoid():
    """WGS 84 (NIMA TR8350.2): at the poles a²/b, at the equator b; GRS 80 at 45° by closed form."""
    a, rf = 6_378_137.0, 298.257223563
    b = a * (1.0 - 1.0 / rf)
    assert gaussian_radius(a, rf, 0.0) == pytest.approx(b, rel=1e-12)
    assert gaussian_radius(a, rf, 90.0) == pytest.approx(a * a / b, rel=1e-12)
    assert gaussian_radius(6_371_000.0, 0.0, 37.0) == 6_371_000.0


def test_factors_are_those_of_the_projection():
    """On the central meridian of UTM k is 0.9996 and there is no convergence (definition of UTM); beside it γ ≈ Δλ·sin φ."""
    data = dataclasses.replace(
        in_utm(scattered(4)),
        xyz=np.array([(499_990.0, 5_538_000.0, 500.0), (500_010.0, 5_538_020.0, 500.0)]),
        attributes={},
    )
    own = grid_factors(data)
    assert own.scale == pytest.approx(0.9996, abs=1e-9) and own.convergence == pytest.approx(0.0, abs=1e-9)
    radius = gaussian_radius(6_378_137.0, 298.257222101, 50.0)
    assert own.combined == pytest.approx(0.9996 * radius / (radius + 500.0), rel=1e-8)
    moved_east = dataclasses.replace(data, xyz=data.xyz + (71_600.0, 0.0, 0.0))
    east = grid_factors(moved_east)
    assert east.convergence == pytest.approx(math.sin(math.radians(50.0)), abs=2e-3), (
        "grid north lies east of true north"
    )
    assert east.scale > own.scale
    assert grid_factors(scattered(4)) is None
    assert grid_factors(data.with_coordinates(1e-5, 1.0, Frame("EPSG:4326", Unit.DEGREE, Unit.METRE))) is None


def test_info_tells_the_factors(tmp_path, run_cli):
    path = tmp_path / "utm.geojson"
    places = [[9.0, 50.0, 100.0], [9.001, 50.001, 101.0]]
    path.write_text(
        json.dumps(
            {
                "type": "FeatureCollection",
                "features": [
                    {"type": "Feature", "properties": {}, "geometry": {"type": "Point", "coordinates": each}}
                    for each in places
                ],
            }
        )
    )
    code, _, err = run_cli("convert", path, tmp_path / "utm.gpkg", "--via", "reproject", "crs=EPSG:25832")
    assert code == 0, err
    code, out, _ = run_cli("info", tmp_path / "utm.gpkg", "--json")
    own = json.loads(out)["datasets"][0]
    assert own["scale_factor"] == pytest.approx(0.9996, abs=1e-7) and abs(own["convergence"]) < 1e-3
    assert own["combined_factor"] < own["scale_factor"]
    code, out, _ = run_cli("info", tmp_path / "utm.gpkg")
    assert "scale factor" in out and "convergence" in out
    code, out, _ = run_cli("info", path, "--json")
    assert "scale_factor" not in json.loads(out)["datasets"][0]
