"""What is said of a card where there is room for a few words."""

from __future__ import annotations

from vastgrid import catalog
from vastgrid.base.words import spaced
from vastgrid.data.kinds import kind_named
from vastgrid.data.table import Table
from vastgrid.job.lineage import Card, Graph, Role


def cost_text(node: Card) -> str:
    """Return a card's largest vertical loss, with its unit; nothing for what answers a question."""
    if node.outcome is None or node.outcome.loss is None or node.kind == Table.kind:
        return ""
    return f"{node.outcome.loss['max']:.2f} {node.outcome.loss['unit'] or ''}".strip()


def beside_another(card: Card) -> bool:
    """Return whether a card is a table beside another table of its step, on whose page it is shown."""
    first = card.node.cards()[0]
    return card.kind == Table.kind and card.output is not first.output and first.kind == Table.kind


def answer_text(card: Card) -> str:
    """Return the figure of an answer that people look for, in a few words; empty where there is none."""
    figures = card.node.outcome.figures if card.node.outcome else {}
    if "volumes" in figures:
        own = figures["volumes"]
        unit = f" {own['unit']}³" if own["unit"] else ""
        return f"cut {spaced(own['cut'])}, fill {spaced(own['fill'])}{unit}"
    if "accuracy" in figures:
        own = figures["accuracy"]
        unit = f" {own['unit']}" if own["unit"] else ""
        return f"RMSEz {own['rmse']:.3f}, 95 % {own['nssda_95']:.3f}{unit}"
    if "pile" in figures:
        own = figures["pile"]
        return f"{spaced(sum(each['above'] for each in own['parts']))} {own['unit'] or ''}³ above".replace(" ³", "")
    return ""


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
        return f"{catalog.format_named(node.operation).title} · {size / 1e6:.1f} MB" if node.outcome else kind
    own = kind_named(node.kind)
    return own.in_a_word(node.figures["count"]) if own is not None else kind
