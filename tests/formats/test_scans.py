"""E57, PCD, and what may be left out of a cloud on the way in."""

import e57 as second_reader
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.spatial import cKDTree

import samples
from builders import DATA, METRES
from vastgrid.base.errors import FormatError, ParamError
from vastgrid.base.progress import Silent
from vastgrid.base.quantities import Length, Unit
from vastgrid.data.pointset import PointSet
from vastgrid.execution.steps import peek_file, read_file
from vastgrid.format_support.cloudfile import CloudReadParams, filtered, parse_area
from vastgrid.formats import e57 as e57_format
from vastgrid.kernels.cells.clouds import thinned


def read(path, **words):
    return read_file(path, words, Silent())


def test_e57_scans_with_poses_agree_with_a_second_reader(tmp_path):
    path = samples.e57(tmp_path / "a.e57")
    first, second = read(path).datasets
    assert [first.name, second.name] == ["station 0", "station 1"]
    assert first.frame.horizontal is Unit.METRE, "lengths are metres by ASTM E2807"
    theirs = second_reader.read_points(str(path))
    ours = np.concatenate((first.xyz, second.xyz))
    # The second reader may or may not apply poses; the first scan is only moved, so its shape has to agree.
    local = np.asarray(theirs.points)[: len(first.xyz)]
    shift = (first.xyz - local)[0]
    np.testing.assert_allclose(first.xyz - shift, local, atol=1e-4)
    assert len(theirs.points) == len(ours)
    turn = 2.0 * 0.3
    x, y = samples.lattice()[0][5, :2]
    want = (1000.0 + x * np.cos(turn) - y * np.sin(turn), 2000.0 + x * np.sin(turn) + y * np.cos(turn))
    np.testing.assert_allclose(second.xyz[5, :2], want, atol=1e-5)
    assert set(first.attributes) == {"intensity", "red", "green", "blue"} and first.attributes["green"][0] == 20


def test_a_damaged_e57_is_refused_and_still_there(tmp_path):
    path = samples.e57(tmp_path / "a.e57")
    data = bytearray(path.read_bytes())
    data[len(data) // 2] ^= 255
    path.write_bytes(data)
    with pytest.raises(FormatError):
        read(path)
    assert path.exists(), "no reader may remove a file"


@pytest.mark.parametrize("name", ["ascii", "binary", "binary_compressed"])
def test_open_pcd(name):
    """213 points in three encodings, by the notes of the open data."""
    (points,) = read(DATA / f"{name}.pcd").datasets
    assert len(points.xyz) == 213
    np.testing.assert_allclose(points.xyz, read(DATA / "ascii.pcd").datasets[0].xyz, atol=1e-6)


def test_each_filter_says_what_it_drops():
    path = DATA / "autzen_trim.laz"
    source = read(path, crop="636100,848940,636500,849400", intensity="10-", outliers="3", thin="5")
    told = [finding.text for finding in source.findings if finding.code == "points-dropped"]
    assert len(told) == 4 and all("of 110\u202f000 points dropped" in text for text in told)
    gone = sum(int(text.split(" of ")[0].replace("\u202f", "")) for text in told)
    assert len(source.datasets[0].xyz) == 110_000 - gone
    assert not [f for f in read(path).findings if f.code == "points-dropped"], "nothing is thinned unasked"


def test_crop_keeps_exactly_what_lies_inside():
    cloud = read(DATA / "autzen_trim.laz").datasets[0]
    inside = read(DATA / "autzen_trim.laz", crop="636100,848940,636500,849400").datasets[0]
    x, y = cloud.xyz[:, 0], cloud.xyz[:, 1]
    want = (x > 636100) & (x < 636500) & (y > 848940) & (y < 849400)
    assert len(inside.xyz) == pytest.approx(want.sum(), abs=3)


def test_reach_needs_a_scanner():
    cloud = PointSet(name="c", xyz=np.array([(0.0, 0.0, 0.0), (3.0, 4.0, 0.0), (30.0, 40.0, 0.0)]))
    with pytest.raises(ParamError, match="does not say where the scanner stood"):
        filtered(DATA, cloud, CloudReadParams(reach=Length(10.0)), Silent())
    kept, _ = filtered(DATA, cloud, CloudReadParams(reach=Length(10.0), scanner="0,0,0"), Silent())
    assert len(kept.xyz) == 2
    with pytest.raises(FormatError, match="nothing is left"):
        filtered(DATA, cloud, CloudReadParams(reach=Length(0.5), scanner="9,9,9"), Silent())


@pytest.mark.parametrize("text", ["1,2,3", "5,5,1,9", "a b, c d, e f", "1 2, 3 4"])
def test_areas_that_are_none(text):
    with pytest.raises(ParamError):
        parse_area(text)


@settings(max_examples=40, deadline=None)
@given(st.integers(0, 10_000), st.floats(0.05, 3.0))
def test_thinning_leaves_no_two_closer_and_no_gap(seed, spacing):
    """Poisson-disk properties against scipy's nearest neighbours."""
    xyz = np.random.default_rng(seed).random((400, 3)) * (10.0, 10.0, 1.0) + (512_000.0, 5_412_000.0, 200.0)
    keep = thinned(xyz, spacing)
    tree = cKDTree(xyz[keep])
    if keep.sum() > 1:
        assert tree.query(xyz[keep], 2)[0][:, 1].min() >= spacing * (1 - 1e-9)
    assert tree.query(xyz)[0].max() < spacing * (1 + 1e-9)


def test_a_sample_stands_for_a_large_cloud(monkeypatch):
    monkeypatch.setattr("vastgrid.execution.steps.LARGE_FILE", 1000)
    source = peek_file(DATA / "autzen_trim.laz", {}, Silent())
    assert source is not None and source.counts() == [{"points": 110_000}]
    east = source.datasets[0].extent().east
    assert east == pytest.approx((636001.76, 637179.22)), "the whole file's extent"


def test_header_a_thousand_times_off(tmp_path):
    data = bytearray((DATA / "simple.las").read_bytes())
    corner = np.frombuffer(bytes(data[179:227]), "<f8") * 1000.0
    data[179:227] = corner.tobytes()
    (tmp_path / "a.las").write_bytes(data)
    assert any("a thousand times larger" in finding.text for finding in read(tmp_path / "a.las").findings)


def test_chunks_of_varying_size_as_in_copc(tmp_path, monkeypatch):
    path = samples.variable_chunks(tmp_path / "a.copc.laz")
    (cloud,) = read(path).datasets
    rng = np.random.default_rng(1)
    np.testing.assert_allclose(cloud.xyz[:, 0], 431_000.0 + rng.random(5000) * 100.0, atol=6e-4)
    monkeypatch.setattr("vastgrid.execution.steps.LARGE_FILE", 1000)
    source = peek_file(path, {}, Silent())
    assert source.counts() == [{"points": 5000}]
    assert source.datasets[0].extent().east[0] > 430_999, "a header that says nothing does not spoil the picture"


@pytest.mark.parametrize("number", range(11))
def test_every_point_format(tmp_path, number):
    """LAS 1.4, tables 7 to 17: what a point format holds is kept under its names."""
    import laspy

    version = "1.4" if number >= 6 else "1.3" if number in (4, 5) else "1.2"
    header = laspy.LasHeader(point_format=number, version=version)
    header.scales = np.full(3, 0.001)
    header.add_extra_dim(laspy.ExtraBytesParams(name="height_above", type=np.float32))
    cloud = laspy.LasData(header)
    cloud.x, cloud.y, cloud.z = np.arange(50) / 8, np.arange(50) / 4, 200 + np.arange(50) / 2
    cloud.intensity = np.arange(50) * 7
    cloud.classification = np.full(50, 2)
    cloud["height_above"] = np.arange(50) / 16
    names = set(header.point_format.dimension_names)
    if "gps_time" in names:
        cloud.gps_time = np.arange(50) * 1e3
    if "red" in names:
        cloud.red = np.arange(50) * 1000
    path = tmp_path / ("a.laz" if number not in (4, 5, 9, 10) else "a.las")
    cloud.write(str(path))
    (ours,) = read(path).datasets
    np.testing.assert_allclose(ours.xyz[:, 2], 200 + np.arange(50) / 2)
    assert ours.attributes["intensity"].tolist() == (np.arange(50) * 7).tolist()
    assert ours.attributes["height_above"][48] == 3.0
    assert ("gps_time" in ours.attributes) == ("gps_time" in names) and ("red" in ours.attributes) == ("red" in names)


def test_bounds_of_scans_are_held_against_their_points(tmp_path, monkeypatch):
    from pye57 import libe57

    xyz = np.array([(500_000.0, 2.0, 3.0), (500_012.345, 9.0, 4.0), (500_001.0, 5.0, 3.5)])
    points = PointSet(name="Scan", frame=METRES, xyz=xyz)
    params = e57_format.FORMAT.write_params()
    e57_format.write([points], tmp_path / "right.e57", params, Silent())
    assert e57_format.audit(tmp_path / "right.e57") == ()
    real = libe57.FloatNode
    # A writer that is off by a metre in one of six bounds.
    monkeypatch.setattr(
        libe57, "FloatNode", lambda image, value, *more: real(image, value + (abs(value - 12.345) < 1e-6), *more)
    )
    e57_format.write([points], tmp_path / "wrong.e57", params, Silent())
    (said,) = e57_format.audit(tmp_path / "wrong.e57")
    assert said == "the bounds of Scan are not those of its points"
