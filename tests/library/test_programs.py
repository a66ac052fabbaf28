"""The programs of the page “From a script” run as they stand, on the demo's files, and are what a type checker takes."""

import json
import re
import subprocess
import sys
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[2]
PAGE = (ROOT / "docs" / "user" / "from-a-script.md").read_text(encoding="utf-8")
PROGRAMS = dict(re.findall(r"^## (\d+\. .+?)\n\n```python\n(.*?)```", PAGE, re.DOTALL | re.MULTILINE))


@pytest.fixture(scope="module")
def folder(demo, tmp_path_factory):
    own = tmp_path_factory.mktemp("programs")
    for name in ("received", "next-month"):
        (own / name).symlink_to(demo / name)
    return own


@pytest.mark.parametrize("title", PROGRAMS)
def test_program(title, folder, monkeypatch, capsys):
    monkeypatch.chdir(folder)
    exec(compile(PROGRAMS[title], title, "exec"), {"__name__": "program"})
    assert capsys.readouterr().err == ""


def test_there_are_twelve():
    assert len(PROGRAMS) == 12


def test_types_of_the_programs(tmp_path):
    """mypy --strict knows every call in them."""
    files = []
    for k, text in enumerate(PROGRAMS.values()):
        files.append(tmp_path / f"program{k}.py")
        files[-1].write_text(text)
    command = [sys.executable, "-m", "mypy", "--strict", "--config-file=", f"--cache-dir={tmp_path}", *map(str, files)]
    skip = ["--follow-imports=silent", "--ignore-missing-imports"]
    made = subprocess.run(
        [*command, *skip], capture_output=True, text=True, env={"MYPYPATH": str(ROOT / "src"), "PATH": ""}
    )
    assert made.returncode == 0, made.stdout


@pytest.mark.parametrize("path", sorted((ROOT / "docs" / "notebooks").glob("*.ipynb")), ids=lambda path: path.stem)
def test_notebook(path, folder, tmp_path, monkeypatch, capsys):
    """Its code cells run one after another, as a notebook runs them."""
    for name in ("received", "next-month"):
        (tmp_path / name).symlink_to(folder / name)
    monkeypatch.chdir(tmp_path)
    names = {"__name__": "notebook"}
    for cell in json.loads(path.read_text(encoding="utf-8"))["cells"]:
        if cell["cell_type"] == "code":
            exec(compile("".join(cell["source"]), path.name, "exec"), names)
    assert capsys.readouterr().out
