"""Interpolation, contours and hillshade against matplotlib, contourpy, GDAL's formula and plain geometry."""

import contourpy
import matplotlib.tri
import numpy as np
import pytest
from matplotlib.cbook import get_sample_data

from builders import METRES, ORIGIN, ground, scattered
from vastgrid.base.progress import Silent
from vastgrid.base.quantities import Length, Unit
from vastgrid.conversions.grids import grid
from vastgrid.conversions.lines import contours
from vastgrid.conversions.points import points
from vastgrid.conversions.surfaces import grid_to_tin as facets
from vastgrid.data.frame import Frame
from vastgrid.data.grid import Grid
from vastgrid.kernels.cells import raster
from vastgrid.kernels.drawing import shade
from vastgrid.kernels.lines.isolines import isolines
from vastgrid.kernels.triangles import locate
from vastgrid.measures.difference import difference
from vastgrid.measures.heights import heights
from vastgrid.terrain.place.units import in_units
from vastgrid.terrain.tin.surfaces import contour_tin, grid_tin


def plane(x, y):
    return 50.0 + 0.25 * x - 0.1 * y


@pytest.fixture(scope="module")
def jacksboro():
    """The DEM that matplotlib ships (USGS data, Jacksboro fault)."""
    with get_sample_data("jacksboro_fault_dem.npz") as dem:
        return np.asarray(dem["elevation"], float)


def test_grid_of_a_plane_is_the_plane():
    tin = ground(1500, height=plane)
    result = grid.run([tin], grid.GridParams(Length(2.0)), Silent())
    made = result.dataset
    e, n = np.meshgrid(made.eastings() - ORIGIN[0], made.northings() - ORIGIN[1])
    known = np.isfinite(made.heights)
    assert known.mean() > 0.9
    np.testing.assert_allclose(made.heights[known], plane(e, n)[known], atol=1e-8)
    assert result.loss.largest < 1e-8
    assert made.west % 2.0 == 0 and made.north % 2.0 == 0, "cells lie on whole multiples of their size"


def test_raster_agrees_with_matplotlib():
    tin = ground(3000)
    x, y = tin.vertices[:, 0] - ORIGIN[0], tin.vertices[:, 1] - ORIGIN[1]
    reference = matplotlib.tri.LinearTriInterpolator(
        matplotlib.tri.Triangulation(x, y, tin.triangles), tin.vertices[:, 2]
    )
    ours = raster.raster_heights(tin.vertices, tin.triangles, (ORIGIN[0], ORIGIN[1] + 150), (0.5, 0.5), (300, 400))
    gx, gy = np.meshgrid(0.25 + 0.5 * np.arange(400), 149.75 - 0.5 * np.arange(300))
    theirs = reference(gx, gy).filled(np.nan)
    both = np.isfinite(ours) & np.isfinite(theirs)
    assert both.mean() > 0.95
    assert (np.isfinite(ours) != np.isfinite(theirs)).sum() < 5
    np.testing.assert_allclose(ours[both], theirs[both], atol=1e-7)


def test_location_agrees_with_raster_and_survives_holes():
    tin = ground(2000)
    keep = np.ones(len(tin.triangles), bool)
    keep[::7] = False
    index = locate.buckets(tin.vertices, tin.triangles[keep])
    gx, gy = np.meshgrid(ORIGIN[0] + 0.5 + np.arange(200), ORIGIN[1] + 149.5 - np.arange(150))
    found = locate.heights_at(np.column_stack((gx.ravel(), gy.ravel())), tin.vertices, tin.triangles[keep], index)
    drawn = raster.raster_heights(
        tin.vertices, tin.triangles[keep], (ORIGIN[0], ORIGIN[1] + 150), (1.0, 1.0), (150, 200)
    )
    np.testing.assert_allclose(found.reshape(150, 200), drawn, atol=1e-9)


def lines_by_level(result):
    made = result
    return [made.plan[made.offsets[k] : made.offsets[k + 1]] for k in range(len(made))]


def test_contours_of_a_cone_are_circles():
    points_ = scattered(6000, size=(200.0, 200.0), height=lambda x, y: 100.0 - np.hypot(x - 100, y - 100))
    from vastgrid.conversions.surfaces.tin import TinParams
    from vastgrid.conversions.surfaces.tin import run as build

    tin = build([points_], TinParams(), Silent()).dataset
    made = contours.run([tin], contours.ContourParams(Length(10.0), Length(0.0), 5), Silent()).dataset
    inner = made.levels > 30
    for k in np.flatnonzero(inner):
        line = made.plan[made.offsets[k] : made.offsets[k + 1]] - ORIGIN - (100, 100)
        np.testing.assert_allclose(np.hypot(*line.T), 100 - made.levels[k], atol=0.6)
        assert (line[0] == line[-1]).all()
    assert set(made.levels[made.index]) <= {0.0, 50.0}
    assert len(made.levels[made.levels == 50.0]) == 1


def test_higher_ground_is_on_the_left():
    tin = ground(4000)
    made = contours.run([tin], contours.ContourParams(Length(0.5)), Silent()).dataset
    for k in range(0, len(made), 7):
        line = made.plan[made.offsets[k] : made.offsets[k + 1]]
        step = np.diff(line, axis=0)
        long = np.hypot(*step.T) > 0.2
        middle = (line[:-1] + line[1:])[long] / 2
        left = middle + 1e-4 * np.column_stack((-step[:, 1], step[:, 0]))[long]
        z = heights(tin, left)
        assert (z[np.isfinite(z)] >= made.levels[k] - 1e-7).all()


def test_same_lines_as_matplotlib_on_jacksboro(jacksboro):
    made = Grid(frame=METRES, heights=jacksboro[::3, ::3], west=0.0, north=1000.0, dx=10.0, dy=10.0)
    tin = grid_tin(made)
    levels = np.arange(300.13, 1000.0, 50.0)
    plan, offsets, which, _ = isolines(tin.vertices, tin.triangles, tin.edges_across, levels)
    generator = matplotlib.tri.Triangulation(tin.vertices[:, 0], tin.vertices[:, 1], tin.triangles)
    from matplotlib._tri import TriContourGenerator

    theirs = TriContourGenerator(generator.get_cpp_triangulation(), tin.vertices[:, 2])
    for k, level in enumerate(levels):
        segments = theirs.create_contour(level)[0]
        own = [plan[offsets[i] : offsets[i + 1]] for i in np.flatnonzero(which == k)]
        assert len(own) == len(segments)
        assert sum(map(len, own)) == sum(map(len, segments))
        length = sum(np.hypot(*np.diff(line, axis=0).T).sum() for line in own)
        assert length == pytest.approx(sum(np.hypot(*np.diff(line, axis=0).T).sum() for line in segments), rel=1e-12)


def test_length_close_to_contourpy_on_jacksboro(jacksboro):
    # Quadrilaterals cut into triangles pair saddles otherwise, so only the total length can agree, and nearly.
    made = Grid(frame=METRES, heights=jacksboro, west=0.0, north=float(jacksboro.shape[0]), dx=1.0, dy=1.0)
    tin = grid_tin(made)
    plan, offsets, _, _ = isolines(tin.vertices, tin.triangles, tin.edges_across, np.array([500.5]))
    ours = sum(np.hypot(*np.diff(plan[a:b], axis=0).T).sum() for a, b in zip(offsets[:-1], offsets[1:], strict=True))
    theirs = contourpy.contour_generator(made.eastings(), made.northings(), jacksboro).lines(500.5)
    assert ours == pytest.approx(sum(np.hypot(*np.diff(line, axis=0).T).sum() for line in theirs), rel=0.02)


def test_levels_at_vertices_do_not_branch():
    z = np.array([[1, 1, 1, 1], [1, 2, 2, 1], [1, 2, 2, 1], [1, 1, 1, 1.0]])
    made = contours.run(
        [Grid(frame=METRES, heights=z, west=0, north=4, dx=1, dy=1)], contours.ContourParams(Length(1.0)), Silent()
    )
    assert made.dataset.levels.tolist() == [2.0]
    assert made.dataset.closed().all()


def test_contour_loss_is_real():
    # Between two contours a parabola bulges by at most a known height; the contours alone make it flat.
    points_ = scattered(20_000, height=lambda x, y: 0.0005 * (x - 100) ** 2)
    from vastgrid.conversions.surfaces.tin import TinParams
    from vastgrid.conversions.surfaces.tin import run as build

    tin = build([points_], TinParams(), Silent()).dataset
    result = contours.run([tin], contours.ContourParams(Length(1.0)), Silent())
    # The valley floor lies a whole interval below the lowest contour.
    assert 0.9 < result.loss.largest < 1.001
    assert difference(tin, contour_tin(result.dataset, Silent()), Silent()).largest == result.loss.largest


def test_difference_of_shifted_planes_is_the_shift():
    low, high = ground(500, height=plane), ground(700, seed=9, height=lambda x, y: plane(x, y) + 1.25)
    loss = difference(low, high, Silent())
    assert loss.mean == pytest.approx(1.25) and loss.rmse == pytest.approx(1.25) and loss.p95 == pytest.approx(1.25)
    assert loss.largest == pytest.approx(1.25)


def test_largest_difference_is_found_where_edges_cross():
    # Two tents over one square, ridges across each other: the largest gap is in the middle, at no vertex of either.
    from vastgrid.data.tin import Tin

    square = np.array([(0, 0, 0), (10, 0, 10), (10, 10, 0), (0, 10, 10.0)])
    one = Tin(frame=METRES, vertices=square, triangles=[(0, 1, 2), (0, 2, 3)])
    two = Tin(frame=METRES, vertices=square, triangles=[(0, 1, 3), (1, 2, 3)])
    loss = difference(one, two, Silent())
    assert loss.largest == pytest.approx(10.0)
    assert loss.at == pytest.approx((5.0, 5.0))


def test_facets_and_points_keep_every_cell():
    made = grid.run([ground(1000)], grid.GridParams(Length(5.0)), Silent()).dataset
    tin = facets.run([made], facets.FacetParams(), Silent()).dataset
    np.testing.assert_allclose(heights(made, tin.vertices[:, :2]), tin.vertices[:, 2], atol=1e-9)
    cells = points.run([made], points.PointParams(), Silent()).dataset
    assert len(cells.xyz) == np.isfinite(made.heights).sum()


def test_hillshade_is_horns():
    # Horn (1981): on a plane with slope s facing away from the light at altitude a the light is sin(a - s).
    z = np.tile(np.arange(20.0), (20, 1))
    light = shade.hillshade(z, 1.0, 1.0, 270.0, 45.0)
    assert light[10, 10] == pytest.approx(np.sin(np.pi / 4 + np.pi / 4))
    light = shade.hillshade(z, 1.0, 1.0, 90.0, 45.0)
    assert light[10, 10] == pytest.approx(0.0, abs=1e-12)
    assert shade.hillshade(np.zeros((5, 5)), 1.0, 1.0, 315.0, 45.0)[2, 2] == pytest.approx(np.sin(np.pi / 4))


def test_survey_foot_is_1200_3937():
    # The Mendenhall Order of 1893: 39.37 inches to the metre exactly, so 1 US survey foot is 1200/3937 m.
    tin = in_units(ground(50, frame=Frame(None, Unit.US_FOOT, Unit.FOOT)), Unit.METRE, Unit.METRE)
    assert tin.vertices[:, 0].min() / (ground(50).vertices[:, 0].min()) == pytest.approx(1200 / 3937, rel=1e-15)
    assert tin.vertices[0, 2] / ground(50).vertices[0, 2] == pytest.approx(0.3048, rel=1e-15)
    assert float(Unit.FOOT.metres / Unit.US_FOOT.metres) == 0.999998
