"""A job's folder that was moved, together with the files beside it."""

from __future__ import annotations

import dataclasses
import os
from pathlib import Path

from vastgrid.base.files import fingerprint
from vastgrid.lineage.graph import Graph, Node, Role
from vastgrid.lineage.history import History


def moved(history: History, before: Path, now: Path) -> History:
    """Return a history in which sources and deliveries that moved with the job's folder are found where they are now.

    A source is where it is now only if the file there has the same fingerprint; what was up to date stays so.

    Parameters
    ----------
    before, now : Path
        Where the job's folder was, and is.
    """
    if before == now:
        return history
    places: dict[tuple[str, str], str] = {}

    def place(node: Node) -> str:
        key = (node.path, node.fingerprint)
        if key not in places:
            places[key] = _place(node, before, now)
        return places[key]

    def graph_now(graph: Graph) -> Graph:
        other = Graph({key: dataclasses.replace(node, path=place(node)) for key, node in graph.nodes.items()})
        nodes = dict(other.nodes)
        for key, node in graph.nodes.items():
            if nodes[key].path != node.path and node.outcome is not None:
                # What the step is has not changed, only where its file lies.
                made = graph.key(node.outputs[0].card) == node.outcome.key
                if made:
                    outcome = dataclasses.replace(node.outcome, key=other.key(node.outputs[0].card))
                    nodes[key] = dataclasses.replace(nodes[key], outcome=outcome)
        return Graph(nodes)

    return dataclasses.replace(history, graphs=tuple(graph_now(graph) for graph in history.graphs))


def _place(node: Node, before: Path, now: Path) -> str:
    if not node.path or node.role is Role.MADE:
        return node.path
    path = Path(node.path)
    if node.role is Role.SOURCE and path.exists():
        return node.path
    other = Path(os.path.normpath(now / os.path.relpath(path, before)))
    if node.role is Role.DELIVERY:
        # The folder for what goes out moved too, whether or not the file is still there.
        return str(other) if not path.parent.exists() and other.parent.exists() else node.path
    try:
        return str(other) if fingerprint(other) == node.fingerprint else node.path
    except OSError:
        return node.path
