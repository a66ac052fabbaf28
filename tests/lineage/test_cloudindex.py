"""A large cloud in order: complete, even at every level, and whole again however often the work is cut short."""

import json

import numpy as np
import pytest

from vastgrid.base.errors import Cancelled, WriteError
from vastgrid.base.progress import Silent
from vastgrid.data.pointset import PointSet
from vastgrid.lineage import cloudindex
from vastgrid.lineage.cloudindex import build, glimpse, opened


@pytest.fixture
def cloud(monkeypatch):
    monkeypatch.setattr(cloudindex, "TILE", 2_000)
    monkeypatch.setattr(cloudindex, "BLOCK", 3_000)
    monkeypatch.setattr(cloudindex, "MARK", 1)
    rng = np.random.default_rng(3)
    xyz = rng.random((40_000, 3)) * (400.0, 300.0, 30.0) + (431_000.0, 887_000.0, 200.0)
    xyz[17] = np.nan
    return PointSet(name="scan", xyz=xyz[np.argsort(xyz[:, 0] // 20)])


def all_points(index):
    return np.asarray(index.points, np.float64) + (index.west, index.south, index.low)


def same(index, cloud):
    want = cloud.xyz[np.isfinite(cloud.xyz).all(axis=1)]
    got = all_points(index)
    np.testing.assert_allclose(np.sort(got, axis=0), np.sort(want, axis=0), atol=1e-3)
    assert len(got) == len(want)


def test_every_point_once(cloud, tmp_path):
    index = build(cloud, tmp_path, Silent())
    same(index, cloud)
    assert opened(tmp_path) is not None and json.loads((tmp_path / "state.json").read_text())["phase"] == "ready"
    for tile in range(len(index.starts) - 1):
        own = index.points[index.starts[tile] : index.starts[tile + 1]]
        row, column = divmod(tile, index.columns)
        for axis, number in ((0, column), (1, row)):
            # Single precision may put a point a hair over its tile's rim.
            assert (
                (own[:, axis] > number * index.size - 1e-3) & (own[:, axis] < (number + 1) * index.size + 1e-3)
            ).all()


def test_coarse_levels_cover_evenly(cloud, tmp_path):
    index = build(cloud, tmp_path, Silent())
    level = 4
    tile = len(index.starts) // 2
    own = np.asarray(index.points[index.starts[tile] : index.starts[tile] + index.ends[tile, level]], np.float64)
    row, column = divmod(tile, index.columns)
    cells = np.floor((own[:, :2] - np.array((column, row)) * index.size) / index.size * 2**level)
    assert len({tuple(cell) for cell in cells.tolist()}) >= 0.8 * len(own), "about one point for each cell"
    assert (np.diff(index.ends, axis=1) >= 0).all()
    assert (index.ends[:, -1] == np.diff(index.starts)).all()


def test_a_window_gets_what_it_shows(cloud, tmp_path):
    index = build(cloud, tmp_path, Silent())
    box = (431_100.0, 887_050.0, 431_200.0, 887_150.0)
    fine = np.concatenate([part for part, _ in index.visible(box, 0.001)]) + (index.west, index.south, index.low)
    inside = (
        (cloud.xyz[:, 0] > box[0])
        & (cloud.xyz[:, 0] < box[2])
        & (cloud.xyz[:, 1] > box[1])
        & (cloud.xyz[:, 1] < box[3])
    )
    shown = (fine[:, 0] > box[0]) & (fine[:, 0] < box[2]) & (fine[:, 1] > box[1]) & (fine[:, 1] < box[3])
    assert shown.sum() == pytest.approx(inside.sum(), abs=2)
    coarse = sum(len(part) for part, _ in index.visible(box, 10.0))
    assert 100 <= coarse < len(fine) / 3


def test_cut_short_anywhere_it_goes_on_and_is_the_same(cloud, tmp_path):
    whole = all_points(build(cloud, tmp_path / "whole", Silent()))
    steps = 0
    for allowed in range(1, 200, 3):
        calls = iter(range(10_000))
        try:
            index = build(cloud, tmp_path / "again", Silent(lambda calls=calls, n=allowed: next(calls) >= n))
        except Cancelled:
            steps += 1
            continue
        break
    assert steps >= 3, "it was cut short several times on the way"
    np.testing.assert_array_equal(np.sort(all_points(index), axis=0), np.sort(whole, axis=0))
    same(index, cloud)


def test_a_killed_process_leaves_what_can_be_gone_on_with(cloud, tmp_path):
    """What stands on disk after a kill is any state between two marks: half-written points and an old cursor."""
    calls = iter(range(10_000))
    with pytest.raises(Cancelled):
        build(cloud, tmp_path, Silent(lambda: next(calls) >= 20))
    state = json.loads((tmp_path / "state.json").read_text())
    assert state["phase"] == "scatter" and state["done"] > 0
    points = np.memmap(tmp_path / "points.f32", np.float32, "r+")
    cursor = np.load(tmp_path / f"cursor{state['done']}.npy")
    points[int(cursor[0]) * 3 :] = -1.0  # whatever was written after the mark is lost or wrong
    starts = np.load(tmp_path / "starts.npy")
    for tile in range(len(cursor)):
        points[starts[tile] * 3 : cursor[tile] * 3] = points[starts[tile] * 3 : cursor[tile] * 3]
    (tmp_path / "ends.part.npy").write_bytes(b"half")
    (tmp_path / "again").mkdir()
    del points
    index = build(PointSet(name="scan", xyz=cloud.xyz), tmp_path / "again", Silent())
    same(index, cloud)


def test_another_cloud_in_its_place_begins_anew(cloud, tmp_path):
    build(cloud, tmp_path, Silent())
    other = PointSet(name="other", xyz=cloud.xyz[:20_000] + 5.0)
    same(build(other, tmp_path, Silent()), other)
    (tmp_path / "state.json").write_text("{ half")
    assert opened(tmp_path) is None
    same(build(cloud, tmp_path, Silent()), cloud)


def test_nothing_to_put_in_order(tmp_path):
    with pytest.raises(WriteError, match="no finite point"):
        build(PointSet(name="c", xyz=np.full((5, 3), np.nan)), tmp_path, Silent())


def test_a_glimpse_is_from_all_over():
    xyz = np.column_stack((np.arange(1_000_000.0), np.zeros(1_000_000), np.zeros(1_000_000)))
    some = glimpse(xyz, 40_000)
    assert len(some) == 40_000 and some[:, 0].min() == 0 and some[:, 0].max() > 990_000
