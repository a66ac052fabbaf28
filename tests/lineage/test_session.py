"""The lineage, undo, jobs on disk, and tasks."""

import json
import threading
import time

import numpy as np
import pytest

from builders import ground
from vastgrid.base.errors import CallError, FormatError, ParamError, WriteError
from vastgrid.base.progress import Silent
from vastgrid.jobs.session import Session
from vastgrid.lineage.graph import Graph, Node, Role, State, node_of
from vastgrid.lineage.history import History
from vastgrid.lineage.store import Store
from vastgrid.params.declare import plain
from vastgrid.tasks.runner import Runner, Task


@pytest.fixture
def session(tmp_path):
    rng = np.random.default_rng(2)
    rows = rng.random((300, 2)) * 100 + (431000, 887000)
    lines = [f"{e:.3f},{n:.3f},{200 + (e - 431000) / 5:.3f}" for e, n in rows]
    (tmp_path / "day.csv").write_text("E [m],N [m],Z [m]\n" + "\n".join(lines) + "\n")
    made = Session(tmp_path / "job")
    made.sources.bring_in(tmp_path / "day.csv")
    for operation, words in (("tin", {}), ("contours", {"interval": "1m"})):
        node = made.plan(operation, [list(made.graph.cards)[-1]], words)
        made.change(made.remake(made.graph.with_node(node), [node.id], Silent()), f"make {node.name}")
    return made


def named(session, name):
    return next(node for node in session.graph.cards.values() if node.name == name)


def test_sentences_and_states(session):
    day, tin, contours = session.graph.cards.values()
    assert plain(session.sentence(contours.id)) == (
        "Contours every 1 m from Ground, starting at 0 m, every 5th one an index contour, not smoothed."
    )
    assert [piece.field for piece in session.sentence(contours.id) if piece.field] == [
        "interval",
        "base",
        "index",
        "smooth",
    ]
    assert all(session.graph.state(node.id) is State.MADE for node in (day, tin, contours))


def test_a_change_makes_what_follows_out_of_date_and_undo_brings_all_back(session):
    tin, contours = named(session, "Ground"), named(session, "Contours 1 m")
    before = session.dataset(contours.id).digest
    session.change(session.graph.with_node(session.with_word(tin.id, "max_edge", "9m")), "change max edge")
    assert session.graph.state(tin.id) is session.graph.state(contours.id) is State.STALE
    made = session.remake(session.graph, session.stale(session.graph), Silent())
    session.history = session.history.amended(made)
    assert session.graph.state(contours.id) is State.MADE
    assert session.dataset(contours.id).digest != before
    assert session.undo() == "change max edge"
    assert session.graph.state(contours.id) is State.MADE and session.dataset(contours.id).digest == before
    assert session.redo() == "change max edge"
    assert session.dataset(contours.id).digest != before


def test_everything_can_be_undone_and_done_again_without_limit(session):
    for k in range(60):
        session.rename(named(session, "Ground" if k == 0 else f"Ground {k - 1}").id, f"Ground {k}")
    for _ in range(63):
        session.undo()
    assert not session.graph.cards and not session.history.can_undo
    while session.history.can_redo:
        session.redo()
    assert named(session, "Ground 59")


def test_a_job_opens_as_it_was(session):
    again = Session(session.folder)
    assert again.graph == session.graph and again.name == session.name
    assert len(again.history.graphs) == len(session.history.graphs)
    for node in session.graph.cards:
        one, other = session.dataset(node), again.dataset(node)
        assert one.digest == other.digest and type(one) is type(other) and one.frame == other.frame
    again.undo()
    assert len(again.graph.cards) == 2


def test_save_a_copy(session, tmp_path):
    session.save_copy(tmp_path / "copy")
    assert Session(tmp_path / "copy").dataset(named(session, "Ground").id) is not None
    with pytest.raises(WriteError, match="not empty"):
        session.save_copy(tmp_path / "copy")


def test_damaged_jobs_say_so(session):
    path = session.folder / "job.json"
    text = path.read_text()
    for bad in (text[: len(text) // 2], "[]", text.replace('"version": 3,', '"version": 99,', 1), "{}"):
        path.write_text(bad)
        with pytest.raises(FormatError):
            Session(session.folder)
    path.write_text(text)
    digest = named(session, "Ground").digest
    (session.folder / "data" / digest / "about.json").write_text("{")
    with pytest.raises(FormatError, match="make it again"):
        Session(session.folder).dataset(named(session, "Ground").id)


def rewritten(session, change):
    """The job as another version of the program would have written it."""
    path = session.folder / "job.json"
    values = json.loads(path.read_text())
    for node in values["nodes"]:
        change(node)
    path.write_text(json.dumps(values))
    return Session(session.folder)


def states(session):
    return {node.name: session.graph.state(node.id) for node in session.graph.cards.values()}


def test_a_step_that_is_done_otherwise_now_is_out_of_date(session):
    def older(node):
        if node["operation"] == "contours":
            # As version 0 would have noted what it made the contours from.
            node["version"] = 0
            node["outcome"]["key"] = session.graph.with_node(node_of(node)).key(node["id"])

    assert set(states(session).values()) == {State.MADE}
    again = rewritten(session, older)
    assert [name for name, state in states(again).items() if state is State.STALE] == ["Contours 1 m"]
    node = named(again, "Contours 1 m")
    assert again.dataset(node.id) is not None, "what was made stays until it is made again"
    again.change(again.remake(again.graph, [node.id], Silent()), "make again")
    assert set(states(Session(session.folder)).values()) == {State.MADE}


def test_parameters_that_are_gone_are_left_out_and_the_rest_counts(session):
    def older(node):
        if node["operation"] == "tin":
            node["words"] = {**node["words"], "glue": "yes", "heights": "whatever", "max_edge": "50.0m"}

    again = rewritten(session, older)
    own = named(again, "Ground")
    assert "glue" not in own.words and "heights" not in own.words and own.words["max_edge"] == "50.0m"
    assert "50 m" in plain(again.sentence(own.id))
    assert states(again)["Ground"] is State.STALE


def test_a_step_nobody_knows_is_told_and_its_results_stay(session):
    """Whether a plug-in or a newer program made it: it cannot be made anew, and everything else goes on."""
    before = (session.folder / "job.json").read_text()

    def newer(node):
        if node["operation"] == "contours":
            node["operation"] = "dream"

    again = rewritten(session, newer)
    own = next(node for node in again.graph.nodes.values() if node.operation == "dream")
    card = own.outputs[0].card
    assert "“dream” of a plug-in, which is not here" in str(again.sentence(card))
    assert again.named(card).content == session.named(card).content
    with pytest.raises(CallError, match="which is not here"):
        again.executor.make(again.graph, own.id, Silent())
    again.close()
    assert "dream" in (session.folder / "job.json").read_text()
    (session.folder / "job.json").write_text(before)
    assert Session(session.folder).graph == session.graph


def test_names_stay_unique(session):
    assert session.graph.free_name("Ground") == "Ground (2)"
    session.rename(named(session, "day").id, " Ground ")
    assert named(session, "Ground (2)").role is Role.SOURCE


def test_removing_takes_what_follows(session):
    session.remove([named(session, "Ground").id])
    assert [node.name for node in session.graph.cards.values()] == ["day"]


def test_wrong_wishes_are_refused(session):
    with pytest.raises(CallError, match="contours can use TIN, grid"):
        session.plan("contours", [named(session, "day").id], {})
    with pytest.raises(ParamError, match="interval"):
        session.with_word(named(session, "Contours 1 m").id, "interval", "-1")


def test_delivery_is_a_node_with_its_report(session, tmp_path):
    tin = named(session, "Ground").id
    node = session.plan_delivery("landxml", [tin], {}, tmp_path / "g.xml", (None, None))
    session.change(session.remake(session.graph.with_node(node), [node.id], Silent()), "deliver")
    report = session.graph[node.id].outcome.delivery
    assert report.good and report.vertical < 1e-4
    assert "written to g.xml as LandXML" in plain(session.sentence(node.id))
    session.change(session.graph.with_node(session.with_word(tin, "heights", "lowest")), "change")
    assert session.graph.state(node.id) is State.STALE


def test_second_source_is_brought_into_the_jobs_units(session, tmp_path):
    (tmp_path / "feet.csv").write_text("E [us-ft],N [us-ft],Z [us-ft]\n3937,3937,3937\n0,0,0\n3937,0,0\n")
    (node,) = session.sources.bring_in(tmp_path / "feet.csv")
    np.testing.assert_allclose(session.dataset(node.id).xyz[0], [1200, 1200, 1200], rtol=1e-15)
    assert node.into == ("m", "m")


def test_history_forgets_what_was_undone_only_when_something_new_is_done():
    history = History()
    one = history.then(Graph({"a": Node("a", Role.SOURCE, "text")}), "a")
    two = one.undone().then(Graph({"b": Node("b", Role.SOURCE, "text")}), "b")
    assert [*two.graph.cards] == ["b"] and not two.can_redo and len(two.graphs) == 2


def test_store_survives_a_kill_in_the_middle(tmp_path):
    store = Store(tmp_path)
    tin = ground(100)
    (tmp_path / "data").mkdir()
    (tmp_path / "data" / f".{tin.digest}").mkdir()
    digest = store.put(tin)
    assert json.loads((tmp_path / "data" / digest / "about.json").read_text())["kind"] == "tin"
    fresh = Store(tmp_path).get(digest)
    np.testing.assert_array_equal(fresh.triangles, tin.triangles)


def test_runner_reports_cancels_and_survives_faults():
    seen, failures, done = [], [], []
    runner = Runner(lambda task: seen.append((task.title, task.state)))
    begun = threading.Event()

    def long(progress):
        begun.set()
        while True:
            progress.report(0.5, "working")
            time.sleep(0.005)

    first = runner.start(Task("long", long, done.append, lambda why, detail: failures.append(why)))
    assert begun.wait(5)
    first.cancel()
    runner.start(Task("bad", lambda p: 1 / 0, done.append, lambda why, detail: failures.append((why, detail))))
    runner.start(Task("good", lambda p: 42, done.append, lambda why, detail: failures.append(why)))
    while runner.busy:
        time.sleep(0.01)
    runner.close()
    assert done == [42] and first.state == "cancelled"
    ((why, detail),) = failures
    assert "an unforeseen fault in the program itself" in why and "division by zero" in detail
