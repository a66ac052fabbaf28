"""Faults for real: a disk that is full, rights that are gone, a kill while writing, a folder that is gone."""

import contextlib
import os
import signal
import subprocess
import sys
import time

import pytest

from builders import ground
from vastgrid import catalog
from vastgrid.base.errors import WriteError
from vastgrid.base.files import sweep
from vastgrid.base.progress import Silent
from vastgrid.delivery.deliver import deliver

LANDXML = catalog.format_named("landxml")


def send(path, own="landxml", size=400):
    target = catalog.format_named(own)
    return deliver([ground(size)], path, target, target.write_params(), Silent())


@pytest.fixture
def small_disk(tmp_path):
    folder = tmp_path / "disk"
    folder.mkdir()
    if (
        os.geteuid() != 0
        or subprocess.run(["mount", "-t", "tmpfs", "-o", "size=200k", "none", folder], check=False).returncode
    ):
        pytest.skip("a small disk can be mounted by root only")
    yield folder
    # What is mapped from it may still be.
    subprocess.run(["umount", "-l", folder], check=True)


@pytest.mark.parametrize("own", ["landxml", "dxf", "obj", "ifc", "glb", "scene"])
def test_a_full_disk_keeps_the_old_file(own, small_disk):
    path = small_disk / f"a{catalog.format_named(own).suffixes[0]}"
    path.write_text("what was there")
    with pytest.raises(WriteError, match=r"needs about|disk is full"):
        send(path, own, 12_000)
    assert path.read_text() == "what was there" and [each.name for each in small_disk.iterdir()] == [path.name]


def test_a_disk_that_others_fill_meanwhile(small_disk, monkeypatch):
    """The room was there when it was looked at."""
    monkeypatch.setattr("vastgrid.delivery.deliver.need_room", lambda path, size: None)
    path = small_disk / "a.xml"
    path.write_text("what was there")
    with pytest.raises(WriteError, match="disk is full"):
        send(path, size=4000)
    assert path.read_text() == "what was there" and [each.name for each in small_disk.iterdir()] == ["a.xml"]


def test_a_folder_that_is_gone(tmp_path):
    with pytest.raises(WriteError, match="the folder does not exist"):
        send(tmp_path / "gone" / "a.xml")
    assert not list(tmp_path.iterdir())


@pytest.mark.skipif(os.geteuid() != 0, reason="needs another user to be")
def test_rights_that_are_gone(tmp_path):
    """As a user who may not write there, since root may everywhere."""
    (tmp_path / "a.xml").write_text("what was there")
    tmp_path.chmod(0o755)
    code = (
        "import os, sys; os.setuid(65534)\n"
        "from pathlib import Path\n"
        "from vastgrid.base.files import replacing\n"
        "from vastgrid.base.errors import WriteError\n"
        "try:\n    with replacing(Path(sys.argv[1])) as t: t.write_text('new')\n"
        "except WriteError as e: print(e)\n"
    )
    for folder in tmp_path.parents:
        if str(folder).startswith("/tmp/"):
            folder.chmod(0o755)
    done = subprocess.run([sys.executable, "-c", code, tmp_path / "a.xml"], capture_output=True, text=True, cwd="/")
    if "ModuleNotFoundError" in done.stderr or "Permission" in done.stderr:
        pytest.skip("another user cannot read the program here")
    assert "no permission to write there" in done.stdout, done.stderr
    assert (tmp_path / "a.xml").read_text() == "what was there"


def test_a_kill_leaves_the_old_file_and_the_next_delivery_sweeps(tmp_path):
    path = tmp_path / "a.xml"
    path.write_text("what was there")
    code = (
        "import sys, pathlib; sys.path.insert(0, sys.argv[2])\n"
        "from builders import ground\n"
        "from vastgrid import catalog\n"
        "from vastgrid.base.progress import Silent\n"
        "from vastgrid.delivery.deliver import deliver\n"
        "target = catalog.format_named('landxml')\n"
        "print('ready', flush=True)\n"
        "deliver([ground(150_000)], pathlib.Path(sys.argv[1]), target, target.write_params(), Silent())\n"
    )
    tests = str(__import__("pathlib").Path(__file__).parents[1])
    process = subprocess.Popen([sys.executable, "-c", code, path, tests], stdout=subprocess.PIPE)
    process.stdout.readline()
    deadline = time.monotonic() + 60
    while time.monotonic() < deadline:
        left = [each for each in tmp_path.glob(".vastgrid-*/a.xml") if each.stat().st_size > 100_000]
        if left or process.poll() is not None:
            break
        time.sleep(0.01)
    process.send_signal(signal.SIGKILL)
    process.wait()
    process.stdout.close()
    assert left and path.read_text() == "what was there"
    # Nobody takes them for results: they are hidden, and the next delivery to that folder takes them away.
    assert all(each.name.startswith(".") for each in tmp_path.iterdir() if each != path)
    assert send(path).good
    assert [each.name for each in tmp_path.iterdir()] == ["a.xml"]


def test_what_others_are_writing_is_left_alone(tmp_path):
    from vastgrid.base import files

    own = files._prefix()
    host = own.split("-")[1]
    alive = tmp_path / f".vastgrid-{host}-{os.getppid()}-x.xml"
    other = tmp_path / ".vastgrid-00000000-1-x.xml"
    named = tmp_path / ".vastgrid-notes"
    for each in (alive, other, named):
        each.write_text("x")
    sweep(tmp_path)
    assert alive.exists() and other.exists() and named.exists()
    day = time.time() - 90_000
    os.utime(other, (day, day))
    sweep(tmp_path)
    assert not other.exists() and alive.exists()


def test_a_job_on_a_full_disk_goes_on_and_is_written_when_there_is_room(small_disk, tmp_path, monkeypatch):
    """For real: the disk that the job is on is filled, and emptied again."""
    from vastgrid.jobs.session import Session
    from vastgrid.lineage import store

    monkeypatch.setattr(store, "GATHER", 0.01)
    monkeypatch.setattr(store, "AGAIN", 0.1)
    rows = "".join(f"{x},{y},{x % 7}\n" for x in range(9) for y in range(9))
    (tmp_path / "a.csv").write_text("E [m],N [m],Z [m]\n" + rows)
    session = Session(small_disk / "job")
    told = []
    session.keeper.behind(told.append)
    session.sources.bring_in(tmp_path / "a.csv")
    session.keeper.flush()
    before = (small_disk / "job" / "job.json").read_text()
    with (small_disk / "filler").open("wb", buffering=0) as file, contextlib.suppress(OSError):
        while file.write(b"x" * 4096):
            continue
    card = next(iter(session.graph.cards))
    session.rename(card, "Renamed while the disk was full")
    deadline = time.monotonic() + 10
    while not told and time.monotonic() < deadline:
        time.sleep(0.02)
    assert "the disk is full" in told[0] and "goes on in memory" in told[0]
    assert (small_disk / "job" / "job.json").read_text() == before, "what was there stays whole"
    # Nothing more can be made, and that is said; what is there stays.
    node = session.plan("tin", [card], {})
    with pytest.raises(WriteError, match="cannot be kept"):
        session.remake(session.graph.with_node(node), [node.id], Silent())
    (small_disk / "filler").unlink()
    while len(told) < 2 and time.monotonic() < deadline:
        time.sleep(0.02)
    assert "written again" in told[1]
    session.close()
    again = Session(small_disk / "job")
    assert again.graph[card].name == "Renamed while the disk was full"
    again.remake(again.graph.with_node(node), [node.id], Silent())
