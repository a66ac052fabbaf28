"""What making costs: grids, contours, labels, cells of clouds, natural neighbours, and measuring what it cost."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import numpy as np
from shared import FOLDER, best, make_tin, row, survey

from vastgrid.base.progress import Silent
from vastgrid.base.quantities import Unit
from vastgrid.conversions.grids import grid as grid_conversion
from vastgrid.conversions.lines import labels as label_conversion
from vastgrid.data.frame import Frame
from vastgrid.data.grid import Grid
from vastgrid.data.linework import Contours
from vastgrid.data.pointset import PointSet
from vastgrid.measures.difference import difference
from vastgrid.params import declare
from vastgrid.terrain.cells.gridding import Method, heights_on
from vastgrid.terrain.lines.contouring import level_lines

METRES = Frame(None, Unit.METRE, Unit.METRE)


def _grid(source: object, **words: str) -> Grid:
    params = declare.build(grid_conversion.GridParams, words)
    made = grid_conversion.run([source], grid_conversion.settle([source], params), Silent())  # type: ignore[list-item]
    assert isinstance(made.dataset, Grid)
    return made.dataset


def bench_grid_contours() -> None:
    """Contours of a grid of 5000 × 5000, chained and grouped, against contourpy with the same chains."""
    import contourpy

    y, x = np.mgrid[0:5000, 0:5000].astype(float)
    z = 60 * np.sin(x / 380) * np.cos(y / 430) + 8 * np.sin(x / 61 + y / 93)
    grid = Grid(name="g", frame=METRES, heights=z, west=0.0, north=5000.0, dx=1.0, dy=1.0)
    levels = np.arange(-60.0, 61.0, 5.0)

    def grouped() -> None:
        lines = level_lines(grid, levels)
        own = Contours(
            plan=lines.plan, offsets=lines.offsets, levels=levels[lines.which], index=lines.which % 5 == 0, interval=5.0
        )
        own.groups()

    ours = best(grouped, 3)
    generator = contourpy.contour_generator(z=z, name="serial", line_type=contourpy.LineType.ChunkCombinedOffset)
    theirs = best(lambda: [generator.lines(level) for level in levels], 2)
    row("contours of a 5000² grid, chained, in groups", f"{theirs / ours:.2f} × contourpy ({ours:.2f} s)", "≥ 1.5 ×",
        good=theirs / ours >= 1.5)  # fmt: skip


def bench_labels() -> None:
    """Labels for 100 000 contours: rings of forty vertices, one label each, gaps cut."""
    turn = np.linspace(0, 2 * np.pi, 41)
    ring = np.column_stack((np.cos(turn), np.sin(turn))) * 3.0
    ring[-1] = ring[0]
    number = 100_000
    middle = np.stack(np.meshgrid(np.arange(400) * 8.0, np.arange(250) * 8.0), axis=-1).reshape(-1, 1, 2)
    many = Contours(
        name="Many", frame=METRES, plan=(ring[None] + middle).reshape(-1, 2), offsets=np.arange(number + 1) * 41,
        levels=np.arange(number) % 50 + 0.0, index=np.ones(number, bool), interval=1.0,
    )  # fmt: skip
    params = declare.build(label_conversion.LabelParams, {"ground": "0.5m"})

    def run() -> None:
        made = label_conversion.run([many], params, Silent()).dataset
        assert isinstance(made, Contours)
        assert len(made.labels["line"]) == number
        made.with_gaps()

    seconds = best(run, 2)
    row("labels for 100 000 contours, gaps cut", f"{seconds:.2f} s", "≤ 5 s", good=seconds <= 5.0)


def bench_natural() -> None:
    """A million cells from 200 000 points by natural neighbours, against linear in the triangles, both whole."""
    rng = np.random.default_rng(1)
    xy = rng.random((200_000, 2)) * 1000.0
    points = PointSet(
        name="p", frame=METRES, xyz=np.column_stack((xy, 50 * np.sin(xy[:, 0] / 90) * np.cos(xy[:, 1] / 70)))
    )
    ours = best(lambda: _grid(points, cell="1m", method="natural"))
    linear = best(lambda: _grid(points, cell="1m", method="linear"))
    row("1 M cells by natural neighbours from 200 k points", f"{ours / linear:.1f} × linear ({ours:.2f} s)", "≤ 10 ×",
        good=ours / linear <= 10.0)  # fmt: skip


def bench_linear_grid() -> None:
    """Linear gridding of points, triangulation included, against the raster library's own where it can be had."""
    from scipy.interpolate import LinearNDInterpolator

    xyz = survey(200_000)
    xyz = xyz[np.unique(xyz[:, :2], axis=0, return_index=True)[1]]
    points = PointSet(name="p", frame=METRES, xyz=xyz)
    ours = best(lambda: _grid(points, cell="3m", method="linear"))
    made = _grid(points, cell="3m", method="linear")
    east, north = np.meshgrid(made.eastings() - xyz[0, 0], made.northings() - xyz[0, 1])

    def theirs() -> None:
        LinearNDInterpolator(xyz[:, :2] - xyz[0, :2], xyz[:, 2])(east, north)

    other = best(theirs, 1)
    row("200 k points → 3 m grid, linear, loss included", f"{other / ours:.1f} × faster than SciPy's ({ours:.2f} s)", "≥ 3 ×",
        good=other / ours >= 3.0)  # fmt: skip


def bench_loss() -> None:
    """The loss of a grid of 25 M cells against a TIN of 1 M triangles, against the time of making it."""
    tin = make_tin(1_000_000).in_frame(METRES)
    low, high = tin.vertices[:, :2].min(axis=0), tin.vertices[:, :2].max(axis=0)
    size = float(np.sqrt(np.prod(high - low) / 25e6))
    params = declare.build(grid_conversion.GridParams, {"cell": f"{size:.3f}m"})
    params = grid_conversion.settle([tin], params)
    cells = grid_conversion.cells_of(tin, params)
    made: list[np.ndarray] = []
    make = best(lambda: made.append(heights_on(tin, cells, Method.LINEAR, None, Silent())), 1)
    grid = Grid(name="g", frame=METRES, heights=made[-1], west=cells.west, north=cells.north, dx=cells.dx, dy=cells.dy)
    difference(tin, grid, Silent())
    loss = best(lambda: difference(tin, grid, Silent()), 2)
    row(f"loss of a {grid.heights.size / 1e6:.0f} M-cell grid against 1 M triangles", f"{loss / make:.2f} × making it ({loss:.2f} s)",
        "≤ 2 ×", good=loss / make <= 2.0)  # fmt: skip


_CELLS = """
import sys, time
from pathlib import Path
import laspy, numpy as np
sys.path.insert(0, sys.argv[2])
from shared import peak
from vastgrid.base.progress import Silent
from vastgrid.formats import las
from vastgrid.kernels import warm
from vastgrid.conversions.grids import grid
from vastgrid.params import declare
warm.warm()
path = Path(sys.argv[1])
read = []
for _ in range(2):
    begun = time.perf_counter()
    with laspy.open(path) as file:
        for chunk in file.chunk_iterator(500_000):
            np.column_stack((chunk.x, chunk.y, chunk.z))
            for name in chunk.point_format.dimension_names:
                np.asarray(chunk[name])
    read.append(time.perf_counter() - begun)
begun = time.perf_counter()
points = las.FORMAT.read(path, las.FORMAT.read_params(), Silent()).datasets[0]
params = declare.build(grid.GridParams, {"cell": "1", "method": "mean"})
made = grid.run([points], grid.settle([points], params), Silent()).dataset
took = time.perf_counter() - begun
print(min(read), took, peak(), np.isfinite(made.heights).sum())
"""


def bench_cells() -> None:
    """20 M points of a LAZ file → a grid of 1 m, reading and loss included, against laspy's reading of all attributes."""
    import laspy

    rng = np.random.default_rng(2)
    path = Path(FOLDER) / "cells.laz"
    header = laspy.LasHeader(point_format=6, version="1.4")
    header.scales, header.offsets = np.full(3, 0.001), np.array([512_000.0, 5_412_000.0, 0.0])
    with laspy.open(path, mode="w", header=header, do_compress=True) as file:
        for _ in range(20):
            part = laspy.ScaleAwarePointRecord.zeros(1_000_000, header=header)
            part.x, part.y = 512_000 + rng.random(1_000_000) * 3000, 5_412_000 + rng.random(1_000_000) * 2500
            part.z = 200 + 10 * np.sin(np.asarray(part.x) / 91)
            file.write_points(part)
    done = subprocess.run(
        [sys.executable, "-c", _CELLS, str(path), str(Path(__file__).parent)],
        check=True,
        capture_output=True,
        text=True,
    )
    read, took, memory, _ = (float(word) for word in done.stdout.split())
    row("20 M points of a LAZ file → 1 m grid of means, loss included", f"{read / took:.2f} × laspy's reading ({took:.1f} s), {memory:.2f} GB", "≥ 0.6 ×, ≤ 1.5 GB",
        good=read / took >= 0.6 and memory <= 1.5)  # fmt: skip
    path.unlink()
