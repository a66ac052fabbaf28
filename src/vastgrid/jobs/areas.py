"""Areas that can be chosen by name: what other cards cover, and what a view shows."""

from __future__ import annotations

from vastgrid.base.quantities import Unit
from vastgrid.data.frame import UNKNOWN, Frame
from vastgrid.data.places import Area
from vastgrid.lineage.graph import Graph
from vastgrid.params import declare

Box = tuple[float, float, float, float]


def areas_offered(params: type, graph: Graph, view: Box | None) -> dict[str, list[str]]:
    """Return words for every parameter that is an area: of the view, and of each card that lies somewhere.

    Parameters
    ----------
    view : (west, south, east, north) or None
        What is seen, in the unit of the data.
    """
    names = [each.name for each in declare.fields(params) if each.kind is Area]
    if not names:
        return {}
    found = [_text(view, "the view")] if view is not None else []
    for card in graph.cards.values():
        extent = card.figures.get("extent") or {}
        east, north = extent.get("east"), extent.get("north")
        if east and north and east[0] < east[1] and north[0] < north[1]:
            unit = card.figures.get("horizontal_unit")
            frame = Frame(card.figures.get("crs"), Unit(unit) if unit else None)
            found.append(_text((east[0], north[0], east[1], north[1]), _plain(card.name), frame))
    return dict.fromkeys(names, found)


def _text(box: Box, name: str, frame: Frame = UNKNOWN) -> str:
    west, south, east, north = box
    return declare.value_text(Area(((west, south), (east, south), (east, north), (west, north)), frame, name))


def _plain(name: str) -> str:
    """Return a name without the signs that part a name from its corners."""
    return name.replace(":", " ").replace("|", " ").strip() or "a card"
