"""One run of the command line: which files it may touch, what a plain call does, and that what was said is done or refused."""

import json
import os

import ezdxf
import numpy as np
import pytest
import rasterio

from builders import DATA, HANDMADE

ROWS = "easting,northing,elevation\n" + "".join(
    f"{x + (k % 3) * 0.3:.2f},{y + (k % 5) * 0.2:.2f},{10 + k % 7}\n"
    for k, (x, y) in enumerate((x, y) for x in range(0, 40, 8) for y in range(0, 40, 8))
)
METRES = ("--from-units", "m", "--from-vertical-units", "m")


@pytest.fixture
def here(tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    (tmp_path / "a.csv").write_text(ROWS)
    return tmp_path


def drawing(path, lines, unit=6, closed=False):
    document = ezdxf.new("R2018")
    document.header["$INSUNITS"] = unit
    for layer, points in lines:
        if layer not in document.layers:
            document.layers.add(layer)
        document.modelspace().add_polyline3d(points, dxfattribs={"layer": layer}, close=closed)
    document.saveas(path)
    return path


def entities(path):
    return [entity.dxftype() for entity in ezdxf.readfile(path).modelspace()]


# -- A path is one file, however it is spelled


@pytest.mark.parametrize("option", ["--report", "--left-out"])
@pytest.mark.parametrize("spelled", ["a.csv", "./a.csv", "sub/../a.csv", "link.csv", "hard.csv", "chain.csv"])
def test_an_output_is_never_an_input(run_cli, here, option, spelled):
    (here / "sub").mkdir()
    (here / "link.csv").symlink_to("a.csv")
    (here / "chain.csv").symlink_to("link.csv")
    os.link(here / "a.csv", here / "hard.csv")
    code, _, err = run_cli("convert", "a.csv", "o.xml", *METRES, option, spelled)
    assert code == 2 and option in err and "an input" in err
    assert (here / "a.csv").read_text() == ROWS and not (here / "o.xml").exists()
    code, _, err = run_cli("convert", "a.csv", spelled, *METRES)
    assert code == 2 and "an input" in err and (here / "a.csv").read_text() == ROWS


@pytest.mark.parametrize(("one", "other"), [("o.xml", "o.xml"), ("o.xml", "./o.xml"), ("o.xml", "to-o.xml")])
def test_two_outputs_are_never_one_file(run_cli, here, one, other):
    (here / "to-o.xml").symlink_to("o.xml")
    code, _, err = run_cli("convert", "a.csv", one, *METRES, "--report", other)
    assert code == 2 and "are one file" in err and not (here / "o.xml").exists()
    code, _, err = run_cli("convert", "a.csv", "o.dxf", *METRES, "--report", "r.md", "--left-out", "r.md")
    assert code == 2 and "--left-out and --report are one file" in err and not (here / "r.md").exists()


def test_a_part_of_an_input_is_not_written_over(run_cli, here):
    for ending in ("shp", "shx", "dbf", "prj"):
        (here / f"c.{ending}").write_bytes((DATA / f"olinda_c10.{ending}").read_bytes())
    before = (here / "c.prj").read_bytes()
    code, _, err = run_cli("convert", "c.shp", "o.dxf", "--report", "c.prj")
    assert code == 2 and "a part of the input c.shp" in err and (here / "c.prj").read_bytes() == before
    code, _, err = run_cli("convert", "a.csv", "o.dxf", "--report", ".")
    assert code == 2 and "is a folder" in err


def test_a_link_stays_one_and_the_file_behind_it_is_replaced(run_cli, here):
    (here / "real").mkdir()
    (here / "real" / "t.xml").write_text("old")
    (here / "l.xml").symlink_to("real/t.xml")
    code, _, err = run_cli("convert", "a.csv", "l.xml", *METRES)
    assert code == 0, err
    assert (here / "l.xml").is_symlink() and (here / "real" / "t.xml").read_text().startswith("<?xml")
    assert [each.name for each in (here / "real").iterdir()] == ["t.xml"]


# -- A plain call does the least


def test_kinds_are_kept_where_the_target_can_hold_them(run_cli, here):
    assert run_cli("convert", "a.csv", "p.dxf", *METRES)[0] == 0
    assert set(entities("p.dxf")) == {"POINT"} and len(entities("p.dxf")) == 25
    assert run_cli("convert", "a.csv", "p.xml", *METRES)[0] == 0
    values = json.loads(run_cli("info", "p.xml", "--json")[1])["datasets"]
    assert [(each["kind"], each["count"]) for each in values] == [("points", {"points": 25})]
    code, out, err = run_cli("convert", DATA / "olinda_c10.shp", "c.dxf")
    assert code == 0, err
    assert set(entities("c.dxf")) == {"POLYLINE"} and len(entities("c.dxf")) == 411 and "TIN" not in out
    drawing("e.dxf", [("A", [(0, 0, 1), (9, 9, 2)])])
    assert run_cli("convert", "a.csv", "e.dxf", "both.dxf", *METRES)[0] == 0
    assert sorted(set(entities("both.dxf"))) == ["POINT", "POLYLINE"]


def test_what_was_asked_for_is_not_overruled(run_cli, here):
    run_cli("convert", "a.csv", "g.xml", *METRES, "--via", "tin")
    for via in (("points",), ("lattice", "spacing=10m")):
        code, _, err = run_cli("convert", "g.xml", "o.dxf", "--via", *via)
        assert code == 0, err
        assert set(entities("o.dxf")) == {"POINT"}
    code, _, err = run_cli("convert", HANDMADE / "road.xml", "r.dxf", "--via", "courses", "layers=name")
    assert code == 0 and set(entities("r.dxf")) == {"POLYLINE"}, err


def test_the_least_that_is_needed_is_made_on_the_way_and_said(run_cli, here):
    code, out, err = run_cli("convert", "a.csv", "c.dxf", *METRES, "--via", "contours", "interval=1m")
    assert code == 0, err
    assert "TIN from a," in out and "Contours every 1 m from Ground" in out
    code, out, _ = run_cli("convert", "a.csv", "l.dxf", *METRES, "--via", "lattice", "spacing=5m")
    assert code == 0 and "TIN from a," in out and "Points every 5 m" in out


def test_a_complete_lattice_is_the_grid_it_is(run_cli, here):
    east, north = np.meshgrid(np.arange(431_000.5, 431_008.0, 0.75), np.arange(887_003.0, 887_000.0, -0.5))
    z = np.round(200 + np.random.default_rng(4).random(east.shape) * 9, 3)
    rows = np.random.default_rng(5).permutation(np.column_stack((east.ravel(), north.ravel(), z.ravel())))
    np.savetxt("l.csv", rows, fmt="%.3f", delimiter=",", header="E [m],N [m],Z [m]", comments="")
    code, out, err = run_cli("convert", "l.csv", "l.tif", "--write", "precision=float64")
    assert code == 0, err
    assert "Grid with a cell at every point of l." in out and "TIN" not in out
    with rasterio.open("l.tif") as made:
        assert np.array_equal(made.read(1), z) and made.transform.a == 0.75 and made.transform.e == -0.5
        assert made.xy(0, 0) == (431_000.5, 887_003.0)
    np.savetxt("h.csv", rows[1:], fmt="%.3f", delimiter=",", header="E [m],N [m],Z [m]", comments="")
    code, out, _ = run_cli("convert", "h.csv", "h.tif")
    assert code == 0 and "TIN from h" in out, "with a hole it is only points"


# -- What is said outright is done or refused


@pytest.mark.parametrize("option", ["--from-units", "--from-vertical-units"])
def test_a_unit_that_the_file_contradicts_is_refused(run_cli, here, option):
    drawing("i.dxf", [("A", [(0, 0, 1), (9, 9, 2)])], unit=1)
    code, _, err = run_cli("convert", "i.dxf", "o.xml", option, "m")
    assert code == 2 and "inch" in err and "--override-units" in err and not (here / "o.xml").exists()
    assert run_cli("info", "i.dxf", option, "m")[0] == 2
    assert run_cli("compare", "i.dxf", "a.csv", option, "m")[0] == 2
    code, _, err = run_cli(
        "convert", "i.dxf", "o.xml", "--from-units", "m", "--from-vertical-units", "m", "--override-units"
    )
    assert code == 0, err
    assert json.loads(run_cli("info", "o.xml", "--json")[1])["datasets"][0]["horizontal_unit"] == "m"


def test_units_and_options_of_one_file(run_cli, here):
    drawing("i.dxf", [("A", [(0, 0, 1), (9, 9, 2)])], unit=1)
    words = ("--from-units", "a.csv=m", "--from-vertical-units", "a.csv=m")
    code, _, err = run_cli("convert", "a.csv", "i.dxf", "o.xml", *words)
    assert code == 0, err
    for words in (
        ("--from-units", "b.csv=m"),
        ("--from-units", "m", "--from-units", "ft"),
        ("--from-units", "a.csv=ell"),
    ):
        assert run_cli("convert", "a.csv", "o.xml", *words)[0] == 2
    (here / "b.csv").write_text(ROWS.replace("easting,northing", "northing,easting"))
    code, _, err = run_cli("inspect", "a.csv", "b.csv", "--read", "b.csv", "columns=ENZ")
    assert code == 0 and "northing" not in err
    assert run_cli("info", "a.csv", "--read", "c.csv", "columns=ENZ")[0] == 2
    code, _, err = run_cli("convert", "a.csv", "o.xml", "--read", "a.csv", "hidden=take")
    assert code == 2 and "has no reading option “hidden”" in err


@pytest.mark.parametrize(
    ("words", "why"),
    [
        (("--override-units",), "needs a unit to count"),
        (("--check", "spikes", "height=1m"), "give --inspect as well"),
        (("--via", "tin", "breaklines=EDGE"), "no layer “EDGE”"),
        (("--via", "tin", "boundary=EDGE"), "no closed line on a layer “EDGE”"),
        (("--only", "ghost"), "there is no such dataset; there are a, e"),
    ],
)
def test_what_cannot_be_done_as_said_is_refused(run_cli, here, words, why):
    drawing("e.dxf", [("A", [(0, 0, 1), (9, 9, 2)])])
    code, _, err = run_cli(
        "convert", "a.csv", "e.dxf", "o.xml", *(METRES if "--override-units" not in words else ()), *words
    )
    assert code == 2 and why in err and not (here / "o.xml").exists()


def test_a_file_that_nothing_would_use_is_refused(run_cli, here):
    run_cli("convert", "a.csv", "g.xml", *METRES, "--via", "tin")
    drawing("e.dxf", [("A", [(0, 0, 1), (9, 9, 2)])])
    code, _, err = run_cli("convert", "g.xml", "e.dxf", "o.tif", "--via", "grid", "cell=2m")
    assert code == 2 and "nothing of e.dxf" in err and not (here / "o.tif").exists()
    code, _, err = run_cli("convert", "g.xml", "a.csv", "o.tif", *METRES)
    assert code == 2 and "nothing of a.csv" in err
    code, _, err = run_cli("convert", "a.csv", "o.kml", *METRES, "--units", "ft")
    assert code == 2


def test_several_surfaces_are_each_done_or_one_is_chosen(run_cli, here):
    run_cli("convert", "a.csv", "g.xml", *METRES, "--via", "tin")
    run_cli("convert", "g.xml", "g.dxf")
    code, _, err = run_cli("convert", "g.xml", "g.dxf", "two.dxf", "--via", "contours", "interval=1m")
    assert code == 0, err
    code, _, err = run_cli("convert", "g.xml", "g.dxf", "two.tif", "--via", "grid", "cell=4m")
    assert code == 2 and "GeoTIFF holds one dataset, and there are 2" in err
    assert run_cli("convert", "g.xml", "g.dxf", "one.tif", "--only", "g", "--via", "grid", "cell=4m")[0] == 0


def test_nothing_is_written_where_there_is_nothing(run_cli, here):
    run_cli("convert", "a.csv", "g.xml", *METRES, "--via", "tin")
    code, _, err = run_cli("convert", "g.xml", "o.dxf", "--via", "contours", "interval=100m", "base=50m")
    assert code == 1 and "No contour crosses the heights 10.000 … 16.000 m at an interval of 100 m from 50 m" in err
    assert "there is nothing to write" in err and ".o-" not in err and not (here / "o.dxf").exists()


def test_a_surface_does_not_differ_from_itself(run_cli, here):
    run_cli("convert", "a.csv", "g.xml", *METRES, "--via", "tin")
    values = json.loads(run_cli("compare", "g.xml", "g.xml", "--json")[1])
    assert values["max"] == values["rmse"] == values["mean"] == values["p95"] == 0.0 and values["area"] > 0
    run_cli("convert", "g.xml", "g.dxf")
    assert json.loads(run_cli("compare", "g.xml", "g.dxf", "--json")[1])["max"] == 0.0


def test_feet_and_inches_read_back_their_own_heads(run_cli, here):
    for unit, word in (("ft", "ift"), ("in", "in"), ("us-ft", "us-ft"), ("mm", "mm")):
        code, out, err = run_cli("convert", "a.csv", "o.csv", *METRES, "--units", unit, "--vertical-units", unit)
        assert code == 0 and "agree" in out, err
        assert (here / "o.csv").read_text().startswith(f"easting [{word}]")
        assert json.loads(run_cli("info", "o.csv", "--json")[1])["datasets"][0]["horizontal_unit"] == unit
    (here / "f.csv").write_text(ROWS.replace("easting", "easting [ft]"))
    assert "not of which" in run_cli("info", "f.csv")[2]


@pytest.mark.parametrize("ending", ["dxf", "xml", "csv"])
@pytest.mark.parametrize("decimals", [0, 1, 2])
def test_few_decimals_are_what_they_cost(run_cli, here, ending, decimals):
    (here / "f.csv").write_text(
        "E [m],N [m],Z [m]\n"
        + "".join(f"{100 + k * 7.3456:.4f},{(k * 37) % 100 + 0.1234:.4f},{k % 9 + 0.4567:.4f}\n" for k in range(60))
    )
    words = ("--via", "tin") if ending != "csv" else ()
    code, out, err = run_cli("convert", "f.csv", f"o.{ending}", *words, "--write", f"decimals={decimals}", "--json")
    values = json.loads(out)["delivery"]
    assert code == 0 and values["good"], err
    assert 0.3 * 10.0**-decimals < values["plan"] <= 0.501 * 10.0**-decimals
    assert values["vertical"] <= 0.501 * 10.0**-decimals
