"""The only way from worker threads to the window: functions that are posted run on the interface thread."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QObject, Qt, pyqtSignal


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

    def _run(self, function: Callable[[], None]) -> None:
        function()
