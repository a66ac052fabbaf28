"""Working figures out behind everything else."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from vastgrid.measures.figures import Figures, figures_of
from vastgrid.tasks.runner import Runner, Task

if TYPE_CHECKING:
    from vastgrid.qt.main_window import MainWindow


class Figuring:
    """Keeps the figures of cards that were looked at.

    Parameters
    ----------
    window : MainWindow
        Whose cards they are.
    ready : callable
        Called when figures are there that were asked for.
    """

    def __init__(self, window: MainWindow, ready: Callable[[], None]) -> None:
        self.window, self._ready = window, ready
        self._runner = Runner(lambda task: None)
        self._known: dict[str, Figures] = {}
        self._asked: set[str] = set()

    @property
    def busy(self) -> bool:
        """Whether figures are being worked out."""
        return self._runner.busy

    def of(self, node: str) -> Figures | None:
        """Return a card's figures; None while they are being worked out."""
        window = self.window
        digest = window.session.graph[node].digest
        if not digest:
            return None
        if digest not in self._known and digest not in self._asked:
            dataset = window.dataset(node)
            if dataset is None:
                return None
            self._asked.add(digest)

            def done(made: Figures) -> None:
                self._known[digest] = made
                self._ready()

            self._runner.start(
                Task(
                    title=f"figures of {dataset.name}",
                    work=lambda progress: figures_of(dataset),
                    done=lambda made: window.bridge.post(lambda: done(made)),
                    failed=lambda *_: None,
                )
            )
        return self._known.get(digest)

    def close(self) -> None:
        """Stop."""
        self._runner.close()
