"""Keeping a job: written once and behind, looks apart from history, unused results gone, digests never old."""

import dataclasses
import json
import threading
import time

import pytest

from builders import ground, scattered
from vastgrid.base.errors import CallError, FormatError, WriteError
from vastgrid.base.findings import Finding
from vastgrid.base.progress import Silent
from vastgrid.jobs.session import Session
from vastgrid.lineage import store
from vastgrid.lineage.graph import Given, Graph, Node, Outcome, OutputCard, Role, State, Use
from vastgrid.lineage.history import History


@pytest.fixture
def session(tmp_path):
    rows = "".join(f"{x + (y % 3) / 10},{y},{(x * y) % 7}\n" for x in range(0, 90, 10) for y in range(0, 90, 10))
    (tmp_path / "a.csv").write_text("E [m],N [m],Z [m]\n" + rows)
    made = Session(tmp_path / "job")
    made.sources.bring_in(tmp_path / "a.csv")
    return made


def make(session, operation, inputs, words=None):
    node = session.plan(operation, inputs, words or {})
    graph = session.remake(session.graph.with_node(node), [node.id], Silent())
    session.accept([graph.nodes[node.id]], f"make {node.name}")
    return node.id


def only(session):
    return next(iter(session.graph.cards))


def test_a_replaced_dataset_never_keeps_a_digest():
    for data, field in ((scattered(20), "xyz"), (ground(50), "vertices")):
        before = data.digest
        moved = dataclasses.replace(data, **{field: getattr(data, field) + 1.0})
        assert moved.digest != before and moved.content != data.content
        with pytest.raises((TypeError, ValueError)):
            dataclasses.replace(data, _digest=["stale"])


def test_undo_leaves_looks_and_visibility_alone(session):
    tin = make(session, "tin", [only(session)])
    session.rename(tin, "Ground A")
    session.show(tin, shown=False)
    session.set_look(tin, {"colour": "slope"})
    session.undo()
    assert session.graph[tin].name != "Ground A"
    assert not session.graph[tin].shown and session.graph[tin].look == {"colour": "slope"}
    session.show(tin, shown=True)
    session.redo()
    assert session.graph[tin].name == "Ground A" and session.graph[tin].shown


def test_results_that_nothing_refers_to_are_removed(session):
    tin = make(session, "tin", [only(session)])
    lines = make(session, "contours", [tin], {"interval": "1m"})
    lost = session.graph[lines].digest
    session.undo()
    make(session, "contours", [tin], {"interval": "2m"})
    kept = session.history.digests()
    assert lost not in kept and (session.folder / "data" / lost).exists()
    later = time.time() + 1
    assert session.sweep(0.0) == 0, "what is younger than the window stays: it may be on its way in"
    session.store.forget_open()
    assert session.sweep(later) == 1 and not (session.folder / "data" / lost).exists()
    assert all((session.folder / "data" / digest).exists() for digest in kept if digest)


def test_the_state_of_a_ladder_of_merges_is_known_at_once():
    graph = Graph()
    for k in range(400):
        inputs = (Use(f"a{k - 1}"), Use(f"b{k - 1}")) if k else ()
        for name in ("a", "b"):
            node = Node(f"{name}{k}", Role.MADE, "tin", uses=inputs)
            graph = graph.with_node(node)
            graph = graph.changed(node.id, outcome=Outcome(graph.key(node.id), {"": Given(f"{name}{k}")}))
    # Of the processor: the clock on the wall tells of other work as well.
    begun = time.process_time()
    assert graph.state("a399") is State.MADE
    assert graph.changed("a0", words={"x": "y"}).state("b399") is State.STALE
    assert time.process_time() - begun < 2.0


def long_history(steps, cards):
    graph = Graph()
    figures = {"count": {"points": 5}, "extent": {"east": [0.0, 1.0]}}
    for k in range(cards):
        outcome = Outcome("k", {"": Given(f"d{k}", figures)}, findings=(Finding("x", "y" * 300),))
        output = OutputCard(f"n{k}", name=f"Card {k}")
        graph = graph.with_node(Node(f"n{k}", Role.MADE, "tin", outputs=(output,), outcome=outcome))
    history = History((graph,), ("start",), 0)
    for k in range(steps):
        history = history.then(history.graph.changed(f"n{k % cards}", name=f"Step {k}"), f"step {k}")
    return history


def test_what_is_written_opens_as_it_was(tmp_path):
    history = long_history(120, 12)
    keeper = store.Keeper(tmp_path)
    keeper.keep("Überhang “A”", history, {"list": [1, None], "text": "ö\n"})
    name, again, settings = store.load(tmp_path)
    assert (name, settings) == ("Überhang “A”", {"list": [1, None], "text": "ö\n"})
    assert again == history
    values = json.loads((tmp_path / store.JOB_FILE).read_text(encoding="utf-8"))
    assert len(values["nodes"]) == 132, "each node stands there once"


def test_nodes_are_turned_into_text_once(tmp_path, monkeypatch):
    turned = []
    real = store._node_text
    monkeypatch.setattr(store, "_node_text", lambda node: turned.append(node.id) or real(node))
    keeper = store.Keeper(tmp_path)
    history = long_history(60, 10)
    keeper.keep("job", history, {})
    assert len(turned) == 70
    for k in range(20):
        history = history.then(history.graph.changed("n3", name=f"Again {k}"), "again")
        keeper.keep("job", history, {})
    assert len(turned) == 90


def test_changes_are_gathered_and_written_behind(tmp_path, monkeypatch):
    threads = []
    real = store.Writer.write
    monkeypatch.setattr(
        store.Writer, "write", lambda self, *a: threads.append(threading.current_thread()) or real(self, *a)
    )
    keeper = store.Keeper(tmp_path)
    keeper.behind(lambda why: None)
    history = long_history(10, 4)
    for k in range(40):
        keeper.keep(f"tick {k}", history, {})
    keeper.close()
    assert len(threads) <= 2, "a slider's ticks are one writing"
    assert store.load(tmp_path)[0] == "tick 39"


def test_a_full_disk_is_told_not_raised_behind(tmp_path, monkeypatch):
    def full(self, *_):
        raise WriteError("the disk is full")

    monkeypatch.setattr(store.Writer, "write", full)
    monkeypatch.setattr(store, "GATHER", 0.01)
    told = []
    keeper = store.Keeper(tmp_path)
    keeper.behind(told.append)
    keeper.keep("job", History(), {})
    deadline = time.monotonic() + 5
    while not told and time.monotonic() < deadline:
        time.sleep(0.01)
    assert told[0].startswith("the disk is full. The job goes on in memory") and len(told) == 1


def test_several_fields_are_one_step_and_names_follow_the_sentence(session):
    tin = make(session, "tin", [only(session)])
    lines = make(session, "contours", [tin], {"interval": "1m"})
    assert session.graph[lines].name == "Contours 1 m"
    changed = session.with_words(lines, {"interval": "0.25m", "index": "4"})
    assert changed.name == "Contours 0.25 m" and changed.words["index"] == "4"
    with pytest.raises(CallError):
        session.with_words(lines, {"interval": "0.25m", "index": "0"})
    session.rename(lines, "For the designer")
    assert session.with_word(lines, "interval", "2m").name == "For the designer"
    other = make(session, "contours", [tin], {"interval": "1m"})
    assert session.with_word(other, "interval", "0.5m").name == "Contours 0.5 m"


def test_a_file_with_many_datasets_is_read_once_and_replaced_as_a_whole(session, tmp_path, monkeypatch):
    import ezdxf

    def drawing(name, shift):
        document = ezdxf.new("R2018")
        document.header["$INSUNITS"] = 6
        space = document.modelspace()
        for k in range(6):
            space.add_point((k * 10 + shift, k % 2, k))
        space.add_polyline3d([(0 + shift, 0, 1), (5 + shift, 5, 2)])
        space.add_3dface([(0 + shift, 0, 0), (9 + shift, 0, 0), (9 + shift, 9, 0)])
        document.saveas(tmp_path / name)
        return tmp_path / name

    nodes = session.sources.bring_in(drawing("one.dxf", 0))
    ids = [output.card for node in nodes for output in node.outputs]
    assert len(nodes) == 1 and len(ids) == 3
    from vastgrid.execution import executor

    read = []
    real = executor.read_file
    monkeypatch.setattr(executor, "read_file", lambda path, *a, **k: read.append(path.name) or real(path, *a, **k))
    session.remake(session.graph, ids, Silent())
    assert read == ["one.dxf"]
    made = session.sources.replaced(ids[1], drawing("two.dxf", 100), Silent())
    assert read == ["one.dxf", "two.dxf"] and [output.card for output in made[0].outputs] == ids
    session.accept(made, "replace")
    assert all(session.graph[i].path.endswith("two.dxf") for i in ids)
    assert all(session.graph[i].figures["extent"]["east"][0] == 100.0 for i in ids)
    session.undo()
    assert all(session.graph[i].path.endswith("one.dxf") for i in ids)


def test_a_delivery_never_writes_over_what_the_job_was_read_from(session, tmp_path):
    with pytest.raises(CallError, match="is also an input"):
        session.plan_delivery("text", [only(session)], {}, tmp_path / "a.csv", (None, None))
    with pytest.raises(CallError, match="is also an input"):
        session.refuse_output(session.folder / "job.json")


def test_a_failed_reading_back_keeps_what_was_there(tmp_path):
    from vastgrid import catalog
    from vastgrid.delivery.deliver import deliver

    own = catalog.format_named("landxml")

    def lying(path, params, progress):
        result = own.read(path, params, progress)
        (tin,) = result.datasets
        short = dataclasses.replace(tin, triangles=tin.triangles[:-1], neighbours=None, constrained=None)
        return dataclasses.replace(result, datasets=(short,))

    target = tmp_path / "o.xml"
    target.write_text("precious")
    made = deliver([ground(60)], target, dataclasses.replace(own, read=lying), own.write_params(), Silent())
    assert not made.good and target.read_text() == "precious"
    assert made.path == tmp_path / "o.failed.xml" and made.path.read_text().startswith("<?xml")
    assert any("o.xml is as it was" in finding.text for finding in made.findings)
    assert sorted(each.name for each in tmp_path.iterdir()) == ["o.failed.xml", "o.xml"]
    assert made.sentence().startswith("o.failed.xml")


def test_a_job_from_before_the_first_release_is_refused_with_what_to_do(tmp_path):
    session = Session(tmp_path / "job")
    session.change(session.graph, "nothing yet")
    session.close()
    path = session.folder / "job.json"
    values = json.loads(path.read_text())
    path.write_text(json.dumps({**values, "version": 2}))
    with pytest.raises(FormatError, match=r"of format 2.*Import the files it was made from into a new job"):
        store.load(session.folder)
