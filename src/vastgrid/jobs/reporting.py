"""The report of a card for whoever receives it: every step that led to it, what each cost, and what was noticed."""

from __future__ import annotations

import dataclasses
from collections.abc import Container
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from vastgrid.base.findings import Finding
from vastgrid.data.dataset import Dataset
from vastgrid.data.loss import Loss
from vastgrid.data.table import Table
from vastgrid.execution.papers import contents_of, file_line, source_line
from vastgrid.jobs.session import Session
from vastgrid.lineage.graph import Graph, Node, Role
from vastgrid.reports.paper import Report


@dataclass(frozen=True, slots=True)
class _Step:
    sentence: str
    findings: tuple[Finding, ...]
    loss: Loss | None
    against: str = ""
    result: tuple[dict[str, Any], ...] = ()
    source: str = ""


def report(session: Session, node: str) -> Report:
    """Return the report of a card, findings and the notes of their acceptance included."""
    graph = session.graph
    steps = []
    before = graph.before(node, used=True)
    steps_before = dict.fromkeys(graph.node(card).id for card in graph.cards if card in before)
    for step in steps_before:
        # An answer is told whole, with all its tables.
        cards = [card for card in graph.nodes[step].cards() if card.id in before or card.kind == Table.kind]
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
        loss = own.outcome.loss if own.outcome else None
        steps.append(
            _Step(
                sentence,
                tuple(findings),
                loss,
                session.measured_against(each),
                tuple(card.figures for card in cards),
                own.path if own.role is Role.SOURCE else "",
            )
        )
    outcome = graph[node].outcome
    last = graph.node(node)
    files = []
    if outcome and outcome.delivery:
        files = [file_line(outcome.delivery, last.words)]
    read = [graph.nodes[step] for step in steps_before if graph.nodes[step].role is Role.SOURCE]
    sources = [source_line(Path(step.path), _sentence_of(step), step.fingerprint) for step in read]
    sent = sent_of(session, node)
    units = sent[0].frame.describe() if sent else ""
    title = graph[last.used[0].card].name if last.used and files else graph[node].name
    accuracy = accuracy_of(graph, before)
    return Report(title, sources, steps, files, units, contents=contents_of(sent), accuracy=accuracy)


def accuracy_of(graph: Graph, cards: Container[str]) -> tuple[str, ...]:
    """Return what check points say of any of some cards, in words."""
    found = []
    for node in graph.nodes.values():
        own = node.outcome.figures.get("quality") if node.outcome else None
        if own and node.used[0].card in cards:
            found.append(f"{graph[node.used[0].card].name}: {own}")
    return tuple(found)


def _sentence_of(node: Node) -> str:
    return ", ".join(card.name for card in node.cards()) + f" from {Path(node.path).name}"


def sent_of(session: Session, node: str) -> list[Dataset]:
    """Return what went out with a delivery, or a card itself: for the picture."""
    own = session.graph.node(node)
    found = [data for use in own.used if (data := session.dataset(use.card)) is not None]
    return found if own.role is Role.DELIVERY else [data for data in [session.dataset(node)] if data is not None]
