"""What the views show and how: from the job's cards to datasets with their looks, in drawing order."""

from __future__ import annotations

import dataclasses
from typing import Any

from vastgrid.base.errors import CallError
from vastgrid.data.grid import Grid
from vastgrid.data.linework import Contours
from vastgrid.data.tin import Tin
from vastgrid.measures.heights import surface_of
from vastgrid.qt.desk.desk import Desk
from vastgrid.styling.colouring import StyledLayer
from vastgrid.styling.look import Faces, LineColour, SurfaceColour, SurfaceLook, look_of
from vastgrid.tasks.runner import Runner
from vastgrid.terrain.tin.surfaces import contour_tin


class Styling:
    """Keeps the dressed datasets of the window's job.

    Parameters
    ----------
    desk : Desk
        Whose job it is.
    """

    def __init__(self, desk: Desk) -> None:
        self.desk = desk
        self._kept: dict[Any, StyledLayer] = {}
        # What contours are as ground, by their content; None while that is worked out.
        self._through: dict[str, Tin | None] = {}
        self.runner = Runner(lambda task: None)

    def styled(self, node: str) -> StyledLayer | None:
        """Return a card's dataset in its look; the same object as long as nothing about it changed."""
        graph = self.desk.session.graph
        own = graph[node]
        dataset = self.desk.dataset(node)
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
        sources = [d for i in own.inputs if i not in own.off and (d := self.desk.dataset(i)) is not None]
        if getattr(look, "colour", None) is SurfaceColour.LOSS:
            # What a step cost is how far its result lies above what it was made from.
            against = next((found for each in sources if (found := surface_of(each)) is not None), None)
            look = dataclasses.replace(look, colour=SurfaceColour.DIFFERENCE if against else SurfaceColour.ELEVATION)
        number = list(graph.cards).index(node)
        key = (id(dataset), look, number, id(against), tuple(id(each) for each in sources))
        if key not in self._kept:
            self._kept = {k: v for k, v in self._kept.items() if k[0] != id(dataset)}
            self._kept[key] = StyledLayer(dataset, look, number, against, tuple(sources))
        return self._kept[key]

    def _surface(self, name: str) -> Tin | Grid | None:
        for node in self.desk.session.graph.cards.values():
            if node.name == name and name:
                dataset = self.desk.dataset(node.id)
                return surface_of(dataset)
        return None

    def items(self) -> list[StyledLayer]:
        """Return what is shown, the lowest first."""
        return self.stack(())

    def stack(self, also: tuple[str, ...]) -> list[StyledLayer]:
        """Return what is shown, and some cards besides, the lowest first."""
        graph = self.desk.session.graph
        wanted = [node for node in self.desk.session.drawing_order() if graph[node].shown or node in also]
        found = [own for node in wanted if (own := self.styled(node)) is not None]
        return [each for own in found for each in (*self._below(own), own)]

    def _below(self, layer: StyledLayer) -> list[StyledLayer]:
        """Return what lies below contours that show what they cost: the ground they give, coloured by its loss."""
        contours = layer.dataset
        source = next((found for each in layer.sources if (found := surface_of(each)) is not None), None)
        if not isinstance(contours, Contours) or layer.look.colour is not LineColour.LOSS or source is None:
            return []
        if contours.content not in self._through:
            self._through[contours.content] = None
            self.desk.start_behind(
                self.runner,
                f"what {contours.name} lose",
                lambda progress: contour_tin(contours, progress),
                lambda made: self._arrived(contours.content, made),
            )
        tin = self._through[contours.content]
        if tin is None:
            return []
        key = (id(tin), id(source))
        if key not in self._kept:
            look = SurfaceLook(colour=SurfaceColour.DIFFERENCE, shade=False, faces=Faces.FILLED)
            self._kept[key] = StyledLayer(tin, look, layer.number, source, layer.sources)
        return [self._kept[key]]

    def _arrived(self, content: str, tin: Tin) -> None:
        self._through[content] = tin
        self.desk.looks_changed.emit()

    def shift(self, node: str, up: bool) -> None:
        """Move a card one place up or down among those that are shown."""
        if self.desk.session.shift(node, up=up):
            self.desk.changed.emit()

    def set_look(self, node: str, words: dict[str, str]) -> None:
        """Give a card another look."""
        self.desk.session.set_look(node, words)
        self.desk.looks_changed.emit()

    def forget(self) -> None:
        """Let go of everything kept."""
        self._kept.clear()
        self._through.clear()

    def close(self) -> None:
        """End what is worked out behind."""
        self.runner.close()
