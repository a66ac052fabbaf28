"""Edits by hand: each a line in a log that only grows; taking back and doing again move along it, edit by edit."""

from __future__ import annotations

import dataclasses
import secrets
from collections.abc import Sequence
from dataclasses import dataclass

from vastgrid import catalog
from vastgrid.base.errors import CallError
from vastgrid.jobs.openjob import OpenJob
from vastgrid.lineage.graph import Node, Role
from vastgrid.params import declare
from vastgrid.terrain.editing.logs import Log


@dataclass(frozen=True, slots=True)
class _Here:
    """The log that the present step of the history grew.

    Attributes
    ----------
    node : Node
        Whose log it is.
    field : str
        Its parameter.
    least : int
        How many entries there were before this step, or have to stay for the node to be there at all.
    """

    node: Node
    field: str
    least: int


class Editing:
    """The logs of edits of a job.

    All edits of one surface in a row are one step of the history, however many they are.

    Parameters
    ----------
    job : OpenJob
        Whose they are.
    """

    def __init__(self, job: OpenJob) -> None:
        self.job = job

    def add(self, card: str, entry: str) -> str:
        """Add an entry to a card's log, or begin one on it; return the card that has the edit, to be made anew.

        What was made from a card is made from the edited one from then on.

        Raises
        ------
        ParamError
            If the entry cannot be read.
        CallError
            If there are no edits for this kind.
        """
        graph, payloads = self.job.graph, self.job.store.payloads
        own = graph.node(card)
        field = _grows(own)
        if field:
            _checked(own.operation, field, entry)
            word = payloads.appended(self._word(own, field), entry)
            self._changed(own, field, word)
            return card
        conversion = next(
            (each for each in catalog.CONVERSIONS if each.resumes and graph[card].kind in {k.kind for k in each.takes}),
            None,
        )
        if conversion is None:
            raise CallError(f"{graph[card].name} has nothing that could be edited by hand")
        _checked(conversion.id, conversion.resumes, entry)
        word = payloads.appended(f"log:{secrets.token_hex(6)}:0", entry)
        node = self.job.executor.planned(graph, conversion.id, [card], {conversion.resumes: word})
        made = node.outputs[0].card
        # What was made from the card is to have what is done by hand: contours, deliveries, the ground of a survey.
        self.job.change(graph.with_node(node).moved_over(card, made), f"edit {graph[card].name}")
        return made

    def rewrite(self, card: str, entries: Sequence[str], what: str = "") -> None:
        """Let a card's log be another one: a step of the history of its own.

        Raises
        ------
        ParamError
            If an entry cannot be read.
        CallError
            If the card has no log.
        """
        node = self.job.graph.node(card)
        field = _grows(node)
        if not field:
            raise CallError(f"{node.name} has no log of edits")
        text = "\n".join(entries)
        value = declare.parse_value(declare.field_named(catalog.conversion_named(node.operation).params, field), text)
        word = f"log:{secrets.token_hex(6)}:0"
        for line in declare.value_text(value).split("\n"):
            if line:
                word = self.job.store.payloads.appended(word, line)
        changed = dataclasses.replace(node, words={**node.words, field: word})
        self.job.change(self.job.graph.with_node(changed), what or f"change the edits of {node.name}")

    def log(self, card: str) -> Log | None:
        """Return a card's log; None where it has none."""
        node = self.job.graph.node(card)
        field = _grows(node)
        if not field:
            return None
        kind = declare.field_named(catalog.conversion_named(node.operation).params, field).kind
        made: Log = kind(tuple(line for line in self.job.executor.words(node).get(field, "").split("\n") if line))
        return made

    def entries(self, card: str) -> list[str]:
        """Return the entries that count in a card's log; none where it has no log."""
        log = self.log(card)
        return list(log.entries) if log is not None else []

    def back(self) -> str:
        """Take the last entry back, if the present step is one of edits; return what it was."""
        here = self._here()
        if here is None:
            return ""
        word = self._word(here.node, here.field)
        entries = self.job.store.payloads.entries(word)
        if len(entries) <= here.least:
            return ""
        self._changed(here.node, here.field, self.job.store.payloads.appended(word, "undo"))
        return entries[-1]

    def on(self) -> str:
        """Do an entry again that was taken back, if the present step is one of edits; return what it is."""
        here = self._here()
        if here is None:
            return ""
        word = self._word(here.node, here.field)
        if not self.job.store.payloads.taken_back(word):
            return ""
        word = self.job.store.payloads.appended(word, "redo")
        self._changed(here.node, here.field, word)
        return self.job.store.payloads.entries(word)[-1]

    @property
    def can_go_on(self) -> bool:
        """Whether an entry that was taken back can be had again."""
        here = self._here()
        return here is not None and bool(self.job.store.payloads.taken_back(self._word(here.node, here.field)))

    def _word(self, node: Node, field: str) -> str:
        """Return the word of a node's log; one that was given in full becomes a log of its own."""
        text = node.words.get(field, "")
        if text.startswith("log:"):
            return text
        word = f"log:{secrets.token_hex(6)}:0"
        for line in self.job.executor.words(node).get(field, "").split("\n"):
            if line:
                word = self.job.store.payloads.appended(word, line)
        return word

    def _changed(self, node: Node, field: str, word: str) -> None:
        changed = dataclasses.replace(node, words={**node.words, field: word})
        graph = self.job.graph.with_node(changed)
        here = self._here()
        if here is not None and here.node.id == node.id:
            self.job.amend(graph)
        else:
            self.job.change(graph, f"edit {node.name}")

    def _here(self) -> _Here | None:
        history = self.job.history
        if history.at == 0:
            return None
        before = history.graphs[history.at - 1]
        for node in history.graph.nodes.values():
            field = _grows(node)
            word = node.words.get(field, "") if field else ""
            if not word.startswith("log:"):
                continue
            if node.id not in before.nodes:
                return _Here(node, field, 1)
            was = before.nodes[node.id].words.get(field, "")
            if was != word:
                old = self.job.store.payloads.full({field: was})[field]
                return _Here(node, field, sum(bool(line) for line in old.split("\n")))
        return None


def _grows(node: Node) -> str:
    return catalog.grows(node.operation) if node.role is Role.MADE else ""


def _checked(operation: str, field: str, entry: str) -> None:
    declare.parse_value(declare.field_named(catalog.conversion_named(operation).params, field), entry)
