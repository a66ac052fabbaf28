"""What came out of the cases, on paper: for a firm's quality folder, and as the book of validation."""

from __future__ import annotations

import datetime
import importlib.metadata
import platform
from collections.abc import Sequence
from html import escape
from pathlib import Path
from typing import Any

import numpy as np

from vastgrid import __version__, catalog
from vastgrid.base.files import write_text
from vastgrid.base.findings import count
from vastgrid.base.progress import Progress
from vastgrid.data.table import Table
from vastgrid.declarations.conversion import Conversion
from vastgrid.declarations.fileformat import Format
from vastgrid.execution.papers import check_ending, print_page
from vastgrid.reports.account import as_json
from vastgrid.reports.paper import page_of, table_of
from vastgrid.verification.cases import Case, Outcome

_LIBRARIES = ("numpy", "scipy", "numba", "shapely", "pyproj", "rasterio", "pyogrio", "laspy", "ezdxf", "trimesh")
_OWN = "our own reader"
_HEADS = ("case", "what is checked", "source", "expected", "came out", "tolerance", "")


def number_words(value: float, unit: str = "") -> str:
    """Return a figure with all digits that matter."""
    return f"{value:.12g}{' ' + unit if unit else ''}"


def line(own: Outcome) -> str:
    """Return an outcome as a line."""
    sign = "ok  " if own.passed else "FAIL"
    case = own.case
    if own.error:
        return f"{sign}  {case.id}: {own.error}"
    figures = f"{number_words(own.expected, case.unit)} expected, {number_words(own.got)} came out"
    return f"{sign}  {case.id}: {figures} (tolerance {case.tolerance:g}; {case.source})"


def summary(outcomes: Sequence[Outcome]) -> str:
    """Return all of it in a sentence."""
    good, seconds = sum(each.passed for each in outcomes), sum(each.seconds for each in outcomes)
    return f"{good} of {count(len(outcomes), 'case')} within their tolerances, in {seconds:.1f} s."


def machine() -> dict[str, str]:
    """Return what it ran on, and with which libraries."""
    found = {"Vast Grid": __version__, "Python": platform.python_version(), "machine": platform.platform()}
    for name in _LIBRARIES:
        try:
            found[name] = importlib.metadata.version(name)
        except importlib.metadata.PackageNotFoundError:
            found[name] = "not installed"
    return found


def to_json(outcomes: Sequence[Outcome]) -> dict[str, Any]:
    """Return plain values."""
    return {
        "cases": [each.to_json() for each in outcomes],
        "passed": sum(each.passed for each in outcomes),
        "failed": sum(not each.passed for each in outcomes),
        "when": f"{datetime.datetime.now():%Y-%m-%d %H:%M}",
        "versions": machine(),
    }


def table(outcomes: Sequence[Outcome]) -> Table:
    """Return the outcomes as a table."""
    # What failed stands first, and whether it passed before what it was.
    rows = [_cells(each) for each in sorted(outcomes, key=lambda own: own.passed)]
    heads = {"passed": 6, "case": 0, "what is checked": 1, "expected": 3, "came out": 4, "tolerance": 5, "source": 2}
    columns = {head: np.array([row[k].encode() for row in rows]) for head, k in heads.items()}
    return Table(name="Cases with a known result", columns=columns)


def write(path: Path, outcomes: Sequence[Outcome], progress: Progress) -> None:
    """Write the outcomes as their name's ending says: PDF, page, text or JSON.

    Raises
    ------
    CallError
        If the ending is none that a report can have.
    """
    check_ending(path)
    ending, title = path.suffix.lower(), "Verification of Vast Grid"
    if ending == ".json":
        write_text(path, as_json(to_json(outcomes)))
    elif ending in (".md", ".txt"):
        write_text(path, _as_text(title, outcomes))
    else:
        page = page_of(title, _body(title, outcomes))
        if ending == ".pdf":
            print_page(path, page, title, progress)
        else:
            write_text(path, page)


def _cells(own: Outcome) -> tuple[str, ...]:
    case = own.case
    figures = ("", own.error) if own.error else (number_words(own.expected, case.unit), number_words(own.got))
    return case.id, case.says, case.source, *figures, f"{case.tolerance:g}", "yes" if own.passed else "NO"


def _body(title: str, outcomes: Sequence[Outcome]) -> str:
    versions = "; ".join(f"{name} {version}" for name, version in machine().items())
    head = f"<h1>{title}</h1><p>{escape(summary(outcomes))}</p>"
    when = f'<p class="quiet">{datetime.datetime.now():%Y-%m-%d %H:%M} · {escape(versions)}</p>'
    return head + when + table_of((*_HEADS[:-1], "passed"), [_cells(each) for each in outcomes])


def _as_text(title: str, outcomes: Sequence[Outcome]) -> str:
    lines = [f"# {title}", "", summary(outcomes), "", *(line(each) for each in outcomes), ""]
    return "\n".join([*lines, *(f"{name}: {version}" for name, version in machine().items())]) + "\n"


# ---------------------------------------------------------------------------------------- the book of validation


def book(outcomes: Sequence[Outcome]) -> str:
    """Return the book of validation: for each conversion and format what it is held against, and what came out."""
    lines = [
        "# Validation",
        "",
        "What each conversion and format is held against. `vastgrid verify` runs these cases on your machine in under a minute; the tests hold many more. Where a source is a closed form, the expected figure is worked out in the case itself; “from memory” says that the page was not at hand when the case was written.",
        "",
        "This page is made by `python -m vastgrid.verification.book`.",
        "",
    ]
    by = {each.case.id: each for each in outcomes}
    conversions: Sequence[Conversion | Format] = tuple(catalog.CONVERSIONS)
    parts = (("Conversions", conversions), ("Formats", tuple(catalog.FORMATS)))
    for title, declared in parts:
        lines += [f"## {title}", ""]
        for each in declared:
            own = [by[case] for case in by if each.id in by[case].case.covers]
            lines += [f"### {each.title} ({each.id})", "", *_rows(own), ""]
    known = {*catalog.CONVERSIONS.ids, *catalog.FORMATS.ids}
    rest = [each for each in outcomes if not known & set(each.case.covers)]
    lines += ["## Units", "", *_rows(rest), "", "## What is only our own claim", ""]
    own_only = [
        each
        for each in catalog.FORMATS
        if _only_ours([by[case].case for case in by if each.id in by[case].case.covers])
    ]
    names = ", ".join(each.title for each in own_only)
    lines += [
        f"These are written and read back by our own writer and reader alone here; the tests read most of them with other libraries: {names}.",
        "",
    ]
    return "\n".join(lines)


def _only_ours(cases: Sequence[Case]) -> bool:
    return all(_OWN in each.source for each in cases)


def _rows(outcomes: Sequence[Outcome]) -> list[str]:
    rows = ["| what is checked | source | largest deviation | tolerance |", "|---|---|---|---|"]
    for each in outcomes:
        case = each.case
        off = "0" if each.difference == 0.0 else f"{each.difference:.0e}"
        unit = f" {case.unit}" if case.unit else ""
        rows.append(f"| {case.says} | {case.source} | {off}{unit} | {case.tolerance:g} |")
    return rows


if __name__ == "__main__":
    import sys

    from vastgrid.base.progress import Silent
    from vastgrid.verification.cases import run_all

    sys.stdout.write(book(run_all(Silent())))
