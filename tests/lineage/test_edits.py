"""Edits by hand: one log, however many they are; taken back and done again one by one, replayed on newer ground."""

import numpy as np
import pytest

from vastgrid.base.errors import ParamError
from vastgrid.base.progress import Silent
from vastgrid.base.quantities import Length, Unit
from vastgrid.jobs.session import Session
from vastgrid.lineage.checkpoints import EVERY
from vastgrid.lineage.graph import State
from vastgrid.lineage.payloads import LONG, Payloads, effective
from vastgrid.terrain.editing.edits import EditLog, replayed, set_height_line


def write(path, count=12, lift=0.0):
    rows = [f"{431000 + 10 * x},{887000 + 10 * y},{200 + x * 0.5 + lift}" for x in range(count) for y in range(count)]
    path.write_text("E [m],N [m],Z [m]\n" + "\n".join(rows) + "\n")
    return path


@pytest.fixture
def session(tmp_path):
    made = Session(tmp_path / "job")
    made.sources.bring_in(write(tmp_path / "day.csv"))
    node = made.plan("tin", list(made.graph.cards), {})
    made.change(made.remake(made.graph.with_node(node), [node.id], Silent()), "make Ground")
    return made


def last(session):
    return list(session.graph.cards)[-1]


def entry(k, height, count=12):
    return set_height_line(431000.0 + 10 * (k // count), 887000.0 + 10 * (k % count), Length(height))


def remake(session):
    session.amend(session.remake(session.graph, session.stale(session.graph), Silent()))


def height(session, card, k, count=12):
    xyz = session.dataset(card).vertices
    near = np.hypot(xyz[:, 0] - 431000 - 10 * (k // count), xyz[:, 1] - 887000 - 10 * (k % count)).argmin()
    return float(xyz[near, 2])


def test_edits_are_one_step_taken_back_one_by_one(session):
    steps = len(session.history.graphs)
    card = session.editing.add(last(session), entry(5, 210.0))
    remake(session)
    assert session.graph[card].name == "Ground, by hand" and height(session, card, 5) == 210.0
    for k, z in ((6, 211.0), (7, 212.5)):
        assert session.editing.add(card, entry(k, z)) == card
        remake(session)
    assert len(session.history.graphs) == steps + 1 and len(session.editing.entries(card)) == 3
    assert session.undo() == entry(7, 212.5)
    remake(session)
    assert height(session, card, 7) != 212.5 and height(session, card, 6) == 211.0
    assert session.redo() == entry(7, 212.5)
    remake(session)
    assert height(session, card, 7) == 212.5
    session.undo()
    session.undo()
    remake(session)
    assert session.editing.entries(card) == [entry(5, 210.0)]
    assert session.undo() == "edit Ground", "the last one goes with the card"
    assert card not in session.graph
    assert session.redo() == "edit Ground" and session.editing.can_go_on
    session.redo()
    assert session.editing.entries(card) == [entry(5, 210.0), entry(6, 211.0)]
    session.editing.add(card, entry(8, 199.0))
    assert not session.editing.can_go_on, "what was taken back is gone once something else is done"
    session.close()
    again = Session(session.folder)
    assert again.editing.entries(card) == [entry(5, 210.0), entry(6, 211.0), entry(8, 199.0)]
    assert again.undo() == entry(8, 199.0), "also after the job was closed"


def test_what_is_damaged_in_a_word_is_refused_and_nothing_changes(session):
    before = session.graph
    with pytest.raises(ParamError, match="cannot be read"):
        session.editing.add(last(session), "raise everything")
    assert session.graph == before


def test_a_thousand_edits_are_neither_a_thousand_graphs_nor_a_thousand_surfaces(session):
    graphs = len(session.history.graphs)
    card = last(session)
    for k in range(1000):
        card = session.editing.add(card, entry(k % 144, 200.0 + k * 0.001))
        if k % 10 == 9:
            remake(session)
    assert session.graph.state(card) is State.MADE and len(session.editing.entries(card)) == 1000
    assert len(session.history.graphs) == graphs + 1
    surfaces = len(list((session.folder / "data").iterdir()))
    assert surfaces <= 3 + 1000 // EVERY + session.store.latest.maxlen + 1
    whole = replayed(session.dataset(list(session.graph.cards)[1]), EditLog(tuple(session.editing.entries(card))))
    assert not whole.findings and whole.tin.content == session.dataset(card).content, "as from the first"
    job = (session.folder / "job.json").read_text()
    assert "set 431" not in job and len(job) < 40_000, "the log stands beside the job, not in it"
    assert not (session.folder / "payloads").exists(), "and only once"


def test_only_what_is_new_is_done(session, monkeypatch):
    from vastgrid.conversions.surfaces import edit

    done = []
    real = edit.replayed
    monkeypatch.setattr(edit, "replayed", lambda tin, log, near: done.append(len(log)) or real(tin, log, near))
    card = last(session)
    for k in range(6):
        card = session.editing.add(card, entry(k, 205.0))
        remake(session)
    assert done == [1] * 6


def test_edits_are_replayed_on_newer_ground_and_what_no_longer_applies_is_told(session, tmp_path):
    day = next(iter(session.graph.cards))
    card = session.editing.add(last(session), entry(0, 250.0))
    session.editing.add(card, entry(143, 251.0))
    remake(session)
    write(tmp_path / "smaller.csv", count=11, lift=3.0)
    session.accept(session.sources.replaced(day, tmp_path / "smaller.csv", Silent()), "replace")
    remake(session)
    assert height(session, card, 0, 11) == 250.0
    (finding,) = [each for each in session.findings(card) if each.code == "edit-not-applied"]
    assert "Edit 2" in finding.text and finding.at == (431110.0, 887110.0)


def test_an_edit_that_does_not_apply_is_told_by_its_number_in_the_whole_log(session):
    """Also where only the new entries are made, on what was made for those before."""
    card = session.editing.add(last(session), entry(5, 210.0))
    remake(session)
    session.editing.add(card, set_height_line(1.0, 2.0, Length(5.0)))
    remake(session)
    session.editing.add(card, entry(6, 211.0))
    remake(session)
    (finding,) = [each for each in session.findings(card) if each.code == "edit-not-applied"]
    assert finding.text.startswith("Edit 2 (") and finding.at == (1.0, 2.0)


def test_units_of_an_edit_are_its_own():
    from builders import ground

    tin = ground(50)
    east, north = (float(value) for value in tin.vertices[7, :2])
    made = replayed(tin, EditLog((set_height_line(east, north, Length(1000.0, Unit.FOOT)),))).tin
    assert made.vertices[7, 2] == pytest.approx(304.8, abs=1e-9)
    assert np.array_equal(np.delete(made.vertices, 7, 0), np.delete(tin.vertices, 7, 0))
    same = np.hypot(*(made.source_points[:, :2] - (east, north)).T).argmin()
    assert made.source_points[same, 2] == pytest.approx(304.8), "what it is built from says the same"
    assert (
        EditLog.shown(set_height_line(1.0, 2.0, Length(3.25, Unit.METRE)))
        == "vertex at E 1.000, N 2.000 set to 3.250 m"
    )


def test_a_log_only_grows(tmp_path):
    kept = Payloads(tmp_path)
    word = "log:abc123:0"
    for line in ("one", "two", "three"):
        word = kept.appended(word, line)
    early = kept.appended("log:abc123:1", "other")
    assert kept.entries(word) == ["one", "two", "three"], "what it was at a word stays"
    assert kept.entries(early) == ["one", "other"]
    assert kept.entries(kept.appended(early, "undo")) == ["one"]
    (tmp_path / "edits" / "abc123.log").open("a").write("cut sho")
    assert Payloads(tmp_path).entries(early) == ["one", "other"], "a line that a crash cut short never was"
    assert effective(["a", "undo", "undo", "redo", "redo", "b", "redo"]) == ["a", "b"]


def test_long_words_stand_beside_the_job(tmp_path):
    kept = Payloads(tmp_path)
    words = {"long": "x" * (LONG + 1), "short": "5m"}
    small = kept.kept(words)
    assert small["short"] == "5m" and len(small["long"]) < 60
    assert Payloads(tmp_path).full(small) == words
