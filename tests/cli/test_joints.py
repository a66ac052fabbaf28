"""Where data comes in and goes out, from the command line: what is in a file is what was meant.

Files are written here by other libraries, or byte by byte, and looked at by other libraries.
"""

from __future__ import annotations

import csv
import dataclasses
import re
import struct
import subprocess
from pathlib import Path
from types import SimpleNamespace

import ezdxf
import laspy
import numpy as np
import pyogrio
import pytest
import rasterio
from affine import Affine

from builders import METRES as METRES_FRAME
from builders import ground
from vastgrid.base.errors import CallError, WriteError
from vastgrid.base.progress import Silent
from vastgrid.base.words import instead
from vastgrid.cli.main import run as command
from vastgrid.cli.shells import script
from vastgrid.conversions.grids import grid
from vastgrid.data.attributes import numbers_of_texts
from vastgrid.data.linework import from_lines
from vastgrid.data.table import Table
from vastgrid.execution.table_files import write_tables
from vastgrid.formats import dxf, landxml

METRES = ("--from-units", "m", "--from-vertical-units", "m")


@pytest.fixture
def here(tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    return tmp_path


def put_cloud(path, x, y, z, *, scale=0.001, **columns):
    header = laspy.LasHeader(point_format=1, version="1.2")
    header.scales, header.offsets = (scale,) * 3, (0.0, 0.0, 0.0)
    cloud = laspy.LasData(header)
    cloud.x, cloud.y, cloud.z = x, y, z
    for name, values in columns.items():
        setattr(cloud, name, values)
    cloud.write(path)


def on_borders(folder):
    """Write a cloud in two files whose points lie on every border of tiles of 100 m and of cells of 5 m."""
    folder.mkdir()
    number = 0
    for k, (first, last) in enumerate(((0, 200), (205, 400))):
        x, y = (each.ravel() for each in np.meshgrid(np.arange(first, last + 1, 5.0), np.arange(0, 301, 5.0)))
        put_cloud(folder / f"{k}.las", x, y, 0.01 * x + 0.02 * y)
        number += len(x)
    return number


@pytest.mark.parametrize("ending", [".laz", ".copc.laz"])
def test_every_point_is_on_one_tile(here, capsys, ending):
    number = on_borders(here / "cloud")
    out = here / f"all{ending}"
    assert command(["convert", "cloud", str(out), "--tiles", "100m", "--workers", "0", *METRES]) == 0
    with laspy.open(out) as file:
        assert file.header.point_count == number
        assert np.array(file.header.mins) == pytest.approx([0, 0, 0])
        assert np.array(file.header.maxs) == pytest.approx([400, 300, 10])
    assert f"{number:,} points went in".replace(",", "\u202f") in capsys.readouterr().err


@pytest.mark.parametrize("tiles", [(), ("--tiles", "100m", "--workers", "0")])
def test_every_point_is_in_one_cell(here, capsys, tiles):
    on_borders(here / "cloud")
    words = ["--via", "grid", "method=count", "cell=5m"]
    assert command(["convert", "cloud/0.las", "count.tif", *tiles, *METRES, *words]) == 0
    with rasterio.open("count.tif") as raster:
        assert raster.read(1, masked=True).sum() == 41 * 61
    told = capsys.readouterr().err
    number = f"{41 * 61:,}".replace(",", "\u202f")
    assert f"{number} of {number} points lie in the cells" in told if tiles else "in the cells: all that count" in told


def test_a_header_with_another_number_of_points_is_no_grid_of_them(here, capsys, monkeypatch):
    on_borders(here / "cloud")
    gather = grid.heights_of_cells
    monkeypatch.setattr(grid, "heights_of_cells", lambda *given: (gather(*given)[0], gather(*given)[1] - 1))
    words = ["--tiles", "200m", "--workers", "0", *METRES, "--via", "grid", "method=mean", "cell=5m"]
    assert command(["convert", "cloud", "mean.tif", *words]) == 1
    assert "all have to" in capsys.readouterr().err
    assert [each.name for each in here.iterdir()] == ["cloud"]


def test_a_result_never_falls_among_its_sources(here, capsys):
    on_borders(here / "cloud")
    before = {each.name: each.read_bytes() for each in (here / "cloud").iterdir()}
    words = ["--tiles", "100m", "--workers", "0", *METRES, "--via", "grid", "method=mean", "cell=5m"]
    for name in ("0.las", "new.tif"):
        assert command(["convert", "cloud", f"cloud/{name}", *words]) == 2
    assert "among the sources" in capsys.readouterr().err
    assert {each.name: each.read_bytes() for each in (here / "cloud").iterdir()} == before


def test_refusals_leave_no_scratch(here, capsys):
    on_borders(here / "cloud")
    tiles = ["--tiles", "200m", "--workers", "0", *METRES]
    mean = ["--via", "grid", "method=mean", "cell=5m"]
    assert command(["convert", "cloud", "a.tif", *tiles, *mean, "classes=77"]) == 1
    assert command(["convert", "cloud", "a.tif", "--tiles", "0.001m", "--workers", "0", *METRES, *mean]) == 2
    assert "less than a cell of 5 m" in capsys.readouterr().err
    assert command(["convert", "cloud", "[x]*?.laz", *tiles]) == 0
    assert sorted(each.name for each in here.iterdir()) == ["[x]*?.laz", "cloud"]
    (here / "cloud" / "piece.asc").write_text("ncols 1\nnrows 1\nxllcorner 0\nyllcorner 0\ncellsize 1\n3\n")
    assert command(["convert", "cloud", "b.laz", *tiles]) == 2
    assert "piece.asc" in capsys.readouterr().err


def test_a_raster_whose_header_is_words_is_read_word_by_word(here, capsys):
    """BIL by its header: bytes from the front passed over, rows padded, big ends first, a value for no height."""
    heights = np.array([[1, 2, -9999], [4, 5, 6]], ">i2")
    rows = b"".join(row.tobytes() + b"\xff\xff" for row in heights)
    (here / "a.bil").write_bytes(b"skipped!" + rows)
    header = (
        "NROWS 2\nNCOLS 3\nNBANDS 1\nNBITS 16\nPIXELTYPE SIGNEDINT\nBYTEORDER M\nLAYOUT BIL\nSKIPBYTES 8\n"
        "BANDROWBYTES 8\nTOTALROWBYTES 8\nNODATA -9999\nULXMAP 100.5\nULYMAP 201.5\nXDIM 1\nYDIM 1\n"
    )
    (here / "a.hdr").write_text(header)
    assert command(["convert", "a.bil", "a.tif", *METRES]) == 0
    with rasterio.open("a.tif") as raster:
        assert raster.read(1, masked=True).filled(0).tolist() == [[1, 2, 0], [4, 5, 6]]
        assert (raster.bounds.left, raster.bounds.top) == (100, 202)
    (here / "a.bil").write_bytes(b"skipped!" + rows[:-6])
    assert command(["convert", "a.bil", "b.tif", *METRES]) == 1
    assert not (here / "b.tif").exists()


def test_heights_above_the_ground_are_no_elevations(here, capsys):
    """KML 2.2, altitudeMode (from memory): clampToGround, the default, says that the height is not to be used."""
    text = (
        '<kml xmlns="http://www.opengis.net/kml/2.2"><Document>'
        + "".join(
            f"<Placemark><name>{name}</name><Point>{mode}<coordinates>10,50,{z}</coordinates></Point></Placemark>"
            for name, mode, z in (
                ("a", "<altitudeMode>absolute</altitudeMode>", 120),
                ("b", "<altitudeMode>relativeToGround</altitudeMode>", 2),
            )
        )
        + "</Document></kml>"
    )
    (here / "a.kml").write_text(text)
    assert command(["convert", "a.kml", "a.gpkg"]) == 0
    assert "relativeToGround" in capsys.readouterr().err
    _, _, shapes, _ = pyogrio.raw.read("a.gpkg")
    heights = sorted(
        struct.unpack_from("<3d", each, 5)[2] for each in shapes if struct.unpack_from("<I", each, 1)[0] > 1
    )
    assert 120.0 in heights
    assert 2.0 not in heights


def test_a_point_that_does_not_fit_is_named(here, capsys):
    """Steps of LAS are whole numbers of 32 bits: a place 10 000 km away does not fit steps of a millimetre."""
    (here / "a.csv").write_text("E,N,Z\n1,2,3\n2,2,3\n1e10,2,3\n")
    assert command(["convert", "a.csv", "a.las", *METRES, "--write", "decimals=3"]) == 2
    told = capsys.readouterr().err
    assert "point 3" in told
    assert "10" in told


def test_layers_keep_names_of_their_own_and_drawings_their_extent(here):
    names = ["Straße/1", "Straße:1", "straße?1", "a" * 300, "a" * 299 + "b"]
    lines = [np.array([(1000.0 + k, 2000, 1), (1010.0 + k, 2050, 2)]) for k in range(len(names))]
    dxf.FORMAT.write(
        [from_lines("Lines", METRES_FRAME, lines, names)], here / "a.dxf", dxf.FORMAT.write_params(), Silent()
    )
    drawing = ezdxf.readfile("a.dxf")
    layers = {each.dxf.layer.lower() for each in drawing.modelspace()}
    assert len(layers) == len(names)
    assert all(len(each) <= 255 and not set(each) & set('<>/\\":;?*|=`') for each in layers)
    assert drawing.header["$EXTMIN"][:2] == pytest.approx((1000, 2000))
    assert drawing.header["$EXTMAX"][:2] == pytest.approx((1014, 2050))


def test_axes_that_count_towards_west_and_south_are_not_taken_for_others(here, capsys):
    """EPSG:2053 (Hartebeesthoek94 / Lo29) counts towards west and south."""
    (here / "a.csv").write_text("E,N,Z\n1000,2900000,3\n1010,2900000,3\n1000,2900010,4\n")
    assert command(["convert", "a.csv", "a.gpkg", *METRES, "--via", "system", "crs=EPSG:2053"]) == 2
    assert "axes that point west and south" in capsys.readouterr().err


def test_answers_go_out_as_tables(here):
    tin = ground(300)
    landxml.FORMAT.write([tin], here / "a.xml", landxml.FORMAT.write_params(), Silent())
    raised = tin.vertices + (0, 0, 1)
    landxml.FORMAT.write(
        [dataclasses.replace(tin, vertices=raised)], here / "b.xml", landxml.FORMAT.write_params(), Silent()
    )
    assert command(["convert", "a.xml", "b.xml", "v.csv", "--via", "volumes"]) == 0
    rows = list(csv.reader((here / "v.csv").read_text().splitlines()))
    area = float(
        np.abs(
            np.linalg.det(np.dstack((np.ones((len(tin.triangles), 3)), tin.vertices[tin.triangles][:, :, :2])))
        ).sum()
        / 2
    )
    figures = [
        float(cell.replace("\u202f", ""))
        for row in rows
        for cell in row
        if cell.replace("\u202f", "").replace(".", "").isdigit()
    ]
    assert any(abs(each - area) < 1e-3 * area for each in figures)


def test_a_table_is_read_back_from_disk_and_falls_on_no_input(here, monkeypatch):
    names = np.array([b'a "b", c\r\nd'])
    tables = [Table(name=name, columns={"inside": names, "cut": np.array([0.1 + 0.2])}) for name in ("one", "two")]
    run = SimpleNamespace(have=None, datasets=lambda have: tables)
    (here / "v-2.csv").write_text("what came in\n")
    with pytest.raises(CallError, match=r"v-2\.csv is also an input"):
        write_tables(run, [here / "v-2.csv"], here / "v.csv", None, Silent())
    assert [each.name for each in here.iterdir()] == ["v-2.csv"]
    write_tables(run, [], here / "w.csv", None, Silent())
    for name in ("w.csv", "w-2.csv"):
        with (here / name).open(newline="") as file:
            assert list(csv.reader(file)) == [["inside", "cut"], ['a "b", c\r\nd', repr(0.1 + 0.2)]]
    write = Path.write_text
    # A disk that keeps another figure than it was given.
    monkeypatch.setattr(Path, "write_text", lambda own, text, **how: write(own, text.replace("0.3", "0.4"), **how))
    with pytest.raises(WriteError, match="reads back"):
        write_tables(run, [], here / "x.csv", None, Silent())
    assert not list(here.glob("x*"))


def test_a_wrong_name_gets_the_nearest_ones_in_a_line():
    known = [f"EPSG:{k} Some long name of a system" for k in range(5000)]
    for word in ("EPSG:27", "x" * 500, "", "Straße"):
        assert len(instead(word, known)) <= 200
    assert instead("contuors", ["contours", "grid", "tin"]) == "did you mean contours?"


def test_the_closing_line_says_what_was_compared(here, capsys):
    (here / "a.csv").write_text("E,N,Z\n1,2,3\n11,2,3.5\n5,9,4\n")
    assert command(["convert", "a.csv", "a.xml", *METRES, "--via", "tin"]) == 0
    told = capsys.readouterr().out
    assert "written and read back; counts, extents, units and every coordinate" in told
    assert "largest difference in height 0.000000 m" in told


def test_completion_knows_formats_and_pages(here):
    (here / "own.bash").write_text(script("bash"))
    call = '. ./own.bash; COMP_WORDS=(vastgrid manual "$1"); COMP_CWORD=2; _vastgrid; echo "${COMPREPLY[@]}"'
    for begun, whole in (("geot", "geotiff"), ("landx", "landxml"), ("first", "first-hour"), ("cont", "contours")):
        done = subprocess.run(["bash", "-c", call, "bash", begun], capture_output=True, text=True, check=True)
        assert whole in done.stdout.split()
    assert "landxml" in script("zsh")
    assert "landxml" in script("fish")


def test_a_piece_with_its_rows_from_the_south_is_not_left_out_in_silence(here, capsys):
    heights = np.arange(12, dtype="float32").reshape(3, 4)
    (here / "pieces").mkdir()
    for name, place, rows in (
        ("north", Affine(1, 0, 0, 0, -1, 3), heights),
        ("south", Affine(1, 0, 4, 0, 1, 0), heights[::-1] + 100),
    ):
        with rasterio.open(
            here / "pieces" / f"{name}.tif", "w", driver="GTiff", width=4, height=3, count=1, dtype="float32",
            crs="EPSG:25832", transform=place,
        ) as file:  # fmt: skip
            file.write(rows, 1)
    tiles = ["--tiles", "100m", "--workers", "0", "--from-vertical-units", "m"]
    assert command(["convert", "pieces", "all.tif", *tiles]) == 2
    assert "south.tif: its rows do not run from north to south" in capsys.readouterr().err
    assert command(["convert", "pieces/south.tif", "pieces/turned.tif", "--from-vertical-units", "m"]) == 0
    (here / "pieces" / "south.tif").unlink()
    assert command(["convert", "pieces", "all.tif", *tiles]) == 0
    with rasterio.open("all.tif") as file:
        assert file.read(1).tolist() == np.hstack((heights, heights + 100)).tolist()


def test_a_cloud_as_text_is_a_cloud_again(here, capsys):
    """Whole numbers and decimals under the names that LAS gives them are numbers; what begins with 0 is a name."""
    rng = np.random.default_rng(4)
    cloud = laspy.create(point_format=3, file_version="1.4")
    cloud.header.scales = [0.001] * 3
    cloud.x, cloud.y, cloud.z = (rng.random((3, 60)) * 50).round(3)
    cloud.classification = np.arange(60) % 5
    cloud.intensity, cloud.point_source_id = np.arange(60) * 700, np.arange(60) + 4000
    cloud.gps_time = rng.random(60) * 1e6
    cloud.write("a.las")
    assert command(["convert", "a.las", "a.csv"]) == 0
    assert command(["convert", "a.csv", "b.laz"]) == 0
    back = laspy.read("b.laz")
    np.testing.assert_allclose(back.xyz, cloud.xyz, rtol=0, atol=1e-9)
    for name in ("classification", "intensity", "point_source_id", "gps_time"):
        np.testing.assert_array_equal(np.asarray(back[name]), np.asarray(cloud[name]), name)
    assert command(["convert", "a.csv", "a.xml", "--via", "tin", "classes=2", *METRES]) == 0
    assert command(["convert", "a.csv", "a.xml", "--via", "tin", "classes=9", *METRES]) == 2
    assert "no point is of class 9; there are 0, 1, 2, 3, 4" in capsys.readouterr().err


@pytest.mark.parametrize(
    ("cells", "dtype"),
    [(["1", "-20", "+3"], "i"), (["1.50", "2e3", "-.5"], "f"), (["007", "8"], None), (["1", ""], None), (["1_0"], None),
     (["nan"], None), (["9" * 19], None), (["0", "0.25"], "f"), (["1-2", "3"], None)],
)  # fmt: skip
def test_texts_are_numbers_where_all_of_them_are(cells, dtype):
    made = numbers_of_texts(np.array(cells, "S"))
    assert (None if made is None else made.dtype.kind) == dtype
    if made is not None:
        assert made.tolist() == [float(cell) for cell in cells]


def test_places_in_degrees_keep_their_heights_in_steps_of_their_own(here, capsys):
    rows = [
        (14.1444843, 45.3805936, 812.25),
        (14.1512345, 45.3912345, 1140.5),
        (14.141, 45.391, 900.0),
        (14.16, 45.40, None),
    ]
    points = "".join(
        f'<wpt lat="{lat}" lon="{lon}">{"" if z is None else f"<ele>{z}</ele>"}</wpt>' for lon, lat, z in rows
    )
    Path("a.gpx").write_text(f'<gpx version="1.1" creator="t" xmlns="http://www.topografix.com/GPX/1/1">{points}</gpx>')
    assert command(["convert", "a.gpx", "a.las"]) == 0
    assert "without a height" in capsys.readouterr().err
    cloud = laspy.read("a.las")
    assert cloud.header.scales.tolist() == [1e-7, 1e-7, 1e-3]
    np.testing.assert_allclose(cloud.xyz, rows[:3], rtol=0, atol=1e-9)
    assert command(["convert", "a.gpx", "a.tif", "--via", "grid", "cell=0.001"]) == 0
    assert command(["convert", "a.gpx", "b.tif", "--via", "grid"]) == 0
    assert "at E 14.1" in (out := capsys.readouterr().out) and not re.search(r"E \d+\.\d\d\b,", out)


def test_a_text_of_the_users_that_cannot_be_read_is_told_in_words(here, capsys):
    Path("p.csv").write_text("E,N,Z\n0,0,1\n9,0,2\n0,9,3\n")
    Path("folder").mkdir()
    Path("bad.txt").write_bytes(b"set\xff")
    for name, why in (("folder", "Is a directory"), ("bad.txt", "byte 4 is not UTF-8")):
        assert command(["convert", "p.csv", "o.xml", "--via", "tin", "--via", "edit", f"log=@{name}", *METRES]) == 2
        assert f"log: {name} cannot be read as text ({why})" in capsys.readouterr().err
