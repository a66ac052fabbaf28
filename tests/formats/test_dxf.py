"""DXF against ezdxf, in both directions."""

import json

import ezdxf
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import samples
from builders import METRES, ORIGIN, ground, scattered
from vastgrid.base.errors import FormatError, ParamError
from vastgrid.base.progress import Silent
from vastgrid.base.quantities import Length, Unit
from vastgrid.conversions.lines import contours
from vastgrid.data.linework import from_lines
from vastgrid.data.tin import areas
from vastgrid.execution.steps import read_file
from vastgrid.formats import dxf
from vastgrid.formats.dxf._drawing import text_height
from vastgrid.formats.dxf._pen import Version
from vastgrid.formats.dxf._write import ContourForm
from vastgrid.formats.dxf.sorting import Becomes, Rule, parse_rules, rules_text


def read(path, **options):
    return dxf.read(path, dxf.DxfReadParams(**options), Silent())


def everything():
    tin = ground(300)
    made = contours.run([tin], contours.ContourParams(Length(1.0), index=5), Silent()).dataset
    ring = np.array([(0, 0, 5), (10, 0, 5), (10, 10, 6), (0, 0, 5.0)]) + (*ORIGIN, 0.0)
    lines = from_lines("edges", METRES, [ring, ring[:2]], ["HAUL ROAD/é", "TOE"])
    return [tin, made, lines, scattered(20)]


@pytest.mark.parametrize("version", list(Version))
@pytest.mark.parametrize("form", list(ContourForm))
def test_ezdxf_reads_what_we_write(tmp_path, version, form):
    params = dxf.DxfWriteParams(version=version, contours_as=form)
    sent = dxf.FORMAT.given(everything(), params)
    tin, made = sent[:2]
    path = tmp_path / "a.dxf"
    dxf.write(sent, path, params, Silent())
    document = ezdxf.readfile(path)
    assert not document.audit().errors and not document.audit().fixes
    assert document.acad_release == version.value
    if version is not Version.R12:
        assert document.header["$INSUNITS"] == 6
    space = document.modelspace()
    faces = space.query("3DFACE")
    assert len(faces) == len(tin.triangles)
    first = np.array([faces[0].dxf.vtx0, faces[0].dxf.vtx1, faces[0].dxf.vtx2])
    np.testing.assert_allclose(first, tin.vertices[tin.triangles[0]], atol=5.1e-5)
    assert len(space.query("POINT")) == 20
    drawn = list(space.query('LWPOLYLINE POLYLINE[layer=="CONTOUR"]')) + list(
        space.query('LWPOLYLINE POLYLINE[layer=="CONTOUR_INDEX"]')
    )
    assert len({id(e) for e in drawn}) == len(made)
    heights = {
        round(
            e.dxf.elevation
            if e.dxftype() == "LWPOLYLINE"
            else (e.dxf.elevation.z if e.is_2d_polyline else e.vertices[0].dxf.location.z),
            6,
        )
        for e in drawn
    }
    assert heights == set(np.round(made.levels, 6))
    assert sum(e.is_closed for e in drawn) == made.closed().sum()
    ring = next(e for e in space.query("POLYLINE") if e.dxf.layer.startswith("HAUL"))
    assert ring.is_closed and ring.is_3d_polyline and len(ring.vertices) == 3


@pytest.mark.parametrize("version", list(Version))
def test_round_trip(tmp_path, version):
    sent = everything()
    dxf.write(sent, tmp_path / "a.dxf", dxf.DxfWriteParams(version=version), Silent())
    tin, lines, points = read(tmp_path / "a.dxf").datasets
    np.testing.assert_allclose(tin.corners(), sent[0].corners(), atol=5.1e-5)
    assert lines.count()["lines"] == len(sent[1]) + len(sent[2])
    np.testing.assert_allclose(points.xyz, sent[3].xyz, atol=5.1e-5)
    assert tin.frame.horizontal is Unit.METRE, "R12 says it in a comment"


@pytest.fixture
def drawing(tmp_path):
    """What ezdxf draws: each kind of entity we read, an arc as a bulge, an object turned over, and strangers."""
    document = ezdxf.new("R2010")
    document.header["$INSUNITS"] = 2
    space = document.modelspace()
    space.add_line((0, 0, 1), (10, 0, 2), dxfattribs={"layer": "KERB"})
    space.add_lwpolyline([(0, 0, 0, 0, 1.0), (10, 0)], dxfattribs={"elevation": 7.0, "layer": "ARC"})
    space.add_lwpolyline([(1, 2), (3, 4)], dxfattribs={"extrusion": (0, 0, -1), "elevation": 5.0, "layer": "TURNED"})
    space.add_polyline3d([(0, 0, 0), (1, 1, 1), (2, 0, 2)], close=True, dxfattribs={"layer": "BREAK"})
    space.add_polyline2d([(0, 0), (5, 5)], dxfattribs={"elevation": (0, 0, 12.5), "layer": "C"})
    space.add_3dface([(0, 0, 0), (10, 0, 0), (10, 10, 5), (0, 10, 5)], dxfattribs={"layer": "FACES"})
    mesh = space.add_polyface(dxfattribs={"layer": "POLYFACE"})
    mesh.append_faces([[(20, 0, 1), (30, 0, 1), (30, 10, 2)], [(20, 0, 1), (30, 10, 2), (20, 10, 3)]])
    lattice = space.add_polymesh((3, 3), dxfattribs={"layer": "MESH"})
    for i in range(3):
        for j in range(3):
            lattice.set_mesh_vertex((i, j), (40 + i, j, i + j))
    space.add_point((1, 1, 9), dxfattribs={"layer": "SPOT"})
    space.add_text("strange")
    document.layout("Layout1").add_line((0, 0), (1, 1))
    document.saveas(tmp_path / "ez.dxf")
    return tmp_path / "ez.dxf"


def test_we_read_what_ezdxf_draws(drawing):
    result = read(drawing)
    by_name = {each.name: each for each in result.datasets}
    lines, points = by_name["ez lines"], by_name["ez points"]
    assert all(each.frame.horizontal is Unit.FOOT for each in result.datasets)
    named = {name: lines.line(int(np.flatnonzero(lines.layer == k)[0])) for k, name in enumerate(lines.layers)}
    assert named["KERB"].tolist() == [[0, 0, 1], [10, 0, 2]]
    arc = named["ARC"]
    # A bulge of 1 is a half circle, and runs anticlockwise: below the chord that leads east.
    np.testing.assert_allclose(np.hypot(arc[:, 0] - 5, arc[:, 1]), 5.0, atol=1e-9)
    assert (arc[1:-1, 1] < 0).all() and (arc[:, 2] == 7.0).all()
    np.testing.assert_allclose(named["TURNED"], [[-1, 2, -5], [-3, 4, -5]])
    assert (named["BREAK"][0] == named["BREAK"][-1]).all() and len(named["BREAK"]) == 4
    assert named["C"][:, 2].tolist() == [12.5, 12.5]
    assert areas(by_name["FACES"]).sum() == pytest.approx(100.0)
    assert areas(by_name["POLYFACE"]).sum() == pytest.approx(100.0)
    assert areas(by_name["MESH"]).sum() == pytest.approx(4.0) and len(by_name["MESH"].triangles) == 8
    assert points.xyz.tolist() == [[1, 1, 9]] and points.attributes["layer"].tolist() == [b"SPOT"]
    said = " ".join(finding.text for finding in result.findings)
    assert "1 text left out" in said


def test_binary_drawing(tmp_path, drawing):
    document = ezdxf.readfile(drawing)
    document.saveas(tmp_path / "b.dxf", fmt="bin")
    ours, other = read(drawing).datasets, read(tmp_path / "b.dxf").datasets
    assert [each.count() for each in ours] == [each.count() for each in other]


def test_cut_in_half(tmp_path):
    dxf.write([ground(100)], tmp_path / "a.dxf", dxf.DxfWriteParams(), Silent())
    data = (tmp_path / "a.dxf").read_bytes()
    (tmp_path / "b.dxf").write_bytes(data[: data.index(b"3DFACE") + 20_000])
    with pytest.raises(FormatError, match=r"line \d+: the drawing is cut off.*accept_cut=yes"):
        read(tmp_path / "b.dxf")
    kept = read(tmp_path / "b.dxf", accept_cut=True)
    assert 20 < len(kept.datasets[0].triangles) < 190
    assert any(finding.code == "cut-off" for finding in kept.findings)


@pytest.mark.parametrize(
    ("text", "why"),
    [
        ("hello\nworld\n", "line 1: a group code was expected, not “hello”"),
        ("  0\nSECTION\n  2\nHEADER\n  0\nENDSEC\n  0\nEOF\n", "no ENTITIES section"),
        ("  0\nSECTION\n  2\nENTITIES\n  0\nTEXT\n  8\n0\n  0\nENDSEC\n  0\nEOF\n", "no faces, lines.*1 text left out"),
    ],
)
def test_bad_files(tmp_path, text, why):
    (tmp_path / "a.dxf").write_text(text)
    with pytest.raises(FormatError, match=why):
        read(tmp_path / "a.dxf")


RULES = (
    "breaklines “Kerbs”: layer=KERB; spot heights: type=text, layer=SPOT, z=232..240; contours: layer=CONT; "
    "faces: type=face, layer=GROUND|FACES"
)


@pytest.mark.parametrize("form", ["asc", "bin"])
def test_blocks_curves_texts_and_meshes(tmp_path, form):
    """Against ezdxf's own construction: nested blocks scaled and turned, arcs by their chord."""
    path = samples.drawing(tmp_path / "a.dxf", form=form)
    result = read_file(path, {"chord": "0.01"}, Silent())
    points = next(each for each in result.datasets if each.kind == "points")
    # The tree stands 5 along its clump's axis, which is turned by 90°.
    np.testing.assert_allclose(points.xyz, [[100.0, 205.0, 50.0]], atol=1e-9)
    lines = next(each for each in result.datasets if each.kind == "lines")
    ends = {tuple(np.round(lines.line(k)[-1], 6)) for k in range(len(lines))}
    assert (98.0, 205.0, 52.0) in ends, "scaled by two, turned by 180° in all"
    arc = next(line for k in range(len(lines)) if len(line := lines.line(k)) > 20 and line[0, 2] == 10.0)
    radius = np.hypot(*arc[:, :2].T)
    np.testing.assert_allclose(radius, 50.0, atol=1e-9)
    middle = np.hypot(*((arc[1:, :2] + arc[:-1, :2]) / 2.0).T)
    assert 50.0 - middle.min() <= 0.01 + 1e-9, "no chord is farther from the arc than asked"
    assert {each.name for each in result.datasets if each.kind == "tin"} == {"GROUND", "FACES"}
    said = next(finding for finding in result.findings if finding.code == "texts-left-out")
    assert "12 texts left out; 12 of them read as numbers" in said.text


def test_sorting_rules(tmp_path):
    path = samples.drawing(tmp_path / "a.dxf")
    source = read_file(path, {"rules": RULES}, Silent())
    by_name = {each.name: each for each in source.datasets}
    assert set(by_name) == {"Kerbs", "a spot heights", "a contours", "a faces"}
    assert sorted(by_name["a spot heights"].xyz[:, 2].tolist()) == pytest.approx([232.4 + k for k in range(8)])
    assert by_name["a contours"].count()["lines"] == 8
    said = [finding.text for finding in source.findings]
    assert any("an interval of 0.5 m, without exception" in text for text in said)
    assert any(text.startswith("8 entities: spot heights") for text in said)
    free = next(text for text in said if "fit no rule" in text)
    assert "4 TEXT on SPOT" in free


@pytest.mark.parametrize("version", ["R12", "R2000", "R2018"])
def test_versions(tmp_path, version):
    path = samples.drawing(tmp_path / "a.dxf", version)
    source = read_file(path, {}, Silent())
    lines = next(each for each in source.datasets if each.kind == "lines")
    assert {"CONT", "KERB"} <= set(lines.layers)


def test_rules_are_read_as_they_are_written():
    rules = parse_rules(RULES)
    assert parse_rules(rules_text(rules)) == rules
    assert rules[0] == Rule(Becomes.BREAKLINES, "Kerbs", "KERB")
    for bad in ("nonsense: layer=A", "breaklines", "breaklines: size=3", "contours: z=1-2", "points: colour=red"):
        with pytest.raises(ParamError):
            parse_rules(bad)


@given(st.lists(st.sampled_from(list(Becomes)), min_size=1, max_size=5), st.integers(0, 255), st.floats(-1e4, 1e4))
def test_rules_round_trip(kinds, colour, low):
    rules = tuple(
        Rule(kind, f"n{k}", "A*|B", "line", colour, "DASH*", float(f"{low:g}")) for k, kind in enumerate(kinds)
    )
    assert parse_rules(rules_text(rules)) == rules


def test_a_colour_by_layer_and_the_first_rule_counts(tmp_path):
    path = samples.drawing(tmp_path / "a.dxf")
    rules = "left out: colour=3; breaklines: type=curve|line; contours: layer=cont"
    source = read_file(path, {"rules": rules}, Silent())
    said = [finding.text for finding in source.findings if finding.code == "rule-matches"]
    assert said[0].startswith("2 entities: left out: colour=3"), "arc and spline on a green layer"
    assert said[1].startswith("1 entity: breaklines"), "the line in the block keeps its own layer"


def test_repair(tmp_path):
    """A drawing that was cut off is refused with the way out, and read as far as it goes on request."""
    path = samples.drawing(tmp_path / "a.dxf")
    text = path.read_text()
    (tmp_path / "b.dxf").write_text(text[: text.rindex("LWPOLYLINE")])
    with pytest.raises(FormatError, match="cut off"):
        read_file(tmp_path / "b.dxf", {}, Silent())
    source = read_file(tmp_path / "b.dxf", {"recover": "yes"}, Silent())
    assert source.datasets


def test_a_unit_that_makes_no_sense_is_questioned(tmp_path):
    document = ezdxf.new("R2010")
    document.header["$INSUNITS"] = 1
    document.modelspace().add_lwpolyline([(0, 0), (1200, 0), (1200, 900)])
    document.saveas(tmp_path / "a.dxf")
    source = read_file(tmp_path / "a.dxf", {}, Silent())
    assert any(finding.code == "unit-doubtful" and "30.48 m wide" in finding.text for finding in source.findings)


@pytest.mark.parametrize(
    ("text", "height"),
    [
        ("231.44", 231.44),
        ("+231,44", 231.44),
        ("EL 231.4 m", 231.4),
        ("-3", -3.0),
        ("EL 231.44 m", 231.44),
        ("EL. 231,4", 231.4),
        ("h=231.4", 231.4),
        ("(231.44)", 231.44),
        ("−3.25", -3.25),
        ("R-7", None),
        ("R7", None),
        ("MH 12", None),
        ("BM-3.5", None),
        ("kerb", None),
        ("12.3.4", None),
    ],
)
def test_heights_in_texts(text, height):
    assert text_height(text) == height


def test_a_boundary_rule_limits_the_surface_by_itself(run_cli, tmp_path):
    """What a rule calls a boundary is one for the TIN and in LandXML (bndType of the standard), without a word more."""
    document = ezdxf.new("R2018")
    document.header["$INSUNITS"] = 6
    space = document.modelspace()
    for k in range(121):
        space.add_point((k % 11, k // 11, 5.0 + k % 3), dxfattribs={"layer": "SPOT"})
    ring = [(2.5, 2.5, 0), (7.5, 2.5, 0), (7.5, 7.5, 0), (2.5, 7.5, 0)]
    space.add_polyline3d(ring, close=True, dxfattribs={"layer": "SITE"})
    space.add_polyline3d([(0, 0, 1), (9, 9, 1)], dxfattribs={"layer": "HALF"})
    document.saveas(tmp_path / "site.dxf")
    rules = "rules=spot heights: layer=SPOT; boundary: layer=SITE|HALF"
    code, out, err = run_cli(
        "convert", tmp_path / "site.dxf", tmp_path / "g.xml", "--read", rules, "--via", "tin", "--json"
    )
    assert code == 0, err
    step = json.loads(out)["steps"][1]
    assert "inside SITE," in step["sentence"] and step["result"][0]["extent"]["east"] == [2.5, 7.5]
    assert 'bndType="outer"' in (tmp_path / "g.xml").read_text()
