"""The report that goes to a receiver: one page first, that says what this is, from what, how good, and what it lost."""

from __future__ import annotations

import base64
import datetime
from collections.abc import Sequence
from dataclasses import dataclass, field
from html import escape
from typing import Any

from vastgrid import __version__
from vastgrid.base.findings import Finding, Severity, count
from vastgrid.base.words import gap_words, size_words
from vastgrid.reports.account import StepLike, heads_of, left_off


@dataclass(frozen=True, slots=True)
class SourceLine:
    """A file that something was made from.

    Attributes
    ----------
    name, sentence : str
        Its name, and what was read of it.
    size : int
        Bytes; -1 where the file is gone.
    changed, fingerprint : str
        When it was last changed; a digest of its bytes.
    """

    name: str
    sentence: str
    size: int = -1
    changed: str = ""
    fingerprint: str = ""


@dataclass(frozen=True, slots=True)
class FileLine:
    """A file that goes out: its figures, and how reading it back went.

    Attributes
    ----------
    name, format, sentence : str
        Its name, its format's title, and the outcome in a sentence.
    size : int
        Bytes.
    checks : sequence
        What was compared: objects with what, sent, read and good.
    findings : tuple of Finding
        What it could not hold.
    vertical, plan : float or None
        Largest difference read back.
    unit, plan_unit, options : str
        Of these, and the writing options in words.
    """

    name: str
    format: str
    sentence: str
    size: int
    checks: Sequence[Any]
    findings: tuple[Finding, ...]
    vertical: float | None
    plan: float | None
    unit: str = ""
    plan_unit: str = ""
    options: str = ""

    @property
    def good(self) -> bool:
        """Whether everything compared agrees."""
        return all(check.good for check in self.checks)


@dataclass(frozen=True, slots=True)
class Report:
    """Everything that a receiver is told.

    Attributes
    ----------
    title : str
        What this is about.
    sources : list of SourceLine
        The files it was made from.
    steps : list of StepLike
        What was done, in order, the reading of files included.
    files : list of FileLine
        What goes out.
    units : str
        Units and reference system of what goes out.
    picture : bytes
        A picture of the plan as PNG; empty for none.
    contents : str
        What is in the files, in a sentence's words.
    accuracy : tuple of str
        Figures of accuracy against independent points, where there are any.
    """

    title: str
    sources: list[SourceLine]
    steps: Sequence[StepLike]
    files: list[FileLine]
    units: str
    picture: bytes = b""
    contents: str = ""
    accuracy: tuple[str, ...] = ()
    date: str = field(default_factory=lambda: f"{datetime.datetime.now():%Y-%m-%d %H:%M}")

    def four(self) -> list[tuple[str, str]]:
        """Return the four questions of the first page with a sentence each."""
        names = ", ".join(each.name for each in self.files)
        size = sum(each.size for each in self.files)
        told = self.contents or self.title
        units = f"; {self.units}" if self.units else ""
        what = f"{names} ({size_words(size)} in all): {told}{units}." if self.files else self._answer(told, units)
        known = ", ".join(each.name for each in self.sources[:8])
        more = f" and {len(self.sources) - 8} more" if len(self.sources) > 8 else ""
        made = [step for step in self.steps if not step.source]
        done = f"in {count(len(made), 'step')}, told below" if made else "as it came in"
        source = f"{count(len(self.sources), 'file')} ({known}{more}), {done}."
        return [
            ("What is this?", what),
            ("From what?", source),
            ("How good is it?", self._good()),
            ("What did it lose?", self._lost()),
        ]

    def _answer(self, told: str, units: str) -> str:
        """Return what a report without files is about: an answer says its figure first."""
        notes = self.steps[-1].findings if self.steps else ()
        answers = any(isinstance(each.get("columns"), list) for each in self.steps[-1].result) if self.steps else False
        return f"{self.title}: {notes[0].text}" if answers and notes else f"{told}{units}."

    def _good(self) -> str:
        checks = [check for each in self.files for check in each.checks]
        bad = [each.name for each in self.files if not each.good]
        against = f"Against independent points: {'; '.join(self.accuracy)}." if self.accuracy else ""
        if not self.files:
            return against or "No independent points were compared; the figures of each step stand below."
        if bad:
            return f"{', '.join(bad)} did not come back from disk as sent: do not use it."
        heights = [each.vertical for each in self.files if each.vertical is not None]
        unit = next((each.unit for each in self.files if each.unit), "")
        far = f"; no height differs by more than {gap_words(max(heights), 6)} {unit}".rstrip() if heights else ""
        told = f"Every file was opened again from disk and compared: all {len(checks)} checks agree{far}."
        return f"{told} {against}".strip()

    def _lost(self) -> str:
        losses = [step for step in self.steps if step.loss is not None]
        left = [finding for each in self.files for finding in each.findings if finding.severity is not Severity.NOTE]
        parts = []
        if losses:
            worst = max(losses, key=lambda step: step.loss.largest if step.loss else 0.0)
            assert worst.loss is not None
            parts.append(f"The step that cost most: {worst.loss.sentence()} ({worst.sentence.split(':')[0][:80]}).")
        else:
            parts.append("No step changed a height.")
        if left:
            parts.append(" ".join(finding.text for finding in left[:3]))
        return " ".join(parts)


# What both a browser and the printing of the interface's library understand.
_STYLE = """
body { font-family: "IBM Plex Sans", "Helvetica Neue", sans-serif; font-size: 10pt; color: #1f2d36; margin: 0 auto; padding: 12px; max-width: 900px; }
h1 { font-size: 17pt; margin: 0 0 2px 0; } h2 { font-size: 12pt; margin: 18px 0 4px 0; color: #0b6e75; }
p { margin: 3px 0 6px 0; } p.quiet, td.quiet, span.quiet { color: #5c6a72; }
table { border-collapse: collapse; } td, th { padding: 3px 7px; text-align: left; vertical-align: top; font-size: 9pt; }
th { color: #0b6e75; } td.rule, th.rule { border-bottom: 1px solid #d9d4c7; } .bad { color: #a3263a; font-weight: bold; } .warn { color: #b5541c; }
"""


def page_of(title: str, body: str) -> str:
    """Return a page of HTML that needs nothing else."""
    head = '<!doctype html><html lang="en"><head><meta charset="utf-8">'
    return f"{head}\n<title>{escape(title)}</title><style>{_STYLE}</style></head><body>\n{body}\n</body></html>\n"


def as_html(report: Report) -> str:
    """Return the report as one page of HTML that needs nothing else."""
    out = [
        f"<h1>{escape(report.title)}</h1>",
        f'<p class="quiet">{"Delivery report" if report.files else "Report"} · {escape(report.date)} · Vast Grid {__version__}</p>',
        '<table width="100%">',
    ]
    for question, answer in report.four():
        mark = ' class="bad"' if "do not use it" in answer else ""
        out.append(f'<tr><th class="rule" width="120">{question}</th><td class="rule"{mark}>{escape(answer)}</td></tr>')
    out.append("</table>")
    if report.picture:
        data = base64.b64encode(report.picture).decode()
        out.append(f'<p><img width="580" alt="Plan of what goes out" src="data:image/png;base64,{data}"></p>')
    if report.files:
        out.append("<h2>What goes out</h2>")
        heads = ("file", "format", "size", "largest difference read back", "checks", "options")
        out.append(table_of(heads, [_file(f) for f in report.files]))
    if report.sources:
        out.append("<h2>Made from</h2>")
        rows = [
            (s.name, s.sentence, size_words(s.size) if s.size >= 0 else "gone", s.changed, s.fingerprint[:16])
            for s in report.sources
        ]
        out.append(table_of(("file", "what was read", "size", "changed", "fingerprint"), rows))
    out.append("<h2>What was done</h2><table>")
    for number, step in enumerate(report.steps, 1):
        out.append(f'<tr><td class="quiet">{number}</td><td>{escape(step.sentence)}{_told(step)}</td></tr>')
    out.append("</table>")
    if report.files:
        out.append("<h2>Read back from disk</h2>")
    for each in report.files:
        state = "" if each.good else ' class="bad"'
        out.append(f"<p{state}>{escape(each.sentence)}</p>")
        compared = [(c.what, c.sent, c.read, "agrees" if c.good else "DIFFERS") for c in each.checks]
        out.append(table_of(("compared", "sent", "read back", ""), compared))
        out += [f'<p class="{_class(f)}">{escape(f.severity.value)}: {escape(f.text)}</p>' for f in each.findings]
    return page_of(report.title, "\n".join(out))


def _file(each: FileLine) -> tuple[str, ...]:
    gap = "—"
    if each.vertical is not None:
        gap = (
            f"height {gap_words(each.vertical, 6)} {each.unit}, plan {gap_words(each.plan or 0.0, 6)} {each.plan_unit}"
        )
    good = sum(check.good for check in each.checks)
    return each.name, each.format, size_words(each.size), gap, f"{good} of {len(each.checks)} agree", each.options


def _told(step: StepLike) -> str:
    parts = []
    if step.loss is not None:
        parts.append(f"<br><b>Cost</b> against {escape(step.against or 'its source')}: {escape(step.loss.sentence())}.")
    for each in step.result:
        if isinstance(each.get("columns"), list):
            parts.append(f"<br>{escape(str(each.get('name', '')))}{table_of(heads_of(each), each['entries'])}")
            parts.append(f'<span class="quiet">{escape(left_off(each))}</span>')
    parts += [
        f'<br><span class="{_class(f)}">{escape(f.severity.value)}: {escape(f.text)}</span>' for f in step.findings
    ]
    return "".join(parts)


def _class(finding: Finding) -> str:
    return {Severity.NOTE: "quiet"}.get(finding.severity, "warn")


def table_of(heads: Sequence[str], rows: Sequence[Sequence[str]]) -> str:
    """Return a table of texts as HTML."""
    out = ['<table width="100%"><tr>', *(f'<th class="rule">{escape(head)}</th>' for head in heads), "</tr>"]
    for row in rows:
        cells = (f'<td class="rule{" bad" if text == "DIFFERS" else ""}">{escape(text)}</td>' for text in row)
        out.append(f"<tr>{''.join(cells)}</tr>")
    return "".join(out) + "</table>"
