"""The program as a person starts it: in a process of its own, with what may be wrong on their disk."""

import os
import signal
import subprocess
import sys
import time

import pytest

from vastgrid.base.progress import Silent
from vastgrid.demo import tollgarth
from vastgrid.jobs.session import Session
from vastgrid.qt.window import app


@pytest.fixture
def home(tmp_path):
    """An environment with a data folder of its own and no screen but an unseen one."""
    return {**os.environ, "XDG_DATA_HOME": str(tmp_path / "data"), "QT_QPA_PLATFORM": "offscreen"}


def started(home, *arguments, until, most=60.0):
    """Start the program, wait until something has come about, and end it; return what it said."""
    process = subprocess.Popen(
        [sys.executable, "-m", "vastgrid", *map(str, arguments)], env=home, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True
    )  # fmt: skip
    end = time.monotonic() + most
    while process.poll() is None and time.monotonic() < end and not until():
        time.sleep(0.1)
    running = process.poll() is None
    process.send_signal(signal.SIGKILL)
    out, err = process.communicate(timeout=20)
    return running, out, err


def test_without_a_screen_it_says_how(home):
    bare = {key: value for key, value in home.items() if key not in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM")}
    done = subprocess.run(
        [sys.executable, "-m", "vastgrid", "demo"], env=bare, capture_output=True, text=True, timeout=60, check=False
    )
    assert done.returncode == 2 and "xvfb-run" in done.stderr and "Traceback" not in done.stderr


def test_the_demo_is_made_and_opens(home, tmp_path):
    job = tmp_path / "data" / "vastgrid" / f"tollgarth-{tollgarth.EDITION}" / "Tollgarth restoration"
    running, _, said = started(home, "demo", until=(job / "ready").exists, most=120.0)
    assert running and (job / "ready").exists(), said
    assert "Traceback" not in said
    names = {node.name for node in Session(job).graph.cards.values()}
    assert {"Existing ground", "Contours 1 m"} <= names


def test_a_damaged_job_does_not_keep_the_window_shut(home, tmp_path):
    job = tmp_path / "mine"
    job.mkdir()
    (job / "job.json").write_text('{"format": ')
    empty = tmp_path / "data" / "vastgrid" / "jobs" / "Empty 1"
    begun = time.monotonic()
    running, _, said = started(home, "open", job, until=lambda: time.monotonic() - begun > 6.0)
    assert running and "Traceback" not in said, said
    assert (job / "job.json").read_text() == '{"format": ' and not (empty / "job.json").exists()


def test_what_is_told_of_a_damaged_job(tmp_path):
    job = tmp_path / "mine"
    job.mkdir()
    (job / "job.json").write_text("[]")
    session, why = app.opened(job, tmp_path / "jobs")
    assert session.folder == tmp_path / "jobs" / "Empty 1" and not session.graph.cards
    assert "job.json" in why and f"nothing in {job} was changed" in why
    session.save()
    assert app.opened(job, tmp_path / "jobs")[0].folder.name == "Empty 2", "an empty job that became one is left alone"
    good = Session(tmp_path / "good")
    good.save()
    assert app.opened(tmp_path / "good", tmp_path / "jobs")[1] == ""


def test_what_is_put_aside_is_kept(tmp_path):
    for number in (1, 2):
        (tmp_path / "demo").mkdir()
        (tmp_path / "demo" / "a").write_text(str(number))
        kept = app.put_aside(tmp_path / "demo")
        assert kept.name == f"demo damaged {number}" and (kept / "a").read_text() == str(number)
    assert not (tmp_path / "demo").exists()


def test_a_half_made_demo_is_made_again(tmp_path, monkeypatch):
    """Cut off before it was ready, it is no one's work yet."""
    folder = tmp_path / "tollgarth"
    (folder / "Tollgarth restoration").mkdir(parents=True)
    (folder / "Tollgarth restoration" / "job.json").write_text("{")
    assert tollgarth.ready_job(folder) is None
    job = tollgarth.prepare(folder, Silent())
    assert tollgarth.ready_job(folder) == job and Session(job).graph.cards
    stamp = (job / "job.json").stat().st_mtime_ns
    assert tollgarth.prepare(folder, Silent()) == job and (job / "job.json").stat().st_mtime_ns == stamp
