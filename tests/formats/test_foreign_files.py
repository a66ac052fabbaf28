"""What files of other people hold: nothing wrong comes in without a word, and nothing is lost without one."""

import shutil
import struct
import time
import xml.etree.ElementTree as ElementTree

import ezdxf
import laspy
import numpy as np
import pytest
import rasterio

from builders import DATA, METRES, ground
from vastgrid import catalog
from vastgrid.base.errors import CallError, FormatError
from vastgrid.base.progress import Silent
from vastgrid.conversions.lines import contours
from vastgrid.conversions.surfaces import grid_to_tin as facets
from vastgrid.data.mesh import Mesh
from vastgrid.declarations.fileformat import losses
from vastgrid.execution.steps import convert, read_file
from vastgrid.format_support.rasterfile import Holds
from vastgrid.formats import asciigrid, dxf, geotiff, landxml, las, shapefile, text
from vastgrid.terrain.place.units import in_units


def tags(*pairs):
    return "".join(f"{pair}\n" for pair in pairs)


def codes(result):
    return {finding.code for finding in result.findings}


def said(result):
    return " ".join(finding.text for finding in result.findings)


# -- Drawings


def drawn(tmp_path, body, tables="", **options):
    (tmp_path / "t.dxf").write_text(tables + tags(0, "SECTION", 2, "ENTITIES") + body + tags(0, "ENDSEC", 0, "EOF"))
    return dxf.read(tmp_path / "t.dxf", dxf.DxfReadParams(**options), Silent())


GOOD = tags(0, "POINT", 8, "A", 10, "1.5", 20, "2.5", 30, "3.5")


@pytest.mark.parametrize("word", ["431000,12", "nan", "1e400", "xyz", "", "1.2.3", "0x10"])
@pytest.mark.parametrize("code", [10, 20, 30])
def test_coordinates_that_are_no_numbers_are_left_out_by_line(tmp_path, word, code):
    row = {10: "1", 20: "2", 30: "3"} | {code: word}
    bad = tags(0, "POINT", 8, "A", *(x for pair in row.items() for x in pair))
    result = drawn(tmp_path, GOOD + bad + GOOD)
    assert result.datasets[0].xyz.tolist() == [[1.5, 2.5, 3.5]] * 2
    (told,) = [finding for finding in result.findings if finding.code == "not-a-number"]
    line = (tmp_path / "t.dxf").read_text().splitlines()
    number = int(told.text.split(" in line ")[1].split(" ")[0])
    assert line[number - 1].strip() == word and told.drops


def test_lines_polylines_and_faces_with_such_coordinates(tmp_path):
    line = tags(0, "LINE", 8, "A", 10, 0, 20, 0, 30, 0, 11, "1,5", 21, 1, 31, 1)
    flat = tags(0, "LWPOLYLINE", 8, "A", 90, 2, 70, 0, 10, 0, 20, "nan", 10, 5, 20, 5)
    poly = tags(0, "POLYLINE", 8, "A", 66, 1, 70, 8) + tags(0, "VERTEX", 8, "A", 10, 0, 20, 0, 30, 0)
    poly += tags(0, "VERTEX", 8, "A", 10, 5, 20, "?", 30, 0) + tags(0, "SEQEND")
    face = tags(0, "3DFACE", 8, "A", 10, 0, 20, 0, 30, 0, 11, 1, 21, 0, 31, "x", 12, 0, 22, 1, 32, 0)
    whole = tags(0, "LINE", 8, "A", 10, 0, 20, 0, 30, 0, 11, 4, 21, 1, 31, 1)
    result = drawn(tmp_path, line + flat + poly + face + whole)
    (lines,) = result.datasets
    assert lines.count() == {"lines": 1, "vertices": 2} and "4 entities have" in said(result)


@pytest.mark.parametrize(
    ("kind", "code"), [("CIRCLE", 40), ("ARC", 40), ("ARC", 50), ("ARC", 51), ("ELLIPSE", 41), ("INSERT", 41)]
)
@pytest.mark.parametrize("bad", ["1,5", "nan", "wide"])
def test_radii_angles_and_scales_that_are_no_numbers(tmp_path, kind, code, bad):
    shape = {
        "CIRCLE": {10: 1, 20: 2, 30: 3, 40: 5},
        "ARC": {10: 1, 20: 2, 30: 3, 40: 5, 50: 0, 51: 90},
        "ELLIPSE": {10: 1, 20: 2, 30: 3, 11: 5, 21: 0, 31: 0, 40: 0.5, 41: 0, 42: 6.2},
        "INSERT": {2: "B", 10: 1, 20: 2, 30: 3, 41: 1, 42: 1, 43: 1},
    }[kind] | {code: bad}
    body = tags(0, kind, 8, "A", *(x for pair in shape.items() for x in pair))
    result = drawn(tmp_path, GOOD + body + tags(0, "LINE", 8, "A", 10, 0, 20, 0, 30, 0, 11, 4, 21, 1, 31, 1))
    assert [each.kind for each in result.datasets] == ["lines", "points"]
    assert len(result.datasets[0]) == 1 and "not-a-number" in codes(result) and f"“{bad}”" in said(result)


def test_hidden_layers_are_told_and_can_be_left_out(tmp_path):
    document = ezdxf.new("R2018")
    document.layers.add("OFF").off()
    document.layers.add("ICE").freeze()
    for k, layer in enumerate(("0", "OFF", "ICE")):
        document.modelspace().add_point((k, 0, k), dxfattribs={"layer": layer})
    document.saveas(tmp_path / "a.dxf")
    result = dxf.read(tmp_path / "a.dxf", dxf.DxfReadParams(), Silent())
    assert len(result.datasets[0].xyz) == 3 and "ICE, OFF" in said(result) and "hidden-taken" in codes(result)
    result = dxf.read(tmp_path / "a.dxf", dxf.DxfReadParams(hidden=dxf.Hidden.LEAVE), Silent())
    assert result.datasets[0].xyz.tolist() == [[0, 0, 0]] and "2 entities" in said(result)


def test_blocks_that_are_not_there_or_elsewhere_are_told(tmp_path):
    document = ezdxf.new("R2018")
    space = document.modelspace()
    space.add_point((1, 2, 3))
    space.add_blockref("NOSUCH", (5, 5))
    document.add_xref_def("neighbour.dwg", "XR")
    space.add_blockref("XR", (0, 0))
    document.saveas(tmp_path / "a.dxf")
    result = dxf.read(tmp_path / "a.dxf", dxf.DxfReadParams(), Silent())
    assert "a block that is not in the drawing: NOSUCH" in said(result)
    assert "another drawing, not part of this file: XR (neighbour.dwg)" in said(result)


def block(*entities):
    return (
        tags(0, "BLOCK", 8, 0, 2, "A", 70, 0, 10, 0, 20, 0, 30, 0, 3, "A") + "".join(entities) + tags(0, "ENDBLK", 8, 0)
    )


@pytest.mark.parametrize("nested", [False, True])
def test_work_declared_by_a_few_bytes_is_bounded(tmp_path, nested):
    blocks = tags(0, "SECTION", 2, "BLOCKS") + block(GOOD)
    name = "A"
    if nested:
        for k in range(12):
            inner = "".join(tags(0, "INSERT", 8, 0, 2, name, 10, j, 20, 0, 30, 0) for j in range(10))
            blocks += block(inner).replace("\nA\n", f"\nB{k}\n", 1)
            name = f"B{k}"
    repeat = () if nested else (70, 32000, 71, 32000, 44, 1, 45, 1)
    bomb = tags(0, "INSERT", 8, 0, 2, name, 10, 0, 20, 0, 30, 0, *repeat)
    begun = time.process_time()
    result = drawn(tmp_path, bomb + GOOD, blocks + tags(0, "ENDSEC"))
    assert time.process_time() - begun < 5.0
    assert result.datasets[0].xyz.tolist() == [[1.5, 2.5, 3.5]] and "parts in all" in said(result)


def test_blocks_that_contain_themselves(tmp_path):
    blocks = (
        tags(0, "SECTION", 2, "BLOCKS")
        + block(tags(0, "INSERT", 8, 0, 2, "A", 10, 1, 20, 0, 30, 0))
        + tags(0, "ENDSEC")
    )
    result = drawn(tmp_path, tags(0, "INSERT", 8, 0, 2, "A", 10, 0, 20, 0, 30, 0) + GOOD, blocks)
    assert len(result.datasets[0].xyz) == 1 and "contains itself: A" in said(result)


def test_a_mesh_keeps_its_upright_faces(tmp_path):
    document = ezdxf.new("R2018")
    step = [
        ((0, 0, 0), (4, 0, 0), (4, 4, 0), (0, 4, 0)),
        ((4, 0, 0), (4, 0, 3), (4, 4, 3), (4, 4, 0)),
        ((4, 0, 3), (8, 0, 3), (8, 4, 3), (4, 4, 3)),
    ]
    from ezdxf.render import MeshBuilder

    mesh = MeshBuilder()
    for face in step:
        mesh.add_face(face)
    mesh.render_polyface(document.modelspace())
    document.saveas(tmp_path / "a.dxf")
    result = dxf.read(tmp_path / "a.dxf", dxf.DxfReadParams(), Silent())
    (made,) = result.datasets
    assert isinstance(made, Mesh) and len(made.triangles) == 6 and "upright-faces" in codes(result)
    from vastgrid.conversions.surfaces import mesh_to_tin as upper

    tin = upper.run([made], upper.UpperParams(), Silent())
    assert len(tin.dataset.triangles) == 4 and "2 faces of 6 have no area in plan" in " ".join(
        f.text for f in tin.findings
    )


def test_lines_without_heights_are_told(run_cli, tmp_path):
    body = (
        '<?xml version="1.0"?><LandXML xmlns="http://www.landxml.org/schema/LandXML-1.2" version="1.2"><Units><Metric linearUnit="meter"/>'
        "</Units><Surfaces><Surface name='S'><SourceData><Breaklines><Breakline><PntList2D>0 0 0 10</PntList2D></Breakline>"
        "<Breakline><PntList3D>0 0 5 0 10 6</PntList3D></Breakline></Breaklines></SourceData></Surface></Surfaces></LandXML>"
    )
    (tmp_path / "a.xml").write_text(body)
    for version in ("R2018", "R12"):
        code, _, err = run_cli("convert", tmp_path / "a.xml", tmp_path / "o.dxf", "--write", f"version={version}")
        assert code == 0 and "1 line of S lines has no heights" in err, err
        kinds = {e.dxftype(): e for e in ezdxf.readfile(tmp_path / "o.dxf").modelspace()}
        assert len(list(ezdxf.readfile(tmp_path / "o.dxf").modelspace())) == 2 and "POLYLINE" in kinds
    code, _, err = run_cli("convert", tmp_path / "a.xml", tmp_path / "o.xml")
    assert code == 0 and "no heights" not in err, "LandXML can say that there are none"


# -- LandXML

HEAD = '<?xml version="1.0"?><LandXML xmlns="http://www.landxml.org/schema/LandXML-1.2" version="1.2"><Units><Metric linearUnit="meter"/></Units>'


def lx(tmp_path, body, **options):
    (tmp_path / "t.xml").write_text(HEAD + body + "</LandXML>")
    return landxml.read(tmp_path / "t.xml", landxml.LandXmlReadParams(**options), Silent())


SQUARE = "<F>1 2 3</F><F>1 3 4</F>"


def faces(points, more=SQUARE):
    return f'<Surfaces><Surface name="S"><Definition surfType="TIN"><Pnts>{points}</Pnts><Faces>{more}</Faces></Definition></Surface></Surfaces>'


@pytest.mark.parametrize("before", [True, False])
def test_points_that_name_others_wherever_those_stand(tmp_path, before):
    cogo = '<CgPoints><CgPoint name="A1">0 0 10</CgPoint><CgPoint name="A2" code="X">0 100 20</CgPoint><CgPoint name="A3">100 100 30</CgPoint></CgPoints>'
    surface = faces('<P id="1" pntRef="A1"/><P id="2" pntRef="A2"/><P id="3" pntRef="A3"/><P id="4">100 0 40</P>')
    line = '<Alignments><Alignment name="a" length="100" staStart="0"><CoordGeom><Line><Start pntRef="A1"/><End pntRef="A3"/></Line></CoordGeom></Alignment></Alignments>'
    result = lx(tmp_path, cogo + surface + line if before else line + surface + cogo)
    tin = next(each for each in result.datasets if each.kind == "tin")
    assert sorted(tin.vertices.tolist()) == [[0, 0, 10], [0, 100, 40], [100, 0, 20], [100, 100, 30]]
    survey = next(each for each in result.datasets if each.kind == "survey")
    assert survey.vertices[:, :2].tolist() == [[0, 0], [100, 100]]


def test_ids_given_twice_or_not_at_all(tmp_path):
    corners = '<P id="1">0 0 10</P><P id="2">0 100 20</P><P id="3">100 100 30</P>'
    result = lx(tmp_path, faces(corners + '<P id="3">100 50 77</P><P id="4">100 0 1</P>'))
    assert "1 point id of S is given twice with other coordinates (3); the first counts" in said(result)
    assert 77 not in result.datasets[0].vertices[result.datasets[0].triangles][..., 2]
    assert "id-given-twice" not in codes(lx(tmp_path, faces(corners + '<P id="3">100 100 30</P><P id="4">100 0 1</P>')))
    plain = faces(corners + '<P id="4">100 0 1</P>')
    for k in "1234":
        plain = plain.replace(f' id="{k}"', "")
    result = lx(tmp_path, plain)
    assert len(result.datasets[0].triangles) == 2 and "numbered in their order" in said(result)


def test_names_given_twice_and_corners_without_height(tmp_path):
    cogo = '<CgPoints><CgPoint name="A">0 0 10</CgPoint><CgPoint name="A">0 50 99</CgPoint></CgPoints>'
    corners = '<P id="1" pntRef="A"/><P id="2">0 100 20</P><P id="3">100 100 30</P><P id="4">100 0</P>'
    result = lx(tmp_path, cogo + faces(corners))
    assert "1 point name is given twice with other coordinates (A)" in said(result)
    tin = next(each for each in result.datasets if each.kind == "tin")
    assert sorted(tin.vertices[tin.triangles[0]].tolist()) == [[0, 0, 10], [100, 0, 20], [100, 100, 30]]
    assert len(tin.triangles) == 1 and "1 face of S" in said(result)


def test_ids_of_some_points_and_a_boundary_that_does_not_trim(tmp_path):
    corners = '<P id="1">0 0 10</P><P>5 5 5</P><P id="2">0 100 20</P><P id="3">100 100 30</P><P id="4">100 0 1</P>'
    result = lx(tmp_path, faces(corners))
    assert len(result.datasets[0].triangles) == 2 and "1 point of S has no id" in said(result)
    kept = SOURCE.format("PntList2D>5 5 5 95 95 95 95 5 5 5</PntList2D").replace(
        'edgeTrim="true"', 'edgeTrim="false"', 1
    )
    source = lx(tmp_path, kept).datasets[1]
    assert source.attributes["trim"].tolist() == [b"no", b""], "the first boundary leaves triangles whole"


def test_boundaries_and_breaklines_go_out_as_what_they_are(tmp_path):
    body = (
        '<Surfaces><Surface name="S"><SourceData><Breaklines><Breakline brkType="wall"><PntList3D>0 0 1 5 5 2</PntList3D>'
        '</Breakline><Breakline brkType="standard"><PntList3D>0 9 1 5 9 2 7 9 3</PntList3D></Breakline></Breaklines><Boundaries>'
        '<Boundary bndType="outer" edgeTrim="true"><PntList2D>0 0 0 9 9 9 0 0</PntList2D></Boundary><Boundary bndType="void" '
        'edgeTrim="true"><PntList3D>2 2 1 2 4 1 4 4 1 2 2 1</PntList3D></Boundary></Boundaries></SourceData></Surface></Surfaces>'
    )
    (work,) = lx(tmp_path, body, take=_source()).datasets
    landxml.write([work], tmp_path / "o.xml", landxml.LandXmlWriteParams(), Silent())
    root = ElementTree.parse(tmp_path / "o.xml").getroot()
    found = [
        (each.tag.rsplit("}")[-1], dict(each.attrib)) for each in root.iter() if each.tag.endswith(("line", "ary"))
    ]
    assert found == [
        ("Breakline", {"brkType": "wall"}),
        ("Breakline", {"brkType": "standard"}),
        ("Boundary", {"bndType": "outer", "edgeTrim": "true"}),
        ("Boundary", {"bndType": "void", "edgeTrim": "true"}),
    ]
    (again,) = landxml.read(tmp_path / "o.xml", landxml.LandXmlReadParams(take=_source()), Silent()).datasets
    assert [again.layers[k] for k in again.layer] == [work.layers[k] for k in work.layer]
    np.testing.assert_allclose(again.vertices, work.vertices, atol=1e-6)


def test_what_a_file_holds_is_not_denied(tmp_path):
    with pytest.raises(
        FormatError, match=r"the file holds 1 surface \(S\), but nothing of it can be used: 1 point that is not numbers"
    ):
        lx(tmp_path, faces('<P id="1">0 0 NaN</P><P id="2">0 1 2</P><P id="3">1 1 2</P><P id="4">1 0 2</P>'))
    with pytest.raises(FormatError, match="the file holds no surface, no points and no alignments"):
        lx(tmp_path, "")
    with pytest.raises(CallError, match="S has no source data"):
        lx(
            tmp_path,
            faces('<P id="1">0 0 1</P><P id="2">0 1 2</P><P id="3">1 1 2</P><P id="4">1 0 2</P>'),
            take=_source(),
        )


def _source():
    from vastgrid.formats.landxml._read import Take

    return Take.SOURCE


SOURCE = (
    '<Surfaces><Surface name="S"><SourceData><DataPoints><PntList3D>0 0 10 0 100 20 100 100 30 100 0 40 50 50 99</PntList3D></DataPoints>'
    '<Boundaries><Boundary bndType="outer" edgeTrim="true"><{}></Boundary><Boundary bndType="void" edgeTrim="true"><PntList2D>40 40 40 45 45 45 '
    "45 40 40 40</PntList2D></Boundary></Boundaries></SourceData></Surface></Surfaces>"
)


@pytest.mark.parametrize(
    "ring", ["PntList2D>5 5 5 95 95 95 95 5 5 5</PntList2D", "PntList3D>5 5 1 5 95 1 95 95 1 95 5 1 5 5 1</PntList3D"]
)
def test_source_data_is_built_with_its_boundaries(tmp_path, ring):
    from vastgrid.data.tin import areas
    from vastgrid.measures.heights import heights

    (tmp_path / "t.xml").write_text(HEAD + SOURCE.format(ring) + "</LandXML>")
    source = read_file(tmp_path / "t.xml", {}, Silent())
    (tin,) = source.datasets
    assert tin.name == "S" and areas(tin).sum() == pytest.approx(8100 - 25, rel=1e-9)
    assert heights(tin, np.array([[5.0, 5.0]]))[0] == pytest.approx(10 + 8.9), "the boundary's own heights do not count"
    assert "inside Boundary outer, without Boundary void" in " ".join(f.text for f in source.findings)
    landxml.write([tin], tmp_path / "o.xml", landxml.LandXmlWriteParams(), Silent())
    again = landxml.read(tmp_path / "o.xml", landxml.LandXmlReadParams(), Silent()).datasets[0]
    assert [role for role, _ in again.limits()] == ["outer", "void"]
    points = lx(tmp_path, SOURCE.format(ring), take=_source()).datasets
    assert [each.kind for each in points] == ["points", "lines"]


def test_every_design_profile_is_kept(run_cli, tmp_path):
    body = (
        '<Alignments><Alignment name="a" length="100" staStart="0"><CoordGeom><Line><Start>0 0</Start><End>0 100</End></Line></CoordGeom><Profile>'
        '<ProfAlign name="d1"><PVI>0 10</PVI><PVI>100 20</PVI></ProfAlign><ProfAlign name="d2"><PVI>0 50</PVI><PVI>100 60</PVI></ProfAlign></Profile></Alignment></Alignments>'
    )
    (tmp_path / "a.xml").write_text(HEAD + body + "</LandXML>")
    code, _, err = run_cli("convert", tmp_path / "a.xml", tmp_path / "o.xml", "--units", "ft")
    assert code == 0 and "2 design profiles" in err, err
    written = (tmp_path / "o.xml").read_text()
    assert written.index('name="d1"') < written.index('name="d2"') and "164.0420" in written
    (survey,) = read_file(tmp_path / "a.xml", {}, Silent()).datasets
    assert survey.vertices[:, 2].tolist() == [10.0, 20.0]


# -- Rasters


def tiff(path, values, **options):
    profile = {
        "driver": "GTiff",
        "height": values.shape[-2],
        "width": values.shape[-1],
        "crs": "EPSG:25832",
        "transform": rasterio.Affine(1, 0, 5e5, 0, -1, 5.5e6),
    }
    values = values.reshape(-1, *values.shape[-2:])
    with rasterio.open(path, "w", count=len(values), dtype=values.dtype, **{**profile, **options}) as file:
        file.write(values)
    return path


def tif(path, **options):
    return geotiff.read(path, geotiff.BandParams(**options), Silent())


def test_pictures_are_no_ground(tmp_path):
    values = np.random.default_rng(0).integers(0, 9, (3, 20, 20)).astype("uint8")
    with pytest.raises(FormatError, match=r"this is a picture .red, green, blue."):
        tif(tiff(tmp_path / "rgb.tif", values, photometric="RGB"))
    assert "its numbers were taken, as asked" in said(tif(tmp_path / "rgb.tif", band=2))
    tiff(tmp_path / "pal.tif", values[0], photometric="palette")
    with rasterio.open(tmp_path / "pal.tif", "r+") as file:
        file.write_colormap(1, {k: (k, 9 - k, 0, 255) for k in range(10)})
    with pytest.raises(FormatError, match=r"this is a picture .palette."):
        tif(tmp_path / "pal.tif")


def test_values_that_stand_for_nothing(tmp_path):
    z = np.full((12, 12), 250.0, np.float32)
    # Ends of single precision, and a number that gridding programs write for nothing (common practice).
    z[0, :3], z[1, :2], z[2, 0] = -9999.0, -3.4e38, 1.70141e38
    result = tif(tiff(tmp_path / "a.tif", z))
    heights = result.datasets[0].heights
    assert np.isnan(heights).sum() == 3 and np.nanmin(heights) == -9999.0 and np.nanmax(heights) == 250.0
    assert "3 cells beyond ±1e+30 have no height" in said(result) and "3 cells are at -9999" in said(result)
    # Another value that is declared says nothing of these.
    result = tif(tiff(tmp_path / "b.tif", z, nodata=-3.4e38))
    assert "1 cell beyond" in said(result) and "3 cells are at -9999" in said(result)
    assert np.isnan(tif(tmp_path / "a.tif", nodata=-9999.0).datasets[0].heights).sum() == 6


def test_a_one_degree_tile_goes_out(run_cli, tmp_path):
    z = np.random.default_rng(0).integers(200, 900, (1201, 1201)).astype("int16")
    tiff(
        tmp_path / "n47.tif",
        z,
        crs="EPSG:4326",
        transform=rasterio.Affine(1 / 1200, 0, 8 - 1 / 2400, 0, -1 / 1200, 48 + 1 / 2400),
        nodata=-32768,
    )
    code, out, err = run_cli("convert", tmp_path / "n47.tif", tmp_path / "o.tif")
    assert code == 0 and "agree" in out, err
    with rasterio.open(tmp_path / "o.tif") as made:
        assert np.array_equal(made.read(1), z) and made.overviews(1)


ASC = "ncols 3\nnrows 2\nxllcorner 100\nyllcorner 200\ncellsize 10\n1 2 3\n4 -9999 6\n"


def asc(tmp_path, content, **options):
    (tmp_path / "a.asc").write_text(content)
    return asciigrid.read(tmp_path / "a.asc", asciigrid.AsciiReadParams(**options), Silent())


def test_rules_of_text_grids(tmp_path):
    result = asc(tmp_path, ASC)
    assert np.isnan(result.datasets[0].heights[1, 1]) and "usual-nodata" in codes(result)
    assert asc(tmp_path, ASC, nodata=6.0).datasets[0].heights[1, 1] == -9999.0
    mixed = asc(tmp_path, ASC.replace("yllcorner", "yllcenter")).datasets[0]
    assert (mixed.west, mixed.north) == (100.0, 215.0)
    both = asc(tmp_path, ASC.replace("yllcorner", "yllcenter").replace("xllcorner", "XLLCENTER")).datasets[0]
    assert (both.west, both.north) == (95.0, 215.0)
    for content, why in (
        (ASC + "7 8 9\n", "holds more than its head says: 2 × 3 heights are announced, 9 are there"),
        (ASC.replace("4 -9999 6\n", "4\n"), "cut off"),
        (ASC.replace("xllcorner 100\n", ""), "no place"),
        (ASC.replace("ncols 3", "ncols 3\nncols 4"), "given twice"),
        (ASC.replace("cellsize 10", "cellsize ten"), "is not a number"),
    ):
        with pytest.raises(FormatError, match=why):
            asc(tmp_path, content)


def slopes(tmp_path):
    tiff(tmp_path / "s.tif", np.linspace(0, 40, 144, dtype=np.float32).reshape(12, 12))
    with rasterio.open(tmp_path / "s.tif", "r+") as file:
        file.units = ("%",)
        file.descriptions = ("Slope",)
    return tmp_path / "s.tif"


def test_a_grid_of_something_else_is_no_ground(run_cli, tmp_path):
    result = tif(slopes(tmp_path))
    (grid,) = result.datasets
    assert not grid.has_heights and grid.holds() == "slope in %" and "no-heights" in codes(result)
    for conversion in (contours.CONVERSION, facets.CONVERSION):
        with pytest.raises(CallError, match="holds slope in %"):
            convert(conversion, [grid], conversion.params(), Silent())
    code, _, err = run_cli("convert", tmp_path / "s.tif", tmp_path / "o.xml")
    assert code == 2 and "grid of slope in %" in err
    code, _, err = run_cli("convert", tmp_path / "s.tif", tmp_path / "o.tif", "--vertical-units", "ft")
    assert code == 2 and "holds no heights" in err
    code, out, err = run_cli("convert", tmp_path / "s.tif", tmp_path / "o.tif", "--units", "ft")
    assert code == 0 and "agree" in out, err
    with rasterio.open(tmp_path / "o.tif") as made:
        assert made.units == ("%",) and made.descriptions == ("slope",)
        assert np.array_equal(made.read(1), np.linspace(0, 40, 144, dtype=np.float32).reshape(12, 12))
    assert "takes its values for heights" in run_cli("convert", tmp_path / "s.tif", tmp_path / "o.asc")[2].replace(
        "will take", "takes"
    )
    assert tif(tmp_path / "s.tif", holds=Holds.HEIGHT).datasets[0].has_heights
    assert in_units(grid, None, None) is grid and in_units(grid, METRES.horizontal, None).heights is not None


def test_looks_and_checks_follow_the_quantity(tmp_path):
    from vastgrid.execution.inspection import inspect
    from vastgrid.measures.figures import figures_of
    from vastgrid.styling.colouring import StyledLayer, surface_scale
    from vastgrid.styling.look import choices, look_of

    (grid,) = tif(slopes(tmp_path)).datasets
    assert surface_scale(StyledLayer(grid, look_of(grid), 0), 0.0, 300.0).title == "Slope in %"
    assert choices(grid)["colour"] == ["elevation", "one colour"]
    assert ("Holds", "slope in %") in figures_of(grid).rows
    assert inspect([grid, ground(100)], Silent())[0] == []
    assert any(
        finding.code == "quantity-not-carried" for finding in losses(grid, catalog.format_named("asciigrid").carries)
    )


# -- Clouds


def cloud(path, marks=(), keys=(), wkt="", strays=0):
    rng = np.random.default_rng(1)
    header = laspy.LasHeader(point_format=6 if wkt or marks else 3, version="1.4" if wkt or marks else "1.2")
    header.scales = (0.001,) * 3
    if keys:
        from laspy.vlrs.vlr import VLR

        packed = struct.pack("<4H", 1, 1, 0, len(keys)) + b"".join(struct.pack("<4H", a, 0, 1, b) for a, b in keys)
        header.vlrs.append(VLR("LASF_Projection", 34735, "keys", packed))
    if wkt:
        from laspy.vlrs.known import WktCoordinateSystemVlr

        header.vlrs.append(WktCoordinateSystemVlr(wkt))
        header.global_encoding.wkt = True
    data = laspy.LasData(header)
    xyz = np.column_stack((431_000 + rng.random((500, 2)) * 90, rng.random(500) * 5))
    xyz[:strays] = 0.0
    data.x, data.y, data.z = xyz.T
    for name in marks:
        flags = np.zeros(500, np.uint8)
        flags[:20] = 1
        setattr(data, name, flags)
    data.write(path)
    return path


@pytest.mark.parametrize("mark", ["withheld", "synthetic"])
def test_marked_points_are_counted_and_can_be_left_out(tmp_path, mark):
    path = cloud(tmp_path / "a.las", marks=(mark,))
    result = las.read(path, las.LasReadParams(), Silent())
    assert len(result.datasets[0].xyz) == 500 and f"20 points of 500 are marked {mark}" in said(result)
    for choice in (mark, "both"):
        result = las.read(path, las.LasReadParams(without=las.Marked(choice)), Silent())
        assert len(result.datasets[0].xyz) == 480 and "left out, as asked" in said(result)


def test_units_of_keys_and_units_that_contradict_themselves(tmp_path):
    import pyproj

    path = cloud(tmp_path / "k.las", keys=((1024, 1), (3072, 2263), (3076, 9003), (4099, 9003)))
    frame = las.read(path, las.LasReadParams(), Silent()).datasets[0].frame
    assert frame.horizontal.value == frame.vertical.value == "us-ft"
    plan = pyproj.CRS.from_epsg(2263).to_wkt("WKT1_GDAL")
    odd = f'COMPD_CS["x",{plan},VERT_CS["h",VERT_DATUM["d",2005],UNIT["US survey foot",1.0],AXIS["Up",UP]]]'
    source = read_file(cloud(tmp_path / "w.las", wkt=odd), {}, Silent())
    assert source.datasets[0].frame.vertical is None
    assert any("names the US survey foot but gives it the factor 1" in f.text for f in source.findings)


def test_points_at_nowhere_are_the_first_thing_told(run_cli, tmp_path):
    source = read_file(cloud(tmp_path / "a.las", strays=2), {}, Silent())
    assert (
        source.findings[0].code == "stray-places"
        and "2 points of 500 lie far from all others" in source.findings[0].text
    )
    crop = source.findings[0].text.split("crop=")[1].split(" ")[0]
    kept = read_file(tmp_path / "a.las", {"crop": crop}, Silent())
    assert len(kept.datasets[0].xyz) == 498 and "stray-places" not in {f.code for f in kept.findings}
    assert not [f for f in read_file(DATA / "autzen_trim.laz", {}, Silent()).findings if f.code == "stray-places"]


# -- Shapefiles


def test_a_cut_shapefile_is_refused_or_taken_as_far_as_it_is_whole(run_cli, tmp_path):
    for ending in ("shp", "shx", "dbf", "prj"):
        shutil.copy(DATA / f"olinda_c10.{ending}", tmp_path / f"c.{ending}")
    whole = (tmp_path / "c.shp").read_bytes()
    (tmp_path / "c.shp").write_bytes(whole[: len(whole) * 2 // 3])
    code, _, err = run_cli("convert", tmp_path / "c.shp", tmp_path / "o.dxf")
    assert code == 1 and "accept_cut=yes" in err and not (tmp_path / "o.dxf").exists()
    code, _, err = run_cli("convert", tmp_path / "c.shp", tmp_path / "o.dxf", "--read", "accept_cut=yes")
    assert code == 0 and "without geometry" in err and "cut" not in (tmp_path / "o.dxf").name
    (tmp_path / "c.shp").write_bytes(whole)
    table = (tmp_path / "c.dbf").read_bytes()
    (tmp_path / "c.dbf").write_bytes(table[:-500])
    with pytest.raises(FormatError, match=r"c\.dbf has"):
        shapefile.FORMAT.read(tmp_path / "c.shp", shapefile.ShapeReadParams(), Silent())


# -- Text


def points(tmp_path, content, encoding="utf-8", name="t.csv", **options):
    (tmp_path / name).write_bytes(content if isinstance(content, bytes) else content.encode(encoding))
    return text.read(tmp_path / name, text.TextReadParams(**options), Silent())


@pytest.mark.parametrize(
    ("head", "first"),
    [
        ("Height,Easting,Northing,Elevation", [431.5, 887.5, 10.0]),
        ("Rod height,E,N,Z", [431.5, 887.5, 10.0]),
        ("h,X coordinate,Y coordinate,Elev m", [431.5, 887.5, 10.0]),
        ("Target Ht,pt_east,pt_north,pt_elev", [431.5, 887.5, 10.0]),
        ("Punkt,Rechtswert,Hochwert,Höhe", [431.5, 887.5, 10.0]),
        ("Nr,Hochwert,Rechtswert,Hoehe", [887.5, 431.5, 10.0]),
        ("Punto,Este,Norte,Cota", [431.5, 887.5, 10.0]),
        ("Matricule,Est,Nord,Altitude", [431.5, 887.5, 10.0]),
        ("Geoid height,Easting (m),Northing (m),Orthometric height", [431.5, 887.5, 10.0]),
    ],
)
def test_heads_in_the_trades_own_words(tmp_path, head, first):
    result = points(tmp_path, head + "\n" + "".join(f"1.8,{431 + k}.5,{887 + k}.5,{10 + k}\n" for k in range(4)))
    assert result.datasets[0].xyz[0].tolist() == first and "columns-guessed" not in codes(result)


def test_heads_hidden_in_comments_and_heads_without_elevation(tmp_path):
    result = points(
        tmp_path, "; Pt;Code;Rechts;Hoch;Hoehe\n" + "".join(f"{k};A;431.{k};887.{k};1{k}\n" for k in range(4))
    )
    assert result.datasets[0].xyz[1].tolist() == [431.1, 887.1, 11.0] and not result.findings
    with pytest.raises(FormatError, match=r"Point, Easting, Northing. name no elevation"):
        points(tmp_path, "Point,Easting,Northing\n1,431.5,887.5\n2,432.5,888.5\n")


def test_other_encodings_quotes_and_padding(tmp_path):
    rows = "Point,East,North,Elev,Description\n1,1,2,3,Böschung\n2,1,3,3,Straße\n"
    for encoding in ("utf-8", "cp1252", "utf-8-sig", "utf-16"):
        result = points(tmp_path, rows, encoding)
        assert [each.decode() for each in result.datasets[0].attributes["description"]] == ["Böschung", "Straße"]
        assert ("encoding" in codes(result)) == (encoding == "cp1252")
    result = points(tmp_path, 'E,N,Z,Description\n1,2,3,"say ""hi"" x"\n4,5,6,"3"" pipe"\n7,8,9,plain\n')
    assert result.datasets[0].attributes["description"].tolist() == [b'say "hi" x', b'3" pipe', b"plain"]
    text.write([result.datasets[0]], tmp_path / "o.csv", text.TextWriteParams(), Silent())
    again = text.read(tmp_path / "o.csv", text.TextReadParams(), Silent()).datasets[0]
    assert again.attributes["description"].tolist() == result.datasets[0].attributes["description"].tolist()
    fixed = points(
        tmp_path,
        '  1 100.0 200.0 10.0 TREE OAK\n  2 110.0 210.0 11.0 A|B\n  3 110.0 220.0 11.0 3" pipe\n',
        widths="3,6,6,5,20",
        columns="PENZD",
    )
    assert fixed.datasets[0].attributes["description"].tolist() == [b"TREE OAK", b"A|B", b'3" pipe']


def test_text_that_is_partly_one_encoding_and_partly_another(tmp_path):
    rows = b"E,N,Z,Description\n" + b"".join(b"%d,%d,1.5,Stra\xc3\x9fe\n" % (k, k) for k in range(400_000))
    # One byte of another encoding, far behind the beginning, and five that mean nothing in Windows-1252.
    (tmp_path / "t.csv").write_bytes(rows + b"1,2,3.5,B\xf6schung\n4,5,6.5,\x81\n")
    result = text.read(tmp_path / "t.csv", text.TextReadParams(), Silent())
    assert len(result.datasets[0].xyz) == 400_002 and "encoding" in codes(result)
    assert result.datasets[0].attributes["description"][-2].decode() == "Böschung"
    # A beginning may end within a character.
    cut = rows.index(b"\xc3") + 1
    (tmp_path / "t.csv").write_bytes(rows)
    assert text.load(tmp_path / "t.csv", cut) == rows[:cut]
    assert not text.prepared(tmp_path / "t.csv", text.TextReadParams(), cut)[1]
    (tmp_path / "t.csv").write_bytes(rows[:cut])
    assert text.prepared(tmp_path / "t.csv", text.TextReadParams())[1][0].code == "encoding", "a whole file may not"


@pytest.mark.parametrize(
    "content",
    [
        "E;N;Z\n431.000,12;887.000,50;1.100,25\n431.010,12;887.010,50;1.101,25\n",
        "E;N;Z\n431 000,12;887 000,50;1 100,25\n431 010,12;887 010,50;1 101,25\n",
        "E;N;Z\n431\u202f000,12;887\u202f000,50;1\u202f100,25\n431\u202f010,12;887\u202f010,50;1\u202f101,25\n",
        'P,E,N,Z\n"1","431,000.12","887,000.50","1,100.25"\n"2","431,010.12","887,010.50","1,101.25"\n',
        "E;N;Z\n431'000.12;887'000.50;1'100.25\n431'010.12;887'010.50;1'101.25\n",
        "E\tN\tZ\n431’000.12\t887’000.50\t1’100.25\n431’010.12\t887’010.50\t1’101.25\n",
        "E|N|Z\n431,000.12|887,000.50|1,100.25\n431,010.12|887,010.50|1,101.25\n",
    ],
)
def test_thousands_as_they_are_written(tmp_path, content):
    result = points(tmp_path, content)
    assert result.datasets[0].xyz.tolist() == [[431000.12, 887000.5, 1100.25], [431010.12, 887010.5, 1101.25]]
    assert "thousands" in codes(result)


def test_lines_that_hold_more_or_are_commented_out(tmp_path):
    result = points(
        tmp_path, "E,N,Z\n" + "".join(f"{k},{k},{k}.5\n" for k in range(9)) + "#REF!,5,6.5\n1,2,3.5,77,8\n#note\n"
    )
    assert "line 11" in said(result) and "1 line has more columns than the 3" in said(result)


@pytest.mark.parametrize(
    ("rows", "told"),
    [
        ("1,2,3.5\n" * 9 + "1,2,3.5,,,\n", ""),
        ("1,2,3.5\n" * 9 + "1,2,3.5, \n", ""),
        ("1,2,3.5\n" * 9 + "1,2,3.5,4", "first line 11"),
        ("1,2,3.5,9\n" * 2 + "1,2,3.5\n" * 9 + "1,2,3.5,,x\n", "3 lines have more columns"),
        ('1,2,"3.5"\n' * 9 + "1,2,3.5,4\n", "1 line has more"),
        ('1,2,"3.5"\n' * 9 + '1,2,"3.5",",,"\n', "1 line has more"),
    ],
)
def test_what_stands_behind_the_columns(tmp_path, rows, told):
    result = points(tmp_path, "E,N,Z\n" + rows, columns="ENZ", start=2)
    assert (told in said(result)) if told else "longer-lines" not in codes(result)


def test_digits_without_end_take_no_time(tmp_path):
    begun = time.process_time()
    for count in (4_000, 64_000):
        with pytest.raises(FormatError):
            points(tmp_path, "E,N,Z\n" + "1" * count + ",2,3\n4,5,6\n")
        (tmp_path / "d.dxf").write_text(
            tags(0, "SECTION", 2, "ENTITIES") + GOOD.replace("1.5", "1" * count + ".5") + tags(0, "ENDSEC", 0, "EOF")
        )
        with pytest.raises(FormatError):
            dxf.read(tmp_path / "d.dxf", dxf.DxfReadParams(), Silent())
    assert time.process_time() - begun < 5.0


def test_easting_and_northing_for_each_other_are_said_and_offered(run_cli, tmp_path):
    rng = np.random.default_rng(3)
    xyz = np.column_stack((431_000 + rng.random(40) * 90, 887_000 + rng.random(40) * 90, rng.random(40)))
    np.savetxt(tmp_path / "a.csv", xyz, fmt="%.2f", delimiter=",", header="Easting,Northing,Elevation", comments="")
    np.savetxt(
        tmp_path / "b.csv", xyz[:, [1, 0, 2]] + (0.5, 0.5, 0.0), fmt="%.2f", delimiter=",", header="X,Y,Z", comments=""
    )
    _, _, err = run_cli("inspect", tmp_path / "a.csv", tmp_path / "b.csv")
    assert "b lies far from the other data, but among it once easting and northing are taken for each other" in err
    assert "(--read b.csv columns=northing,easting,elevation)" in err
    _, _, err = run_cli(
        "inspect", tmp_path / "a.csv", tmp_path / "b.csv", "--read", "b.csv", "columns=northing,easting,elevation"
    )
    assert "for each other" not in err


# -- What is told, in whose words

_FOREIGN = (
    "Error",
    "Exception",
    "Traceback",
    "0x",
    "site-packages",
    ".py",
    "GDAL",
    "PROJ:",
    "ezdxf",
    "DXFStructure",
    "numpy",
    "recursion",
    "/project/",
    "errno",
    "codec",
)


def test_no_librarys_words_reach_the_user(run_cli, tmp_path):
    """Damaged files of every kind: what comes of them is told in our own words."""
    import samples
    from fuzz.run import damaged

    rng = np.random.default_rng(8)
    told = 0
    for kind in catalog.FORMATS:
        if kind.read is None:
            continue
        folder = tmp_path / kind.id
        folder.mkdir()
        path = samples.sample(kind.id, folder)
        whole = path.read_bytes()
        for _ in range(12):
            path.write_bytes(damaged(whole, rng))
            _, _, err = run_cli("info", path)
            told += bool(err)
            for word in _FOREIGN:
                assert word not in err.replace(path.name, ""), f"{kind.id}: {err}"
    assert told > 80
