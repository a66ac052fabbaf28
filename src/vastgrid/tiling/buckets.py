"""Points of many files put where they can be found by place: each file is unpacked once, whatever is made of it.

A chunk of a file is sorted by square buckets and written as plain arrays; a window reads the chunks of the buckets
that it meets. Nothing is ever held but one chunk, or one window.
"""

from __future__ import annotations

import json
import math
import os
import shutil
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from vastgrid.data.dataset import Flags, Floats
from vastgrid.data.outline import Box, PointOutline
from vastgrid.data.pointset import PointSet
from vastgrid.kernels.cells.clouds import rows_in_box, sorted_by_bucket
from vastgrid.kernels.triangles.topology import corners
from vastgrid.tiling.sources import SourceFile

# Points that are unpacked at once.
STRETCH = 2_000_000
# Points of a chunk, by the usual writers of LAZ.
CHUNK = 50_000
# More buckets along a side than this would be too many to count.
MOST = 1 << 24


@dataclass(frozen=True, slots=True)
class Buckets:
    """The lattice of buckets: its south-western corner and the width of a bucket."""

    west: float
    south: float
    size: float

    @staticmethod
    def over(box: Box, tile: float) -> Buckets:
        """Return buckets an eighth of a tile wide."""
        size = max(tile / 8.0, (box.east - box.west) / MOST, (box.north - box.south) / MOST)
        return Buckets(box.west, box.south, size)

    def span(self, box: Box) -> tuple[int, int, int, int]:
        """Return the first and last column, and the first and last row, of the buckets that a box meets."""
        across = [math.floor((value - self.west) / self.size) for value in (box.west, box.east)]
        along = [math.floor((value - self.south) / self.size) for value in (box.south, box.north)]
        return max(across[0], 0), min(across[1], MOST - 1), max(along[0], 0), min(along[1], MOST - 1)


def chunks(file: SourceFile) -> list[tuple[int, int]]:
    """Return the chunks of points in which a file is unpacked."""
    own = file.outline
    assert isinstance(own, PointOutline)
    number = max(math.ceil(own.count / STRETCH), 1)
    # Packed files are unpacked by chunks; where one ends, no point of the next is unpacked in vain.
    step = math.ceil(own.count / number / CHUNK) * CHUNK
    return [(start, min(start + step, own.count)) for start in range(0, own.count, step)]


def scatter(
    file: SourceFile,
    which: tuple[int, int],
    buckets: Buckets,
    columns: Sequence[str] | None,
    into: Path,
    wanted: Callable[[PointSet], Flags | None] = lambda points: None,
) -> dict[str, Any]:
    """Sort a chunk of a file by buckets into a folder; return how many points it has and where they lie.

    What is there already is left as it is. The folder comes into being as a whole.

    Parameters
    ----------
    wanted : callable
        Points → which of them anything is made of; None for all.

    Raises
    ------
    VastGridError
        If the file cannot be read there.
    """
    facts = into / "facts.json"
    if facts.is_file():
        return dict(json.loads(facts.read_text()))
    points = file.part(which, columns)
    assert isinstance(points, PointSet)
    if not np.isfinite(points.xyz.sum()):
        points = points.chosen(np.asarray(np.isfinite(points.xyz[:, :2]).all(axis=1)))
    needed = wanted(points)
    if needed is not None:
        points = points.chosen(needed)
    keys, order = sorted_by_bucket(points.xyz, buckets.west, buckets.south, buckets.size, MOST)
    new = np.flatnonzero(np.append(True, keys[1:] != keys[:-1])) if len(keys) else np.zeros(0, np.int64)
    making = into.with_name(f"{into.name}.{os.getpid()}")
    shutil.rmtree(making, ignore_errors=True)
    making.mkdir(parents=True)
    xyz = points.xyz[order]
    np.save(making / "xyz.npy", xyz)
    np.save(making / "order.npy", order.astype(np.int32))
    np.save(making / "keys.npy", keys[new])
    np.save(making / "starts.npy", np.append(new, len(keys)).astype(np.int64))
    for name, values in points.attributes.items():
        np.save(making / f"attribute-{name}.npy", values[order])
    low, high = corners(xyz[:, :2]) if len(xyz) else (np.zeros(2), np.zeros(2))
    found = {"points": len(xyz), "low": low.tolist(), "high": high.tolist()}
    (making / "facts.json").write_text(json.dumps(found))
    try:
        making.rename(into)
    except OSError:
        # Another worker was asked for the same and came first.
        shutil.rmtree(making, ignore_errors=True)
    return found


@dataclass(frozen=True, slots=True)
class BucketStore:
    """All chunks of a source, in the order of its files.

    Attributes
    ----------
    folder : str
        Where they are.
    names : tuple of str
        Of their folders.
    boxes : (n, 4) float64
        West, south, east and north of each.
    outline : PointOutline
        Of all.
    columns : tuple of str
        Attributes that all have.
    """

    folder: str
    names: tuple[str, ...]
    boxes: Floats
    outline: PointOutline
    columns: tuple[str, ...]
    buckets: Buckets

    def points(self, box: Box) -> PointSet:
        """Return the points in a box, its sides included, in the order of the files."""
        west, south, east, north = self.boxes.T if len(self.boxes) else np.zeros((4, 0))
        meets = (west <= box.east) & (east >= box.west) & (south <= box.north) & (north >= box.south)
        parts = [self._of(self.names[k], box) for k in np.flatnonzero(meets).tolist()]
        parts = [each for each in parts if len(each[0])]
        xyz = np.concatenate([part for part, _ in parts]) if parts else np.zeros((0, 3))
        attributes = {name: np.concatenate([own[name] for _, own in parts]) for name in self.columns} if parts else {}
        if not parts:
            attributes = {name: np.zeros(0, np.uint8) for name in self.columns}
        return PointSet(name=self.outline.name, frame=self.outline.frame, xyz=xyz, attributes=attributes)

    def _of(self, name: str, box: Box) -> tuple[Floats, dict[str, NDArray[Any]]]:
        folder = Path(self.folder) / name
        keys, starts = np.load(folder / "keys.npy"), np.load(folder / "starts.npy")
        first, last, low, high = self.buckets.span(box)
        # A row of buckets is one chunk of points.
        rows = np.arange(low, high + 1) if len(keys) > high - low else np.unique(keys // MOST)
        rows = rows[(rows >= low) & (rows <= high)]
        begin, end = (starts[np.searchsorted(keys, rows * MOST + column)] for column in (first, last + 1))
        order, every = (np.load(folder / f"{own}.npy", mmap_mode="r") for own in ("order", "xyz"))
        own = rows_in_box(every, order, begin, end, box.west, box.south, box.east, box.north)
        values = {column: np.load(folder / f"attribute-{column}.npy", mmap_mode="r")[own] for column in self.columns}
        return every[own], values
