"""What all benchmarks share: timing, the table, and survey-like data."""

from __future__ import annotations

import gc
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np

from vastgrid.base.progress import Silent
from vastgrid.data.frame import Frame
from vastgrid.data.tin import Tin
from vastgrid.kernels.triangles import topology
from vastgrid.kernels.triangles.triangulate import triangulate

ROWS: list[tuple[str, str, str, str, bool]] = []
FOLDER = Path(tempfile.mkdtemp(prefix="vastgrid-bench-"))


def best(run: Callable[[], Any], times: int = 2) -> float:
    """Return the shortest of a few timings, in seconds."""
    found = []
    for _ in range(times):
        gc.collect()
        begun = time.perf_counter()
        run()
        found.append(time.perf_counter() - begun)
    return min(found)


def row(what: str, measured: str, budget: str, *, good: bool) -> None:
    """Print and keep one row."""
    ROWS.append((what, measured, budget, "yes" if good else "NO", good))
    print(f"  {what}: {measured} (budget {budget}) {'ok' if good else 'MISSED'}", flush=True)


def survey(count: int, seed: int = 1) -> np.ndarray:
    """Survey-like points of UTM size: scattered along runs, with 2 % duplicates."""
    rng = np.random.default_rng(seed)
    xy = rng.random((count, 2)) * (3000.0, 2500.0) + (512_000.0, 5_412_000.0)
    again = rng.integers(0, count, count // 50)
    xy[rng.integers(0, count, count // 50)] = xy[again]
    z = 230 + 30 * np.sin(xy[:, 0] / 211.0) + 25 * np.cos(xy[:, 1] / 173.0) + rng.normal(0, 0.02, count)
    return np.column_stack((xy, z))


def make_tin(triangles: int) -> Tin:
    """A TIN of about so many triangles."""
    xyz = survey(triangles // 2)
    xyz = xyz[np.unique(xyz[:, :2], axis=0, return_index=True)[1]]
    xyz = xyz[topology.spatial_order(xyz[:, :2])]
    made = triangulate(np.ascontiguousarray(xyz[:, :2]), np.zeros((0, 2), np.int64), Silent())
    vertices = np.column_stack((made.xy, xyz[:, 2]))
    return Tin(name="bench", frame=Frame(), vertices=vertices, triangles=made.triangles, neighbours=made.neighbours)
