"""Work that is done in a process of its own: drawing without a window, which the interface's library needs one for."""

from __future__ import annotations

import os
import re
import selectors
import subprocess
import sys
from collections.abc import Callable
from contextlib import suppress

from vastgrid.base.errors import DataError

DONE = "done"


def run_apart(module: str, job: bytes, waiting: Callable[[], None], doing: str) -> None:
    """Run a module with a job on its standard input; it says “done” when all went well.

    Parameters
    ----------
    waiting : callable
        Called every tenth of a second; what it raises ends the process.
    doing : str
        As an error says it: “drawing the plan”.

    Raises
    ------
    DataError
        If it cannot start, or fails, with what it lacks.
    """
    environment = {
        **os.environ,
        "QT_QPA_PLATFORM": "offscreen",
        "PYTHONPATH": os.pathsep.join(p for p in sys.path if p),
    }
    process = subprocess.Popen(
        [sys.executable, "-m", module],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        env=environment,
    )
    assert process.stdin is not None
    assert process.stdout is not None
    assert process.stderr is not None
    try:
        # Where it could not start, its own words follow.
        with suppress(BrokenPipeError):
            process.stdin.write(job)
        with suppress(BrokenPipeError):
            process.stdin.close()
        with selectors.DefaultSelector() as watching:
            watching.register(process.stdout, selectors.EVENT_READ)
            while not watching.select(0.1):
                waiting()
        said = process.stdout.read().decode("utf-8", "replace").strip()
        fault = process.stderr.read().decode("utf-8", "replace")
    finally:
        process.kill()
        process.stdout.close()
        process.stderr.close()
        process.wait()
    if said != DONE:
        raise DataError(f"{doing} failed: {_why(fault)}")


def _why(text: str) -> str:
    lines = [line for line in text.splitlines() if line.strip()]
    if any("cannot open shared object" in line for line in lines):
        name = re.search(r"(lib[\w.+-]+)", text)
        told = name[1] if name else "one of the window's"
        return f"a system library is missing ({told}); ./vastgrid demo installs what is needed"
    return lines[-1][:200] if lines else "its process ended without a word"
