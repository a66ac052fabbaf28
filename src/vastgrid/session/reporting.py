"""The report of a card for whoever receives it: every step that led to it, what each cost, and what was noticed."""

from __future__ import annotations

import dataclasses
from dataclasses import dataclass
from typing import Any

from vastgrid.base.findings import Finding
from vastgrid.data.loss import Loss
from vastgrid.reports.account import as_text
from vastgrid.session.deliver import Delivery
from vastgrid.session.session import Session


@dataclass(frozen=True, slots=True)
class _Step:
    sentence: str
    findings: tuple[Finding, ...]
    loss: Loss | None
    against: str = ""
    result: tuple[dict[str, Any], ...] = ()


def report(session: Session, node: str) -> str:
    """Return the report of a card as text (Markdown), findings and the notes of their acceptance included."""
    graph = session.graph
    steps = []
    before = graph.before(node, used=True)
    steps_before = dict.fromkeys(graph.node(card).id for card in graph.cards if card in before)
    for step in steps_before:
        cards = [card for card in graph.nodes[step].cards() if card.id in before]
        own, each = cards[0], cards[0].id
        findings = []
        told = set()
        for noticed in session.noticed([card.id for card in cards]):
            if (noticed.finding.code, noticed.finding.text) in told:
                continue
            told.add((noticed.finding.code, noticed.finding.text))
            said = "" if noticed.accepted is None else f" Accepted: {noticed.accepted or 'without a note'}."
            findings.append(dataclasses.replace(noticed.finding, text=noticed.finding.text + said))
        names = ", ".join(card.name for card in cards)
        sentence = f"{names}: " + "".join(piece.text for piece in session.sentence(each))
        loss = Loss.from_json(own.outcome.loss) if own.outcome and own.outcome.loss else None
        steps.append(
            _Step(
                sentence, tuple(findings), loss, session.measured_against(each), tuple(card.figures for card in cards)
            )
        )
    outcome = graph[node].outcome
    delivery = Delivery.from_json(outcome.delivery) if outcome and outcome.delivery else None
    return as_text(steps, *([delivery] if delivery else []))
