"""A set goes to a folder all or none: with a full disk, a folder that goes, a reader that differs, a process that is killed."""

import errno
import json
import multiprocessing
import os
import signal
from pathlib import Path

import pytest

from vastgrid.base import files
from vastgrid.base.errors import CallError, WriteError
from vastgrid.base.files import all_or_none, replacing, staged, sweep
from vastgrid.jobs.save_as_job import NewJob

NAMES = ("a.csv", "b.xml", "c.tif")


def write_all(folder, *, fail=None):
    with all_or_none(folder):
        for name in NAMES[:2]:
            with replacing(folder / name) as temporary:
                temporary.write_text(f"new {name}")
            assert not (folder / name).exists() or (folder / name).read_text() == "old"
        with staged(folder / NAMES[2]) as (inner, place):
            (inner / NAMES[2]).write_text("new c.tif")
            (inner / "c.prj").write_text("new c.prj")
            place([NAMES[2], "c.prj"])
        if fail:
            raise fail


def whole(folder, word):
    there = {each.name: each.read_text() for each in folder.iterdir()}
    return there == dict.fromkeys(NAMES[:2], "old") if word == "old" else set(there) == {*NAMES, "c.prj"}


@pytest.fixture
def folder(tmp_path):
    for name in NAMES[:2]:
        (tmp_path / name).write_text("old")
    return tmp_path


def test_all_get_their_names_together(folder):
    write_all(folder)
    assert whole(folder, "new") and (folder / "a.csv").read_text() == "new a.csv"


@pytest.mark.parametrize("fault", [WriteError("x"), OSError(errno.ENOSPC, "full"), KeyboardInterrupt()])
def test_none_gets_its_name_when_the_last_one_fails(folder, fault):
    with pytest.raises(type(fault)):
        write_all(folder, fail=fault)
    assert whole(folder, "old")


def test_what_was_moved_is_taken_back_when_a_name_is_refused(folder, monkeypatch):
    moved, replace = [], Path.replace

    def refusing(self, target):
        if Path(target).name == "c.tif":
            raise OSError(errno.ENOSPC, "no room")
        moved.append(Path(target).name)
        return replace(self, target)

    monkeypatch.setattr(Path, "replace", refusing)
    with pytest.raises(WriteError, match="the disk is full"):
        write_all(folder)
    monkeypatch.undo()
    assert "a.csv" in moved and whole(folder, "old")


def test_two_files_of_one_name_that_differ_are_refused(folder):
    def write(text):
        with replacing(folder / "a.csv") as temporary:
            temporary.write_text(text)

    with all_or_none(folder):
        write("one")
        write("one")
        with pytest.raises(CallError, match=r"two files of the set would be a\.csv"):
            write("two")
    assert (folder / "a.csv").read_text() == "one"
    (folder / "a.csv").write_text("old")
    assert whole(folder, "old")


def killed(folder, after):
    """Write the set, and be killed after so many names were given."""
    given, replace = [], Path.replace

    def counting(self, target):
        made = replace(self, target)
        given.append(target)
        if len(given) == after:
            os.kill(os.getpid(), signal.SIGKILL)
        return made

    Path.replace = counting
    write_all(folder)


@pytest.mark.parametrize("after", range(1, 7))
def test_whoever_is_killed_meanwhile_leaves_the_old_files_to_the_next(folder, after):
    process = multiprocessing.get_context("fork").Process(target=killed, args=(folder, after))
    process.start()
    process.join()
    # Two files are put aside and four get their names: six moves in all.
    assert process.exitcode == -signal.SIGKILL
    sweep(folder)
    assert whole(folder, "old") and not [each for each in folder.iterdir() if each.name.startswith(".")]


def test_a_plan_that_cannot_be_read_harms_nothing(folder):
    left = folder / ".vastgrid-x"
    left.mkdir()
    (left / "plan.json").write_text("{")
    files._take_back(left)
    (left / "plan.json").write_text(json.dumps([]))
    files._take_back(left)
    (left / "plan.json").unlink()
    left.rmdir()
    assert whole(folder, "old")


def test_a_job_is_made_by_one_at_a_time(tmp_path):
    first = NewJob(tmp_path / "job")
    with pytest.raises(CallError):
        NewJob(tmp_path / "job")
    first.unclaim()
    assert not (tmp_path / "job").exists()
    second = NewJob(tmp_path / "job")
    (tmp_path / "job" / "job.json").write_text("{}")
    second.unclaim()
    with pytest.raises(CallError, match="not empty"):
        NewJob(tmp_path / "job")
