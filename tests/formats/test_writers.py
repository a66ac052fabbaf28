"""What goes out, read by libraries that are not ours: places, attributes, units and systems have to be there."""

import dataclasses
import json
import subprocess
import sys
import zipfile

import laspy
import lxml.etree
import numpy as np
import pye57
import pyogrio
import pytest
import rasterio
import shapely
import trimesh

from builders import DATA, METRES, ground, scattered
from vastgrid import catalog
from vastgrid.base.errors import CallError, DataError, ParamError
from vastgrid.base.progress import Silent
from vastgrid.base.quantities import Length, Unit
from vastgrid.conversions.lines import contours
from vastgrid.data.frame import Frame, frame_of_crs
from vastgrid.data.grid import Grid
from vastgrid.data.linework import from_lines
from vastgrid.delivery.deliver import deliver
from vastgrid.execution.steps import read_file
from vastgrid.params import declare

UTM = frame_of_crs("EPSG:32632").crs
FEET = Frame(frame_of_crs("EPSG:2992").crs, Unit.FOOT, Unit.FOOT)
FRAMES = {
    "metres": METRES,
    "feet": Frame(None, Unit.US_FOOT, Unit.FOOT),
    "system": Frame(UTM, Unit.METRE, Unit.US_FOOT),
    "unknown": Frame(),
}


def sent(own, datasets, path, **words):
    target = catalog.format_named(own)
    made = deliver(datasets, path, target, declare.build(target.write_params, words), Silent())
    assert made.good, [check for check in made.checks if not check.good]
    return made


def surface(frame=METRES):
    return ground(600).in_frame(frame)


def sorted_rows(xyz):
    return xyz[np.lexsort(np.round(xyz, 2).T)]


# -- meshes, read by trimesh


@pytest.mark.parametrize("frame", ["metres", "feet"])
@pytest.mark.parametrize("own", ["stl", "obj", "ply", "off", "glb", "3mf"])
def test_trimesh_sees_the_same_triangles(own, frame, tmp_path):
    tin = surface(FRAMES[frame])
    path = tmp_path / f"a{catalog.format_named(own).suffixes[0]}"
    words = {} if (own, frame) != ("3mf", "feet") else None
    if words is None:
        with pytest.raises(CallError, match="no word for the US survey foot"):
            sent(own, [tin], path)
        return
    sent(own, [tin], path)
    loaded = trimesh.load(path, process=False)
    mesh = loaded.to_mesh() if isinstance(loaded, trimesh.Scene) else loaded
    assert len(mesh.faces) == len(tin.triangles)
    places = np.asarray(mesh.vertices)
    want = tin.vertices.copy()
    if frame == "feet" and own != "ply":
        # One unit for all: heights were brought into the plan's.
        want[:, 2] *= 0.3048 / (1200 / 3937)
    elif frame == "feet":
        want[:, 2] *= 0.3048 / (1200 / 3937)
    if own == "glb":
        want *= 1200 / 3937 if frame == "feet" else 1.0
        origin = np.array(json.loads(_glb_json(path))["asset"]["extras"]["origin"])
        places = np.column_stack((places[:, 0], -places[:, 2], places[:, 1])) + origin
    elif own == "stl":
        head = path.read_bytes()[:80].decode()
        origin = np.array([float(word) for word in head.split("origin ")[1].split(";")[0].split()])
        places = places + origin
        assert f"unit {tin.frame.horizontal.value}" in head
    np.testing.assert_allclose(places.min(axis=0), want[np.unique(tin.triangles)].min(axis=0), atol=2e-3)
    np.testing.assert_allclose(places.max(axis=0), want[np.unique(tin.triangles)].max(axis=0), atol=2e-3)


def _glb_json(path):
    data = path.read_bytes()
    size = int.from_bytes(data[12:16], "little")
    return data[20 : 20 + size].decode()


def test_an_origin_is_as_said_or_refused(tmp_path):
    tin = surface()
    east, north = tin.vertices[:, 0].min(), tin.vertices[:, 1].min()
    for own in ("stl", "obj", "ply", "off", "glb", "3mf"):
        path = tmp_path / f"a{catalog.format_named(own).suffixes[0]}"
        sent(own, [tin], path, origin=f"{np.floor(east)},{np.floor(north)},0")
        (back,) = read_file(path, {}, Silent()).datasets
        np.testing.assert_allclose(back.extent().east, tin.extent().east, atol=1e-3)
    for own in ("obj", "ply", "off", "3mf"):
        path = tmp_path / f"b{catalog.format_named(own).suffixes[0]}"
        sent(own, [tin], path, origin="none")
        loaded = trimesh.load(path, process=False)
        mesh = loaded.to_mesh() if isinstance(loaded, trimesh.Scene) else loaded
        assert mesh.bounds[0][0] == pytest.approx(east, abs=1e-3)
    for own in ("stl", "glb"):
        with pytest.raises(ParamError, match="single precision, which from there moves coordinates"):
            sent(own, [tin], tmp_path / f"c{catalog.format_named(own).suffixes[0]}", origin="none")
    with pytest.raises(ParamError, match="is not a place"):
        sent("obj", [tin], tmp_path / "d.obj", origin="north")


def test_a_3mf_is_a_package_by_the_core_specification(tmp_path):
    """Parts, relationship and namespace by the 3MF core specification 1.3, 2 and 3.2."""
    sent("3mf", [surface()], tmp_path / "a.3mf")
    with zipfile.ZipFile(tmp_path / "a.3mf") as archive:
        assert {"[Content_Types].xml", "_rels/.rels", "3D/3dmodel.model"} <= set(archive.namelist())
        model = lxml.etree.fromstring(archive.read("3D/3dmodel.model"))
    assert (
        model.tag == "{http://schemas.microsoft.com/3dmanufacturing/core/2015/02}model" and model.get("unit") == "meter"
    )


def test_cityjson_is_quantised_as_its_transform_says(tmp_path):
    """CityJSON 2.0, 2.4: vertex = whole numbers × scale + translate; a TINRelief is a composite surface (3.2)."""
    tin = surface(Frame(UTM, Unit.METRE, Unit.METRE))
    sent("cityjson", [tin], tmp_path / "a.city.json")
    model = json.loads((tmp_path / "a.city.json").read_text())
    assert (model["type"], model["version"]) == ("CityJSON", "2.0")
    assert model["metadata"]["referenceSystem"].endswith("/EPSG/0/32632")
    (relief,) = model["CityObjects"].values()
    assert relief["type"] == "TINRelief" and relief["geometry"][0]["type"] == "CompositeSurface"
    places = np.array(model["vertices"]) * model["transform"]["scale"] + model["transform"]["translate"]
    corners = places[np.array(relief["geometry"][0]["boundaries"])[:, 0]]
    np.testing.assert_allclose(corners, tin.corners(), atol=5.1e-5)


@pytest.mark.parametrize("schema", ["IFC4", "IFC4X3"])
def test_ifc_is_valid_and_placed_by_its_map_conversion(schema, tmp_path):
    tin = surface()
    made = sent("ifc", [tin.renamed("Grund 'Ä' 地")], tmp_path / "a.ifc", schema=schema)
    assert any(check.what == "check by an independent library" and check.good for check in made.checks)
    # In a process of its own: the library keeps its state for the life of one.
    code = (
        "import ifcopenshell, json, sys\n"
        "m = ifcopenshell.open(sys.argv[1])\n"
        "c = m.by_type('IfcMapConversion')[0]\n"
        "t = m.by_type('IfcTriangulatedFaceSet')[0]\n"
        "e = m.by_type('IfcGeographicElement')[0]\n"
        "print(json.dumps([m.schema, e.Name, e.PredefinedType, c.Eastings, c.Northings, c.OrthogonalHeight,"
        " c.TargetCRS.Name, t.is_a(), [list(p) for p in t.Coordinates.CoordList], [list(i) for i in t.CoordIndex]]))"
    )
    done = subprocess.run([sys.executable, "-c", code, tmp_path / "a.ifc"], capture_output=True, text=True, check=True)
    own, name, kind, east, north, up, system, what, places, index = json.loads(done.stdout)
    assert own == schema and name == "Grund 'Ä' 地" and kind == "TERRAIN" and system == "Local grid"
    assert what == ("IfcTriangulatedFaceSet" if schema == "IFC4" else "IfcTriangulatedIrregularNetwork")
    corners = (np.array(places) + (east, north, up))[np.array(index) - 1]
    np.testing.assert_allclose(corners, tin.corners(), atol=5.1e-5)


def test_an_ifc_that_breaks_the_schema_is_a_failed_delivery(tmp_path, monkeypatch):
    from vastgrid.formats.ifc import _write

    good = _write._frame
    monkeypatch.setattr(_write, "_frame", lambda *a: (line.replace(".ELEMENT.", "'nothing'") for line in good(*a)))
    target = catalog.format_named("ifc")
    made = deliver([surface()], tmp_path / "a.ifc", target, target.write_params(), Silent())
    assert not made.good and made.path.name == "a.failed.ifc" and not (tmp_path / "a.ifc").exists()


# -- clouds


def cloud():
    (own,) = read_file(DATA / "autzen_trim.laz", {}, Silent()).datasets
    return own


@pytest.mark.parametrize("suffix", [".las", ".laz"])
def test_laspy_sees_every_attribute(suffix, tmp_path):
    own = cloud()
    sent("las", [own], tmp_path / f"a{suffix}")
    read, first = laspy.read(tmp_path / f"a{suffix}"), laspy.read(DATA / "autzen_trim.laz")
    np.testing.assert_allclose(read.xyz, first.xyz, atol=1e-9)
    for name in ("classification", "intensity", "return_number", "number_of_returns", "gps_time", "red", "blue"):
        np.testing.assert_array_equal(read[name], first[name])
    # Ranks of whole degrees in steps of 0.006 degrees from point format 6 on (LAS 1.4, table 9).
    np.testing.assert_allclose(np.asarray(read.scan_angle) * 0.006, np.asarray(first.scan_angle_rank), atol=0.003)
    assert read.header.parse_crs().name == first.header.parse_crs().name


def test_a_forced_point_format_that_loses_is_refused(tmp_path):
    for words, lost in (
        ({"point_format": "0"}, "times and colours"),
        ({"point_format": "1"}, "colours"),
        ({"point_format": "2"}, "times"),
        ({"point_format": "4"}, "waveforms"),
        ({"version": "1.2"}, "1.4 tells any"),
    ):
        with pytest.raises(ParamError, match=lost):
            sent("las", [cloud()], tmp_path / "a.laz", **words)
    own = scattered(50)
    own = dataclasses.replace(own, attributes={"classification": np.full(50, 64, np.uint8)})
    with pytest.raises(ParamError, match="classes above 31"):
        sent("las", [own], tmp_path / "a.las", point_format="3")
    sent("las", [own], tmp_path / "a.las")
    assert laspy.read(tmp_path / "a.las").header.point_format.id == 6


@pytest.mark.parametrize("version", ["1.2", "1.4"])
@pytest.mark.parametrize("frame", ["metres", "feet", "unknown"])
def test_units_of_clouds_come_back(version, frame, tmp_path):
    own = scattered(60).in_frame(FRAMES[frame])
    sent("las", [own], tmp_path / "a.las", version=version)
    header = laspy.read(tmp_path / "a.las").header
    assert str(header.version) == version
    (back,) = read_file(tmp_path / "a.las", {}, Silent()).datasets
    assert back.frame == own.frame


def test_scale_holds_what_the_coordinates_have_and_large_extents(tmp_path):
    xyz = np.array(
        [(431_000.1234, 5_887_000.5678, 12.25), (431_500.0001, 5_887_900.0, 13.5), (431_001.0, 5_887_001.0, 1.0)]
    )
    own = dataclasses.replace(scattered(3), xyz=xyz, attributes={})
    sent("las", [own], tmp_path / "a.las")
    np.testing.assert_allclose(laspy.read(tmp_path / "a.las").xyz, xyz, atol=1e-9)
    far = dataclasses.replace(own, xyz=xyz + np.array([(0, 0, 0), (9e6, 0, 0), (0, 9e6, 0)]))
    # No coordinate loses digits for another's sake: the point far off is named.
    with pytest.raises(DataError, match=r"cannot count in steps of 0\.0001; point 2 \(E 9431500"):
        sent("las", [far], tmp_path / "b.las")
    sent("las", [far], tmp_path / "b.las", decimals="2")
    with pytest.raises(ParamError, match="cannot count in steps"):
        sent("las", [far], tmp_path / "c.las", decimals="6")


def test_pye57_sees_places_colours_and_the_pose(tmp_path):
    own = cloud()
    own = own.in_frame(dataclasses.replace(own.frame, vertical=Unit.FOOT))
    sent("e57", [own], tmp_path / "a.e57")
    data = pye57.E57(str(tmp_path / "a.e57")).read_scan(0, ignore_missing_fields=True, intensity=True, colors=True)
    np.testing.assert_allclose(data["cartesianX"], own.xyz[:, 0] * 0.3048, atol=1e-6)
    np.testing.assert_allclose(data["cartesianZ"], own.xyz[:, 2] * 0.3048, atol=1e-6)
    np.testing.assert_array_equal(data["intensity"], own.attributes["intensity"])


def test_ply_points_keep_their_attributes(tmp_path):
    own = dataclasses.replace(
        scattered(40), attributes={"classification": np.arange(40, dtype=np.uint8), "time": np.linspace(0, 1, 40)}
    )
    for encoding in ("binary", "text"):
        sent("ply", [own], tmp_path / "a.ply", encoding=encoding)
        loaded = trimesh.load(tmp_path / "a.ply")
        np.testing.assert_allclose(loaded.vertices, own.xyz, atol=1e-9)
        raw = loaded.metadata["_ply_raw"]["vertex"]["data"]
        np.testing.assert_array_equal(np.asarray(raw["classification"]).ravel(), own.attributes["classification"])


# -- rasters, read by rasterio


def grid(frame, shape=(31, 42), cell=(0.5, 0.5)):
    heights = np.random.default_rng(3).normal(100.0, 10.0, shape)
    heights[tuple(n // 2 for n in shape)] = np.nan if min(shape) > 1 else 5.0
    return Grid(name="g", frame=frame, heights=heights, west=431_000.5, north=4_887_000.25, dx=cell[0], dy=cell[1])


@pytest.mark.parametrize("frame", list(FRAMES))
@pytest.mark.parametrize("own", ["geotiff", "asciigrid", "floatgrid", "bil"])
def test_rasters_keep_place_gaps_and_what_is_known_of_units(own, frame, tmp_path):
    data = grid(FRAMES[frame])
    path = tmp_path / f"a{catalog.format_named(own).suffixes[0]}"
    sent(own, [data], path)
    with rasterio.open(path) as source:
        read = source.read(1, masked=True)
        assert source.transform[2] == data.west and source.transform[5] == data.north
        assert read.mask.sum() == 1
        np.testing.assert_allclose(read.filled(np.nan), data.heights, atol=6e-5, equal_nan=True)
        if data.frame.crs:
            assert source.crs.linear_units_factor[1] == pytest.approx(float(data.frame.horizontal.metres), abs=1e-9)
    (back,) = read_file(path, {}, Silent()).datasets
    assert (back.frame.horizontal, back.frame.vertical) == (data.frame.horizontal, data.frame.vertical)


def test_compound_systems_survive_in_rasters(tmp_path):
    data = dataclasses.replace(grid(frame_of_crs("EPSG:5498")), west=-80.0, north=40.0, dx=1e-4, dy=1e-4)
    for own in ("geotiff", "asciigrid", "floatgrid", "bil"):
        folder = tmp_path / own
        folder.mkdir()
        path = folder / f"a{catalog.format_named(own).suffixes[0]}"
        sent(own, [data], path)
        (back,) = read_file(path, {}, Silent()).datasets
        assert back.frame.vertical is Unit.METRE and "NAVD88" in back.frame.describe()


@pytest.mark.parametrize("layout", ["plain", "cloud"])
@pytest.mark.parametrize(
    "shape", [(1, 1), (1, 1500), (1500, 1), (2, 1100), (255, 257), (1024, 1024), (1025, 1025), (1030, 40)]
)
def test_geotiffs_of_every_size(shape, layout, tmp_path):
    sent("geotiff", [grid(METRES, shape)], tmp_path / "a.tif", layout=layout)
    with rasterio.open(tmp_path / "a.tif") as source:
        assert source.shape == shape
        if min(shape) > 512:
            assert source.overviews(1) and source.block_shapes[0][0] in (256, 512)
        assert (source.tags(ns="IMAGE_STRUCTURE").get("LAYOUT") == "COG") is (layout == "cloud")


@pytest.mark.parametrize("compression", ["deflate", "lzw", "zstd", "none"])
def test_compressions(compression, tmp_path):
    for layout in ("plain", "cloud"):
        sent("geotiff", [grid(METRES, (300, 300))], tmp_path / "a.tif", compression=compression, layout=layout)
        with rasterio.open(tmp_path / "a.tif") as source:
            assert (source.compression.value if source.compression else "NONE").lower() == compression


def test_parts_of_a_file_never_take_the_place_of_others(tmp_path):
    (tmp_path / "a.prj").write_text("belongs to something else")
    with pytest.raises(CallError, match=r"a\.prj is there already and belongs to something else"):
        sent("asciigrid", [grid(METRES)], tmp_path / "a.asc")
    assert [each.name for each in tmp_path.iterdir()] == ["a.prj"]
    sent("asciigrid", [grid(METRES)], tmp_path / "b.asc")
    assert (tmp_path / "b.prj").exists()
    sent("asciigrid", [grid(Frame())], tmp_path / "b.asc")
    assert not (tmp_path / "b.prj").exists(), "the old one would give the new grid a unit"


def test_files_of_one_name_may_share_what_says_the_same(tmp_path):
    sent("asciigrid", [grid(METRES)], tmp_path / "a.asc")
    said = (tmp_path / "a.prj").read_bytes()
    sent("shapefile", [scattered(50)], tmp_path / "a.shp")
    sent("text", [scattered(50)], tmp_path / "a.csv")
    sent("text", [scattered(50)], tmp_path / "a.csv")
    assert (tmp_path / "a.prj").read_bytes() == said, "a list without one takes none away"
    with pytest.raises(CallError, match=r"a\.prj is there already and belongs to a\.shp"):
        sent("asciigrid", [grid(FEET)], tmp_path / "a.asc")
    assert (tmp_path / "a.prj").read_bytes() == said, "the shapefile would be in feet all at once"


# -- points and lines, read by pyogrio


def lines(frame):
    own = [np.array([(1.0, 2.0, 3.0), (4.0, 5.0, 6.5)]), np.array([(0.0, 0.0, 1.0), (9.0, 0.0, 2.0), (9.0, 9.0, 3.0)])]
    return from_lines("edges", frame, [line + (431_000.0, 4_887_000.0, 0.0) for line in own], ["KERB", "TOE"])


@pytest.mark.parametrize("frame", list(FRAMES))
@pytest.mark.parametrize("own", ["shapefile", "geopackage", "flatgeobuf"])
def test_pyogrio_sees_lines_with_heights_and_layers(own, frame, tmp_path):
    data = lines(FRAMES[frame])
    path = tmp_path / f"a{catalog.format_named(own).suffixes[0]}"
    sent(own, [data], path)
    meta, _, shapes, columns = pyogrio.raw.read(path)
    read = shapely.get_coordinates(shapely.from_wkb(shapes), include_z=True)
    np.testing.assert_allclose(read, data.vertices, atol=1e-9)
    assert list(columns[list(meta["fields"]).index("layer")]) == ["KERB", "TOE"]
    (back,) = read_file(path, {}, Silent()).datasets
    assert (back.frame.horizontal, back.frame.vertical) == (data.frame.horizontal, data.frame.vertical)


def test_contours_carry_their_level_and_kind(tmp_path):
    made = contours.run([surface()], contours.ContourParams(Length(1.0), index=5), Silent()).dataset
    sent("geopackage", [made], tmp_path / "a.gpkg")
    meta, _, shapes, columns = pyogrio.raw.read(tmp_path / "a.gpkg")
    fields = dict(zip(meta["fields"], columns, strict=True))
    np.testing.assert_array_equal(fields["elevation"], made.levels)
    assert (
        set(fields["kind"]) <= {"contour", "index contour"}
        and (fields["kind"] == "index contour").sum() == made.index.sum()
    )
    z = shapely.get_coordinates(shapely.from_wkb(shapes), include_z=True)[:, 2]
    np.testing.assert_array_equal(z, np.repeat(made.levels, np.diff(made.offsets)))


def test_long_attribute_names_stay_apart_in_a_shapefile(tmp_path):
    own = dataclasses.replace(
        scattered(5), attributes={"a_very_long_name": np.arange(5), "a_very_long_other": np.arange(5) * 2.5}
    )
    sent("shapefile", [own], tmp_path / "a.shp")
    meta = pyogrio.raw.read(tmp_path / "a.shp")[0]
    assert [str(name) for name in meta["fields"]] == ["a_very_lon", "a_very_l_2"]
    assert {each.suffix for each in tmp_path.iterdir()} >= {".shp", ".shx", ".dbf", ".prj"}


@pytest.mark.parametrize("own", ["geojson", "kml", "gpx"])
def test_geographic_formats_hold_lines_in_degrees_and_metres(own, tmp_path):
    import pyproj

    made = contours.run(
        [surface(Frame(UTM, Unit.METRE, Unit.US_FOOT))], contours.ContourParams(Length(2.0)), Silent()
    ).dataset
    path = tmp_path / f"a{catalog.format_named(own).suffixes[0]}"
    sent(own, [made], path)
    if own == "geojson":
        first = json.loads(path.read_text())["features"][0]["geometry"]["coordinates"][0]
    elif own == "kml":
        text = lxml.etree.parse(path).find(".//{http://www.opengis.net/kml/2.2}coordinates").text
        first = [float(word) for word in text.split()[0].split(",")]
    else:
        point = lxml.etree.parse(path).find(".//{http://www.topografix.com/GPX/1/1}trkpt")
        first = [float(point.get("lon")), float(point.get("lat")), float(point[0].text)]
    lon, lat = pyproj.Transformer.from_crs("EPSG:32632", "EPSG:4326", always_xy=True).transform(*made.plan[0])
    np.testing.assert_allclose(first[:2], (lon, lat), atol=1e-8)
    levels = made.levels * 1200 / 3937
    assert np.abs(levels - first[2]).min() < 1e-4
    with pytest.raises(CallError, match="reference system of the data is unknown"):
        sent(own, [lines(METRES)], path)


def test_a_kmz_is_packed(tmp_path):
    own = lines(Frame(UTM, Unit.METRE, Unit.METRE))
    sent("kml", [own], tmp_path / "a.kmz")
    with zipfile.ZipFile(tmp_path / "a.kmz") as archive:
        assert archive.namelist() == ["doc.kml"] and b"<LineString>" in archive.read("doc.kml")


def test_a_list_of_places_has_its_system_beside_it(tmp_path):
    own = dataclasses.replace(scattered(12), frame=frame_of_crs("EPSG:32632"), attributes={})
    own = own.in_frame(Frame(own.frame.crs, Unit.METRE, Unit.US_FOOT))
    sent("text", [own], tmp_path / "a.xyz")
    assert {each.name for each in tmp_path.iterdir()} == {"a.xyz", "a.prj"}
    (back,) = read_file(tmp_path / "a.xyz", {}, Silent()).datasets
    assert back.frame.vertical is Unit.US_FOOT and "UTM zone 32N" in back.frame.describe()
    sent("text", [own], tmp_path / "b.csv")
    assert not (tmp_path / "b.prj").exists()


def test_factors_of_units_are_said(tmp_path):
    target = catalog.format_named("landxml")
    made = deliver(
        [surface()], tmp_path / "a.xml", target, target.write_params(), Silent(), (Unit.US_FOOT, Unit.US_FOOT)
    )
    (told,) = [finding.text for finding in made.findings if finding.code == "units-changed"]
    assert "plan from metre to US survey foot (× 3.28083333333)" in told and "heights from metre" in told


@pytest.mark.parametrize("own", ["stl", "obj", "ply", "off", "glb", "3mf"])
def test_meshes_are_looked_at_by_another_library(own, tmp_path):
    made = sent(own, [surface()], tmp_path / f"a{catalog.format_named(own).suffixes[0]}")
    assert any(check.what == "check by an independent library" for check in made.checks)
    audit = catalog.format_named(own).audit
    (tmp_path / f"b{catalog.format_named(own).suffixes[0]}").write_bytes(b"nothing")
    assert audit(tmp_path / f"b{catalog.format_named(own).suffixes[0]}")


@pytest.mark.parametrize("own", [each for each in catalog.FORMATS if each.write], ids=lambda own: own.id)
def test_the_ending_that_a_format_names_first_writes_it(own, tmp_path):
    assert catalog.format_of_target(tmp_path / f"Ground 1.5{own.suffixes[0].upper()}") is own


@pytest.mark.parametrize("own", ["geojson", "kml", "gpx", "flatgeobuf", "geopackage", "shapefile"])
def test_rings_smaller_than_a_step_of_the_decimals_stay_lines(own, tmp_path):
    """As traced contours have them: five vertices within a tenth of a millimetre."""
    frame = frame_of_crs("EPSG:32632")
    tiny = np.array([(0.0, 0.0), (1e-5, 2e-5), (3e-5, 0.0), (1e-5, -2e-5), (0.0, 0.0)])
    rings = [np.column_stack([tiny + (500_000.0 + k, 5_400_000.0), np.full(5, 10.0)]) for k in range(3)]
    long = np.array([(500_000.0, 5_400_010.0, 10.0), (500_050.0, 5_400_020.0, 10.0)])
    lines = from_lines("Traced", Frame(frame.crs, Unit.METRE, Unit.METRE), [*rings, long], ["C"] * 4)
    suffix = catalog.format_named(own).suffixes[0]
    sent(own, [lines], tmp_path / f"a{suffix}")
    layer = "tracks" if own == "gpx" else None
    assert pyogrio.read_info(tmp_path / f"a{suffix}", layer=layer, force_feature_count=True)["features"] == 4
