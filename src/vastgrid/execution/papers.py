"""Reports as files: text, JSON, HTML and PDF, with a picture of what went out."""

from __future__ import annotations

import datetime
import pickle
import tempfile
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from vastgrid import catalog
from vastgrid.base.errors import CallError, DataError
from vastgrid.base.files import fingerprint, replacing, write_text
from vastgrid.base.progress import Progress
from vastgrid.base.subprocesses import run_apart
from vastgrid.data.dataset import Dataset
from vastgrid.data.kinds import kind_of
from vastgrid.declarations.conversion import listed
from vastgrid.execution.run_log import Account
from vastgrid.lineage.delivered import Delivery
from vastgrid.params import declare
from vastgrid.reports.account import as_json, as_text
from vastgrid.reports.paper import FileLine, Report, SourceLine, as_html

ENDINGS = (".html", ".htm", ".pdf", ".md", ".txt", ".json")
_DRAWING = "vastgrid.qt.drawing.sheetmaker"
_WIDE, _TALL = 1240, 760


def check_ending(path: Path) -> None:
    """Refuse a name by which nobody can tell what the report is to be.

    Raises
    ------
    CallError
        With the endings there are.
    """
    if path.suffix.lower() not in ENDINGS:
        raise CallError(f"a report ends in {', '.join(ENDINGS)}; “{path.name}” does not")


def source_line(path: Path, sentence: str, known: str = "") -> SourceLine:
    """Return what the report says of a file; its fingerprint is that of when it was read, where that is known."""
    try:
        about = path.stat()
        changed = f"{datetime.datetime.fromtimestamp(about.st_mtime):%Y-%m-%d %H:%M}"
        return SourceLine(path.name, sentence, about.st_size, changed, known or fingerprint(path))
    except OSError:
        return SourceLine(path.name, sentence, fingerprint=known)


def file_line(delivery: Delivery, words: dict[str, str]) -> FileLine:
    """Return what the report says of a file that went out."""
    kind = catalog.format_named(delivery.format)
    names = {field.name: field.param.label for field in declare.fields(kind.write_params)}
    options = ", ".join(f"{names.get(key, key).lower()} {value}" for key, value in words.items())
    return FileLine(
        ", ".join(delivery.files) or delivery.path.name,
        kind.title,
        delivery.sentence(),
        delivery.size,
        delivery.checks,
        delivery.findings,
        delivery.vertical,
        delivery.plan,
        delivery.unit,
        delivery.plan_unit,
        options,
    )


def report_of(account: Account, sent: Sequence[Dataset], words: dict[str, str], title: str) -> Report:
    """Return the report of a run on the command line."""
    sources = [source_line(Path(step.source), step.sentence) for step in account.steps if step.source]
    units = sent[0].frame.describe() if sent else ""
    files = [file_line(each, words) for each in account.deliveries]
    accuracy = tuple(str(own) for step in account.steps if (own := step.figures.get("quality")))
    return Report(
        title, sources, account.steps, files, units, contents=contents_of(sent) if sent else "", accuracy=accuracy
    )


def contents_of(sent: Sequence[Dataset]) -> str:
    """Return what went out, as a sentence says it: “Ground (TIN, 13 859 triangles)”."""
    return listed([f"{each.name} ({kind_of(each).in_a_word(each.count())})" for each in sent])


def picture_of(datasets: Sequence[Dataset], progress: Progress) -> bytes:
    """Return a picture of the plan as PNG; empty where none can be drawn here."""
    able = sorted((each for each in datasets if kind_of(each).drawn), key=lambda each: kind_of(each).rank)
    if not able:
        return b""
    with tempfile.TemporaryDirectory(prefix="vastgrid-picture-") as folder:
        target = Path(folder) / "plan.png"
        try:
            job = pickle.dumps(("picture", able, _WIDE, _TALL, str(target)))
            run_apart(_DRAWING, job, lambda: progress.report(0.5, "drawing the report's picture"), "drawing the plan")
        except DataError:
            # A report without a picture is still a report.
            return b""
        return target.read_bytes()


def write_report(path: Path, report: Report, values: dict[str, Any], progress: Progress) -> None:
    """Write a report as its name's ending says.

    Raises
    ------
    CallError
        If the ending is none that a report can have.
    DataError
        If a PDF cannot be made here.
    """
    check_ending(path)
    ending = path.suffix.lower()
    if ending == ".json":
        write_text(path, as_json(values))
    elif ending in (".md", ".txt"):
        write_text(path, as_text(report.steps, *report.files))
    elif ending == ".pdf":
        print_page(path, as_html(report), report.title, progress)
    else:
        write_text(path, as_html(report))


def print_page(path: Path, page: str, title: str, progress: Progress) -> None:
    """Write a page of HTML as PDF.

    Raises
    ------
    DataError
        If none can be made here.
    """
    with replacing(path) as temporary:
        job = pickle.dumps(("document", page, str(temporary), title))
        run_apart(_DRAWING, job, lambda: progress.report(0.8, f"writing {path.name}"), f"writing {path.name}")
