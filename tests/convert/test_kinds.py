"""Conversions that reach every kind: reprojection of each, courses of records, and the chains that find them."""

import json

import numpy as np
import pyproj
import pytest

from builders import HANDMADE, ground, scattered
from vastgrid import catalog
from vastgrid.base.errors import CallError, DataError, ParamError
from vastgrid.base.progress import Silent
from vastgrid.base.quantities import Unit
from vastgrid.conversions.grids import grid
from vastgrid.conversions.lines import contours
from vastgrid.conversions.lines import records_to_lines as courses
from vastgrid.conversions.whole import reproject, system
from vastgrid.data.frame import Frame, frame_of_crs
from vastgrid.data.linework import Contours, Linework, from_lines
from vastgrid.data.mesh import Mesh
from vastgrid.data.survey import Record, Survey, survey_of
from vastgrid.data.tin import Tin
from vastgrid.execution.steps import convert, read_file
from vastgrid.params import declare
from vastgrid.terrain.place.reproject import utm_zone

# The builders' places, moved by a round figure into UTM zone 32.
UTM = Frame(frame_of_crs("EPSG:32632").crs, Unit.METRE, Unit.METRE)
NORTH = np.array((0.0, 4_400_000.0, 0.0))


def kinds():
    tin = ground(300)
    moved = Tin(name="Ground", frame=UTM, vertices=tin.vertices + NORTH, triangles=tin.triangles)
    level = contours.run([moved], contours.settle([moved], contours.ContourParams()), Silent()).dataset
    line = moved.vertices[:3]
    return {
        "points": scattered(50, frame=UTM).renamed("Pegs"),
        "tin": moved,
        "mesh": Mesh(name="m", frame=UTM, vertices=moved.vertices, triangles=moved.triangles),
        "contours": level,
        "lines": from_lines("l", UTM, [line], ["KERB"]),
        "survey": survey_of("s", UTM, [Record("alignment", "a", line, {"geometry": [], "station": 5.0})]),
        "grid": grid.run([moved], grid.settle([moved], grid.GridParams()), Silent()).dataset,
    }


@pytest.mark.parametrize("kind", ["tin", "mesh", "contours", "lines", "survey"])
def test_every_kind_moves_vertex_by_vertex(kind):
    source = kinds()[kind]
    params = reproject.ReprojectParams("EPSG:25833")
    result, _ = convert(reproject.CONVERSION, [source], params, Silent())
    moved = result.dataset
    assert type(moved) is type(source) and moved.count() == source.count()
    want = pyproj.Transformer.from_crs(32632, 25833, always_xy=True).transform(*source.coordinates()[:, :2].T)
    np.testing.assert_allclose(moved.coordinates()[:, :2], np.column_stack(want), atol=1e-6)
    np.testing.assert_array_equal(moved.coordinates()[:, 2], source.coordinates()[:, 2])
    assert "UTM zone 33N" in moved.frame.describe()
    if isinstance(moved, Contours):
        assert moved.interval == source.interval and (moved.index == source.index).all()
    if isinstance(moved, Survey):
        assert "geometry" not in json.loads(moved.exact[0])
        assert any(finding.code == "records-flattened" for finding in result.findings)


def test_there_and_back():
    for kind, source in kinds().items():
        if kind == "grid":
            continue
        there = convert(reproject.CONVERSION, [source], reproject.ReprojectParams("EPSG:4326"), Silent())[0].dataset
        assert there.frame.horizontal is Unit.DEGREE
        back = convert(reproject.CONVERSION, [there], reproject.ReprojectParams("EPSG:32632"), Silent())[0].dataset
        np.testing.assert_allclose(back.coordinates()[:, :2], source.coordinates()[:, :2], atol=1e-6)


def test_into_feet_and_the_plan_only():
    """EPSG:2992 is in international feet: plan coordinates follow, heights stay what they are."""
    source = kinds()["points"].in_frame(Frame(frame_of_crs("EPSG:32610").crs, Unit.METRE, Unit.METRE))
    source = type(source)(name="p", frame=source.frame, xyz=np.array([(500_000.0, 4_900_000.0, 100.0)]))
    moved = convert(reproject.CONVERSION, [source], reproject.ReprojectParams("EPSG:2992"), Silent())[0].dataset
    assert moved.frame.horizontal is Unit.FOOT and moved.frame.vertical is Unit.METRE
    assert moved.xyz[0, 2] == 100.0 and moved.xyz[0, 0] > 1e5


@pytest.mark.parametrize(
    ("place", "zone"),
    [
        ((8.25, 47.5), 32632),
        ((-122.6, 45.5), 32610),
        ((151.2, -33.9), 32756),
        ((179.99, 1.0), 32660),
        ((-180.0, 1.0), 32601),
    ],
)
def test_the_utm_zone_of_a_place(place, zone):
    assert utm_zone(*place) == f"EPSG:{zone}"
    area = pyproj.CRS.from_epsg(zone).area_of_use
    assert area.west - 1e-6 <= place[0] <= area.east + 1e-6


def test_the_zone_is_suggested_for_degrees_only():
    degrees = convert(reproject.CONVERSION, [kinds()["points"]], reproject.ReprojectParams("EPSG:4326"), Silent())[
        0
    ].dataset
    assert reproject.settle([degrees], reproject.ReprojectParams()).crs == "EPSG:32632"
    with pytest.raises(CallError, match="name the system"):
        convert(reproject.CONVERSION, [kinds()["points"]], reproject.ReprojectParams(), Silent())


@pytest.mark.parametrize("layers", ["role", "name"])
def test_courses_of_records(layers):
    survey = read_file(HANDMADE / "road.xml", {}, Silent()).datasets[1]
    params = declare.build(courses.CourseParams, {"layers": layers})
    result, _ = convert(courses.CONVERSION, [survey], params, Silent())
    lines = result.dataset
    assert isinstance(lines, Linework) and len(lines) == 3
    wanted = {"ALIGNMENT", "PARCEL", "PLAN FEATURE"} if layers == "role" else {"CL", "Lot 1", "wall"}
    assert set(lines.layers) == wanted
    np.testing.assert_array_equal(lines.vertices, survey.vertices)


def test_single_places_have_no_course():
    place = np.array([(1.0, 2.0, 3.0)])
    photos = survey_of("s", UTM, [Record("photo position", "p", place, {})])
    with pytest.raises(DataError, match="none has a course"):
        courses.run([photos], courses.CourseParams(), Silent())
    both = survey_of("s", UTM, [Record("photo position", "p", place, {}), Record("trajectory", "t", np.eye(3), {})])
    result = courses.run([both], courses.CourseParams(), Silent())
    assert "1 record of 2 without a course (single places)" in result.findings[0].text


@pytest.mark.parametrize(
    ("kind", "target", "wanted"),
    [
        ("survey", "dxf", []),
        ("survey", "landxml", []),
        ("mesh", "landxml", ["upper"]),
        ("mesh", "geotiff", ["upper", "grid"]),
        ("points", "gpx", []),
        ("tin", "kml", ["points"]),
        ("contours", "geotiff", ["tin", "grid"]),
        ("lines", "landxml", []),
        ("lines", "dxf", []),
        ("contours", "dxf", []),
        ("points", "landxml", []),
        ("points", "geotiff", ["tin", "grid"]),
        ("grid", "dxf", ["facets"]),
    ],
)
def test_chains_are_found(kind, target, wanted):
    own = catalog.format_named(target)
    steps = catalog.chain([kinds()[kind]], own.carries.kinds, own.title)
    assert [each.id for each in steps] == wanted


def test_what_is_never_put_in_unasked():
    automatic = {each.id for each in catalog.CONVERSIONS if each.automatic is not None}
    assert automatic.isdisjoint({"reproject", "system", "lattice"})


def test_alignments_reach_a_drawing(run_cli, tmp_path):
    survey = (HANDMADE / "road.xml").read_text()
    begin, end = survey.index("<CgPoints>"), survey.index("</CgPoints>") + len("</CgPoints>")
    (tmp_path / "road.xml").write_text(survey[:begin] + survey[end:])
    code, out, err = run_cli("convert", tmp_path / "road.xml", tmp_path / "road.dxf")
    assert code == 0, err
    _, out, _ = run_cli("info", tmp_path / "road.dxf", "--json")
    assert json.loads(out)["datasets"][0]["count"]["lines"] >= 2


@pytest.mark.parametrize("kind", ["points", "tin", "mesh", "contours", "lines", "survey", "grid"])
def test_a_system_that_no_file_tells_is_said_and_nothing_moves(kind):
    source = kinds()[kind]
    bare = source.in_frame(Frame(None, Unit.METRE, Unit.METRE))
    result, _ = convert(system.CONVERSION, [bare], system.SystemParams("EPSG:32632"), Silent())
    np.testing.assert_array_equal(result.dataset.coordinates(), source.coordinates())
    assert pyproj.CRS.from_user_input(result.dataset.frame.crs).to_epsg() == 32632 and not result.findings
    assert result.dataset.frame.vertical is Unit.METRE


def test_a_system_is_not_said_against_what_the_data_says():
    source = kinds()["points"]
    for crs, why in (
        ("EPSG:25833", "says itself that it is in WGS 84 / UTM zone 32N"),
        ("EPSG:2992", "is in metre in plan"),
        ("EPSG:4978", "no easting and northing"),
        ("nowhere", "not a coordinate reference system that is known"),
    ):
        words = system.SystemParams(crs, instead=crs == "EPSG:2992")
        with pytest.raises(CallError, match=why):
            convert(system.CONVERSION, [source], words, Silent())
    with pytest.raises(ParamError, match="name the system"):
        convert(system.CONVERSION, [source], system.SystemParams(), Silent())
    result, _ = convert(system.CONVERSION, [source], system.SystemParams("EPSG:31985", instead=True), Silent())
    assert "UTM zone 25S" in result.dataset.frame.describe()
    assert any("lies outside the area" in each.text for each in result.findings)
