"""Text points: layouts met in practice (common practice, no standard), numbers against Python's own, and bad files."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from vastgrid.base.errors import FormatError, ParamError
from vastgrid.base.progress import Silent
from vastgrid.base.quantities import Unit
from vastgrid.formats import text
from vastgrid.formats.text import Delimiter, Form, TextReadParams, parse_angle
from vastgrid.kernels.text.textrows import RowTemplate


@pytest.fixture
def read(tmp_path):
    def call(content, **options):
        path = tmp_path / "day.csv"
        path.write_bytes(content if isinstance(content, bytes) else content.encode())
        return text.read(path, TextReadParams(**options), Silent())

    return call


@pytest.mark.parametrize(
    ("content", "first"),
    [
        ("E,N,Z\n1.5,2.5,3.5\n4,5,6\n", (1.5, 2.5, 3.5)),
        ("Point,Northing,Easting,Elevation,Code\nA1,2.5,1.5,3.5,GL\nA2,5,4,6,GL\n", (1.5, 2.5, 3.5)),
        ("1,2.5,1.5,3.5,GL\n2,5,4,6,GL\n3,7,8,9,GL\n", (1.5, 2.5, 3.5)),
        ("1.5 2.5 3.5\n4 5 6\n", (1.5, 2.5, 3.5)),
        ("  1.5\t2.5   3.5  \r\n4 5 6\r\n", (1.5, 2.5, 3.5)),
        ("X;Y;Z\n1,5;2,5;3,5\n4,0;5,0;6,0\n", (1.5, 2.5, 3.5)),
        ("\ufeffid\tx\ty\theight\n9\t1.5\t2.5\t3.5\n8\t4\t5\t6\n", (1.5, 2.5, 3.5)),
        ("# surveyed by us\n# P,E,N,H\n9,1.5,2.5,3.5\n8,4,5,6\n", (1.5, 2.5, 3.5)),
        ('"e","n","z","remark"\n"1.5","2.5","3.5","top, wet"\n4,5,6,x\n', (1.5, 2.5, 3.5)),
        ("title line\n\nE N Z\n1.5e0 2.5E+0 +3.5\n.4e1 5. 6\n", (1.5, 2.5, 3.5)),
        ("lon,lat,alt\n1.5,2.5,3.5\n4,5,6\n", (1.5, 2.5, 3.5)),
    ],
)
def test_layouts(read, content, first):
    points = read(content).datasets[0]
    assert tuple(points.xyz[0]) == first
    assert len(points.xyz) in (2, 3)


def test_guesses_are_said_and_known_roles_are_not(read):
    assert any(f.code == "columns-guessed" for f in read("1 2 3\n4 5 6\n").findings)
    assert not read("x y z\n1 2 3\n4 5 6\n").findings


def test_utf16(read):
    assert read("x y z\n1 2 3\n4 5 6\n".encode("utf-16")).datasets[0].xyz.tolist() == [[1, 2, 3], [4, 5, 6]]


@pytest.mark.parametrize(
    ("head", "units"),
    [
        ("E [m],N [m],Z [m]", (Unit.METRE, Unit.METRE)),
        ("easting_m,northing_m,elev (us-ft)", (Unit.METRE, Unit.US_FOOT)),
        # “ft” alone does not say which foot, so it stays unknown.
        ("E (ft),N (ft),Z (ft)", (None, None)),
        ("E,N,Z", (None, None)),
    ],
)
def test_units_come_from_the_head_or_stay_unknown(read, head, units):
    frame = read(f"{head}\n1,2,3\n4,5,6\n").datasets[0].frame
    assert (frame.horizontal, frame.vertical) == units


def test_attributes_are_kept(read):
    points = read("pt,e,n,z,code,depth\n1,1,2,3,TOE BANK,0.3\n2,4,5,6,É,0.4\n").datasets[0]
    assert points.attributes["code"].tolist() == [b"TOE BANK", "É".encode()]
    assert list(points.attributes) == ["point", "code", "depth"]


def test_options_override_detection(read):
    assert read("1,2,3\n4,5,6\n", columns="NEZ").datasets[0].xyz[0].tolist() == [2, 1, 3]
    assert read("1,2,3\n4,5,6\n7,8,9\n", start=2).datasets[0].xyz[0].tolist() == [4, 5, 6]
    assert read("1,2,9,3\n4,5,9,6\n", columns="easting,northing,ignore,elevation").datasets[0].xyz[1].tolist() == [
        4,
        5,
        6,
    ]


def test_bad_lines_are_left_out_by_number_and_reason(read):
    rows = "".join(f"{k},{k},10.5\n" for k in range(20))
    result = read("E,N,Z\n" + rows + "7,8,n/a\n7,8,nan\n7,8,inf\n7,8\n")
    assert len(result.datasets[0].xyz) == 20
    (finding,) = result.findings
    for words in ("4 lines left out of 24", "line 22, the elevation", "line 23", "line 24", "line 25, too few columns"):
        assert words in finding.text


@pytest.mark.parametrize(
    ("content", "options", "error", "why"),
    [
        ("", {}, FormatError, "the file is empty"),
        ("\n \n", {}, FormatError, "the file is empty"),
        (b"PK\0\0\1\2", {}, FormatError, "not a text file"),
        ("a b c\nd e f\n", {}, FormatError, "line 2: no delimiter"),
        ("1,2,3\n4,5,6\n", {"delimiter": Delimiter.TAB}, FormatError, "with tab as delimiter"),
        ("1,2,3\n4,5,6\n", {"columns": "ENE"}, ParamError, "easting is given to columns 1 and 3"),
        ("1,2,3\n4,5,6\n", {"columns": "EN-"}, ParamError, "no column is the elevation"),
        ("1,2,3\n4,5,6\n", {"columns": "E-Z"}, ParamError, "no column is the northing"),
        ("1,2,3\n4,5,6\n", {"columns": "EQZ"}, ParamError, "“Q”"),
        ("E,N,Z\n1,2,low\n3,4,high\n5,6,7\n1,2,3\n", {}, FormatError, "line 2: the elevation is not a finite number"),
    ],
)
def test_bad_files(read, content, options, error, why):
    with pytest.raises(error, match=why):
        read(content, **options)


@settings(max_examples=200, deadline=None)
@given(st.lists(st.floats(-1e7, 1e7), min_size=1, max_size=30), st.integers(0, 6))
def test_numbers_are_written_exactly(values, decimals):
    column = np.array(values)
    rendered = b"".join(RowTemplate("{};\n", (decimals,)).blocks([column])).decode().split(";\n")[:-1]
    assert [float(word) for word in rendered] == pytest.approx(values, abs=0.5000001 * 10.0**-decimals, rel=1e-15)


def test_round_trip_with_units_and_attributes(tmp_path, read):
    points = read('pt,E [m],N [m],Z [m],code\n1,1.25,2,3,a\n2,4,5,6,"b, c"\n').datasets[0]
    text.write([points], tmp_path / "out.csv", text.TextWriteParams(), Silent())
    back = text.read(tmp_path / "out.csv", TextReadParams(), Silent()).datasets[0]
    assert back.xyz.tolist() == points.xyz.tolist() and back.frame == points.frame
    assert back.attributes["code"].tolist() == [b"a", b"b, c"]


@pytest.mark.parametrize(
    ("text", "degrees"),
    [
        ("52°13'10.5\"N", 52 + 13 / 60 + 10.5 / 3600),
        ("52 13 10.5", 52 + 13 / 60 + 10.5 / 3600),
        ("W007:30:00", -7.5),
        ("7°30'S", -7.5),
        ("N52.25", 52.25),
        ("-0.5", -0.5),
        ("52 75 00", None),
        ("5 2", None),
        ("tree", None),
    ],
)
def test_angles(text, degrees):
    value = parse_angle(text)
    assert np.isnan(value) if degrees is None else value == pytest.approx(degrees, abs=1e-12)


def test_a_column_of_angles(read):
    rows = "\n".join(f"{k},52 13 {10 + k / 10:.3f},0 7 {20 + k / 7:.4f}W,{30 + k}" for k in range(40))
    points = read("pt,lat,lon,h\n" + rows + "\n").datasets[0]
    assert points.frame.horizontal is Unit.DEGREE
    assert points.xyz[0, 1] == pytest.approx(52 + 13 / 60 + 10 / 3600) and points.xyz[0, 0] < 0


def test_thousands_are_taken_out_only_where_that_is_sure(read):
    result = read("E;N;Z\n512,025.695;5,412,109.128;102.986\n512,030.5;5,412,110.25;99.1\n")
    assert result.datasets[0].xyz[0].tolist() == [512025.695, 5412109.128, 102.986]
    assert any(finding.code == "thousands" for finding in result.findings)
    plain = read("1,512,100.5\n2,513,101.25\n3,514,102.75\n").datasets[0]
    assert plain.xyz[0].tolist() == [1.0, 512.0, 100.5], "fields of a comma file are not thousands"


def test_fixed_widths(read):
    rows = "".join(f"{k:5d}{512000 + k:12.3f}{5412000 - k:13.3f}{100 + k / 8:9.3f}\n" for k in range(30))
    result = read(rows.replace("   ", "   "), widths="5,12,13,9", columns="point,easting,northing,elevation")
    assert result.datasets[0].xyz[2].tolist() == [512002.0, 5411998.0, 100.25]
    with pytest.raises(ParamError, match="list of widths"):
        read(rows, widths="5,x")


def test_lines_before_the_first_point_are_told(read):
    result = read("E,N,Z\n1,nan,inf\n" + "".join(f"{k},{k + 2},{k + 3}.5\n" for k in range(20)))
    said = next(finding for finding in result.findings if finding.code == "lines-passed-over")
    assert "line 2 “1,nan,inf”" in said.text and said.severity.value == "warning"


def test_lines_left_out_are_kept_with_number_and_reason(read):
    rows = [f"{k},{k},{k}" for k in range(50)]
    rows[7], rows[31] = "7,7,seven", "31,31"
    result = read("E,N,Z\n" + "\n".join(rows) + "\n")
    assert [line.split("\t")[0] for line in result.left_out] == ["line 9", "line 33"]
    assert "the elevation is not a finite number" in result.left_out[0] and "too few columns" in result.left_out[1]


def test_a_lattice_becomes_a_grid(read):
    rows = "".join(f"{x},{y},{x + 2 * y}\n" for y in (30, 20, 10) for x in (5, 15, 25, 35) if (x, y) != (15, 20))
    assert any(finding.code == "regular-lattice" for finding in read("E,N,Z\n" + rows).findings)
    grid = read("E,N,Z\n" + rows, form=Form.GRID).datasets[0]
    assert (grid.west, grid.north, grid.dx, grid.count()) == (0.0, 35.0, 10.0, {"rows": 3, "columns": 4})
    assert np.isnan(grid.heights[1, 1]) and grid.heights[2, 3] == 55.0
    with pytest.raises(ParamError, match="regular grid"):
        read("E,N,Z\n0,0,1\n1,7,1\n5,3,2\n6,6,6\n1,2,3\n8,8,8\n9,1,1\n2,2,7\n3,9,4\n", form=Form.GRID)


def test_trajectory_and_photo_positions(read):
    rows = "".join(f"IMG_{k}.jpg,{100.5 + k},{431000 + k},{887000},{240 + k},0.1,0.2,90\n" for k in range(12))
    head = "file,time,E [m],N [m],Z [m],omega,phi,kappa\n"
    photos = read(head + rows, form=Form.PHOTOS).datasets[0]
    assert photos.count() == {"records": 12, "vertices": 12} and set(photos.roles) == {"photo position"}
    assert photos.names[3] == "IMG_3.jpg" and '"heading": "90"' in photos.exact[3]
    course = read(head + rows, form=Form.TRAJECTORY).datasets[0]
    assert course.count() == {"records": 1, "vertices": 12} and course.roles == ("trajectory",)


def test_several_blocks_of_lines(read, monkeypatch):
    monkeypatch.setattr("vastgrid.formats.text._read.BLOCK", 7)
    rows = [f"{k},{2 * k},{3 * k}.5,C{k}" for k in range(40)]
    rows[20] = "x,1,2,C"
    result = read("E,N,Z,Code\n" + "\n".join(rows) + "\n")
    points = result.datasets[0]
    assert len(points.xyz) == 39 and points.attributes["code"].tolist()[21] == b"C22"
    assert points.xyz[-1].tolist() == [39.0, 78.0, 117.5] and "line 22" in result.left_out[0]
