"""The steps behind a card as a recipe."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from pathlib import Path

from vastgrid import catalog
from vastgrid.base.errors import CallError
from vastgrid.data.dataset import Dataset
from vastgrid.data.kinds import kind_named
from vastgrid.data.table import Table
from vastgrid.declarations.fileformat import Format, losses
from vastgrid.execution.executor import Executor
from vastgrid.lineage.graph import Card, Graph, Node, Role
from vastgrid.params import declare
from vastgrid.params.declare import Phrase
from vastgrid.recipes.recipe import Recipe, RecipeStep, Sent, Slot, slug

# What a recipe takes as given: files, and copies that were kept as they are.
_GIVEN = (Role.SOURCE, Role.KEPT)


def recipe_of(
    graph: Graph,
    executor: Executor,
    says: Callable[[str], tuple[Phrase, ...]],
    title: str,
    cards: Sequence[str] = (),
) -> Recipe:
    """Return what leads to some cards, or to all that was made and sent where none are named.

    What goes out is what was sent of it; what nothing was made of and that was not sent goes out in its usual format,
    tables as comma-separated text without being named.

    Parameters
    ----------
    says : callable
        Gives a card's step as a sentence.

    Raises
    ------
    CallError
        If nothing was made, or a card was only read.
    """
    wanted = list(cards) or [card for card, own in graph.cards.items() if own.role not in _GIVEN]
    if not wanted:
        raise CallError("nothing has been made in this job yet, so there is nothing to repeat")
    for card in wanted:
        if graph[card].role in _GIVEN:
            raise CallError(f"{graph[card].name} was given, not made; a recipe is of something that was made or sent")
    behind = set[str]().union(*(graph.before(card, used=True) for card in wanted))
    nodes = [node for node in graph.nodes.values() if any(output.card in behind for output in node.outputs)]
    slots, steps, references = _done(graph, executor, says, nodes, behind)
    sent = [
        Sent(
            Path(node.path).name,
            node.operation,
            tuple(references[use.card] for use in node.used),
            _asked(node, executor),
            node.into,
            declare.plain(says(node.outputs[0].card)),
        )
        for node in _once(nodes)
    ]
    taken = [each.file for each in sent]
    for card in _unsent(graph, nodes, wanted):
        own = graph[card]
        target = _holding(executor.dataset(graph, card))
        file = _free(f"{slug(own.name)}{target.suffixes[0]}", taken)
        taken.append(file)
        sent.append(Sent(file, target.id, (references[card],), {}, ("", ""), f"{own.name} written to {file}."))
    return Recipe(title, tuple(slots), tuple(steps), tuple(sent))


def _done(
    graph: Graph, executor: Executor, says: Callable[[str], tuple[Phrase, ...]], nodes: Sequence[Node], behind: set[str]
) -> tuple[list[Slot], list[RecipeStep], dict[str, str]]:
    """Return what comes in, what is made of it, and how each card is referred to."""
    units = _units(list(graph.nodes.values()))
    names: list[str] = []
    references: dict[str, str] = {}
    slots, steps = [], []
    for node in nodes:
        if node.role is Role.DELIVERY:
            continue
        used = [card for card in node.cards() if card.id in behind] or [node.cards()[0]]
        # A point in a name would part it where the text is TOML.
        name = slug(used[0].name.replace(".", "-"), names)
        names.append(name)
        if node.role in _GIVEN:
            slots.append(_slot(name, node, [(card.name, card.kind) for card in used], executor, units))
            references |= {card.id: name if card is used[0] else f"{name}/{card.name}" for card in used}
            continue
        uses = tuple((use.role, references[use.card]) for use in node.used)
        called = {output.which: output.name for output in node.outputs}
        sentence = declare.plain(says(node.outputs[0].card))
        steps.append(
            RecipeStep(name, called, node.operation, node.version, uses, _with_units(node, executor), sentence)
        )
        for k, output in enumerate(node.outputs):
            references[output.card] = name if k == 0 else f"{name}/{output.which}"
    return slots, steps, references


def _unsent(graph: Graph, nodes: Sequence[Node], wanted: Sequence[str]) -> list[str]:
    """Return the cards that are wanted and that nothing was made of and no file holds, tables left out."""
    gone = {use.card for node in nodes for use in node.used}
    return [
        card
        for card in wanted
        if graph[card].role is Role.MADE
        and card not in gone
        and graph[card].kind not in ("", Table.kind)
        and not _aside(graph[card])
    ]


def _aside(card: Card) -> bool:
    """Return whether a card stands beside what its step made, and is sent only where somebody asks for it."""
    conversion = catalog.CONVERSIONS.named(card.operation)
    return conversion is not None and any(each.aside and each.name == card.output.which for each in conversion.outputs)


def _holding(dataset: Dataset) -> Format:
    """Return the usual format for data, or one that holds its attributes where that one does not."""
    usual = catalog.usual_format([type(dataset)])
    able = [usual, *(each for each in catalog.FORMATS if each.write and isinstance(dataset, each.carries.kinds))]

    def loses(kind: Format) -> bool:
        told = losses(dataset, kind.carries)
        return any(finding.code == "attributes-not-carried" for finding in told) or kind.verify is not None

    return next((kind for kind in able if not loses(kind)), usual)


def _once(nodes: Sequence[Node]) -> list[Node]:
    """Return deliveries, of those to one file name the last."""
    found: dict[str, Node] = {}
    for node in nodes:
        if node.role is Role.DELIVERY:
            found.pop(Path(node.path).name, None)
            found[Path(node.path).name] = node
    return list(found.values())


def _free(file: str, taken: Sequence[str]) -> str:
    name, number = file, 2
    while name in taken:
        path = Path(file)
        name, number = f"{path.stem}-{number}{path.suffix}", number + 1
    return name


def _with_units(node: Node, executor: Executor) -> dict[str, str]:
    """Return what was asked of a step; a bare number has the unit of the data that it was asked for."""
    settled = executor.store.payloads.full(node.outcome.settled) if node.outcome else {}
    return {
        name: settled.get(name, text) if re.fullmatch(r"[+-]?[\d.]+(e[+-]?\d+)?", text) else text
        for name, text in executor.words(node).items()
    }


def _asked(node: Node, executor: Executor) -> dict[str, str]:
    """Return the options of a delivery that are not the usual ones anyway."""
    usual = declare.to_words(catalog.format_named(node.operation).write_params())
    return {name: text for name, text in executor.words(node).items() if usual.get(name) != text}


def _units(nodes: Sequence[Node]) -> tuple[str, str]:
    """Return the units that the sources are brought into: those of the first that knows its own."""
    figures = [card.figures for node in nodes if node.role is Role.SOURCE for card in node.cards()]
    plan, height = (
        next((figure[key] for figure in figures if figure.get(key)), "") for key in ("horizontal_unit", "vertical_unit")
    )
    return plan, height


def _slot(name: str, node: Node, cards: list[tuple[str, str]], executor: Executor, units: tuple[str, str]) -> Slot:
    # What came in first decided the job's units; in another run it is brought into them like all others.
    into = (node.into[0] or units[0], node.into[1] or units[1])
    if node.role is Role.KEPT:
        kind = kind_named(cards[0][1])
        usual = catalog.usual_format([kind.type]).id if kind is not None else "landxml"
        return Slot(name, tuple(cards), usual, {}, ("", ""), into)
    return Slot(name, tuple(cards), node.operation, executor.words(node), node.units, into, node.override)
