"""The lineage graph: what came in, what was made from what, and what went out. Immutable: a change gives a new graph."""

from __future__ import annotations

import dataclasses
import hashlib
import json
from collections.abc import Iterable
from dataclasses import dataclass, field
from enum import Enum
from typing import Any


class Role(Enum):
    """What a node stands for."""

    SOURCE = "source"
    MADE = "made"
    DELIVERY = "delivery"


class State(Enum):
    """How a node's result relates to what it would be now."""

    MADE = "made"
    STALE = "out of date"
    NEVER = "not made"


@dataclass(frozen=True)
class Outcome:
    """What running a node gave.

    Attributes
    ----------
    key : str
        What the node was when it ran: operation, parameters and inputs, in one digest.
    digest : str
        Content of the result in the store; empty for a delivery.
    figures : dict
        Counts, extent, units of the result.
    loss : dict or None
        Vertical cost, as `Loss.to_json` gives it.
    findings : tuple of dict
        As `Finding.to_json` gives them.
    delivery : dict or None
        Read-back report.
    when : str
        Date and time, ISO 8601.
    seconds : float
        How long it took.
    """

    key: str
    digest: str
    figures: dict[str, Any]
    loss: dict[str, Any] | None = None
    findings: tuple[dict[str, Any], ...] = ()
    delivery: dict[str, Any] | None = None
    when: str = ""
    seconds: float = 0.0


@dataclass(frozen=True)
class Node:
    """One card of the lineage.

    Attributes
    ----------
    id : str
        Unique in the job, never used again.
    role : Role
        Source, made, or delivery.
    operation : str
        Id of the format (source, delivery) or of the conversion.
    version : int
        Version of the conversion that the parameters belong to.
    name : str
        Shown name, unique among what can be used as input.
    words : dict
        Parameters as words.
    inputs : tuple of str
        Node ids.
    path : str
        File of a source or delivery.
    item : int
        Which of the file's datasets a source is.
    fingerprint : str
        Digest of the source file when it was read.
    units, into : tuple of str
        Units said of a source that does not say its own, and units it was brought into (or is delivered in).
    override : bool
        Whether those units count also where the file says others.
    off : tuple of str
        Inputs that are switched off: they stay listed and are not used.
    shown : bool
        Whether the views show it.
    colour : str
        Colour of its points and lines in the views, as #RRGGBB; empty for the usual.
    look : dict
        How the views show it, in words.
    outcome : Outcome or None
        The latest result.
    """

    id: str
    role: Role
    operation: str
    version: int = 1
    name: str = ""
    words: dict[str, str] = field(default_factory=dict)
    inputs: tuple[str, ...] = ()
    path: str = ""
    item: int = 0
    fingerprint: str = ""
    units: tuple[str, str] = ("", "")
    into: tuple[str, str] = ("", "")
    override: bool = False
    off: tuple[str, ...] = ()
    shown: bool = True
    colour: str = ""
    look: dict[str, str] = field(default_factory=dict)
    outcome: Outcome | None = None


@dataclass(frozen=True)
class Graph:
    """All nodes by id, inputs always before what uses them."""

    nodes: dict[str, Node] = field(default_factory=dict)
    # Worked out once: a ladder of merges would ask for the same state again and again.
    _states: dict[str, State] = field(default_factory=dict, init=False, repr=False, compare=False)

    def __getitem__(self, node: str) -> Node:
        return self.nodes[node]

    def __contains__(self, node: str) -> bool:
        return node in self.nodes

    def with_node(self, node: Node) -> Graph:
        """Return the graph with a node added or replaced."""
        return Graph({**self.nodes, node.id: node})

    def changed(self, node: str, **values: Any) -> Graph:
        """Return the graph with some values of a node changed."""
        return self.with_node(dataclasses.replace(self.nodes[node], **values))

    def without(self, gone: Iterable[str]) -> Graph:
        """Return the graph without some nodes and all that was made from them."""
        dropped = set(gone)
        for node in self.nodes.values():
            if dropped & set(node.inputs):
                dropped.add(node.id)
        return Graph({key: node for key, node in self.nodes.items() if key not in dropped})

    def ordered(self) -> Graph:
        """Return the graph with inputs before what uses them, the order otherwise kept."""
        done: dict[str, Node] = {}

        def visit(node: str) -> None:
            if node not in done:
                for i in self.nodes[node].inputs:
                    visit(i)
                done[node] = self.nodes[node]

        for node in self.nodes:
            visit(node)
        return Graph(done)

    def key(self, node: str) -> str:
        """Return what a node is now, in one digest: it differs from its outcome's once anything before it changed."""
        own = self.nodes[node]
        before = [outcome.digest if (outcome := self.nodes[i].outcome) else "" for i in own.inputs if i not in own.off]
        what = [
            own.operation,
            own.version,
            own.words,
            own.path,
            own.item,
            own.fingerprint,
            own.units,
            own.into,
            own.override,
            before,
        ]
        return hashlib.blake2b(json.dumps(what, sort_keys=True).encode(), digest_size=12).hexdigest()

    def state(self, node: str) -> State:
        """Return whether a node's result is what it would be now; stale inputs make it stale."""
        # From the inputs on, without calling itself: a chain may be longer than the language allows calls.
        waiting = [node]
        while waiting:
            own = self.nodes[waiting[-1]]
            used = [i for i in own.inputs if i not in own.off]
            unknown = [i for i in used if i not in self._states]
            if own.outcome is not None and unknown and own.id not in self._states:
                waiting += unknown
                continue
            waiting.pop()
            if own.outcome is None:
                self._states[own.id] = State.NEVER
            elif own.outcome.key != self.key(own.id) or any(self._states[i] is not State.MADE for i in used):
                self._states[own.id] = State.STALE
            else:
                self._states[own.id] = State.MADE
        return self._states[node]

    def dressed_as(self, other: Graph) -> Graph:
        """Return the graph with each card seen as in another graph: looks are no steps of the history."""
        nodes = dict(self.nodes)
        for key, node in nodes.items():
            now = other.nodes.get(key)
            if now is not None and (now.shown, now.colour, now.look) != (node.shown, node.colour, node.look):
                nodes[key] = dataclasses.replace(node, shown=now.shown, colour=now.colour, look=now.look)
        return Graph(nodes)

    def after(self, node: str) -> list[str]:
        """Return all that was made from a node, directly or not, inputs first."""
        reached = {node}
        found = []
        for each in self.nodes.values():
            if reached & set(each.inputs):
                reached.add(each.id)
                found.append(each.id)
        return found

    def free_name(self, wanted: str, but: str = "") -> str:
        """Return the name, numbered if another node has it already."""
        taken = {node.name for node in self.nodes.values() if node.id != but}
        name, number = wanted, 2
        while name in taken:
            name, number = f"{wanted} ({number})", number + 1
        return name

    def to_json(self) -> list[dict[str, Any]]:
        """Return plain values."""
        return [{**dataclasses.asdict(node), "role": node.role.value} for node in self.nodes.values()]

    @staticmethod
    def from_json(values: list[dict[str, Any]]) -> Graph:
        """Return the graph that `to_json` gave.

        Raises
        ------
        KeyError, TypeError, ValueError
            If the values are not a graph.
        """
        nodes = {}
        for value in values:
            outcome = value.get("outcome")
            own: dict[str, Any] = {key: tuple(item) if isinstance(item, list) else item for key, item in value.items()}
            own["role"] = Role(value["role"])
            if outcome is not None:
                own["outcome"] = Outcome(**{**outcome, "findings": tuple(outcome["findings"])})
            nodes[own["id"]] = Node(**own)
        return Graph(nodes)


@dataclass(frozen=True)
class History:
    """Every graph the job has been, and which one it is now."""

    graphs: tuple[Graph, ...] = (Graph(),)
    labels: tuple[str, ...] = ("an empty job",)
    at: int = 0

    @property
    def graph(self) -> Graph:
        """The graph now."""
        return self.graphs[self.at]

    def then(self, graph: Graph, label: str) -> History:
        """Return the history with a new graph; what had been undone is forgotten."""
        return History((*self.graphs[: self.at + 1], graph), (*self.labels[: self.at + 1], label), self.at + 1)

    def amended(self, graph: Graph) -> History:
        """Return the history with the present graph replaced: for results, which are no decision of the user."""
        return History((*self.graphs[: self.at], graph, *self.graphs[self.at + 1 :]), self.labels, self.at)

    @property
    def can_undo(self) -> bool:
        """Whether there is something before."""
        return self.at > 0

    @property
    def can_redo(self) -> bool:
        """Whether something was undone."""
        return self.at < len(self.graphs) - 1

    def undone(self) -> History:
        """Return the history one graph back; how cards are seen stays as it is."""
        return self._moved(max(self.at - 1, 0))

    def redone(self) -> History:
        """Return the history one graph on; how cards are seen stays as it is."""
        return self._moved(min(self.at + 1, len(self.graphs) - 1))

    def _moved(self, at: int) -> History:
        return dataclasses.replace(self, at=at).amended(self.graphs[at].dressed_as(self.graph))

    def digests(self) -> set[str]:
        """Return what any of its graphs has in the store."""
        return {node.outcome.digest for graph in self.graphs for node in graph.nodes.values() if node.outcome}
