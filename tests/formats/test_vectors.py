"""Vector, geographic and raster files: as other libraries write them, by hand, and open data."""

import zipfile

import numpy as np
import pyproj
import pytest
import rasterio
import shapely

import samples
from builders import DATA, HANDMADE
from vastgrid import catalog
from vastgrid.base.errors import CallError, DataError, FormatError, ParamError
from vastgrid.base.progress import Silent
from vastgrid.base.quantities import Unit
from vastgrid.data.frame import Frame, frame_of_crs
from vastgrid.data.grid import Grid
from vastgrid.data.linework import Linework
from vastgrid.data.pointset import PointSet
from vastgrid.delivery.deliver import deliver
from vastgrid.execution.steps import peek_file, read_file
from vastgrid.measures.levels import interval_of
from vastgrid.terrain.place.reproject import passage, reprojected


def read(path, **words):
    return read_file(path, words, Silent())


DRIVERS = [("shp", "ESRI Shapefile"), ("gpkg", "GPKG"), ("geojson", "GeoJSON"), ("fgb", "FlatGeobuf")]


@pytest.mark.parametrize(("suffix", "driver"), DRIVERS)
def test_contours_with_their_height_in_an_attribute(suffix, driver, tmp_path):
    path = samples.vector(tmp_path / f"c.{suffix}", driver)
    plain = read(path)
    assert any("perhaps ELEV holds them" in finding.text for finding in plain.findings), "suggested, never applied"
    assert plain.datasets[0].extent().elevation is None
    source = read(path, elevation="ELEV", style="SHEET")
    (lines,) = source.datasets
    assert isinstance(lines, Linework) and lines.count() == {"lines": 12, "vertices": 240}
    assert sorted(lines.layers) == ["Blatt 0", "Blatt 1"]
    assert lines.extent().elevation == (200.0, 211.0)
    finding = next(finding for finding in source.findings if finding.code == "contour-interval")
    assert "an interval of 1" in finding.text and "204.3" in finding.text and finding.at is not None
    assert lines.frame.horizontal is Unit.METRE and "UTM zone 32N" in lines.frame.describe()
    with pytest.raises(ParamError, match="no layer has an attribute"):
        read(path, elevation="NOPE")


def test_handmade_geojson():
    points, lines, areas = read(HANDMADE / "contours.geojson", elevation="ELEV").datasets
    assert lines.count() == {"lines": 3, "vertices": 6}, "multi lines are parted"
    assert areas.count() == {"areas": 1, "rings": 1, "vertices": 4}
    assert points.xyz.tolist() == [[8.29, 47.5, 433.5]]
    assert points.attributes["kind"].tolist() == [b"peg"]
    assert any(finding.code == "no-geometry" for finding in read(HANDMADE / "contours.geojson").findings)


def test_collections_within_collections(tmp_path):
    import pyogrio

    deep = shapely.GeometryCollection([shapely.Point(1, 2, 3), shapely.MultiLineString([[(0, 0, 1), (5, 5, 2)]])])
    nested = np.array([shapely.GeometryCollection([deep, shapely.Point(4, 5, 6)])])
    pyogrio.raw.write(
        tmp_path / "a.gpkg", shapely.to_wkb(nested), [], [], driver="GPKG", geometry_type="Unknown", crs="EPSG:32632"
    )
    points, lines = read(tmp_path / "a.gpkg").datasets
    assert len(points.xyz) == 2 and len(lines) == 1 and lines.vertices[:, 2].tolist() == [1.0, 2.0]


@pytest.mark.parametrize("interval", [0.25, 0.3, 0.5, 0.7, 1.0, 2.0, 5.0, 20.0])
def test_interval(interval):
    levels = np.repeat(100.0 + interval * np.arange(8), 5)
    found = interval_of(levels)
    assert found is not None and found.step == interval and not found.odd.any()
    levels[3] += 0.3 * interval
    found = interval_of(levels)
    assert found is not None and found.odd.sum() == 1


def test_open_gpx():
    """871 track points by the notes of the open data, and two waypoints without a height."""
    source = read(DATA / "korita-zbevnica.gpx")
    (points,) = source.datasets
    assert len(points.xyz) == 873 and (points.attributes["code"] == b"trkpt").sum() == 871
    assert points.extent().elevation[0] == pytest.approx(722.0, abs=1.0)
    assert points.extent().elevation[1] == pytest.approx(1051.0, abs=1.0)
    (course,) = read(DATA / "korita-zbevnica.gpx", tracks="lines").datasets
    assert course.count()["vertices"] == 871


def test_handmade_gpx_and_kml(tmp_path):
    source = read(HANDMADE / "places.gpx")
    (points,) = source.datasets
    assert points.attributes["point"].tolist()[0] == b"Peg & nail" and len(points.xyz) == 3
    assert any("1 point without a good place" in finding.text for finding in source.findings)
    points, lines = read(HANDMADE / "places.kml", elevation="level").datasets
    assert lines.vertices[:, 2].tolist() == [410.0, 410.0, 410.0, 415.0, 415.0] and lines.layers == ("contours",)
    with zipfile.ZipFile(tmp_path / "a.kmz", "w") as archive:
        archive.write(HANDMADE / "places.kml", "doc.kml")
    assert len(read(tmp_path / "a.kmz").datasets) == 2
    with pytest.raises(ParamError, match="no placemark has"):
        read(HANDMADE / "places.kml", elevation="nope")


@pytest.mark.parametrize("head", ["<gpx>", '<kml xmlns="http://www.opengis.net/kml/2.2">'])
def test_entities_are_refused(head, tmp_path):
    suffix = "gpx" if "gpx" in head else "kml"
    text = f'<?xml version="1.0"?><!DOCTYPE x [<!ENTITY a "b">]>{head}&a;</{suffix}>'
    (tmp_path / f"a.{suffix}").write_text(text)
    with pytest.raises(FormatError, match="document type"):
        read(tmp_path / f"a.{suffix}")


@pytest.mark.parametrize(
    ("suffix", "driver"),
    [("bil", "EHdr"), ("img", "HFA"), ("dat", "ENVI"), ("grd", "GSBG"), ("sdat", "SAGA"), ("rst", "RST")],
)
def test_rasters_of_other_kinds(suffix, driver, tmp_path):
    path = samples.raster(tmp_path / f"r.{suffix}", driver)
    (grid,) = read(path).datasets
    assert isinstance(grid, Grid) and grid.count() == {"rows": samples.SIDE, "columns": samples.SIDE}
    assert (grid.west, grid.north, grid.dx) == (5e5, 5.4e6, 10.0)
    want = samples.lattice()[0][:, 2].reshape(samples.SIDE, samples.SIDE)
    want[2, 3] = np.nan
    if driver != "GSBG":  # this format has its own mark for a missing height, which the library loses
        np.testing.assert_allclose(grid.heights, want, atol=1e-5)


def test_turned_and_bottom_up_rasters(tmp_path):
    turned = rasterio.Affine.translation(5e5, 5.4e6) @ rasterio.Affine.rotation(20) @ rasterio.Affine.scale(10, -10)
    source = read(samples.raster(tmp_path / "t.tif", "GTiff", turned))
    (grid,) = source.datasets
    assert any(finding.code == "raster-turned" for finding in source.findings)
    # A place in the middle of the raster keeps its height: bilinear of bilinear, far below the waves' size.
    middle = turned @ (6.5, 6.5)
    row, column = int((grid.north - middle[1]) / grid.dy), int((middle[0] - grid.west) / grid.dx)
    assert grid.heights[row, column] == pytest.approx(samples.lattice()[0][6 * samples.SIDE + 6, 2], abs=0.5)
    up = rasterio.Affine(10.0, 0.0, 5e5, 0.0, 12.0, 5.4e6)
    (grid,) = read(samples.raster(tmp_path / "u.tif", "GTiff", up)).datasets
    assert (grid.dx, grid.dy, grid.north) == (10.0, 12.0, 5.4e6 + 12.0 * samples.SIDE)
    assert grid.heights[-1, 0] == pytest.approx(samples.lattice()[0][0, 2], abs=1e-4)


def test_a_raster_that_points_elsewhere_is_not_opened(tmp_path):
    samples.raster(tmp_path / "r.tif", "GTiff")
    (tmp_path / "v.vrt").write_text(
        '<VRTDataset rasterXSize="12" rasterYSize="12"><VRTRasterBand dataType="Float32" band="1"><SimpleSource>'
        '<SourceFilename relativeToVRT="1">r.tif</SourceFilename></SimpleSource></VRTRasterBand></VRTDataset>'
    )
    with pytest.raises(DataError):
        read(tmp_path / "v.vrt")


# ---------------------------------------------------------------------------------------------------- reprojection


def places(crs="EPSG:32632", z=400.0):
    xyz = np.array([(431_000.0, 5_262_000.0, z), (431_100.0, 5_262_050.0, z + 5.0)])
    return PointSet(name="pegs", frame=frame_of_crs(crs), xyz=xyz).in_frame(
        Frame(frame_of_crs(crs).crs, Unit.METRE, Unit.METRE)
    )


def test_reprojection_agrees_with_pyproj():
    points = places()
    moved, _ = reprojected(points, "EPSG:25833", Silent())
    want = pyproj.Transformer.from_crs(32632, 25833, always_xy=True).transform(*points.xyz[:, :2].T)
    np.testing.assert_allclose(moved.xyz[:, :2], np.column_stack(want), atol=1e-6)
    assert (moved.xyz[:, 2] == points.xyz[:, 2]).all(), "heights keep their reference"


def test_us_survey_foot_target():
    """NAD83 / Oregon North (ftUS): 1200/3937 m by its definition; the ratio comes through pyproj."""
    metres = PointSet(
        name="p",
        frame=Frame(frame_of_crs("EPSG:2838").crs, Unit.METRE, Unit.METRE),
        xyz=np.array([(2.3e6, 2.1e5, 100.0)]),
    )
    moved, _ = reprojected(metres, "EPSG:2269", Silent())
    assert moved.frame.horizontal in (Unit.FOOT, Unit.US_FOOT) and moved.xyz[0, 2] == 100.0


def test_heights_change_only_where_the_grid_is_there():
    compound = PointSet(name="p", frame=frame_of_crs("EPSG:5554"), xyz=places().xyz)
    with pytest.raises(DataError, match="grid between them is not installed"):
        passage(compound.frame, "EPSG:4937")
    moved, findings = reprojected(compound, "EPSG:25833", Silent())
    assert moved.xyz[0, 2] == 400.0 and any(finding.code == "heights-kept" for finding in findings)


def test_a_grid_is_sampled_anew():
    x, y = np.meshgrid(np.arange(40.0), np.arange(30.0))
    grid = Grid(
        name="g", frame=places().frame, heights=100 + x + 2 * y, west=431_000.0, north=5_262_300.0, dx=10.0, dy=10.0
    )
    moved, findings = reprojected(grid, "EPSG:25833", Silent())
    assert isinstance(moved, Grid) and any(finding.code == "grid-sampled" for finding in findings)
    back = pyproj.Transformer.from_crs(25833, 32632, always_xy=True)
    row, column = moved.rows // 2, moved.columns // 2
    east, north = back.transform(moved.eastings()[column], moved.northings()[row])
    plane = 100 + (east - 431_005.0) / 10.0 + 2 * (5_262_295.0 - north) / 10.0
    assert moved.heights[row, column] == pytest.approx(plane, abs=1e-6), "bilinear keeps a plane"


def test_unknown_systems_are_refused():
    with pytest.raises(CallError, match="unknown"):
        reprojected(PointSet(name="p", xyz=np.zeros((1, 3))), "EPSG:25832", Silent())
    with pytest.raises(CallError, match="is not a coordinate reference system"):
        reprojected(places(), "EPSG:nope", Silent())


@pytest.mark.parametrize("own", ["gpx", "kml", "text"])
def test_geographic_files_go_out_and_come_back(own, tmp_path):
    target = catalog.format_named(own)
    points = places()
    if own == "text":
        points = reprojected(points, "EPSG:4326", Silent())[0]
    delivery = deliver([points], tmp_path / f"a{target.suffixes[0]}", target, target.write_params(), Silent())
    assert delivery.good, delivery.checks
    (back,) = read(tmp_path / f"a{target.suffixes[0]}").datasets
    again, _ = reprojected(back, "EPSG:32632", Silent())
    np.testing.assert_allclose(again.xyz, places().xyz, atol=1e-3)


def test_degrees_ask_for_a_grid_first(run_cli, tmp_path):
    code, _, err = run_cli("convert", DATA / "korita-zbevnica.gpx", tmp_path / "a.xml")
    assert code != 0 and "--via reproject crs=EPSG:32633" in err
    code, out, err = run_cli(
        "convert", DATA / "korita-zbevnica.gpx", tmp_path / "a.xml", "--via", "reproject", "--via", "tin"
    )
    assert code == 0, err
    assert "reprojected to EPSG:32633" in out


def test_a_shapefile_without_its_index(tmp_path):
    path = samples.vector(tmp_path / "c.shp", "ESRI Shapefile")
    (tmp_path / "c.shx").unlink()
    with pytest.raises(FormatError, match=r"ask for \.shp, \.shx and \.dbf"):
        read(path)


@pytest.mark.parametrize("overviews", [False, True])
def test_a_large_raster_is_shown_from_some_of_it(tmp_path, monkeypatch, overviews):
    monkeypatch.setattr("vastgrid.execution.steps.LARGE_FILE", 1000)
    monkeypatch.setattr("vastgrid.format_support.rasterfile.QUICK_CELLS", 300_000)
    size = 1600
    heights = np.add.outer(np.arange(size) * 0.5, np.arange(size) * 0.1).astype(np.float32)
    place = rasterio.Affine(2.0, 0.0, 5e5, 0.0, -2.0, 5.4e6)
    shape = {"width": size, "height": size, "count": 1, "dtype": "float32", "transform": place, "crs": "EPSG:32632"}
    with rasterio.open(
        tmp_path / "a.tif", "w", driver="GTiff", tiled=True, blockxsize=128, blockysize=128, **shape
    ) as file:
        file.write(heights, 1)
        if overviews:
            file.build_overviews([2, 4], rasterio.enums.Resampling.average)
    source = peek_file(tmp_path / "a.tif", {}, Silent())
    (grid,) = source.datasets
    assert source.counts() == [{"rows": size, "columns": size}] and max(grid.heights.shape) <= 810
    full = read(tmp_path / "a.tif").datasets[0]
    assert grid.extent().east == full.extent().east and grid.extent().north == full.extent().north
    want = full.heights[:: size // grid.rows, :: size // grid.columns][: grid.rows, : grid.columns]
    assert np.abs(grid.heights - want).max() < (3.0 if overviews else 0.5 * 128 * 10)
