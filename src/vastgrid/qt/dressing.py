"""What the views show and how: from the job's cards to datasets with their looks, in drawing order."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from vastgrid.base.errors import CallError
from vastgrid.data.grid import Grid
from vastgrid.data.kinds import kind_named
from vastgrid.data.tin import Tin
from vastgrid.job.lineage import Card
from vastgrid.looks.colouring import Dressed
from vastgrid.looks.look import look_of

if TYPE_CHECKING:
    from vastgrid.qt.main_window import MainWindow


class Dressing:
    """Keeps the dressed datasets of the window's job.

    Parameters
    ----------
    window : MainWindow
        Whose job it is.
    """

    def __init__(self, window: MainWindow) -> None:
        self.window = window
        self._kept: dict[Any, Dressed] = {}

    def dressed(self, node: str) -> Dressed | None:
        """Return a card's dataset in its look; the same object as long as nothing about it changed."""
        window, graph = self.window, self.window.session.graph
        own = graph[node]
        dataset = window.dataset(node)
        if dataset is None:
            return None
        words = dict(own.look)
        if own.colour and "colour" not in words:
            words |= {"colour": "one colour", "plain": own.colour}
        try:
            look = look_of(dataset, words)
        except CallError:
            look = look_of(dataset)
        against = self._surface(getattr(look, "against", ""))
        sources = [d for i in own.inputs if i not in own.off and (d := window.dataset(i)) is not None]
        number = list(graph.cards).index(node)
        key = (id(dataset), look, number, id(against), tuple(id(each) for each in sources))
        if key not in self._kept:
            self._kept = {k: v for k, v in self._kept.items() if k[0] != id(dataset)}
            self._kept[key] = Dressed(dataset, look, number, against, tuple(sources))
        return self._kept[key]

    def _surface(self, name: str) -> Tin | Grid | None:
        for node in self.window.session.graph.cards.values():
            if node.name == name and name:
                dataset = self.window.dataset(node.id)
                return dataset if isinstance(dataset, Tin | Grid) and dataset.has_heights else None
        return None

    def order(self) -> list[str]:
        """Return all cards with data, the lowest first: as the user ordered them, and otherwise grids, TINs, the rest."""
        graph = self.window.session.graph
        found = [card for card in graph.cards.values() if (own := kind_named(card.kind)) is not None and own.drawn]
        wanted = self.window.session.settings.get("order", [])
        place = {node: k for k, node in enumerate(wanted)}
        known = [n for n in found if n.id in place]
        known.sort(key=lambda n: place[n.id])
        # What is not in the user's order goes where its kind usually lies.
        for node in sorted((n for n in found if n.id not in place), key=_usual):
            at = next((k for k, other in enumerate(known) if _usual(other) > _usual(node)), len(known))
            known.insert(at, node)
        return [node.id for node in known]

    def items(self) -> list[Dressed]:
        """Return what is shown, the lowest first."""
        graph = self.window.session.graph
        return [own for node in self.order() if graph[node].shown and (own := self.dressed(node)) is not None]

    def stack(self, also: tuple[str, ...]) -> list[Dressed]:
        """Return what is shown, and some cards besides, the lowest first."""
        graph = self.window.session.graph
        wanted = [node for node in self.order() if graph[node].shown or node in also]
        return [own for node in wanted if (own := self.dressed(node)) is not None]

    def shift(self, node: str, up: bool) -> None:
        """Move a card one place up or down among those that are shown."""
        session = self.window.session
        order = self.order()
        shown = [n for n in order if session.graph[n].shown or n == node]
        at = shown.index(node) + (1 if up else -1)
        if not 0 <= at < len(shown):
            return
        order.remove(node)
        order.insert(order.index(shown[at]) + (1 if up else 0), node)
        session.settings["order"] = order
        session.save()
        self.window.refresh()

    def wear(self, node: str, words: dict[str, str]) -> None:
        """Give a card another look."""
        self.window.session.wear(node, words)
        self.window.refresh_views()

    def forget(self) -> None:
        """Let go of everything kept."""
        self._kept.clear()


def _usual(card: Card) -> int:
    own = kind_named(card.kind)
    return own.rank if own is not None else 0
