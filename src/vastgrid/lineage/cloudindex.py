"""A cloud in spatial order on disk, coarse to fine: made once in the background, in steps that survive being cut short."""

from __future__ import annotations

import json
import math
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.arrays import load_array
from vastgrid.base.errors import WriteError
from vastgrid.base.files import write_text
from vastgrid.base.progress import Progress
from vastgrid.data.dataset import Floats
from vastgrid.data.pointset import PointSet
from vastgrid.kernels.cells.cloudorder import LEVELS, coarse_to_fine, count_tiles, scatter

# Clouds from this size on are put in order; smaller ones are drawn as they are.
WORTH = 1_500_000
TILE = 120_000
BLOCK = 1_000_000
# After so many blocks the state is written down.
MARK = 5
VERSION = 2


@dataclass(frozen=True)
class CloudIndex:
    """A cloud in order.

    Attributes
    ----------
    west, south, low : float
        Origin of the points.
    size : float
        Width of a square tile; tile t stands in row ``t // columns`` from the south.
    columns, rows : int
        Number of tiles.
    starts : (tiles + 1,) int64
        Tile t holds ``points[starts[t]:starts[t + 1]]``.
    ends : (tiles, LEVELS + 2) int64
        Of each tile how many points its levels hold, coarser ones included.
    points : (n, 3) float32
        Relative to the origin; mapped from disk.
    source : (n,) uint32
        Which of the cloud's points each is; mapped from disk.
    """

    west: float
    south: float
    low: float
    size: float
    columns: int
    rows: int
    starts: NDArray[np.int64]
    ends: NDArray[np.int64]
    points: NDArray[np.float32]
    source: NDArray[np.uint32]

    def visible(
        self, box: tuple[float, float, float, float], pixel: float
    ) -> Iterator[tuple[NDArray[np.float32], NDArray[np.uint32]]]:
        """Yield points inside a box (west, south, east, north), about one for each pixel of a size.

        Each piece is (m, 3) float32, relative to the origin, with (m,) the rows they have in the cloud.
        """
        level = min(max(math.floor(math.log2(max(self.size / pixel, 1e-9)) + 0.35), 0), LEVELS + 1)
        first = [int((box[k] - origin) // self.size) for k, origin in ((0, self.west), (1, self.south))]
        last = [int((box[k + 2] - origin) // self.size) for k, origin in ((0, self.west), (1, self.south))]
        for row in range(max(first[1], 0), min(last[1], self.rows - 1) + 1):
            for column in range(max(first[0], 0), min(last[0], self.columns - 1) + 1):
                tile = row * self.columns + column
                start = int(self.starts[tile])
                if number := int(self.ends[tile, level]):
                    yield self.points[start : start + number], self.source[start : start + number]


ready: dict[str, CloudIndex] = {}
"""Indexes that are open, by the content of their clouds; views draw from them."""


def opened(folder: Path) -> CloudIndex | None:
    """Return an index that is ready, or None."""
    state = _state(folder)
    if state is None or state["phase"] != "ready":
        return None
    try:
        return _open(folder, state)
    except (OSError, ValueError):
        return None


def _open(folder: Path, state: dict[str, Any]) -> CloudIndex:
    points = np.memmap(folder / "points.f32", np.float32, "r", shape=(int(state["kept"]), 3))
    source = np.memmap(folder / "source.u32", np.uint32, "r", shape=(int(state["kept"]),))
    return CloudIndex(
        west=float(state["west"]),
        south=float(state["south"]),
        low=float(state["low"]),
        size=float(state["size"]),
        columns=int(state["columns"]),
        rows=int(state["rows"]),
        starts=load_array(folder / "starts.npy"),
        ends=load_array(folder / "ends.npy"),
        points=np.asarray(points),
        source=np.asarray(source),
    )


def _state(folder: Path) -> dict[str, Any] | None:
    try:
        state = json.loads((folder / "state.json").read_text(encoding="utf-8"))
    except (OSError, ValueError):
        return None
    return state if isinstance(state, dict) and state.get("version") == VERSION else None


def build(cloud: PointSet, folder: Path, progress: Progress) -> CloudIndex:
    """Put a cloud in order, going on from wherever an earlier try stopped.

    Raises
    ------
    Cancelled
        If asked to stop; what was done is kept.
    WriteError
        If the disk is full or may not be written.
    """
    try:
        folder.mkdir(parents=True, exist_ok=True)
        state = _state(folder)
        if state is None or state["points"] != len(cloud.xyz) or state["content"] != cloud.content:
            state = _counted(cloud, folder, progress.part(0.0, 0.15))
        if state["phase"] == "scatter":
            _scattered(cloud, folder, state, progress.part(0.15, 0.6))
        if state["phase"] == "order":
            _ordered(folder, state, progress.part(0.6, 1.0))
        return _open(folder, state)
    except OSError as error:
        raise WriteError(f"the cloud's index cannot be written in {folder}: {error.strerror or error}") from error


def _note(folder: Path, state: dict[str, Any]) -> None:
    write_text(folder / "state.json", json.dumps(state))


def _blocks(xyz: Floats, done: int = 0) -> Iterator[tuple[int, Floats]]:
    for start in range(done, len(xyz), BLOCK):
        yield start, xyz[start : start + BLOCK]


def _counted(cloud: PointSet, folder: Path, progress: Progress) -> dict[str, Any]:
    extent = cloud.extent()
    if not extent.east or not extent.north or not extent.elevation:
        raise WriteError(f"{cloud.name} has no finite point to put in order")
    (west, east), (south, north) = extent.east, extent.north
    tiles = max(len(cloud.xyz) / TILE, 1.0)
    width, height = max(east - west, 1e-6), max(north - south, 1e-6)
    size = max(math.sqrt(width * height / tiles), max(width, height) / 2000.0)
    columns, rows = int(width / size) + 1, int(height / size) + 1
    counts = np.zeros(columns * rows, np.int64)
    for start, block in _blocks(cloud.xyz):
        count_tiles(block, west, south, size, columns, rows, counts)
        progress.report(start / len(cloud.xyz), f"putting {cloud.name} in order")
    starts = np.concatenate(([0], np.cumsum(counts)))
    np.save(folder / "starts.npy", starts)
    np.save(folder / "ends.npy", np.zeros((columns * rows, LEVELS + 2), np.int64))
    np.save(folder / "cursor.npy", starts[:-1])
    for name, width in (("points.f32", 12), ("source.u32", 4)):
        with (folder / name).open("wb") as file:
            file.truncate(max(int(starts[-1]), 1) * width)
    state = {
        "version": VERSION,
        "content": cloud.content,
        "points": len(cloud.xyz),
        "kept": int(starts[-1]),
        "west": west,
        "south": south,
        "low": extent.elevation[0],
        "size": size,
        "columns": columns,
        "rows": rows,
        "phase": "scatter",
        "done": 0,
    }
    _note(folder, state)
    return state


def _scattered(cloud: PointSet, folder: Path, state: dict[str, Any], progress: Progress) -> None:
    out = np.memmap(folder / "points.f32", np.float32, "r+", shape=(state["kept"], 3))
    source = np.memmap(folder / "source.u32", np.uint32, "r+", shape=(state["kept"],))
    # Work since the last mark is done again: the same points land in the same places.
    cursor = load_array(folder / f"cursor{state['done'] or ''}.npy")
    place = (state["west"], state["south"], state["low"], state["size"], state["columns"], state["rows"])
    for number, (start, block) in enumerate(_blocks(cloud.xyz, state["done"])):
        scatter(block, start, *place, cursor, out, source)
        done = start + len(block)
        if number % MARK == MARK - 1 or done == len(cloud.xyz):
            out.flush()
            source.flush()
            before = state["done"]
            np.save(folder / f"cursor{done}.npy", cursor)
            state["done"] = done
            if done == len(cloud.xyz):
                state["phase"], state["done"] = "order", 0
            _note(folder, state)
            (folder / f"cursor{before or ''}.npy").unlink(missing_ok=True)
        progress.report(done / len(cloud.xyz), f"putting {cloud.name} in order")
    for rest in folder.glob("cursor*.npy"):
        rest.unlink(missing_ok=True)
    if state["phase"] == "scatter":
        state["phase"], state["done"] = "order", 0
        _note(folder, state)


def _ordered(folder: Path, state: dict[str, Any], progress: Progress) -> None:
    points = np.memmap(folder / "points.f32", np.float32, "r+", shape=(state["kept"], 3))
    source = np.memmap(folder / "source.u32", np.uint32, "r+", shape=(state["kept"],))
    starts = load_array(folder / "starts.npy")
    ends = load_array(folder / "ends.npy")
    tiles = len(starts) - 1
    size, columns = state["size"], state["columns"]
    for tile in range(state["done"], tiles):
        row, column = divmod(tile, columns)
        # In memory first: what is cut short must not leave a tile half ordered.
        own = np.array(points[starts[tile] : starts[tile + 1]])
        rows = np.array(source[starts[tile] : starts[tile + 1]])
        if len(own):
            ends[tile] = coarse_to_fine(own, rows, column * size, row * size, size)
            points[starts[tile] : starts[tile + 1]] = own
            source[starts[tile] : starts[tile + 1]] = rows
        if tile % 64 == 63 or tile == tiles - 1:
            points.flush()
            source.flush()
            np.save(folder / "ends.part.npy", ends)
            (folder / "ends.part.npy").replace(folder / "ends.npy")
            state["done"] = tile + 1
            if tile == tiles - 1:
                state["phase"] = "ready"
            _note(folder, state)
        progress.report((tile + 1) / tiles, "putting the cloud in order")


def glimpse(xyz: Floats, most: int = 400_000) -> Floats:
    """Return some points from all over a cloud that is not in order yet, in a fraction of a second."""
    return xyz if len(xyz) <= most else np.asarray(xyz[glimpse_rows(len(xyz), most)])


def glimpse_rows(count: int, most: int = 400_000) -> NDArray[np.int64]:
    """Return which points `glimpse` takes: stretches that lie together on disk."""
    if count <= most:
        return np.arange(count)
    stretch = 4_000
    starts = np.linspace(0, count - stretch, most // stretch).astype(np.int64)
    return (starts[:, None] + np.arange(stretch)).ravel()
