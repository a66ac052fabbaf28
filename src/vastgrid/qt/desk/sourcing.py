"""What is done with a surface's sources, and with source files that changed on disk."""

from __future__ import annotations

from pathlib import Path

from vastgrid.lineage.graph import Node
from vastgrid.qt.desk.desk import Desk
from vastgrid.qt.desk.making import Making


class Sourcing:
    """Switching, taking out, replacing and adding sources.

    Parameters
    ----------
    desk : Desk
        Whose job it is.
    making : Making
        Makes what follows again.
    """

    def __init__(self, desk: Desk, making: Making) -> None:
        self.desk, self.making = desk, making

    def switch(self, node: str, source: str, on: bool) -> None:
        """Use a source or leave it out, and make what follows again."""
        self.desk.session.switch(node, source, on=on)
        self.making.follow([node])

    def drop(self, node: str, source: str) -> None:
        """Take a source out of a surface."""
        self.desk.session.drop_source(node, source)
        self.making.follow([node])

    def add(self, node: str, source: str) -> None:
        """Give a surface one more source."""
        self.desk.session.add_sources(node, [source])
        self.making.follow([node])

    def give_role(self, node: str, source: str, role: str) -> None:
        """Let a source play another role; the one that played it takes its place."""
        self.desk.session.give_role(node, source, role)
        self.making.follow([node])

    def replace(self, source: str, path: Path) -> None:
        """Read a source from another file, with the same options, and make what follows again."""
        session = self.desk.session
        name = session.graph[source].name

        def done(nodes: list[Node]) -> None:
            here = [node for node in nodes if node.id in session.graph.nodes]
            if not here:
                return
            cards = [output.card for node in here for output in node.outputs]
            beside = f" and {len(cards) - 1} more from its file" if len(cards) > 1 else ""
            session.accept(here, f"replace {name}{beside} by {path.name}")
            for card in cards:
                self.desk.files_changed.pop(card, None)
            self.making.follow(cards)

        self.desk.start(
            f"reading {path.name}",
            lambda progress: session.sources.replaced(source, path, progress),
            done,
            session.sources.siblings(source),
        )

    def read_again(self, source: str) -> None:
        """Read a source's own file again."""
        self.replace(source, Path(self.desk.session.graph[source].path))

    def paint(self, source: str, colour: str) -> None:
        """Give a source's points and lines a colour in the plan."""
        self.desk.session.paint(source, colour)
        self.desk.changed.emit()

    def look_at_files(self) -> None:
        """Notice source files that changed on disk, off the interface thread."""
        session = self.desk.session
        self.desk.start_behind(
            self.desk.behind, "looking at files", lambda progress: session.sources.changed_files(), self._found
        )

    def _found(self, found: dict[str, str]) -> None:
        if found == self.desk.files_changed:
            return
        self.desk.files_changed.clear()
        self.desk.files_changed |= found
        if found:
            number = len(found)
            self.desk.say(next(iter(found.values())) if number == 1 else f"{number} source files changed on disk")
        self.desk.news.emit()
