"""Regular lattices, even intervals, equal places and cuts, each against another way of finding the same."""

import contourpy
import numpy as np
import pytest
import rasterio
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.spatial import cKDTree

from builders import METRES, ground
from vastgrid.base.errors import DataError
from vastgrid.base.progress import Silent
from vastgrid.conversions.grids import points_to_grid as cells
from vastgrid.data.linework import from_lines
from vastgrid.data.pointset import PointSet
from vastgrid.data.tin import areas
from vastgrid.kernels.triangles.topology import group_places
from vastgrid.measures.levels import interval_finding, interval_of, line_levels
from vastgrid.terrain.cells.regular import grid_of, is_complete
from vastgrid.terrain.tin.limits import _inner, cut_to


def points_of(transform, rows, columns, heights, order=None):
    """Cell centres as rasterio has them."""
    row, column = np.divmod(np.arange(rows * columns), columns)
    east, north = rasterio.transform.xy(transform, row, column)
    xyz = np.column_stack((east, north, heights.ravel()))
    return PointSet(name="P", frame=METRES, xyz=xyz if order is None else xyz[order])


@settings(max_examples=60, deadline=None)
@given(
    dx=st.sampled_from([0.25, 0.3, 1.0, 1 / 3, 7.5]),
    dy=st.sampled_from([0.25, 0.3, 1.0, 12.0]),
    west=st.sampled_from([0.0, 431_000.0, -17.123]),
    rows=st.integers(3, 40),
    columns=st.integers(3, 40),
    seed=st.integers(0, 99),
)
def test_a_lattice_is_found_whatever_the_order_of_its_points(dx, dy, west, rows, columns, seed):
    transform = rasterio.Affine(dx, 0, west, 0, -dy, 887_000.0)
    heights = np.random.default_rng(seed).normal(size=(rows, columns))
    points = points_of(transform, rows, columns, heights, np.random.default_rng(seed).permutation(rows * columns))
    assert is_complete(points)
    grid = grid_of(points).grid
    np.testing.assert_array_equal(grid.heights, heights)
    assert (grid.dx, grid.dy) == pytest.approx((dx, dy), rel=1e-9)
    assert (grid.west, grid.north) == pytest.approx((west, 887_000.0), abs=1e-6)


def test_what_is_no_lattice_is_none():
    transform = rasterio.Affine(2, 0, 1000, 0, -2, 2000)
    heights = np.arange(120.0).reshape(10, 12)
    points = points_of(transform, 10, 12, heights)
    turned = points.xyz.copy()
    angle = np.radians(10)
    turned[:, :2] = points.xyz[:, :2] @ np.array([[np.cos(angle), np.sin(angle)], [-np.sin(angle), np.cos(angle)]])
    assert grid_of(PointSet(name="P", frame=METRES, xyz=turned)) is None
    moved = points.xyz.copy()
    moved[17, 0] += 0.377
    assert grid_of(PointSet(name="P", frame=METRES, xyz=moved)) is None
    twice = np.concatenate((points.xyz, points.xyz[:1]))
    assert grid_of(PointSet(name="P", frame=METRES, xyz=twice)) is None, "one cell cannot hold two points"
    with pytest.raises(DataError, match="are not on a regular grid"):
        cells.run([PointSet(name="P", frame=METRES, xyz=turned)], cells.CellParams(), Silent())


def test_gaps_and_rounding_are_told():
    transform = rasterio.Affine(10 / 3, 0, 1000, 0, -10 / 3, 2000)
    points = points_of(transform, 20, 30, np.arange(600.0).reshape(20, 30))
    rounded = points.xyz.copy()
    rounded[:, :2] = np.round(rounded[:, :2], 3)
    some = PointSet(name="P", frame=METRES, xyz=np.delete(rounded, [33, 34, 250], axis=0))
    assert grid_of(some) is not None and not is_complete(some)
    made = cells.run([some], cells.CellParams(), Silent())
    said = " ".join(finding.text for finding in made.findings)
    assert "3 cells of the lattice without a point" in said and "onto the even lattice" in said
    assert int(np.isnan(made.dataset.heights).sum()) == 3


# -- Intervals


@settings(max_examples=60, deadline=None)
@given(
    step=st.sampled_from([0.2, 0.25, 0.5, 1.0, 2.5, 5.0, 10.0, 20.0]),
    base=st.sampled_from([0.0, 0.0, 0.1]),
    first=st.integers(-20, 400),
    number=st.integers(6, 60),
    missing=st.lists(st.integers(0, 59), max_size=3),
    odd=st.integers(0, 1),
)
def test_the_interval_that_lines_keep_is_found(step, base, first, number, missing, odd):
    which = np.array([k for k in range(number) if k not in missing])
    if len(which) < 10:
        odd = 0
    if len(which) < 5 or (np.diff(which) > 1).sum() > (np.diff(which) == 1).sum():
        return
    levels = np.append((first + which) * step + base * step, [first * step + 0.377 * step] * odd)
    found = interval_of(np.round(levels, 9))
    assert found is not None and found.step == pytest.approx(step, rel=1e-5)
    assert int(found.odd.sum()) == odd


def test_contours_of_another_library_keep_their_interval_and_one_moved_line_is_found():
    x, y = np.meshgrid(np.arange(60.0), np.arange(50.0))
    z = 100 + 20 * np.sin(x / 17) * np.cos(y / 13)
    generator = contourpy.contour_generator(x, y, z)
    lines = [
        np.column_stack((part, np.full(len(part), level)))
        for level in np.arange(82.5, 119.0, 2.5)
        for part in generator.lines(level)
    ]
    work = from_lines("Lines", METRES, lines, ["Contour"] * len(lines))
    (finding,) = interval_finding(work)
    assert "keep an interval of 2.5 m, without exception" in finding.text
    lines[4] = lines[4] + [0.0, 0.0, 1.1]
    (finding,) = interval_finding(from_lines("Lines", METRES, lines, ["Contour"] * len(lines)))
    assert "1 line does not" in finding.text and finding.at == tuple(lines[4][0, :2].tolist())
    assert interval_finding(from_lines("Lines", METRES, lines[:2], ["Contour"] * 2)) == []


def test_levels_of_lines_that_are_not_level_are_no_levels():
    lines = [
        np.array([[0.0, 0, 5], [1, 0, 5]]),
        np.array([[0.0, 0, 5], [1, 0, 6]]),
        np.array([[0, 0, np.nan], [1, 0, 5]]),
    ]
    levels = line_levels(from_lines("L", METRES, lines, ["a"] * 3))
    assert levels[0] == 5.0 and np.isnan(levels[1:]).all()


# -- Equal places


@settings(max_examples=60, deadline=None)
@given(seed=st.integers(0, 10_000), tolerance=st.sampled_from([0.0, 0.01, 0.1, 1.0]), number=st.integers(1, 300))
def test_places_are_grouped_by_true_distance(seed, tolerance, number):
    rng = np.random.default_rng(seed)
    xy = rng.random((number, 2)) * 6 + [431_000, 887_000]
    xy = np.concatenate((xy, xy[: number // 3], xy[: number // 4] + tolerance * 0.3))
    group, first = group_places(xy[:, 0].copy(), xy[:, 1].copy(), tolerance)
    away = np.hypot(*(xy - xy[first[group]]).T)
    assert (away < tolerance).all() if tolerance else (away == 0.0).all()
    # Beginnings of places keep their distance, as the k-d tree of SciPy measures it.
    assert not cKDTree(xy[first]).query_pairs(tolerance * (1 - 1e-9))
    assert (np.diff(first) > 0).all() and len(np.unique(group)) == len(first)


# -- Cuts


@settings(max_examples=15, deadline=None)
@given(seed=st.integers(0, 1000), corners=st.integers(200, 3000), hole=st.booleans())
def test_a_cut_in_parts_is_the_cut_as_a_whole(seed, corners, hole):
    rng = np.random.default_rng(seed)
    angle = np.sort(rng.random(corners)) * 2 * np.pi
    radius = 60 + 15 * np.sin(7 * angle) + rng.random(corners)
    ring = np.column_stack((100 + radius * np.cos(angle), 75 + radius * np.sin(angle)))
    area = shapely.Polygon(ring)
    if not area.is_valid:
        return
    if hole:
        area = area.difference(shapely.Point(100, 75).buffer(20, quad_segs=200))
    tin = ground(1500, seed=seed)
    local = tin.vertices[:, :2] - [431_000.0, 887_000.0]
    shapes = shapely.polygons(local[tin.triangles])
    parts = _inner(shapes, shapely.bounds(shapes), area)
    whole = shapely.intersection(shapes, area)
    np.testing.assert_allclose(shapely.area(parts), shapely.area(whole), atol=1e-9)
    placed = shapely.transform(area, lambda xy: xy + [431_000.0, 887_000.0])
    covered = shapely.union_all(shapely.polygons(tin.vertices[tin.triangles][:, :, :2]))
    assert areas(cut_to(tin, placed)).sum() == pytest.approx(covered.intersection(placed).area, rel=1e-9)
