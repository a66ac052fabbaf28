"""A job that is killed at any moment, two hundred times and more."""

import json
import subprocess
import sys
from pathlib import Path


def test_a_job_survives_two_hundred_kills(tmp_path):
    made = subprocess.run(
        [sys.executable, str(Path(__file__).with_name("killing.py")), str(tmp_path), "208", "7"],
        capture_output=True,
        text=True,
        timeout=900,
        check=False,
    )
    assert made.returncode == 0, made.stderr[-2000:]
    told = json.loads(made.stdout.splitlines()[-1])
    assert told["wrong"] == []
    assert told["kills"] >= 200
    # Every kind of work was caught in the middle.
    assert all(told["in"][each] for each in ("import", "order", "make", "edit", "deliver")), told["in"]
