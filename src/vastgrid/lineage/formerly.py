"""Jobs of format 1, in which every dataset of a file was a node of its own and steps did not tell asked from settled."""

from __future__ import annotations

import dataclasses
import hashlib
import json
from collections.abc import Callable, Sequence
from typing import Any

from vastgrid import catalog
from vastgrid.base.errors import CallError
from vastgrid.lineage.graph import Given, Graph, Node, Outcome, OutputCard, Role, Use
from vastgrid.params import declare

Values = dict[str, Any]


def graphs_of(nodes: Sequence[Values], graphs: Sequence[Sequence[int]]) -> tuple[Graph, ...]:
    """Return the graphs of a job of format 1; what was up to date still is.

    Parameters
    ----------
    nodes : sequence of dict
        Every node that is in any graph.
    graphs : sequence of sequence of int
        The nodes of each graph, by number.
    """
    known: dict[tuple[Any, ...], Node] = {}

    def node(members: tuple[int, ...], make: Callable[[], Node]) -> Node:
        # Most graphs of a history share most nodes; what is one object is kept and written once.
        if members not in known:
            known[members] = make()
        return known[members]

    return tuple(_graph(nodes, own, node) for own in graphs)


def _graph(nodes: Sequence[Values], own: Sequence[int], shared: Callable[..., Node]) -> Graph:
    values = {nodes[k]["id"]: nodes[k] for k in own}
    fresh = {name for name, each in values.items() if each["outcome"] and each["outcome"]["key"] == _key(each, values)}
    groups: dict[Any, list[int]] = {}
    for k in own:
        each = nodes[k]
        reading = (each["path"], each["operation"], each["fingerprint"], each["words"], each["units"], each["override"])
        mark = json.dumps(reading) if each["role"] == Role.SOURCE.value else each["id"]
        groups.setdefault(mark, []).append(k)
    graph = Graph()
    for members in groups.values():
        parts = sorted((nodes[k] for k in members), key=lambda each: int(each["item"]))
        made = shared(tuple(members), lambda parts=parts: _node(parts))
        graph = graph.with_node(made)
        if made.outcome is not None and all(part["id"] in fresh for part in parts):
            key = graph.key(made.outputs[0].card)
            whole = shared((*members, key), lambda made=made, key=key: _with_key(made, key))
            graph = graph.with_node(whole)
    return graph


def _with_key(node: Node, key: str) -> Node:
    assert node.outcome is not None
    return dataclasses.replace(node, outcome=dataclasses.replace(node.outcome, key=key))


def _key(own: Values, values: dict[str, Values]) -> str:
    """Return what a node of format 1 was, in one digest."""
    before = [
        outcome["digest"] if (outcome := values[i]["outcome"]) else "" for i in own["inputs"] if i not in own["off"]
    ]
    names = ("operation", "version", "words", "path", "item", "fingerprint", "units", "into", "override")
    what = [*(own[name] for name in names), before]
    return hashlib.blake2b(json.dumps(what, sort_keys=True).encode(), digest_size=12).hexdigest()


def _node(parts: Sequence[Values]) -> Node:
    """Return the node of one or more nodes of format 1 that came from one reading of a file."""
    first = parts[0]
    role = Role(first["role"])
    outputs = tuple(
        OutputCard(
            card=each["id"],
            which=str(each["item"]) if role is Role.SOURCE else _which(first),
            name=each["name"],
            shown=each["shown"],
            colour=each["colour"],
            look=each["look"],
        )
        for each in parts
    )
    made = [each["outcome"] for each in parts]
    outcome = None
    if all(made):
        results = {
            output.which: Given(each["digest"], each["figures"]) for output, each in zip(outputs, made, strict=True)
        }
        outcome = Outcome(
            key=made[0]["key"],
            results=results,
            settled=dict(first["words"]),
            loss=made[0]["loss"],
            findings=tuple(made[0]["findings"]),
            delivery=made[0]["delivery"],
            when=made[0]["when"],
            seconds=sum(each["seconds"] for each in made),
        )
    into = next((each["into"] for each in parts if any(each["into"])), first["into"])
    return Node(
        id=first["id"],
        role=role,
        operation=first["operation"],
        version=first["version"],
        words=_asked(first),
        uses=tuple(Use(card, _role(first)) for card in first["inputs"]),
        outputs=outputs,
        path=first["path"],
        fingerprint=first["fingerprint"],
        units=(first["units"][0], first["units"][1]),
        into=(into[0], into[1]),
        override=first["override"],
        off=tuple(first["off"]),
        outcome=outcome,
    )


def _which(own: Values) -> str:
    if own["role"] != Role.MADE.value:
        return ""
    try:
        return catalog.conversion_named(own["operation"]).outputs[0].name
    except CallError:
        return ""


def _role(own: Values) -> str:
    if own["role"] != Role.MADE.value:
        return ""
    try:
        return catalog.conversion_named(own["operation"]).inputs[0].role
    except CallError:
        return ""


def _asked(own: Values) -> dict[str, str]:
    """Return the words that were asked for, as far as can be told: those that are no default.

    Format 1 kept everything as it was settled. What was not the default may have been settled for the data; it is kept
    as asked, so that making it again gives what it gave.
    """
    words: dict[str, str] = own["words"]
    if own["role"] != Role.MADE.value:
        return words
    try:
        params = catalog.conversion_named(own["operation"]).params
    except CallError:
        return words
    usual = {field.name: declare.value_text(field.default) for field in declare.fields(params)}
    return {name: text for name, text in words.items() if usual.get(name) != text}
