"""What is made on tiles is what the whole gives: to the last bit where arithmetic is local, to 1e-9 of a unit otherwise."""

from __future__ import annotations

import numpy as np
import pytest
import rasterio
from rasterio import Affine
from scipy.spatial import cKDTree

from tiling.grounds import FRAME, as_one, at_once, cloud_files, in_tiles, put, read, same_cells, segments
from vastgrid.base.errors import CallError
from vastgrid.base.progress import Silent
from vastgrid.base.quantities import Length, Unit
from vastgrid.base.words import spaced
from vastgrid.cli.main import run as command
from vastgrid.data.pointset import PointSet
from vastgrid.formats.las import LasWriteParams
from vastgrid.formats.las import write as write_las
from vastgrid.tiled import run as tiled

DOUBLE = {"precision": "float64"}


@pytest.fixture(scope="module")
def cloud(tmp_path_factory):
    paths = cloud_files(tmp_path_factory.mktemp("cloud"))
    return paths, as_one(read(paths))


CLOUD_CHAINS = [
    [("grid", {"cell": "2.5", "method": "mean"})],
    [("grid", {"cell": "2", "method": "median", "classes": "2"})],
    [("grid", {"cell": "0.7", "method": "lowest"}), ("slope", {})],
    [("ground", {"preset": "wooded"}), ("grid", {"cell": "3", "method": "mean", "classes": "2"}), ("hillshade", {})],
    [("thin", {"spacing": "6", "keep": "mean"}), ("grid", {"cell": "5", "method": "count"})],
]


@pytest.mark.parametrize("chain", CLOUD_CHAINS, ids=lambda chain: "-".join(name for name, _ in chain))
def test_grids_of_a_cloud_do_not_depend_on_the_tiles(cloud, tmp_path, chain):
    paths, whole = cloud
    want = at_once(whole, chain)
    for tile in (111.0, 250.0):
        run = in_tiles(paths, chain, tmp_path / "made.tif", tile, write=DOUBLE)
        assert same_cells(want, read([tmp_path / "made.tif"])[0])
        assert run.figures["tiles"] > (4 if tile > 200 else 16)
    assert not list(tmp_path.glob(".*"))


@pytest.mark.parametrize(
    "before", [[], [("ground", {"preset": "wooded"})]], ids=["classified", "after the ground filter"]
)
def test_a_grid_through_a_tin_does_not_depend_on_the_tiles(cloud, tmp_path, before):
    """Linear interpolation multiplies what rounding makes of a coordinate of millions (1e-9) by the slope."""
    paths, whole = cloud
    chain = [*before, ("tin", {"classes": "2", "circle": "10"}), ("grid", {"cell": "2"})]
    want = at_once(whole, chain)
    assert 0.0 < np.isnan(want.heights).mean() < 0.2
    for tile in (111.0, 250.0):
        in_tiles(paths, chain, tmp_path / "made.tif", tile, write=DOUBLE)
        assert same_cells(want, read([tmp_path / "made.tif"])[0], 1e-9)


def test_points_on_a_lattice_are_parted_alike_in_every_tile(tmp_path):
    """Every four neighbours lie on one circle: whichever way they are triangulated has to be one way."""
    rng = np.random.default_rng(1)
    x, y = np.meshgrid(np.arange(90.0), np.arange(70.0))
    xyz = np.column_stack((x.ravel() + 500_000, y.ravel() + 5_200_000, np.round(rng.normal(100, 3, x.size), 2)))
    order = rng.permutation(len(xyz))
    cloud = PointSet(name="lattice", frame=FRAME, xyz=xyz[order], attributes={"intensity": order.astype(np.uint16)})
    path = tmp_path / "lattice.laz"
    write_las([cloud], path, LasWriteParams(), Silent())
    chain = [("tin", {"circle": "3"}), ("grid", {"cell": "0.4"})]
    want = at_once(read([path])[0], chain)
    for tile in (17.0, 60.0):
        in_tiles([path], chain, tmp_path / "made.tif", tile, write=DOUBLE)
        assert same_cells(want, read([tmp_path / "made.tif"])[0], 1e-7)


def test_the_loss_over_all_tiles_is_that_of_the_whole(cloud, tmp_path):
    from vastgrid.measures.difference import points_loss

    paths, whole = cloud
    chain = CLOUD_CHAINS[0]
    run = in_tiles(paths, chain, tmp_path / "made.tif", 100.0)
    ours, theirs = run.account.steps[-1].loss, points_loss(whole, at_once(whole, chain))
    assert ours.largest == theirs.largest
    assert ours.at == theirs.at
    assert ours.rmse == pytest.approx(theirs.rmse, rel=1e-9)
    assert ours.mean == pytest.approx(theirs.mean, rel=1e-9)
    assert ours.p95 == pytest.approx(theirs.p95, rel=0.011)
    assert ours.share == pytest.approx(theirs.share)


@pytest.mark.parametrize("chain", [[("ground", {})], [("thin", {"spacing": "6"})]], ids=["ground", "thin"])
def test_points_of_tiles_are_those_of_the_whole(cloud, tmp_path, chain):
    paths, whole = cloud
    want = at_once(whole, chain)
    in_tiles(paths, chain, tmp_path / "made.laz", 90.0)
    (got,) = read([tmp_path / "made.laz"])
    one, other = (np.lexsort(np.round(each.xyz, 3).T) for each in (want, got))
    np.testing.assert_allclose(want.xyz[one], got.xyz[other], atol=1e-9)
    for name in ("classification", "intensity"):
        np.testing.assert_array_equal(want.attributes[name][one], got.attributes[name][other])


@pytest.mark.parametrize(
    "words", [{"interval": "40"}, {"interval": "50", "base": "13.5", "shortest": "2000"}, {"levels": "300, 400, 455"}]
)
def test_contours_join_across_seams_into_whole_lines(dem, tmp_path, monkeypatch, words):
    (grid,) = read([dem / "jacksboro.tif"])
    want = at_once(grid, [("contours", words)])
    made = []
    joined = tiled._joined
    monkeypatch.setattr(tiled, "_joined", lambda *given: made.append(joined(*given)) or made[-1])
    for tile in (1900.0, 3333.0, 99_999.0):
        in_tiles([dem / "jacksboro.tif"], [("contours", words)], tmp_path / "made.gpkg", tile)
        got = made.pop()
        assert segments(got) == segments(want)
        # Where two lines touch on a seam they may be joined the other way round.
        assert abs(len(got) - len(want)) <= 2
        assert len(read([tmp_path / "made.gpkg"])[0]) == len(got)


@pytest.mark.parametrize(
    "step", [("mosaic", {"overlap": "first"}), ("mosaic", {"width": "300"}), ("mosaic", {}), ("mosaic", {"overlap": "mean"}),
             ("difference", {"as": "grid"}), ("difference", {"as": "grid", "cell": "44"})],
)  # fmt: skip
def test_two_grids_on_tiles(dem, tmp_path, step):
    paths = [dem / "jacksboro.tif", dem / "other.tif"]
    want = at_once(read(paths), [step])
    for tile in (2222.0, 5000.0):
        in_tiles(paths, [step], tmp_path / "made.tif", tile, write=DOUBLE)
        (got,) = read([tmp_path / "made.tif"])
        assert same_cells(want, got, 1e-9)
        assert got.quantity == want.quantity


@pytest.mark.parametrize("chain", [[("grid", {"cell": "17"})], [("aspect", {})], [("hillshade", {"suns": "3"})],
                                   [("move", {"by": "1000,-2000.25"}), ("slope", {})], [("heights", {"times": "0.3048", "add": "0.35"})],
                                   [("reproject", {"crs": "EPSG:32632"})], [("reproject", {"crs": "EPSG:3857"}), ("slope", {})]])  # fmt: skip
def test_a_grid_on_tiles(dem, tmp_path, chain):
    (grid,) = read([dem / "jacksboro.tif"])
    in_tiles([dem / "jacksboro.tif"], chain, tmp_path / "made.tif", 1500.0, write=DOUBLE)
    assert same_cells(at_once(grid, chain), read([tmp_path / "made.tif"])[0], 1e-9)


@pytest.mark.parametrize("tile", [Length(0.012), Length(1200.0, Unit.METRE)], ids=str)
def test_tiles_of_a_result_in_degrees(dem, tmp_path, tile):
    """A width in metres is one of the source."""
    (grid,) = read([dem / "jacksboro.tif"])
    chain = [("reproject", {"crs": "EPSG:4326"})]
    run = in_tiles([dem / "jacksboro.tif"], chain, tmp_path / "made.tif", tile, write=DOUBLE)
    assert run.figures["tiles"] > 30
    assert same_cells(at_once(grid, chain), read([tmp_path / "made.tif"])[0])


def test_points_are_brought_into_another_system_on_tiles_each_once(cloud, tmp_path):
    paths, whole = cloud
    chain = [("reproject", {"crs": "EPSG:32633"})]
    want = at_once(whole, chain)
    told = []
    in_tiles(paths, chain, tmp_path / "made.laz", 90.0, tell=told.append)
    (got,) = read([tmp_path / "made.laz"])
    assert len(got.xyz) == len(want.xyz)
    assert f"{spaced(len(want.xyz))} points went in, {spaced(len(want.xyz))} came out." in " ".join(told)
    gap, partner = cKDTree(want.xyz).query(got.xyz)
    assert gap.max() < 1e-3
    assert len(np.unique(partner)) == len(partner)
    np.testing.assert_array_equal(want.attributes["intensity"][partner], got.attributes["intensity"])
    with pytest.raises(CallError, match="on tiles it is the last step"):
        in_tiles(paths, [*chain, ("grid", {"cell": "5", "method": "mean"})], tmp_path / "made.tif", 90.0)


@pytest.mark.parametrize(
    "step",
    [("move", {"by": "100,200,0.5", "turn": "12.5", "scale": "1.0002"}), ("heights", {"add": "-3.25", "times": "1.5"})],
)
def test_points_are_moved_on_tiles_each_once(cloud, tmp_path, step):
    paths, whole = cloud
    want = at_once(whole, [step])
    in_tiles(paths, [step], tmp_path / "made.laz", 90.0)
    (got,) = read([tmp_path / "made.laz"])
    gap, partner = cKDTree(want.xyz).query(got.xyz)
    assert len(got.xyz) == len(want.xyz) and gap.max() < 1e-3 and len(np.unique(partner)) == len(partner)


def test_points_are_fitted_on_tiles(cloud, tmp_path):
    """By a fit that was kept: tilted, turned and scaled; without one it is said how to make it."""
    paths, whole = cloud
    middle = whole.xyz.mean(axis=0)
    local = middle + np.array([(-200.0, -200, 0), (200, -180, 1), (190, 210, 2), (-210, 190, 3)])
    east, north = (local - middle)[:, 0], (local - middle)[:, 1]
    known = np.column_stack(
        (5000 + 0.9 * east - 0.3 * north, 7000 + 0.3 * east + 0.9 * north, 40 + local[:, 2] + 0.01 * east)
    )
    for name, xyz in (("local.csv", local), ("grid.csv", known)):
        np.savetxt(tmp_path / name, xyz, "%.6f", ",", header="E,N,Z", comments="")
    names = [str(tmp_path / name) for name in ("local.csv", "grid.csv")]
    kept = str(tmp_path / "kept.json")
    plain = {"model": "affine", "heights": "plane"}
    words = ["--model", "affine", "--heights", "plane", "--keep", kept, "--from-units", "m"]
    assert command(["fit", *names, *words]) == 0
    step = ("fit", {"using": kept, **plain})
    want = at_once(whole, [step])
    in_tiles(paths, [step], tmp_path / "made.laz", 90.0)
    (got,) = read([tmp_path / "made.laz"])
    gap, partner = cKDTree(want.xyz).query(got.xyz)
    assert len(got.xyz) == len(want.xyz) and gap.max() < 1e-3 and len(np.unique(partner)) == len(partner)
    with pytest.raises(CallError, match="--keep FILE"):
        in_tiles(paths, [("fit", plain)], tmp_path / "made2.laz", 90.0)


def test_a_grid_is_not_turned_on_tiles(dem, tmp_path):
    with pytest.raises(CallError, match="shifted alone"):
        in_tiles([dem / "jacksboro.tif"], [("move", {"turn": "10"})], tmp_path / "made.tif", 1500.0)


def test_files_of_one_lattice_are_one_grid(dem, tmp_path):
    (grid,) = read([dem / "jacksboro.tif"])
    with rasterio.open(dem / "jacksboro.tif") as file:
        z, place = file.read(1), file.transform
    parts = tmp_path / "parts"
    parts.mkdir()
    for k, (rows, columns) in enumerate([((0, 130), (0, 403)), ((130, 344), (0, 77)), ((130, 344), (77, 403))]):
        put(
            parts / f"p{k}.tif",
            z[slice(*rows), slice(*columns)],
            place @ Affine.translation(columns[0], rows[0]),
            -32768,
        )
    in_tiles([parts], [("slope", {})], tmp_path / "made.tif", 2000.0, write=DOUBLE)
    assert same_cells(at_once(grid, [("slope", {})]), read([tmp_path / "made.tif"])[0])


def test_the_demo_on_tiles(demo, tmp_path):
    path = next(demo.rglob("*.laz"))
    (whole,) = read([path])
    chain = [("ground", {"preset": "open"}), ("grid", {"cell": "1", "method": "lowest", "classes": "2"})]
    in_tiles([path], chain, tmp_path / "made.tif", 150.0, write=DOUBLE)
    assert same_cells(at_once(whole, chain), read([tmp_path / "made.tif"])[0])
