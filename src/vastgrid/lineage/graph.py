"""The lineage graph: what came in, what was made from what, and what went out. Immutable: a change gives a new graph."""

from __future__ import annotations

import dataclasses
import hashlib
import json
from collections.abc import Iterable
from dataclasses import dataclass, field
from enum import Enum
from typing import Any

from vastgrid.base.findings import Finding
from vastgrid.base.quantities import Unit
from vastgrid.data.loss import Loss
from vastgrid.lineage.delivered import Delivery


class Role(Enum):
    """What a step stands for."""

    SOURCE = "source"
    MADE = "made"
    DELIVERY = "delivery"
    # A copy that stays as it is while what it was taken of goes on.
    KEPT = "kept"


class State(Enum):
    """How a node's result relates to what it would be now."""

    MADE = "made"
    STALE = "out of date"
    NEVER = "not made"


@dataclass(frozen=True)
class Given:
    """One result of a node.

    Attributes
    ----------
    digest : str
        Its content in the store; empty for a delivery.
    figures : dict
        Counts, extent, units.
    """

    digest: str = ""
    figures: dict[str, Any] = field(default_factory=dict)


@dataclass(frozen=True)
class Outcome:
    """What running a node gave.

    Attributes
    ----------
    key : str
        What the node was when it ran: operation, words and inputs, in one digest.
    results : dict
        What it gave, by the name of the output.
    settled : dict
        Every parameter in words, as it was settled for these inputs.
    loss : Loss or None
        Vertical cost.
    findings : tuple of Finding
        What was noticed.
    delivery : Delivery or None
        What was written, and what reading it back showed.
    when : str
        Date and time, ISO 8601.
    seconds : float
        How long it took.
    figures : dict
        What the step counted or reached, by name.
    """

    key: str
    results: dict[str, Given] = field(default_factory=dict)
    settled: dict[str, str] = field(default_factory=dict)
    loss: Loss | None = None
    findings: tuple[Finding, ...] = ()
    delivery: Delivery | None = None
    when: str = ""
    seconds: float = 0.0
    figures: dict[str, Any] = field(default_factory=dict)


@dataclass(frozen=True)
class Use:
    """One input of a node: a card, and the role it plays, which is empty where there is only one."""

    card: str
    role: str = ""


@dataclass(frozen=True)
class OutputCard:
    """One of the outputs of a node, and how its card is seen.

    Attributes
    ----------
    card : str
        Id of the card; unique in the job, never used again.
    which : str
        Name of the output in the declaration of the conversion; of a file, the number of the dataset.
    name : str
        Shown name, unique among what can be used as input.
    shown : bool
        Whether the views show it.
    colour : str
        Colour of its points and lines in the views, as #RRGGBB; empty for the usual.
    look : dict
        How the views show it, in words.
    """

    card: str
    which: str = ""
    name: str = ""
    shown: bool = True
    colour: str = ""
    look: dict[str, str] = field(default_factory=dict)


@dataclass(frozen=True)
class Node:
    """One step of the lineage: a file that came in, something made, or a delivery.

    Attributes
    ----------
    id : str
        Unique in the job, never used again.
    role : Role
        Source, made, or delivery.
    operation : str
        Id of the format (source, delivery) or of the conversion.
    version : int
        Version of the conversion that the words belong to.
    words : dict
        What was asked for, as words; what is not in them is settled anew for other inputs.
    uses : tuple of Use
        Its inputs, with their roles.
    outputs : tuple of OutputCard
        What it gives, each a card; one card of the node's own id where nothing is said.
    path : str
        File of a source or delivery.
    fingerprint : str
        Digest of the source file when it was read.
    units, into : tuple of str
        Units said of a source that does not say its own, and units it was brought into (or is delivered in).
    override : bool
        Whether those units count also where the file says others.
    off : tuple of str
        Input cards that are switched off: they stay listed and are not used.
    outcome : Outcome or None
        The latest result.
    """

    id: str
    role: Role
    operation: str
    version: int = 1
    words: dict[str, str] = field(default_factory=dict)
    uses: tuple[Use, ...] = ()
    outputs: tuple[OutputCard, ...] = ()
    path: str = ""
    fingerprint: str = ""
    units: tuple[str, str] = ("", "")
    into: tuple[str, str] = ("", "")
    override: bool = False
    off: tuple[str, ...] = ()
    outcome: Outcome | None = None

    def __post_init__(self) -> None:
        if not self.outputs:
            object.__setattr__(self, "outputs", (OutputCard(self.id),))

    @property
    def inputs(self) -> tuple[str, ...]:
        """Cards it is made from, switched off or not."""
        return tuple(use.card for use in self.uses)

    @property
    def used(self) -> tuple[Use, ...]:
        """Inputs that are not switched off."""
        return tuple(use for use in self.uses if use.card not in self.off)

    @property
    def name(self) -> str:
        """Name of its first card, which is the name of the step."""
        return self.outputs[0].name

    def cards(self) -> tuple[Card, ...]:
        """Return its cards."""
        return tuple(Card(self, output) for output in self.outputs)

    def with_name(self, name: str) -> Node:
        """Return the node with its first card called otherwise."""
        first = dataclasses.replace(self.outputs[0], name=name)
        return dataclasses.replace(self, outputs=(first, *self.outputs[1:]))


_OF_OUTPUT = {each.name for each in dataclasses.fields(OutputCard)} - {"card", "which"}


@dataclass(frozen=True)
class Card:
    """One output of a node as the window shows it: what it is called, how it is seen, and the step behind it."""

    node: Node
    output: OutputCard

    @property
    def id(self) -> str:
        """Id of the card."""
        return self.output.card

    @property
    def name(self) -> str:
        """Shown name."""
        return self.output.name

    @property
    def shown(self) -> bool:
        """Whether the views show it."""
        return self.output.shown

    @property
    def colour(self) -> str:
        """Its own colour, or empty."""
        return self.output.colour

    @property
    def look(self) -> dict[str, str]:
        """How the views show it, in words."""
        return self.output.look

    @property
    def role(self) -> Role:
        """What its step stands for."""
        return self.node.role

    @property
    def operation(self) -> str:
        """Id of the format or conversion."""
        return self.node.operation

    @property
    def words(self) -> dict[str, str]:
        """What was asked for."""
        return self.node.words

    @property
    def inputs(self) -> tuple[str, ...]:
        """Cards its step is made from."""
        return self.node.inputs

    @property
    def off(self) -> tuple[str, ...]:
        """Input cards that are switched off."""
        return self.node.off

    @property
    def path(self) -> str:
        """File of a source or delivery."""
        return self.node.path

    @property
    def outcome(self) -> Outcome | None:
        """What running its step gave."""
        return self.node.outcome

    @property
    def _given(self) -> Given | None:
        return self.node.outcome.results.get(self.output.which) if self.node.outcome else None

    @property
    def digest(self) -> str:
        """Its content in the store; empty for a delivery and for what was never made."""
        return self._given.digest if self._given else ""

    @property
    def figures(self) -> dict[str, Any]:
        """Counts, extent and units; empty for what was never made."""
        return self._given.figures if self._given else {}

    @property
    def kind(self) -> str:
        """Kind of its data; empty for a delivery and for what was never made."""
        return str(self.figures.get("kind", ""))


@dataclass(frozen=True)
class Graph:
    """All nodes by id, inputs always before what uses them, and their cards; `graph[card]` is a card."""

    nodes: dict[str, Node] = field(default_factory=dict)
    # Worked out once: a ladder of merges would ask for the same state again and again.
    _states: dict[str, State] = field(default_factory=dict, init=False, repr=False, compare=False)
    _cards: dict[str, Card] = field(default_factory=dict, init=False, repr=False, compare=False)

    @property
    def cards(self) -> dict[str, Card]:
        """All cards by id, in the order of their nodes."""
        if not self._cards:
            self._cards.update((card.id, card) for node in self.nodes.values() for card in node.cards())
        return self._cards

    def __getitem__(self, card: str) -> Card:
        return self.cards[card]

    def __contains__(self, card: str) -> bool:
        return card in self.cards

    def node(self, card: str) -> Node:
        """Return the step that a card belongs to."""
        return self.cards[card].node

    def with_node(self, node: Node) -> Graph:
        """Return the graph with a node added or replaced."""
        return Graph({**self.nodes, node.id: node})

    def changed(self, card: str, **values: Any) -> Graph:
        """Return the graph with some values of a card, or of the step behind it, changed."""
        own = self.cards[card]
        of_output = {name: value for name, value in values.items() if name in _OF_OUTPUT}
        of_node = {name: value for name, value in values.items() if name not in _OF_OUTPUT}
        if of_output:
            output = dataclasses.replace(own.output, **of_output)
            of_node["outputs"] = tuple(output if each.card == card else each for each in own.node.outputs)
        return self.with_node(dataclasses.replace(own.node, **of_node))

    def without(self, gone: Iterable[str]) -> Graph:
        """Return the graph without some cards and all that was made from them."""
        dropped = set(gone)
        for card in list(dropped):
            dropped |= set(self.after(card))
        nodes = {}
        for node in self.nodes.values():
            left = tuple(output for output in node.outputs if output.card not in dropped)
            if left:
                nodes[node.id] = node if len(left) == len(node.outputs) else dataclasses.replace(node, outputs=left)
        return Graph(nodes)

    def moved_over(self, card: str, to: str) -> Graph:
        """Return the graph with all that uses one card using another instead, but for the step that the other belongs to."""
        own = self.node(to).id
        nodes = dict(self.nodes)
        for key, node in nodes.items():
            if key != own and card in node.inputs and to not in node.inputs:
                uses = tuple(dataclasses.replace(use, card=to) if use.card == card else use for use in node.uses)
                off = tuple(to if each == card else each for each in node.off)
                nodes[key] = dataclasses.replace(node, uses=uses, off=off)
        return Graph(nodes).ordered()

    def ordered(self) -> Graph:
        """Return the graph with inputs before what uses them, the order otherwise kept."""
        done: dict[str, Node] = {}
        for first in self.nodes.values():
            waiting = [first]
            while waiting:
                node = waiting[-1]
                before = [own for i in node.inputs if (own := self.node(i)).id not in done and own is not node]
                if before and node.id not in done:
                    waiting += reversed(before)
                    continue
                done.setdefault(node.id, node)
                waiting.pop()
        return Graph(done)

    def key(self, card: str) -> str:
        """Return what a card's step is now, in one digest: it differs from its outcome's once anything before it changed."""
        node = self.node(card)
        before = [(use.role, self.cards[use.card].digest) for use in node.used]
        what = [
            node.operation,
            node.version,
            node.words,
            node.path,
            node.fingerprint,
            node.units,
            node.into,
            node.override,
            before,
        ]
        return hashlib.blake2b(json.dumps(what, sort_keys=True).encode(), digest_size=12).hexdigest()

    def state(self, card: str) -> State:
        """Return whether a card's result is what it would be now; stale inputs make it stale."""
        # From the inputs on, without calling itself: a chain may be longer than the language allows calls.
        waiting = [self.node(card)]
        while waiting:
            own = waiting[-1]
            used = [self.node(use.card) for use in own.used]
            unknown = [each for each in used if each.id not in self._states]
            if own.outcome is not None and unknown and own.id not in self._states:
                waiting += unknown
                continue
            waiting.pop()
            if own.outcome is None:
                self._states[own.id] = State.NEVER
            elif own.outcome.key != self.key(own.outputs[0].card) or any(
                self._states[each.id] is not State.MADE for each in used
            ):
                self._states[own.id] = State.STALE
            else:
                self._states[own.id] = State.MADE
        return self._states[self.node(card).id]

    def dressed_as(self, other: Graph) -> Graph:
        """Return the graph with each card seen as in another graph: looks are no steps of the history."""
        nodes = dict(self.nodes)
        for key, node in nodes.items():
            outputs = []
            for output in node.outputs:
                seen = other.cards[output.card].output if output.card in other else output
                if (seen.shown, seen.colour, seen.look) != (output.shown, output.colour, output.look):
                    output = dataclasses.replace(output, shown=seen.shown, colour=seen.colour, look=seen.look)
                outputs.append(output)
            if any(one is not other for one, other in zip(outputs, node.outputs, strict=True)):
                nodes[key] = dataclasses.replace(node, outputs=tuple(outputs))
        return Graph(nodes)

    def after(self, card: str) -> list[str]:
        """Return the cards of all that was made from a card, directly or not, inputs first."""
        reached = {card}
        found = []
        for node in self.nodes.values():
            if any(use.card in reached for use in node.uses):
                own = [output.card for output in node.outputs]
                reached |= set(own)
                found += own
        return found

    def before(self, card: str, *, used: bool = False) -> set[str]:
        """Return the cards that a card was made from, directly or not, itself included.

        Parameters
        ----------
        used : bool
            Leave out what is switched off.
        """
        found = {card}
        waiting = [card]
        while waiting:
            node = self.node(waiting.pop())
            for use in node.used if used else node.uses:
                if use.card not in found:
                    found.add(use.card)
                    waiting.append(use.card)
        return found

    def free_name(self, wanted: str, but: str = "") -> str:
        """Return the name, numbered if another card has it already."""
        taken = {card.name for card in self.cards.values() if card.id != but}
        name, number = wanted, 2
        while name in taken:
            name, number = f"{wanted} ({number})", number + 1
        return name


def node_values(node: Node) -> dict[str, Any]:
    """Return a node as plain values."""
    # Fields by name, not by `dataclasses.asdict`: that copies everything once more.
    values: dict[str, Any] = {each.name: getattr(node, each.name) for each in dataclasses.fields(node)}
    values["role"] = node.role.value
    values["uses"] = [[use.card, use.role] for use in node.uses]
    values["outputs"] = [_values(output) for output in node.outputs]
    if node.outcome is not None:
        outcome = _values(node.outcome)
        outcome["results"] = {name: _values(given) for name, given in node.outcome.results.items()}
        outcome["loss"] = node.outcome.loss.to_json() if node.outcome.loss else None
        outcome["findings"] = [finding.to_json() for finding in node.outcome.findings]
        outcome["delivery"] = node.outcome.delivery.to_json() if node.outcome.delivery else None
        values["outcome"] = outcome
    return values


def _values(own: Any) -> dict[str, Any]:
    return {each.name: getattr(own, each.name) for each in dataclasses.fields(own)}


def node_of(value: dict[str, Any]) -> Node:
    """Return the node that `node_values` gave.

    Raises
    ------
    KeyError, TypeError, ValueError
        If the values are none.
    """
    own: dict[str, Any] = {key: tuple(item) if isinstance(item, list) else item for key, item in value.items()}
    own["role"] = Role(value["role"])
    own["uses"] = tuple(Use(card, role) for card, role in value["uses"])
    own["outputs"] = tuple(OutputCard(**output) for output in value["outputs"])
    outcome = value.get("outcome")
    if outcome is not None:
        results = {name: Given(**given) for name, given in outcome["results"].items()}
        typed = {
            "results": results,
            "loss": Loss.from_json(outcome["loss"]) if outcome.get("loss") else None,
            "findings": tuple(Finding.from_json(finding) for finding in outcome["findings"]),
            "delivery": Delivery.from_json(outcome["delivery"]) if outcome.get("delivery") else None,
        }
        own["outcome"] = Outcome(**{**outcome, **typed})
    node = Node(**own)
    _check_types(node)
    return node


_UNITS = {"", *(unit.value for unit in Unit)}


def _check_types(node: Node) -> None:
    """Refuse values of other kinds than a node has: a damaged file would go wrong much later.

    Raises
    ------
    ValueError
        If one is.
    """
    texts = [node.id, node.operation, node.path, node.fingerprint, *node.units, *node.into, *node.off]
    texts += [*node.words, *node.words.values()]
    texts += [text for use in node.uses for text in (use.card, use.role)]
    texts += [text for output in node.outputs for text in (output.card, output.which, output.name)]
    if not all(isinstance(text, str) for text in texts) or len(node.units) != 2 or len(node.into) != 2:
        raise ValueError("a step's words are not texts")
    if not isinstance(node.version, int) or not node.id or not {*node.units, *node.into} <= _UNITS:
        raise ValueError("a step has no id, no version, or units that are unknown")
    outcome = node.outcome
    if outcome is None:
        return
    if not all(isinstance(text, str) for pair in outcome.settled.items() for text in pair):
        raise ValueError("an outcome's words are not texts")
    for given in outcome.results.values():
        said = [given.figures.get(key) or "" for key in ("kind", "horizontal_unit", "vertical_unit")]
        if not all(isinstance(text, str) for text in (given.digest, *said)):
            raise ValueError("a result has no digest, no kind, or no unit")
