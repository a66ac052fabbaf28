"""LandXML against a file written by hand, a second reader, and malice. Facts of the standard are from memory."""

import json

import numpy as np
import pytest
import shapely
from hypothesis import given
from hypothesis import strategies as st

from builders import HANDMADE, METRES, ground, scattered
from formats.second_landxml_reader import linear_unit, surfaces
from vastgrid import catalog
from vastgrid.base.errors import CallError, FormatError
from vastgrid.base.progress import Silent
from vastgrid.base.quantities import Length, Unit
from vastgrid.base.words import plain
from vastgrid.conversions.lines import contours
from vastgrid.conversions.surfaces.tin import TinParams, run
from vastgrid.data.areas import from_shapes
from vastgrid.data.frame import Frame
from vastgrid.data.linework import from_lines
from vastgrid.data.survey import Record, survey_of
from vastgrid.declarations.fileformat import NoParams, losses
from vastgrid.delivery.deliver import deliver
from vastgrid.execution.steps import read_file
from vastgrid.formats import landxml
from vastgrid.formats.landxml._read import Take
from vastgrid.terrain.lines.alignment import profile_heights
from vastgrid.terrain.place.units import in_units

READ, WRITE = landxml.LandXmlReadParams(), landxml.LandXmlWriteParams()


def read(path, **options):
    return landxml.read(path, landxml.LandXmlReadParams(**options), Silent())


def test_handmade_faces():
    result = read(HANDMADE / "two_definitions.xml")
    tin, points = result.datasets
    assert (tin.name, points.name) == ("Yard & ramp", "two_definitions points")
    assert tin.frame.horizontal is Unit.US_FOOT and tin.frame.vertical is Unit.US_FOOT
    # Northing comes first in the file, easting first with us.
    assert tin.vertices[0].tolist() == [2000.0, 1000.0, 10.0]
    assert len(tin.triangles) == 2, "the invisible face is not ground"
    corners = {tuple(sorted(map(tuple, tin.vertices[t].tolist()))) for t in tin.triangles}
    assert ((2000.0, 1000.0, 10.0), (2000.0, 1010.0, 12.0), (2010.0, 1010.0, 13.0)) in corners
    assert len(tin.source_points) == 2 and len(tin.break_vertices) == 4 and len(tin.limit) == 5
    assert points.xyz.tolist() == [[2000.25, 1000.5, 99.125]]
    assert points.attributes["code"].tolist() == [b"BM"]
    said = " ".join(finding.text for finding in result.findings)
    assert "1 face of Yard & ramp is marked invisible" in said
    assert "Alignment Road has no geometry" in said and "also holds the data it was built from" in said


def test_handmade_source_data():
    datasets = read(HANDMADE / "two_definitions.xml", take=Take.SOURCE).datasets
    kinds = [each.kind for each in datasets]
    assert kinds == ["points", "lines", "points"]
    lines = datasets[1]
    assert lines.layers == ("Breakline standard", "Boundary outer untrimmed", "Contour")
    assert lines.line(2)[:, 2].tolist() == [11.5, 11.5]
    assert [each.kind for each in read(HANDMADE / "two_definitions.xml", take=Take.BOTH).datasets] == [
        "tin", "points", "lines", "points",
    ]  # fmt: skip


@pytest.mark.parametrize("encoding", ["utf-8", "utf-16", "iso-8859-1"])
@pytest.mark.parametrize("prefix", ["", "lx:"])
def test_encodings_and_prefixes(tmp_path, encoding, prefix):
    import re

    text = (
        (HANDMADE / "two_definitions.xml").read_text().replace("xmlns=", f"xmlns{':' + prefix[:-1] if prefix else ''}=")
    )
    text = text.replace('<?xml version="1.0"?>', f'<?xml version="1.0" encoding="{encoding}"?>')
    text = re.sub(r"<(/?)(?=[A-Z])", rf"<\1{prefix}", text)
    (tmp_path / "a.xml").write_bytes(text.encode(encoding))
    first, second = read(tmp_path / "a.xml").datasets[0], read(HANDMADE / "two_definitions.xml").datasets[0]
    np.testing.assert_array_equal(first.vertices, second.vertices)
    np.testing.assert_array_equal(first.triangles, second.triangles)


def test_written_file_is_right_to_a_second_reader(tmp_path):
    line = np.column_stack((np.linspace(431020, 431150, 8), np.full(8, 887060.0), np.full(8, 231.5)))
    work = from_lines("edges", METRES, [line], ["EDGE"])
    tin = run([scattered(400), work], TinParams(), Silent()).dataset.renamed('Süd "A" <1> & b')
    landxml.write([tin], tmp_path / "a.xml", WRITE, Silent())
    assert linear_unit(tmp_path / "a.xml") == "meter"
    ((name, points, faces, lines, _, _, data),) = surfaces(tmp_path / "a.xml")
    assert name == tin.name
    assert len(points) == len(tin.vertices) and len(faces) == len(tin.triangles)
    for k in (0, len(points) // 2, len(points) - 1):
        north, east, z = points[k + 1]
        assert (east, north, z) == pytest.approx(tin.vertices[k].tolist(), abs=5.1e-5)
    assert faces == [tuple(t) for t in (tin.triangles + 1).tolist()]
    assert len(lines) == 1 and len(lines[0]) == 8
    assert sum(map(len, data)) == 400


def test_contours_and_units(tmp_path):
    tin = in_units(ground(800), Unit.US_FOOT, Unit.US_FOOT)
    made = contours.run([tin], contours.ContourParams(Length(5.0)), Silent()).dataset
    landxml.write([made, tin.renamed("G")], tmp_path / "a.xml", WRITE, Silent())
    assert linear_unit(tmp_path / "a.xml") == "USSurveyFoot"
    first, second = surfaces(tmp_path / "a.xml")
    assert len(first[5]) == len(made) and second[0] == "G"
    back = read(tmp_path / "a.xml").datasets
    assert [each.count() for each in back if each.kind == "lines"] == [made.count()]


def test_unit_is_needed(tmp_path):
    with pytest.raises(CallError, match="--from-units"):
        landxml.write([ground(50, frame=Frame())], tmp_path / "a.xml", WRITE, Silent())


def test_many_blocks_and_odd_elements_between(tmp_path):
    """Runs longer than a block, with an element the fast path must hand over in the middle."""
    tin = ground(60_000)
    landxml.write([tin], tmp_path / "a.xml", landxml.LandXmlWriteParams(), Silent())
    text = (tmp_path / "a.xml").read_text().replace('<P id="30000">', '<P pntRef="x" id="30000"><!-- odd -->')
    text = text.replace("<Faces>\n", "<Faces>\n<F>  1\t2\n3 </F><!-- <F>9 9 9</F> -->", 1)
    (tmp_path / "b.xml").write_text(text)
    a, b = read(tmp_path / "a.xml").datasets[0], read(tmp_path / "b.xml").datasets[0]
    np.testing.assert_array_equal(a.vertices, b.vertices)
    assert len(b.triangles) == len(a.triangles) + 1


BOMB = """<?xml version="1.0"?><!DOCTYPE LandXML [<!ENTITY a "aaaaaaaaaa"><!ENTITY b "&a;&a;&a;&a;&a;&a;&a;&a;">]>
<LandXML version="1.2"><Units><Metric linearUnit="meter"/></Units><CgPoints><CgPoint name="&b;">1 2 3</CgPoint></CgPoints></LandXML>"""
OUTSIDE = '<!DOCTYPE LandXML SYSTEM "file:///etc/passwd"><LandXML/>'


@pytest.mark.parametrize(
    ("text", "why"),
    [
        ("", "the file is empty"),
        (BOMB, "document type"),
        (OUTSIDE, "document type"),
        ("<LandXML><Surfaces><Surface></Surfaces></LandXML>", "not well-formed XML.*mismatched tag"),
        ("<html><body/></html>", "the root element is “html”"),
        ("<LandXML><Units/></LandXML>", "holds no surface"),
        ("<LandXML>" + "<a>" * 400 + "</a>" * 400 + "</LandXML>", "nested too deeply"),
        (
            "<LandXML><Surfaces><Surface name='s'><Definition><Faces><F>1 2 3</F></Faces></Definition></Surface></Surfaces></LandXML>",
            "s has faces but no points",
        ),
    ],
)
def test_bad_files(tmp_path, text, why):
    (tmp_path / "a.xml").write_text(text)
    with pytest.raises(FormatError, match=why):
        read(tmp_path / "a.xml")


def test_faces_that_name_missing_points_are_counted(tmp_path):
    text = (
        (HANDMADE / "two_definitions.xml")
        .read_text()
        .replace("<F>70 3 12</F>", "<F>70 3 12</F><F>70 3 5555</F><F>a b c</F>")
    )
    (tmp_path / "a.xml").write_text(text)
    result = read(tmp_path / "a.xml")
    assert len(result.datasets[0].triangles) == 2
    said = " ".join(finding.text for finding in result.findings)
    assert "1 face of Yard & ramp name points that are not there" in said
    assert "1 face without three points: left out." in said


def test_elements_that_are_not_read_are_counted_at_any_depth_and_once(tmp_path):
    text = (HANDMADE / "two_definitions.xml").read_text()
    more = "<Watersheds><Watershed><PntRef/></Watershed><Watershed/></Watersheds><Feature/><Feature/>"
    (tmp_path / "a.xml").write_text(text.replace("</Definition>", f"</Definition>{more}", 1))
    before, after = (
        {f.text for f in read(path).findings} for path in (HANDMADE / "two_definitions.xml", tmp_path / "a.xml")
    )
    assert after - before == {"Elements that are not read here were left out: 1 Watersheds, 2 Feature."}


def test_cut_at_every_place_is_an_error_not_a_crash(tmp_path):
    data = (HANDMADE / "two_definitions.xml").read_bytes()
    for size in range(0, len(data) - 12, 37):
        (tmp_path / "a.xml").write_bytes(data[:size])
        with pytest.raises(FormatError):
            read(tmp_path / "a.xml")


def test_handmade_records():
    """A clothoid, a circle and a vertical curve by hand; handbook formulas for what lies between (from memory)."""
    result = read(HANDMADE / "road.xml")
    points, survey = result.datasets
    assert points.attributes["description"].tolist() == [b"brass pin", b""]
    by_role = {record.role: record for record in survey.records()}
    assert set(by_role) == {"alignment", "parcel", "plan feature"}
    assert any("1 Roadways" in finding.text for finding in result.findings)
    road = by_role["alignment"]
    along = np.concatenate(([0.0], np.cumsum(np.hypot(*np.diff(road.line[:, :2], axis=0).T))))
    # Tangent offset of a clothoid: L² / 6R, less L⁴ / 336R³; its end was given to the millimetre.
    end = road.line[np.searchsorted(along, 160.0 - 1e-3)]
    offset = 60.0**2 / (6 * 200.0) - 60.0**4 / (336 * 200.0**3)
    assert end[1] - 5000.0 == pytest.approx(offset, abs=5e-3)
    # The vertical curve: y = y0 + g1 x + (g2 - g1) x² / 2L, at its beginning, middle and end.
    g1, g2, length = 0.02, -0.04, 80.0
    for x in (0.0, 40.0, 80.0):
        want = 101.2 + g1 * x + (g2 - g1) * x * x / (2 * length)
        got = np.interp(60.0 + x, along, road.line[:, 2])
        assert got == pytest.approx(want, abs=2e-2), "read off between drawn vertices"
    assert by_role["parcel"].line[:, :2].tolist() == [[1000.0, 5000.0], [1100.0, 5000.0]], "by the points' names"
    assert by_role["plan feature"].line.tolist() == [[2, 1, 3], [3, 2, 4], [5, 4, 6]]


def test_records_go_out_and_come_back(tmp_path):
    survey = read(HANDMADE / "road.xml").datasets[1]
    target = landxml.FORMAT
    feet = in_units(survey, Unit.US_FOOT, Unit.US_FOOT)
    for each, unit in ((survey, Unit.METRE), (feet, Unit.US_FOOT)):
        delivery = deliver([each], tmp_path / "a.xml", target, target.write_params(), Silent())
        assert delivery.good and delivery.plan < 1e-4, delivery.checks
        back = read(tmp_path / "a.xml").datasets[0]
        assert back.frame.horizontal is unit
    station = json.loads(back.exact[back.roles.index("alignment")])["station"]
    assert station == pytest.approx(1000.0 * 3937 / 1200, abs=1e-3), "stations follow the unit"


def test_what_a_file_cannot_hold_is_said():
    line = np.array([(1.0, 2.0, 3.0)])
    frame = Frame(None, Unit.METRE, Unit.METRE)
    survey = survey_of("s", frame, [Record("photo position", "p1", line, {}), Record("alignment", "a", line, {})])
    assert any("1 left out: photo position" in finding.text for finding in losses(survey, landxml.FORMAT.carries))


@given(st.floats(20, 300), st.floats(-0.08, 0.08), st.floats(-0.08, 0.08))
def test_vertical_curves_touch_their_tangents(length, g1, g2):
    pvis = [
        {"station": 0.0, "elevation": 100.0},
        {"station": 400.0, "elevation": 100.0 + 400.0 * g1, "kind": "parabola", "length": length},
        {"station": 800.0, "elevation": 100.0 + 400.0 * (g1 + g2)},
    ]
    s = np.array([400.0 - length / 2, 400.0, 400.0 + length / 2])
    z = profile_heights(s, pvis)
    middle = 100.0 + 400.0 * g1 + (g2 - g1) * length / 8.0
    np.testing.assert_allclose(z, [100.0 + s[0] * g1, middle, 100 + 400 * g1 + g2 * length / 2], atol=1e-9)


def test_a_circular_vertical_curve():
    radius, g1, g2 = 1000.0, -0.05, 0.03
    pvis = [
        {"station": 0.0, "elevation": 50.0},
        {"station": 200.0, "elevation": 40.0, "kind": "circle", "radius": radius},
        {"station": 400.0, "elevation": 46.0},
    ]
    s = np.linspace(150.0, 250.0, 2001)
    z = profile_heights(s, pvis)
    inside = slice(900, 1100)
    curvature = np.gradient(np.gradient(z, s), s) / (1 + np.gradient(z, s) ** 2) ** 1.5
    np.testing.assert_allclose(curvature[inside], 1.0 / radius, rtol=1e-3)
    assert z[0] == pytest.approx(50 + g1 * 150) and z[-1] == pytest.approx(40 + g2 * 50)


def test_both_definitions_and_how_far_they_differ():
    source = read_file(HANDMADE / "two_definitions.xml", {"take": "both"}, Silent())
    assert [each.kind for each in source.datasets] == ["tin", "points", "lines", "points", "tin"]
    assert source.datasets[-1].name == "Yard & ramp rebuilt"
    said = next(finding for finding in source.findings if finding.code == "definitions-differ")
    assert "0.500 us-ft at most" in said.text and said.at is not None


PARCELS = """<?xml version="1.0"?>
<LandXML xmlns="http://www.landxml.org/schema/LandXML-1.2" version="1.2" date="2026-01-01" time="10:00:00">
<Units><Metric linearUnit="meter" areaUnit="squareMeter" volumeUnit="cubicMeter" temperatureUnit="celsius"
 pressureUnit="milliBars"/></Units><Parcels>
<Parcel name="12" area="5000.0" desc="north field"><CoordGeom>
<Line><Start>0 0</Start><End>0 100</End></Line><Line><Start>0 100</Start><End>50 100</End></Line>
<Line><Start>50 100</Start><End>50 0</End></Line><Line><Start>50 0</Start><End>0 0</End></Line></CoordGeom></Parcel>
<Parcel name="13" area="78.5398163397"><CoordGeom>
<Curve rot="ccw" radius="5"><Start>200 205</Start><Center>200 200</Center><End>200 195</End></Curve>
<Curve rot="ccw" radius="5"><Start>200 195</Start><Center>200 200</Center><End>200 205</End></Curve></CoordGeom></Parcel>
<Parcel name="14"><CoordGeom><Line><Start>0 300</Start><End>9 300</End></Line></CoordGeom></Parcel>
</Parcels>ALIGNMENTS</LandXML>"""


def test_parcels_go_into_a_gis_file_as_areas(tmp_path, run_cli):
    """The second parcel is a circle of 5 m, so that its area is known in closed form."""
    path = tmp_path / "plots.xml"
    path.write_text(PARCELS.replace("ALIGNMENTS", ""))
    code, _, err = run_cli("convert", path, tmp_path / "plots.gpkg")
    assert code == 0 and "1 parcel without a closed line left out (first 14)" in err and "states 78.540" in err
    (areas,) = read_file(tmp_path / "plots.gpkg", {}, Silent()).datasets
    assert areas.kind == "areas" and [plain(each) for each in areas.attributes["name"]] == ["12", "13"]
    assert [plain(each) for each in areas.attributes["desc"]] == ["north field", ""]
    np.testing.assert_allclose(areas.sizes(), [5000.0, 25 * np.pi], rtol=3e-3)
    np.testing.assert_allclose(areas.attributes["stated_area"], [5000.0, 78.5398163397])


def test_parcels_beside_alignments_stay_lines(tmp_path, run_cli):
    """What would leave part of a file out is never put in unasked."""
    line = '<Alignments><Alignment name="CL" length="9" staStart="0"><CoordGeom><Line><Start>0 0</Start><End>9 0</End></Line></CoordGeom></Alignment></Alignments>'
    (tmp_path / "both.xml").write_text(PARCELS.replace("ALIGNMENTS", line))
    assert run_cli("convert", tmp_path / "both.xml", tmp_path / "both.gpkg")[0] == 0
    (lines,) = read_file(tmp_path / "both.gpkg", {}, Silent()).datasets
    assert lines.kind == "lines" and len(lines) == 4
    assert run_cli("convert", tmp_path / "both.xml", tmp_path / "plots.gpkg", "--via", "parcels")[0] == 0
    assert len(read_file(tmp_path / "plots.gpkg", {}, Silent()).datasets[0]) == 2


def test_areas_go_out_as_parcels_and_come_back(tmp_path, run_cli):
    """With their names and sizes; holes are plan features, and the stated area leaves them out."""
    shapes = [shapely.box(0, 0, 20, 30), shapely.box(40, 0, 50, 10)]
    areas = from_shapes(shapes, name="plots", frame=METRES, attributes={"name": np.array([b"North & South", b"Pond"])})
    assert deliver([areas], tmp_path / "a.gpkg", catalog.format_named("geopackage"), NoParams(), Silent()).good
    code, _, err = run_cli("convert", tmp_path / "a.gpkg", tmp_path / "a.xml", "--from-units", "m")
    assert code == 0, err
    text = (tmp_path / "a.xml").read_text()
    assert '<Parcel name="North &amp; South" area="600.' in text and text.count("<Parcel ") == 2
    assert run_cli("convert", tmp_path / "a.xml", tmp_path / "b.gpkg")[0] == 0
    (back,) = read_file(tmp_path / "b.gpkg", {}, Silent()).datasets
    assert back.sizes().tolist() == [600.0, 100.0]
    assert [plain(each) for each in back.attributes["name"]] == ["North & South", "Pond"]
    holed = from_shapes([shapes[0] - shapely.box(5, 5, 8, 8)], name="plots", frame=METRES)
    assert deliver([holed], tmp_path / "h.gpkg", catalog.format_named("geopackage"), NoParams(), Silent()).good
    code, _, err = run_cli("convert", tmp_path / "h.gpkg", tmp_path / "h.xml", "--from-units", "m")
    text = (tmp_path / "h.xml").read_text()
    assert code == 0 and "1 hole of areas became plan features" in err
    assert text.count("<PlanFeature ") == 1 and 'area="591.' in text
