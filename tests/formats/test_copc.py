"""COPC: what is written is read by laspy's own reader of it, whole, by window and by level (copc.io, version 1.0)."""

from __future__ import annotations

import laspy
import numpy as np
import pytest
from laspy.copc import Bounds

from vastgrid import catalog
from vastgrid.base.errors import ParamError
from vastgrid.base.progress import Silent
from vastgrid.data.frame import frame_of_crs
from vastgrid.data.pointset import PointSet
from vastgrid.delivery.deliver import deliver
from vastgrid.execution.steps import peek_file, read_file
from vastgrid.formats.las import COPC
from vastgrid.formats.las._copc import FEW, octree


@pytest.fixture(scope="module")
def cloud():
    rng = np.random.default_rng(4)
    xy = rng.random((90_000, 2)) * (400.0, 250.0) + (512_000.0, 5_412_000.0)
    xy[:30_000] = xy[:30_000] * (0.1, 0.1) + (460_900.0, 4_870_900.0)
    z = 200.0 + 20.0 * np.sin(xy[:, 0] / 60.0) + rng.random(len(xy))
    # Doubled places, and some at the cube's very corners.
    xyz = np.round(np.column_stack((xy, z)), 3)
    xyz[100:200] = xyz[:100]
    attributes = {
        "classification": rng.integers(1, 40, len(xyz)).astype(np.uint8),
        "intensity": rng.integers(0, 60_000, len(xyz)).astype(np.uint16),
        "gps_time": rng.random(len(xyz)) * 1e5,
        "amplitude": rng.random(len(xyz)).astype(np.float32),
    }
    return PointSet(name="cloud", frame=frame_of_crs("EPSG:25832+7837"), xyz=xyz, attributes=attributes)


@pytest.fixture(scope="module")
def written(cloud, tmp_path_factory):
    path = tmp_path_factory.mktemp("copc") / "cloud.copc.laz"
    delivery = deliver([cloud], path, COPC, COPC.write_params(), Silent(), (None, None))
    assert delivery.good, delivery.sentence()
    return path


def rows(xyz):
    own = np.round(xyz, 3)
    return own[np.lexsort(own.T)]


def places(points):
    return np.column_stack((np.asarray(points.x), np.asarray(points.y), np.asarray(points.z)))


def test_its_ending_asks_for_it_and_its_content_tells_it(written):
    assert catalog.format_of_target(written) is COPC
    assert catalog.recognise(written) is COPC
    assert catalog.format_of_target(written.with_name("x.laz")).id == "las"


def test_every_point_is_there_with_its_attributes(cloud, written):
    with laspy.CopcReader.open(str(written)) as reader:
        points = reader.query()
        np.testing.assert_allclose(rows(places(points)), rows(cloud.xyz), atol=1e-9)
        assert reader.header.parse_crs().sub_crs_list[0].to_epsg() == 25832
        info = reader.copc_info
    low, high = cloud.xyz.min(axis=0), cloud.xyz.max(axis=0)
    np.testing.assert_allclose(info.center - info.halfsize, low)
    assert 2.0 * info.halfsize == pytest.approx((high - low).max())
    times = cloud.attributes["gps_time"]
    assert (info.gps_min, info.gps_max) == (times.min(), times.max())
    (back,) = read_file(written, {}, Silent()).datasets
    order, other = (np.lexsort((each.attributes["gps_time"],)) for each in (cloud, back))
    for name, values in cloud.attributes.items():
        np.testing.assert_array_equal(values[order], back.attributes[name][other])
    assert back.frame.vertical is cloud.frame.vertical


def test_windows_give_what_lies_in_them(cloud, written):
    for west, south, east, north in (
        (512_100.0, 5_412_050.0, 512_180.5, 5_412_099.0),
        (512_000.0, 5_412_000.0, 512_050.0, 5_412_030.0),
    ):
        with laspy.CopcReader.open(str(written)) as reader:
            points = reader.query(bounds=Bounds(mins=np.array([west, south]), maxs=np.array([east, north])))
        x, y = cloud.xyz[:, 0], cloud.xyz[:, 1]
        inside = (x >= west) & (x <= east) & (y >= south) & (y <= north)
        np.testing.assert_allclose(rows(places(points)), rows(cloud.xyz[inside]), atol=1e-9)


def test_levels_become_finer_and_cover_the_ground(cloud, written):
    before = 0
    with laspy.CopcReader.open(str(written)) as reader:
        for level in range(3):
            points = reader.query(level=range(level + 1))
            assert before < len(points) <= len(cloud.xyz)
            before = len(points)
            if level == 0:
                ground = np.unique(np.floor((places(points)[:, :2] - cloud.xyz[:, :2].min(axis=0)) / 50.0), axis=0)
                every = np.unique(np.floor((cloud.xyz[:, :2] - cloud.xyz[:, :2].min(axis=0)) / 50.0), axis=0)
                assert len(ground) == len(every)


def test_nodes_do_not_depend_on_the_order_of_points(cloud):
    one = octree(cloud.xyz)
    mixed = np.random.default_rng(0).permutation(len(cloud.xyz))
    other = octree(cloud.xyz[mixed])
    np.testing.assert_array_equal(one.keys, other.keys)
    np.testing.assert_array_equal(one.starts, other.starts)
    # In their own order they stay as they are: what was given is what is written.
    again = octree(cloud.xyz[one.order])
    np.testing.assert_array_equal(again.order, np.arange(len(cloud.xyz)))
    numbers = np.diff(one.starts)
    assert numbers.sum() == len(cloud.xyz)
    assert numbers.min() > 0
    assert numbers[1:].max() <= max(FEW, 64**3)


def test_its_coarse_levels_are_the_picture_of_a_large_file(written, monkeypatch):
    from vastgrid.execution import steps

    monkeypatch.setattr(steps, "LARGE_FILE", 0)
    source = peek_file(written, {}, Silent())
    assert source.totals == ({"points": 90_000},)
    assert 0 < len(source.datasets[0].xyz) <= 90_000


def test_few_points_and_one_place(tmp_path):
    for number in (1, 3):
        xyz = np.full((number, 3), 7.25)
        cloud = PointSet(name="few", frame=frame_of_crs("EPSG:25832"), xyz=xyz, attributes={})
        path = tmp_path / f"few{number}.copc.laz"
        assert deliver([cloud], path, COPC, COPC.write_params(), Silent(), (None, None)).good
        with laspy.CopcReader.open(str(path)) as reader:
            assert len(reader.query()) == number


def test_steps_too_fine_are_refused(cloud):
    with pytest.raises(ParamError, match="decimals"):
        COPC.fits([PointSet(name="wide", xyz=np.array([(0.0, 0, 0), (9e6, 0, 0)]))], COPC.write_params(decimals=9))


def test_tiles_become_one(tmp_path):
    from tiling.grounds import as_one, at_once, cloud_files, in_tiles, read

    paths = cloud_files(tmp_path / "strips", 20_000)
    in_tiles(paths, [("ground", {})], tmp_path / "ground.copc.laz", 100.0)
    want = at_once(as_one(read(paths)), [("ground", {})])
    (got,) = read([tmp_path / "ground.copc.laz"])
    np.testing.assert_allclose(rows(got.xyz), rows(want.xyz), atol=1e-9)
