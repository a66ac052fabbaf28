"""Working figures out behind everything else."""

from __future__ import annotations

from vastgrid.measures.figures import Figures, figures_of
from vastgrid.qt.desk.desk import Desk
from vastgrid.tasks.runner import Runner


class Figuring:
    """Keeps the figures of cards that were looked at.

    Parameters
    ----------
    desk : Desk
        Whose cards they are.
    """

    def __init__(self, desk: Desk) -> None:
        self.desk = desk
        self._runner = Runner(lambda task: None)
        self._known: dict[str, Figures] = {}
        self._asked: set[str] = set()

    @property
    def busy(self) -> bool:
        """Whether figures are being worked out."""
        return self._runner.busy

    def of(self, node: str) -> Figures | None:
        """Return a card's figures; None while they are being worked out."""
        digest = self.desk.session.graph[node].digest
        if digest and digest not in self._known and digest not in self._asked:
            dataset = self.desk.dataset(node)
            if dataset is None:
                return None
            self._asked.add(digest)

            def done(made: Figures) -> None:
                self._known[digest] = made
                self.desk.news.emit()

            title = f"figures of {dataset.name}"
            self.desk.start_behind(self._runner, title, lambda progress: figures_of(dataset), done)
        return self._known.get(digest)

    def known(self, node: str) -> int:
        """Return what tells a card's figures from others, without working them out; 0 while there are none."""
        figures = self._known.get(self.desk.session.graph[node].digest)
        return id(figures) if figures is not None else 0

    def close(self) -> None:
        """Stop."""
        self._runner.close()
