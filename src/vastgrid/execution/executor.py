"""The one place where steps are run: for the window on a job's store, for the command line in memory."""

from __future__ import annotations

import dataclasses
import datetime
import re
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any, Protocol

from vastgrid import catalog
from vastgrid.base.errors import CallError, DataError, FormatError, VastGridError
from vastgrid.base.findings import Finding, note
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Unit, unit_word
from vastgrid.base.words import gap_words
from vastgrid.data.dataset import Dataset
from vastgrid.declarations.conversion import Conversion, Inputs, Result, listed
from vastgrid.execution.describing import described
from vastgrid.execution.nodes import NodeBuilder, new_card, references
from vastgrid.execution.steps import check_usable, convert, in_one_frame, read_file, roles_of, settled
from vastgrid.lineage.checkpoints import Checkpoints
from vastgrid.lineage.graph import Given, Graph, Node, Outcome, Role, Use
from vastgrid.lineage.payloads import Payloads
from vastgrid.measures.difference import difference
from vastgrid.measures.heights import surface_of
from vastgrid.params import declare
from vastgrid.terrain.place.units import in_units

if TYPE_CHECKING:
    from vastgrid.lineage.delivered import Delivery

Units = tuple[Unit | None, Unit | None]


class Keeping(Protocol):
    """Where results are kept."""

    @property
    def payloads(self) -> Payloads:
        """Long words and logs."""

    def put(self, dataset: Dataset) -> str:
        """Keep a dataset; return its digest."""

    def get(self, digest: str) -> Dataset:
        """Return a dataset."""


@dataclass(frozen=True, slots=True)
class StepResult:
    """What running one node gave, before it is kept."""

    datasets: dict[str, Dataset]
    findings: tuple[Any, ...] = ()
    loss: Any = None
    settled: dict[str, str] | None = None
    delivery: Delivery | None = None
    figures: dict[str, Any] = dataclasses.field(default_factory=dict)


# What differs by no more than this is the same ground.
_NOTHING = 0.0005


class Executor:
    """Runs nodes of a graph.

    Parameters
    ----------
    store : Keeping
        Where results are kept.
    refuse : callable
        Called with the path of a delivery before it is written; raises CallError where nothing may be written.
    """

    def __init__(self, store: Keeping, refuse: Callable[[Path], None] = lambda path: None) -> None:
        self.store = store
        self.nodes = NodeBuilder(store.payloads)
        self.checkpoints = Checkpoints()
        self._refuse = refuse

    # -- what nodes are made of

    def words(self, node: Node) -> dict[str, str]:
        """Return a node's words in full."""
        return self.store.payloads.full(node.words)

    def dataset(self, graph: Graph, card: str) -> Dataset:
        """Return a card's latest result under its name.

        Raises
        ------
        CallError
            If it has not been made yet.
        """
        own = graph[card]
        if not own.digest:
            raise CallError(f"{own.name} has not been made yet")
        return self.store.get(own.digest).renamed(own.name)

    def inputs(self, graph: Graph, node: Node) -> Inputs:
        """Return the datasets that a node uses, with their roles.

        Raises
        ------
        CallError
            If all are switched off, or one has not been made yet.
        """
        if node.uses and not node.used:
            raise CallError(f"every source of {node.name} is switched off")
        return Inputs.of_pairs((use.role, self.dataset(graph, use.card)) for use in node.used)

    def planned(
        self, graph: Graph, operation: str, inputs: Sequence[str], words: dict[str, str], roles: Sequence[str] = ()
    ) -> Node:
        """Return a node that is yet to be made: what is asked of it, and its inputs in their roles.

        Raises
        ------
        CallError
            If the conversion cannot use these inputs, or a parameter is wrong.
        """
        conversion = catalog.conversion_named(operation)
        datasets = [self.dataset(graph, i) for i in inputs]
        said = roles_of(conversion, datasets, roles)
        given = check_usable(conversion, datasets, said)
        uses = [Use(card, role) for card, role in zip(inputs, said, strict=True)]
        params = settled(conversion, given, declare.build(conversion.params, self.store.payloads.full(words)))
        name = conversion.name(given, params) or conversion.title
        outputs = []
        for k, output in enumerate(conversion.outputs):
            called = name if k == 0 else f"{name}, {output.title or output.name}"
            names = {use.role: graph[use.card].name for use in uses}
            look = {key: text.format(**names) for key, text in output.look.items()}
            outputs.append(new_card(output.name, graph.free_name(called), look=look))
        return self.nodes.conversion(conversion, uses, words, outputs)

    def planned_delivery(
        self, graph: Graph, operation: str, cards: Sequence[str], words: dict[str, str], path: Path, units: Units
    ) -> Node:
        """Return a delivery that is yet to be written.

        Raises
        ------
        CallError
            If an option is wrong.
        """
        kind = catalog.format_named(operation)
        return self.nodes.delivery(kind, path, cards, words, graph.free_name(path.name), words_of(units))

    def settled_words(self, graph: Graph, node: Node) -> dict[str, str]:
        """Return all parameters of a node in words, as they are for its inputs now.

        Raises
        ------
        VastGridError
            If they cannot be for these inputs.
        """
        conversion = catalog.conversion_named(node.operation)
        params = declare.build(conversion.params, self.words(node))
        return declare.to_words(settled(conversion, self.inputs(graph, node), params))

    def usual_name(self, graph: Graph, node: Node, words: dict[str, str]) -> str:
        """Return what a step is called by its sentence; empty for what came in or went out."""
        if node.role is not Role.MADE:
            return ""
        conversion = catalog.conversion_named(node.operation)
        try:
            inputs = Inputs.of_pairs((use.role, self.dataset(graph, use.card)) for use in node.uses)
            return conversion.name(inputs, declare.build(conversion.params, words)) or conversion.title
        except (VastGridError, KeyError):
            return ""

    # -- running

    def remake(self, graph: Graph, cards: Sequence[str], progress: Progress) -> Graph:
        """Run the steps behind cards, in order; return the graph with their outcomes.

        Raises
        ------
        VastGridError
            As soon as one fails; what was made before stays in the store.
        """
        steps = list(dict.fromkeys(graph.node(card).id for card in cards))
        for k, step in enumerate(steps):
            graph = self.make(graph, step, progress.part(k / len(steps), (k + 1) / len(steps)))
        return graph

    def make(self, graph: Graph, step: str, progress: Progress) -> Graph:
        """Run one step; return the graph with its outcome."""
        began = time.perf_counter()
        node = graph.nodes[step]
        if node.role is Role.KEPT:
            # It stays as it is.
            return graph
        if node.role is Role.SOURCE:
            return self.kept(graph, node, self.read(node, progress), began)
        if node.role is Role.DELIVERY:
            return self.kept(graph, node, self._delivered(graph, node, progress), began)
        return self.kept(graph, node, self._converted(graph, node, progress), began)

    def kept(self, graph: Graph, node: Node, made: StepResult, began: float) -> Graph:
        """Keep what a node gave; return the graph with the node and its outcome."""
        results: dict[str, Given] = {}
        if made.delivery is not None:
            results[""] = Given("", {"size": made.delivery.size})
        read_when = list(stamp(Path(node.path))) if node.role is Role.SOURCE else None
        for output in node.outputs:
            dataset = made.datasets.get(output.which)
            if dataset is None:
                if made.delivery is None:
                    raise FormatError(node.path, f"it does not hold what {output.name} was read from")
                continue
            figures = described(dataset)
            if read_when:
                figures["file"] = read_when
            results[output.which] = Given(self.store.put(dataset), figures)
        before = self.store.payloads.full(node.outcome.settled) if node.outcome else None
        if node.role is Role.MADE and before and made.settled and before != made.settled:
            node = self.renamed(graph, node, before, made.settled)
        graph = graph.with_node(node)
        outcome = Outcome(
            key=graph.key(node.outputs[0].card),
            results=results,
            # What stands elsewhere already is not kept a second time.
            settled=self.store.payloads.kept({**made.settled, **references(node.words)} if made.settled else {}),
            loss=made.loss,
            findings=tuple(made.findings),
            delivery=made.delivery,
            when=datetime.datetime.now().isoformat(timespec="seconds"),
            seconds=made.delivery.seconds if made.delivery else time.perf_counter() - began,
            figures=made.figures,
        )
        return graph.with_node(dataclasses.replace(node, outcome=outcome))

    def renamed(
        self, graph: Graph, node: Node, before: dict[str, str], after: dict[str, str], old: Node | None = None
    ) -> Node:
        """Return a node that is called by its new sentence, if it was called by the one before.

        Parameters
        ----------
        old : Node or None
            What it was, where more than its words has changed.
        """
        was, now = self.usual_name(graph, old or node, before), self.usual_name(graph, node, after)
        given = re.sub(r" \(\d+\)$", "", node.name) != was
        if given or not now or now == was:
            return node
        return node.with_name(graph.free_name(now, node.outputs[0].card))

    # -- the three kinds of step

    def read(self, node: Node, progress: Progress) -> StepResult:
        """Read a source's file as the node says.

        Raises
        ------
        FormatError
            If the file cannot be read.
        """
        units = units_of(node.units)
        source = read_file(Path(node.path), self.words(node), progress, units, override=node.override)
        brought = {str(k): into_units(each, units_of(node.into)) for k, each in enumerate(source.datasets)}
        return StepResult(brought, source.findings)

    def _delivered(self, graph: Graph, node: Node, progress: Progress) -> StepResult:
        from vastgrid.delivery.deliver import deliver

        kind = catalog.format_named(node.operation)
        params = declare.build(kind.write_params, self.words(node))
        self._refuse(Path(node.path))
        inputs: Sequence[Dataset] = self.inputs(graph, node)
        noticed: list[Finding] = []
        if not kind.carries_with(params).geographic:
            inputs = in_one_frame(inputs, noticed)
        made = deliver(inputs, Path(node.path), kind, params, progress, units_of(node.into), self._refuse)
        delivery = dataclasses.replace(made, findings=(*noticed, *made.findings), cost=self._cost(graph, node))
        return StepResult({}, delivery.findings, delivery=delivery)

    def _cost(self, graph: Graph, node: Node) -> str:
        """Return how far what goes out differs from what came in, by the step behind it that cost most."""
        behind, worst, of = list(node.inputs), None, ""
        seen: set[str] = set()
        while behind:
            own = graph.node(behind.pop())
            if own.id in seen:
                continue
            seen.add(own.id)
            behind += own.inputs
            loss = own.outcome.loss if own.outcome is not None else None
            if loss is not None and loss.largest > _NOTHING and (worst is None or loss.largest > worst.largest):
                role = catalog.conversion_named(own.operation).measured_role
                names = [graph[use.card].name for use in own.uses if use.role == role]
                worst, of = loss, listed(names)
        if worst is None:
            return ""
        unit = unit_word(worst.unit)
        return f"its ground differs from that of {of} by up to {gap_words(worst.largest)}{unit}, by no more than {gap_words(worst.p95)}{unit} for 95 % of it"

    def _converted(self, graph: Graph, node: Node, progress: Progress) -> StepResult:
        conversion = catalog.conversion_named(node.operation)
        inputs = self.inputs(graph, node)
        params = declare.build(conversion.params, self.words(node))
        if conversion.resumes:
            return self._resumed(conversion, inputs, params, progress, node)
        result, found = convert(conversion, inputs, params, progress.part(0.0, 0.95), node.name)
        made = _made(conversion, node, result, found)
        told = self._in_all(graph, node, conversion, result.dataset, progress.part(0.95, 1.0))
        return dataclasses.replace(made, findings=(*made.findings, *told))

    def _in_all(
        self, graph: Graph, node: Node, conversion: Conversion, made: Dataset, progress: Progress
    ) -> list[Finding]:
        """Return what a chain of conversions has cost in all, where it led from one surface over others to this one."""
        surface = surface_of(made)
        if surface is None or conversion.keeps or not conversion.single or len(node.uses) != 1:
            return []
        root: Dataset | None = None
        card, steps = node.uses[0].card, 0
        while True:
            own = graph.node(card)
            above = surface_of(self.dataset(graph, card))
            if steps and above is not None:
                root = above
            if own.role is not Role.MADE or len(own.uses) != 1:
                break
            step = catalog.conversion_named(own.operation)
            # What is changed on purpose is no cost.
            if step.keeps or not step.single:
                break
            card, steps = own.uses[0].card, steps + 1
        first = surface_of(root)
        if first is None or first.frame != surface.frame:
            return []
        try:
            loss = difference(first, surface, progress)
        except DataError:
            return []
        return [note("in-all", f"In all, over {steps + 1} steps since {first.name}: {loss.sentence()}.", loss.at)]

    def _resumed(
        self, conversion: Conversion, inputs: Inputs, params: Any, progress: Progress, node: Node
    ) -> StepResult:
        """Run a conversion whose parameter grows: from what was made for the longest beginning of it."""
        whole = getattr(params, conversion.resumes)
        base = self.checkpoints.base(conversion, inputs, params)
        done, digest, findings, figures = self.checkpoints.nearest(base, whole, self.store)
        if digest:
            inputs = inputs.with_datasets([self.store.get(digest).renamed(inputs[0].name), *inputs[1:]])
        rest = dataclasses.replace(params, **{conversion.resumes: whole.rest(done)})
        result, found = convert(conversion, inputs, rest, progress, node.name)
        found = dataclasses.replace(found, **{conversion.resumes: whole})
        told = (*findings, *(each for each in result.findings if each not in findings))
        counted = {name: value + figures.get(name, 0) for name, value in result.figures.items()}
        self.checkpoints.remember(base, whole, self.store.put(result.dataset), told, counted)
        return _made(conversion, node, dataclasses.replace(result, findings=told, figures=counted), found)


def _made(conversion: Conversion, node: Node, result: Result, found: Any) -> StepResult:
    datasets = outputs_of(conversion, node, result)
    return StepResult(datasets, result.findings, result.loss, declare.to_words(found), figures=dict(result.figures))


def outputs_of(conversion: Conversion, node: Node, result: Result) -> dict[str, Dataset]:
    """Return what a conversion gave by the names of its outputs, each under its card's name."""
    made = {conversion.outputs[0].name: result.dataset, **result.more}
    names = {output.which: output.name for output in node.outputs}
    return {name: dataset.renamed(names.get(name) or dataset.name) for name, dataset in made.items()}


def into_units(dataset: Dataset, units: Units) -> Dataset:
    """Return a dataset in a job's units: what is known of its own is brought into them, degrees stay degrees."""
    if Unit.DEGREE in (dataset.frame.horizontal, units[0]) or not dataset.located:
        return dataset
    plan = units[0] if dataset.frame.horizontal else None
    height = units[1] if dataset.frame.vertical and dataset.has_lengths else None
    return in_units(dataset, plan, height)


def words_of(units: Units) -> tuple[str, str]:
    """Return units as they are kept in a node."""
    return (units[0].value if units[0] else "", units[1].value if units[1] else "")


def units_of(words: tuple[str, str]) -> Units:
    """Return the units that a node keeps as words."""
    return (Unit(words[0]) if words[0] else None, Unit(words[1]) if words[1] else None)


def stamp(path: Path) -> tuple[int, int]:
    """Return size and time of a file, which tell at once that it may have changed."""
    about = path.stat()
    return about.st_size, about.st_mtime_ns
