"""What a job was made with of plug-ins, and stand-ins where one of them is missing."""

from __future__ import annotations

from collections.abc import Mapping

from vastgrid import catalog
from vastgrid.declarations.absent import absent_conversion, absent_format
from vastgrid.declarations.conversion import Conversion
from vastgrid.declarations.fileformat import Format
from vastgrid.lineage.graph import Graph, Node, Role
from vastgrid.lineage.history import History


def plugins_of(graph: Graph) -> dict[str, str]:
    """Return the operations of a graph that come from plug-ins, each with the distribution and its version."""
    found = {}
    for node in graph.nodes.values():
        own = _declared(node)
        if own is not None and own.origin:
            found[node.operation] = own.origin
    return found


def _declared(node: Node) -> Conversion | Format | None:
    if node.role is Role.MADE:
        return catalog.CONVERSIONS.named(node.operation)
    return catalog.FORMATS.named(node.operation) if node.operation else None


def stand_in(history: History, origins: Mapping[str, str]) -> None:
    """Let the steps of a history whose plug-in is missing be shown and kept.

    Parameters
    ----------
    origins : mapping
        Distribution and version by operation, as far as the job knows them.
    """
    for graph in history.graphs:
        for node in graph.nodes.values():
            if node.role is Role.KEPT or not node.operation or _declared(node) is not None:
                continue
            origin = str(origins.get(node.operation, ""))
            if node.role is Role.MADE:
                roles = [use.role for use in node.uses]
                outputs = [output.which for output in node.outputs]
                catalog.CONVERSIONS.stand_in(absent_conversion(node.operation, roles, node.words, outputs, origin))
            else:
                catalog.FORMATS.stand_in(absent_format(node.operation, origin))
