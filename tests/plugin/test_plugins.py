"""Plug-ins: the example is built, installed, driven, and taken away again; what is wrong with one is told."""

import json
import os
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

from vastgrid import catalog
from vastgrid.base.errors import CallError
from vastgrid.base.progress import Silent
from vastgrid.declarations import plugins
from vastgrid.declarations.plugins import Place, fits, load
from vastgrid.jobs.session import Session
from vastgrid.lineage.graph import Role
from vastgrid.plugin import VERSION, check
from vastgrid.plugin.template import write_plugin

ROOT = Path(__file__).parents[2]
EXAMPLE = ROOT / "examples" / "tollgarth_spots"
SPOTS = "tollgarth_spots 1\n431000.0 887000.0 231.25\n431010.5 887000.0 229.5\n431000.0 887020.25 -999.0\n"


def installed(source, into):
    """Put a plug-in in place as an installer does: its package, and what its metadata says."""
    import tomllib

    project = tomllib.loads((source / "pyproject.toml").read_text())["project"]
    shutil.copytree(source / "src", into, dirs_exist_ok=True)
    about = into / f"{project['name']}-{project['version']}.dist-info"
    about.mkdir()
    (about / "METADATA").write_text(f"Metadata-Version: 2.1\nName: {project['name']}\nVersion: {project['version']}\n")
    lines = []
    for group, points in project["entry-points"].items():
        lines += [f"[{group}]", *(f"{name} = {target}" for name, target in points.items()), ""]
    (about / "entry_points.txt").write_text("\n".join(lines))
    return into


@pytest.fixture
def vastgrid(tmp_path):
    """The command line in a process of its own, with the example in place or not."""
    place = installed(EXAMPLE, tmp_path / "packages")
    (tmp_path / "a.tollgarth_spots").write_text(SPOTS)

    def run(*words, there=True, path=place):
        own = {**os.environ, "PYTHONPATH": os.pathsep.join([str(ROOT / "src"), *([str(path)] if there else [])])}
        own["XDG_STATE_HOME"] = str(tmp_path / "state")
        command = [sys.executable, "-m", "vastgrid", *map(str, words)]
        return subprocess.run(command, capture_output=True, text=True, cwd=tmp_path, env=own)

    return run


def test_the_example_is_what_is_written_new(tmp_path):
    made = write_plugin("tollgarth_spots", tmp_path)
    for path in made:
        assert path.read_text() == (EXAMPLE / path.relative_to(tmp_path / "tollgarth_spots")).read_text(), path.name
    with pytest.raises(CallError, match="there already"):
        write_plugin("tollgarth_spots", tmp_path)
    with pytest.raises(CallError, match="small letters"):
        write_plugin("Tollgarth-Spots", tmp_path)


def test_the_example_keeps_the_contract(capsys):
    assert check.main([str(EXAMPLE)]) == 0
    assert "15 of 15 kept" in capsys.readouterr().out
    assert check.main(["no-such-plugin"]) == 2
    assert check.main([]) == 2


def test_its_own_tests_pass(tmp_path):
    shutil.copytree(EXAMPLE, tmp_path / "own")
    own = {**os.environ, "PYTHONPATH": os.pathsep.join([str(ROOT / "src"), str(tmp_path / "own" / "src")])}
    words = [
        sys.executable,
        "-m",
        "pytest",
        "-q",
        "-p",
        "no:cacheprovider",
        "-c",
        str(tmp_path / "own" / "pyproject.toml"),
    ]
    made = subprocess.run([*words, str(tmp_path / "own")], capture_output=True, text=True, env=own, cwd=tmp_path)
    assert made.returncode == 0, made.stdout


def test_it_is_there_like_ours(vastgrid, tmp_path):
    """Found by content, by ending, by --via, in lists, in the manual, in doctor, by the checks and from a script."""
    made = vastgrid("convert", "a.tollgarth_spots", "b.tollgarth_spots", "--via", "tollgarth_spots_fill", "level=230.5")
    assert made.returncode == 0, made.stderr
    assert (
        "a with water up to 230.5." in made.stdout and (tmp_path / "b.tollgarth_spots").read_text().count("230.5") == 2
    )
    assert "Spots of tollgarth_spots (tollgarth_spots)" in vastgrid("formats").stdout
    assert "Plug-ins: tollgarth_spots 0.1.0" in vastgrid("doctor").stdout
    found = json.loads(vastgrid("inspect", "a.tollgarth_spots", "--json").stdout)
    assert "1 point below -430" in json.dumps(found)
    code = (
        "import vastgrid as vg\n"
        "from vastgrid import catalog\n"
        "from vastgrid.manual.pages import page\n"
        "print(catalog.conversion_named('tollgarth_spots_fill').title)\n"
        "print('Height of the water.' in page('conversion-tollgarth_spots_fill').text)\n"
        "d = vg.read('a.tollgarth_spots'); print(d.tollgarth_spots_fill(level=230.5).xyz[:, 2].min())\n"
    )
    own = {**os.environ, "PYTHONPATH": os.pathsep.join([str(ROOT / "src"), str(tmp_path / "packages")])}
    made = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, cwd=tmp_path, env=own)
    assert made.stdout.split("\n")[:3] == ["Water up to a level (tollgarth_spots)", "True", "230.5"], made.stderr


def test_a_job_keeps_its_results_without_it(vastgrid, tmp_path):
    words = ("convert", "a.tollgarth_spots", "b.csv", "--via", "tollgarth_spots_fill", "level=230.5", "--job", "job")
    assert vastgrid(*words).returncode == 0
    assert vastgrid("recipe", "job", "r.recipe").returncode == 0
    made = vastgrid("run", "r.recipe", "a=a.tollgarth_spots", "--into", "out", there=False)
    assert made.returncode != 0 and "tollgarth_spots" in made.stdout + made.stderr and "Traceback" not in made.stderr
    code = (
        "import vastgrid as vg\n"
        "with vg.open_job('job') as job:\n"
        "    print(sorted(job), [len(each.xyz) for each in job.values() if each.kind == 'points'])\n"
        "from vastgrid import catalog\n"
        "print(catalog.conversion_named('tollgarth_spots_fill').help)\n"
        "print([each.id for each in catalog.CONVERSIONS if each.origin])\n"
    )
    own = {**os.environ, "PYTHONPATH": str(ROOT / "src")}
    made = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, cwd=tmp_path, env=own)
    assert made.returncode == 0, made.stderr
    assert "[3, 3]" in made.stdout and "tollgarth_spots 0.1.0, which is not here" in made.stdout
    assert made.stdout.splitlines()[-1] == "[]"


def test_a_job_is_opened_without_it(vastgrid, tmp_path):
    words = ("convert", "a.tollgarth_spots", "b.csv", "--via", "tollgarth_spots_fill", "level=230.5", "--job", "job")
    assert vastgrid(*words).returncode == 0
    session = Session(tmp_path / "job")
    try:
        made = next(node for node in session.graph.nodes.values() if node.role is Role.MADE)
        assert "which is not here" in str(session.sentence(made.outputs[0].card))
        with pytest.raises(CallError, match="which is not here"):
            session.executor.make(session.graph, made.id, Silent())
    finally:
        session.close()
        catalog.CONVERSIONS._loaded.pop("tollgarth_spots_fill", None)
        catalog.FORMATS._loaded.pop("tollgarth_spots", None)


BROKEN = {
    "raises": ("raise RuntimeError('broken on purpose')", "broken on purpose"),
    "older interface": ("INTERFACE = '0.3'\nCONVERSION = 1", "written for interface 0.3"),
    "no interface": ("CONVERSION = 1", "does not say which interface"),
    "newer interface": ("INTERFACE = '1.9'\nCONVERSION = 1", "written for interface 1.9"),
    "something else": (f"INTERFACE = '{VERSION}'\nCONVERSION = 1", "is no Conversion"),
    "nothing": (f"INTERFACE = '{VERSION}'", "CONVERSION"),
    "exits": ("import sys\nsys.exit(3)", "SystemExit"),
    "hangs": ("import time\ntime.sleep(30)", "longer than"),
    "other name": (
        f"INTERFACE = '{VERSION}'\nfrom vastgrid.conversions.lines.ticks import CONVERSION",
        "is called “ticks”",
    ),
}


@pytest.mark.parametrize("what", BROKEN)
def test_one_that_cannot_be_loaded_is_left_out_and_told(what, tmp_path, monkeypatch):
    text, told = BROKEN[what]
    module = f"broken_{what.replace(' ', '_')}"
    (tmp_path / f"{module}.py").write_text(text)
    monkeypatch.syspath_prepend(str(tmp_path))
    monkeypatch.setattr(plugins, "PATIENCE", 1.0 if what == "hangs" else 20.0)
    place = Place("vastgrid.conversions", module, f"{module}:CONVERSION", "broken 1.0")
    assert load(place) is None
    assert told in plugins.faults.pop(place)


def test_names_that_are_ours_stay_ours(monkeypatch):
    own = Place("vastgrid.conversions", "tin", "somewhere:CONVERSION", "stranger 1.0")
    monkeypatch.setattr(plugins, "places", lambda: (own,))
    assert plugins.of_group("vastgrid.conversions", ("tin", "grid")) == {}
    assert "there already, from Vast Grid" in plugins.faults.pop(own)


def test_doctor_names_what_is_left_out(vastgrid, tmp_path):
    path = tmp_path / "packages" / "tollgarth_spots" / "water.py"
    path.write_text("raise RuntimeError('broken on purpose')\n")
    made = vastgrid("doctor")
    assert "MISS  Plug-ins: tollgarth_spots 0.1.0; left out: tollgarth_spots_fill" in made.stdout
    assert "broken on purpose" in made.stdout
    assert vastgrid("convert", "a.tollgarth_spots", "c.csv").returncode == 0, "the rest of it works"


def test_what_fails_at_work_is_told_by_name(vastgrid, tmp_path):
    path = tmp_path / "packages" / "tollgarth_spots" / "water.py"
    path.write_text(path.read_text().replace("    points = narrowed", "    1 / 0\n    points = narrowed"))
    made = vastgrid("convert", "a.tollgarth_spots", "c.csv", "--via", "tollgarth_spots_fill", "level=1")
    assert made.returncode == 1 and "of the plug-in tollgarth_spots 0.1.0, failed: ZeroDivisionError" in made.stderr
    assert "Traceback" not in made.stderr and not (tmp_path / "c.csv").exists()


def test_versions():
    assert fits(VERSION) == "" and fits("2.0") and fits("1.99") and fits("x") and fits("")


def test_by_command(run_cli, tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    code, out, _ = run_cli("plugin", "new", "heaps")
    assert code == 0 and "python -m vastgrid.plugin.check heaps" in out
    code, out, _ = run_cli("plugin", "check", "heaps")
    assert code == 0 and "15 of 15 kept" in out
    assert run_cli("plugin", "new", "heaps")[0] == 2
    assert run_cli("plugin", "new", "mounds")[0] == 0
    (tmp_path / "mounds" / "src" / "mounds" / "low.py").write_text("INTERFACE = '1.0'\n")
    code, out, _ = run_cli("plugin", "check", "mounds")
    assert code == 1 and "FAIL  mounds-low: loads" in out
