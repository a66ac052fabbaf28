"""Points of many files put where they can be found by place: each file is unpacked once, whatever is made of it.

A stretch of a file is sorted by square buckets and written as plain arrays; a window reads the stretches of the buckets
that it meets. Nothing is ever held but one stretch, or one window.
"""

from __future__ import annotations

import json
import math
import os
import shutil
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from vastgrid.data.dataset import Floats
from vastgrid.data.outline import Box, PointOutline
from vastgrid.data.pointset import PointSet
from vastgrid.kernels.clouds import sorted_by_bucket
from vastgrid.tiling.sources import SourceFile

# Points that are unpacked at once.
STRETCH = 2_000_000
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


def stretches(file: SourceFile) -> list[tuple[int, int]]:
    """Return the stretches of points in which a file is unpacked."""
    own = file.outline
    assert isinstance(own, PointOutline)
    number = max(math.ceil(own.count / STRETCH), 1)
    ends = [own.count * k // number for k in range(number + 1)]
    return list(zip(ends[:-1], ends[1:], strict=True))


def scatter(
    file: SourceFile, which: tuple[int, int], buckets: Buckets, columns: Sequence[str] | None, into: Path
) -> dict[str, Any]:
    """Sort a stretch of a file by buckets into a folder; return how many points it has and where they lie.

    What is there already is left as it is. The folder comes into being as a whole.

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
    known = np.isfinite(points.xyz[:, :2]).all(axis=1)
    if not known.all():
        points = points.chosen(known)
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
    low = xyz[:, :2].min(axis=0).tolist() if len(xyz) else [math.inf, math.inf]
    high = xyz[:, :2].max(axis=0).tolist() if len(xyz) else [-math.inf, -math.inf]
    found = {"points": len(xyz), "low": low, "high": high}
    (making / "facts.json").write_text(json.dumps(found))
    try:
        making.rename(into)
    except OSError:
        # Another worker was asked for the same and came first.
        shutil.rmtree(making, ignore_errors=True)
    return found


@dataclass(frozen=True, slots=True)
class Store:
    """All stretches of a source, in the order of its files.

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
        pieces = []
        for row in range(low, high + 1) if len(keys) > 4 * (high - low + 1) else sorted(set((keys // MOST).tolist())):
            if not low <= row <= high:
                continue
            a, b = np.searchsorted(keys, (row * MOST + first, row * MOST + last + 1))
            if b > a:
                pieces.append((int(starts[a]), int(starts[b])))
        if not pieces:
            return np.zeros((0, 3)), {}
        every = np.load(folder / "xyz.npy", mmap_mode="r")
        xyz = np.concatenate([every[a:b] for a, b in pieces])
        inside = (
            (xyz[:, 0] >= box.west) & (xyz[:, 0] <= box.east) & (xyz[:, 1] >= box.south) & (xyz[:, 1] <= box.north)
        )
        order = np.load(folder / "order.npy", mmap_mode="r")
        rank = np.concatenate([order[a:b] for a, b in pieces])
        own = np.flatnonzero(inside)
        own = own[np.argsort(rank[own], kind="stable")]
        values = {}
        for column in self.columns:
            stored = np.load(folder / f"attribute-{column}.npy", mmap_mode="r")
            values[column] = np.concatenate([stored[a:b] for a, b in pieces])[own]
        return xyz[own], values
