"""A thousand damaged files for every reader: only our own errors may leave it, soon, and without a crash."""

import os
import subprocess
import sys
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest

from vastgrid import catalog

TIMES = os.environ.get("VASTGRID_FUZZ", "700")
# Formats that one reader reads are damaged once.
READERS = list({each.read: each.id for each in reversed(catalog.FORMATS) if each.read}.values())


@pytest.fixture(scope="module")
def runs():
    def run(own):
        script = Path(__file__).with_name("run.py")
        command = [sys.executable, "-W", "ignore", str(script), own, "--times", TIMES]
        # No time limit of the test's own: how long one file may take is checked inside.
        return subprocess.run(command, capture_output=True, text=True, check=False)

    # Two at a time, while the first ones are already judged.
    with ThreadPoolExecutor(2) as pool:
        yield {own: pool.submit(run, own) for own in READERS}


@pytest.mark.timeout(1200)
@pytest.mark.parametrize("own", READERS)
def test_damaged_files(own, runs):
    done = runs[own].result()
    assert done.returncode == 0, f"exit code {done.returncode} after … {done.stderr[-1500:]}"
    assert "damaged files" in done.stdout
