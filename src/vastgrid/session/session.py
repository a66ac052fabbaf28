"""One open job and everything that can be done with it; the window holds nothing else that is worth saving."""

from __future__ import annotations

import dataclasses
import datetime
import re
import secrets
import time
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from vastgrid import catalog
from vastgrid.base.errors import CallError, FormatError, VastGridError
from vastgrid.base.files import refuse_clashes
from vastgrid.base.findings import Finding, Severity
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Unit
from vastgrid.data.dataset import Dataset
from vastgrid.declarations.conversion import Result, listed
from vastgrid.job import store as storage
from vastgrid.job.lineage import Graph, History, Node, Outcome, Role, State
from vastgrid.params import declare
from vastgrid.params.declare import Piece
from vastgrid.session.chains import described
from vastgrid.session.deliver import Delivery, deliver
from vastgrid.session.inspection import Inspection, Noticed
from vastgrid.session.sources import Sources, Units, stamp, units_of, words_of
from vastgrid.session.steps import Source, check_usable, convert, with_known_units
from vastgrid.session.upgrading import upgraded


class Session:
    """An open job.

    Methods that take a `progress` may be slow and belong on a worker thread; they change nothing but the store, and
    return what `accept` then puts into the lineage. All others are quick.

    Parameters
    ----------
    folder : Path
        The job's folder; made if need be.
    """

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.name = folder.name
        self.history = History()
        self.settings: dict[str, Any] = {}
        self.store = storage.Store(folder)
        self.keeper = storage.Keeper(folder)
        self.sources = Sources(self)
        self.inspection = Inspection(lambda: self.settings)
        if (folder / storage.JOB_FILE).exists():
            self.name, history, self.settings = storage.load(folder)
            self.history = upgraded(history, folder / storage.JOB_FILE)

    # -- the job

    @property
    def graph(self) -> Graph:
        """The lineage as it is now."""
        return self.history.graph

    def save(self) -> None:
        """Write the job; every change does it, so nothing waits to be saved."""
        self.keeper.keep(self.name, self.history, self.settings)

    def close(self) -> None:
        """Write what waits to be written; the job is not changed after."""
        self.keeper.close()

    def sweep(self, before: float) -> int:
        """Remove results that no step of the history refers to and that are older than a time; return how many."""
        return self.store.sweep(self.history.digests(), before)

    def save_copy(self, target: Path) -> None:
        """Copy the job to a new folder."""
        self.save()
        self.keeper.flush()
        storage.copy(self.folder, target)

    def change(self, graph: Graph, label: str) -> None:
        """Make a new graph the present one; the one before can be had back by `undo`."""
        self.history = self.history.then(graph, label)
        self.save()

    def accept(self, nodes: Sequence[Node], label: str) -> None:
        """Put new or newly made nodes into the lineage as one step of the history."""
        graph = self.graph
        for node in nodes:
            graph = graph.with_node(node)
        self.change(graph, label)

    def undo(self) -> str:
        """Go one graph back; return what was undone."""
        label = self.history.labels[self.history.at]
        self.history = self.history.undone()
        self.save()
        return label

    def redo(self) -> str:
        """Go one graph on; return what was done again."""
        self.history = self.history.redone()
        self.save()
        return self.history.labels[self.history.at]

    def units(self, more: Sequence[Node] = ()) -> Units:
        """Return the job's units: those of the first source that knows them, `more` counting as the last ones."""
        plan = height = ""
        for node in (*self.graph.nodes.values(), *more):
            if node.role is Role.SOURCE and node.outcome:
                plan = plan or node.outcome.figures.get("horizontal_unit") or ""
                height = height or node.outcome.figures.get("vertical_unit") or ""
        return units_of((plan, height))

    def dataset(self, node: str) -> Dataset | None:
        """Return a node's latest result, also one that is out of date; None for deliveries and what was never made."""
        outcome = self.graph[node].outcome
        if outcome is None or not outcome.digest:
            return None
        return self.store.get(outcome.digest)

    def named_dataset(self, node: str) -> Dataset | None:
        """Return a node's latest result under the node's own name."""
        dataset = self.dataset(node) if node in self.graph else None
        return None if dataset is None else dataset.renamed(self.graph[node].name)

    def known_datasets(self) -> list[Dataset]:
        """Return what came in or was made, for comparing units with; large ones last."""
        found = []
        for node in self.graph.nodes.values():
            if node.outcome is not None and node.outcome.digest:
                try:
                    found.append(self.store.get(node.outcome.digest).renamed(node.name))
                except FormatError:
                    continue
        return sorted(found, key=lambda each: sum(each.count().values()))

    def rename(self, node: str, name: str) -> None:
        """Give a node another name; a clash gets a number."""
        wanted = " ".join(name.split())
        if wanted and wanted != self.graph[node].name:
            free = self.graph.free_name(wanted, node)
            self.change(self.graph.changed(node, name=free), f"rename to {free}")

    def show(self, node: str, shown: bool) -> None:
        """Show or hide a node in the views; no step of the history."""
        self.history = self.history.amended(self.graph.changed(node, shown=shown))
        self.save()

    def remove(self, nodes: Sequence[str]) -> None:
        """Take nodes out of the job, with all that was made from them."""
        names = listed([self.graph[node].name for node in nodes])
        self.change(self.graph.without(nodes), f"remove {names}")

    # -- sentences

    def sentence(self, node: str) -> tuple[Piece, ...]:
        """Return a node's step as a sentence with fields."""
        own = self.graph[node]
        names = [self.graph[i].name for i in own.inputs if i not in own.off]
        if own.role is Role.MADE:
            conversion = catalog.conversion_named(own.operation)
            return conversion.sentence(declare.build(conversion.params, own.words), names)
        kind = catalog.format_named(own.operation)
        file = Path(own.path).name
        if own.role is Role.SOURCE:
            units = [f"; plan in {Unit(own.units[0]).title}" if own.units[0] else ""]
            units.append(f"; heights in {Unit(own.units[1]).title}" if own.units[1] else "")
            return (Piece(f"Read from {file} as {kind.title}{''.join(units)}."),)
        pieces = [Piece(f"{listed(names)} written to {file} as {kind.title}")]
        fields = declare.fields(kind.write_params)
        params = declare.build(kind.write_params, own.words)
        for k, each in enumerate(fields):
            pieces.append(Piece((": " if k == 0 else ", ") + each.param.label.lower() + " "))
            pieces.append(Piece(declare.spoken(each, getattr(params, each.name)), each.name))
        return (*pieces, Piece("."))

    def params_of(self, node: str) -> type:
        """Return the parameter class of a node's step."""
        own = self.graph[node]
        if own.role is Role.MADE:
            return catalog.conversion_named(own.operation).params
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
        own = self.graph[node]
        if len(own.inputs) < 2:
            raise CallError(f"{own.name} has no other source; remove the card itself instead")
        left = tuple(i for i in own.inputs if i != source)
        graph = self.graph.changed(node, inputs=left, off=tuple(i for i in own.off if i != source))
        self.change(graph, f"take {self.graph[source].name} out of {own.name}")

    def add_sources(self, node: str, sources: Sequence[str]) -> None:
        """Give a node more inputs.

        Raises
        ------
        CallError
            If its conversion cannot use them, or they are made from the node itself.
        """
        own = self.graph[node]
        new = [i for i in sources if i not in own.inputs]
        circle = [i for i in new if i == node or i in self.graph.after(node)]
        if circle:
            raise CallError(f"{self.graph[circle[0]].name} is made from {own.name}, so it cannot be its source")
        conversion = catalog.conversion_named(own.operation)
        check_usable(conversion, [self._needed(i) for i in (*own.inputs, *new)])
        graph = self.graph.changed(node, inputs=(*own.inputs, *new)).ordered()
        self.change(graph, f"add {listed([self.graph[i].name for i in new])} to {own.name}")

    def usable_sources(self, node: str) -> list[str]:
        """Return the cards that could become inputs of a node besides those it has."""
        own = self.graph[node]
        conversion = catalog.conversion_named(own.operation)
        if own.role is not Role.MADE or not conversion.many:
            return []
        kinds = {kind.kind for kind in conversion.takes}
        following = {node, *own.inputs, *self.graph.after(node)}
        return [
            each.id
            for each in self.graph.nodes.values()
            if each.id not in following and each.outcome and each.outcome.figures.get("kind") in kinds
        ]

    def paint(self, node: str, colour: str) -> None:
        """Give a node's points and lines a colour in the views; no step of the history."""
        self.history = self.history.amended(self.graph.changed(node, colour=colour))
        self.save()

    def wear(self, node: str, words: dict[str, str]) -> None:
        """Give a node another look in the views; no step of the history."""
        self.history = self.history.amended(self.graph.changed(node, look=words))
        self.save()

    # -- making

    def plan(self, operation: str, inputs: Sequence[str], words: dict[str, str]) -> Node:
        """Return a node that is yet to be made, its open parameters settled.

        Raises
        ------
        CallError
            If the conversion cannot use these inputs, or a parameter is wrong.
        """
        conversion = catalog.conversion_named(operation)
        datasets = [self._needed(i) for i in inputs]
        check_usable(conversion, datasets)
        known, params = with_known_units(datasets, declare.build(conversion.params, words), [])
        params = conversion.settle(known, params)
        name = conversion.name(datasets, params) or conversion.title
        return Node(
            id=secrets.token_hex(4),
            role=Role.MADE,
            operation=operation,
            version=conversion.version,
            name=self.graph.free_name(name),
            words=declare.to_words(params),
            inputs=tuple(inputs),
        )

    def plan_delivery(
        self, operation: str, inputs: Sequence[str], words: dict[str, str], path: Path, units: Units
    ) -> Node:
        """Return a delivery that is yet to be written."""
        kind = catalog.format_named(operation)
        params = declare.build(kind.write_params, words)
        self.refuse_output(path)
        return Node(
            id=secrets.token_hex(4),
            role=Role.DELIVERY,
            operation=operation,
            name=self.graph.free_name(path.name),
            words=declare.to_words(params),
            inputs=tuple(inputs),
            path=str(path.resolve()),
            into=words_of(units),
        )

    def _needed(self, node: str) -> Dataset:
        dataset = self.dataset(node)
        if dataset is None:
            raise CallError(f"{self.graph[node].name} has not been made yet")
        return dataset.renamed(self.graph[node].name)

    def with_word(self, node: str, field: str, text: str) -> Node:
        """Return a node with one parameter changed, checked.

        Raises
        ------
        ParamError
            If the value cannot be.
        """
        own = self.graph[node]
        declared = declare.field_named(self.params_of(node), field)
        value = declare.parse_value(declared, text)
        return self._named_by_sentence(own, {**own.words, field: declare.value_text(value)})

    def with_words(self, node: str, words: dict[str, str]) -> Node:
        """Return a node with several parameters changed at once, checked together.

        Raises
        ------
        ParamError
            If a value cannot be.
        """
        own = self.graph[node]
        made = declare.build(self.params_of(node), {**own.words, **words})
        return self._named_by_sentence(own, declare.to_words(made))

    def _named_by_sentence(self, own: Node, words: dict[str, str]) -> Node:
        """Return a node with other words; one that never was given a name is called by its new sentence."""
        changed = dataclasses.replace(own, words=words)
        before, after = self._usual_name(own), self._usual_name(changed)
        given = re.sub(r" \(\d+\)$", "", own.name) != before
        if given or not after or after == before:
            return changed
        return dataclasses.replace(changed, name=self.graph.free_name(after, own.id))

    def _usual_name(self, own: Node) -> str:
        """Return what a step is called by its sentence; empty for what came in or went out."""
        if own.role is not Role.MADE:
            return ""
        conversion = catalog.conversion_named(own.operation)
        try:
            inputs = [dataset for i in own.inputs if i in self.graph and (dataset := self.named_dataset(i)) is not None]
            if len(inputs) < len(own.inputs):
                return ""
            return conversion.name(inputs, declare.build(conversion.params, own.words)) or conversion.title
        except VastGridError:
            return ""

    def remake(self, graph: Graph, nodes: Sequence[str], progress: Progress) -> Graph:
        """Make nodes of a graph again, in order; return the graph with their outcomes.

        Raises
        ------
        VastGridError
            As soon as one fails; what was made before stays in the store.
        """
        read: dict[tuple[Any, ...], Source] = {}
        for k, node in enumerate(nodes):
            part = progress.part(k / len(nodes), (k + 1) / len(nodes))
            outcome, words = self._make(graph, graph[node], part, read)
            own = self._named_by_sentence(graph[node], words)
            graph = graph.changed(node, words=words, name=own.name)
            graph = graph.changed(node, outcome=dataclasses.replace(outcome, key=graph.key(node)))
        return graph

    def stale(self, graph: Graph, only: Sequence[str] | None = None) -> list[str]:
        """Return what is out of date or was never made, inputs first."""
        return [node for node in graph.nodes if graph.state(node) is not State.MADE and (only is None or node in only)]

    def _make(
        self, graph: Graph, node: Node, progress: Progress, read: dict[tuple[Any, ...], Source]
    ) -> tuple[Outcome, dict[str, str]]:
        began = time.perf_counter()
        if node.role is Role.SOURCE:
            return self.outcome(graph, node, self.sources.result(node, progress, read), began), node.words
        inputs = []
        used = [i for i in node.inputs if i not in node.off]
        if node.inputs and not used:
            raise CallError(f"every source of {node.name} is switched off")
        for i in used:
            outcome = graph[i].outcome
            if outcome is None:
                raise CallError(f"{graph[i].name} has not been made yet")
            inputs.append(self.store.get(outcome.digest).renamed(graph[i].name))
        if node.role is Role.DELIVERY:
            kind = catalog.format_named(node.operation)
            params = declare.build(kind.write_params, node.words)
            self.refuse_output(Path(node.path))
            delivery = deliver(inputs, Path(node.path), kind, params, progress, units_of(node.into))
            return self._delivered(graph, node, delivery), node.words
        conversion = catalog.conversion_named(node.operation)
        result, settled = convert(conversion, inputs, declare.build(conversion.params, node.words), progress, node.name)
        return self.outcome(graph, node, result, began), declare.to_words(settled)

    def outcome(self, graph: Graph, node: Node, result: Result, began: float) -> Outcome:
        """Keep a node's result in the store; return what the lineage remembers of it."""
        figures = described(result.dataset)
        if node.role is Role.SOURCE:
            figures["file"] = list(stamp(Path(node.path)))
        return Outcome(
            key=graph.key(node.id),
            digest=self.store.put(result.dataset),
            figures=figures,
            loss=result.loss.to_json() if result.loss else None,
            findings=tuple(finding.to_json() for finding in result.findings),
            when=_now(),
            seconds=time.perf_counter() - began,
        )

    def refuse_output(self, path: Path) -> None:
        """Refuse to write over a file that the job was read from, or over the job itself.

        Raises
        ------
        CallError
            With the card that was read from it.
        """
        sources = [Path(node.path) for node in self.graph.nodes.values() if node.role is Role.SOURCE]
        refuse_clashes([*dict.fromkeys(sources), self.folder / storage.JOB_FILE], {"the result": path})

    def _delivered(self, graph: Graph, node: Node, delivery: Delivery) -> Outcome:
        return Outcome(
            key=graph.key(node.id),
            digest="",
            figures={"size": delivery.size},
            findings=tuple(finding.to_json() for finding in delivery.findings),
            delivery=delivery.to_json(),
            when=_now(),
            seconds=delivery.seconds,
        )

    def findings(self, node: str) -> list[Finding]:
        """Return what was noticed when a node was made, and what the checks found since."""
        outcome = self.graph[node].outcome
        made = [Finding.from_json(dict(values)) for values in outcome.findings] if outcome else []
        return made + self.inspection.findings(self.graph, node)

    def noticed(self, nodes: Sequence[str] | None = None) -> list[Noticed]:
        """Return the findings of cards (of all, where none are given): open ones first, notes last."""
        found = [
            Noticed(node, finding, self.inspection.accepted(node, finding))
            for node in (self.graph.nodes if nodes is None else nodes)
            for finding in self.findings(node)
        ]
        return sorted(found, key=lambda each: (not each.open, each.finding.severity is Severity.NOTE))


def _now() -> str:
    return datetime.datetime.now().isoformat(timespec="seconds")
