"""Clouds against the published counts of open files; rasters against rasterio."""

import numpy as np
import pytest
import rasterio

from builders import DATA, METRES, ground
from vastgrid import catalog
from vastgrid.base.errors import DataError, FormatError, ParamError
from vastgrid.base.progress import Silent
from vastgrid.base.quantities import Length, Unit
from vastgrid.conversions.grids import grid
from vastgrid.data.frame import Frame, frame_of_crs, height_system, same_place
from vastgrid.data.grid import Grid
from vastgrid.data.pointset import PointSet
from vastgrid.declarations.conversion import Inputs
from vastgrid.delivery.deliver import deliver
from vastgrid.execution.steps import in_one_frame
from vastgrid.formats import asciigrid, geotiff, las
from vastgrid.params import declare


def cloud(name, classes=""):
    return las.read(DATA / name, las.LasReadParams(classes), Silent())


def test_autzen_as_listed():
    points = cloud("autzen_trim.laz").datasets[0]
    assert points.count() == {"points": 110_000}
    assert len(np.unique(points.xyz[:, :2], axis=0)) == 109_993
    extent = points.extent()
    assert extent.east == pytest.approx((636001.76, 637179.22), abs=1e-9)
    assert extent.north == pytest.approx((848935.20, 849497.90), abs=1e-9)
    assert extent.elevation == pytest.approx((406.26, 520.51), abs=1e-9)
    assert set(np.unique(points.attributes["classification"])) == {1, 2}
    assert {"red", "green", "blue", "intensity", "gps_time"} <= set(points.attributes)
    assert points.frame.horizontal is Unit.FOOT
    assert points.frame.vertical is None, "the file says nothing of heights"


def test_crs_and_unit_unknown_where_the_file_is_silent():
    assert cloud("simple.las").datasets[0].frame == Frame()
    assert cloud("autzen.las").datasets[0].frame.horizontal is Unit.FOOT


def test_las_and_laz_are_one_cloud():
    a, b = cloud("simple.las").datasets[0], cloud("simple.laz").datasets[0]
    np.testing.assert_array_equal(a.xyz, b.xyz)
    assert all((a.attributes[name] == b.attributes[name]).all() for name in a.attributes)


def test_classes_are_counted_when_left_out():
    result = cloud("simple.las", "2")
    assert len(result.datasets[0].xyz) == 276
    assert "789 of 1\u202f065 points dropped (74.1%)" in result.findings[-1].text
    with pytest.raises(FormatError, match="no point is of class 77"):
        cloud("simple.las", "77")
    with pytest.raises(ParamError):
        cloud("simple.las", "ground")


@pytest.mark.parametrize("name", ["simple.las", "simple.laz", "autzen_trim.laz"])
@pytest.mark.parametrize("share", [0.0001, 0.02, 0.5, 0.97])
def test_truncated_clouds(tmp_path, name, share):
    data = (DATA / name).read_bytes()
    (tmp_path / name).write_bytes(data[: int(len(data) * share)])
    with pytest.raises(FormatError):
        las.read(tmp_path / name, las.LasReadParams(), Silent())


def test_a_header_that_promises_too_much(tmp_path):
    data = bytearray((DATA / "simple.las").read_bytes())
    data[107:111] = (4_000_000_000).to_bytes(4, "little")
    (tmp_path / "a.las").write_bytes(data)
    with pytest.raises(FormatError, match="speaks of 4 000 000 000 points"):
        las.read(tmp_path / "a.las", las.LasReadParams(), Silent())


def test_mutated_clouds_give_our_error_or_points(tmp_path):
    original = (DATA / "simple.laz").read_bytes()
    rng = np.random.default_rng(5)
    for _ in range(150):
        data = bytearray(original)
        for place in rng.integers(0, len(data), 3):
            data[place] = rng.integers(0, 256)
        (tmp_path / "m.laz").write_bytes(data)
        try:
            las.read(tmp_path / "m.laz", las.LasReadParams(), Silent())
        except FormatError:
            continue


def dem(frame=METRES, cell=2.0):
    made = grid.run([ground(900, frame=frame)], grid.GridParams(Length(cell)), Silent()).dataset
    assert np.isnan(made.heights).any(), "the corners have no ground"
    return made


@pytest.mark.parametrize("precision", list(geotiff.Precision))
def test_rasterio_reads_our_tiff(tmp_path, precision):
    made = dem()
    geotiff.write([made], tmp_path / "a.tif", geotiff.TiffWriteParams(precision), Silent())
    with rasterio.open(tmp_path / "a.tif") as source:
        band = source.read(1, masked=True)
        assert source.transform.c == made.west and source.transform.f == made.north and source.transform.a == 2.0
        assert (band.mask == np.isnan(made.heights)).all()
        np.testing.assert_allclose(band.compressed(), made.heights[np.isfinite(made.heights)], rtol=1e-6)
        assert source.units == ("metre",) and "metre" in source.crs.to_wkt()
    back = geotiff.read(tmp_path / "a.tif", geotiff.BandParams(), Silent()).datasets[0]
    assert back.frame == made.frame and back.count() == made.count()


def test_tiff_keeps_crs_and_foot(tmp_path):
    made = dem(frame_of_crs("EPSG:2994").filled(None, Unit.FOOT))
    geotiff.write([made], tmp_path / "a.tif", geotiff.TiffWriteParams(), Silent())
    back = geotiff.read(tmp_path / "a.tif", geotiff.BandParams(), Silent()).datasets[0]
    assert back.frame.horizontal is Unit.FOOT and back.frame.vertical is Unit.FOOT
    assert rasterio.open(tmp_path / "a.tif").crs.to_epsg() == 2994


def test_foreign_tiffs(tmp_path):
    z = np.arange(12, dtype="int16").reshape(3, 4)
    profile = {"driver": "GTiff", "width": 4, "height": 3, "count": 2, "dtype": "int16", "nodata": 5}
    south_up = rasterio.Affine(10, 0, 1000, 0, 10, 2000)
    with rasterio.open(tmp_path / "a.tif", "w", **profile, transform=south_up) as target:
        target.write(z, 1)
        target.write(z * 2, 2)
    made = geotiff.read(tmp_path / "a.tif", geotiff.BandParams(band=2), Silent()).datasets[0]
    assert (made.north, made.dy, made.heights[0, 0]) == (2030.0, 10.0, 16.0)
    with pytest.raises(ParamError, match="the raster has 2"):
        geotiff.read(tmp_path / "a.tif", geotiff.BandParams(band=3), Silent())
    data = (tmp_path / "a.tif").read_bytes()
    (tmp_path / "c.tif").write_bytes(data[:60])
    with pytest.raises(FormatError):
        geotiff.read(tmp_path / "c.tif", geotiff.BandParams(), Silent())


def test_ascii_grid(tmp_path):
    made = dem()
    asciigrid.write([made], tmp_path / "a.asc", asciigrid.AsciiWriteParams(), Silent())
    assert (tmp_path / "a.asc").read_text().splitlines()[:3] == ["ncols 100", "nrows 75", "xllcorner 431000.0"]
    back = asciigrid.read(tmp_path / "a.asc", asciigrid.AsciiReadParams(), Silent()).datasets[0]
    np.testing.assert_allclose(back.heights, made.heights, atol=5.1e-5)
    assert (back.west, back.north, back.dx) == (made.west, made.north, 2.0)
    text = (tmp_path / "a.asc").read_text()
    (tmp_path / "b.asc").write_text(text[: len(text) // 2])
    with pytest.raises(FormatError, match="cut off: 75 × 100"):
        asciigrid.read(tmp_path / "b.asc", asciigrid.AsciiReadParams(), Silent())
    oblong = Grid(frame=METRES, heights=np.zeros((2, 2)), west=0, north=0, dx=1, dy=2)
    with pytest.raises(DataError, match="square cells"):
        asciigrid.write([oblong], tmp_path / "c.asc", asciigrid.AsciiWriteParams(), Silent())


def test_ascii_grid_by_hand(tmp_path):
    (tmp_path / "a.asc").write_text(
        "NCOLS 3\nNROWS 2\nXLLCENTER 10.5\nYLLCENTER 20.5\nCELLSIZE 1\nNODATA_VALUE -1\n1 2 3\n4 -1 6\n"
    )
    made = asciigrid.read(tmp_path / "a.asc", asciigrid.AsciiReadParams(), Silent()).datasets[0]
    assert (made.west, made.north) == (10.0, 22.0)
    assert made.heights[0].tolist() == [1, 2, 3] and np.isnan(made.heights[1, 1])


@pytest.mark.parametrize(
    "crs", ["EPSG:25832+7837", "EPSG:2225+6360", "EPSG:26916", ""], ids=["metres", "feet", "flat", "none"]
)
@pytest.mark.parametrize(
    "step", ["slope", "slope as=degrees", "slope as=ratio", "aspect", "hillshade", "bands interval=2 as=grid"]
)
def test_what_is_no_height_comes_back_as_it_was(tmp_path, crs, step):
    """The library tells the unit of a system's heights for bands that say none: that is no unit of a bearing."""
    name, *words = step.split()
    y, x = np.mgrid[0:30, 0:40]
    frame = frame_of_crs(crs) if crs else METRES
    surface = Grid(name="hill", frame=frame, heights=10 + np.sin(x / 5) + y * 0.3, west=500_000, north=5e6, dx=2, dy=2)
    conversion = catalog.conversion_named(name)
    params = declare.build(conversion.params, dict(word.split("=") for word in words))
    inputs = Inputs.of_pairs([("surface", surface)])
    made = conversion.run(inputs, conversion.settle(inputs, params), Silent()).dataset
    done = deliver([made], tmp_path / "made.tif", geotiff.FORMAT, geotiff.TiffWriteParams(), Silent())
    assert [check.what for check in done.checks if not check.good] == []
    back = geotiff.FORMAT.read(tmp_path / "made.tif", geotiff.FORMAT.read_params(), Silent()).datasets[0]
    assert back.holds() == made.holds()


def test_one_place_under_other_heights_is_one_place():
    """A drawing of boundaries says no heights, a terrain model does; two height systems are told."""
    flat, high, old = frame_of_crs("EPSG:25832"), frame_of_crs("EPSG:25832+7837"), frame_of_crs("EPSG:25832+5783")
    assert same_place(flat.crs, high.crs)
    assert not same_place(frame_of_crs("EPSG:25833").crs, high.crs)
    assert (height_system(flat.crs), height_system(high.crs)) == ("", "DHHN2016 height")
    xyz = np.zeros((1, 3))
    findings = []
    in_one_frame([PointSet(name="new", frame=high, xyz=xyz), PointSet(name="old", frame=old, xyz=xyz)], findings)
    assert [each.code for each in findings] == ["height-systems-differ"]
    findings.clear()
    in_one_frame([PointSet(name="new", frame=high, xyz=xyz), PointSet(name="flat", frame=flat, xyz=xyz)], findings)
    assert "height-systems-differ" not in [each.code for each in findings]
