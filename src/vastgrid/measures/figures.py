"""The figures of a dataset: areas, densities, lengths, and how heights, classes and edges are distributed."""

from __future__ import annotations

import dataclasses
import math
from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import singledispatch

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.quantities import Unit, square_word, unit_word
from vastgrid.base.words import spaced
from vastgrid.data.areas import Areas
from vastgrid.data.classes import class_counts, class_name
from vastgrid.data.dataset import Dataset, Floats
from vastgrid.data.frame import Frame, ratio_of
from vastgrid.data.grid import Grid
from vastgrid.data.linework import Contours, Linework, legs
from vastgrid.data.mesh import Mesh
from vastgrid.data.pointset import PointSet
from vastgrid.data.survey import Survey
from vastgrid.data.table import Table
from vastgrid.data.tin import Tin, edges
from vastgrid.measures.area_sizes import sizes_of
from vastgrid.measures.grid_ground import grid_factors

BINS = 32
SIDE = 64


@dataclass(frozen=True, eq=False)
class Histogram:
    """How often values occur.

    Attributes
    ----------
    title : str
        What is counted.
    counts : (n,) int64
        Of each bin.
    bounds : (n + 1,) float64
        Ends of the bins; empty where they are things rather than ranges.
    names : tuple of str
        Of each bin, where they are things: classes.
    keys : tuple of int
        Class of each bin.
    unit : str
        Unit of the bounds.
    """

    title: str
    counts: NDArray[np.int64]
    bounds: Floats = field(default_factory=lambda: np.zeros(0))
    names: tuple[str, ...] = ()
    keys: tuple[int, ...] = ()
    unit: str = ""

    def label(self, k: int) -> str:
        """Return what a bin stands for, with its count."""
        count = spaced(int(self.counts[k]))
        if self.names:
            return f"{self.names[k]}: {count}"
        return f"{self.bounds[k]:.2f} … {self.bounds[k + 1]:.2f}{' ' + self.unit if self.unit else ''}: {count}"


@dataclass(frozen=True, eq=False)
class Figures:
    """What is known of a dataset in numbers.

    Attributes
    ----------
    rows : tuple of (name, value)
        Ready to show.
    histograms : tuple of Histogram
        Heights, classes, edge lengths.
    density : (rows, columns) float64 or None
        Points in a square unit, north up; None where there are no points.
    """

    rows: tuple[tuple[str, str], ...]
    histograms: tuple[Histogram, ...] = ()
    density: Floats | None = None

    def text(self) -> str:
        """Return all figures as lines of tab-separated text."""
        lines = [f"{name}\t{value}" for name, value in self.rows]
        for each in self.histograms:
            lines += ["", each.title]
            if each.names:
                lines += [f"{name}\t{count}" for name, count in zip(each.names, each.counts.tolist(), strict=True)]
            else:
                lines += [
                    f"{each.bounds[k]:.4f}\t{each.bounds[k + 1]:.4f}\t{count}"
                    for k, count in enumerate(each.counts.tolist())
                ]
        return "\n".join(lines) + "\n"


def figures_of(data: Dataset) -> Figures:
    """Return a dataset's figures; slow for large ones."""
    made = _figures(data)
    own = grid_factors(data)
    if own is None:
        return made
    rows = [("Point scale factor", f"{own.scale:.8f}"), ("Convergence", f"{own.convergence:.6f}°")]
    if own.combined is not None:
        rows.append(("Combined factor", f"{own.combined:.8f}"))
    return dataclasses.replace(made, rows=(*made.rows, *rows))


@singledispatch
def _figures(data: Dataset) -> Figures:
    raise TypeError(f"no figures are known of {data.title}")


def _with_heights(
    data: Dataset,
    z: Floats,
    rows: list[tuple[str, str]],
    histograms: Sequence[Histogram] = (),
    density: Floats | None = None,
) -> Figures:
    """Return figures with those of the heights added, and the heights' histogram first."""
    known = np.asarray(z[np.isfinite(z)])
    if len(known) == 0:
        return Figures(tuple(rows), tuple(histograms), density)
    unit = unit_word(data.frame.vertical)
    rows = [*rows, ("Mean height", f"{known.mean():.3f}{unit}"), ("Standard deviation", f"{known.std():.3f}{unit}")]
    return Figures(tuple(rows), (_heights(known, data.frame), *histograms), density)


@_figures.register
def _of_tin(data: Tin) -> Figures:
    rows = _faces(data)
    edge_lengths = _edges(data, rows)
    return _with_heights(data, data.vertices[:, 2], rows, (edge_lengths,))


@_figures.register
def _of_mesh(data: Mesh) -> Figures:
    return _with_heights(data, data.vertices[:, 2], _faces(data))


@_figures.register
def _of_grid(data: Grid) -> Figures:
    rows, z = _cells(data), data.heights.ravel()
    if data.has_heights:
        return _with_heights(data, z, rows)
    z = np.asarray(z[np.isfinite(z)])
    if len(z) == 0:
        return Figures(tuple(rows))
    unit = f" {data.measure}" if data.measure else ""
    rows += [("Holds", data.holds()), ("Mean", f"{z.mean():.3f}{unit}"), ("Standard deviation", f"{z.std():.3f}{unit}")]
    return Figures(tuple(rows), (_heights(z, data.frame),))


@_figures.register
def _of_points(data: PointSet) -> Figures:
    rows: list[tuple[str, str]] = []
    density = _points(data, rows)
    # Of very many heights every seventh tells as much.
    z = data.xyz[:, 2] if len(data.xyz) <= 5_000_000 else data.xyz[::7, 2]
    classes = []
    if "classification" in data.attributes:
        codes, counts = class_counts(data)
        names = tuple(class_name(int(code)) for code in codes)
        classes = [Histogram("Classes", counts, names=names, keys=tuple(int(code) for code in codes))]
    return _with_heights(data, z, rows, classes, density)


@_figures.register
def _of_lines(data: Linework) -> Figures:
    rows = _lengths(data, data.vertices, data.offsets) + _closed(data)
    return _with_heights(data, data.vertices[:, 2], rows)


@_figures.register
def _of_areas(data: Areas) -> Figures:
    if len(data) == 0:
        return Figures(())
    sizes = sizes_of(data)
    square, unit = square_word(sizes.unit), unit_word(sizes.unit)
    rows = [("Area", f"{spaced(float(sizes.areas.sum()), 2)}{square}")]
    if len(data) > 1:
        least, most = float(sizes.areas.min()), float(sizes.areas.max())
        rows.append(("Smallest, largest", f"{spaced(least, 2)}, {spaced(most, 2)}{square}"))
    rows.append(("Perimeter", f"{spaced(float(sizes.perimeters.sum()), 2)}{unit}"))
    rows.append(("Parts, holes", f"{spaced(data.pieces)}, {spaced(int(data.holes().sum()))}"))
    if data.without_heights().all():
        return Figures(tuple(rows))
    return _with_heights(data, data.vertices[:, 2], rows)


@_figures.register
def _of_survey(data: Survey) -> Figures:
    return _with_heights(data, data.vertices[:, 2], _lengths(data, data.vertices, data.offsets))


@_figures.register
def _of_contours(data: Contours) -> Figures:
    xyz = data.coordinates()
    rows = _lengths(data, xyz, data.offsets) + _closed(data)
    if len(data):
        rows.append(("Levels", f"{len(np.unique(data.levels))}: {data.levels.min():g} … {data.levels.max():g}"))
    if len(data) and data.interval:
        rows.append(("Interval", f"{data.interval:g}{unit_word(data.frame.vertical)}"))
    return _with_heights(data, xyz[:, 2], rows)


@_figures.register
def _of_table(data: Table) -> Figures:
    if len(data.columns) > 3:
        # Wide ones are shown as tables.
        return Figures(())
    return Figures(
        tuple((row[0][:1].upper() + row[0][1:], " ".join(part for part in row[1:] if part)) for row in data.texts())
    )


def _square(frame: Frame) -> str:
    unit = frame.horizontal
    return f" {unit.value}²" if unit and unit is not Unit.DEGREE else ""


def _plan(frame: Frame) -> str:
    return unit_word(frame.horizontal)


def _heights(z: Floats, frame: Frame) -> Histogram:
    low, high = float(z.min()), float(z.max())
    if high <= low:
        low, high = low - 0.5, high + 0.5
    counts, bounds = np.histogram(z, BINS, (low, high))
    return Histogram("Elevations", counts, bounds, unit=frame.vertical.value if frame.vertical else "")


def _faces(data: Tin | Mesh) -> list[tuple[str, str]]:
    corner = data.vertices[data.triangles]
    u, v = corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0]
    plan = float(np.abs(u[:, 0] * v[:, 1] - u[:, 1] * v[:, 0]).sum() / 2.0)
    # Heights in the plan's unit, or the slope area would be of no unit at all.
    scale = np.array((1.0, 1.0, 1.0 / ratio_of(data.frame)))
    slope = float(np.linalg.norm(np.cross(u * scale, v * scale), axis=1).sum() / 2.0)
    square = _square(data.frame)
    rows = [("Plan area", f"{spaced(plan, 1)}{square}"), ("Surface area", f"{spaced(slope, 1)}{square}")]
    if plan > 0:
        spacing = math.sqrt(plan / max(len(data.vertices), 1))
        rows.append(("Density", f"{len(data.vertices) / plan:.3g} vertices in 1{square or ' square unit'}"))
        rows.append(("Mean spacing", f"{spacing:.3f}{_plan(data.frame)}"))
    return rows


def _edges(tin: Tin, rows: list[tuple[str, str]]) -> Histogram:
    pair = edges(tin)
    step = tin.vertices[pair[:, 1], :2] - tin.vertices[pair[:, 0], :2]
    length = np.hypot(step[:, 0], step[:, 1])
    if len(length) == 0:
        return Histogram("Edge lengths in plan", np.zeros(1, np.int64), np.array((0.0, 1.0)))
    low, middle, most, top = np.quantile(length, (0.0, 0.5, 0.95, 1.0))
    plan = _plan(tin.frame)
    rows.append(("Edges", f"{low:.3f} … {top:.3f}{plan}"))
    rows.append(("Median, 95 %", f"{middle:.3f}, {most:.3f}{plan}"))
    counts, bounds = np.histogram(length, BINS, (0.0, max(float(most) * 2.0, 1e-9)))
    # What is longer stands in the last bin, which so reaches to the longest.
    counts[-1] += int((length > bounds[-1]).sum())
    bounds[-1] = max(float(top), float(bounds[-1]))
    return Histogram("Edge lengths in plan", counts, bounds, unit=plan.strip())


def _cells(grid: Grid) -> list[tuple[str, str]]:
    known = int(np.isfinite(grid.heights).sum())
    square, plan = _square(grid.frame), _plan(grid.frame)
    rows = [
        ("Cell", f"{grid.dx:g} × {grid.dy:g}{plan}"),
        ("Cells with a height", f"{spaced(known)} of {spaced(grid.rows * grid.columns)}"),
        ("Plan area", f"{spaced(known * grid.dx * grid.dy, 1)}{square}"),
    ]
    if min(grid.rows, grid.columns) > 2 and known:
        ratio = ratio_of(grid.frame)
        dz_y, dz_x = np.gradient(grid.heights / ratio, grid.dy, grid.dx)
        slope = np.sqrt(1.0 + dz_x**2 + dz_y**2)
        good = np.isfinite(slope)
        if good.any():
            # Where a slope is missing, at rims, the mean of the others stands for it.
            area = float(slope[good].mean()) * known * grid.dx * grid.dy
            rows.append(("Surface area", f"{spaced(area, 1)}{square}"))
    return rows


def _points(points: PointSet, rows: list[tuple[str, str]]) -> Floats | None:
    extent = points.extent()
    if not extent.east or not extent.north or len(points.xyz) == 0:
        return None
    width, height = extent.east[1] - extent.east[0], extent.north[1] - extent.north[0]
    size = max(width, height, 1e-9) / SIDE
    shape = (max(math.ceil(height / size), 1), max(math.ceil(width / size), 1))
    counts = np.zeros(shape[0] * shape[1], np.int64)
    for start in range(0, len(points.xyz), 2_000_000):
        part = points.xyz[start : start + 2_000_000]
        part = part[np.isfinite(part[:, :2]).all(axis=1)]
        column = np.clip(((part[:, 0] - extent.east[0]) / size).astype(np.int64), 0, shape[1] - 1)
        row = np.clip(((extent.north[1] - part[:, 1]) / size).astype(np.int64), 0, shape[0] - 1)
        counts += np.bincount(row * shape[1] + column, minlength=len(counts))
    covered = int((counts > 0).sum()) * size * size
    square, plan = _square(points.frame), _plan(points.frame)
    if covered > 0:
        rows.append(("Area covered", f"about {spaced(covered)}{square}"))
        rows.append(("Density", f"{len(points.xyz) / covered:.3g} points in 1{square or ' square unit'}"))
        rows.append(("Mean spacing", f"{math.sqrt(covered / len(points.xyz)):.3f}{plan}"))
    return np.asarray(counts.reshape(shape) / (size * size))


def _lengths(data: Dataset, xyz: Floats, offsets: NDArray[np.int64]) -> list[tuple[str, str]]:
    if len(xyz) < 2:
        return []
    start = legs(offsets, len(xyz))
    step = xyz[start + 1] - xyz[start]
    length = np.hypot(step[:, 0], step[:, 1])
    rows = [("Length in plan", f"{spaced(float(length.sum()), 2)}{_plan(data.frame)}")]
    up = step[:, 2] / ratio_of(data.frame)
    if np.isfinite(up).all():
        rows.append(("Length in space", f"{spaced(float(np.hypot(length, up).sum()), 2)}{_plan(data.frame)}"))
    return rows


def _closed(lines: Linework | Contours) -> list[tuple[str, str]]:
    if len(lines) == 0:
        return []
    closed = int(lines.closed().sum())
    return [("Closed, open", f"{spaced(closed)}, {spaced(len(lines) - closed)}")]
