"""Work off the calling thread, one piece after another, with progress and cancel."""

from __future__ import annotations

import itertools
import threading
import time
import traceback
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from typing import Any

from vastgrid.base.errors import Cancelled, VastGridError
from vastgrid.base.progress import Progress, Reporting


@dataclass(eq=False)
class Task:
    """One piece of work.

    Attributes
    ----------
    title : str
        What is being done, for the status line.
    work : callable
        Progress → result; runs on a worker thread.
    done : callable
        Called with the result on the worker thread.
    failed : callable
        Called with the error's text and its detail on the worker thread; not called for a cancel.
    pausable : bool
        Whether it may be left resting: work in the background that nothing waits for.
    """

    title: str
    work: Callable[[Progress], Any]
    done: Callable[[Any], None]
    failed: Callable[[str, str], None]
    ended: Callable[[], None] = lambda: None
    number: int = field(default_factory=itertools.count(1).__next__)
    fraction: float = 0.0
    text: str = ""
    state: str = "waiting"
    began: float = 0.0
    pausable: bool = False
    _stop: threading.Event = field(default_factory=threading.Event)
    _going: threading.Event = field(default_factory=threading.Event)

    def __post_init__(self) -> None:
        self._going.set()

    def cancel(self) -> None:
        """Ask the work to stop at its next report."""
        self._stop.set()
        self._going.set()

    def pause(self) -> None:
        """Let the work rest at its next report."""
        self._going.clear()

    def go_on(self) -> None:
        """Let resting work go on."""
        self._going.set()

    @property
    def paused(self) -> bool:
        """Whether the work rests."""
        return not self._going.is_set()

    def wait_while_paused(self) -> None:
        """Rest until the work may go on."""
        self._going.wait()

    @property
    def cancelled(self) -> bool:
        """Whether it was asked to stop."""
        return self._stop.is_set()


class Runner:
    """Runs tasks in order on one worker thread, so that results never overtake each other.

    Parameters
    ----------
    changed : callable
        Called on the worker thread, at most some twenty times a second, when a task's progress or state changes.
    """

    def __init__(self, changed: Callable[[Task], None]) -> None:
        self._changed = changed
        self._pool = ThreadPoolExecutor(1, thread_name_prefix="vastgrid-task")
        self._tasks: list[Task] = []
        self._lock = threading.Lock()
        self._told = 0.0

    def start(self, task: Task) -> Task:
        """Queue a task."""
        with self._lock:
            self._tasks.append(task)
        self._pool.submit(self._run, task)
        return task

    @property
    def busy(self) -> bool:
        """Whether anything runs or waits."""
        with self._lock:
            return bool(self._tasks)

    def current(self) -> Task | None:
        """Return the task that runs or is next."""
        with self._lock:
            return self._tasks[0] if self._tasks else None

    def cancel_all(self) -> None:
        """Ask everything to stop."""
        with self._lock:
            for task in self._tasks:
                task.cancel()

    def close(self) -> None:
        """Stop everything and wait for the worker."""
        self.cancel_all()
        self._pool.shutdown(wait=True)

    def _run(self, task: Task) -> None:
        def tell(fraction: float, text: str) -> None:
            task.fraction, task.text = fraction, text or task.text
            task.wait_while_paused()
            now = time.monotonic()
            if now - self._told > 0.05:
                self._told = now
                self._changed(task)

        task.state, task.began = "running", time.monotonic()
        try:
            if task.cancelled:
                raise Cancelled
            result = task.work(Reporting(tell, lambda: task.cancelled))
            task.state = "done"
            task.done(result)
        except Cancelled:
            task.state = "cancelled"
        except VastGridError as error:
            task.state = "failed"
            task.failed(str(error), "")
        except Exception:  # noqa: BLE001 - the worker's last line: a fault must reach the user, not vanish
            task.state = "failed"
            task.failed("an unforeseen fault in the program itself; your job is saved", traceback.format_exc())
        finally:
            with self._lock:
                self._tasks.remove(task)
            task.ended()
            self._changed(task)
