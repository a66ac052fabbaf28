"""A delivery before it is written: what each file will hold, how large it will be, what it cannot carry, what it costs."""

from __future__ import annotations

import dataclasses
import tempfile
from collections.abc import Sequence
from dataclasses import dataclass
from functools import singledispatch
from pathlib import Path
from typing import Any

import numpy as np

from vastgrid.base.errors import Cancelled, VastGridError
from vastgrid.base.findings import Finding
from vastgrid.base.progress import Progress
from vastgrid.data.areas import Areas
from vastgrid.data.dataset import Dataset
from vastgrid.data.grid import Grid
from vastgrid.data.linework import Contours, Linework
from vastgrid.data.mesh import Mesh
from vastgrid.data.pointset import PointSet
from vastgrid.data.tin import Tin
from vastgrid.declarations.fileformat import Format, as_carried
from vastgrid.delivery.preparing import in_units_asked, prepared
from vastgrid.execution.executor import Units
from vastgrid.execution.outline import Item, outline
from vastgrid.execution.steps import in_one_frame

# What is written whole to know its size; of more, a part.
_WHOLE = 60_000


@dataclass(frozen=True, slots=True)
class Held:
    """What a file will hold.

    Attributes
    ----------
    datasets : tuple of Dataset
        As they will be written.
    items : tuple of Item
        As a tree.
    findings : tuple of Finding
        What it cannot carry, and what is changed on the way.
    params : object
        The options, what was left open settled.
    size : float
        Bytes, by what things weigh.
    """

    datasets: tuple[Dataset, ...]
    items: tuple[Item, ...]
    findings: tuple[Finding, ...]
    params: Any
    size: float


def held(datasets: Sequence[Dataset], target: Format, params: Any, units: Units) -> Held:
    """Return what a file will hold.

    Raises
    ------
    CallError
        If it cannot hold this, or an option cannot be.
    """
    findings: list[Finding] = []
    given: Sequence[Dataset] = datasets
    if not target.carries_with(params).geographic:
        given = in_one_frame(datasets, findings)
    settled = target.fits([in_units_asked(each, units) for each in given], params)
    sent = prepared(given, target, settled, units, findings)
    # A header, and what each takes.
    size = 1500.0 + sum(target.weigh(each) for each in sent)
    carries = target.carries_with(settled)
    items = outline([as_carried(each, carries) for each in sent])
    return Held(tuple(sent), items, tuple(findings), settled, size)


def measured_size(own: Held, target: Format, progress: Progress) -> float:
    """Return the bytes a file will have, by writing it, or a part of it, where nobody sees it.

    Raises
    ------
    Cancelled
        If asked to stop.
    """
    if target.write is None or target.verify is not None:
        return own.size
    whole = sum(sum(each.count().values()) for each in own.datasets)
    sample = own.datasets if whole <= _WHOLE else [part_of(each, _WHOLE / whole) for each in own.datasets]
    with tempfile.TemporaryDirectory(prefix="vastgrid-size-") as folder:
        try:
            sizes = [
                _written(some, target, own.params, Path(folder), progress)
                for some in ((sample,) if whole <= _WHOLE else (sample, _halves(sample)))
            ]
        except Cancelled:
            raise
        except VastGridError:
            return own.size
    if len(sizes) == 1:
        return sizes[0]
    # What a file takes with nothing in it is told apart by two samples, one half of the other.
    weights = [sum(target.weigh(each) for each in some) for some in (sample, _halves(sample))]
    total = sum(target.weigh(each) for each in own.datasets)
    if weights[0] <= weights[1]:
        return own.size
    slope = (sizes[0] - sizes[1]) / (weights[0] - weights[1])
    return max(sizes[0] + slope * (total - weights[0]), float(sizes[0]))


def _written(datasets: Sequence[Dataset], target: Format, params: Any, folder: Path, progress: Progress) -> int:
    assert target.write is not None
    path = folder / f"sample{target.suffixes[0]}"
    target.write(datasets, path, params, progress)
    size = sum(each.stat().st_size for each in folder.iterdir())
    for each in folder.iterdir():
        each.unlink()
    return size


def _halves(datasets: Sequence[Dataset]) -> list[Dataset]:
    return [part_of(each, 0.5) for each in datasets]


def _stretches(number: int, share: float) -> Any:
    """Return about a share of so many rows, in ten stretches from all over: neighbours stay neighbours."""
    if number < 100:
        return np.arange(number)
    length = max(int(number * share / 10), 1)
    starts = np.linspace(0, number - length, 10).astype(np.int64)
    return np.unique((starts[:, None] + np.arange(length)).ravel())


@singledispatch
def part_of(dataset: Dataset, share: float) -> Dataset:
    """Return about a share of a dataset, in pieces from all over it; what cannot be parted stays whole."""
    return dataset


@part_of.register
def _points(points: PointSet, share: float) -> Dataset:
    return points.chosen(_stretches(len(points.xyz), share))


@part_of.register
def _tin(tin: Tin, share: float) -> Dataset:
    rows = _stretches(len(tin.triangles), share)
    used, corners = np.unique(tin.triangles[rows], return_inverse=True)
    numbers = corners.reshape(-1, 3).astype(np.int32)
    source = (
        tin.source_points[_stretches(len(tin.source_points), share)] if len(tin.source_points) else tin.source_points
    )
    lines = max(int((len(tin.break_offsets) - 1) * share), 0)
    return Tin(
        name=tin.name,
        frame=tin.frame,
        vertices=tin.vertices[used],
        triangles=numbers,
        source_points=source,
        break_vertices=tin.break_vertices[: tin.break_offsets[lines]],
        break_offsets=tin.break_offsets[: lines + 1],
    )


@part_of.register
def _mesh(mesh: Mesh, share: float) -> Dataset:
    rows = _stretches(len(mesh.triangles), share)
    used, corners = np.unique(mesh.triangles[rows], return_inverse=True)
    numbers = corners.reshape(-1, 3).astype(np.int32)
    return Mesh(name=mesh.name, frame=mesh.frame, vertices=mesh.vertices[used], triangles=numbers)


@part_of.register
def _grid(grid: Grid, share: float) -> Dataset:
    # Whole tiles of a raster, from its middle.
    rows = max(int(grid.rows * share), min(grid.rows, 2))
    top = (grid.rows - rows) // 2
    return dataclasses.replace(grid, heights=grid.heights[top : top + rows], north=grid.north - top * grid.dy)


@part_of.register(Linework)
@part_of.register(Areas)
def _lines(lines: Linework | Areas, share: float) -> Dataset:
    return lines.chosen(_stretches(len(lines), share))


@part_of.register
def _contours(contours: Contours, share: float) -> Dataset:
    step = max(round(1.0 / share), 1)
    order = np.arange(0, len(contours.levels), step)
    offsets = contours.offsets
    rows = np.concatenate([np.arange(offsets[k], offsets[k + 1]) for k in order])
    sizes = np.diff(offsets)[order]
    return dataclasses.replace(
        contours,
        plan=contours.plan[rows],
        offsets=np.concatenate(([0], np.cumsum(sizes))).astype(np.int64),
        levels=contours.levels[order],
        index=contours.index[order],
        supplementary=contours.supplementary[order],
        labels={},
    )
