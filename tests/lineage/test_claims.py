"""Two windows on one job, a folder that was moved, copies that stay, room on the disk, a disk that is full."""

import shutil
import subprocess
import sys
import time

import numpy as np
import pytest

from vastgrid.base.errors import CallError, WriteError
from vastgrid.base.progress import Silent
from vastgrid.jobs.dropping import Drop, drop, room_of
from vastgrid.jobs.session import Session
from vastgrid.lineage import store
from vastgrid.lineage.claim import Claim, JobInUseError
from vastgrid.lineage.graph import Role, State
from vastgrid.lineage.history import History
from vastgrid.lineage.payloads import Payloads
from vastgrid.params.declare import plain


@pytest.fixture
def session(tmp_path):
    project = tmp_path / "project"
    project.mkdir()
    places = np.random.default_rng(1).uniform(0.0, 90.0, (200, 2)).round(2).tolist()
    rows = "".join(f"{x},{y},{(x * y) % 7:.2f}\n" for x, y in places)
    (project / "a.csv").write_text("E [m],N [m],Z [m]\n" + rows)
    made = Session(project / "job")
    made.sources.bring_in(project / "a.csv")
    node = made.plan("tin", list(made.graph.cards), {})
    made.change(made.remake(made.graph.with_node(node), [node.id], Silent()), "make Ground")
    return made


def named(session, name):
    return next(card.id for card in session.graph.cards.values() if card.name == name)


def test_two_windows_on_one_job_are_noticed(session):
    session.claim()
    session.claim()
    other = Session(session.folder)
    with pytest.raises(JobInUseError, match=r"job is open in another window \(since .*, process \d+ on "):
        other.claim()
    session.close()
    other.claim()
    other.close()
    # A process that is killed holds nothing any longer.
    code = (
        "import sys,time; from pathlib import Path; from vastgrid.lineage.claim import Claim; "
        f"c = Claim(Path({str(session.folder)!r})); print('held', flush=True); time.sleep(60)"
    )
    process = subprocess.Popen([sys.executable, "-c", code], stdout=subprocess.PIPE, text=True)
    assert process.stdout.readline().strip() == "held"
    with pytest.raises(JobInUseError, match=f"process {process.pid}"):
        Claim(session.folder)
    process.kill()
    process.wait()
    Claim(session.folder).release()


def test_a_job_moves_with_the_files_beside_it(session, tmp_path):
    target = tmp_path / "project" / "out.xml"
    node = session.plan_delivery("landxml", [named(session, "Ground")], {}, target, (None, None))
    session.change(session.remake(session.graph.with_node(node), [node.id], Silent()), "send")
    session.close()
    shutil.move(tmp_path / "project", tmp_path / "archive")
    moved = Session(tmp_path / "archive" / "job")
    assert all(moved.graph.state(card) is State.MADE for card in moved.graph.cards)
    assert moved.graph[named(moved, "a")].path == str(tmp_path / "archive" / "a.csv")
    assert moved.graph[named(moved, "out.xml")].path == str(tmp_path / "archive" / "out.xml")
    assert moved.sources.changed_files() == {}
    moved.undo()
    moved.undo()
    assert all(moved.graph.state(card) is State.MADE for card in moved.graph.cards), "its whole history moved"
    moved.close()
    # Another file of that name is not taken for it.
    shutil.move(tmp_path / "archive", tmp_path / "again")
    (tmp_path / "again" / "a.csv").write_text("E [m],N [m],Z [m]\n0,0,1\n9,0,1\n0,9,1\n")
    other = Session(tmp_path / "again" / "job")
    assert "no longer there" in next(iter(other.sources.changed_files().values()))


def test_a_copy_stays_as_it_is_while_its_parents_go_on(session):
    ground = named(session, "Ground")
    before = session.dataset(ground).content
    copy = session.keep_as_it_is(ground)
    assert session.graph[copy].role is Role.KEPT
    assert "Ground as it was on " in plain(session.sentence(copy))
    node = session.with_word(ground, "max_edge", "12m")
    session.change(session.graph.with_node(node), "change")
    session.amend(session.remake(session.graph, session.stale(session.graph), Silent()))
    assert session.dataset(ground).content != before
    assert session.dataset(copy).content == before
    assert session.graph.state(copy) is State.MADE
    # It can be compared, used, undone, and is there after the job was closed.
    made = session.plan("compare", [copy, ground], {})
    session.change(session.remake(session.graph.with_node(made), [made.id], Silent()), "compare")
    session.close()
    again = Session(session.folder)
    assert again.dataset(copy).content == before
    assert again.history == session.history
    session.store.forget_open()
    session.sweep(time.time() + 1)
    assert session.dataset(copy).content == before, "what a copy keeps is swept by nobody"
    session.undo()
    session.undo()
    session.undo()
    assert copy not in session.graph
    with pytest.raises(CallError, match="has not been made"):
        session.keep_as_it_is(named_delivery(session))


def named_delivery(session):
    node = session.plan("tin", [named(session, "a")], {})
    session.change(session.graph.with_node(node), "plan")
    return node.id


def test_what_can_be_made_again_may_be_dropped(session):
    ground = named(session, "Ground")
    node = session.with_word(ground, "max_edge", "12m")
    session.change(session.graph.with_node(node), "change")
    session.amend(session.remake(session.graph, session.stale(session.graph), Silent()))
    kept = session.keep_as_it_is(ground)
    rooms = {room.what: room for room in room_of(session)}
    assert rooms[Drop.EARLIER].number == 1 and rooms[Drop.EARLIER].size > 1000
    assert rooms[Drop.MADE].number == 1, "what a copy keeps is not dropped with the others"
    content = session.dataset(ground).content
    freed = drop(session, Drop.EARLIER)
    assert freed.size == rooms[Drop.EARLIER].size
    assert session.dataset(ground).content == content
    session.undo()
    session.undo()
    assert session.graph.state(ground) is State.NEVER
    session.amend(session.remake(session.graph, session.stale(session.graph), Silent()))
    assert session.graph.state(ground) is State.MADE
    session.redo()
    session.redo()
    assert session.dataset(kept).content == content
    session.remove([kept])
    session.show(ground, shown=False)
    assert {room.what: room.number for room in room_of(session)}[Drop.HIDDEN] == 0, "undo would bring the copy back"


def test_a_job_that_could_not_be_written_is_written_once_there_is_room(tmp_path, monkeypatch):
    full = [True]
    writes = store.Writer.write

    def write(self, *what):
        if full[0]:
            raise WriteError("job.json was not written: the disk is full")
        writes(self, *what)

    monkeypatch.setattr(store.Writer, "write", write)
    monkeypatch.setattr(store, "GATHER", 0.01)
    monkeypatch.setattr(store, "AGAIN", 0.05)
    told = []
    keeper = store.Keeper(tmp_path)
    keeper.behind(told.append)
    keeper.keep("job", History(), {})
    time.sleep(0.4)
    assert len(told) == 1 and "goes on in memory" in told[0], "it is told once, not every few seconds"
    full[0] = False
    deadline = time.monotonic() + 5
    while len(told) < 2 and time.monotonic() < deadline:
        time.sleep(0.01)
    assert told[1] == "the job is written again; nothing is lost"
    assert store.load(tmp_path)[0] == "job"
    keeper.close()


def test_a_line_of_a_log_is_written_whole_or_not_at_all(tmp_path, monkeypatch):
    own = Payloads(tmp_path)
    word = own.appended("log:abc:0", "set 1 2 3")
    path = tmp_path / "edits" / "abc.log"
    # What a crash cut short there.
    path.write_text(path.read_text() + "set 9 9")
    fresh = Payloads(tmp_path)
    assert fresh.entries(word) == ["set 1 2 3"]
    word = fresh.appended(word, "set 4 5 6")
    assert path.read_text() == "set 1 2 3\nset 4 5 6\n"

    def full(_):
        raise OSError(28, "No space left on device")

    monkeypatch.setattr("os.fsync", full)
    with pytest.raises(WriteError, match="No space left"):
        fresh.appended(word, "set 7 8 9")
    assert path.read_text() == "set 1 2 3\nset 4 5 6\n"
    assert np.array_equal(fresh.entries(word), ["set 1 2 3", "set 4 5 6"])
