"""The only way from worker threads to the window: functions that are posted run on the interface thread."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Any

from PyQt6.QtCore import QObject, Qt, pyqtSignal

from vastgrid.base.progress import Progress
from vastgrid.tasks.runner import Runner, Task


class Bridge(QObject):
    """Runs functions on the thread it was made on."""

    _posted = pyqtSignal(object)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._posted.connect(self._run, type=Qt.ConnectionType.QueuedConnection)  # type: ignore[call-arg]

    def post(self, function: Callable[[], None]) -> None:
        """Run a function on the interface thread soon; may be called from any thread."""
        try:
            self._posted.emit(function)
        except RuntimeError:
            # The window is gone: nobody is left to be told.
            return

    def start(
        self,
        runner: Runner,
        title: str,
        work: Callable[[Progress], Any],
        done: Callable[[Any], None],
        failed: Callable[[str, str], None] = lambda why, detail: None,
        *,
        pausable: bool = False,
    ) -> None:
        """Do work on a runner that nobody waits for; `done` or `failed` runs on the interface thread.

        `failed` is given what to tell the user, and the detail of an unforeseen fault.
        """
        runner.start(
            Task(
                title=title,
                work=work,
                done=lambda made: self.post(partial(done, made)),
                failed=lambda why, detail: self.post(partial(failed, why, detail)),
                pausable=pausable,
            )
        )

    def _run(self, function: Callable[[], None]) -> None:
        function()
