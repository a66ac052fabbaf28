"""Drawings that go out, read by ezdxf: every edition and form, layers, colours, blocks, bands, a shift."""

import dataclasses

import ezdxf
import numpy as np
import pytest
from ezdxf.render import MeshBuilder
from scipy.spatial import cKDTree

from builders import HANDMADE, METRES, ORIGIN, ground, scattered
from vastgrid import catalog
from vastgrid.base.errors import CallError, ParamError
from vastgrid.base.progress import Silent
from vastgrid.base.quantities import Length
from vastgrid.conversions.lines import contours
from vastgrid.data.survey import Record, survey_of
from vastgrid.data.tin import Tin, areas
from vastgrid.delivery.deliver import deliver
from vastgrid.execution.steps import convert, read_file
from vastgrid.formats.dxf._faces import MOST, pieces
from vastgrid.formats.dxf._pen import Version, encoded
from vastgrid.params import declare
from vastgrid.terrain.tin.overlaying import overlaid
from vastgrid.terrain.tin.parting import parted

DXF = catalog.format_named("dxf")


def sent(datasets, path, **words):
    made = deliver(datasets, path, DXF, declare.build(DXF.write_params, words), Silent())
    assert made.good, [check for check in made.checks if not check.good]
    document = ezdxf.readfile(path)
    audit = document.audit()
    assert not audit.errors and not audit.fixes
    return document


def plane(height, tilt=(0.0, 0.0), size=100.0, steps=9):
    """A square plane over a lattice, rising to the east and to the north."""
    x, y = np.meshgrid(np.linspace(0, size, steps), np.linspace(0, size, steps))
    z = height + tilt[0] * x + tilt[1] * y
    at = np.arange(steps * steps).reshape(steps, steps)
    a, b, c, d = at[:-1, :-1].ravel(), at[:-1, 1:].ravel(), at[1:, 1:].ravel(), at[1:, :-1].ravel()
    vertices = np.column_stack((x.ravel(), y.ravel(), z.ravel())) + (*ORIGIN, 0.0)
    return Tin(
        name=f"plane {height}",
        frame=METRES,
        vertices=vertices,
        triangles=np.concatenate((np.column_stack((a, b, c)), np.column_stack((a, c, d)))),
    )


def corners_of(document):
    """Every triangle of a drawing's meshes and faces, (m, 3, 3)."""
    found = []
    for each in document.modelspace():
        if each.dxftype() == "3DFACE":
            found.append([[tuple(each.dxf.vtx0), tuple(each.dxf.vtx1), tuple(each.dxf.vtx2)]])
        elif each.dxftype() == "MESH":
            vertices = np.array(each.vertices)
            found.append(vertices[np.array([list(face) for face in each.faces], int)])
        elif each.dxftype() == "POLYLINE" and each.is_poly_face_mesh:
            mesh = MeshBuilder.from_polyface(each)
            vertices = np.array([tuple(v) for v in mesh.vertices])
            found.append(vertices[np.array(mesh.faces)])
    return np.concatenate([np.asarray(each, float) for each in found])


@pytest.mark.parametrize("faces", ["faces", "polyface", "mesh"])
@pytest.mark.parametrize("version", ["R12", "R2000", "R2004", "R2007", "R2010", "R2013", "R2018"])
def test_ezdxf_sees_the_same_triangles_in_every_edition_and_form(version, faces, tmp_path):
    tin = ground(400)
    if (version, faces) == ("R12", "mesh"):
        with pytest.raises(ParamError, match="R12 has no MESH"):
            sent([tin], tmp_path / "a.dxf", version=version, faces=faces)
        return
    document = sent([tin], tmp_path / "a.dxf", version=version, faces=faces)
    assert document.acad_release == version
    own = corners_of(document).mean(axis=1)
    want = tin.corners().mean(axis=1)
    assert len(own) == len(want)
    far, at = cKDTree(want).query(own)
    assert far.max() < 1e-4 and len(np.unique(at)) == len(want)


def test_polyface_meshes_keep_the_formats_limits(tmp_path):
    tin = dataclasses.replace(ground(20_000), constrained=None)
    for corners, own in pieces(tin.triangles):
        assert len(corners) <= MOST and len(own) <= MOST
    assert sum(len(own) for _, own in pieces(tin.triangles)) == len(tin.triangles)
    loose = np.arange(120_000, dtype=np.int32).reshape(-1, 3)
    assert all(len(corners) <= MOST for corners, _ in pieces(loose)), "triangles that share nothing"
    document = sent([tin], tmp_path / "a.dxf", faces="polyface")
    heads = [each for each in document.modelspace() if each.dxftype() == "POLYLINE"]
    assert len(heads) > 1 and all(each.dxf.m_count <= MOST and each.dxf.n_count <= MOST for each in heads)


@pytest.mark.parametrize("version", ["R12", "R2000", "R2018"])
def test_spot_heights_are_blocks_with_attributes(version, tmp_path):
    points = scattered(20)
    names = np.array([f"P{k}".encode() for k in range(20)])
    codes = np.array(["BÄUM 地".encode(), b"KERB"] * 10)
    points = dataclasses.replace(points, attributes={"point": names, "code": codes})
    document = sent([points], tmp_path / "a.dxf", version=version, points_as="blocks", text_height="0.5m")
    inserts = list(document.modelspace().query("INSERT"))
    assert len(inserts) == 20
    first = {attribute.dxf.tag: attribute.dxf.text for attribute in inserts[0].attribs}
    assert first["NUMBER"] == "P0" and float(first["HEIGHT"]) == pytest.approx(points.xyz[0, 2], abs=6e-4)
    if version == "R2018":
        assert first["CODE"] == "BÄUM 地"
    np.testing.assert_allclose(np.array([tuple(i.dxf.insert) for i in inserts]), points.xyz, atol=6e-5)
    (back,) = read_file(tmp_path / "a.dxf", {}, Silent()).datasets
    assert [name.decode() for name in back.attributes["point"]] == [f"P{k}" for k in range(20)]
    assert back.attributes["code"][1] == b"KERB"


@pytest.mark.parametrize("version", ["R12", "R2000", "R2004", "R2018"])
def test_layers_of_ones_own_with_true_colour_beside_the_index(version, tmp_path):
    tin = ground(100)
    made = contours.run([tin], contours.ContourParams(Length(1.0), index=5), Silent()).dataset
    scheme = "TIN: layer=Gelände, rgb=#3366CC; CONTOUR*: colour=12; CONTOUR_INDEX: layer=HL-IDX"
    document = sent([tin, made], tmp_path / "a.dxf", version=version, layers=scheme)
    names = {layer.dxf.name.upper() for layer in document.layers}
    own = (
        document.layers.get("GEL_NDE" if version == "R12" else "Gelände")
        if version != "R12"
        else next(layer for layer in document.layers if layer.dxf.name.upper().startswith("GEL"))
    )
    assert own.rgb == ((0x33, 0x66, 0xCC) if version in ("R2004", "R2018") else None)
    assert own.dxf.color not in (7, 94), "the nearest index stands beside it"
    assert document.layers.get("CONTOUR").dxf.color == 12
    assert "CONTOUR_INDEX" in names, "the first row that fits counts"
    for bad, said in (
        ("TIN: shape=3", "there is no “shape”"),
        ("TIN: colour=300", "not a colour number"),
        ("TIN: rgb=blue", "not a colour such as"),
    ):
        with pytest.raises(ParamError, match=said):
            sent([tin], tmp_path / "b.dxf", layers=bad)


def test_bands_are_exact_and_have_a_legend(tmp_path):
    """A plane that rises 10 % over 100 m: bands of 2 m are strips of 20 m, 2 000 m² each."""
    tin = plane(200.0, (0.1, 0.0))
    for number, part in parted(tin, np.array([202.0, 204.0, 206.0, 208.0])):
        assert areas(part).sum() == pytest.approx(2000.0, rel=1e-9)
        assert part.vertices[:, 2].min() == pytest.approx(200.0 + 2 * number)
    document = sent([tin], tmp_path / "a.dxf", bands="2m")
    layers = {layer.dxf.name: layer for layer in document.layers if layer.dxf.name.startswith("BAND")}
    assert list(layers) == [f"BAND {low} to {low + 2} m" for low in (200, 202, 204, 206, 208)]
    assert len({layer.rgb for layer in layers.values()}) == 5
    legend = document.blocks.get("LEGEND")
    assert [each.dxf.text for each in legend.query("TEXT")] == [
        f"{low} to {low + 2} m" for low in (208, 206, 204, 202, 200)
    ]
    assert len(legend.query("HATCH")) == 5 and len(document.modelspace().query("INSERT")) == 1
    with pytest.raises(ParamError, match="at most 200 can be told apart"):
        sent([tin], tmp_path / "b.dxf", bands="1mm")


def test_cut_and_fill_in_bands(tmp_path):
    """Two planes that cross in the middle: cut and fill are mirror images, volumes by the prism's formula."""
    before, after = plane(200.0), dataclasses.replace(plane(195.0, (0.1, 0.0), steps=12), name="after")
    both = overlaid(before, after)
    u, v = both.plan[:, 1] - both.plan[:, 0], both.plan[:, 2] - both.plan[:, 0]
    area = np.abs(u[:, 0] * v[:, 1] - u[:, 1] * v[:, 0]) / 2.0
    change = both.second - both.first
    assert area.sum() == pytest.approx(10_000.0, rel=1e-9)
    assert (area * change.mean(axis=1)).sum() == pytest.approx(0.0, abs=1e-5)
    document = sent([before, after], tmp_path / "a.dxf", bands="1m", bands_by="cut_fill")
    names = [layer.dxf.name for layer in document.layers if layer.dxf.name[:3] in ("CUT", "FIL")]
    assert names == [f"CUT {k} to {k + 1} m" for k in (4, 3, 2, 1, 0)] + [f"FILL {k} to {k + 1} m" for k in range(5)]
    for words, said in (({"bands_by": "cut_fill"}, "need a height of one band"),):
        with pytest.raises(ParamError, match=said):
            sent([before, after], tmp_path / "b.dxf", **words)
    with pytest.raises(ParamError, match="need two surfaces"):
        sent([before], tmp_path / "b.dxf", bands="1m", bands_by="cut_fill")
    with pytest.raises(CallError, match="need two surfaces"):
        sent([scattered(10)], tmp_path / "b.dxf", bands="1m", bands_by="cut_fill")


def test_a_wall_has_two_heights_in_an_overlay():
    upright = plane(10.0)
    stepped = dataclasses.replace(upright, vertices=upright.vertices + (0.0, 0.0, 0.0))
    z = np.where(stepped.vertices[:, 0] - ORIGIN[0] > 50.0, 3.0, 0.0)
    stepped = dataclasses.replace(stepped, vertices=stepped.vertices + z[:, None] * (0, 0, 1))
    both = overlaid(upright, stepped)
    np.testing.assert_allclose(both.first, 10.0)
    assert both.second.max() == pytest.approx(13.0)


def test_a_shift_is_in_the_drawing_the_report_and_comes_back(tmp_path):
    tin = ground(100)
    target = DXF
    params = declare.build(target.write_params, {"shift": "431000,887000,100"})
    made = deliver([tin], tmp_path / "a.dxf", target, params, Silent())
    assert made.good and any("add E 431000, N 887000, Z 100" in finding.text for finding in made.findings)
    document = ezdxf.readfile(tmp_path / "a.dxf")
    assert np.abs(corners_of(document)[..., :2]).max() < 1000.0
    assert any("add E 431000" in each.dxf.text for each in document.modelspace().query("TEXT"))
    assert (tmp_path / "a.dxf").read_bytes().startswith(b"999\nVast Grid; origin 431000.0 887000.0 100.0; unit m\n")
    (back,) = read_file(tmp_path / "a.dxf", {}, Silent()).datasets
    np.testing.assert_allclose(back.extent().east, tin.extent().east, atol=1e-4)


def test_labels_stand_in_the_gap_of_the_line(tmp_path):
    made = contours.run([ground(2000)], contours.ContourParams(Length(1.0), index=5), Silent()).dataset
    own = catalog.conversion_named("labels")
    labelled = convert(own, [made], own.params(), Silent())[0].dataset
    for form in ("2d", "3d", "flat"):
        document = sent([labelled], tmp_path / "a.dxf", contours_as=form)
        texts = list(document.modelspace().query("TEXT"))
        assert len(texts) == len(labelled.labels["level"])
        heights = {round(each.dxf.align_point.z, 3) for each in texts}
        assert heights == ({0.0} if form == "flat" else {round(z, 3) for z in labelled.labels["level"].tolist()})


def test_records_are_drawn_with_true_arcs(tmp_path):
    line = {"kind": "line", "start": [0.0, 0.0], "end": [10.0, 0.0]}
    arc = {
        "kind": "curve",
        "rot": "ccw",
        "radius": 5.0,
        "start": [10.0, 0.0],
        "end": [15.0, 5.0],
        "centre": [10.0, 5.0],
    }
    back = {
        "kind": "curve",
        "rot": "cw",
        "radius": 5.0,
        "start": [15.0, 5.0],
        "end": [20.0, 10.0],
        "centre": [20.0, 5.0],
    }
    turn = np.linspace(-np.pi / 2, 0.0, 40)
    first = np.column_stack((10.0 + 5.0 * np.cos(turn), 5.0 + 5.0 * np.sin(turn)))
    second = np.column_stack((20.0 - 5.0 * np.cos(turn + np.pi / 2), 5.0 + 5.0 * np.sin(turn + np.pi / 2)))
    course = np.concatenate(([(0.0, 0.0)], first, second[1:]))
    drawn = np.column_stack((course, np.full(len(course), np.nan)))
    survey = survey_of("s", METRES, [Record("alignment", "CL", drawn, {"geometry": [line, arc, back]})])
    for version in ("R12", "R2018"):
        document = sent([survey], tmp_path / "a.dxf", version=version)
        (own,) = document.modelspace()
        assert own.dxf.layer == "ALIGNMENT"
        bulges = [v.dxf.bulge for v in own.vertices] if version == "R12" else [p[4] for p in own.get_points()]
        # The tangent of a quarter of 90°, to the left and to the right.
        np.testing.assert_allclose(bulges, (0.0, np.tan(np.pi / 8), -np.tan(np.pi / 8), 0.0), atol=1e-9)


def test_records_with_spirals_are_drawn_as_they_lie(tmp_path):
    survey = next(each for each in read_file(HANDMADE / "road.xml", {}, Silent()).datasets if each.kind == "survey")
    document = sent([survey], tmp_path / "a.dxf")
    layers = {each.dxf.layer for each in document.modelspace()}
    assert layers == {"ALIGNMENT", "PARCEL", "PLAN_FEATURE"}


def test_letters_that_an_edition_does_not_have_are_escapes():
    """Before R2007 text is in a code page, and other letters are written as \\U+XXXX (DXF reference)."""
    assert encoded("Ä 地", Version.R2018) == "Ä 地".encode()
    assert encoded("Ä 地", Version.R2000) == b"\xc4 \\U+5730"
