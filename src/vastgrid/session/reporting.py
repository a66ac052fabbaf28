"""The report of a card for whoever receives it: every step that led to it, what each cost, and what was noticed."""

from __future__ import annotations

import dataclasses
from dataclasses import dataclass

from vastgrid.base.findings import Finding
from vastgrid.data.loss import Loss
from vastgrid.job.lineage import Graph
from vastgrid.reports.account import as_text
from vastgrid.session.deliver import Delivery
from vastgrid.session.session import Session


@dataclass(frozen=True, slots=True)
class _Step:
    sentence: str
    findings: tuple[Finding, ...]
    loss: Loss | None


def report(session: Session, node: str) -> str:
    """Return the report of a card as text (Markdown), findings and the notes of their acceptance included."""
    graph = session.graph
    steps = []
    for each in _before(graph, node):
        own = graph[each]
        findings = []
        for noticed in session.noticed([each]):
            said = "" if noticed.accepted is None else f" Accepted: {noticed.accepted or 'without a note'}."
            findings.append(dataclasses.replace(noticed.finding, text=noticed.finding.text + said))
        sentence = f"{own.name}: " + "".join(piece.text for piece in session.sentence(each))
        loss = Loss.from_json(own.outcome.loss) if own.outcome and own.outcome.loss else None
        steps.append(_Step(sentence, tuple(findings), loss))
    outcome = graph[node].outcome
    delivery = Delivery.from_json(outcome.delivery) if outcome and outcome.delivery else None
    return as_text(steps, delivery)


def _before(graph: Graph, node: str) -> list[str]:
    found = {node}
    for each in reversed(list(graph.nodes)):
        if each in found:
            found |= {i for i in graph[each].inputs if i not in graph[each].off}
    return [each for each in graph.nodes if each in found]
