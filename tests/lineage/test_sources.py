"""A surface's sources: switched, taken out, replaced, added; files that changed on disk."""

import numpy as np
import pytest

from vastgrid.base.errors import CallError, FormatError, WriteError
from vastgrid.base.progress import Silent
from vastgrid.execution.steps import read_file
from vastgrid.jobs.session import Session
from vastgrid.lineage.graph import State
from vastgrid.params.declare import plain


def write_day(path, seed, height=200.0, rows=200):
    xy = np.random.default_rng(seed).random((rows, 2)) * 100 + (431_000, 887_000)
    lines = [f"{k},{e:.3f},{n:.3f},{height + (e - 431_000) / 5:.3f}" for k, (e, n) in enumerate(xy)]
    path.write_text("Point,E [m],N [m],Z [m]\n" + "\n".join(lines) + "\n")
    return path


@pytest.fixture
def session(tmp_path):
    made = Session(tmp_path / "job")
    for k, name in enumerate(("day1.csv", "day2.csv", "day3.csv")):
        made.sources.bring_in(write_day(tmp_path / name, k))
    node = made.plan("tin", list(made.graph.cards)[:2], {})
    made.change(made.remake(made.graph.with_node(node), [node.id], Silent()), "make Ground")
    return made


def named(session, name):
    return next(node for node in session.graph.cards.values() if node.name == name)


def remade(session):
    graph = session.remake(session.graph, session.stale(session.graph), Silent())
    session.history = session.history.amended(graph)
    return session.dataset(named(session, "Ground").id)


def test_switched_off_and_on(session):
    ground, day = named(session, "Ground"), named(session, "day2")
    both = session.dataset(ground.id).digest
    session.switch(ground.id, day.id, on=False)
    assert session.graph.state(ground.id) is State.STALE
    assert plain(session.sentence(ground.id)).startswith("TIN from day1, inside")
    assert len(remade(session).vertices) == 200
    session.switch(ground.id, day.id, on=True)
    assert remade(session).digest == both
    for name in ("day1", "day2"):
        session.switch(ground.id, named(session, name).id, on=False)
    with pytest.raises(CallError, match="every source of Ground is switched off"):
        remade(session)
    assert session.undo().startswith("switch day2 off") and session.undo().startswith("switch day1 off")


def test_taken_out_and_added(session):
    ground, day2, day3 = named(session, "Ground"), named(session, "day2"), named(session, "day3")
    assert session.usable_sources(ground.id) == [day3.id]
    session.add_sources(ground.id, [day3.id])
    assert len(remade(session).vertices) == 600
    session.drop_source(ground.id, day2.id)
    assert len(remade(session).vertices) == 400 and day2.id in session.graph
    session.drop_source(ground.id, day3.id)
    with pytest.raises(CallError, match="no other source"):
        session.drop_source(ground.id, named(session, "day1").id)
    with pytest.raises(CallError, match="made from Ground"):
        session.add_sources(ground.id, [ground.id])


def test_a_source_made_later_comes_before_what_uses_it(session, tmp_path):
    ground = named(session, "Ground")
    session.sources.bring_in(write_day(tmp_path / "day4.csv", 9))
    session.add_sources(ground.id, [named(session, "day4").id])
    order = list(session.graph.cards)
    assert order.index(named(session, "day4").id) < order.index(ground.id)
    assert len(remade(session).vertices) == 600


def test_replaced_by_a_newer_file_of_the_same_layout(session, tmp_path):
    ground, day = named(session, "Ground"), named(session, "day2")
    newer = write_day(tmp_path / "day2 again.csv", 1, height=250.0)
    session.accept(session.sources.replaced(day.id, newer, Silent()), "replace day2")
    assert session.graph[day.id].path.endswith("day2 again.csv") and session.graph[day.id].name == "day2"
    assert session.graph.state(ground.id) is State.STALE
    assert remade(session).extent().elevation[1] > 250.0
    session.undo()
    assert session.graph[day.id].path.endswith("day2.csv")
    (tmp_path / "edges.obj").write_text("v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n")
    with pytest.raises(CallError, match="import it as a new source"):
        session.sources.replaced(day.id, tmp_path / "edges.obj", Silent())
    with pytest.raises(FormatError):
        session.sources.replaced(day.id, tmp_path / "nowhere.csv", Silent())


def test_files_that_changed_on_disk_are_noticed(session, tmp_path):
    assert session.sources.changed_files() == {}
    day1, day2 = named(session, "day1"), named(session, "day2")
    text = (tmp_path / "day1.csv").read_text()
    (tmp_path / "day1.csv").write_text(text)
    assert session.sources.changed_files() == {}, "touched, yet the same"
    (tmp_path / "day1.csv").write_text(text + "999,431001,887001,300\n")
    (tmp_path / "day2.csv").unlink()
    found = session.sources.changed_files()
    assert "changed on disk" in found[day1.id] and "no longer there" in found[day2.id]
    session.accept(session.sources.replaced(day1.id, tmp_path / "day1.csv", Silent()), "read again")
    assert day1.id not in session.sources.changed_files()
    assert len(session.dataset(day1.id).xyz) == 201


def test_lines_left_out_are_kept_beside_the_job(session, tmp_path):
    path = write_day(tmp_path / "bad.csv", 4)
    path.write_text(path.read_text() + "x,y\n")
    source = read_file(path, {}, Silent())
    target = session.sources.keep_left_out(source)
    assert target.parent.parent == session.folder and "too few columns\tx,y" in target.read_text()
    (session.folder / "left out" / "bad.csv.txt").unlink()
    (session.folder / "left out").rmdir()
    (session.folder / "left out").write_text("a file in the way")
    with pytest.raises(WriteError):
        session.sources.keep_left_out(source)


def test_survives_saving_and_opening(session):
    ground, day = named(session, "Ground"), named(session, "day2")
    session.switch(ground.id, day.id, on=False)
    session.paint(day.id, "#0072B2")
    again = Session(session.folder)
    assert again.graph[ground.id].off == (day.id,) and again.graph[day.id].colour == "#0072B2"
    assert again.graph.state(ground.id) is State.STALE
