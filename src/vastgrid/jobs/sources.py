"""What a job was read from: files brought in, read again, replaced, or gone from the disk."""

from __future__ import annotations

import dataclasses
import time
from collections.abc import Sequence
from pathlib import Path

from vastgrid import catalog
from vastgrid.base.errors import CallError
from vastgrid.base.files import fingerprint, make_folder, write_text
from vastgrid.base.progress import Progress, Silent
from vastgrid.base.quantities import Unit
from vastgrid.execution.executor import StepResult, Units, into_units, stamp, words_of
from vastgrid.execution.nodes import new_card
from vastgrid.execution.steps import Source, read_file
from vastgrid.jobs.openjob import OpenJob
from vastgrid.lineage.graph import Node, Role


class Sources:
    """The source nodes of a session and their files.

    Methods that take a `progress` belong on a worker thread; what they return is for `Session.accept`.

    Parameters
    ----------
    session : OpenJob
        Whose sources they are.
    """

    def __init__(self, session: OpenJob) -> None:
        self.session = session

    def keep_left_out(self, source: Source) -> Path:
        """Write the lines of a text file that could not be read beside the job; return the file.

        Raises
        ------
        WriteError
            If the system refuses.
        """
        folder = self.session.folder / "left out"
        make_folder(folder)
        target = folder / f"{source.path.name}.txt"
        write_text(target, "\n".join(source.left_out) + "\n")
        return target

    def bring_in(
        self,
        path: Path,
        words: dict[str, str] | None = None,
        units: Units = (None, None),
        progress: Progress | None = None,
    ) -> list[Node]:
        """Read a file into the job as a step of the history, and wait for it; return the new nodes."""
        progress = progress or Silent()
        source = read_file(path, words or {}, progress.part(0.0, 0.7), units)
        nodes = self.take_in(source, words or {}, units, progress.part(0.7, 1.0))
        self.session.accept(nodes, f"import {path.name}")
        return nodes

    def take_in(
        self,
        source: Source,
        words: dict[str, str],
        units: Units,
        progress: Progress,
        before: Sequence[Node] = (),
        *,
        override: bool = False,
    ) -> list[Node]:
        """Keep what was read, brought into the job's units; return the new nodes for `accept`.

        Parameters
        ----------
        before : sequence of Node
            What comes in by the same step and is not in the lineage yet.
        override : bool
            Whether the units count also where the file says others.
        """
        began = time.perf_counter()
        graph = self.session.graph
        for node in before:
            graph = graph.with_node(node)
        job = self.session.units(before)
        outputs = []
        for k, dataset in enumerate(source.datasets):
            outputs.append(new_card(str(k), graph.free_name(dataset.name or source.path.stem)))
            # Two datasets of one file may have one name too.
            graph = graph.with_node(self.session.executor.nodes.source(source.format, source.path, {}, outputs[-1:]))
        if not outputs:
            return []
        node = self.session.executor.nodes.source(
            source.format,
            source.path,
            words,
            outputs,
            fingerprint=fingerprint(source.path),
            units=words_of(units),
            into=words_of(job),
            override=override,
        )
        brought = {str(k): into_units(each, job) for k, each in enumerate(source.datasets)}
        graph = self.session.executor.kept(self.session.graph, node, StepResult(brought, source.findings), began)
        progress.report(1.0, "keeping what was read")
        return [graph.nodes[node.id]]

    def siblings(self, node: str) -> list[str]:
        """Return the cards that came from the same file by the same reading, itself included, in its order."""
        return [output.card for output in self.session.graph.node(node).outputs]

    def replaced(self, node: str, path: Path, progress: Progress) -> list[Node]:
        """Return a source, and all others that came with it, read from another file with the same options.

        The file is read once. `accept` puts them into the lineage as one step.

        Raises
        ------
        FormatError, CallError
            If the file is of another format, or lacks what one of them was read from.
        """
        own = self.session.graph.node(node)
        kind = catalog.recognise(path)
        if kind.id != own.operation:
            raise CallError(
                f"{path.name} is {kind.title}, but {own.name} was read from {catalog.format_named(own.operation).title}; "
                "import it as a new source instead"
            )
        fresh = dataclasses.replace(
            self.session.graph.node(node), path=str(path.resolve()), fingerprint=fingerprint(path)
        )
        return [self._read(fresh, progress)]

    def in_other_units(self, node: str, units: dict[str, str], progress: Progress) -> Node:
        """Return a source read again, its file taken to be in other units than it says; for `accept`.

        Parameters
        ----------
        units : dict
            Words of units by “plan” and “height”; what is not named stays.
        """
        own = self.session.graph.node(node)
        said = (units.get("plan", own.units[0]), units.get("height", own.units[1]))
        into = words_of(self._units_beside(own.id))
        mark = fingerprint(Path(own.path))
        return self._read(dataclasses.replace(own, units=said, into=into, override=True, fingerprint=mark), progress)

    def _read(self, node: Node, progress: Progress) -> Node:
        graph = self.session.graph.with_node(node)
        return self.session.executor.make(graph, node.id, progress).nodes[node.id]

    def _units_beside(self, node: str) -> Units:
        """Return the job's units as its other sources have them."""
        job = self.session.units()
        others = [each for each in self.session.graph.nodes.values() if each.id != node and each.role is Role.SOURCE]
        known = [card.figures for each in others for card in each.cards()]
        plan = next((f["horizontal_unit"] for f in known if f.get("horizontal_unit")), None)
        height = next((f["vertical_unit"] for f in known if f.get("vertical_unit")), None)
        return (Unit(plan) if plan else job[0], Unit(height) if height else job[1])

    def changed_files(self) -> dict[str, str]:
        """Return sources whose file changed on disk since it was read, or is gone: node → what happened."""
        found: dict[str, str] = {}
        for node in self.session.graph.nodes.values():
            if node.role is not Role.SOURCE or node.outcome is None:
                continue
            path = Path(node.path)
            try:
                now = stamp(path)
            except OSError:
                told = f"{path.name} is no longer there; what was read from it is kept"
            else:
                was = node.cards()[0].figures.get("file")
                if not was or list(now) == list(was) or fingerprint(path) == node.fingerprint:
                    continue
                told = f"{path.name} changed on disk since it was read"
            found |= {output.card: told for output in node.outputs}
        return found
