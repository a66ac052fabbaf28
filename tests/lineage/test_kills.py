"""A job that is killed at any moment: forty times, or as often as VASTGRID_KILLS says."""

import json
import os
import subprocess
import sys
from pathlib import Path

KILLS = int(os.environ.get("VASTGRID_KILLS", "40"))


def test_a_job_survives_kills_at_any_moment(tmp_path):
    made = subprocess.run(
        [sys.executable, str(Path(__file__).with_name("killing.py")), str(tmp_path), str(KILLS), "7"],
        capture_output=True,
        text=True,
        timeout=900,
        check=False,
    )
    assert made.returncode == 0, made.stderr[-2000:]
    told = json.loads(made.stdout.splitlines()[-1])
    assert told["wrong"] == []
    assert told["kills"] >= 0.95 * KILLS
    # Every kind of work was caught in the middle.
    assert all(told["in"][each] for each in ("import", "order", "make", "edit", "deliver")), told["in"]
