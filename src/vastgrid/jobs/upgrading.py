"""Jobs made by another version of the program: steps that are now done otherwise are out of date, not silently the same."""

from __future__ import annotations

import dataclasses
from pathlib import Path

from vastgrid import catalog
from vastgrid.base.errors import CallError, FormatError
from vastgrid.lineage.graph import Graph, Node, Role
from vastgrid.lineage.history import History
from vastgrid.lineage.payloads import is_reference
from vastgrid.params import declare

Step = tuple[int, dict[str, str]]


def upgraded(history: History, path: Path) -> History:
    """Return a history whose steps have the versions and parameters of this program.

    A node that changes by it is out of date from then on, since its key is another; its result stays until it is made again.

    Raises
    ------
    FormatError
        If a step is not known here.
    """
    known: dict[tuple[object, ...], Step] = {}

    def step(node: Node) -> Step:
        own = (node.role, node.operation, node.version, tuple(sorted(node.words.items())))
        if own not in known:
            known[own] = _step(node, path)
        return known[own]

    def node_now(node: Node) -> Node:
        version, words = step(node)
        same = version == node.version and words == node.words
        return node if same else dataclasses.replace(node, version=version, words=words)

    graphs = tuple(Graph({key: node_now(node) for key, node in graph.nodes.items()}) for graph in history.graphs)
    return dataclasses.replace(history, graphs=graphs)


def _step(node: Node, path: Path) -> Step:
    if node.role is Role.KEPT:
        return node.version, node.words
    try:
        if node.role is Role.MADE:
            conversion = catalog.conversion_named(node.operation)
            return conversion.version, _words(conversion.params, node.words)
        kind = catalog.format_named(node.operation)
    except CallError as error:
        why = (
            f"it holds a step “{node.operation}” that is not known here; it was made by another version of the program"
        )
        raise FormatError(path, why) from error
    return node.version, _words(kind.read_params if node.role is Role.SOURCE else kind.write_params, node.words)


def _words(params: type, words: dict[str, str]) -> dict[str, str]:
    """Return the words that still say something; for all others the defaults count."""
    kept: dict[str, str] = {}
    known = {field.name for field in declare.fields(params)}
    for name, text in words.items():
        if is_reference(text):
            kept |= {name: text} if name in known else {}
            continue
        try:
            declare.build(params, {name: text})
        except CallError:
            continue
        kept[name] = text
    return kept
