"""What the panel says of a card: its sentence with fields to be pressed, and its figures in rows."""

from __future__ import annotations

from collections.abc import Iterable
from html import escape
from typing import Any

from vastgrid.base.words import size_words, spaced
from vastgrid.data.table import Table
from vastgrid.lineage.graph import Card
from vastgrid.params.declare import Phrase
from vastgrid.qt.widgets import theme


def sentence_html(pieces: Iterable[Phrase], palette: theme.Palette, *, links: bool = True) -> str:
    """Return a sentence whose fields are links, or only marked."""
    chip = f"background-color:{palette.chip}; color:{palette.action}; font-weight:600; text-decoration:none;"
    # What nobody asked for is told apart: it is settled anew for other data.
    open_chip = f"background-color:{palette.chip}; color:{palette.action}; text-decoration:none; font-style:italic;"
    parts = []
    for piece in pieces:
        text = escape(piece.text)
        if piece.field is None:
            parts.append(text)
        else:
            inner = text.replace(" ", "&nbsp;")
            style = open_chip if piece.settled else chip
            tag, href = ("a", f' href="field:{piece.field}"') if links else ("span", "")
            parts.append(f'<{tag}{href} style="{style}">&nbsp;{inner}&nbsp;</{tag}>')
    return f'<p style="font-size:{theme.points(11.5)}; line-height:132%; margin:0;">{"".join(parts)}</p>'


def figure_rows(node: Card) -> list[tuple[str, str]]:
    """Return the figures of a node, ready to show."""
    if node.outcome is None:
        return []
    figures: dict[str, Any] = node.figures
    rows = [(name.capitalize(), spaced(value)) for name, value in figures.get("count", {}).items()]
    extent = figures.get("extent") or {}
    for name, pair in extent.items():
        if pair:
            rows.append((name.capitalize(), f"{pair[0]:.2f} … {pair[1]:.2f}"))
    if "horizontal_unit" in figures:
        units = [figures["horizontal_unit"] or "unknown", figures["vertical_unit"] or "unknown"]
        if node.kind != Table.kind:
            rows.append(("Units", " / ".join(units)))
            rows.append(("CRS", figures.get("crs") or "none (local grid)"))
    if node.path:
        rows.append(("File", node.path.rsplit("/", 1)[-1]))
        size = (figures.get("file") or [figures.get("size")])[0]
        if size:
            rows.append(("Size", size_words(size)))
    if node.outcome.when:
        rows.append(("Made", node.outcome.when.replace("T", " ")))
    rows.append(("Took", f"{node.outcome.seconds:.1f} s"))
    return rows
