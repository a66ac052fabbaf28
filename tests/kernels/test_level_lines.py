"""Level lines of grids against contourpy, and levels exactly on vertices: no gaps, nothing doubled, no branches."""

import contourpy
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from builders import METRES
from vastgrid.base.progress import Silent
from vastgrid.base.quantities import Length
from vastgrid.conversions.lines import contours
from vastgrid.data.grid import Grid
from vastgrid.kernels.drawing.shade import hillshade, slope_aspect
from vastgrid.kernels.lines.gridlines import grid_isolines
from vastgrid.kernels.lines.isolines import undoubled
from vastgrid.measures.levels import interval_of
from vastgrid.terrain.tin.surfaces import grid_tin


@pytest.fixture(scope="module")
def jacksboro():
    from matplotlib import cbook

    return cbook.get_sample_data("jacksboro_fault_dem.npz")["elevation"].astype(float)


def length(lines):
    return sum(np.hypot(*np.diff(line, axis=0).T).sum() for line in lines)


def theirs(z, levels):
    generator = contourpy.contour_generator(z=z, corner_mask=True)
    return [line for level in levels for line in generator.lines(level)]


def split(plan, offsets):
    return [plan[a:b] for a, b in zip(offsets[:-1], offsets[1:], strict=True)]


def doubled(plan, offsets, level):
    seen = {}
    for line, own in zip(split(plan, offsets), level.tolist(), strict=True):
        for p, q in zip(line[:-1].tolist(), line[1:].tolist(), strict=True):
            key = (own, *sorted((tuple(p), tuple(q))))
            seen[key] = seen.get(key, 0) + 1
    return sum(times - 1 for times in seen.values())


@pytest.mark.parametrize("gaps", [0.0, 0.02])
def test_as_long_as_contourpys_on_an_open_dem(jacksboro, gaps):
    """contourpy 1.3 on matplotlib's DEM of 344 × 403 cells; half-metre levels, so that none meets a cell's height."""
    z = np.where(np.random.default_rng(0).random(jacksboro.shape) < gaps, np.nan, jacksboro)
    levels = np.arange(250.5, 1000.0, 20.0)
    plan, offsets, level, node = grid_isolines(z, 0.0, 0.0, 1.0, -1.0, levels)
    assert not node.any() and doubled(plan, offsets, level) == 0
    assert length(split(plan, offsets)) == pytest.approx(length(theirs(z, levels)), rel=1e-4)


def test_contours_of_a_grid_follow_the_grid_and_not_triangles(jacksboro):
    grid = Grid(name="dem", frame=METRES, heights=jacksboro[:120, :120], west=0.0, north=120.0, dx=1.0, dy=1.0)
    params = contours.ContourParams(Length(10.0), Length(0.5))
    made = contours.run([grid], params, Silent()).dataset
    levels = np.unique(made.levels)
    ours = length(split(made.plan, made.offsets))
    assert ours == pytest.approx(length(theirs(jacksboro[:120, :120], levels)), rel=2e-3)
    triangles = contours.run([grid_tin(grid)], params, Silent()).dataset
    assert length(split(triangles.plan, triangles.offsets)) > 1.005 * ours


def test_integer_heights_on_the_levels_double_nothing(jacksboro):
    levels = np.arange(250.0, 1000.0, 10.0)
    plan, offsets, level, node = grid_isolines(jacksboro, 0.0, 0.0, 1.0, 1.0, levels)
    assert doubled(plan, offsets, level) > 0, "a ridge on a level has two sides that fall together"
    plan, offsets, level = undoubled(plan, offsets, level, node)
    assert doubled(plan, offsets, level) == 0
    assert length(split(plan, offsets)) == pytest.approx(length(theirs(jacksboro, levels)), rel=2e-3)


@given(st.integers(0, 100_000), st.integers(1, 4), st.booleans())
@settings(max_examples=80, deadline=None)
def test_lines_end_at_the_rim_only_and_keep_higher_ground_on_the_left(seed, top, on_nodes):
    rng = np.random.default_rng(seed)
    z = np.round(rng.random((7, 8)) * top)
    z[rng.random(z.shape) < 0.1] = np.nan
    levels = np.arange(0.0, top + 1.0) + (0.0 if on_nodes else 0.5)
    plan, offsets, level, node = grid_isolines(z, 0.0, 0.0, 1.0, 1.0, levels)
    for line, own in zip(split(plan, offsets), level.tolist(), strict=True):
        if (line[0] != line[-1]).any():
            for x, y in (line[0], line[-1]):
                around = z[max(int(-y) - 1, 0) : int(-y) + 3, max(int(x) - 1, 0) : int(x) + 3]
                assert x in (0.0, 7.0) or y in (0.0, -6.0) or np.isnan(around).any()
        for p, q in zip(line[:-1], line[1:], strict=True):
            column, row = int(min((p + q)[0] / 2, 6.99)), int(min(-(p + q)[1] / 2, 5.99))
            cell = [(column + dx, -(row + dy), z[row + dy, column + dx]) for dy in (0, 1) for dx in (0, 1)]
            above = [height >= levels[own] for _, _, height in cell]
            if on_nodes or (above[0] == above[3] and above[1] == above[2]):
                continue  # a saddle has high ground on both sides
            for x, y, height in cell:
                side = (q - p)[0] * (y - p[1]) - (q - p)[1] * (x - p[0])
                assert np.isnan(height) or abs(side) < 1e-9 or (side > 0) == (height >= levels[own])
    plan, offsets, level = undoubled(plan, offsets, level, node)
    assert doubled(plan, offsets, level) == 0


@pytest.mark.parametrize("base", [0.0, 0.25])
@pytest.mark.parametrize("interval", [0.3, 1.0])
def test_levels_on_vertices_are_measured(interval, base):
    rng = np.random.default_rng(5)
    x, y = (part.ravel() * 10.0 + rng.uniform(-3, 3, 1600) for part in np.meshgrid(np.arange(40.0), np.arange(40.0)))
    from vastgrid.conversions.surfaces import tin
    from vastgrid.data.pointset import PointSet

    cloud = PointSet(frame=METRES, xyz=np.column_stack((x, y, np.round(6 * np.sin(x / 60) * np.cos(y / 50)))))
    ground = tin.run([cloud], tin.TinParams(), Silent()).dataset
    result = contours.run([ground], contours.ContourParams(Length(interval), Length(base)), Silent())
    assert result.loss is not None and not result.findings
    assert (
        doubled(
            result.dataset.plan,
            result.dataset.offsets,
            np.searchsorted(np.unique(result.dataset.levels), result.dataset.levels),
        )
        == 0
    )
    found = interval_of(result.dataset.levels)
    assert found.step == pytest.approx(interval) and found.base == pytest.approx(base) and not found.odd.any()


def test_a_huge_number_of_vertices_is_foretold(run_cli, tmp_path, monkeypatch):
    from vastgrid.execution import run

    rng = np.random.default_rng(0)
    rows = np.column_stack((rng.random((3000, 2)) * 100, rng.random(3000) * 20))
    np.savetxt(tmp_path / "n.csv", rows, fmt="%.3f", delimiter=",", header="E [m],N [m],Z [m]", comments="")
    monkeypatch.setattr(run, "_MANY", 20_000)
    monkeypatch.setattr(contours, "MOST_MEASURED", 10_000)
    code, _, err = run_cli("convert", tmp_path / "n.csv", tmp_path / "n.dxf", "--via", "contours", "interval=0.5m")
    assert code == 0 and "vertices; making, writing and reading them back may take 1 minute" in err
    assert "What the contours lose was not measured" in err


@pytest.mark.parametrize("rise", [(0.5, 0.0), (0.3, -0.4), (0.0, 2.0)])
def test_a_plane_has_one_slope_everywhere(rise):
    """At rims, corners and beside gaps; the formula of Horn (1981) needs all eight neighbours."""
    x, y = np.meshgrid(np.arange(9.0), np.arange(7.0))
    z = rise[0] * x - rise[1] * y
    z[2, 3] = z[0, 4] = z[5, 8] = np.nan
    slope, aspect = slope_aspect(z, 1.0, 1.0)
    known = np.isfinite(z)
    assert slope[known] == pytest.approx(np.degrees(np.arctan(np.hypot(*rise))), abs=1e-9)
    assert np.ptp(hillshade(z, 1.0, 1.0, 315.0, 45.0)[known]) < 1e-12
    assert aspect[known] == pytest.approx(np.degrees(np.arctan2(-rise[0], -rise[1])) % 360.0, abs=1e-9)
