"""Grids by every method, against hand-worked weights, exact surfaces, SciPy and NumPy."""

import dataclasses

import numpy as np
import pytest
from scipy.interpolate import LinearNDInterpolator

from builders import DATA, METRES, ORIGIN, ground, scattered
from vastgrid.base.errors import CallError, ParamError
from vastgrid.base.progress import Silent
from vastgrid.conversions.grids import align, grid, mosaic
from vastgrid.data.classes import CLASSES
from vastgrid.data.pointset import PointSet
from vastgrid.declarations.conversion import Inputs
from vastgrid.formats import las
from vastgrid.kernels.triangles.natural import natural_weights
from vastgrid.kernels.triangles.topology import neighbours_of
from vastgrid.params import declare
from vastgrid.terrain.cells.gridding import Method


def made(source, **words):
    params = declare.build(grid.GridParams, {name: str(word) for name, word in words.items()})
    return grid.run([source], grid.settle([source], params), Silent())


def plane(x, y):
    return 200.0 + 0.3 * (x - ORIGIN[0]) - 0.2 * (y - ORIGIN[1])


@pytest.mark.parametrize("method", ["linear", "natural"])
def test_a_plane_stays_a_plane(method):
    """Linear precision: natural neighbours give back any linear function (Sibson 1981)."""
    points = scattered(1500)
    flat = dataclasses.replace(points, xyz=np.column_stack((points.xyz[:, :2], plane(*points.xyz[:, :2].T))))
    result = made(flat, cell=2, method=method)
    own = result.dataset
    wanted = plane(own.eastings()[None, :], own.northings()[:, None])
    known = np.isfinite(own.heights)
    assert known.mean() > 0.9
    assert np.abs(own.heights - wanted)[known].max() < 1e-9


@pytest.mark.parametrize("t", [0.0, 0.25, -0.6])
def test_sibson_weights_of_a_square_worked_by_hand(t):
    """Four points (±1, 0), (0, ±1) and a place (0, t).

    By hand: the bisectors y = (1 + t) / 2, y = (t - 1) / 2 and x = ±((1 - t²) / 2 + t y) bound a trapezium of area 1 whose
    corners lie on y = ±x, the sides of the old cells. They cut it into triangles of (1 + t)² / 4 and (1 - t)² / 4 for the
    points above and below, and the rest, (1 - t²) / 4, for each at the sides.
    """
    vertices = np.array([(-1.0, 0, 0), (0, -1, 0), (1, 0, 0), (0, 1, 0)])
    triangles = np.array([(0, 1, 3), (1, 2, 3)], np.int32)
    shares = natural_weights(vertices, triangles, neighbours_of(triangles), 0.0, t)
    wanted = [(1 - t * t) / 4, (1 - t) ** 2 / 4, (1 - t * t) / 4, (1 + t) ** 2 / 4]
    assert [shares[v] for v in range(4)] == pytest.approx(wanted, abs=1e-12)


def test_linear_is_scipys():
    points = scattered(800)
    own = made(points, cell=2, method="linear").dataset
    other = LinearNDInterpolator(points.xyz[:, :2] - ORIGIN, points.xyz[:, 2])
    east, north = np.meshgrid(own.eastings() - ORIGIN[0], own.northings() - ORIGIN[1])
    gap = np.abs(own.heights - other(east, north))
    assert np.nanquantile(gap, 0.999) < 1e-6


def test_cells_take_what_their_points_have():
    points = scattered(5000)
    own = {
        word: made(points, cell=10, method=word).dataset for word in ("lowest", "highest", "mean", "median", "count")
    }
    first = own["mean"]
    column = np.floor((points.xyz[:, 0] - first.west) / 10).astype(int)
    row = np.floor((first.north - points.xyz[:, 1]) / 10).astype(int)
    for r, c in [(0, 0), (3, 7), (first.rows - 1, first.columns - 1)]:
        z = points.xyz[(row == r) & (column == c), 2]
        assert own["count"].heights[r, c] == len(z)
        for word, function in (("lowest", np.min), ("highest", np.max), ("mean", np.mean), ("median", np.median)):
            assert own[word].heights[r, c] == pytest.approx(function(z), abs=1e-9)
    assert own["count"].quantity == "count"
    assert own["count"].heights.sum() == 5000


def test_a_cloud_by_class_and_its_gaps():
    cloud = las.FORMAT.read(DATA / "autzen_trim.laz", las.FORMAT.read_params(), Silent()).datasets[0]
    ground_only = made(cloud, cell=10, method="mean", classes="2")
    every = made(cloud, cell=10, method="mean")
    assert ground_only.loss.largest > 0 and ground_only.loss.rmse < every.loss.rmse
    number = int((cloud.attributes[CLASSES] == 2).sum())
    assert made(cloud, cell=10, method="count", classes="2").dataset.heights.sum() == number
    gaps = int(np.isnan(ground_only.dataset.heights).sum())
    closed = made(cloud, cell=10, method="mean", classes="2", fill=10).dataset
    left = int(np.isnan(closed.heights).sum())
    assert 0 < left < gaps
    known = np.isfinite(ground_only.dataset.heights)
    assert np.array_equal(closed.heights[known], ground_only.dataset.heights[known])
    with pytest.raises(CallError, match="no point of"):
        made(cloud, cell=10, method="mean", classes="99")
    with pytest.raises(CallError, match="count is 0"):
        made(cloud, cell=10, method="count", fill=3)


def test_natural_is_as_near_to_a_curve_as_linear_and_nearer_than_distance():
    points = scattered(3000)
    errors = {}
    for method in ("linear", "natural", "idw"):
        own = made(points, cell=1, method=method).dataset
        east, north = np.meshgrid(own.eastings() - ORIGIN[0], own.northings() - ORIGIN[1])
        gap = own.heights - (230.0 + 8.0 * np.sin(east / 31.0) + 5.0 * np.cos(north / 23.0))
        errors[method] = np.sqrt(np.nanmean(gap[10:-10, 10:-10] ** 2))
    assert errors["natural"] < 1.05 * errors["linear"] < errors["idw"]


def test_natural_weights_are_the_areas_that_scipys_voronoi_cells_lose():
    from scipy.spatial import Delaunay, Voronoi
    from shapely.geometry import Polygon

    rng = np.random.default_rng(4)
    places = rng.random((80, 2)) * 10.0
    mesh = Delaunay(places)
    triangles = mesh.simplices.astype(np.int32)
    a, b, c = (places[triangles[:, k]] for k in range(3))
    turned = (b - a)[:, 0] * (c - a)[:, 1] < (b - a)[:, 1] * (c - a)[:, 0]
    triangles[turned] = triangles[turned][:, ::-1]
    vertices = np.column_stack((places, np.zeros(80)))

    def cells(own):
        found = Voronoi(own)
        return {k: Polygon(found.vertices[found.regions[r]]) for k, r in enumerate(found.point_region)
                if found.regions[r] and -1 not in found.regions[r]}  # fmt: skip

    before = cells(places)
    for place in rng.random((20, 2)) * 4.0 + 3.0:
        after = cells(np.vstack((places, place)))
        shares = natural_weights(vertices, triangles, neighbours_of(triangles), *place)
        for k, share in shares.items():
            assert share == pytest.approx(before[k].intersection(after[80]).area / after[80].area, abs=1e-9)


def test_an_area_is_cut_on_whole_cells():
    tin = ground()
    box = made(tin, cell=5, area=f"{ORIGIN[0] + 21},{ORIGIN[1] + 33},{ORIGIN[0] + 99},{ORIGIN[1] + 77}").dataset
    assert (box.west, box.north) == (ORIGIN[0] + 20, ORIGIN[1] + 80)
    assert (box.columns, box.rows) == (16, 10)
    with pytest.raises(ParamError, match="beside"):
        made(tin, cell=5, area="0,0,10,10")


def test_resampling_coarser_and_finer():
    tin = ground(5000)
    dem = made(tin, cell=1).dataset
    coarse, fine = made(dem, cell=5), made(dem, cell=0.5)
    assert coarse.dataset.dx == 5 and fine.dataset.dx == 0.5
    assert coarse.loss.rmse > fine.loss.rmse
    mean = made(dem, cell=5, method="mean").dataset
    column, row = int((mean.west - dem.west) // 1), int((dem.north - mean.north) // 1)
    block = dem.heights[row + 10 : row + 15, column + 10 : column + 15]
    assert mean.heights[2, 2] == pytest.approx(block.mean(), abs=1e-9)
    assert np.allclose(made(dem, cell=1).dataset.heights, dem.heights, equal_nan=True, atol=1e-9)


def test_the_size_that_fits_is_explained():
    result = made(ground())
    assert any(finding.code == "cell-fits" and "apart on average" in finding.text for finding in result.findings)
    assert not any(finding.code == "cell-fits" for finding in made(ground(), cell=3).findings)


def test_doubled_places_and_lattices_do_not_upset_it():
    steps = np.stack(np.meshgrid(np.arange(30.0), np.arange(20.0)), axis=-1).reshape(-1, 2)
    xyz = np.column_stack((steps, steps[:, 0] * steps[:, 1]))
    twice = PointSet(name="Twice", frame=METRES, xyz=np.concatenate((xyz, xyz)))
    for method in Method:
        own = made(twice, cell=0.5, method=method.value).dataset
        assert np.isfinite(own.heights).any()
        if method in (Method.LINEAR, Method.NATURAL):
            east, north = np.meshgrid(own.eastings(), own.northings())
            assert np.nanmax(np.abs(own.heights - east * north)) < 0.3


def two_halves(gap=0.0):
    dem = made(ground(5000), cell=1).dataset
    left = dataclasses.replace(dem, name="Left", heights=dem.heights[:, :120])
    right = dataclasses.replace(dem, name="Right", heights=dem.heights[:, 80:] + gap, west=dem.west + 80.0)
    return dem, left, right


@pytest.mark.parametrize("overlap", ["feather", "first", "mean", "lowest", "highest"])
def test_a_mosaic_of_halves_is_the_whole(overlap):
    dem, left, right = two_halves()
    result = mosaic.run([left, right], declare.build(mosaic.MosaicParams, {"overlap": overlap}), Silent())
    assert np.allclose(result.dataset.heights, dem.heights, equal_nan=True, atol=1e-9)
    assert result.loss.largest < 1e-9


def test_a_feathered_seam_has_no_step():
    dem, left, right = two_halves(gap=1.0)
    steps = {}
    for overlap in ("feather", "first"):
        own = mosaic.run([left, right], declare.build(mosaic.MosaicParams, {"overlap": overlap}), Silent()).dataset
        more = (own.heights - dem.heights)[75]
        assert more[:75] == pytest.approx(0.0, abs=1e-9) and more[125:] == pytest.approx(1.0, abs=1e-9)
        steps[overlap] = np.abs(np.diff(more)).max()
    assert steps["first"] == pytest.approx(1.0, abs=1e-9) and steps["feather"] < 0.05
    with pytest.raises(CallError, match="only a feathered"):
        mosaic.run([left, right], declare.build(mosaic.MosaicParams, {"overlap": "mean", "width": "5"}), Silent())


def test_grids_of_other_cells_are_brought_onto_the_finest():
    dem, left, right = two_halves()
    coarse = made(right, cell=5).dataset.renamed("Coarse")
    result = mosaic.run([coarse, left], mosaic.MosaicParams(), Silent())
    assert result.dataset.dx == 1 and (result.dataset.west - dem.west) % 1 == 0
    assert any("Coarse" in finding.text for finding in result.findings if finding.code == "resampled")


def test_alignment_gives_the_very_cells_of_another():
    tin, other = ground(), made(ground(), cell=3, area="431010.5,887020.5,431100,887090").dataset
    pairs = Inputs.of_pairs([("surface", tin), ("like", other)])
    own = align.run(pairs, align.AlignParams(), Silent()).dataset
    assert (own.west, own.north, own.heights.shape) == (other.west, other.north, other.heights.shape)
    both = np.isfinite(other.heights)
    assert np.allclose(own.heights[both], other.heights[both], atol=1e-9)
    assert align.CONVERSION.assigned([made(tin, cell=1).dataset, other]) == ["surface", "like"]
