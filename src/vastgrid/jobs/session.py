"""One open job and everything that can be done with it; the window holds nothing else that is worth saving."""

from __future__ import annotations

import dataclasses
import datetime
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from vastgrid import catalog
from vastgrid.base.errors import CallError, VastGridError
from vastgrid.base.findings import Finding, Severity
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Unit
from vastgrid.data.dataset import Dataset
from vastgrid.declarations.conversion import listed
from vastgrid.execution.executor import Units
from vastgrid.execution.inspection import Inspection, Noticed
from vastgrid.execution.steps import roles_of
from vastgrid.jobs.editing import Editing
from vastgrid.jobs.openjob import OpenJob
from vastgrid.jobs.sources import Sources
from vastgrid.lineage.graph import Given, Graph, Node, Outcome, Role, State, Use
from vastgrid.params import declare
from vastgrid.params.declare import Phrase


@dataclass(frozen=True)
class NoParams:
    """Nothing can be changed."""


class Session(OpenJob):
    """An open job and everything that can be done with it; the window holds nothing else that is worth saving.

    Methods that take a `progress` may be slow and belong on a worker thread; they change nothing but the store, and
    return what `accept` then puts into the lineage. All others are quick.

    Parameters
    ----------
    folder : Path
        The job's folder; made if need be.
    """

    def __init__(self, folder: Path) -> None:
        super().__init__(folder)
        self.sources = Sources(self)
        self.editing = Editing(self)
        self.inspection = Inspection(lambda: self.settings)

    def undo(self) -> str:
        """Take the last thing back: an entry of a log of edits, or a step of the history; return what it was."""
        entry = self.editing.back()
        if entry:
            return entry
        label = self.history.labels[self.history.at]
        self.history = self.history.undone()
        self.save()
        return label

    def redo(self) -> str:
        """Do again what was taken back last; return what it was."""
        entry = self.editing.on()
        if entry:
            return entry
        self.history = self.history.redone()
        self.save()
        return self.history.labels[self.history.at]

    def keep_as_it_is(self, card: str) -> str:
        """Put a copy of a card into the job that stays as it is while what the card is made from goes on; return the copy.

        Raises
        ------
        CallError
            If it has not been made yet.
        """
        own = self.graph[card]
        if not own.digest or own.node.outcome is None:
            raise CallError(f"{own.name} has not been made yet")
        when = datetime.datetime.now()
        called = self.graph.free_name(f"{own.name}, {when.day} {when:%B %Y}")
        node = self.executor.nodes.copy(own, called, when)
        graph = self.graph.with_node(node)
        given = Given(own.digest, {key: value for key, value in own.figures.items() if key != "file"})
        outcome = Outcome(key=graph.key(node.id), results={"": given}, when=when.isoformat(timespec="seconds"))
        self.change(graph.with_node(dataclasses.replace(node, outcome=outcome)), f"keep {own.name} as it is")
        return node.id

    # -- sentences

    def sentence(self, node: str) -> tuple[Phrase, ...]:
        """Return a card's step as a sentence with fields."""
        own = self.graph.node(node)
        names = [(use.role, self.graph[use.card].name) for use in own.used]
        if own.role is Role.MADE:
            conversion = catalog.conversion_named(own.operation)
            params = declare.build(conversion.params, self.shown_words(node))
            return conversion.sentence(params, names, own.words)
        if own.role is Role.KEPT:
            return (Phrase(f"{own.words['of']} as it was on {own.words['when'].replace('T', ' at ')}; it stays so."),)
        kind = catalog.format_named(own.operation)
        file = Path(own.path).name
        if own.role is Role.SOURCE:
            units = [f"; plan in {Unit(own.units[0]).title}" if own.units[0] else ""]
            units.append(f"; heights in {Unit(own.units[1]).title}" if own.units[1] else "")
            return (Phrase(f"Read from {file} as {kind.title}{''.join(units)}."),)
        pieces = [Phrase(f"{listed([name for _, name in names])} written to {file} as {kind.title}")]
        fields = declare.fields(kind.write_params)
        params = declare.build(kind.write_params, self.executor.words(own))
        for k, each in enumerate(fields):
            pieces.append(Phrase((": " if k == 0 else ", ") + each.param.label.lower() + " "))
            pieces.append(Phrase(declare.spoken(each, getattr(params, each.attribute)), each.name))
        return (*pieces, Phrase("."))

    def shown_words(self, node: str) -> dict[str, str]:
        """Return every parameter of a card's step in words: what was asked, and the rest as it is settled."""
        own = self.graph.node(node)
        asked = self.executor.words(own)
        if own.role is not Role.MADE:
            return asked
        if own.outcome and self.graph.state(node) is State.MADE:
            return self.store.payloads.full(own.outcome.settled) or asked
        try:
            return self.executor.settled_words(self.graph, own)
        except VastGridError:
            was = self.store.payloads.full(own.outcome.settled) if own.outcome else {}
            return {**was, **asked}

    def measured_against(self, node: str) -> str:
        """Return the names of what a card's loss is measured against."""
        own = self.graph.node(node)
        if own.role is not Role.MADE:
            return ""
        conversion = catalog.conversion_named(own.operation)
        return listed([self.graph[use.card].name for use in own.used if use.role == conversion.measured_role])

    def params_of(self, node: str) -> type:
        """Return the parameter class of a node's step."""
        own = self.graph[node]
        if own.role is Role.MADE:
            return catalog.conversion_named(own.operation).params
        if own.role is Role.KEPT:
            return NoParams
        kind = catalog.format_named(own.operation)
        return kind.read_params if own.role is Role.SOURCE else kind.write_params

    # -- a surface's sources

    def switch(self, node: str, source: str, *, on: bool) -> None:
        """Switch one of a node's inputs on or off; it stays listed, and what follows is out of date."""
        own = self.graph[node]
        off = tuple(i for i in own.inputs if (i == source and not on) or (i in own.off and i != source))
        if off != own.off:
            label = f"switch {self.graph[source].name} {'on' if on else 'off'} in {own.name}"
            self.change(self.graph.changed(node, off=off), label)

    def drop_source(self, node: str, source: str) -> None:
        """Take an input out of a node; the card itself stays in the job.

        Raises
        ------
        CallError
            If it is the only one.
        """
        own = self.graph.node(node)
        left = tuple(use for use in own.uses if use.card != source)
        role = next(use.role for use in own.uses if use.card == source)
        least = max(catalog.conversion_named(own.operation).role(role).least, 1 if len(own.uses) == 1 else 0)
        if sum(use.role == role for use in left) < least:
            raise CallError(f"{own.name} has no other source; remove the card itself instead")
        graph = self.graph.changed(node, uses=left, off=tuple(i for i in own.off if i != source))
        self.change(graph, f"take {self.graph[source].name} out of {own.name}")

    def other_roles(self, node: str, source: str) -> list[str]:
        """Return the roles that one of a card's inputs could play instead of its own."""
        own = self.graph.node(node)
        conversion = catalog.conversion_named(own.operation)
        kind = self.graph[source].kind
        now = next(use.role for use in own.uses if use.card == source)
        return [
            each.role for each in conversion.inputs if each.role != now and kind in {one.kind for one in each.kinds}
        ]

    def give_role(self, node: str, source: str, role: str) -> None:
        """Let one of a card's inputs play another role; where that has room for one only, the two are exchanged."""
        own = self.graph.node(node)
        conversion = catalog.conversion_named(own.operation)
        now = next(use.role for use in own.uses if use.card == source)
        full = conversion.role(role).most == 1
        uses = [
            Use(use.card, role) if use.card == source else Use(use.card, now) if full and use.role == role else use
            for use in own.uses
        ]
        uses.sort(key=lambda use: conversion.place_of(use.role))
        label = f"let {self.graph[source].name} be the {role} one of {own.name}"
        words = self.shown_words(node)
        changed = dataclasses.replace(own, uses=tuple(uses))
        self.change(self.graph.with_node(self.executor.renamed(self.graph, changed, words, words, own)), label)

    def add_sources(self, node: str, sources: Sequence[str]) -> None:
        """Give a node more inputs.

        Raises
        ------
        CallError
            If its conversion cannot use them, or they are made from the node itself.
        """
        own = self.graph.node(node)
        new = [i for i in sources if i not in own.inputs]
        circle = [i for i in new if i == node or i in self.graph.after(node)]
        if circle:
            raise CallError(f"{self.graph[circle[0]].name} is made from {own.name}, so it cannot be its source")
        conversion = catalog.conversion_named(own.operation)
        cards = [*own.inputs, *new]
        said = [use.role for use in own.uses]
        roles = roles_of(conversion, [self.named(i) for i in cards], said)
        uses = tuple(Use(card, role) for card, role in zip(cards, roles, strict=True))
        graph = self.graph.changed(node, uses=uses).ordered()
        self.change(graph, f"add {listed([self.graph[i].name for i in new])} to {own.name}")

    def usable_sources(self, node: str) -> list[str]:
        """Return the cards that could become inputs of a node besides those it has."""
        own = self.graph[node]
        if own.role is not Role.MADE:
            return []
        conversion = catalog.conversion_named(own.operation)
        kinds = {kind.kind for each in conversion.inputs if each.most is None for kind in each.kinds}
        following = {node, *own.inputs, *self.graph.after(node)}
        return [each.id for each in self.graph.cards.values() if each.id not in following and each.kind in kinds]

    def paint(self, node: str, colour: str) -> None:
        """Give a node's points and lines a colour in the views; no step of the history."""
        self.history = self.history.amended(self.graph.changed(node, colour=colour))
        self.save()

    def set_look(self, node: str, words: dict[str, str]) -> None:
        """Give a node another look in the views; no step of the history."""
        self.history = self.history.amended(self.graph.changed(node, look=words))
        self.save()

    # -- making

    def plan(self, operation: str, inputs: Sequence[str], words: dict[str, str], roles: Sequence[str] = ()) -> Node:
        """Return a node that is yet to be made: what is asked of it, and its inputs in their roles.

        Raises
        ------
        CallError
            If the conversion cannot use these inputs, or a parameter is wrong.
        """
        return self.executor.planned(self.graph, operation, inputs, words, roles)

    def plan_delivery(
        self, operation: str, inputs: Sequence[str], words: dict[str, str], path: Path, units: Units
    ) -> Node:
        """Return a delivery that is yet to be written."""
        self.refuse_output(path)
        return self.executor.planned_delivery(self.graph, operation, inputs, words, path, units)

    def named(self, node: str) -> Dataset:
        """Return a card's data under its name.

        Raises
        ------
        CallError
            If it has not been made yet.
        """
        return self.executor.dataset(self.graph, node)

    def with_word(self, node: str, field: str, text: str | None) -> Node:
        """Return a card's step with one parameter asked for otherwise, checked; None lets the data settle it.

        Raises
        ------
        ParamError
            If the value cannot be.
        """
        return self.with_words(node, {field: text})

    def with_words(self, node: str, words: Mapping[str, str | None]) -> Node:
        """Return a card's step with several parameters asked for otherwise, checked together.

        Raises
        ------
        ParamError
            If a value cannot be.
        """
        own = self.graph.node(node)
        params = self.params_of(node)
        asked = self.executor.words(own)
        for field, text in words.items():
            declare.field_named(params, field)
            if text is None:
                asked.pop(field, None)
            else:
                asked[field] = text
        asked = declare.canonical(params, asked)
        declare.build(params, asked)
        references = {name: text for name, text in own.words.items() if name not in words}
        kept = {name: references.get(name, text) for name, text in self.store.payloads.kept(asked).items()}
        changed = dataclasses.replace(own, words=kept)
        return self.executor.renamed(self.graph, changed, self.shown_words(node), self._settled(changed))

    def _settled(self, node: Node) -> dict[str, str]:
        try:
            return self.executor.settled_words(self.graph, node)
        except (VastGridError, KeyError):
            return self.executor.words(node)

    def remake(self, graph: Graph, nodes: Sequence[str], progress: Progress) -> Graph:
        """Make cards of a graph again, in order; return the graph with their outcomes.

        Raises
        ------
        VastGridError
            As soon as one fails; what was made before stays in the store.
        """
        return self.executor.remake(graph, nodes, progress)

    def merged(self, made: Graph, asked: Graph, nodes: Sequence[str]) -> list[str]:
        """Take remade results into the present graph, what changed meanwhile excepted; return those cards.

        Parameters
        ----------
        made, asked : Graph
            The graph with the new outcomes, and the one they were asked for in.
        """
        present = self.graph
        overtaken = []
        for node in nodes:
            if node not in present or made[node].outcome is None:
                continue
            own, before, now = made.node(node), asked.node(node), present.node(node)
            if (now.words, now.uses, now.off, now.path) != (before.words, before.uses, before.off, before.path):
                # Changed while it was being made: what was typed since stays, and is made next.
                overtaken.append(node)
                continue
            name = made[node].name if present[node].name == asked[node].name else present[node].name
            present = present.changed(node, outcome=own.outcome, name=name)
        self.amend(present)
        return overtaken

    def following(self, nodes: Sequence[str]) -> tuple[list[str], float]:
        """Return what is made from cards, themselves included where they were made, and the seconds it took last time."""
        graph = self.graph
        reached = {node for node in nodes if graph[node].role is Role.MADE}
        reached = reached.union(*(graph.after(node) for node in nodes))
        found = [card for card in graph.cards if card in reached and graph[card].role is not Role.DELIVERY]
        steps = {graph.node(card).id for card in found}
        took = sum(outcome.seconds for step in steps if (outcome := graph.nodes[step].outcome))
        return found, took

    def stale_before(self, nodes: Sequence[str]) -> list[str]:
        """Return cards, and whatever before them is out of date, in the order in which they have to be made."""
        graph = self.graph
        before = set[str]().union(*(graph.before(node) for node in nodes))
        wanted = {node for node in self.stale(graph) if node in before}
        return [card for card in graph.cards if card in wanted or card in nodes]

    def stale(self, graph: Graph, only: Sequence[str] | None = None) -> list[str]:
        """Return what is out of date or was never made, inputs first."""
        return [node for node in graph.cards if graph.state(node) is not State.MADE and (only is None or node in only)]

    def findings(self, node: str) -> list[Finding]:
        """Return what was noticed when a node was made, and what the checks found since."""
        own = self.graph[node]
        # What a step noticed is told once, with the first thing that it gave.
        told = own.role is Role.SOURCE or own.output is own.node.outputs[0]
        outcome = own.outcome if told else None
        made = list(outcome.findings) if outcome else []
        return made + self.inspection.findings(self.graph, node)

    def noticed(self, nodes: Sequence[str] | None = None) -> list[Noticed]:
        """Return the findings of cards (of all, where none are given): open ones first, notes last."""
        found = [
            Noticed(node, finding, self.inspection.accepted(node, finding))
            for node in (self.graph.cards if nodes is None else nodes)
            for finding in self.findings(node)
        ]
        return sorted(found, key=lambda each: (not each.open, each.finding.severity is Severity.NOTE))
