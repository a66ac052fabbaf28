"""Sets, scenes, trees and reports from the command line."""

import json

import ezdxf
import lxml.etree
import pytest

from builders import HANDMADE


@pytest.fixture(scope="module")
def ground(demo, tmp_path_factory):
    from vastgrid.cli.main import run

    folder = tmp_path_factory.mktemp("ground")
    files = [str(demo / "received" / name) for name in ("day1.csv", "edges.dxf")]
    assert run(["convert", *files, str(folder / "ground.xml"), "--via", "tin"]) == 0
    return folder / "ground.xml"


@pytest.fixture
def design(demo):
    return demo / "received" / "design-finished.xml"


def test_the_four_sets_that_ship(run_cli, ground, design, tmp_path):
    for name, files in (
        ("designer", {"Ground.xml", "Ground.dxf"}),
        ("machine", {"Ground.xml"}),
        ("architect", {"Ground.dxf", "Ground.ifc"}),
        ("client", {"Ground.html", "Ground plan.pdf"}),
    ):
        code, out, err = run_cli("convert", ground, design, "--set", name, "--into", tmp_path / name, "--json")
        assert code == 0, err
        assert {each.name for each in (tmp_path / name).iterdir()} == files
        values = json.loads(out)
        assert len(values["deliveries"]) == len(files) and all(each["good"] for each in values["deliveries"])
        assert all(each["checks"] for each in values["deliveries"])
        assert values["delivery"] == values["deliveries"][0]


def test_machine_control_gets_faces_of_the_first_and_where_both_meet(run_cli, ground, design, tmp_path):
    code, _, err = run_cli("convert", ground, design, "--set", "machine", "--into", tmp_path)
    assert code == 0, err
    space = "{http://www.landxml.org/schema/LandXML-1.2}"
    root = lxml.etree.parse(tmp_path / "Ground.xml").getroot()
    surfaces = root.findall(f".//{space}Surface")
    assert [each.get("name") for each in surfaces] == ["Ground"], "the second surface stays at home"
    assert surfaces[0].find(f"{space}SourceData") is None and surfaces[0].find(f"{space}Definition") is not None
    names = [each.get("name") for each in root.findall(f".//{space}PlanFeature")]
    assert "No change" in names
    code, _, err = run_cli("convert", ground, "--set", "machine", "--into", tmp_path / "alone")
    assert code == 0 and "no line of no change" in err


def test_a_name_that_is_there_stops_the_set_before_anything_is_written(run_cli, ground, tmp_path):
    (tmp_path / "Ground.dxf").write_text("mine")
    code, _, err = run_cli("convert", ground, "--set", "designer", "--into", tmp_path)
    assert code == 2 and "Ground.dxf is in" in err and "--replace" in err
    assert [each.name for each in tmp_path.iterdir()] == ["Ground.dxf"]
    code, _, err = run_cli("convert", ground, "--set", "designer", "--into", tmp_path, "--replace")
    assert code == 0 and ezdxf.readfile(tmp_path / "Ground.dxf").acad_release == "R2013", err


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (["--set", "nobody", "--into", "x"], "there are designer, machine, architect, client"),
        (["--set", "client"], "a set needs a folder"),
        (["--into", "x"], "belong to a set"),
        (["--set", "client", "--into", "x", "--write", "scale=5"], "does not go with --set"),
        (["out.xml", "--report", "r.doc"], "a report ends in"),
    ],
)
def test_calls_that_make_no_sense(run_cli, ground, words, said):
    code, _, err = run_cli("convert", ground, *words)
    assert code == 2 and said in err and err.count("\n") == 1


def test_sets_are_kept_and_listed(run_cli, ground, tmp_path, monkeypatch):
    from vastgrid.delivery.sets import DeliverySet, Enclosure, save_set

    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path))
    save_set(
        DeliverySet(
            "foreman",
            "For the foreman",
            (Enclosure("text", kinds=("points",)), Enclosure("stl", words={"origin": "0,0,0"})),
        )
    )
    code, out, _ = run_cli("sets")
    assert code == 0 and "foreman: For the foreman" in out and "NAME.stl" in out and "designer" in out
    (tmp_path / "vastgrid" / "sets" / "broken.json").write_text("{")
    assert run_cli("sets")[1] == out, "one that cannot be read hides no other"


def test_the_tree_of_files(run_cli, ground):
    code, out, _ = run_cli("tree", ground, "--json")
    values = json.loads(out)
    assert code == 0 and values["format"] == "landxml"
    (item,) = values["items"]
    assert (item["name"], item["kind"]) == ("Ground", "tin") and item["count"] > 1000
    inside = {each["name"]: each for each in item["items"]}
    assert {each["name"] for each in inside["source data"]["items"]} >= {"points", "breaklines"}
    code, out, _ = run_cli("tree", HANDMADE / "road.xml")
    assert code == 0 and "alignment" in out


def test_a_scene_is_one_page(run_cli, ground, tmp_path):
    code, _, err = run_cli("web", ground, tmp_path / "scene.html", "--write", "title=The <quarry>")
    assert code == 0, err
    page = (tmp_path / "scene.html").read_text()
    assert "<h1>The &lt;quarry&gt;</h1>" in page and "http://" not in page.split('id="vastgrid-scene"')[0]
    assert run_cli("web", ground, tmp_path / "scene.xml")[0] == 2
    code, out, _ = run_cli("info", tmp_path / "scene.html", "--json")
    assert code == 0 and json.loads(out)["format"] == "scene"


def test_reports_of_every_kind(run_cli, ground, tmp_path):
    for ending in ("html", "pdf", "md", "json"):
        report = tmp_path / f"r.{ending}"
        code, _, err = run_cli(
            "convert", ground, tmp_path / "c.dxf", "--via", "contours", "interval=2m", "--report", report
        )
        assert code == 0, err
        assert report.stat().st_size > 500
    page = (tmp_path / "r.html").read_text()
    for told in (
        "What is this?",
        "From what?",
        "How good is it?",
        "What did it lose?",
        "ground.xml",
        "c.dxf",
        "data:image/png",
    ):
        assert told in page
    assert "Contours" in page and "fingerprint" in page and "http" not in page
    assert (tmp_path / "r.pdf").read_bytes().startswith(b"%PDF-")
    assert "checks" in json.loads((tmp_path / "r.json").read_text())["delivery"]


def test_options_that_are_promised(run_cli, ground, tmp_path):
    for words, target in (
        (["version=R2010", "faces=polyface"], "a.dxf"),
        (["version=R2000", "faces=mesh"], "b.dxf"),
        (["version=1.1", "decimals=3"], "c.xml"),
        (["schema=IFC4X3"], "d.ifc"),
        (["origin=431000,887000,0"], "e.stl"),
        (["origin=none"], "f.obj"),
    ):
        code, _, err = run_cli("convert", ground, tmp_path / target, "--write", *words)
        assert code == 0, err
    code, _, err = run_cli("convert", ground, tmp_path / "g.tif", "--via", "grid", "cell=5m", "--write", "layout=cloud")
    assert code == 0, err
    code, _, err = run_cli("convert", ground, tmp_path / "h.dxf", "--write", "version=R12", "faces=mesh")
    assert code == 2 and "polyface work" in err and not (tmp_path / "h.dxf").exists()
    for form in ("3d", "2d", "flat"):
        code, _, err = run_cli(
            "convert", ground, tmp_path / "i.dxf", "--via", "contours", "interval=5m", "--write", f"contours_as={form}"
        )
        assert code == 0, err
