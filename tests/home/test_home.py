"""The program's place on the desktop, its health, its log and what is left of a crash."""

from __future__ import annotations

import ast
import configparser
import importlib.util
import json
import os
import shutil
import signal
import subprocess
import sys
import zipfile
from pathlib import Path

import pytest

import vastgrid
from vastgrid.__main__ import main as entry
from vastgrid.base.errors import CallError
from vastgrid.formats import ifc
from vastgrid.home import desktop, doctor, faults, log
from vastgrid.tiling.engine import started_workers

ROOT = Path(__file__).parents[2]


@pytest.fixture
def state(tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))
    return tmp_path


def test_the_desktop_finds_it_and_forgets_it(state, run_cli):
    code, said, _ = run_cli("desktop", "--install")
    assert code == 0
    made = [Path(line) for line in said.split()]
    assert all(path.is_file() for path in made)
    assert len(made) == 4
    entry = configparser.ConfigParser(interpolation=None)
    entry.optionxform = str
    entry.read(next(path for path in made if path.suffix == ".desktop"))
    assert entry["Desktop Entry"]["Exec"].endswith("open %F")
    assert "application/x-vastgrid-job" in entry["Desktop Entry"]["MimeType"]
    code, said, _ = run_cli("desktop", "--remove")
    assert code == 0
    assert not any(path.exists() for path in made)
    assert "nothing was in place" in run_cli("desktop", "--remove")[1]


def test_a_path_with_blanks_is_quoted(tmp_path):
    desktop.install(tmp_path, '/opt/vast grid/bin/va"st')
    text = (tmp_path / desktop.PLACES[f"{desktop.NAME}.desktop"]).read_text()
    assert 'Exec="/opt/vast grid/bin/va\\"st" open %F' in text


@pytest.mark.skipif(not shutil.which("desktop-file-validate"), reason="desktop-file-utils is not installed")
def test_the_menu_entry_is_valid(tmp_path):
    desktop.install(tmp_path)
    path = tmp_path / desktop.PLACES[f"{desktop.NAME}.desktop"]
    done = subprocess.run(["desktop-file-validate", path], capture_output=True, text=True, check=False)
    assert (done.returncode, done.stdout) == (0, "")


@pytest.mark.skipif(not shutil.which("appstreamcli"), reason="appstream is not installed")
def test_the_description_is_valid(tmp_path):
    desktop.install(tmp_path)
    path = tmp_path / desktop.PLACES[f"{desktop.NAME}.metainfo.xml"]
    done = subprocess.run(["appstreamcli", "validate", "--no-net", path], capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stdout


@pytest.mark.skipif(
    not (shutil.which("update-mime-database") and shutil.which("gio")),
    reason="shared-mime-info or gio is not installed",
)
def test_jobs_and_recipes_have_a_type(tmp_path, demo):
    desktop.install(tmp_path)
    recipe = tmp_path / "month.recipe"
    recipe.write_text("title = 'x'\n")
    job = next(demo.rglob("job.json"))
    for path, kind in ((recipe, "application/x-vastgrid-recipe"), (job, "application/x-vastgrid-job")):
        done = subprocess.run(
            ["gio", "info", "-a", "standard::content-type", path], capture_output=True, text=True, check=True,
            env={**os.environ, "XDG_DATA_HOME": str(tmp_path)},
        )  # fmt: skip
        assert kind in done.stdout


def test_the_doctor_looks_at_everything(state, run_cli):
    code, said, _ = run_cli("doctor", "--json")
    looks = {each["what"]: each for each in json.loads(said)["looks"]}
    assert {
        "Python",
        "Libraries",
        "Compiled kernels",
        "Window system",
        "Memory",
        "Room on disk",
        "Reference systems",
    } <= set(looks)
    assert all(each["good"] or each["remedy"] for each in looks.values())
    assert code in (0, 1)
    code, said, _ = run_cli("doctor")
    assert "vastgrid desktop --install" in said


def test_the_doctor_names_what_is_missing(state, monkeypatch):
    monkeypatch.setattr(doctor, "required", lambda: {"numpy": "", "no-such-library": "", "no-such-window": "window"})
    monkeypatch.setattr(doctor, "_missing_libraries", lambda: ["libxcb-icccm.so.4"])
    looks = {each.what: each for each in doctor.looked()}
    assert "no-such-library" in looks["Libraries"].found
    assert not looks["Libraries"].good
    assert "libxcb-icccm4" in looks["Window system"].remedy
    monkeypatch.setattr(doctor, "required", lambda: {"numpy": "", "no-such-window": "window"})
    looks = {each.what: each for each in doctor.looked()}
    assert looks["Libraries"].good
    assert "no-such-window (pip install 'vastgrid[window]')" in looks["Libraries"].found


def test_what_is_needed_is_what_is_imported():
    """Every library that the sources import is among those that the package says it needs, and its pin in the lock."""
    package = Path(vastgrid.__file__).parent
    imported = set()
    for path in package.rglob("*.py"):
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
            if isinstance(node, ast.Import):
                imported |= {each.name.split(".")[0] for each in node.names}
            elif isinstance(node, ast.ImportFrom) and node.module:
                imported.add(node.module.split(".")[0])
    imported = {
        name.replace("markdown_it", "markdown-it-py") for name in imported - {*sys.stdlib_module_names, "vastgrid"}
    }
    needed = set(doctor.required())
    # What is needed and not imported is there for another library, as pyproject.toml says beside it.
    assert imported | {"lxml", "networkx"} == needed
    lock = (package.parents[1] / "requirements" / "run.lock").read_text().lower()
    assert all(f"\n{name.lower()}==" in f"\n{lock}" for name in needed)


@pytest.mark.parametrize(
    ("text", "kept"),
    [
        ("a spike at E 512345.678, N 5412345.12", "a spike at E #, N #"),
        ("read /home/anna/jobs/ground.xml", "read …/ground.xml"),
        ("12 files, 3.5 s, version 0.1.0, EPSG:25832", "12 files, 3.5 s, version 0.1.0, EPSG:#"),
        ("height 12.34 of 100 points", "height # of 100 points"),
    ],
)
def test_the_log_has_no_places(text, kept):
    assert log.masked(text) == kept


def test_the_log_tells_what_was_done(state, tmp_path):
    source = tmp_path / "points.txt"
    source.write_text("".join(f"{512_000 + k} {5_412_000 + k * k % 7} {k}.5\n" for k in range(30)))
    environment = {**os.environ, "XDG_STATE_HOME": str(tmp_path / "other")}
    command = [
        sys.executable,
        "-m",
        "vastgrid",
        "convert",
        source,
        tmp_path / "out.xml",
        "--via",
        "tin",
        "--from-units",
        "m",
    ]
    subprocess.run(command, check=True, env=environment, capture_output=True)
    subprocess.run(
        [*command[:4], tmp_path / "gone.txt", tmp_path / "out.xml"], check=False, env=environment, capture_output=True
    )
    text = (tmp_path / "other" / "vastgrid" / "vastgrid.log").read_text()
    assert "convert via tin: exit code 0" in text
    assert "gone.txt" in text
    assert str(tmp_path) not in text
    assert "512000" not in text


def test_a_fault_of_the_program_leaves_a_report_once(state, run_cli, monkeypatch):
    from vastgrid.cli import listing

    def broken(options, groups):
        raise ZeroDivisionError("at 512345.678")

    monkeypatch.setattr(listing, "checks", broken)
    code, _, said = run_cli("checks")
    assert code == 1
    (path,) = faults.unseen()
    assert str(path) in said
    text = path.read_text()
    assert "ZeroDivisionError" in text
    assert "512345" not in text
    faults.seen([path])
    assert faults.unseen() == []


def test_a_crash_of_compiled_code_leaves_its_trace(state):
    code = "from vastgrid.home import faults; faults.watch(); import ctypes; ctypes.string_at(0)"
    done = subprocess.run([sys.executable, "-c", code], check=False, capture_output=True)
    assert done.returncode == -signal.SIGSEGV
    (path,) = faults.unseen()
    assert "Segmentation fault" in path.read_text()
    quiet = "from vastgrid.home import faults; faults.watch(); faults.unwatch()"
    subprocess.run([sys.executable, "-c", quiet], check=True)
    killed = "from vastgrid.home import faults; faults.watch(); import os, signal; os.kill(os.getpid(), signal.SIGKILL)"
    subprocess.run([sys.executable, "-c", killed], check=False)
    faults.seen([path])
    assert faults.unseen() == []


def test_the_wheel_has_everything(tmp_path):
    source = tmp_path / "source"
    shutil.copytree(
        ROOT / "src", source / "src", symlinks=True, ignore=shutil.ignore_patterns("__pycache__", "*.egg-info")
    )
    for name in ("docs/user", "requirements"):
        shutil.copytree(ROOT / name, source / name)
    for name in ("pyproject.toml", "LICENSE", "README.md"):
        shutil.copy(ROOT / name, source)
    command = [sys.executable, "-m", "pip", "wheel", "--no-deps", "--quiet", "-w", tmp_path, source]
    done = subprocess.run(command, check=False, capture_output=True, text=True)
    if "Could not find a version that satisfies" in done.stderr:
        pytest.skip("no build tools can be had here")
    assert done.returncode == 0, done.stderr
    (wheel,) = tmp_path.glob("*.whl")
    with zipfile.ZipFile(wheel) as file:
        names = set(file.namelist())
    shipped = [
        path.relative_to(ROOT / "src").as_posix()
        for path in (ROOT / "src" / "vastgrid").rglob("*")
        if path.is_file() and path.suffix not in (".pyc", ".nbc", ".nbi") and "manual/pages/" not in path.as_posix()
    ]
    assert set(shipped) <= names
    assert {f"vastgrid/manual/pages/{path.name}" for path in (ROOT / "docs" / "user").glob("*.md")} <= names
    assert any(name.endswith("licenses/LICENSE") for name in names)


@pytest.mark.skipif(not shutil.which("dpkg-deb"), reason="not a Debian machine")
def test_the_debian_package_starts(tmp_path):
    """The package itself, with the libraries of this environment; with its own it takes minutes to build."""
    done = subprocess.run(
        [ROOT / "packaging" / "debian" / "build", "--light", tmp_path], capture_output=True, text=True, check=False,
        env={**os.environ, "PYTHON": sys.executable},
    )  # fmt: skip
    assert done.returncode == 0, done.stderr
    (package,) = tmp_path.glob("*.deb")
    root = tmp_path / "root"
    subprocess.run(["dpkg-deb", "--extract", package, root], check=True)
    environment = {**os.environ, "VASTGRID_PYTHON": sys.executable, "XDG_STATE_HOME": str(tmp_path)}
    environment.pop("PYTHONPATH", None)
    said = subprocess.run(
        [root / "usr/bin/vastgrid", "--version"], capture_output=True, text=True, check=True, env=environment
    )
    assert said.stdout.startswith("vastgrid ")
    started = subprocess.run(
        [root / "usr/bin/vastgrid", "manual", "contours"], capture_output=True, text=True, check=True, env=environment, cwd=tmp_path
    )  # fmt: skip
    assert "Level lines" in started.stdout
    assert (root / "usr/share/applications" / f"{desktop.NAME}.desktop").read_text().count("Exec=vastgrid ") == 2
    control = subprocess.run(["dpkg-deb", "--field", package], capture_output=True, text=True, check=True).stdout
    assert "libxcb-cursor0" in control
    assert "python3.11" in control


@pytest.mark.parametrize(
    ("package", "extra"), [("distributed", "cluster"), ("ifcopenshell", "ifc"), ("PyQt6", "window")]
)
def test_a_library_that_an_extra_brings_is_named_where_it_is_missing(package, extra, tmp_path, monkeypatch, capsys):
    whole = importlib.util.find_spec
    monkeypatch.setattr(
        importlib.util, "find_spec", lambda name, *more: None if name == package else whole(name, *more)
    )
    if extra == "window":
        monkeypatch.setattr(sys, "argv", ["vastgrid", "open"])
        assert entry() == 1
        told = capsys.readouterr().err
    else:
        work = {"ifc": lambda: ifc.audit(tmp_path / "a.ifc"), "cluster": started_workers(2, "", tmp_path).__enter__}[
            extra
        ]
        with pytest.raises(CallError) as caught:
            work()
        told = str(caught.value)
    assert f"needs {package}, which is not installed here; pip install 'vastgrid[{extra}]' brings it" in told
