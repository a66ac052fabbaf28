"""Polygons of every format that has them, against pyogrio, GEOS, ezdxf and PROJ, and by the formats' own rules."""

import base64
import dataclasses
import json
import math
import re
import struct
import zipfile

import numpy as np
import pyogrio
import pyproj
import pytest
import shapely

from builders import METRES
from examples import examples
from vastgrid import catalog
from vastgrid.base.errors import FormatError, ParamError
from vastgrid.base.progress import Silent
from vastgrid.base.quantities import Unit
from vastgrid.data.areas import Areas, from_shapes
from vastgrid.data.frame import frame_of_crs
from vastgrid.delivery.deliver import deliver
from vastgrid.formats.webscene import SceneWriteParams
from vastgrid.measures.area_sizes import sizes_of
from vastgrid.measures.heights import heights
from vastgrid.params import declare

DRIVERS = {"geopackage": "GPKG", "shapefile": "ESRI Shapefile", "geojson": "GeoJSON", "flatgeobuf": "FlatGeobuf"}
UTM = "EPSG:32632"


def plots(seed=1, number=40, heights=False):
    """Polygons with holes, every third of two parts, at the size of a country's coordinates."""
    rng = np.random.default_rng(seed)
    made = []
    for k in range(number):
        place = np.array([431000.0 + 100.0 * (k % 8), 5_260_000.0 + 100.0 * (k // 8)])
        turn = np.sort(rng.random(9)) * 2.0 * np.pi
        rim = place + 30.0 * (0.6 + 0.4 * rng.random((9, 1))) * np.column_stack((np.cos(turn), np.sin(turn)))
        hole = shapely.Polygon(rim).buffer(-8.0)
        whole = shapely.Polygon(rim).difference(hole) if not hole.is_empty else shapely.Polygon(rim)
        parts = [whole, shapely.box(*(place + (45, 45)), *(place + (55, 58)))] if k % 3 == 0 else [whole]
        made.append(shapely.MultiPolygon([p for part in parts for p in shapely.get_parts(part)]))
    shapes = np.array(made, object)
    if heights:
        shapes = shapely.transform(
            shapely.force_3d(shapes), lambda xyz: np.column_stack((xyz[:, :2], 200 + xyz[:, 0] % 7)), include_z=True
        )
    return shapes


def written(path, shapes, driver, **columns):
    columns = columns or {"name": np.array([f"plot {k}" for k in range(len(shapes))], object)}
    pyogrio.raw.write(
        path, shapely.to_wkb(shapes), list(columns.values()), np.array(list(columns), object), driver=driver,
        geometry_type="MultiPolygon Z" if shapely.has_z(shapes).all() else "MultiPolygon", encoding="UTF-8",
        crs="EPSG:4326" if driver == "GeoJSON" else UTM,
        layer_options={"SPATIAL_INDEX": "NO"} if driver == "FlatGeobuf" else {},
    )  # fmt: skip
    return path


def read(path, **words):
    kind = catalog.recognise(path)
    return kind.read(path, declare.build(kind.read_params, words), Silent())


def sent(areas, path, **words):
    kind = catalog.format_of_target(path)
    return deliver([areas], path, kind, declare.build(kind.write_params, words), Silent())


def plain(path):
    """Return the shapes of a file as the library reads them, in one spelling."""
    return shapely.normalize(shapely.from_wkb(pyogrio.raw.read(path)[2]))


@pytest.mark.parametrize("heights", [False, True], ids=["plan", "heights"])
@pytest.mark.parametrize("own", list(DRIVERS))
def test_polygons_stay_what_they_are(tmp_path, own, heights):
    shapes = plots(heights=heights)
    if own == "geojson":
        shapes = shapely.transform(shapes, lambda xyz: xyz * ((1e-5, 1e-5, 1)[: xyz.shape[1]]), include_z=heights)
    suffix = catalog.format_named(own).suffixes[0]
    (areas,) = read(written(tmp_path / f"a{suffix}", shapes, DRIVERS[own])).datasets
    assert isinstance(areas, Areas) and areas.count()["areas"] == len(shapes)
    assert areas.count()["rings"] == sum(1 + len(p.interiors) for s in shapes for p in s.geoms)
    assert shapely.equals_exact(
        shapely.normalize(areas.shapes()),
        shapely.normalize(shapely.force_2d(shapes)),
        tolerance=1e-9 if own == "geojson" else 0.0,
    ).all()
    assert areas.sizes() == pytest.approx(shapely.area(shapes), rel=1e-9)
    assert areas.perimeters() == pytest.approx(shapely.length(shapes), rel=1e-12)
    framed = areas.in_frame(dataclasses.replace(areas.frame, vertical=Unit.METRE if heights else None))
    delivery = sent(framed, tmp_path / f"b{suffix}")
    assert delivery.good, delivery.checks
    assert "parts" in {check.what for check in delivery.checks}
    back = shapely.from_wkb(pyogrio.raw.read(tmp_path / f"b{suffix}")[2])
    assert shapely.is_valid(back).all() and (shapely.has_z(back) == heights).all(), (
        "no heights of 0 that nobody measured"
    )
    assert shapely.equals_exact(shapely.normalize(back), plain(tmp_path / f"a{suffix}"), tolerance=1e-9).all()
    names = pyogrio.raw.read(tmp_path / f"b{suffix}")[3]
    assert [str(each) for each in names[0]] == [f"plot {k}" for k in range(len(shapes))]


def test_rings_turn_as_each_format_wants(tmp_path):
    """RFC 7946, 3.1.6: outer rings counter-clockwise; ESRI Shapefile Technical Description (1998): clockwise."""
    square = shapely.Polygon([(8, 47), (8, 48), (9, 48), (9, 47)], [[(8.2, 47.2), (8.4, 47.2), (8.4, 47.4)]])
    areas = dataclasses.replace(from_shapes([square], name="one"), frame=frame_of_crs("EPSG:4326"))
    assert areas.holes().tolist() == [False, True]
    assert sent(areas, tmp_path / "a.geojson").good
    rings = json.loads((tmp_path / "a.geojson").read_text())["features"][0]["geometry"]["coordinates"]
    assert [shapely.LinearRing(ring).is_ccw for ring in rings] == [True, False]
    assert sent(areas, tmp_path / "a.shp").good
    data = (tmp_path / "a.shp").read_bytes()[108:]
    kind, parts, points = struct.unpack_from("<i32xii", data)
    first = struct.unpack_from(f"<{parts}i", data, 44)
    xy = np.frombuffer(data, "<f8", 2 * points, 44 + 4 * parts).reshape(-1, 2)
    assert kind == 5 and [shapely.LinearRing(ring).is_ccw for ring in np.split(xy, first[1:])] == [False, True]


def test_heights_at_some_vertices_only(tmp_path):
    xyz = np.array([(0, 0, np.nan), (10, 0, 5), (10, 10, 6), (0, 10, 7), (0, 0, np.nan)], float)
    start = np.array([0, 1])
    areas = Areas(
        name="one",
        frame=METRES,
        vertices=xyz,
        offsets=np.array([0, 5]),
        parts=start,
        members=start,
        layer=np.zeros(1, int),
    )
    delivery = sent(areas, tmp_path / "a.gpkg")
    assert delivery.good
    (back,) = read(tmp_path / "a.gpkg").datasets
    assert np.array_equal(back.vertices, xyz, equal_nan=True)


BOWTIE = "POLYGON ((0 0, 10 10, 10 0, 0 10, 0 0))"
SPIKE = "POLYGON ((0 0, 10 0, 10 10, 5 10, 5 15, 5 10, 0 10, 0 0))"
TWICE = "POLYGON ((0 0, 10 0, 10 0, 10 10, 10 10, 0 10, 0 0))"
HOLES = "POLYGON ((0 0, 10 0, 10 10, 0 10, 0 0), (2 2, 3 2, 3 3, 2 2), (2 2, 3 3, 3 2, 2 2))"


@pytest.mark.parametrize(
    ("text", "code", "area"),
    [
        (BOWTIE, "area-bow-tie", 50.0),
        (SPIKE, "area-spike", 100.0),
        (TWICE, "area-repeated", 100.0),
        (HOLES, "area-twice", 99.5),
    ],
)
@pytest.mark.parametrize("driver", ["GPKG", "FlatGeobuf"])
def test_slips_are_mended_and_counted(tmp_path, text, code, area, driver):
    path = tmp_path / f"a.{'gpkg' if driver == 'GPKG' else 'fgb'}"
    shapes = np.array([shapely.from_wkt(text), shapely.box(20, 20, 30, 30)])
    pyogrio.raw.write(path, shapely.to_wkb(shapes), [], [], driver=driver, geometry_type="Polygon", crs=UTM)
    source = read(path)
    assert sorted(source.datasets[0].sizes()) == pytest.approx(sorted([area, 100.0]))
    assert shapely.is_valid(source.datasets[0].shapes()).all()
    (told,) = [finding for finding in source.findings if finding.code == code]
    assert told.text[0].isdigit()


@pytest.mark.parametrize(
    ("text", "place"),
    [
        ("POLYGON ((0 0, 10 0, 10 10, 0 10, 0 0), (20 20, 21 20, 21 21, 20 20))", "E 20.000, N 20.000"),
        ("POLYGON ((0 0, 9 0, 9 9, 0 9, 0 0), (2 2, 6 2, 6 6, 2 6, 2 2), (3 3, 4 3, 4 4, 3 3))", "E 3.000, N 3.000"),
        ("MULTIPOLYGON (((0 0, 10 0, 10 10, 0 10, 0 0)), ((5 5, 30 5, 30 30, 5 5)))", "E 10.000, N 5.000"),
    ],
    ids=["hole outside", "hole in a hole", "parts over each other"],
)
def test_what_nobody_can_mean_is_refused_with_its_place(tmp_path, text, place):
    shapes = np.array([shapely.box(50, 50, 60, 60), shapely.from_wkt(text)])
    path = tmp_path / "a.gpkg"
    pyogrio.raw.write(path, shapely.to_wkb(shapes), [], [], driver="GPKG", geometry_type="Unknown", crs=UTM)
    with pytest.raises(FormatError, match=f"area 2 of a is no area.*{place}"):
        read(path)


def test_what_encloses_nothing_is_left_out(tmp_path):
    shapes = np.array([shapely.box(50, 50, 60, 60), shapely.from_wkt("POLYGON ((0 0, 10 0, 20 0, 0 0))")])
    path = tmp_path / "a.gpkg"
    pyogrio.raw.write(
        path, shapely.to_wkb(shapes), [np.array([7, 8])], ["no"], driver="GPKG", geometry_type="Polygon", crs=UTM
    )
    source = read(path)
    assert source.datasets[0].attributes["no"].tolist() == [7]
    assert any(finding.code == "area-empty" and finding.drops for finding in source.findings)


KML = """<?xml version="1.0" encoding="UTF-8"?><kml xmlns="http://www.opengis.net/kml/2.2"><Document><Folder><name>Plots</name>
<Placemark><name>Nørre &amp; Sønder</name><MultiGeometry>
<Polygon><outerBoundaryIs><LinearRing><coordinates>8,47 8.01,47 8.01,47.01 8,47.01 8,47</coordinates></LinearRing></outerBoundaryIs>
<innerBoundaryIs><LinearRing><coordinates>8.002,47.002 8.004,47.002 8.004,47.004</coordinates></LinearRing></innerBoundaryIs></Polygon>
<Polygon><outerBoundaryIs><LinearRing><coordinates>8.02,47 8.03,47 8.03,47.01 8.02,47</coordinates></LinearRing></outerBoundaryIs></Polygon>
</MultiGeometry></Placemark>
<Placemark><name>Fence</name><LineString><coordinates>8,47 8.01,47.01</coordinates></LineString></Placemark></Folder></Document></kml>"""


@pytest.mark.parametrize("suffix", [".kml", ".kmz"])
def test_polygons_of_kml(tmp_path, suffix):
    (tmp_path / "a.kml").write_text(KML, encoding="utf-8")
    lines, areas = read(tmp_path / "a.kml").datasets
    assert lines.count() == {"lines": 1, "vertices": 2} and lines.attributes["name"].tolist() == [b"Fence"]
    assert areas.count() == {"areas": 1, "rings": 3, "vertices": 13}, "a ring that is left open is closed"
    assert areas.attributes["name"].tolist() == ["Nørre & Sønder".encode()] and areas.layers == ("Plots",)
    geod = pyproj.Geod(ellps="WGS84")
    whole = sum(abs(geod.geometry_area_perimeter(each)[0]) for each in areas.shapes()[0].geoms)
    assert sizes_of(areas).areas == pytest.approx([whole], rel=1e-9)
    delivery = sent(areas, tmp_path / f"b{suffix}")
    assert delivery.good, delivery.checks
    data = (tmp_path / f"b{suffix}").read_bytes()
    if suffix == ".kmz":
        data = zipfile.ZipFile(tmp_path / "b.kmz").read("doc.kml")
    assert data.count(b"<innerBoundaryIs>") == 1 and data.count(b"clampToGround") == 2


SAID = """<kml xmlns="http://www.opengis.net/kml/2.2"><Document>
<Schema name="s" id="s"><SimpleField type="int" name="no"/><SimpleField type="string" name="code"/></Schema>
<Placemark><name>a</name><ExtendedData><Data name="use"><value>heap</value></Data><Data name="size"><value>3</value></Data>
<SchemaData schemaUrl="#s"><SimpleData name="no">7</SimpleData><SimpleData name="code">12</SimpleData></SchemaData>
</ExtendedData>PLACE</Placemark>
<Placemark><name>b</name><ExtendedData><Data name="size"><value>4.5</value></Data><SchemaData schemaUrl="#s">
<SimpleData name="no">8</SimpleData><SimpleData name="code">13</SimpleData></SchemaData></ExtendedData>PLACE</Placemark>
</Document></kml>"""
PLACES = {
    "points": "<Point><coordinates>8,47,3</coordinates></Point>",
    "lines": "<LineString><coordinates>8,47,3 8.01,47,3</coordinates></LineString>",
    "areas": "<Polygon><outerBoundaryIs><LinearRing><coordinates>8,47 8.01,47 8.01,47.01 8,47</coordinates></LinearRing></outerBoundaryIs></Polygon>",
}


@pytest.mark.parametrize("kind", PLACES)
def test_extended_data_of_kml(tmp_path, kind):
    """Fields of a schema have their type, other data is a number where all of it is; a second library reads what we write."""
    (tmp_path / "a.kml").write_text(SAID.replace("PLACE", PLACES[kind]))
    (data,) = read(tmp_path / "a.kml").datasets
    expected = {"use": [b"heap", b""], "size": [3.0, 4.5], "no": [7, 8], "code": [b"12", b"13"]}
    assert data.kind == kind
    assert {name: data.attributes[name].tolist() for name in expected} == expected
    assert sent(data, tmp_path / "b.kml").good
    info = pyogrio.read_info(tmp_path / "b.kml", layer=0)
    assert info["features"] == 2 and {"use", "size", "no", "code"} <= set(info["fields"])
    (again,) = read(tmp_path / "b.kml").datasets
    assert {name: again.attributes[name].tolist() for name in expected} == expected


def filled(path):
    """Plan area of the triangles that fill each layer of areas of a scene, and whether their corners lie at some heights."""
    scene = json.loads(re.search(r'id="vastgrid-scene">(.*?)</script>', path.read_text(encoding="utf-8"), re.DOTALL)[1])
    for layer in scene["layers"]:
        if layer["kind"] == "areas":
            xyz = np.frombuffer(base64.b64decode(layer["fill"]), "<f4").reshape(-1, 3).astype(float)
            corners = xyz[np.frombuffer(base64.b64decode(layer["corners"]), "<u4").reshape(-1, 3)]
            (ax, ay), (bx, by) = (corners[:, 1, :2] - corners[:, 0, :2]).T, (corners[:, 2, :2] - corners[:, 0, :2]).T
            yield layer["name"], 0.5 * np.abs(ax * by - ay * bx).sum(), xyz + scene["origin"]


def test_areas_fill_a_scene(tmp_path):
    """The fill is as large as the areas, holes left out, and lies on the ground; beside it it is flat."""
    own = examples()
    tin = own["tin"]
    middle = np.append(tin.vertices[:, :2].mean(axis=0), 0.0)
    areas = dataclasses.replace(own["areas"], vertices=own["areas"].vertices + middle)
    delivery = deliver([tin, areas], tmp_path / "a.html", catalog.format_named("scene"), SceneWriteParams(), Silent())
    assert delivery.good, delivery.checks
    found = {name: (size, xyz) for name, size, xyz in filled(tmp_path / "a.html")}
    assert list(found) == ["plots: PLOTS", "plots: PONDS"]
    for k, (size, xyz) in enumerate(found.values()):
        assert size == pytest.approx(areas.sizes()[k], rel=1e-5)
        on = heights(tin, np.ascontiguousarray(xyz[:, :2]))
        over = np.isfinite(on)
        assert over.any()
        np.testing.assert_allclose(xyz[over, 2], on[over], atol=1e-3)
    assert [each.kind for each in read(tmp_path / "a.html").datasets] == ["tin", "areas", "areas"]


def hatched(path):
    import ezdxf

    drawing = ezdxf.new("R2010")
    drawing.header["$INSUNITS"] = 6
    space = drawing.modelspace()
    hatch = space.add_hatch(dxfattribs={"layer": "PLOTS"})
    # A bulge of 1 is half a circle: its diameter is the eastern side.
    hatch.paths.add_polyline_path([(0, 0), (100, 0, 1), (100, 50), (0, 50)], is_closed=True, flags=1)
    hatch.paths.add_polyline_path([(10, 10), (20, 10), (20, 20), (10, 20)], is_closed=True, flags=16)
    hatch = space.add_hatch(dxfattribs={"layer": "PONDS", "elevation": (0, 0, 12.5)})
    path_of = hatch.paths.add_edge_path()
    path_of.add_line((200, 0), (300, 0))
    path_of.add_arc((300, 30), 30, -90, 90, ccw=True)
    path_of.add_line((300, 60), (200, 60))
    path_of.add_line((200, 60), (200, 0))
    hatch.paths.add_edge_path(flags=16).add_arc((250, 30), 10, 0, 360)
    drawing.saveas(path)
    return path


def test_hatches_with_islands_and_arcs(tmp_path):
    (areas,) = read(hatched(tmp_path / "a.dxf"), chord="0.0005").datasets
    exact = [100 * 50 + math.pi * 25**2 / 2 - 100, 100 * 60 + math.pi * 30**2 / 2 - math.pi * 10**2]
    assert areas.sizes() == pytest.approx(exact, abs=0.1) and areas.layers == ("PLOTS", "PONDS")
    assert np.isnan(areas.vertices[:, 2][: areas.offsets[2]]).all() and np.nanmax(areas.vertices[:, 2]) == 12.5


@pytest.mark.parametrize("version", ["R12", "R2000", "R2018"])
@pytest.mark.parametrize("form", ["lines", "hatch"])
def test_areas_in_drawings(tmp_path, form, version):
    import ezdxf

    areas = from_shapes(plots(3), name="plots", frame=METRES, layers=("PLOTS",))
    path = tmp_path / "a.dxf"
    if (form, version) == ("hatch", "R12"):
        with pytest.raises(ParamError, match="R12 has no HATCH"):
            sent(areas, path, areas_as=form, version=version)
        return
    delivery = sent(areas, path, areas_as=form, version=version)
    assert delivery.good, delivery.checks
    drawing = ezdxf.readfile(path)
    audit = drawing.audit()
    assert not audit.errors and not audit.fixes
    (back,) = read(path).datasets
    if form == "lines":
        assert back.kind == "lines" and len(back) == areas.rings and back.closed().all()
        return
    assert len(drawing.modelspace().query("HATCH")) == len(areas)
    assert shapely.equals_exact(shapely.normalize(back.shapes()), shapely.normalize(areas.shapes()), 1e-4).all()


def test_degrees_have_the_area_of_the_ellipsoid():
    shape = shapely.box(8.0, 47.0, 8.1, 47.05).difference(shapely.box(8.02, 47.01, 8.03, 47.02))
    areas = dataclasses.replace(from_shapes([shape]), frame=frame_of_crs("EPSG:4258"))
    sizes = sizes_of(areas)
    geod = pyproj.Geod(ellps="GRS80")
    size, _ = geod.geometry_area_perimeter(shapely.geometry.polygon.orient(shape))
    length = sum(geod.geometry_length(ring) for ring in (shape.exterior, *shape.interiors))
    assert sizes.areas == pytest.approx([size], rel=1e-9) and sizes.perimeters == pytest.approx([length], rel=1e-9)
    assert sizes.unit.value == "m"


def test_closed_lines_of_a_drawing_become_areas_by_a_rule(tmp_path):
    areas = from_shapes(plots(3), name="plots", frame=METRES, layers=("PLOTS",))
    assert sent(areas, tmp_path / "a.dxf").good
    (back,) = read(tmp_path / "a.dxf", rules="areas: layer=PLOTS").datasets
    assert isinstance(back, Areas) and back.sizes().sum() == pytest.approx(areas.sizes().sum(), abs=0.1)


CITY = {
    "type": "CityJSON",
    "version": "2.0",
    "transform": {"scale": [0.01, 0.01, 0.01], "translate": [500000.0, 5300000.0, 100.0]},
    "metadata": {"referenceSystem": "https://www.opengis.net/def/crs/EPSG/0/25832"},
    "CityObjects": {
        "house": {
            "type": "Building",
            "attributes": {"storeys": 2, "owner": "Tollgarth Quarry"},
            "geometry": [
                {
                    "type": "Solid",
                    "lod": "2",
                    "boundaries": [
                        [[[0, 3, 2, 1]], [[4, 5, 6, 7]], [[0, 1, 5, 4]], [[1, 2, 6, 5]], [[2, 3, 7, 6]], [[3, 0, 4, 7]]]
                    ],
                    "semantics": {
                        "surfaces": [{"type": "GroundSurface"}, {"type": "RoofSurface"}, {"type": "WallSurface"}],
                        "values": [[0, 1, 2, 2, 2, 2]],
                    },
                }
            ],
        },
        "court": {
            "type": "Building",
            "attributes": {"storeys": 1},
            "geometry": [{"type": "MultiSurface", "lod": "0", "boundaries": [[[8, 9, 10, 11], [12, 13, 14, 15]]]}],
        },
        "tree": {
            "type": "SolitaryVegetationObject",
            "geometry": [{"type": "MultiSurface", "lod": "1", "boundaries": [[[0, 1, 2]]]}],
        },
    },
    "vertices": [
        *(
            [0, 0, 0],
            [1000, 0, 0],
            [1000, 600, 0],
            [0, 600, 0],
            [0, 0, 500],
            [1000, 0, 500],
            [1000, 600, 500],
            [0, 600, 500],
        ),
        *([3000, 0, 0], [5000, 0, 0], [5000, 2000, 0], [3000, 2000, 0]),
        *([3500, 500, 0], [3500, 1500, 0], [4500, 1500, 0], [4500, 500, 0]),
    ],
}


def test_footprints_of_a_city_model(tmp_path):
    """A ground surface by its semantics, a court with a hole at level 0; a tree has none (CityJSON 2.0, 3.3, from memory)."""
    path = tmp_path / "city.json"
    path.write_text(json.dumps(CITY))
    source = read(path, take="footprints")
    (areas,) = source.datasets
    assert areas.sizes().tolist() == pytest.approx([60.0, 400.0 - 100.0])
    assert areas.attributes["id"].tolist() == [b"house", b"court"]
    assert areas.attributes["storeys"].tolist() == [2, 1] and areas.attributes["owner"].tolist() == [
        b"Tollgarth Quarry",
        b"",
    ]
    assert "1 object without a ground surface" in " ".join(finding.text for finding in source.findings)
    assert areas.vertices[:, 2].tolist() == [100.0] * len(areas.vertices)
    assert sent(areas, tmp_path / "city.gpkg").good
    assert {each.kind for each in read(path).datasets} <= {"tin", "mesh"}
    path.write_text(json.dumps({**CITY, "CityObjects": {"tree": CITY["CityObjects"]["tree"]}}))
    with pytest.raises(FormatError, match="no object in it has a footprint"):
        read(path, take="footprints")
