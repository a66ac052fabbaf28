"""The report of a run: what was done, what it cost, what was written and how reading it back went."""

from __future__ import annotations

import datetime
import json
from collections.abc import Sequence
from typing import Any, Protocol

from vastgrid import __version__
from vastgrid.base.findings import Finding
from vastgrid.data.loss import Loss


class StepLike(Protocol):
    """What the report needs to know of a step."""

    @property
    def sentence(self) -> str:
        """What was done."""

    @property
    def findings(self) -> tuple[Finding, ...]:
        """What was noticed."""

    @property
    def loss(self) -> Loss | None:
        """What it cost."""

    @property
    def result(self) -> Sequence[dict[str, Any]]:
        """Figures of what it gave; tables with their columns and entries."""

    @property
    def against(self) -> str:
        """What that is measured against, by name; empty for its source."""

    @property
    def source(self) -> str:
        """The file that it read; empty for all else."""


class DeliveryLike(Protocol):
    """What the report needs to know of a delivery."""

    @property
    def checks(self) -> Sequence[Any]:
        """What was compared."""

    @property
    def findings(self) -> tuple[Finding, ...]:
        """What was noticed."""

    @property
    def sentence(self) -> Any:
        """The outcome, or what gives it."""


def _sentence(delivery: DeliveryLike) -> str:
    own = delivery.sentence
    return str(own() if callable(own) else own)


def as_text(steps: Sequence[StepLike], *deliveries: DeliveryLike) -> str:
    """Return the report as plain text (Markdown)."""
    lines = [f"# Vast Grid {__version__}, {datetime.datetime.now():%Y-%m-%d %H:%M}", "", "## What was done", ""]
    for number, step in enumerate(steps, 1):
        lines.append(f"{number}. {step.sentence}")
        if step.loss is not None:
            lines.append(f"   Cost against {step.against or 'its source'}: {step.loss.sentence()}.")
        for each in step.result:
            lines += _table(each)
        lines += [f"   {_marked(finding)}" for finding in step.findings]
    for delivery in deliveries:
        lines += ["", "## What was written", "", _sentence(delivery), ""]
        lines += ["| compared | sent | read back | |", "|---|---|---|---|"]
        lines += [f"| {c.what} | {c.sent} | {c.read} | {'✓' if c.good else 'differs'} |" for c in delivery.checks]
        lines += ["", *(_marked(finding) for finding in delivery.findings)]
    return "\n".join(lines).rstrip() + "\n"


def _table(figures: dict[str, Any]) -> list[str]:
    """Return a table among the results as Markdown; nothing for anything else."""
    columns = figures.get("columns")
    if not isinstance(columns, list):
        return []
    rows = [heads_of(figures), ["---"] * len(columns), *figures["entries"]]
    return [
        "",
        *(f"   | {' | '.join(row)} |" for row in rows),
        *(f"   {text}" for text in [left_off(figures)] if text),
        "",
    ]


def left_off(figures: dict[str, Any]) -> str:
    """Return that a table is told by its beginning, where it is longer than what is told; nothing for others."""
    told, whole = len(figures["entries"]), figures.get("count", {}).get("entries", 0)
    return f"The first {told} of {whole} rows." if whole > told else ""


def heads_of(figures: dict[str, Any]) -> list[str]:
    """Return the headings of a table among the results, with their units."""
    columns = figures["columns"]
    units = figures.get("units") or [""] * len(columns)
    return [f"{name} [{unit}]" if unit else name for name, unit in zip(columns, units, strict=True)]


def _marked(finding: Finding) -> str:
    return f"{finding.severity.value}: {finding.text}"


def as_json(values: dict[str, Any]) -> str:
    """Return values as JSON; not-a-number, which JSON does not know, as null."""
    return json.dumps(_finite(values), indent=2, ensure_ascii=False)


def _finite(value: Any) -> Any:
    if isinstance(value, dict):
        return {key: _finite(each) for key, each in value.items()}
    if isinstance(value, list | tuple):
        return [_finite(each) for each in value]
    if isinstance(value, float) and (value != value or value in (float("inf"), float("-inf"))):
        return None
    return value
