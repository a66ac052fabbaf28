"""Bringing files into the window's job: asking for them, showing them, keeping them."""

from __future__ import annotations

import dataclasses
from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFileDialog, QWidget

from vastgrid import catalog
from vastgrid.base.errors import CallError, VastGridError
from vastgrid.base.progress import Progress
from vastgrid.execution.steps import read_file, said_units
from vastgrid.jobs.session import Session
from vastgrid.lineage.graph import Node
from vastgrid.qt.desk.desk import Desk
from vastgrid.qt.dialogs.import_candidate import Candidate
from vastgrid.qt.dialogs.import_dialog import ImportDialog


class Importing:
    """What the window's Import does.

    Parameters
    ----------
    parent : QWidget
        Above which is asked.
    desk : Desk
        Whose job the files come into.
    """

    def __init__(self, parent: QWidget, desk: Desk) -> None:
        self.parent, self.desk = parent, desk

    def choose(self) -> None:
        """Ask for files and bring them in."""
        endings = sorted({s for each in catalog.FORMATS if each.read for s in each.suffixes})
        folder = str(self.desk.session.settings.get("import_folder", Path.home()))
        names, _ = QFileDialog.getOpenFileNames(
            self.parent, "Import", folder, f"Terrain (*{' *'.join(endings)});;All files (*)"
        )
        if names:
            self.files([Path(name) for name in names])

    def files(self, paths: list[Path]) -> None:
        """Show files before they are taken in; of a folder, those in it whose format is known.

        Raises
        ------
        CallError
            If there is none.
        """
        found = [path for each in paths for path in ([each] if not each.is_dir() else known_files(each))]
        if not found:
            raise CallError("there is no file of a known format in that folder")
        dialog = self.dialog(*found)
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.open()

    def dialog(self, *paths: Path) -> ImportDialog:
        """Return the dialog that shows files; accepting it brings them in."""
        desk = self.desk
        desk.session.settings["import_folder"] = str(paths[0].parent)
        remembered = desk.session.settings.setdefault("reading", {})
        dialog = ImportDialog(self.parent, desk.session, list(paths), remembered)

        def accepted() -> None:
            for each in dialog.taken():
                if each.kind is not None:
                    remembered[each.kind.id] = each.words
            self.take_in(dialog.taken())

        dialog.accepted.connect(lambda: desk.guarded(accepted))
        return dialog

    def take_in(self, candidates: list[Candidate]) -> None:
        """Keep what was read, all files as one step of the history; one that fails leaves the others alone."""
        desk = self.desk
        wanted = [each for each in candidates if each.source is not None]
        if not wanted:
            return
        what = wanted[0].path.name if len(wanted) == 1 else f"{len(wanted)} files"
        session = desk.session

        def work(progress: Progress) -> tuple[list[Node], list[str]]:
            nodes: list[Node] = []
            faults: list[str] = []
            graph = session.graph
            for k, each in enumerate(wanted):
                part = progress.part(k / len(wanted), (k + 1) / len(wanted))
                try:
                    made = self._kept(session, each, nodes, part)
                except VastGridError as error:
                    faults.append(str(error))
                    continue
                for node in made:
                    graph = graph.with_node(node)
                nodes += made
            return nodes, faults

        def done(made: tuple[list[Node], list[str]]) -> None:
            nodes, faults = made
            if nodes:
                session.accept(nodes, f"import {what}")
                cards = [output.card for node in nodes for output in node.outputs]
                desk.selection = cards[-1:] if len(wanted) > 1 else cards
                desk.say(f"{what} came in")
            if faults:
                desk.tell("\n".join(faults))

        desk.start(f"keeping {what}", work, done)

    def _kept(self, session: Session, candidate: Candidate, before: list[Node], progress: Progress) -> list[Node]:
        read, words = candidate.source, candidate.words
        assert read is not None
        units = (candidate.units[0], candidate.units[1])
        # Of a large file only a sample was read for its picture.
        source = read_file(read.path, words, progress.part(0.0, 0.7)) if read.totals else read
        override = candidate.doubtful
        said = tuple(said_units(dataset, units, override=override) for dataset in source.datasets)
        told = dataclasses.replace(source, datasets=said)
        return session.sources.take_in(told, words, units, progress.part(0.7, 1.0), before, override=override)


def known_files(folder: Path) -> list[Path]:
    """Return the files in a folder and below whose format is known by their suffix; sidecar files are none."""
    endings = {suffix for each in catalog.FORMATS if each.read for suffix in each.suffixes}
    found = (path for path in sorted(folder.rglob("*")) if path.is_file() and not path.name.startswith("."))
    return [path for path in found if any(path.name.lower().endswith(ending) for ending in endings)][:500]
