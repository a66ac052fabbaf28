"""Mesh and BIM files: some written by hand, others as trimesh writes them."""

import json
import struct
import zipfile

import numpy as np
import pytest
import trimesh

import samples
from builders import HANDMADE
from vastgrid import catalog
from vastgrid.base.errors import FormatError
from vastgrid.base.progress import Silent
from vastgrid.base.quantities import Unit
from vastgrid.conversions.surfaces import mesh_to_tin as upper
from vastgrid.data.mesh import Mesh
from vastgrid.data.tin import Tin, areas
from vastgrid.execution.steps import read_file
from vastgrid.params import declare


def read(path, **words):
    return read_file(path, words, Silent())


@pytest.mark.parametrize("suffix", ["obj", "stl", "ply", "off", "3mf"])
def test_a_height_field_of_another_program_becomes_the_same_tin(suffix, tmp_path):
    path = samples.mesh(tmp_path / f"ground.{suffix}")
    (tin,) = read(path).datasets
    vertices, triangles = samples.lattice()
    assert isinstance(tin, Tin) and tin.count() == {"vertices": len(vertices), "triangles": len(triangles)}
    want = np.sort(vertices[triangles].mean(axis=1), axis=0)
    # STL and 3MF keep single precision or few digits.
    np.testing.assert_allclose(np.sort(tin.corners().mean(axis=1), axis=0), want, atol=2e-5)
    theirs = trimesh.load(path, process=False)
    assert isinstance(theirs, trimesh.Trimesh | trimesh.Scene)
    np.testing.assert_allclose(areas(tin).sum(), 55.0 * 44.0, rtol=1e-6)


@pytest.mark.parametrize(("suffix", "options"), [("stl", {"file_type": "stl_ascii"}), ("ply", {"encoding": "ascii"})])
def test_text_forms(suffix, options, tmp_path):
    (tin,) = read(samples.mesh(tmp_path / f"g.{suffix}", **options)).datasets
    assert tin.count()["triangles"] == len(samples.lattice()[1])


def test_glb_is_y_up_and_metric_by_its_standard(tmp_path):
    path = samples.mesh(tmp_path / "g.glb")
    (mesh,) = read(path).datasets
    assert mesh.frame.horizontal is Unit.METRE and mesh.extent().elevation == (0.0, 44.0)
    assert any(finding.code == "axis-doubtful" for finding in read(path).findings)
    (tin,) = read(path, up="z").datasets
    assert isinstance(tin, Tin)
    np.testing.assert_allclose(tin.extent().elevation, (samples.lattice()[0][:, 2].min(), 105.0), atol=0.1)


def test_handmade_obj_quads_groups_and_negative_numbers():
    lower, higher = read(HANDMADE / "step.obj").datasets
    assert (lower.name, higher.name) == ("lower", "upper")
    assert lower.count() == {"vertices": 4, "triangles": 2} and higher.count() == {"vertices": 3, "triangles": 1}
    assert {tuple(v) for v in higher.vertices.tolist()} == {
        (1010.25, 2000.5, 10.0),
        (1020.25, 2000.5, 12.0),
        (1010.25, 2010.5, 11.5),
    }


def test_a_solid_stays_a_mesh_and_its_upper_side_becomes_a_tin():
    source = read(HANDMADE / "slab.off")
    (mesh,) = source.datasets
    assert isinstance(mesh, Mesh) and mesh.count()["triangles"] == 12
    finding = next(finding for finding in source.findings if finding.code == "overhang")
    assert "4 faces of 12" in finding.text and "8 faces stand upright" in finding.text and finding.at is not None
    for side, height in (("upper", 2.0), ("lower", 0.0)):
        result = upper.run([mesh], declare.build(upper.UpperParams, {"side": side}), Silent())
        assert (result.dataset.vertices[:, 2] == height).all()
        assert areas(result.dataset).sum() == pytest.approx(12.0), "4 × 3"


def test_real_coordinates_keep_every_digit():
    (tin,) = read(HANDMADE / "pyramid.ply").datasets
    assert tin.vertices.max(axis=0).tolist() == [512010.125, 5412010.25, 104.5]
    (tin,) = read(HANDMADE / "wedge.stl").datasets
    assert areas(tin).sum() == pytest.approx(100.0)


def test_cityjson_transform_and_compound_crs():
    source = read(HANDMADE / "relief.city.json")
    (tin,) = source.datasets
    assert tin.vertices.tolist()[2] == [84010.0, 447010.0, 1.8]
    assert tin.frame.horizontal is Unit.METRE and tin.frame.vertical is Unit.METRE and "NAP" in tin.frame.describe()


def test_ifc_placement_units_and_map_conversion():
    """IfcMapConversion by ISO 16739-1: local millimetres, scaled, moved onto the map in metres."""
    (tin,) = read(HANDMADE / "site.ifc").datasets
    assert tin.name == "Ground" and "UTM zone 32N" in tin.frame.describe()
    np.testing.assert_allclose(tin.vertices[0], [431001.0, 5412002.0, 200.5], atol=1e-9)
    np.testing.assert_allclose(tin.vertices.max(axis=0), [431011.0, 5412012.0, 200.7], atol=1e-9)


def test_ply_points_keep_all_properties(tmp_path):
    rows = np.zeros(50, [("x", "<f8"), ("y", "<f8"), ("z", "<f8"), ("red", "u1"), ("scalar_intensity", "<f4")])
    rows["x"], rows["z"], rows["red"] = np.arange(50) + 512_000.125, 7.5, np.arange(50)
    head = "ply\nformat binary_little_endian 1.0\nelement vertex 50\nproperty double x\nproperty double y\n"
    head += "property double z\nproperty uchar red\nproperty float scalar_intensity\nend_header\n"
    (tmp_path / "a.ply").write_bytes(head.encode() + rows.tobytes())
    (points,) = read(tmp_path / "a.ply").datasets
    assert points.xyz[3].tolist() == [512_003.125, 0.0, 7.5]
    assert points.attributes["red"][7] == 7 and "intensity" in points.attributes


def test_polygons_of_several_sizes_in_binary_ply(tmp_path):
    vertices = np.array([(0, 0, 0), (4, 0, 0), (4, 4, 1), (0, 4, 1), (2, 6, 2)], "<f4")
    faces = struct.pack("<B4i", 4, 0, 1, 2, 3) + struct.pack("<B3i", 3, 3, 2, 4)
    head = (
        "ply\nformat binary_little_endian 1.0\nelement vertex 5\nproperty float x\nproperty float y\nproperty float z\n"
    )
    head += "element face 2\nproperty list uchar int vertex_indices\nend_header\n"
    (tmp_path / "a.ply").write_bytes(head.encode() + vertices.tobytes() + faces)
    (tin,) = read(tmp_path / "a.ply").datasets
    assert tin.count() == {"vertices": 5, "triangles": 3} and areas(tin).sum() == pytest.approx(20.0)


def test_what_leads_elsewhere_or_swells_is_refused(tmp_path):
    scene = json.dumps(
        {"asset": {"version": "2.0"}, "buffers": [{"uri": "../../etc/passwd", "byteLength": 4}]}
    ).encode()
    scene += b" " * (-len(scene) % 4)
    data = struct.pack("<4sIII4s", b"glTF", 2, 20 + len(scene), len(scene), b"JSON") + scene
    (tmp_path / "a.glb").write_bytes(data)
    with pytest.raises(FormatError, match="another file"):
        read(tmp_path / "a.glb")
    with zipfile.ZipFile(tmp_path / "bomb.3mf", "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("3D/3dmodel.model", b" " * 300_000_000)
    with pytest.raises(FormatError, match="would swell"):
        read(tmp_path / "bomb.3mf")
    model = '<?xml version="1.0"?><!DOCTYPE m [<!ENTITY a "aaaa">]><model>&a;</model>'
    with zipfile.ZipFile(tmp_path / "entity.3mf", "w") as archive:
        archive.writestr("3D/3dmodel.model", model)
    with pytest.raises(FormatError, match="document type"):
        read(tmp_path / "entity.3mf")


def test_3mf_components_are_placed(tmp_path):
    """A component and a build item with transforms, by the 3MF core specification."""
    model = """<?xml version="1.0"?><model unit="centimeter" xmlns="http://schemas.microsoft.com/3dmanufacturing/core/2015/02">
    <resources><object id="1"><mesh><vertices><vertex x="0" y="0" z="0"/><vertex x="2" y="0" z="0"/><vertex x="0" y="2" z="1"/>
    </vertices><triangles><triangle v1="0" v2="1" v3="2"/></triangles></mesh></object>
    <object id="2"><components><component objectid="1" transform="1 0 0 0 1 0 0 0 1 10 0 0"/></components></object></resources>
    <build><item objectid="2" transform="1 0 0 0 1 0 0 0 1 0 5 0"/></build></model>"""
    with zipfile.ZipFile(tmp_path / "a.3mf", "w") as archive:
        archive.writestr("3D/3dmodel.model", model)
    (tin,) = read(tmp_path / "a.3mf").datasets
    assert sorted(tin.vertices.tolist()) == [[100.0, 50.0, 0.0], [100.0, 70.0, 10.0], [120.0, 50.0, 0.0]]
    assert tin.frame.horizontal is Unit.MILLIMETRE


def test_chain_takes_a_mesh_to_landxml(run_cli, tmp_path):
    code, out, err = run_cli(
        "convert", HANDMADE / "slab.off", tmp_path / "a.xml", "--from-units", "m", "--from-vertical-units", "m"
    )
    assert code == 0, err
    assert "TIN from the upper side of slab" in out
    assert catalog.recognise(tmp_path / "a.xml").id == "landxml"
