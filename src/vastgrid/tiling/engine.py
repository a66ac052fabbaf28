"""Where tiles are made: in this process, by workers on this machine, or by a scheduler that is already there.

Scheduling, memory limits, spilling and the loss of workers are Dask's business (https://www.dask.org). This module starts
and ends what it started, keeps few tasks in flight so that a pause is felt at once, and passes on what came back.
"""

from __future__ import annotations

import contextlib
import os
import signal
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from vastgrid.base.errors import CallError, Cancelled, VastGridError
from vastgrid.base.extras import need

# Tasks in flight for each worker: one at work, one waiting.
IN_FLIGHT = 2
# A task that has taken so many workers with it is at fault itself.
LOST = 3
# Seconds within which a scheduler has to answer.
PATIENCE = 20.0

Task = Callable[..., dict[str, Any]]


@dataclass(slots=True)
class Control:
    """How a run is watched and steered from outside: pause and cancel take effect between tasks."""

    paused: threading.Event = field(default_factory=threading.Event)
    cancelled: Callable[[], bool] = lambda: False

    def wait(self) -> None:
        """Wait while the run is paused.

        Raises
        ------
        Cancelled
            If it is to stop.
        """
        while self.paused.is_set() and not self.cancelled():
            time.sleep(0.1)
        if self.cancelled():
            raise Cancelled


@dataclass(slots=True)
class Workers:
    """Who makes tiles.

    Attributes
    ----------
    workers : int
        How many.
    dashboard : str
        Address where their work can be looked at; empty where there is none.
    client : object or None
        The engine's own; None in this process.
    """

    workers: int = 1
    dashboard: str = ""
    client: Any = None

    def run(
        self,
        task: Task,
        calls: Sequence[tuple[Any, ...]],
        done: Callable[[int, dict[str, Any]], None],
        control: Control,
    ) -> None:
        """Run a task for each of some arguments; `done` is called with the number of each and what it gave.

        Raises
        ------
        Cancelled
            If the run is to stop; what was in flight is given up.
        VastGridError
            If a task fails, or takes its workers with it again and again.
        """
        if self.client is None:
            for k, call in enumerate(calls):
                control.wait()
                done(k, task(*call))
            return
        self._run_far(task, calls, done, control)

    def _run_far(
        self,
        task: Task,
        calls: Sequence[tuple[Any, ...]],
        done: Callable[[int, dict[str, Any]], None],
        control: Control,
    ) -> None:
        from distributed import as_completed
        from distributed.scheduler import KilledWorker

        flying: dict[Any, int] = {}
        coming = as_completed(loop=self.client.loop)
        queue = iter(enumerate(calls))

        def send() -> bool:
            for k, call in queue:
                future = self.client.submit(task, *call, pure=False, retries=1)
                flying[future.key] = k
                coming.add(future)
                return True
            return False

        try:
            while len(flying) < IN_FLIGHT * self.workers and send():
                continue
            while flying:
                future = self._next(coming, control)
                k = flying.pop(future.key)
                try:
                    done(k, future.result())
                except KilledWorker as error:
                    raise VastGridError(
                        "a tile took its worker with it again and again, perhaps for want of memory: give smaller tiles (--tiles)"
                    ) from error
                future.release()
                control.wait()
                send()
        except (Cancelled, VastGridError):
            self.client.cancel(list(coming.futures), force=True)
            raise

    def _next(self, coming: Any, control: Control) -> Any:
        """Return the next task that ended, looking meanwhile whether to stop.

        Raises
        ------
        Cancelled
            If the run is to stop.
        VastGridError
            If the engine is gone.
        """
        while not coming.has_ready():
            if control.cancelled():
                raise Cancelled
            if self.client.status not in ("running", "connecting"):
                raise VastGridError(
                    "the scheduler is gone; what was made is kept, and the same call goes on from there"
                )
            time.sleep(0.02)
        return next(coming)


def _of_worker(dask_worker: Any) -> None:
    """Let signals from the keyboard pass by a worker: whoever started it ends it."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)


@contextlib.contextmanager
def started_workers(workers: int, address: str, scratch: Path, memory: int = 0) -> Iterator[Workers]:
    """Yield who makes tiles, and end afterwards what was started for it.

    Parameters
    ----------
    workers : int
        Processes on this machine; 0 for this process alone.
    address : str
        Of a scheduler that is already there (tcp://HOST:PORT); empty for none.
    scratch : Path
        Where workers of this machine put what does not fit into memory.
    memory : int
        Bytes that each of them may use; 0 for an even share of nine tenths of what is free.

    Raises
    ------
    CallError
        If no scheduler answers there, or it has no workers.
    """
    if not workers and not address:
        yield Workers()
        return
    need("distributed", "cluster", "work in several processes")
    import dask
    import distributed

    quiet = {
        "distributed.logging": {"distributed": "critical", "tornado": "critical"},
        "distributed.comm.timeouts.connect": f"{PATIENCE:.0f}s",
        "distributed.scheduler.allowed-failures": LOST,
        "distributed.worker.daemon": True,
        "distributed.admin.tick.limit": "1h",
    }
    with dask.config.set(quiet), contextlib.ExitStack() as ending:
        if address:
            try:
                client = distributed.Client(address, timeout=PATIENCE, set_as_default=False)
            except (OSError, TimeoutError, ValueError) as error:
                raise CallError(f"--cluster {address}: no scheduler answers there ({error})") from error
            ending.callback(client.close)
            number = len(client.scheduler_info(n_workers=-1)["workers"])
            if not number:
                raise CallError(
                    f"--cluster {address}: the scheduler has no workers; start some first (dask worker {address})"
                )
        else:
            scratch.mkdir(parents=True, exist_ok=True)
            limit = memory or int(0.9 * free_memory() / workers)
            # Processes start anew, without what this one holds; threads of libraries would fight for the cores.
            with _single_threaded(), _starting():
                cluster = distributed.LocalCluster(
                    n_workers=workers,
                    threads_per_worker=1,
                    processes=True,
                    memory_limit=limit,
                    host="127.0.0.1",
                    dashboard_address=None,
                    local_directory=str(scratch),
                    silence_logs=50,
                )
            ending.callback(cluster.close, timeout=5)
            client = distributed.Client(cluster, set_as_default=False)
            ending.callback(client.close, timeout=5)
            client.run(_of_worker)
            number = workers
        # A scheduler that was there may have a page of its own; one that is started here has none.
        yield Workers(number, (client.dashboard_link or "") if address else "", client)


@contextlib.contextmanager
def _starting() -> Iterator[None]:
    """Say in words that no worker could be started."""
    try:
        yield
    except (OSError, RuntimeError, TimeoutError) as error:
        raise VastGridError(f"workers cannot be started here ({error}); --workers 0 does without") from error


@contextlib.contextmanager
def _single_threaded() -> Iterator[None]:
    names = ("OMP_NUM_THREADS", "OPENBLAS_NUM_THREADS", "NUMBA_NUM_THREADS", "MKL_NUM_THREADS", "RAYON_NUM_THREADS")
    before = {name: os.environ.get(name) for name in names}
    os.environ.update(dict.fromkeys(names, "1"))
    try:
        yield
    finally:
        for name, value in before.items():
            if value is None:
                os.environ.pop(name, None)
            else:
                os.environ[name] = value


def free_memory() -> int:
    """Return how many bytes of memory are free for use."""
    import psutil

    return int(psutil.virtual_memory().available)


def cores() -> int:
    """Return how many processor cores this process may use."""
    return len(os.sched_getaffinity(0))
