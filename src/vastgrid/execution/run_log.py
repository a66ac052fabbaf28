"""What a run did, step by step, and what was asked of it."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from vastgrid import catalog
from vastgrid.base.findings import Finding, counted
from vastgrid.data.loss import Loss
from vastgrid.declarations.conversion import Conversion, listed
from vastgrid.execution.executor import Executor
from vastgrid.execution.steps import Source
from vastgrid.lineage.delivered import Delivery
from vastgrid.lineage.graph import Graph
from vastgrid.params import declare


@dataclass(frozen=True, slots=True)
class Step:
    """One step that was done: its sentence, what was noticed, what it cost, the figures of what it gave, and the file it read."""

    sentence: str
    findings: tuple[Finding, ...] = ()
    loss: Loss | None = None
    result: tuple[dict[str, Any], ...] = ()
    against: str = ""
    figures: dict[str, Any] = field(default_factory=dict)
    source: str = ""

    def to_json(self) -> dict[str, Any]:
        """Return plain values."""
        return {
            "sentence": self.sentence,
            "findings": [finding.to_json() for finding in self.findings],
            "loss": self.loss.to_json() if self.loss else None,
            "result": list(self.result),
            "figures": dict(self.figures),
        }


@dataclass(slots=True)
class Account:
    """Everything a run did, in order: the report's content. `tell` is called with what is to be said at once."""

    steps: list[Step] = field(default_factory=list)
    left_out: list[str] = field(default_factory=list)
    tell: Callable[[str], None] = lambda text: None
    deliveries: list[Delivery] = field(default_factory=list)

    @property
    def delivery(self) -> Delivery | None:
        """The first file that was written, if any."""
        return self.deliveries[0] if self.deliveries else None

    def findings(self) -> list[Finding]:
        """Return all findings in order."""
        found = [finding for step in self.steps for finding in step.findings]
        return found + [finding for each in self.deliveries for finding in each.findings]

    def add_findings(self, step: int, findings: Sequence[Finding], *, first: bool = False) -> None:
        """Add findings to a step."""
        own = self.steps[step]
        told = (*findings, *own.findings) if first else (*own.findings, *findings)
        self.steps[step] = dataclasses.replace(own, findings=told)


@dataclass(frozen=True, slots=True)
class Via:
    """A conversion asked for, with its parameters as words; a word named like a role says which inputs play it."""

    conversion: Conversion
    words: dict[str, str]

    def params(self) -> dict[str, str]:
        """Return the words that are parameters."""
        roles = {each.role for each in self.conversion.inputs}
        names = {each.name for each in declare.fields(self.conversion.params)}
        return {name: text for name, text in self.words.items() if name in names or name not in roles}

    def roles(self) -> dict[str, list[str]]:
        """Return the names of the inputs that were said to play a role."""
        params = self.params()
        said = {name: text for name, text in self.words.items() if name not in params}
        return {name: [word.strip() for word in text.split(",") if word.strip()] for name, text in said.items()}


def step_of(executor: Executor, graph: Graph, node: str) -> Step:
    """Return what a conversion in a graph did."""
    own = graph.nodes[node]
    conversion = catalog.conversion_named(own.operation)
    assert own.outcome is not None
    params = declare.build(conversion.params, executor.store.payloads.full(own.outcome.settled))
    names = [(use.role, graph[use.card].name) for use in own.uses]
    return Step(
        declare.plain(conversion.sentence(params, names)),
        own.outcome.findings,
        own.outcome.loss,
        tuple({**card.figures, "name": card.name} for card in own.cards()),
        listed([name for role, name in names if role == conversion.measured_role]),
        own.outcome.figures,
    )


def source_sentence(source: Source) -> str:
    """Return what was read, in one sentence."""
    parts = []
    for each in source.datasets:
        counts = ", ".join(counted(value, name) for name, value in each.count().items())
        parts.append(f"{each.title} ({counts}; {each.frame.describe()})")
    return f"{source.path.name} read as {source.format.title}: {listed(parts)}."


def with_option(finding: Finding, path: Path) -> Finding:
    """Return a finding about one file that says by which option its remedy is taken."""
    if finding.remedy is None:
        return finding
    words = " ".join(f"{key}={value}" for key, value in finding.remedy.values.items())
    return dataclasses.replace(finding, text=f"{finding.text.removesuffix('.')} (--read {path.name} {words}).")
