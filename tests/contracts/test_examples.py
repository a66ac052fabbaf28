"""The examples of CONTRIBUTING, as someone new would add them: a module and a word in the catalogue, nothing else."""

import importlib.util
import json
import sys
from pathlib import Path

import pytest

from vastgrid import catalog
from vastgrid.cli.main import run as command

ROOT = Path(__file__).parents[2]
EXAMPLES = ROOT / "docs" / "examples"
SPOTS = "TOLLGARTH SPOTS\n431000.0 887000.0 231.25\n431010.5 887000.0 229.5\n431000.0 887020.25 -999.0\n"


def loaded(name):
    spec = importlib.util.spec_from_file_location(f"example_{name}", EXAMPLES / f"{name}.py")
    module = importlib.util.module_from_spec(spec)
    # Dataclasses look for their module.
    sys.modules[spec.name] = module
    spec.loader.exec_module(module)
    return module


@pytest.fixture
def there(tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    for room, name in (("FORMATS", "spot"), ("CONVERSIONS", "fill"), ("CHECKS", "below")):
        own = getattr(loaded(name), room.removesuffix("S"))
        monkeypatch.setattr(catalog, room, getattr(catalog, room).having(own))
    Path("a.spot").write_text(SPOTS)
    return tmp_path


def test_each_is_short_and_named_in_contributing():
    text = (ROOT / "CONTRIBUTING.md").read_text(encoding="utf-8")
    for path in EXAMPLES.glob("*.py"):
        lines = [line for line in path.read_text(encoding="utf-8").splitlines() if line.strip()]
        assert len(lines) < 60, path.name
        assert f"docs/examples/{path.name}" in text


def test_the_format_comes_in_and_goes_out(there, capsys):
    assert command(["convert", "a.spot", "a.csv"]) == 0
    assert command(["convert", "a.csv", "b.spot"]) == 0
    assert "agree" in capsys.readouterr().out
    assert Path("b.spot").read_text().split() == SPOTS.replace("231.25", "231.2500").replace("229.5", "229.5000").replace(
        "-999.0", "-999.0000").replace("431000.0", "431000.0000").replace("431010.5", "431010.5000").replace(
        "887000.0", "887000.0000").replace("887020.25", "887020.2500").split()  # fmt: skip
    Path("a.spot").write_text(SPOTS + "12 x3")
    assert command(["info", "a.spot"]) == 1
    assert "a.spot, line 5: “x3” is not a number" in capsys.readouterr().err


def test_the_conversion_has_its_sentence_and_its_help(there, capsys):
    assert command(["convert", "a.spot", "b.spot", "--via", "fill", "level=230.5"]) == 0
    told = capsys.readouterr()
    assert "a with water up to 230.5." in told.out
    assert "2 points of 3 lay below 230.5." in told.err
    assert Path("b.spot").read_text().split()[-1] == "230.5000"
    assert command(["convert", "a.spot", "c.spot", "--via", "fill"]) == 2
    assert command(["conversions"]) == 0
    assert "Height of the water." in capsys.readouterr().out


def test_the_check_finds_the_place(there, capsys):
    assert command(["inspect", "a.spot", "--json"]) in (0, 1)
    told = json.dumps(json.loads(capsys.readouterr().out))
    assert "1 point below -430, the lowest at -999.000." in told
