from __future__ import annotations

import atexit
import fcntl
import os
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

sys.path.insert(0, str(Path(__file__).parent))


# Files that take minutes: begun first, or one worker would be busy with the last of them long after all others are done.
_LONG = (
    "test_readers",
    "test_long_runs",
    "test_figures_of_tiles",
    "test_tiles_equal",
    "test_walker",
    "test_kills",
    "test_open_data",
)


def pytest_collection_modifyitems(items):
    """Let the files that take longest come first."""
    items.sort(key=lambda item: next((k for k, name in enumerate(_LONG) if name in item.path.name), len(_LONG)))


def _own_screen():
    """Give a worker a screen of its own: windows of two workers on one would take the focus from each other."""
    read, write = os.pipe()
    screen = subprocess.Popen(
        ["Xvfb", "-displayfd", str(write), "-screen", "0", "1400x900x24", "-nolisten", "tcp"],
        pass_fds=(write,),
        stderr=subprocess.DEVNULL,
    )
    atexit.register(screen.terminate)
    os.close(write)
    with os.fdopen(read) as said:
        os.environ["DISPLAY"] = f":{said.readline().strip()}"
    os.environ.pop("WAYLAND_DISPLAY", None)


if os.environ.get("PYTEST_XDIST_WORKER") and os.environ.get("DISPLAY") and shutil.which("Xvfb"):
    _own_screen()
if not os.environ.get("DISPLAY"):
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")


@pytest.fixture(scope="session")
def demo(tmp_path_factory):
    """The demo's files and job, made once for all workers; tests change copies only. Its job knows where its files lie."""
    from vastgrid.base.progress import Silent
    from vastgrid.demo import tollgarth

    place = tmp_path_factory.getbasetemp()
    made = (place.parent if os.environ.get("PYTEST_XDIST_WORKER") else place) / "demo made"
    with made.with_suffix(".lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        tollgarth.prepare(made, Silent())
    return made


@pytest.fixture
def run_cli(capsys):
    """Run the command line in this process; return exit code, standard output and standard error."""
    from vastgrid.cli.main import run

    def call(*arguments):
        code = run([str(word) for word in arguments])
        said = capsys.readouterr()
        return code, said.out, said.err

    return call
