"""Runs that take hours: workers, a scheduler, kills, cancels, damaged files, and what is said of each."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import time

import numpy as np
import pytest

from tiling.grounds import cloud_files, in_tiles, read
from vastgrid import catalog
from vastgrid.base.errors import CallError, Cancelled, DataError
from vastgrid.base.progress import Silent
from vastgrid.base.quantities import Length
from vastgrid.execution.input_options import Options, Said
from vastgrid.execution.run_log import Account, Via
from vastgrid.tiled.plans import EACH_CLOUD, TilingOptions, effort, planned, seconds_of
from vastgrid.tiling.engine import Control

CHAIN = [("grid", {"cell": "2", "method": "mean", "classes": "2"})]
WORDS = ["--via", "grid", "cell=2", "method=mean", "classes=2", "--tiles", "60m"]


@pytest.fixture(scope="module")
def cloud(tmp_path_factory):
    folder = tmp_path_factory.mktemp("long") / "cloud"
    return cloud_files(folder)


@pytest.fixture(scope="module")
def alone(cloud, tmp_path_factory):
    """What one process gives."""
    target = tmp_path_factory.mktemp("alone") / "made.tif"
    in_tiles(cloud, CHAIN, target, 60.0)
    return target.read_bytes()


def command(*words):
    return [sys.executable, "-m", "vastgrid", "convert", *map(str, words)]


def scratch(folder):
    return next(iter(folder.glob(".*.tiles-*")), None)


def test_two_workers_and_a_scheduler_give_the_same_file(cloud, alone, tmp_path):
    from distributed import LocalCluster

    done = subprocess.run(
        command(cloud[0].parent, tmp_path / "two.tif", *WORDS, "--workers", 2, "--json"), capture_output=True, text=True, check=False
    )  # fmt: skip
    assert done.returncode == 0, done.stderr
    figures = json.loads(done.stdout)["tiled"]
    assert figures["workers"] == 2
    assert figures["tiles"] > 50
    assert figures["seconds"] > 0
    assert all(50e6 < value < 2e9 for value in figures["peak_memory"].values())
    assert figures["dashboard"] == ""
    assert (tmp_path / "two.tif").read_bytes() == alone
    with LocalCluster(
        n_workers=1, threads_per_worker=1, dashboard_address=":0", host="127.0.0.1", local_directory=str(tmp_path / "s")
    ) as there:
        run = in_tiles(cloud, CHAIN, tmp_path / "far.tif", 60.0, cluster=there.scheduler_address)
        assert run.figures["workers"] == 1
    assert (tmp_path / "far.tif").read_bytes() == alone


def test_a_scheduler_that_is_not_there_is_named(cloud, tmp_path, monkeypatch):
    from vastgrid.tiling import engine

    monkeypatch.setattr(engine, "PATIENCE", 1.0)
    with pytest.raises(CallError, match="no scheduler answers there"):
        in_tiles(cloud, CHAIN, tmp_path / "far.tif", 60.0, cluster="tcp://127.0.0.1:9")


def wait_for_tiles(folder, number, process):
    until = time.monotonic() + 60
    while time.monotonic() < until and process.poll() is None:
        own = scratch(folder)
        if own and len(list((own / "tiles").glob("*.json"))) >= number:
            return
        time.sleep(0.01)
    raise AssertionError("no tile was made")


def workers_of(process):
    import psutil

    every = psutil.Process(process.pid).children(recursive=True)
    return [each for each in every if "spawn_main" in " ".join(each.cmdline())]


def test_a_killed_worker_costs_nothing_but_time(cloud, alone, tmp_path):
    target = tmp_path / "made.tif"
    process = subprocess.Popen(
        command(cloud[0].parent, target, *WORDS, "--workers", 2, "--json"), stdout=subprocess.PIPE, stderr=subprocess.PIPE
    )  # fmt: skip
    wait_for_tiles(tmp_path, 3, process)
    workers_of(process)[0].send_signal(signal.SIGKILL)
    _, said = process.communicate(timeout=120)
    assert process.returncode == 0, said.decode()
    assert target.read_bytes() == alone


def test_a_killed_run_goes_on_where_it_stopped(cloud, alone, tmp_path):
    target = tmp_path / "made.tif"
    process = subprocess.Popen(command(cloud[0].parent, target, *WORDS, "--workers", 1), stderr=subprocess.DEVNULL)
    wait_for_tiles(tmp_path, 5, process)
    left = workers_of(process)
    process.send_signal(signal.SIGKILL)
    process.wait()
    assert not target.exists()
    # Its workers end by themselves once nobody is there to work for.
    until = time.monotonic() + 30
    while time.monotonic() < until and any(each.is_running() and each.status() != "zombie" for each in left):
        time.sleep(0.1)
    assert not any(each.is_running() and each.status() != "zombie" for each in left)
    assert scratch(tmp_path) is not None
    run = in_tiles([cloud[0].parent], CHAIN, target, 60.0)
    assert run.figures["tiles_kept"] >= 5
    assert target.read_bytes() == alone
    assert scratch(tmp_path) is None


def test_ctrl_c_leaves_the_tiles_and_no_result(cloud, tmp_path):
    target = tmp_path / "made.tif"
    process = subprocess.Popen(
        command(cloud[0].parent, target, *WORDS, "--workers", 2), stderr=subprocess.PIPE, text=True, start_new_session=True
    )  # fmt: skip
    wait_for_tiles(tmp_path, 3, process)
    os.killpg(process.pid, signal.SIGINT)
    said = process.communicate(timeout=60)[1]
    assert process.returncode == 130
    assert "stopped; nothing was written" in said
    assert "Traceback" not in said
    assert not target.exists()
    assert scratch(tmp_path) is not None


def test_a_run_can_wait_and_be_cancelled(cloud, tmp_path):
    control, seen = Control(), []

    def watch(state):
        seen.append(state)
        if state.stage == "making tiles" and state.done == 4:
            control.cancelled = lambda: True

    with pytest.raises(Cancelled):
        in_tiles(cloud, CHAIN, tmp_path / "made.tif", 60.0, control=control, watch=watch)
    tiles = [state for state in seen if state.stage == "making tiles"]
    assert [state.done for state in tiles] == [1, 2, 3, 4]
    assert all(state.box is not None and state.left is not None for state in tiles)


def test_one_damaged_file_is_named_and_its_tiles_say_so(cloud, tmp_path):
    folder = tmp_path / "cloud"
    folder.mkdir()
    for path in cloud:
        (folder / path.name).write_bytes(path.read_bytes())
    bad = folder / "strip-1.laz"
    data = bytearray(bad.read_bytes())
    # Packed points are overwritten; header and table of chunks stay whole.
    data[len(data) // 3 : 2 * len(data) // 3] = bytes(len(data) // 3)
    bad.write_bytes(data)
    (folder / "cut.laz").write_bytes(cloud[0].read_bytes()[:9000])
    (folder / "notes.txt").write_text("flown in May")
    run = in_tiles([folder], CHAIN, tmp_path / "made.tif", 60.0)
    said = [each.text for each in run.account.findings()]
    assert any("cut.laz" in text and "Left out" in text for text in said)
    assert any("strip-1.laz" in text and "may be without some of its points" in text for text in said)
    assert any("notes.txt" in text for text in said)
    (grid,) = read([tmp_path / "made.tif"])
    assert np.isfinite(grid.heights).any()


def test_nothing_but_damaged_files_is_an_error(tmp_path):
    (tmp_path / "out").mkdir()
    (tmp_path / "a.laz").write_bytes(b"LASF" + bytes(400))
    with pytest.raises(DataError, match=r"a\.laz: .*damaged"):
        in_tiles([tmp_path], CHAIN, tmp_path / "out" / "made.tif", 60.0)
    (tmp_path / "b.laz").write_bytes(b"LASF" + bytes(400))
    with pytest.raises(DataError, match="none of 2 files can be read"):
        in_tiles([tmp_path], CHAIN, tmp_path / "out" / "made.tif", 60.0)


@pytest.mark.parametrize(
    ("words", "match"),
    [
        (["--via", "scatter"], "scatter cannot run on tiles; .*ground"),
        (["--via", "tin", "--via", "grid", "cell=2"], "say the widest circle"),
        (["--via", "tin", "circle=9"], "a TIN of all of it would not fit"),
        (["--via", "tin", "circle=9", "voids=X", "--via", "grid", "cell=2"], "voids applies to the whole surface"),
        (["--via", "grid", "cell=2", "method=idw"], "looks at points anywhere around"),
        (["--via", "grid", "cell=2", "method=mean", "fill=3"], "gaps are filled"),
        (["--via", "slope"], "slope uses grid, not points"),
        (["--via", "grid", "cell=2", "--only", "x"], "--only does not go with --tiles"),
        (["--workers", "-1"], "--workers"),
    ],
)
def test_what_cannot_go_in_tiles_is_refused_before_any_work(cloud, tmp_path, run_cli, words, match):
    import re

    code, _, said = run_cli("convert", cloud[0].parent, tmp_path / "made.tif", *words)
    assert code == 2
    assert re.search(match, said)
    assert not list(tmp_path.iterdir())


def test_a_target_of_another_kind_is_refused_at_once(cloud, tmp_path, run_cli):
    code, _, said = run_cli("convert", cloud[0].parent, tmp_path / "made.tif", "--workers", "0")
    assert code == 2
    assert "GeoTIFF holds grid, and the steps give a points" in said


def test_gaps_and_overlaps_of_files_are_findings(tmp_path):
    from tiling.grounds import FRAME
    from vastgrid.data.pointset import PointSet
    from vastgrid.formats.las import LasWriteParams, write

    rng = np.random.default_rng(0)
    for row in range(3):
        for column in range(3):
            if row == column == 1:
                continue
            low = np.array([500_000 + 100.0 * column, 5_200_000 + 100.0 * row])
            wide = 130.0 if (row, column) == (0, 0) else 100.0
            xyz = np.column_stack((rng.random((500, 2)) * wide + low, rng.random(500)))
            cloud = PointSet(name="t", frame=FRAME, xyz=xyz, attributes={"classification": np.full(500, 2, np.uint8)})
            write([cloud], tmp_path / f"t{row}{column}.laz", LasWriteParams(), Silent())
    (tmp_path / "out").mkdir()
    run = in_tiles([tmp_path], CHAIN, tmp_path / "out" / "made.tif", 100.0)
    found = {each.code: each for each in run.account.findings()}
    assert "1 gap among the files" in found["files-gap"].text
    east, north = found["files-gap"].at
    assert 500_100 < east < 500_200
    assert 5_200_100 < north < 5_200_200
    assert "t00" in found["files-overlap"].text


def test_time_and_room_are_told_before_anything_starts(tmp_path):
    """More for narrower tiles, which work on more twice, for further steps and for fewer workers."""
    paths = cloud_files(tmp_path / "cloud", 20_000)

    def seconds(tile, workers=1, more=()):
        vias = [Via(catalog.conversion_named(name), words) for name, words in (*more, *CHAIN)]
        asked = TilingOptions(Length(tile), workers)
        plan = planned(paths, vias, Options(), Said(), asked, Account(), Silent())
        assert f"{len(plan.tiles())} tile" in effort(plan, workers)
        return seconds_of(plan, workers)

    assert seconds(40.0) > seconds(400.0)
    assert seconds(40.0, 1) > seconds(40.0, 4)
    assert seconds(100.0, more=[("ground", {})]) > seconds(100.0)
    alone = seconds(400.0)
    paths = cloud_files(tmp_path / "more", 20_000) + paths
    assert seconds(400.0) > alone + 5 * EACH_CLOUD, "opening a file takes its time, however few points it has"
    told = []
    run = in_tiles(paths, CHAIN, tmp_path / "made.tif", 150.0, tell=told.append)
    assert any("of scratch" in text for text in told)
    assert run.figures["foretold_seconds"] > 0.0
