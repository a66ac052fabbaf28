"""What is said of a card where there is room for a few words."""

from __future__ import annotations

from vastgrid import catalog
from vastgrid.base.quantities import unit_word
from vastgrid.base.words import gap_words, size_words
from vastgrid.data.kinds import kind_named
from vastgrid.data.table import Table
from vastgrid.lineage.graph import Card, Graph, Role


def cost_text(node: Card) -> str:
    """Return a card's largest vertical loss, with its unit; nothing for what answers a question."""
    if node.outcome is None or node.outcome.loss is None or node.kind == Table.kind:
        return ""
    return f"{gap_words(node.outcome.loss.largest, 2)}{unit_word(node.outcome.loss.unit)}"


def beside_another(card: Card) -> bool:
    """Return whether a card is a table beside another table of its step, on whose page it is shown."""
    first = card.node.cards()[0]
    return card.kind == Table.kind and card.output is not first.output and first.kind == Table.kind


def answer_text(card: Card) -> str:
    """Return the figure of an answer that people look for, in a few words; empty where there is none."""
    return str(card.node.outcome.figures.get("in short", "")) if card.node.outcome else ""


def kind_expected(card: Card, graph: Graph) -> str:
    """Return the kind that a card will have once it is made."""
    if card.role is not Role.MADE:
        return "points"
    conversion = catalog.conversion_named(card.operation)
    output = next((each for each in conversion.outputs if each.name == card.output.which), conversion.outputs[0])
    if output.kind is not None:
        return output.kind.kind
    return next((graph[use.card].kind for use in card.node.uses if use.role == output.like), "points")


def kind_text(node: Card, kind: str) -> str:
    """Return “TIN · 96 301 triangles”."""
    if node.role is Role.DELIVERY:
        size = node.figures.get("size", 0)
        return f"{catalog.format_named(node.operation).title} · {size_words(size)}" if node.outcome else kind
    own = kind_named(node.kind)
    return own.in_a_word(node.figures["count"]) if own is not None else kind
