"""The lineage as its definition says: any changes in any order, tried by hypothesis."""

import dataclasses
import json

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from vastgrid.lineage.graph import Given, Graph, Node, Outcome, OutputCard, Role, State, Use, node_of, node_values
from vastgrid.lineage.history import History


def source(name, digest="d"):
    node = Node(
        id=name, role=Role.SOURCE, operation="text", outputs=(OutputCard(name, name=name),), path=f"/{name}.csv"
    )
    return dataclasses.replace(node, outcome=Outcome(Graph({name: node}).key(name), {"": Given(digest + name)}))


def uses(*cards):
    return tuple(Use(card) for card in cards)


def made(graph, name, inputs, operation="tin", digest=""):
    graph = graph.with_node(
        Node(name, Role.MADE, operation, uses=uses(*inputs), outputs=(OutputCard(name, name=name),))
    )
    return run(graph, name, digest)


def run(graph, name, digest=""):
    return graph.changed(name, outcome=Outcome(graph.key(name), {"": Given(digest or f"r{graph.key(name)}")}))


def chain():
    """Two sources → ground → contours and grid → a file."""
    graph = Graph().with_node(source("a")).with_node(source("b"))
    graph = made(graph, "ground", ["a", "b"])
    graph = made(graph, "lines", ["ground"], "contours")
    graph = made(graph, "grid", ["ground"], "grid")
    return made(graph, "file", ["lines", "grid"], "dxf")


def states(graph):
    return {name: graph.state(name) for name in graph.cards}


def test_all_is_made():
    assert set(states(chain()).values()) == {State.MADE}


@pytest.mark.parametrize(
    ("change", "stale"),
    [
        (("a", {"fingerprint": "new"}), {"a", "ground", "lines", "grid", "file"}),
        (("ground", {"words": {"max_edge": "30.0m"}}), {"ground", "lines", "grid", "file"}),
        (("ground", {"off": ("b",)}), {"ground", "lines", "grid", "file"}),
        (("lines", {"words": {"interval": "1.0m"}}), {"lines", "file"}),
        (("grid", {"version": 2}), {"grid", "file"}),
        (("file", {"into": ("ft", "ft")}), {"file"}),
        (("ground", {"name": "Ground 2026"}), set()),
        (("lines", {"shown": False, "colour": "#123456", "look": {"width": "2.0"}}), set()),
    ],
)
def test_a_change_reaches_what_follows_and_nothing_else(change, stale):
    node, values = change
    graph = chain().changed(node, **values)
    assert {name for name, state in states(graph).items() if state is State.STALE} == stale


def test_the_same_result_again_leaves_what_follows_as_it_is():
    """A source read again with the same content changes nothing after it: results are known by content."""
    graph = chain().changed("a", fingerprint="new")
    graph = run(graph, "a", graph["a"].digest)
    assert set(states(graph).values()) == {State.MADE}


def test_a_switched_off_source_that_changes_is_no_matter():
    graph = chain().changed("ground", off=("b",))
    for name in ("ground", "lines", "grid", "file"):
        graph = run(graph, name)
    graph = run(graph.changed("b", fingerprint="new"), "b", "other")
    assert graph.state("ground") is State.MADE


def test_taking_out_takes_what_follows():
    assert set(chain().without(["ground"]).nodes) == {"a", "b"}
    assert set(chain().without(["lines"]).nodes) == {"a", "b", "ground", "grid"}
    assert set(chain().without([]).nodes) == set(chain().nodes)


def test_what_follows_comes_inputs_first():
    assert chain().after("a") == ["ground", "lines", "grid", "file"]
    assert chain().after("file") == []


def test_an_input_added_later_is_put_before():
    graph = chain().with_node(source("c")).changed("ground", uses=uses("a", "b", "c"))
    names = list(graph.ordered().nodes)
    assert names.index("c") < names.index("ground") < names.index("lines") and set(names) == set(graph.cards)


def test_names_are_numbered():
    graph = chain().changed("lines", name="ground (2)")
    assert graph.free_name("ground") == "ground (3)" and graph.free_name("new") == "new"
    assert graph.free_name("ground", "ground") == "ground", "a card does not clash with itself"


NAMES = st.sampled_from(["a", "b", "ground", "lines", "grid", "file"])
CHANGES = st.lists(
    st.one_of(
        st.tuples(st.just("words"), NAMES, st.integers(0, 3)),
        st.tuples(st.just("off"), st.just("ground"), st.integers(0, 1)),
        st.tuples(st.just("run"), NAMES, st.just(0)),
        st.tuples(st.just("remove"), NAMES, st.just(0)),
        st.tuples(st.just("undo"), NAMES, st.integers(1, 3)),
        st.tuples(st.just("redo"), NAMES, st.integers(1, 3)),
    ),
    max_size=25,
)


@settings(max_examples=150, deadline=None)
@given(CHANGES)
def test_history_is_every_graph_there_was(changes):
    """A model of plain lists beside the history: both hold the same graphs at every moment."""
    history, past, at = History().then(chain(), "begin"), [Graph(), chain()], 1
    for what, name, number in changes:
        graph = history.graph
        if what in ("undo", "redo"):
            for _ in range(number):
                history = history.undone() if what == "undo" else history.redone()
                at = max(at - 1, 0) if what == "undo" else min(at + 1, len(past) - 1)
        elif name in graph:
            if what == "words":
                graph = graph.changed(name, words={"x": str(number)})
            elif what == "off":
                graph = graph.changed(name, off=("b",) if number else ())
            elif what == "run":
                graph = run(graph, name)
            else:
                graph = graph.without([name])
            if what == "run":
                history = history.amended(graph)
                past[at] = graph
            else:
                history = history.then(graph, what)
                past, at = [*past[: at + 1], graph], at + 1
        assert history.graph == past[at] and len(history.graphs) == len(past) == len(history.labels)
        assert (history.can_undo, history.can_redo) == (at > 0, at < len(past) - 1)
        own = history.graph
        for each in own.nodes.values():
            assert all(i in own for i in each.inputs), "nothing is made from what is gone"
            if own.state(each.id) is State.MADE:
                assert all(own.state(i) is State.MADE for i in each.inputs if i not in each.off)
        again = json.loads(json.dumps([node_values(node) for node in own.nodes.values()]))
        assert Graph({node.id: node for node in map(node_of, again)}) == own


@settings(max_examples=50, deadline=None)
@given(st.permutations(["lines", "grid", "file", "ground", "a", "b"]))
def test_ordering_gives_inputs_first_from_any_order(order):
    graph = chain()
    shuffled = Graph({name: graph.nodes[name] for name in order})
    seen = set()
    for node in shuffled.ordered().nodes.values():
        assert set(node.inputs) <= seen
        seen.add(node.id)
    assert seen == set(graph.cards)


@pytest.mark.parametrize("values", [[{"id": "a"}], [{"id": "a", "role": "king", "operation": "x"}], [{"id": "a", "role": "made", "operation": "x", "more": 1}]])  # fmt: skip
def test_what_is_no_graph_is_refused(values):
    with pytest.raises((KeyError, TypeError, ValueError)):
        [node_of(value) for value in values]
