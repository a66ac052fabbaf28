"""An open job and what is kept of it; whatever is done with it builds on this."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

from vastgrid.base.errors import FormatError
from vastgrid.base.files import refuse_clashes
from vastgrid.data.dataset import Dataset
from vastgrid.data.kinds import kind_named
from vastgrid.declarations.conversion import listed
from vastgrid.execution.executor import Executor, Units, units_of
from vastgrid.execution.inspection import by_hand
from vastgrid.jobs.absent_plugins import plugins_of, stand_in
from vastgrid.jobs.moving import moved
from vastgrid.jobs.upgrading import upgraded
from vastgrid.lineage import store as storage
from vastgrid.lineage.claim import Claim
from vastgrid.lineage.graph import Card, Graph, Node, Role
from vastgrid.lineage.history import History


class OpenJob:
    """An open job: its history, its store, its settings, and the cards that are in it.

    Parameters
    ----------
    folder : Path
        The job's folder; made if need be.
    """

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.name = folder.name
        self.history = History()
        self.settings: dict[str, Any] = {}
        self.store = storage.Store(folder)
        self.keeper = storage.Keeper(folder)
        self.executor = Executor(self.store, self.refuse_output)
        self._unused: set[str] = set()
        self._claim: Claim | None = None
        if (folder / storage.JOB_FILE).exists():
            self.name, history, self.settings = storage.load(folder)
            stand_in(history, dict(self.settings.get("plugins", {})))
            history = upgraded(history, folder / storage.JOB_FILE)
            self.history = moved(history, Path(str(self.settings.get("folder", folder.resolve()))), folder.resolve())
        self.settings["folder"] = str(folder.resolve())

    # -- the job

    @property
    def graph(self) -> Graph:
        """The lineage as it is now."""
        return self.history.graph

    def save(self) -> None:
        """Write the job; every change does it, so nothing waits to be saved."""
        if used := plugins_of(self.graph):
            # Should one be missing on another day, it can be named.
            self.settings["plugins"] = {**self.settings.get("plugins", {}), **used}
        self.keeper.keep(self.name, self.history, self.settings)

    def claim(self) -> None:
        """Keep other windows from opening the job as long as this one has it.

        Raises
        ------
        JobInUseError
            If another has it open.
        """
        if self._claim is None:
            self._claim = Claim(self.folder)

    def close(self) -> None:
        """Write what waits to be written; the job is not changed after."""
        try:
            self.keeper.close()
        finally:
            if self._claim is not None:
                self._claim.release()
                self._claim = None

    @property
    def deliver_folder(self) -> Path:
        """Where the last file went out to, or beside the job."""
        return Path(str(self.settings.get("deliver_folder", self.folder.parent)))

    def remember(self, kind: str, of: str, words: dict[str, str]) -> None:
        """Remember what was asked for, to propose it the next time; no step of the history."""
        self.settings.setdefault(kind, {})[of] = dict(words)
        self.save()

    def remembered(self, kind: str, of: str) -> dict[str, str]:
        """Return what was asked for the last time; nothing where that is not known."""
        found = self.settings.get(kind, {}).get(of, {})
        return {str(name): str(text) for name, text in found.items()} if isinstance(found, dict) else {}

    def sweep(self, before: float) -> int:
        """Remove results that no step of the history refers to and that are older than a time; return how many."""
        return self.store.sweep(self.history.digests(), before)

    def save_copy(self, target: Path) -> None:
        """Copy the job to a new folder."""
        self.save()
        self.keeper.flush()
        storage.copy(self.folder, target)

    def change(self, graph: Graph, label: str) -> None:
        """Make a new graph the present one; the one before can be had back by `undo`."""
        self.history = self.history.then(graph, label)
        self.save()

    def accept(self, nodes: Sequence[Node], label: str) -> None:
        """Put new or newly made nodes into the lineage as one step of the history."""
        graph = self.graph
        for node in nodes:
            graph = graph.with_node(node)
        self.change(graph, label)

    def amend(self, graph: Graph) -> None:
        """Replace the present graph by one with other results; no step of the history."""
        before = self.graph
        self.history = self.history.amended(graph)
        self.save()
        self._let_go(before)

    def _let_go(self, before: Graph) -> None:
        """Remove results that were only in a graph that is no longer there."""
        gone = {card.digest for card in before.cards.values()} - {card.digest for card in self.graph.cards.values()}
        self._unused |= gone - {""}
        # What was put last may have been asked for again, and be on its way into the graph.
        able = self._unused - set(self.store.latest) - self.executor.checkpoints.lasting()
        if able:
            for digest in able - self.history.digests():
                self.store.release(digest)
            self._unused -= able

    def units(self, more: Sequence[Node] = ()) -> Units:
        """Return the job's units: those of the first source that knows them, `more` counting as the last ones."""
        plan = height = ""
        for node in (*self.graph.nodes.values(), *more):
            for card in node.cards() if node.role is Role.SOURCE else ():
                plan = plan or card.figures.get("horizontal_unit") or ""
                height = height or card.figures.get("vertical_unit") or ""
        return units_of((plan, height))

    def units_text(self) -> str:
        """Return units and reference system in a few words: “m · m · local grid”."""
        if not self.graph.nodes:
            return "empty job"
        words = [unit.value if unit else "?" for unit in self.units()]
        systems = (card.figures["crs"] for card in self.graph.cards.values() if card.figures.get("crs"))
        return " · ".join([*words, next(systems, "local grid")])

    def dataset(self, node: str) -> Dataset | None:
        """Return a node's latest result, also one that is out of date; None for deliveries and what was never made."""
        digest = self.graph[node].digest
        return self.store.get(digest) if digest else None

    def named_dataset(self, node: str) -> Dataset | None:
        """Return a node's latest result under the node's own name."""
        dataset = self.dataset(node) if node in self.graph else None
        return None if dataset is None else dataset.renamed(self.graph[node].name)

    def known_datasets(self) -> list[Dataset]:
        """Return what came in or was made, for comparing units with; large ones last."""
        found = []
        for card in self.graph.cards.values():
            if card.digest:
                try:
                    found.append(self.store.get(card.digest).renamed(card.name))
                except FormatError:
                    continue
        return sorted(found, key=lambda each: sum(each.count().values()))

    def rename(self, node: str, name: str) -> None:
        """Give a node another name; a clash gets a number."""
        wanted = " ".join(name.split())
        if wanted and wanted != self.graph[node].name:
            free = self.graph.free_name(wanted, node)
            self.change(self.graph.changed(node, name=free), f"rename to {free}")

    def show(self, node: str, shown: bool) -> None:
        """Show or hide a node in the views; no step of the history."""
        self.history = self.history.amended(self.graph.changed(node, shown=shown))
        self.save()

    def remove(self, nodes: Sequence[str]) -> None:
        """Take nodes out of the job, with all that was made from them; without its edits a card is what it was before them."""
        names = listed([self.graph[node].name for node in nodes])
        graph = self.graph
        for card in nodes:
            own = graph.node(card)
            if by_hand(own) and own.inputs[0] not in nodes:
                graph = graph.moved_over(card, own.inputs[0])
        self.change(graph.without(nodes), f"remove {names}")

    def refuse_output(self, path: Path) -> None:
        """Refuse to write over a file that the job was read from, or over the job itself.

        Raises
        ------
        CallError
            With the card that was read from it.
        """
        sources = [Path(node.path) for node in self.graph.nodes.values() if node.role is Role.SOURCE]
        refuse_clashes([*dict.fromkeys(sources), self.folder / storage.JOB_FILE], {"the result": path})

    # -- the order in which cards are drawn

    def drawing_order(self) -> list[str]:
        """Return all cards that can be drawn, the lowest first: as the user ordered them, and otherwise by their kinds."""
        found = [
            card for card in self.graph.cards.values() if (kind := kind_named(card.kind)) is not None and kind.drawn
        ]
        place = {node: k for k, node in enumerate(self.settings.get("order", []))}
        known = sorted((card for card in found if card.id in place), key=lambda card: place[card.id])
        # What is not in the user's order goes where its kind usually lies.
        for card in sorted((card for card in found if card.id not in place), key=_rank):
            at = next((k for k, other in enumerate(known) if _rank(other) > _rank(card)), len(known))
            known.insert(at, card)
        return [card.id for card in known]

    def shift(self, node: str, *, up: bool) -> bool:
        """Move a card one place up or down among those that are shown; return whether there was room."""
        order = self.drawing_order()
        shown = [card for card in order if self.graph[card].shown or card == node]
        at = shown.index(node) + (1 if up else -1)
        if not 0 <= at < len(shown):
            return False
        order.remove(node)
        order.insert(order.index(shown[at]) + (1 if up else 0), node)
        self.settings["order"] = order
        self.save()
        return True


def _rank(card: Card) -> int:
    kind = kind_named(card.kind)
    return kind.rank if kind is not None else 0
