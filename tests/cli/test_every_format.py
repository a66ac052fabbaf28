"""Every readable format from the command line: what it holds as JSON, and its way to LandXML, DXF and rasters."""

import json

import pytest

import samples
from builders import DATA, HANDMADE
from vastgrid import catalog

READERS = [each.id for each in catalog.FORMATS if each.read]
UNITS = ("--from-units", "m", "--from-vertical-units", "m")


@pytest.mark.parametrize("own", READERS)
def test_info_says_the_same_of_every_format(run_cli, tmp_path, own):
    code, out, err = run_cli("info", samples.sample(own, tmp_path), "--json")
    assert code == 0, err
    values = json.loads(out)
    assert values["format"] == own and values["datasets"]
    for dataset in values["datasets"]:
        projected = {"scale_factor", "convergence", "combined_factor"}
        assert not projected & set(dataset) or projected <= set(dataset), "all three, where the system is projected"
        of_areas = {"area", "area_unit", "perimeter"} if dataset["kind"] == "areas" else set()
        assert set(dataset) - projected == of_areas | {
            "name", "kind", "count", "extent", "crs", "horizontal_unit", "vertical_unit", "findings",
        }  # fmt: skip
        assert set(dataset["extent"]) == {"east", "north", "elevation"}
        assert all(number > 0 for number in dataset["count"].values())
        for finding in dataset["findings"]:
            assert set(finding) == {"code", "severity", "text", "at", "drops"} and finding["text"].endswith(".")
        assert dataset["horizontal_unit"] in (None, "m", "mm", "in", "ft", "us-ft", "deg")


# What a sample needs to become ground: heights, a grid instead of degrees, or nothing.
HELP = {
    "flatgeobuf": ("--read", "elevation=ELEV"),
    "geopackage": ("--read", "elevation=ELEV"),
    "shapefile": ("--read", "elevation=ELEV"),
    "geojson": ("--read", "elevation=ELEV", "--via", "reproject", "crs=EPSG:32632", "--via", "tin"),
    "kml": ("--read", "elevation=level", "--via", "reproject", "crs=EPSG:32632", "--via", "tin"),
    "gpx": ("--via", "reproject", "--via", "tin"),
    "glb": ("--read", "up=z"),
}


def unsaid(run_cli, path):
    """Metres for what a file does not say: another unit than its own would be refused."""
    _, out, _ = run_cli("info", path, "--json")
    first = json.loads(out)["datasets"][0]
    words = ("--from-units", "m") if first["horizontal_unit"] is None else ()
    return (*words, "--from-vertical-units", "m") if first["vertical_unit"] is None else words


@pytest.mark.parametrize("own", READERS)
@pytest.mark.parametrize("suffix", ["xml", "dxf"])
def test_every_format_goes_on_to_its_receivers(run_cli, tmp_path, own, suffix):
    # Two formats' small samples hold no ground; other files of theirs do.
    others = {"gpx": DATA / "korita-zbevnica.gpx", "landxml": HANDMADE / "two_definitions.xml"}
    path = others[own] if own in others else samples.sample(own, tmp_path)
    words = HELP.get(own, ())
    target = tmp_path / f"ground.{suffix}"
    code, out, err = run_cli("convert", path, target, *unsaid(run_cli, path), *words)
    assert code == 0, err
    assert target.exists() and "written and read back" in out and "agree" in out
    assert catalog.recognise(target).suffixes[0] == f".{suffix}"


@pytest.mark.parametrize("own", ["off", "las", "e57", "obj", "cityjson", "3mf", "raster", "text"])
def test_ground_of_many_kinds_becomes_a_raster(run_cli, tmp_path, own):
    path = samples.sample(own, tmp_path)
    only = ("--only", "upper") if own == "obj" else ()
    code, out, err = run_cli("convert", path, tmp_path / "heights.tif", *unsaid(run_cli, path), *only)
    assert code == 0, err
    code, out, err = run_cli("info", tmp_path / "heights.tif", "--json")
    assert json.loads(out)["datasets"][0]["kind"] == "grid"


def test_lists_speak_of_every_format(run_cli):
    _, out, _ = run_cli("formats", "--json")
    listed = {each["id"]: each for each in json.loads(out)["formats"]}
    assert set(READERS) <= set(listed)
    options = {option["name"] for option in listed["las"]["read_options"]}
    assert {"classes", "crop", "reach", "intensity", "outliers", "thin", "up"} <= options
    _, out, _ = run_cli("conversions", "--json")
    named = {each["id"]: each for each in json.loads(out)["conversions"]}
    assert {"reproject", "lattice", "upper"} <= set(named)
    assert {p["name"] for p in named["lattice"]["parameters"]} >= {"spacing", "degrees", "area", "elevations"}


def test_lines_left_out_go_to_a_file(run_cli, tmp_path):
    rows = "".join(f"{k},{k * k % 7},{k % 5}.5\n" for k in range(30))
    (tmp_path / "a.csv").write_text("E,N,Z\n" + rows + "x,y,z\n")
    code, _, err = run_cli("convert", tmp_path / "a.csv", tmp_path / "b.csv", "--left-out", tmp_path / "bad.txt")
    assert code == 0, err
    assert (tmp_path / "bad.txt").read_text().startswith("a.csv\tline 32\t")


def test_a_lattice_from_the_service_goes_out_as_gpx(run_cli, tmp_path):
    (tmp_path / "a.csv").write_text("lon,lat,h\n8.0,47.0,0\n8.02,47.01,0\n8.01,47.02,0\n")
    via = ("--via", "lattice", "degrees=0.005", "elevations=simulated")
    code, out, err = run_cli("convert", tmp_path / "a.csv", tmp_path / "b.gpx", "--from-vertical-units", "m", *via)
    assert code == 0, err
    assert "elevations from a simulated service (invented heights)" in out
    _, out, _ = run_cli("info", tmp_path / "b.gpx", "--json")
    assert json.loads(out)["datasets"][0]["count"] == {"points": 25}


@pytest.mark.parametrize(
    ("words", "why"),
    [
        (("--via", "reproject"), "name the system"),
        (("--via", "lattice", "spacing=-1"), "more than 0"),
        (("--read", "widths=a"), "list of widths"),
        (("--read", "form=cube"), "is not one of the choices; there are points, grid"),
        (("--read", "nonsense=1"), "reading option"),
    ],
)
def test_calls_at_fault(run_cli, tmp_path, words, why):
    code, _, err = run_cli("convert", samples.sample("text", tmp_path), tmp_path / "o.xml", *words)
    assert code == 2 and why in err and not (tmp_path / "o.xml").exists()
