"""Looking for findings behind everything else, and what is done about them."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from vastgrid.base.errors import VastGridError
from vastgrid.base.findings import Remedy
from vastgrid.base.progress import Progress
from vastgrid.job.lineage import Node
from vastgrid.session.inspection import Noticed
from vastgrid.tasks.runner import Runner, Task

if TYPE_CHECKING:
    from vastgrid.qt.findings_dialog import FindingsDialog
    from vastgrid.qt.main_window import MainWindow


class Inspecting:
    """Keeps the findings of the window's job up to date.

    Parameters
    ----------
    window : MainWindow
        Whose job it is.
    """

    def __init__(self, window: MainWindow) -> None:
        self.window = window
        self._runner = Runner(lambda task: None)
        self._asked: set[tuple[str, str, str]] = set()
        self.dialog: FindingsDialog | None = None
        self.fault = ""

    @property
    def busy(self) -> bool:
        """Whether something is being looked at."""
        return self._runner.busy

    def see_to(self) -> None:
        """Look for whatever has not been looked for yet."""
        window, session = self.window, self.window.session
        graph = session.graph
        due = {(node, check.id, graph.key(node)) for node, check in session.inspection.due(graph)}
        if not due or (due <= self._asked and self.busy):
            return
        self._asked = due

        def work(progress: Progress) -> Any:
            return session.inspection.look(graph, session.named_dataset, progress)

        def done(made: Any) -> None:
            if session is window.session:
                session.inspection.take_in(session.graph, made)
                session.save()
                self.refresh()

        def failed(why: str) -> None:
            self.fault = why

        self._runner.cancel_all()
        self._runner.start(
            Task(
                title="looking for findings",
                work=work,
                done=lambda made: window.bridge.post(lambda: done(made)),
                failed=lambda why, detail: window.bridge.post(lambda: failed(why + detail)),
            )
        )

    def refresh(self) -> None:
        """Show findings anew wherever they are shown."""
        self.window.show_findings_count()
        self.window.show_panel()
        if self.dialog is not None:
            self.dialog.fill()

    def show(self) -> None:
        """Open the list of findings, or bring it to the front."""
        # Loaded when asked for: the window opens sooner without it.
        from vastgrid.qt.findings_dialog import FindingsDialog

        if self.dialog is None:
            self.dialog = FindingsDialog(self.window, self)
            self.dialog.finished.connect(self._closed)
        self.dialog.fill()
        self.dialog.show()
        self.dialog.raise_()

    def _closed(self) -> None:
        if self.dialog is not None:
            self.dialog.deleteLater()
        self.dialog = None

    # -- what can be done about a finding

    def go_to(self, noticed: Noticed) -> None:
        """Choose a finding's card, show it, and bring its place into the views."""
        window = self.window
        if noticed.node not in window.session.graph:
            return
        window.lineage.select([noticed.node])
        if not window.session.graph[noticed.node].shown and noticed.finding.at is not None:
            window.toggle_shown(noticed.node)
        if noticed.finding.at is not None:
            window.go_to(*noticed.finding.at)

    def accept(self, noticed: Noticed, note: str) -> None:
        """Accept a finding with a note."""
        self.window.session.inspection.accept(noticed.node, noticed.finding, note)
        self.window.session.save()
        self.refresh()

    def reopen(self, noticed: Noticed) -> None:
        """Take an acceptance back."""
        self.window.session.inspection.reopen(noticed.node, noticed.finding)
        self.window.session.save()
        self.refresh()

    def mend(self, node: str, remedy: Remedy) -> None:
        """Do what a finding offers; it is a step of the history like any other."""
        if remedy.kind == "words":
            self.window.making.change_fields(node, remedy.values)
            return
        window, session = self.window, self.window.session
        own = session.graph[node]

        def done(made: Node) -> None:
            if node in session.graph:
                session.accept([made], f"read {own.name} in other units")
                window.sourcing.follow(node)
                window.say(f"{own.name}: {remedy.text[0].lower()}{remedy.text[1:]}; Ctrl+Z takes it back")

        window.start(
            f"reading {own.name} again",
            lambda progress: session.sources.in_other_units(node, remedy.values, progress),
            done,
            [node],
        )

    def can_mend(self, node: str, remedy: Remedy | None) -> bool:
        """Return whether a remedy fits the card: a file has no sentence, and a made surface no units of its own."""
        if remedy is None:
            return False
        session = self.window.session
        try:
            if remedy.kind == "words":
                return all(session.with_word(node, *pair) is not None for pair in remedy.values.items())
        except VastGridError:
            return False
        return bool(session.graph[node].path)

    def close(self) -> None:
        """Stop looking."""
        self._runner.close()
