"""Ctrl+C and SIGTERM at any moment: one line, the right exit code, nothing left behind."""

import os
import signal
import subprocess
import sys
import time

import numpy as np
import pytest


@pytest.fixture(scope="module")
def large(tmp_path_factory):
    """A LandXML of half a million points, whose reading, converting and writing each take a while."""
    path = tmp_path_factory.mktemp("large") / "l.csv"
    n = 700
    x, y = np.meshgrid(np.arange(n) + 431_000.3, np.arange(n) + 887_000.7)
    x = x + np.random.default_rng(1).uniform(-0.2, 0.2, x.shape)
    rows = np.column_stack((x.ravel(), y.ravel(), np.sin(x.ravel() / 50) * 9))
    np.savetxt(path, rows, fmt="%.3f", delimiter=",", header="E [m],N [m],Z [m]", comments="")
    return path


def run_until(command, folder, number, wait):
    process = subprocess.Popen(
        # As ./vastgrid does: signals wait until the program can answer them.
        ["env", "--block-signal=INT", "--block-signal=TERM", sys.executable, "-m", "vastgrid", *map(str, command)],
        cwd=folder, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, env={**os.environ, "VASTGRID_SIGNALS": "wait"},
    )  # fmt: skip
    wait(process)
    process.send_signal(number)
    begun = time.monotonic()
    _, err = process.communicate(timeout=60)
    return process.returncode, err, time.monotonic() - begun


@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM])
@pytest.mark.parametrize("after", [0.3, 0.5, 0.9, 1.6, 2.6, 4.0])
def test_at_any_moment(large, tmp_path, number, after):
    (tmp_path / "o.dxf").write_text("precious")
    code, err, took = run_until(
        ["convert", large, "o.dxf", "--via", "tin", "--via", "contours", "interval=0.5m"],
        tmp_path,
        number,
        lambda _: time.sleep(after),
    )
    assert code == 128 + number, err
    assert err.strip().splitlines()[-1] == "vastgrid: stopped; nothing was written" and "Traceback" not in err
    assert took < 10.0
    assert [each.name for each in tmp_path.iterdir()] == ["o.dxf"] and (tmp_path / "o.dxf").read_text() == "precious"


@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM])
def test_while_the_file_is_being_written(large, tmp_path, number):
    def begun(process):
        deadline = time.monotonic() + 60
        while not list(tmp_path.glob(".vastgrid-*")) and time.monotonic() < deadline:
            time.sleep(0.02)

    code, err, _ = run_until(["convert", large, "o.xml", "--via", "tin"], tmp_path, number, begun)
    assert code == 128 + number and err.count("\n") <= 2, err
    assert not list(tmp_path.iterdir())


def test_what_had_been_written_is_told(monkeypatch):
    from pathlib import Path

    from vastgrid.base import files, interrupts

    monkeypatch.setattr(files, "written", [])
    assert interrupts.what_was_written() == "stopped; nothing was written"
    files.written.append(Path("/x/a.xml"))
    assert interrupts.what_was_written() == "stopped; a.xml had been written, nothing else was"
