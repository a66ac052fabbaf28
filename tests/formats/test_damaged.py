"""Files that are damaged in one known way: the message names the file and the fault, and what is left out is counted.

What a format demands is taken from its own description: PLY (Turk 1994), OFF (Geomview's manual), PCD (the Point Cloud
Library's page on version 0.7), OBJ (Wavefront's appendix B1), STL, glTF 2.0 (Khronos), CityJSON 1.1 (OGC 20-072r5),
E57 (ASTM E2807), KML 2.2 (OGC 07-147r2) and GPX 1.1; cited from memory where no page is named.
"""

import json
import struct

import numpy as np
import pytest

from builders import HANDMADE
from vastgrid import catalog
from vastgrid.base.errors import FormatError, VastGridError
from vastgrid.base.progress import Silent
from vastgrid.execution.steps import read_file

PLY = b"ply\nformat ascii 1.0\nelement vertex 3\nproperty double x\nproperty double y\nproperty double z\n"
FACE = b"element face 1\nproperty list uchar int vertex_indices\n"
CORNERS = b"0 0 1\n10 0 2\n0 10 3\n"
PCD = b"# .PCD v0.7\nVERSION 0.7\nFIELDS x y z\nSIZE 8 8 8\nTYPE F F F\nCOUNT 1 1 1\nWIDTH 3\nHEIGHT 1\nPOINTS 3\n"
CITY = {
    "type": "CityJSON",
    "version": "1.1",
    "transform": {"scale": [0.01, 0.01, 0.01], "translate": [1000.0, 2000.0, 0.0]},
    "vertices": [[0, 0, 100], [1000, 0, 200], [0, 1000, 300], [1000, 1000, 400]],
    "CityObjects": {
        "hill": {
            "type": "TINRelief",
            "geometry": [{"type": "CompositeSurface", "lod": "1", "boundaries": [[[0, 1, 2]], [[1, 3, 2]]]}],
        }
    },
}


def glb(scene, version=2, length=None):
    body = json.dumps(scene).encode()
    body += b" " * (-len(body) % 4)
    whole = 20 + len(body)
    return struct.pack("<4sIIII", b"glTF", version, length or whole, len(body), 0x4E4F534A) + body


def city(**changes):
    return json.dumps({**CITY, **changes}).encode()


DAMAGED = [
    ("a.ply", PLY, "its header does not end"),
    ("a.ply", PLY.replace(b"double z", b"octuple z") + b"end_header\n" + CORNERS, "line 6: its header is not whole here: “property octuple z"),
    ("a.ply", PLY.replace(b"ascii", b"morse") + b"end_header\n", "stored as “morse”"),
    ("a.ply", PLY.replace(b"vertex 3", b"vertex 3000000") + b"end_header\n" + CORNERS, "more elements than fit in"),
    ("a.ply", PLY.replace(b"vertex 3", b"vertex 4") + b"end_header\n" + CORNERS, "cut off: 4 of vertex are announced, 3 are there"),
    ("a.ply", PLY.replace(b"double z", b"double w") + b"end_header\n" + CORNERS, "have no x, y and z; there are x, y, w"),
    ("a.ply", PLY + b"end_header\n" + CORNERS.replace(b" 2\n", b"\n"), "a row of vertex has fewer than 3 numbers"),
    ("a.ply", PLY + b"end_header\n" + CORNERS.replace(b"2", b"two"), "something in vertex is not a number"),
    ("a.ply", PLY + FACE + b"end_header\n" + CORNERS + b"3 0 1\n", "a face has fewer corners than it says"),
    ("a.ply", PLY + FACE + b"end_header\n" + CORNERS + b"3 0 1 7\n", "faces name corners that are not there"),
    ("a.ply", PLY + b"end_header\n" + b"nan nan nan\n" * 3, "no point has finite coordinates"),
    ("a.ply", PLY.replace(b"ascii", b"binary_little_endian") + b"end_header\n" + bytes(30), "cut off: 3 of vertex are announced, 1 are there"),
    ("a.off", b"OFF\n3 1 0\n" + CORNERS, "cut off: it speaks of 3 vertices and 1 faces"),
    ("a.off", b"OFF\n3 1 0\n" + CORNERS.replace(b"10", b"ten") + b"3 0 1 2\n", "is not a number"),
    ("a.off", b"OFF\nthree 1 0\n" + CORNERS + b"3 0 1 2\n", "is not a number"),
    ("a.off", b"OFF\n3 2 0\n" + CORNERS + b"3 0 1 2\n4 0 1 2\n", "a face has fewer corners than it says"),
    ("a.off", b"OFF\n3 1 0\n" + CORNERS + b"3 0 1 9\n", "faces name corners that are not there"),
    ("a.pcd", PCD, "its header does not end with DATA"),
    ("a.pcd", PCD.replace(b"SIZE 8 8 8", b"SIZE 8 8") + b"DATA ascii\n" + CORNERS, "its header is not whole"),
    ("a.pcd", PCD.replace(b"FIELDS x y z", b"FIELDS a b c") + b"DATA ascii\n" + CORNERS, "no x, y and z; there are a, b, c"),
    ("a.pcd", PCD.replace(b"POINTS 3", b"POINTS 0") + b"DATA ascii\n", "there are no points"),
    ("a.pcd", PCD + b"DATA ascii\n0 0 1\n", "cut off: 3 points are announced, 1 are there"),
    ("a.pcd", PCD + b"DATA ascii\n" + CORNERS.replace(b"2", b"two"), "among the points is not a number"),
    ("a.pcd", PCD + b"DATA binary\n" + bytes(24), "cut off: 3 points are announced, 1 are there"),
    ("a.pcd", PCD + b"DATA smoke\n" + CORNERS, "stored as “smoke”"),
    ("a.pcd", PCD + b"DATA binary_compressed\n" + b"\1\2", "cut off before its points"),
    ("a.pcd", PCD + b"DATA binary_compressed\n" + struct.pack("<II", 8, 99) + bytes(8), "8 packed bytes stand for 99"),
    ("a.pcd", PCD + b"DATA binary_compressed\n" + struct.pack("<II", 6, 72) + b"\xff" * 6, "the packed points are damaged"),
    ("a.pcd", PCD + b"DATA ascii\n" + b"nan nan nan\n" * 3, "no point has finite coordinates"),
    ("a.obj", b"   \n", "the file is empty"),
    ("a.obj", b"o nothing\nf 1 2 3\n", "there is no vertex"),
    ("a.obj", b"v 0 0 0\nv 1 0 zero\nv 0 1 0\nf 1 2 3\n", "a vertex is not three numbers"),
    ("a.obj", b"v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 x\n", "a face is not a row of whole numbers"),
    ("a.obj", b"v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 4\n", "faces name corners that are not there"),
    ("a.obj", b"v 0 0 0\nv 1 0 0\nv 0 1 0\n", "there is no face"),
    ("a.obj", b"v 0 0 0\nv 1e300 0 0\nv 0 1 0\nf 1 2 3\n", "not finite numbers"),
    ("a.stl", b"solid short", "cut off"),
    ("a.stl", bytes(80) + struct.pack("<I", 7) + bytes(60), "its header speaks of 7 faces, 1 are there"),
    ("a.glb", glb({"asset": {"version": "1.0"}}, version=1), "glTF version 1; only version 2 is read"),
    ("a.glb", glb({"asset": {"version": "2.0"}}, length=5000), "cut off: it speaks of 5000 bytes"),
    ("a.glb", glb({"asset": {"version": "2.0"}}).replace(b"{", b"["), "its description is damaged"),
    ("a.city.json", city(vertices=[[0, 0, "high"]]), "this is not whole CityJSON"),
    ("a.city.json", city(CityObjects=None), "this is not whole CityJSON"),
    ("a.city.json", city(vertices=CITY["vertices"][:3]), "faces name corners that are not there"),
    ("a.city.json", city(CityObjects={}), "there is no face"),
    ("a.city.json", city()[:-40], "this is not whole CityJSON"),
    ("a.gpx", b'<gpx version="1.1" xmlns="http://www.topografix.com/GPX/1/1"><wpt lat="1" lon="2">', "line 1: this is not well-formed XML from here on"),
    ("a.kml", b'<kml xmlns="http://www.opengis.net/kml/2.2"><Document/></kml>', "there is no placemark with coordinates"),
    ("a.asc", b"ncols 2\nnrows 2\nxllcorner 0\nyllcorner 0\ncellsize 1\n1 2\n3\n", "cut off"),
    ("a.xml", b'<LandXML xmlns="http://www.landxml.org/schema/LandXML-1.2" version="1.2"><Units><Metric', "line 1"),
    ("a.csv", b"E,N,Z\n1,2,three\n4,5,six\n", "no delimiter gives lines with three numbers"),
    ("a.csv", b"", "empty"),
    ("a.csv", b"# only\n# comments\n", "only blank lines and comments"),
    ("a.laz", b"LASF" + bytes(60), "64 bytes are less than a header"),
]  # fmt: skip


@pytest.mark.parametrize(("name", "data", "why"), DAMAGED, ids=[f"{n}-{k}" for k, (n, _, _) in enumerate(DAMAGED)])
def test_the_fault_is_named(tmp_path, name, data, why):
    path = tmp_path / name
    path.write_bytes(data)
    with pytest.raises(VastGridError, match=why) as told:
        read_file(path, {}, Silent())
    assert name in str(told.value) and "Traceback" not in str(told.value)
    assert [each.name for each in tmp_path.iterdir()] == [name], "nothing is left beside it"


@pytest.mark.parametrize(("name", "data"), [(name, data) for name, data, _ in DAMAGED[::7]])
def test_the_command_line_ends_with_the_same_sentence(tmp_path, run_cli, name, data):
    path = tmp_path / name
    path.write_bytes(data)
    code, out, said = run_cli("info", path)
    assert code != 0 and out == "" and said.startswith("vastgrid: ") and name in said and said.count("\n") == 1


# -- what does not come in is counted


def read(path, data, words=None):
    path.write_bytes(data)
    return read_file(path, words or {}, Silent())


def dropped(source):
    return [finding.text for finding in source.findings if finding.drops]


def test_points_without_coordinates(tmp_path):
    extra = b"nan 1 2\n"
    ply = read(tmp_path / "a.ply", PLY.replace(b"vertex 3", b"vertex 4") + b"end_header\n" + CORNERS + extra)
    head = PCD.replace(b"POINTS 3", b"POINTS 4").replace(b"WIDTH 3", b"WIDTH 4")
    pcd = read(tmp_path / "a.pcd", head + b"DATA ascii\n" + CORNERS + extra)
    for source in (ply, pcd):
        assert dropped(source) == ["1 point of 4 without finite coordinates: left out."]
        np.testing.assert_array_equal(source.datasets[0].xyz, [(0, 0, 1), (10, 0, 2), (0, 10, 3)])


def test_geometry_that_is_no_surface(tmp_path):
    objects = dict(CITY["CityObjects"])
    objects["road"] = {"type": "Road", "geometry": [{"type": "MultiLineString", "lod": "1", "boundaries": [[0, 1]]}]}
    source = read(tmp_path / "a.city.json", city(CityObjects=objects))
    assert dropped(source) == ["Geometries that are not surfaces were left out: 1 MultiLineString."]
    assert source.datasets[0].extent().east == (1000.0, 1010.0)


def test_a_hole_in_a_surface_is_closed_and_said(tmp_path):
    objects = {
        "pad": {"type": "TINRelief", "geometry": [{"type": "MultiSurface", "lod": "1", "boundaries": [[[0, 1, 3, 2], [0, 1, 2]]]}]}
    }  # fmt: skip
    source = read(tmp_path / "a.city.json", city(CityObjects=objects))
    assert any("1 surfaces have holes" in finding.text for finding in source.findings)
    assert len(source.datasets[0].triangles) == 2


def test_a_reference_system_that_cannot_be_used_is_said(tmp_path):
    source = read(
        tmp_path / "a.city.json", city(metadata={"referenceSystem": "https://www.opengis.net/def/crs/EPSG/0/999999"})
    )
    assert any(finding.code == "crs-unreadable" for finding in source.findings) and source.datasets[0].frame.crs is None
    known = read(
        tmp_path / "b.city.json", city(metadata={"referenceSystem": "https://www.opengis.net/def/crs/EPSG/0/25832"})
    )
    assert "UTM zone 32N" in known.datasets[0].frame.describe()


def test_scans_with_points_marked_invalid(tmp_path):
    import pye57

    path = tmp_path / "a.e57"
    file = pye57.E57(str(path), mode="w")
    data = {axis: np.array([1.0, 2.0, 3.0, 4.0]) for axis in ("cartesianX", "cartesianY", "cartesianZ")}
    file.write_scan_raw({**data, "cartesianInvalidState": np.array([0, 0, 1, 0], np.int8)}, name="station")
    file.close()
    source = read_file(path, {}, Silent())
    assert [len(each.xyz) for each in source.datasets] == [3]
    np.testing.assert_array_equal(source.datasets[0].xyz[:, 0], [1.0, 2.0, 4.0])
    assert dropped(source) == ["1 point of 4 of station marked invalid: left out."]


def test_points_without_a_place_in_gpx_and_kml(tmp_path):
    gpx = b'<gpx version="1.1" creator="t" xmlns="http://www.topografix.com/GPX/1/1"><wpt lat="45" lon="14"><ele>7</ele></wpt><wpt lat="x" lon="14"/><wpt lat="145" lon="14"/></gpx>'
    source = read(tmp_path / "a.gpx", gpx)
    assert dropped(source) == ["2 points without a good place left out."] and len(source.datasets[0].xyz) == 1
    place = "<Placemark><name>{}</name><Point><coordinates>{}</coordinates></Point></Placemark>"
    marks = "".join(place.format(name, text) for name, text in (("good", "14.1,45.2,7"), ("bad", "east,north")))
    kml = f'<kml xmlns="http://www.opengis.net/kml/2.2"><Document>{marks}</Document></kml>'.encode()
    source = read(tmp_path / "a.kml", kml)
    assert dropped(source) == ["1 shape with coordinates that make no sense left out."]
    np.testing.assert_allclose(source.datasets[0].xyz, [(14.1, 45.2, 7.0)])


def test_what_is_only_noticed_drops_nothing():
    for name in ("two_definitions.xml", "pyramid.ply", "slab.off", "step.obj", "relief.city.json"):
        for finding in read_file(HANDMADE / name, {}, Silent()).findings:
            assert finding.drops == ("left out" in finding.text), finding


def test_a_file_of_no_format_names_what_can_be_read(tmp_path):
    (tmp_path / "a.bin").write_bytes(b"\x00\x01\x02" * 50)
    with pytest.raises(FormatError, match=r"of no known format .vastgrid formats lists those"):
        catalog.recognise(tmp_path / "a.bin")
    with pytest.raises(FormatError, match="there is no such file"):
        catalog.recognise(tmp_path / "nothing.xyz")
    with pytest.raises(FormatError, match="this is a folder"):
        catalog.recognise(tmp_path)
