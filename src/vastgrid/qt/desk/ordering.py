"""Large clouds put in order in the background, so that looking at them stays quick; the work may rest and goes on later."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from vastgrid.data.dataset import Dataset
from vastgrid.data.kinds import of_kind
from vastgrid.data.pointset import PointSet
from vastgrid.lineage.cloudindex import WORTH, CloudIndex, build, opened, ready
from vastgrid.qt.desk.desk import Desk
from vastgrid.tasks.runner import Runner, Task


class Ordering:
    """Sees to it that every large cloud that is shown gets its index.

    Parameters
    ----------
    desk : Desk
        Whose clouds they are.
    """

    def __init__(self, desk: Desk) -> None:
        self.desk = desk
        self._runner = Runner(lambda task: desk.bridge.post(desk.worked.emit))
        self._begun: set[str] = set()
        self.fault = ""

    @property
    def task(self) -> Task | None:
        """What is being put in order, if anything is."""
        return self._runner.current()

    def see_to(self, datasets: Sequence[Dataset], folder: Path) -> None:
        """Begin, or go on with, whatever large cloud has no index yet; one that is ready is opened at once."""
        for each in of_kind(datasets, PointSet):
            if len(each.xyz) < WORTH or each.content in self._begun:
                continue
            self._begun.add(each.content)
            place = folder / "index" / each.content
            index = opened(place)
            if index is not None:
                ready[each.content] = index
            else:
                self._start(each, place)

    def _start(self, cloud: PointSet, place: Path) -> None:
        def done(index: CloudIndex) -> None:
            ready[cloud.content] = index
            self.desk.looks_changed.emit()

        def failed(why: str) -> None:
            # The cloud is still drawn, only coarser; the next start tries again.
            self.fault = why
            self.desk.worked.emit()

        self.desk.start_behind(
            self._runner,
            f"putting {cloud.name} in order",
            lambda progress: build(cloud, place, progress),
            done,
            failed,
            pausable=True,
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
        self.desk.worked.emit()

    def close(self) -> None:
        """Stop; what was done stays on disk and is gone on with the next time."""
        self._runner.close()
