"""A grid as TINs within a tolerance, one for each tile: every cell is within it, and the parts fit along their seams."""

from __future__ import annotations

import csv

import numpy as np
import pytest
from rasterio import Affine

from tiling.grounds import in_tiles, put, read
from vastgrid.base.errors import CallError
from vastgrid.base.progress import Silent
from vastgrid.execution.steps import read_file
from vastgrid.kernels.cells.raster import raster_heights
from vastgrid.kernels.lines.profiles import needed
from vastgrid.kernels.triangles.triangulate import triangulate


def parts(folder, stem, ending):
    """Return the parts of a set by row and column."""
    found = {}
    for path in sorted(folder.glob(f"{stem}-r*-c*{ending}")):
        row, column = path.stem.removeprefix(f"{stem}-r").split("-c")
        found[int(row), int(column)] = read([path])[0]
    return found


def rim(tin, axis, value):
    """Return the edges of a TIN on a line along east or north, as pairs of places."""
    assert tin.neighbours is not None
    t, k = np.nonzero(np.asarray(tin.neighbours) < 0)
    ends = np.stack((tin.vertices[tin.triangles[t, k]], tin.vertices[tin.triangles[t, (k + 1) % 3]]), axis=1)
    on = (np.abs(ends[:, :, axis] - value) < 1e-6).all(axis=1)
    return {tuple(sorted(map(tuple, np.round(pair, 6).tolist()))) for pair in ends[on]}


def heights_of(tins, grid):
    made = np.full(grid.heights.shape, np.nan)
    for tin in tins:
        own = raster_heights(tin.vertices, tin.triangles, (grid.west, grid.north), (grid.dx, grid.dy), made.shape)
        made = np.where(np.isnan(made), own, made)
    return made


@pytest.mark.parametrize("ending", [".xml", ".dxf"])
def test_parts_keep_the_tolerance_and_share_their_seams(dem, tmp_path, ending):
    (grid,) = read([dem / "jacksboro.tif"])
    tile = 30.3 * 91
    most = 4.0 if ending == ".xml" else 15.0
    steps = [("simplify", {"tolerance": str(most)})]
    run = in_tiles([dem / "jacksboro.tif"], steps, tmp_path / f"g{ending}", tile)
    delivery = run.account.deliveries[0]
    assert delivery.good
    tins = parts(tmp_path, "g", ending)
    assert len(tins) == 4 * 5
    made = heights_of(tins.values(), grid)
    np.testing.assert_array_equal(np.isnan(made), np.isnan(grid.heights))
    worst = float(np.nanmax(np.abs(made - grid.heights)))
    assert worst <= most + 1e-6
    assert run.account.steps[-1].loss.largest == pytest.approx(worst, abs=1e-6)
    # Where both sides of a seam have ground, they have the very same edges there.
    seams = 0
    for (row, column), tin in tins.items():
        x = grid.west + (91 * column + 0.5) * grid.dx
        y = grid.north - (91 * row + 0.5) * grid.dy
        for beside, axis, value in (((row, column + 1), 0, x), ((row + 1, column), 1, y)):
            if beside in tins:
                here, there = rim(tin, axis, value), rim(tins[beside], axis, value)
                assert here == there
                seams += len(here)
    assert seams > 100
    with (tmp_path / "g-index.csv").open() as file:
        rows = list(csv.DictReader(file))
    assert [each["file"] for each in rows] == [f"g-r{r}-c{c}{ending}" for r, c in sorted(tins)]
    assert sum(int(each["triangles"]) for each in rows) == sum(len(each.triangles) for each in tins.values())
    assert max(float(each["largest error"]) for each in rows) <= most
    outlines = read_file(tmp_path / f"g-index{ending}", {}, Silent(), (None, None)).datasets[0]
    assert len(outlines) == len(tins)


def test_seams_fit_where_ground_ends_on_them(tmp_path):
    """Gaps that begin, end and turn on a seam, single cells among gaps, and a slope that needs no vertex at all."""
    rng = np.random.default_rng(5)
    y, x = np.mgrid[0:90, 0:130]
    z = 100 + 0.5 * x + np.where(x > 60, 3 * np.sin(x / 5) * np.cos(y / 6), 0.0)
    z[rng.random(z.shape) < 0.03] = -9999
    z[28:34, 10:25] = -9999
    z[20:30, 40:60] = -9999
    z[30:45, 70:90] = -9999
    put(tmp_path / "g.tif", z, Affine(1, 0, 500_000, 0, -1, 5_000_000), -9999)
    (grid,) = read([tmp_path / "g.tif"])
    whole = in_tiles([tmp_path / "g.tif"], [("simplify", {"tolerance": "0.3"})], tmp_path / "one.xml", 500.0)
    assert whole.figures["tiles"] == 1
    in_tiles([tmp_path / "g.tif"], [("simplify", {"tolerance": "0.3"})], tmp_path / "cut.xml", 30.0)
    one, tins = parts(tmp_path, "one", ".xml")[1, 1], parts(tmp_path, "cut", ".xml")
    made, at_once = heights_of(tins.values(), grid), heights_of([one], grid)
    np.testing.assert_array_equal(np.isnan(made), np.isnan(at_once))
    assert float(np.nanmax(np.abs(made - grid.heights))) <= 0.3 + 1e-6
    area = sum(_area(tin) for tin in tins.values())
    assert area == pytest.approx(_area(one), rel=1e-9)
    for (row, column), tin in tins.items():
        for beside, axis, value in (
            ((row, column + 1), 0, grid.west + 30 * column + 0.5),
            ((row + 1, column), 1, grid.north - 30 * row - 0.5),
        ):
            if beside in tins:
                here, there = rim(tin, axis, value), rim(tins[beside], axis, value)
                # Ground on one side alone has a rim of its own; where both have it, they meet.
                ends = [{place for pair in side for place in pair} for side in (here, there)]
                for pair in here ^ there:
                    inner = [
                        place
                        for place in ends[pair in here]
                        if min(p[1 - axis] for p in pair) < place[1 - axis] < max(p[1 - axis] for p in pair)
                    ]
                    assert not inner


def _area(tin):
    corner = tin.vertices[tin.triangles][:, :, :2]
    u, v = corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0]
    return float(np.abs(u[:, 0] * v[:, 1] - u[:, 1] * v[:, 0]).sum() / 2.0)


def test_a_set_is_not_written_over_unless_it_is_said(dem, tmp_path):
    steps = [("simplify", {"tolerance": "9"})]
    in_tiles([dem / "jacksboro.tif"], steps, tmp_path / "g.xml", 5000.0)
    with pytest.raises(CallError, match=r"g-r1-c1\.xml.* more would be written over"):
        in_tiles([dem / "jacksboro.tif"], steps, tmp_path / "g.xml", 5000.0)
    in_tiles([dem / "jacksboro.tif"], steps, tmp_path / "g.xml", 5000.0, replace=True)
    with pytest.raises(CallError, match="last step"):
        in_tiles([dem / "jacksboro.tif"], [*steps, ("grid", {"cell": "60"})], tmp_path / "h.tif", 5000.0)
    for words, why in (({}, "say the tolerance"), ({"triangles": "500"}, "one of the whole")):
        with pytest.raises(CallError, match=why):
            in_tiles([dem / "jacksboro.tif"], [("simplify", words)], tmp_path / "h.xml", 5000.0)


def test_profiles_keep_within_a_tolerance_whichever_way_they_are_looked_at():
    rng = np.random.default_rng(2)
    z = np.cumsum(rng.normal(0, 1, 4000))
    z[rng.random(4000) < 0.01] = np.nan
    held = rng.random(4000) < 0.001
    keep = needed(z, held, 2.5)
    assert (keep[held & np.isfinite(z)]).all()
    at = np.flatnonzero(keep)
    assert len(at) < 1500
    known = np.isfinite(z)
    line = np.interp(np.arange(4000), at, z[at])
    assert float(np.abs(line - z)[known].max()) <= 2.5
    # Of a straight slope only its ends stay, though it is not exact in binary.
    slope = 0.1 * np.arange(500)
    assert np.flatnonzero(needed(slope, np.zeros(500, bool), 1e-9)).tolist() == [0, 499]


def test_triangulation_keeps_places_on_a_straight_rim():
    """What seams rely on: places along the side of a square stay corners of triangles."""
    xy = np.array([(0, 0), (10, 0), (10, 10), (0, 10), (3, 0), (7, 0)], float)
    pairs = np.array([(0, 4), (4, 5), (5, 1), (1, 2), (2, 3), (3, 0)], np.int64)
    made = triangulate(xy, pairs, Silent())
    assert len(made.triangles) == 4
