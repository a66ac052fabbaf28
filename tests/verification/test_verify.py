"""Cases with a known result: all pass, each declaration has one, and what is wrong is told."""

import dataclasses
import json
import re
from pathlib import Path

import numpy as np
import pytest

from vastgrid import catalog
from vastgrid.base.errors import DataError
from vastgrid.base.progress import Silent
from vastgrid.verification import book
from vastgrid.verification.cases import Case, cases, run_all, run_case

ROOT = Path(__file__).parents[2]


@pytest.fixture(scope="module")
def outcomes():
    return run_all(Silent())


def test_all_pass_within_a_minute(outcomes):
    assert len(outcomes) >= 60
    assert not [book.line(each) for each in outcomes if not each.passed]
    # A foretold bound of the command, far from what it takes; it is no measure of speed.
    assert sum(each.seconds for each in outcomes) < 60


def test_each_is_there_once_with_a_source():
    every = cases()
    assert len({each.id for each in every}) == len(every)
    for each in every:
        assert each.source and each.says.endswith(".") and each.tolerance >= 0.0, each.id


@pytest.mark.parametrize("own", [*catalog.CONVERSIONS, *catalog.FORMATS], ids=lambda own: own.id)
def test_every_conversion_and_format_has_a_case_with_a_source(own):
    mine = [each for each in cases() if own.id in each.covers]
    assert mine, f"{own.id} has no case; write one in vastgrid/verification"
    assert all(each.source for each in mine)


def test_a_case_that_fails_says_so():
    def wrong():
        return [1.0, 2.0], [1.0, 2.5]

    def broken():
        raise DataError("the data is not there")

    def bug():
        raise ZeroDivisionError

    own = Case("a.b", ("a",), "Something.", "closed form", 0.1, "m", wrong)
    outcome = run_case(own)
    assert (outcome.passed, outcome.expected, outcome.got, outcome.difference) == (False, 2.0, 2.5, 0.5)
    assert book.line(outcome).startswith("FAIL") and not outcome.to_json()["passed"]
    for run, told in (
        (broken, "the data is not there"),
        (bug, "ZeroDivisionError"),
        (lambda: (1.0, [1, 2]), "2 figures"),
    ):
        outcome = run_case(dataclasses.replace(own, run=run))
        assert not outcome.passed and told in book.line(outcome)
    assert not run_case(dataclasses.replace(own, run=lambda: (1.0, np.nan))).passed
    assert run_case(dataclasses.replace(own, run=lambda: ([np.nan, 1.0], [np.nan, 1.05]))).passed


def test_by_command(run_cli, tmp_path):
    code, out, _ = run_cli("verify", "units", "volumes", "--json", "--report", tmp_path / "v.html")
    own = json.loads(out)
    assert code == 0 and own["failed"] == 0 and len(own["cases"]) == own["passed"] > 8
    assert {"id", "source", "expected", "got", "tolerance", "passed"} <= own["cases"][0].keys()
    frustum = next(each for each in own["cases"] if each["id"] == "volumes.frustum")
    assert frustum["expected"] == pytest.approx(17333.333333, abs=1e-5) and "numpy" in own["versions"]
    page = (tmp_path / "v.html").read_text()
    assert "Frustum of a pyramid" in page and "rasterio" in page
    for ending in ("md", "json"):
        assert run_cli("verify", "units", "--report", tmp_path / f"v.{ending}")[0] == 0
    assert "Mendenhall" in (tmp_path / "v.md").read_text()
    assert json.loads((tmp_path / "v.json").read_text())["passed"] == 4
    assert run_cli("verify", "nothing")[0] == 2 and run_cli("verify", "--report", tmp_path / "v.xyz")[0] == 2


def test_one_that_fails_is_exit_code_one(run_cli, monkeypatch):
    bad = Case("units.bad", ("bad",), "Something.", "closed form", 0.0, "", lambda: (1.0, 2.0))
    monkeypatch.setattr("vastgrid.verification.cases.cases", lambda: (bad,))
    code, out, _ = run_cli("verify")
    assert code == 1 and "FAIL  units.bad: 1 expected, 2 came out" in out and "0 of 1 case" in out


def test_the_book_has_every_case(outcomes):
    """python -m vastgrid.verification.book > docs/user/validation.md; deviations differ between machines."""

    def still(text):
        return re.sub(r"\| [^|]+ \| ([^|]+) \|$", r"| \1 |", text, flags=re.MULTILINE)

    assert still(book.book(outcomes)) == still((ROOT / "docs" / "user" / "validation.md").read_text(encoding="utf-8"))
    assert (ROOT / "docs" / "validation.md").resolve() == ROOT / "docs" / "user" / "validation.md"


def test_as_a_table(outcomes):
    table = book.table(outcomes)
    assert table.count() == {"entries": len(outcomes)} and set(table.columns["passed"].tolist()) == {b"yes"}
