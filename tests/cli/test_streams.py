"""Output that is closed, full or poor in letters: the file is written and the exit code is right."""

from __future__ import annotations

import os
import subprocess
import sys

import pytest


@pytest.fixture
def points(tmp_path):
    (tmp_path / "a.csv").write_text("E,N,Z\n1,2,3\n11,2,3.5\n5,9,4\n")
    return tmp_path


def told(folder, streams: str, words: str = "convert a.csv b.xyz --from-units m", **more):
    call = f"{sys.executable} -m vastgrid {words} {streams}"
    own = {**os.environ, **more}
    return subprocess.run(["bash", "-c", call], cwd=folder, env=own, capture_output=True, check=False, timeout=120)


@pytest.mark.parametrize(
    ("streams", "code"), [("2>&-", 0), (">&-", 0), ("2>/dev/full", 0), (">/dev/full", 1), (">/dev/full 2>/dev/full", 1)]
)
def test_the_file_is_written_whatever_becomes_of_the_words(points, streams, code):
    done = told(points, streams)
    assert done.returncode == code
    assert (points / "b.xyz").exists()
    assert b"unforeseen" not in done.stdout + done.stderr
    if streams == ">/dev/full":
        assert b"could not be written out" in done.stderr
        assert b"b.xyz had been written" in done.stderr


def test_a_terminal_without_letters_gets_plain_ones(points):
    done = told(points, "", PYTHONIOENCODING="ascii", PYTHONUTF8="0", LC_ALL="C")
    assert done.returncode == 0
    done.stdout.decode("ascii")
    assert b"written and read back" in done.stdout


def test_a_home_that_cannot_be_written_is_no_hindrance(points):
    """Nothing can be made beneath a device: what a read-only home is to anybody but the superuser."""
    home = dict.fromkeys(("HOME", "XDG_CACHE_HOME", "XDG_STATE_HOME", "XDG_CONFIG_HOME"), "/dev/null/none")
    done = told(points, "", **home)
    assert done.returncode == 0, done.stderr.decode()
    assert (points / "b.xyz").exists()
    doctor = told(points, "", "doctor", **home)
    assert doctor.returncode == 1
    assert b"/dev/null/none" in doctor.stdout
