"""Recipes, jobs and logs of edits with mistakes in them: every one is answered in words, none is an unforeseen fault."""

import random
import re
import shutil

import pytest

from vastgrid.cli.main import run

VALUES = (
    *('"furlong"', '""', '"\\u0000"', '"../x"', "-1", "1e400", "true", "[]", "{}", '"nan"', '"*"', "null", '"tin"'),
    *("99999999999999999999", '"' + "x" * 300 + '"', '"/dev/full"', '"%s"', '"\\uD800"', "NaN", "[1, 2]", '{"a": 1}'),
)
WORD = re.compile(r'"[^"\n]*"|-?\b\d+(?:\.\d+)?\b|\btrue\b|\bfalse\b|\bnull\b')
LOG = """cut 15,5 25,5
cut inside 10,10 20,10 20,20
restore 15,5 25,5
line 1,1 39,39,7.5
raise 0.5 inside 0,0 20,0 20,20
even 0.5 inside 0,0 20,0 20,20
level 0.5 inside 0,0 20,0 20,20
add 5,5 1.25
swap 15,15
remove 20,20
set 30,30 3.25
move 10,10 to 11,11
"""
UNITS = ["--from-units", "m", "--from-vertical-units", "m"]
TIMES = 60


def wrong(text, rng):
    """A text with one or two mistakes."""
    for _ in range(rng.randrange(1, 3)):
        kind = rng.randrange(4)
        if kind == 0:
            word = rng.choice(list(WORD.finditer(text)))
            text = text[: word.start()] + rng.choice(VALUES) + text[word.end() :]
        elif kind == 1 and "\n" in text.strip():
            lines = text.split("\n")
            lines.pop(rng.randrange(len(lines)))
            text = "\n".join(lines)
        elif kind == 2:
            at = rng.randrange(len(text))
            text = text[:at] + rng.choice('"[]{}=,\\\0\x7f é1') + text[at + 1 :]
        else:
            at = rng.randrange(len(text))
            text = text[:at] + text[at + rng.randrange(1, 30) :]
    return text


@pytest.fixture
def folder(tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    rows = "".join(f"{x * 10},{y * 10},{x * y % 7}\n" for x in range(5) for y in range(5))
    (tmp_path / "p.csv").write_text(f"easting,northing,elevation\n{rows}")
    steps = ["--via", "tin", "max_edge=50m", "--via", "contours", "interval=0.5m"]
    assert run(["convert", "p.csv", "o.xml", *UNITS, *steps, "--job", "job"]) == 0
    assert run(["recipe", "job", "good.recipe"]) == 0
    return tmp_path


def answered(arguments, capsys):
    code = run(arguments)
    said = capsys.readouterr().err
    assert code in (0, 1, 2) and "unforeseen" not in said
    assert code == 0 or said.strip()


def test_recipes_with_mistakes(folder, capsys):
    good, rng = (folder / "good.recipe").read_text(), random.Random(1)
    for _ in range(TIMES):
        (folder / "wrong.recipe").write_text(wrong(good, rng), errors="surrogatepass")
        shutil.rmtree(folder / "out", ignore_errors=True)
        answered(["run", "wrong.recipe", "p=p.csv", "--into", "out"], capsys)


@pytest.mark.parametrize(
    ("old", "new", "why"),
    [
        ('units = ["m", "m"]', 'units = ["furlong", "m"]', "source p: “furlong” is not a unit"),
        ('file = "o.xml"', 'file = "o\\u0000.xml"', "cannot be a file's name"),
    ],
)
def test_a_mistake_is_told_as_one_of_the_recipe(folder, capsys, old, new, why):
    good = (folder / "good.recipe").read_text()
    assert old in good
    (folder / "wrong.recipe").write_text(good.replace(old, new, 1))
    assert run(["run", "wrong.recipe", "p=p.csv", "--into", "out"]) == 1
    said = capsys.readouterr().err
    assert "wrong.recipe" in said and why in said


def test_jobs_with_mistakes(folder, capsys):
    good, rng = (folder / "job" / "job.json").read_text(), random.Random(2)
    for _ in range(TIMES):
        shutil.rmtree(folder / "wrong", ignore_errors=True)
        shutil.copytree(folder / "job", folder / "wrong")
        (folder / "wrong" / "job.json").write_text(wrong(good, rng), errors="surrogatepass")
        (folder / "wrong.recipe").unlink(missing_ok=True)
        answered(["recipe", "wrong", "wrong.recipe"], capsys)


def test_logs_of_edits_with_mistakes(folder, capsys):
    rng = random.Random(3)
    for _ in range(TIMES):
        (folder / "edits.txt").write_text(wrong(LOG, rng), errors="surrogatepass")
        answered(["convert", "p.csv", "q.xml", *UNITS, "--via", "tin", "--via", "edit", "log=edits.txt"], capsys)
