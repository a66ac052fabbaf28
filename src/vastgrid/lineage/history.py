"""The history of a job: every graph it has been; undo is the one before."""

from __future__ import annotations

import dataclasses
from dataclasses import dataclass

from vastgrid.lineage.graph import Graph


@dataclass(frozen=True)
class History:
    """Every graph the job has been, and which one it is now."""

    graphs: tuple[Graph, ...] = (Graph(),)
    labels: tuple[str, ...] = ("an empty job",)
    at: int = 0

    @property
    def graph(self) -> Graph:
        """The graph now."""
        return self.graphs[self.at]

    def then(self, graph: Graph, label: str) -> History:
        """Return the history with a new graph; what had been undone is forgotten."""
        return History((*self.graphs[: self.at + 1], graph), (*self.labels[: self.at + 1], label), self.at + 1)

    def amended(self, graph: Graph) -> History:
        """Return the history with the present graph replaced: for results, which are no decision of the user."""
        return History((*self.graphs[: self.at], graph, *self.graphs[self.at + 1 :]), self.labels, self.at)

    @property
    def can_undo(self) -> bool:
        """Whether there is something before."""
        return self.at > 0

    @property
    def can_redo(self) -> bool:
        """Whether something was undone."""
        return self.at < len(self.graphs) - 1

    def undone(self) -> History:
        """Return the history one graph back; how cards are seen stays as it is."""
        return self._moved(max(self.at - 1, 0))

    def redone(self) -> History:
        """Return the history one graph on; how cards are seen stays as it is."""
        return self._moved(min(self.at + 1, len(self.graphs) - 1))

    def _moved(self, at: int) -> History:
        return dataclasses.replace(self, at=at).amended(self.graphs[at].dressed_as(self.graph))

    def digests(self) -> set[str]:
        """Return what any of its graphs has in the store."""
        return {
            given.digest
            for graph in self.graphs
            for node in graph.nodes.values()
            if node.outcome
            for given in node.outcome.results.values()
        }
