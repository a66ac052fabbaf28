"""What a job was read from: files brought in, read again, replaced, or gone from the disk."""

from __future__ import annotations

import dataclasses
import secrets
import time
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from vastgrid import catalog
from vastgrid.base.errors import CallError, FormatError, WriteError
from vastgrid.base.files import fingerprint, write_text
from vastgrid.base.progress import Progress, Silent
from vastgrid.base.quantities import Unit
from vastgrid.data.dataset import Dataset
from vastgrid.declarations.conversion import Result
from vastgrid.job.lineage import Node, Role
from vastgrid.session.steps import Source, read_file
from vastgrid.shaping.units import in_units

if TYPE_CHECKING:
    from vastgrid.session.session import Session

Units = tuple[Unit | None, Unit | None]


def words_of(units: Units) -> tuple[str, str]:
    """Return units as they are kept in a node."""
    return (units[0].value if units[0] else "", units[1].value if units[1] else "")


def units_of(words: tuple[str, str]) -> Units:
    """Return the units that a node keeps as words."""
    return (Unit(words[0]) if words[0] else None, Unit(words[1]) if words[1] else None)


def stamp(path: Path) -> tuple[int, int]:
    """Return size and time of a file, which tell at once that it may have changed."""
    about = path.stat()
    return about.st_size, about.st_mtime_ns


def _reading(node: Node) -> tuple[Any, ...]:
    """Return what a source node's file is read by: nodes with the same come from one reading."""
    return (node.path, node.operation, node.fingerprint, tuple(sorted(node.words.items())), node.units, node.override)


class Sources:
    """The source nodes of a session and their files.

    Methods that take a `progress` belong on a worker thread; what they return is for `Session.accept`.

    Parameters
    ----------
    session : Session
        Whose sources they are.
    """

    def __init__(self, session: Session) -> None:
        self.session = session

    def keep_left_out(self, source: Source) -> Path:
        """Write the lines of a text file that could not be read beside the job; return the file.

        Raises
        ------
        WriteError
            If the system refuses.
        """
        folder = self.session.folder / "left out"
        try:
            folder.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise WriteError(f"{folder} cannot be made: {error.strerror}") from error
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
        mark = fingerprint(source.path)
        job = self.session.units(before)
        nodes = []
        graph = self.session.graph
        for node in before:
            graph = graph.with_node(node)
        for item, dataset in enumerate(source.datasets):
            began = time.perf_counter()
            brought, into = self._into_job(dataset, job)
            name = graph.free_name(dataset.name or source.path.stem)
            node = Node(
                id=secrets.token_hex(4),
                role=Role.SOURCE,
                operation=source.format.id,
                name=name,
                words=words,
                path=str(source.path.resolve()),
                item=item,
                fingerprint=mark,
                units=words_of(units),
                into=into,
                override=override,
            )
            graph = graph.with_node(node)
            outcome = self.session.outcome(graph, node, Result(brought, source.findings), began)
            nodes.append(dataclasses.replace(node, outcome=outcome))
            progress.report((item + 1) / len(source.datasets), "keeping what was read")
        return nodes

    def _into_job(self, dataset: Dataset, job: Units) -> tuple[Dataset, tuple[str, str]]:
        plan = job[0] if dataset.frame.horizontal and job[0] else None
        height = job[1] if dataset.frame.vertical and job[1] else None
        if dataset.frame.horizontal is Unit.DEGREE or job[0] is Unit.DEGREE:
            return dataset, ("", "")
        brought = in_units(dataset, plan, height)
        changed = brought is not dataset
        return brought, words_of((plan, height)) if changed else ("", "")

    def siblings(self, node: str) -> list[str]:
        """Return the source nodes that came from the same file by the same reading, itself included, in its order."""
        graph = self.session.graph
        own = graph[node]
        alike = [each for each in graph.nodes.values() if each.role is Role.SOURCE and _reading(each) == _reading(own)]
        return [each.id for each in sorted(alike, key=lambda each: each.item)]

    def replaced(self, node: str, path: Path, progress: Progress) -> list[Node]:
        """Return a source, and all others that came with it, read from another file with the same options.

        The file is read once. `accept` puts them into the lineage as one step.

        Raises
        ------
        FormatError, CallError
            If the file is of another format, or lacks what one of them was read from.
        """
        own = self.session.graph[node]
        kind = catalog.recognise(path)
        if kind.id != own.operation:
            raise CallError(
                f"{path.name} is {kind.title}, but {own.name} was read from {catalog.format_named(own.operation).title}; "
                "import it as a new source instead"
            )
        mark = fingerprint(path)
        read: dict[tuple[Any, ...], Source] = {}
        made = []
        siblings = self.siblings(node)
        for k, each in enumerate(siblings):
            began = time.perf_counter()
            before = self.session.graph[each]
            fresh = dataclasses.replace(before, path=str(path.resolve()), fingerprint=mark)
            part = progress.part(k / len(siblings), (k + 1) / len(siblings))
            made.append(self._with_outcome(fresh, self.result(fresh, part, read), began))
        return made

    def in_other_units(self, node: str, units: dict[str, str], progress: Progress) -> Node:
        """Return a source read again, its file taken to be in other units than it says; for `accept`.

        Parameters
        ----------
        units : dict
            Words of units by “plan” and “height”; what is not named stays.
        """
        own = self.session.graph[node]
        began = time.perf_counter()
        said = (units.get("plan", own.units[0]), units.get("height", own.units[1]))
        fresh = dataclasses.replace(
            own, units=said, into=("", ""), override=True, fingerprint=fingerprint(Path(own.path))
        )
        read = self.result(fresh, progress)
        dataset, into = self._into_job(read.dataset, self._units_beside(node))
        fresh = dataclasses.replace(fresh, into=into)
        return self._with_outcome(fresh, Result(dataset, read.findings), began)

    def result(self, node: Node, progress: Progress, read: dict[tuple[Any, ...], Source] | None = None) -> Result:
        """Read a source node's file as the node says.

        Parameters
        ----------
        read : dict or None
            Files that were read before in the same run, so that one with many datasets is read once.

        Raises
        ------
        FormatError
            If the file cannot be read, or does not hold this dataset.
        """
        known = {} if read is None else read
        key = _reading(node)
        if key not in known:
            known[key] = read_file(Path(node.path), node.words, progress, units_of(node.units), override=node.override)
        source = known[key]
        if node.item >= len(source.datasets):
            raise FormatError(node.path, f"it does not hold what {node.name} was read from")
        return Result(in_units(source.datasets[node.item], *units_of(node.into)), source.findings)

    def _with_outcome(self, node: Node, result: Result, began: float) -> Node:
        graph = self.session.graph.with_node(node)
        return dataclasses.replace(node, outcome=self.session.outcome(graph, node, result, began))

    def _units_beside(self, node: str) -> Units:
        """Return the job's units as its other sources have them."""
        job = self.session.units()
        others = [each for each in self.session.graph.nodes.values() if each.id != node and each.role is Role.SOURCE]
        known = [each.outcome.figures for each in others if each.outcome]
        plan = next((f["horizontal_unit"] for f in known if f.get("horizontal_unit")), None)
        height = next((f["vertical_unit"] for f in known if f.get("vertical_unit")), None)
        return (Unit(plan) if plan else job[0], Unit(height) if height else job[1])

    def changed_files(self) -> dict[str, str]:
        """Return sources whose file changed on disk since it was read, or is gone: node → what happened."""
        found = {}
        for node in self.session.graph.nodes.values():
            if node.role is not Role.SOURCE or node.outcome is None:
                continue
            path = Path(node.path)
            try:
                now = stamp(path)
            except OSError:
                found[node.id] = f"{path.name} is no longer there; what was read from it is kept"
                continue
            was = node.outcome.figures.get("file")
            if was and list(now) != list(was) and fingerprint(path) != node.fingerprint:
                found[node.id] = f"{path.name} changed on disk since it was read"
        return found
