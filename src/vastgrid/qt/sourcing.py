"""What the window does with a surface's sources, and with source files that changed on disk."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from PyQt6.QtWidgets import QFileDialog

from vastgrid.job.lineage import Node
from vastgrid.session.session import Session
from vastgrid.tasks.runner import Runner, Task

if TYPE_CHECKING:
    from vastgrid.qt.main_window import MainWindow

# What follows a change is made again at once if it took no longer than this the last time.
QUICK_SECONDS = 15.0


class Sourcing:
    """Switching, taking out, replacing and adding sources.

    Parameters
    ----------
    window : MainWindow
        Whose job it is.
    behind : Runner
        Runs what nothing waits for.
    """

    def __init__(self, window: MainWindow, behind: Runner) -> None:
        self.window = window
        self._behind = behind
        self.changed: dict[str, str] = {}

    def switch(self, node: str, source: str, on: bool) -> None:
        """Use a source or leave it out, and make what follows again."""
        self.window.session.switch(node, source, on=on)
        self.follow(node)

    def drop(self, node: str, source: str) -> None:
        """Take a source out of a surface."""
        self.window.session.drop_source(node, source)
        self.follow(node)

    def add(self, node: str, source: str) -> None:
        """Give a surface one more source."""
        self.window.session.add_sources(node, [source])
        self.follow(node)

    def give_role(self, node: str, source: str, role: str) -> None:
        """Let a source play another role; the one that played it takes its place."""
        self.window.session.give_role(node, source, role)
        self.follow(node)

    def ask_replacement(self, _node: str, source: str) -> None:
        """Ask for the file that replaces a source's."""
        own = self.window.session.graph[source]
        name, _ = QFileDialog.getOpenFileName(self.window, f"Replace {own.name} by", str(Path(own.path).parent))
        if name:
            self.replace(source, Path(name))

    def replace(self, source: str, path: Path) -> None:
        """Read a source from another file, with the same options, and make what follows again."""
        window, session = self.window, self.window.session
        name = session.graph[source].name

        def done(nodes: list[Node]) -> None:
            here = [node for node in nodes if node.id in session.graph.nodes]
            if not here:
                return
            cards = [output.card for node in here for output in node.outputs]
            beside = f" and {len(cards) - 1} more from its file" if len(cards) > 1 else ""
            session.accept(here, f"replace {name}{beside} by {path.name}")
            for card in cards:
                self.changed.pop(card, None)
            self.follow_all(cards)

        window.start(
            f"reading {path.name}",
            lambda progress: session.sources.replaced(source, path, progress),
            done,
            session.sources.siblings(source),
        )

    def read_again(self, source: str) -> None:
        """Read a source's own file again."""
        self.replace(source, Path(self.window.session.graph[source].path))

    def paint(self, source: str, colour: str) -> None:
        """Give a source's points and lines a colour in the plan."""
        self.window.session.paint(source, colour)
        self.window.refresh()

    def follow(self, node: str) -> None:
        """Make a node and what follows it again where that is quick; otherwise say that it is out of date."""
        self.follow_all([node])

    def follow_all(self, nodes: Sequence[str]) -> None:
        """Make nodes and what follows them again where that is quick; otherwise say that it is out of date."""
        window = self.window
        following, took = window.session.following(nodes)
        window.refresh()
        if following and took <= QUICK_SECONDS:
            window.making.remake(following)
        elif following:
            window.say("what follows is out of date; press “Make again” when you are ready")

    def look_at_files(self) -> None:
        """Notice source files that changed on disk, off the interface thread."""
        window, session = self.window, self.window.session
        self._behind.start(
            Task(
                title="looking at files",
                work=lambda progress: session.sources.changed_files(),
                done=lambda found: window.bridge.post(lambda: self._found(session, found)),
                failed=lambda *_: None,
            )
        )

    def _found(self, session: Session, found: dict[str, str]) -> None:
        if session is not self.window.session or found == self.changed:
            return
        self.changed = self.window.panel.changed = found
        if found:
            number = len(found)
            said = next(iter(found.values())) if number == 1 else f"{number} source files changed on disk"
            self.window.say(said)
        self.window.show_panel()
