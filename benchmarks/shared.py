"""What all benchmarks share: timing, the table, and survey-like data."""

from __future__ import annotations

import atexit
import gc
import shutil
import tempfile
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import psutil

from vastgrid.base.progress import Silent
from vastgrid.data.frame import Frame
from vastgrid.data.tin import Tin
from vastgrid.kernels.triangles import topology
from vastgrid.kernels.triangles.triangulate import triangulate

FOLDER = Path(tempfile.mkdtemp(prefix="vastgrid-bench-"))
atexit.register(shutil.rmtree, FOLDER, ignore_errors=True)
# Beyond this share of one core a row tells what else ran on the machine, not what it measures.
_BUSY = 0.15


@dataclass(frozen=True)
class Row:
    """A line of the table; `others` is the share of one core that other work took while it was measured."""

    what: str
    measured: str
    budget: str
    good: bool
    others: float

    @property
    def busy(self) -> bool:
        return self.others > _BUSY

    @property
    def kept(self) -> str:
        return (
            f"not judged: {self.others:.0%} of a core went to other work" if self.busy else "yes" if self.good else "NO"
        )


ROWS: list[Row] = []


class Others:
    """What other processes took of the machine since this was last asked."""

    def __init__(self) -> None:
        self._at = self._now()

    @staticmethod
    def _now() -> tuple[float, float]:
        whole = psutil.cpu_times()
        busy = sum(whole) - whole.idle - getattr(whole, "iowait", 0.0) - getattr(whole, "guest", 0.0)
        own = psutil.Process().cpu_times()
        alive = sum(sum(each.cpu_times()[:2]) for each in psutil.Process().children(recursive=True))
        return time.perf_counter(), busy - sum(own[:4]) - alive

    def share(self) -> float:
        """Return the share of one core, and begin anew."""
        (then, before), (now, after) = self._at, self._now()
        self._at = now, after
        return max(after - before, 0.0) / max(now - then, 0.1)


OTHERS = Others()


def peak() -> float:
    """Return the most memory that this process has had, in GB.

    Not what `getrusage` tells: that begins with the memory of the process that started this one.
    """
    told = Path("/proc/self/status").read_text()
    return int(told.partition("VmHWM:")[2].split()[0]) * 1024 / 1e9


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
    made = Row(what, measured, budget, bool(good), OTHERS.share())
    ROWS.append(made)
    print(f"  {what}: {measured} (budget {budget}) kept: {made.kept}", flush=True)


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
