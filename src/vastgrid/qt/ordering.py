"""Large clouds put in order in the background, so that looking at them stays quick; the work may rest and goes on later."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

from vastgrid.base.progress import Progress
from vastgrid.data.dataset import Dataset
from vastgrid.data.pointset import PointSet
from vastgrid.job.cloudindex import WORTH, CloudIndex, build, opened
from vastgrid.qt import rendering
from vastgrid.qt.bridge import Bridge
from vastgrid.tasks.runner import Runner, Task


class Ordering:
    """Sees to it that every large cloud that is shown gets its index.

    Parameters
    ----------
    bridge : Bridge
        Way back to the interface thread.
    ready : callable
        Called when an index is ready and the plan can be drawn better.
    changed : callable
        Called when progress or state change.
    """

    def __init__(self, bridge: Bridge, ready: Callable[[], None], changed: Callable[[], None]) -> None:
        self._bridge, self._ready, self._changed = bridge, ready, changed
        self._runner = Runner(lambda task: bridge.post(self._changed))
        self._begun: set[str] = set()
        self.fault = ""

    @property
    def task(self) -> Task | None:
        """What is being put in order, if anything is."""
        return self._runner.current()

    def see_to(self, datasets: Sequence[Dataset], folder: Path) -> None:
        """Begin, or go on with, whatever large cloud has no index yet; one that is ready is opened at once."""
        for each in datasets:
            if not isinstance(each, PointSet) or len(each.xyz) < WORTH or each.content in self._begun:
                continue
            self._begun.add(each.content)
            place = folder / "index" / each.content
            index = opened(place)
            if index is not None:
                rendering.indexes[each.content] = index
            else:
                self._start(each, place)

    def _start(self, cloud: PointSet, place: Path) -> None:
        def work(progress: Progress) -> CloudIndex:
            return build(cloud, place, progress)

        def done(index: CloudIndex) -> None:
            rendering.indexes[cloud.content] = index
            self._ready()

        def failed(why: str) -> None:
            # The cloud is still drawn, only coarser; the next start tries again.
            self.fault = why
            self._changed()

        self._runner.start(
            Task(
                title=f"putting {cloud.name} in order",
                work=work,
                done=lambda made: self._bridge.post(lambda: done(made)),
                failed=lambda why, _: self._bridge.post(lambda: failed(why)),
                pausable=True,
            )
        )

    def pause(self) -> None:
        """Let the work rest, or go on."""
        task = self.task
        if task is None:
            return
        if task.paused:
            task.go_on()
        else:
            task.pause()
        self._changed()

    def close(self) -> None:
        """Stop; what was done stays on disk and is gone on with the next time."""
        self._runner.close()
