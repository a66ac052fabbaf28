"""Open data through a plain `convert` into every format that goes out, read again by libraries that are not ours."""

import csv
import json
import os
import resource
import subprocess
import sys
import xml.etree.ElementTree as ElementTree

import ezdxf
import laspy
import numpy as np
import pyogrio
import pytest
import rasterio
import shapely
from pyproj import Transformer

from builders import DATA

CLOUD, CONTOURS, TRACK = DATA / "simple.las", DATA / "olinda_c10.shp", DATA / "korita-zbevnica.gpx"
FEET = ("--from-units", "us-ft", "--from-vertical-units", "us-ft")


@pytest.fixture(scope="module")
def cloud():
    data = laspy.read(CLOUD)
    return np.column_stack((data.x, data.y, data.z))


@pytest.fixture(scope="module")
def contours():
    shapes = _shapes(CONTOURS)
    return [np.asarray(shapely.get_coordinates(shape, include_z=True)) for shape in shapes]


def _shapes(path):
    _, _, geometry, _ = pyogrio.raw.read(path)
    return shapely.get_parts(shapely.from_wkb(geometry))


def ordered(rows):
    rows = np.asarray(rows, float)
    return rows[np.lexsort(np.round(rows, 3).T)]


def local(root, name):
    return [each for each in root.iter() if each.tag.rsplit("}", 1)[-1] == name]


def test_a_cloud_as_text(run_cli, tmp_path, cloud):
    code, _, err = run_cli("convert", CLOUD, tmp_path / "o.csv", *FEET)
    assert code == 0, err
    with (tmp_path / "o.csv").open() as file:
        rows = list(csv.DictReader(file))
    heads = list(rows[0])
    place = [next(head for head in heads if head.lower().startswith(role)) for role in ("easting", "northing", "elev")]
    assert all("us-ft" in head for head in place)
    np.testing.assert_allclose([[float(row[head]) for head in place] for row in rows], cloud, atol=5.1e-5)
    data = laspy.read(CLOUD)
    assert [int(row["intensity"]) for row in rows] == data.intensity.tolist()
    assert [int(row["classification"]) for row in rows] == np.asarray(data.classification).tolist()


def test_a_cloud_as_drawing_and_landxml(run_cli, tmp_path, cloud):
    assert run_cli("convert", CLOUD, tmp_path / "o.dxf", *FEET)[0] == 0
    document = ezdxf.readfile(tmp_path / "o.dxf")
    points = [each.dxf.location for each in document.modelspace().query("POINT")]
    np.testing.assert_allclose([(p.x, p.y, p.z) for p in points], cloud, atol=5.1e-5)
    assert document.header["$INSUNITS"] == 21, "US survey feet (DXF Reference, HEADER)"
    assert run_cli("convert", CLOUD, tmp_path / "o.xml", *FEET)[0] == 0
    root = ElementTree.parse(tmp_path / "o.xml").getroot()
    rows = [[float(word) for word in each.text.split()] for each in local(root, "CgPoint")]
    np.testing.assert_allclose(np.array(rows)[:, [1, 0, 2]], cloud, atol=5.1e-5)
    assert local(root, "Imperial")[0].get("linearUnit") == "USSurveyFoot" and not local(root, "Surface")


def test_a_cloud_as_grid_stands_on_its_own_points(run_cli, tmp_path, cloud):
    code, _, err = run_cli("convert", CLOUD, tmp_path / "o.tif", *FEET, "--report", tmp_path / "r.json")
    assert code == 0, err
    with rasterio.open(tmp_path / "o.tif") as file:
        heights, bounds = file.read(1, masked=True), file.bounds
    low, high = cloud.min(axis=0), cloud.max(axis=0)
    assert bounds.left <= low[0] + 1e-6 and bounds.right >= high[0] - 1e-6 and bounds.top >= high[1] - 1e-6
    # A surface through the points has no height beyond theirs.
    assert low[2] - 1e-3 <= float(heights.min()) and float(heights.max()) <= high[2] + 1e-3
    steps = json.loads((tmp_path / "r.json").read_text())["steps"]
    assert [step["sentence"].split(" ")[0] for step in steps[1:]] == ["TIN", "Heights"], (
        "what is made on the way is said"
    )


@pytest.mark.parametrize("decimals", [1, 4])
def test_contours_as_drawing(run_cli, tmp_path, contours, decimals):
    code, _, err = run_cli("convert", CONTOURS, tmp_path / "o.dxf", "--write", f"decimals={decimals}")
    assert code == 0, err
    lines = list(ezdxf.readfile(tmp_path / "o.dxf").modelspace())
    assert {each.dxftype() for each in lines} == {"POLYLINE"} and len(lines) == len(contours)
    for line, course in zip(lines, contours, strict=True):
        made = np.array([tuple(point) for point in line.points()])
        closed = (course[0] == course[-1]).all()
        assert line.is_closed == closed
        np.testing.assert_allclose(made[:, :2], course[: len(made), :2], atol=0.51 * 10.0**-decimals)
        assert len(made) == len(course) - closed


def test_contours_as_landxml_and_as_text(run_cli, tmp_path, contours):
    assert run_cli("convert", CONTOURS, tmp_path / "o.xml")[0] == 0
    root = ElementTree.parse(tmp_path / "o.xml").getroot()
    rows = [[float(word) for word in each.text.split()] for each in local(root, "PntList3D")]
    assert len(rows) == len(contours) and not local(root, "F"), "lines stay lines"
    for row, course in zip(rows, contours, strict=True):
        np.testing.assert_allclose(np.array(row).reshape(-1, 3)[:, [1, 0]], course[:, :2], atol=5.1e-5)


def test_a_track_in_degrees_goes_to_a_grid_as_other_software_has_it(run_cli, tmp_path):
    root = ElementTree.parse(TRACK).getroot()
    points = [each for each in local(root, "trkpt") if local(each, "ele")]
    degrees = [(float(each.get("lon")), float(each.get("lat"))) for each in points]
    out = tmp_path / "o.dxf"
    code, _, err = run_cli("convert", TRACK, out)
    assert code == 2 and "reproject crs=EPSG:32633" in err, "a drawing holds no degrees, and the way out is said"
    code, _, err = run_cli("convert", TRACK, out, "--via", "reproject", "crs=EPSG:32633")
    assert code == 0, err
    east, north = Transformer.from_crs(4326, 32633, always_xy=True).transform(*np.array(degrees).T)
    assert "points of korita-zbevnica without a height, which DXF drawing cannot say: left out" in err
    made = [tuple(each.dxf.location)[:2] for each in ezdxf.readfile(out).modelspace().query("POINT")]
    assert len(made) == len(degrees)
    np.testing.assert_allclose(ordered(made), ordered(np.column_stack((east, north))), atol=1e-3)


def test_the_same_twice_is_the_same(run_cli, tmp_path):
    for name in ("a", "b"):
        assert (
            run_cli("convert", CONTOURS, tmp_path / f"{name}.tif", "--via", "tin", "--via", "grid", "cell=50m")[0] == 0
        )
    with rasterio.open(tmp_path / "a.tif") as one, rasterio.open(tmp_path / "b.tif") as two:
        np.testing.assert_array_equal(one.read(1), two.read(1))
    code, out, _ = run_cli("compare", tmp_path / "a.tif", tmp_path / "b.tif")
    assert code == 0 and "0.000 at most" in out


@pytest.mark.parametrize(("ending", "option"), [("gpx", "--from-vertical-units"), ("xml", "--from-units")])
def test_a_missing_unit_is_asked_for_by_the_option_that_gives_it(run_cli, tmp_path, ending, option):
    code, _, err = run_cli("convert", CLOUD, tmp_path / f"o.{ending}")
    assert code == 2 and f"say it with {option} (m, ft, us-ft)" in err
    assert not (tmp_path / f"o.{ending}").exists()


def little_room():
    # Files beyond this cannot be written, as on a disk that fills up (setrlimit(2), RLIMIT_FSIZE).
    resource.setrlimit(resource.RLIMIT_FSIZE, (2048, 2048))


@pytest.mark.parametrize("ending", ["tif", "asc", "csv", "dxf", "xml", "kml", "gpx"])
def test_a_full_disk_is_one_line_in_our_words(tmp_path, ending):
    source = TRACK if ending in ("kml", "gpx") else CLOUD
    target = tmp_path / f"o.{ending}"
    target.write_text("before")
    command = [sys.executable, "-m", "vastgrid", "convert", source, target, *(() if source is TRACK else FEET)]
    # Compiled code is kept beside the sources, which here cannot be written either.
    done = subprocess.run(
        [*map(str, command)],
        preexec_fn=little_room,
        capture_output=True,
        text=True,
        env={**os.environ, "PYTHONDONTWRITEBYTECODE": "1"},
    )
    lines = [line for line in done.stderr.splitlines() if not line.startswith(("note: ", "warning: "))]
    assert done.returncode == 1 and len(lines) == 1, done.stderr
    assert lines[0].startswith(f"vastgrid: {target} was not written: the disk is full"), lines
    assert target.read_text() == "before" and [each.name for each in tmp_path.iterdir()] == [target.name]


@pytest.mark.parametrize("ending", ["fgb", "gpkg", "geojson", "kml", "tif", "laz"])
def test_damaged_files_are_one_line_each_and_exit_1(tmp_path, ending):
    path = tmp_path / f"v.{ending}"
    if ending == "tif":
        heights = np.random.default_rng(0).normal(size=(200, 200)).astype("float32")
        place = rasterio.Affine(1, 0, 431_000, 0, -1, 887_000)
        options = {"driver": "GTiff", "width": 200, "height": 200, "count": 1, "dtype": "float32", "compress": "zstd"}
        with rasterio.open(path, "w", transform=place, crs="EPSG:25832", **options) as file:
            file.write(heights, 1)
    elif ending == "laz":
        path.write_bytes((DATA / "simple.laz").read_bytes())
    else:
        meta, _, geometry, columns = pyogrio.raw.read(CONTOURS, force_2d=True)
        names = {"fgb": "FlatGeobuf", "gpkg": "GPKG", "geojson": "GeoJSON", "kml": "KML"}
        options = {"driver": names[ending], "geometry_type": "LineString", "crs": meta["crs"]}
        pyogrio.raw.write(str(path), geometry, columns, list(meta["fields"]), **options)
    whole = path.read_bytes()
    paths = [tmp_path / str(size) / path.name for size in (len(whole) * 2 // 3, 300, 90)]
    for each in paths:
        each.parent.mkdir()
        each.write_bytes(whole[: int(each.parent.name)])
    # In a process of its own, since libraries may write past Python; one for all, since starting is most of it.
    code = "import sys; from vastgrid.cli.main import run; print(*[run(['info', each]) for each in sys.argv[1:]], file=sys.stdout)"
    done = subprocess.run([sys.executable, "-c", code, *paths], capture_output=True, text=True)
    lines = [line for line in done.stderr.splitlines() if not line.startswith(("note: ", "warning: "))]
    assert done.stdout.split()[-3:] == ["1", "1", "1"] and len(lines) == 3, done.stderr
    assert all(line.startswith(f"vastgrid: v.{ending}") for line in lines), done.stderr
