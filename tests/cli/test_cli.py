"""The command line as the issue promises it: calls, JSON, exit codes, units, bad input."""

import json
import subprocess
import sys

import ezdxf
import pytest

from builders import DATA, HANDMADE

TOP = {"max", "rmse", "p95", "mean", "at", "area", "unit"}


@pytest.fixture
def received(demo):
    return demo / "received"


def test_info_of_every_kind(run_cli, demo, tmp_path):
    counts = {
        demo / "received" / "day1.csv": ("text", "points", {"points": 2601}),
        demo / "received" / "pit-scan.laz": ("las", "points", {"points": 420_000}),
        demo / "received" / "edges.dxf": ("dxf", "lines", {"lines": 20, "vertices": None}),
        HANDMADE / "two_definitions.xml": ("landxml", "tin", {"vertices": 5, "triangles": 2}),
        DATA / "simple.las": ("las", "points", {"points": 1065}),
    }
    for path, (kind, what, count) in counts.items():
        code, out, _ = run_cli("info", path, "--json")
        values = json.loads(out)
        assert code == 0 and values["format"] == kind
        first = values["datasets"][0]
        assert first["kind"] == what and set(first["count"]) == set(count)
        assert all(value in (None, first["count"][name]) for name, value in count.items())
        assert set(first["extent"]) == {"east", "north", "elevation"}
        assert {"name", "crs", "horizontal_unit", "vertical_unit", "findings"} <= set(first)
    assert first["horizontal_unit"] is None and first["crs"] is None


def test_the_example_of_the_manual(run_cli, received, tmp_path):
    code, out, err = run_cli(
        "convert", received / "day1.csv", received / "edges.dxf", tmp_path / "ground.dxf",
        "--via", "tin", "max_edge=60m", "--via", "contours", "interval=0.5m", "index=5",
        "--report", tmp_path / "report.md",
    )  # fmt: skip
    assert code == 0, err
    assert "Contours every 0.5 m from Ground, starting at 0 m, every 5th one an index contour, not smoothed." in out
    assert "counts, extents, units and every coordinate are those of what was sent; largest" in out
    assert "; but its ground differs from that of Ground by up to" in out
    document = ezdxf.readfile(tmp_path / "ground.dxf")
    layers = {entity.dxf.layer for entity in document.modelspace()}
    assert layers == {"CONTOUR", "CONTOUR_INDEX"}
    for entity in document.modelspace():
        step = entity.dxf.elevation / 0.5
        assert step == pytest.approx(round(step))
        assert (round(step) % 5 == 0) == (entity.dxf.layer == "CONTOUR_INDEX")
    report = (tmp_path / "report.md").read_text()
    assert "Contours every 0.5 m" in report and "read back" in report and "RMSE" in report


def test_a_plain_call_finds_the_chain(run_cli, tmp_path):
    target = tmp_path / "ground.xml"
    code, out, err = run_cli("convert", DATA / "autzen_trim.laz", target, "--via", "tin", "--json")
    values = json.loads(out)
    assert code == 0
    assert values["steps"][1]["result"][0]["count"]["vertices"] == 109_993
    assert values["delivery"]["good"] and values["delivery"]["vertical"] < 1e-6
    assert "The unit of the heights of Ground is unknown" in err
    code, out, _ = run_cli("convert", target, tmp_path / "g.tif")
    assert code == 0 and "Heights of ground on a grid" in out.replace("Ground", "ground")
    code, out, _ = run_cli("compare", target, tmp_path / "g.tif", "--json")
    assert code == 0 and set(json.loads(out)) >= TOP


@pytest.mark.parametrize(
    ("source", "target", "said"),
    [
        ("received/day2.txt", "a.tif", ["TIN from day2", "Heights of Ground"]),
        ("received/edges.dxf", "a.xml", []),
        ("received/day1.csv", "a.csv", []),
        ("received/day1.csv", "a.xml", []),
        ("received/day1.csv", "a.dxf", []),
        ("received/old-plan-contours.gpkg", "a.dxf", []),
        ("delivered/contours.dxf", "b.dxf", []),
        ("delivered/existing-ground.xml", "c.dxf", []),
    ],
)
def test_chains(run_cli, demo, tmp_path, monkeypatch, source, target, said):
    # The drawing library takes a second for each megabyte; that its audit is heard has a test of its own.
    monkeypatch.setattr("vastgrid.formats.dxf._AUDITED", 3_000_000)
    code, out, err = run_cli("convert", demo / source, tmp_path / target)
    assert code == 0, err
    assert len([line for line in out.splitlines() if line.startswith(("TIN", "Heights", "Contours", "Points"))]) == len(
        said
    )
    assert all(words in out for words in said)


def test_units(run_cli, received, tmp_path):
    code, out, err = run_cli("convert", received / "day1.csv", tmp_path / "ft.xml", "--units", "us-ft")
    assert code == 0, err
    assert "heights were brought from metre to US survey foot" in err
    first = json.loads(run_cli("info", tmp_path / "ft.xml", "--json")[1])["datasets"][0]
    plain = json.loads(run_cli("info", received / "day1.csv", "--json")[1])["datasets"][0]
    assert first["horizontal_unit"] == first["vertical_unit"] == "us-ft"
    for axis in ("east", "elevation"):
        assert first["extent"][axis][0] == pytest.approx(plain["extent"][axis][0] * 3937 / 1200, abs=1e-4)
    code, out, _ = run_cli("compare", received / "day1.csv", tmp_path / "ft.xml", "--json")
    assert code == 0 and json.loads(out)["max"] < 0.01 and json.loads(out)["unit"] == "m"


def test_unknown_units_are_asked_for(run_cli, tmp_path):
    code, _, err = run_cli("convert", DATA / "simple.las", tmp_path / "a.xml")
    assert code == 2 and "--from-units" in err
    assert not list(tmp_path.iterdir())
    code, _, err = run_cli("convert", DATA / "simple.las", tmp_path / "a.xml", "--from-units", "ft", "--units", "m")
    assert code == 2 and "--from-vertical-units" in err
    code, _, err = run_cli(
        "convert",
        DATA / "simple.las",
        tmp_path / "a.xml",
        "--from-units",
        "ft",
        "--from-vertical-units",
        "ft",
        "--units",
        "m",
    )
    assert code == 0, err
    code, _, err = run_cli(
        "convert", DATA / "autzen_trim.laz", tmp_path / "b.dxf", "--via", "tin", "--via", "contours", "interval=1m"
    )
    assert code == 2 and "--from-vertical-units" in err, "feet in plan and metres in height are never assumed"


def test_a_unit_given_with_a_length_is_taken_and_said(run_cli, tmp_path):
    (tmp_path / "a.csv").write_text("E,N,Z\n" + "".join(f"{k % 7},{k // 7},{k % 5}\n" for k in range(49)))
    code, _, err = run_cli("convert", tmp_path / "a.csv", tmp_path / "a.dxf", "--via", "tin", "max_edge=60m")
    assert code == 0 and "it was taken to be that" in err


@pytest.mark.parametrize(
    ("arguments", "code", "words"),
    [
        ([], 2, ""),
        (["convert", "a.csv"], 2, "at least one input"),
        (["convert", "nowhere.csv", "out.xml"], 1, "there is no such file"),
        (["convert", "day1.csv", "out.doc"], 2, "no format that can be written ends in “.doc”"),
        (["convert", "day1.csv", "out.pcd"], 2, "ends in “.pcd”"),
        (["convert", "day1.csv", "day1.csv"], 2, "also an input"),
        (["convert", "day1.csv", "out.xml", "--via", "magic"], 2, "there is no conversion “magic”"),
        (["convert", "day1.csv", "out.xml", "--via", "tin", "max_edge=-5"], 2, "has to be more than 0"),
        (["convert", "day1.csv", "out.xml", "--via", "tin", "max_edge=60parsecs"], 2, "not a unit"),
        (["convert", "day1.csv", "out.xml", "--via", "tin", "speed=1"], 2, "no such parameter"),
        (
            ["convert", "day1.csv", "out.xml", "--via", "courses"],
            2,
            "no chain of conversions leads from points to courses",
        ),
        (["convert", "day1.csv", "out.xml", "--units", "furlong"], 2, "furlong"),
        (["convert", "day1.csv", "out.xml", "--read", "colour=red"], 2, "reading option “colour”"),
        (["convert", "day1.csv", "out.xml", "--read", "columns=EEZ"], 2, "easting is given to columns 1 and 2"),
        (["convert", "day1.csv", "no/such/folder/out.xml"], 1, "the folder does not exist"),
        (["convert", "day1.csv", "out.asc", "--via", "grid", "cell=-1"], 2, "has to be more than 0"),
        (["info"], 2, "FILE"),
        (["info", "."], 1, "folder"),
        (["dance"], 2, "dance"),
        (["compare", "day1.csv", "day1.csv", "--json"], 0, ""),
    ],
)
def test_exit_codes(run_cli, received, monkeypatch, arguments, code, words):
    monkeypatch.chdir(received)
    before = sorted(path.name for path in received.iterdir())
    got, _, err = run_cli(*arguments)
    assert got == code, err
    assert words in err
    assert "Traceback" not in err
    assert sorted(path.name for path in received.iterdir()) == before


def test_lists_are_made_from_the_declarations(run_cli):
    for command, word in (("formats", "formats"), ("conversions", "conversions")):
        code, out, _ = run_cli(command)
        assert (code == 0 and "contours" in out) or "landxml" in out
        values = json.loads(run_cli(command, "--json")[1])[word]
        assert {"id", "title"} <= set(values[0])
    for command in ("convert", "info", "compare", "formats", "conversions"):
        done = subprocess.run(
            [sys.executable, "-m", "vastgrid", command, "--help"], capture_output=True, text=True, check=False
        )
        assert done.returncode == 0 and "usage" in done.stdout


def test_version_is_quick_and_imports_nothing_heavy():
    done = subprocess.run(
        [sys.executable, "-X", "importtime", "-m", "vastgrid", "--version"], capture_output=True, text=True, check=False
    )
    assert done.stdout.startswith("vastgrid 0.")
    assert not any(name in done.stderr for name in ("numpy", "numba", "PyQt6", "rasterio"))


def test_interrupt_leaves_nothing(demo, tmp_path):
    """Ctrl+C in the middle of a long conversion: exit code 130, no half file."""
    import signal
    import time

    process = subprocess.Popen(
        [sys.executable, "-m", "vastgrid", "convert", demo / "received" / "pit-scan.laz", tmp_path / "a.xml"],
        stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True,
    )  # fmt: skip
    time.sleep(2.5)
    process.send_signal(signal.SIGINT)
    _, err = process.communicate(timeout=60)
    if process.returncode != 0:
        assert process.returncode == 130 and "nothing was written" in err
        assert not list(tmp_path.iterdir())


# -- looking for findings


def test_inspect_tells_what_is_planted_in_the_demos_files(run_cli, demo):
    received = demo / "received"
    files = [received / name for name in ("day1.csv", "day2.txt", "day4-tip.csv", "edges.dxf")]
    code, out, _ = run_cli("inspect", *files)
    assert code == 0
    for words in (
        "day4-tip: The heights are 3.28",
        "day2: A spike",
        "edges: HAUL_ROAD and CULVERT",
        "day1: One place has two heights",
    ):
        assert words in out, words
    assert "looked at by 10 checks" in out


def test_inspect_with_thresholds_and_as_json(run_cli, demo):
    import json

    path = demo / "received" / "day2.txt"
    _, out, _ = run_cli("inspect", path, "--check", "spikes", "height=9m", "--json")
    step = json.loads(out)["steps"][-1]
    assert not [each for each in step["findings"] if each["code"] == "spikes"]
    code, _, err = run_cli("inspect", path, "--check", "ghosts", "height=9m")
    assert code == 2 and "there is no check “ghosts”" in err
    code, _, err = run_cli("inspect", path, "--check", "spikes", "height=much")
    assert code == 2 and "height" in err
    code, _, err = run_cli("inspect", path, "--check")
    assert code == 2 and "--check needs a check after it" in err


def test_checks_are_listed(run_cli):
    import json

    code, out, _ = run_cli("checks")
    assert code == 0 and "long-triangles" in out and "--check … times=…" in out
    assert len(json.loads(run_cli("checks", "--json")[1])["checks"]) == 10


def test_findings_travel_into_the_report_of_a_conversion(run_cli, demo, tmp_path):
    report = tmp_path / "report.md"
    received = demo / "received"
    code, out, _ = run_cli(
        "convert", received / "day2.txt", tmp_path / "ground.xml", "--via", "tin", "--report", report, "--inspect"
    )  # fmt: skip
    assert code == 0
    text = report.read_text()
    assert "looked at by 10 checks" in text and "warning: day2: A spike" in text
    assert "looked at by" in out
