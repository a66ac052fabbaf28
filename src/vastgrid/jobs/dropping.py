"""Making room: results that can be made again, and how much dropping them frees."""

from __future__ import annotations

import dataclasses
import shutil
from dataclasses import dataclass
from enum import Enum
from pathlib import Path

from vastgrid.jobs.openjob import OpenJob
from vastgrid.lineage.graph import Graph, Role
from vastgrid.lineage.history import History


class Drop(Enum):
    """What may be dropped."""

    EARLIER = "results of earlier states that undo would go back to"
    HIDDEN = "results of hidden cards"
    MADE = "all that was made, until it is made again"
    ORDERED = "clouds in drawing order"


@dataclass(frozen=True, slots=True)
class Room:
    """What dropping something frees.

    Attributes
    ----------
    what : Drop
    size : int
        Bytes on the disk.
    number : int
        How many results, or ordered clouds.
    """

    what: Drop
    size: int
    number: int


def room_of(job: OpenJob) -> list[Room]:
    """Return what each kind of dropping would free; nothing that came in or was kept on purpose is in it."""
    found = []
    for what in Drop:
        if what is Drop.ORDERED:
            folders = _ordered(job.folder)
        else:
            folders = [job.folder / "data" / digest for digest in sorted(_digests(job.history, what))]
        there = [folder for folder in folders if folder.exists()]
        found.append(Room(what, sum(_size(folder) for folder in there), len(there)))
    return found


def drop(job: OpenJob, what: Drop) -> Room:
    """Drop it; return what that freed. Cards whose results went are no longer made, in every state of the history."""
    if what is Drop.ORDERED:
        folders = [folder for folder in _ordered(job.folder) if folder.exists()]
        freed = sum(_size(folder) for folder in folders)
        for folder in folders:
            shutil.rmtree(folder, ignore_errors=True)
        return Room(what, freed, len(folders))
    gone = _digests(job.history, what)
    freed = sum(_size(job.folder / "data" / digest) for digest in gone)
    # The job first says that they are gone, then they go: a crash between leaves a result too many, never one too few.
    job.history = without_results(job.history, gone)
    job.save()
    job.keeper.flush()
    for digest in gone:
        job.store.release(digest)
    return Room(what, freed, len(gone))


def without_results(history: History, gone: set[str]) -> History:
    """Return a history in which steps whose results are gone were never made."""

    def graph_now(graph: Graph) -> Graph:
        nodes = dict(graph.nodes)
        for key, node in graph.nodes.items():
            results = node.outcome.results.values() if node.outcome else ()
            if node.role is Role.MADE and any(given.digest in gone for given in results):
                nodes[key] = dataclasses.replace(node, outcome=None)
        return Graph(nodes)

    return dataclasses.replace(history, graphs=tuple(graph_now(graph) for graph in history.graphs))


def _digests(history: History, what: Drop) -> set[str]:
    """Return the results that would go."""
    made: set[str] = set()
    stays: set[str] = set()
    for k, graph in enumerate(history.graphs):
        for node in graph.nodes.values():
            own = {card.digest for card in node.cards()} - {""}
            hidden = k == history.at and not any(card.shown for card in node.cards())
            able = node.role is Role.MADE and (
                what is Drop.MADE or (what is Drop.HIDDEN and hidden) or (what is Drop.EARLIER and k != history.at)
            )
            if able:
                made |= own
            elif node.role is not Role.MADE or k == history.at:
                stays |= own
    return made - stays


def _ordered(folder: Path) -> list[Path]:
    return sorted(each for each in (folder / "index").glob("*") if each.is_dir())


def _size(folder: Path) -> int:
    try:
        return sum(each.stat().st_size for each in folder.rglob("*") if each.is_file())
    except OSError:
        return 0
