"""The desk: the open job, what is chosen, what runs and what failed; everything in the window listens to it."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Mapping, Sequence
from functools import partial
from typing import Any, TypeVar

from PyQt6 import sip
from PyQt6.QtCore import QObject, pyqtSignal

from vastgrid.base.errors import VastGridError
from vastgrid.base.progress import Progress
from vastgrid.data.dataset import Dataset
from vastgrid.declarations.conversion import Conversion
from vastgrid.jobs.areas import Box, areas_offered
from vastgrid.jobs.session import Session
from vastgrid.manual.pages import of_error
from vastgrid.qt.widgets.bridge import Bridge
from vastgrid.tasks.runner import Runner, Task

AnyKind = TypeVar("AnyKind", bound=Dataset)


class Desk(QObject):
    """What the parts of the window share; it has no face.

    Parameters
    ----------
    session : Session
        The open job.

    Signals
    -------
    changed
        The job is otherwise, or another: it is to be shown anew.
    looks_changed
        How cards are seen has changed.
    news
        Something has come to be known of cards: figures, findings, files that changed.
    selected
        Other cards are chosen.
    said, told : str
        Something for the status line; a fault that has to be read.
    worked
        Work has begun, gone on or ended.
    place : east, north, whether to come close
        A place is to be brought into the views.
    previewed : Dataset or None
        What would be made, while a field is edited.
    help_wanted : str
        The manual is to be shown at a page.
    asked : operation, inputs, words
        A conversion's parameters are to be asked for.
    drafted
        A step was begun that lacks something, or it was filled, made or given up.
    left
        Another job is opened; nothing of the last one may stay.
    """

    changed = pyqtSignal()
    looks_changed = pyqtSignal()
    news = pyqtSignal()
    selected = pyqtSignal()
    said = pyqtSignal(str)
    told = pyqtSignal(str)
    worked = pyqtSignal()
    place = pyqtSignal(float, float, bool)
    previewed = pyqtSignal(object)
    asked = pyqtSignal(str, list, dict)
    drafted = pyqtSignal()
    left = pyqtSignal()
    help_wanted = pyqtSignal(str)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.selection: list[str] = []
        self.running: set[str] = set()
        self.failures: dict[str, str] = {}
        # What the plan shows; set by whoever has one.
        self.view_box: Callable[[], Box | None] = lambda: None
        self.files_changed: dict[str, str] = {}
        self.message = ""
        # The step that is begun and lacks something, if any; `drafting` knows more of it.
        self.draft: object = None
        # The page of the manual about what is told next.
        self.help_page = "errors"
        self.bridge = Bridge(self)
        self.runner = Runner(lambda task: self.bridge.post(lambda: self._task_changed(task)))
        self.behind = Runner(lambda task: None)
        self._names: dict[tuple[str, str], Dataset] = {}
        self._keep_behind()

    def _keep_behind(self) -> None:
        """Let the job be written off the interface thread, and its unused results be removed."""
        self.session.keeper.behind(lambda why: self.bridge.post(lambda: self.tell(why)))
        args = (time.time(),)
        threading.Thread(target=self.session.sweep, args=args, daemon=True, name="vastgrid-sweep").start()

    # -- the job

    def use_session(self, session: Session) -> None:
        """Open another job."""
        self.runner.cancel_all()
        self.behind.cancel_all()
        self.guarded(self.session.close)
        self.running.clear()
        self.failures.clear()
        self.files_changed.clear()
        self._names.clear()
        self.selection = []
        self.session = session
        self._keep_behind()
        self.left.emit()
        self.changed.emit()

    def undo(self) -> None:
        """Take the last change back."""
        self.say(f"undone: {self.session.undo()}")
        self.changed.emit()

    def redo(self) -> None:
        """Do again what was undone."""
        self.say(f"done again: {self.session.redo()}")
        self.changed.emit()

    def select(self, nodes: Sequence[str]) -> None:
        """Choose cards."""
        self.selection = [node for node in nodes if node in self.session.graph]
        self.selected.emit()

    def toggle_shown(self, node: str) -> None:
        """Show or hide a card in the views."""
        self.session.show(node, shown=not self.session.graph[node].shown)
        self.changed.emit()

    def isolate(self) -> None:
        """Show only the chosen cards; with none chosen, all."""
        for node in self.session.graph.cards:
            self.session.show(node, shown=not self.selection or node in self.selection)
        self.changed.emit()

    def remove_chosen(self) -> None:
        """Take the chosen cards out, with all that was made from them."""
        if self.selection:
            self.session.remove(self.selection)
            self.say("removed; Ctrl+Z brings it back")
            self.changed.emit()

    def rename(self, node: str, name: str) -> None:
        """Give a card another name."""
        if node in self.session.graph and self.session.graph[node].name != name:
            self.session.rename(node, name)
            now = self.session.graph[node].name
            if now != " ".join(name.split()) and name.strip():
                self.say(f"there is a “{' '.join(name.split())}” already, so this one is “{now}”")
            self.changed.emit()

    def chosen(self, kind: type[AnyKind]) -> tuple[str, AnyKind] | None:
        """Return the chosen card and its data, if exactly one card is chosen and it is of a kind."""
        if len(self.selection) != 1 or self.selection[0] not in self.session.graph:
            return None
        card = self.selection[0]
        dataset = self.dataset(card) if self.session.graph[card].kind == kind.kind else None
        return (card, dataset) if isinstance(dataset, kind) else None

    def suggestions(self, conversion: Conversion, inputs: Sequence[Dataset]) -> dict[str, list[str]]:
        """Return what can be chosen for parameters that name something in the data, or an area."""
        areas = areas_offered(conversion.params, self.session.graph, self.view_box())
        return {**areas, **conversion.suggest(inputs)}

    def dataset(self, node: str) -> Dataset | None:
        """Return a card's data under its name; the same object as long as both stay the same."""
        try:
            dataset = self.session.dataset(node)
        except VastGridError as error:
            self.failures[node] = str(error)
            return None
        if dataset is None:
            return None
        name = self.session.graph[node].name
        key = (dataset.digest, name)
        if key not in self._names:
            self._names[key] = dataset if dataset.name == name else dataset.renamed(name)
        return self._names[key]

    # -- what is said

    def say(self, text: str) -> None:
        """Say something in the status line."""
        self.message = text
        self.said.emit(text)

    def tell(self, text: str) -> None:
        """Tell of a fault."""
        self.say(text if len(text) < 90 else text[:87] + "…")
        self.told.emit(text)

    def guarded(self, run: Callable[[], Any]) -> None:
        """Run something the user asked for; what goes wrong is told, not raised."""
        try:
            run()
        except VastGridError as error:
            self.help_page = of_error(error)
            self.tell(str(error))
            self.help_page = "errors"

    # -- work

    def start(
        self, title: str, work: Callable[[Progress], Any], done: Callable[[Any], None], nodes: Sequence[str] = ()
    ) -> None:
        """Do slow work off the interface thread; `done` runs here with its result, unless another job is open by then."""
        session = self.session
        self.running |= set(nodes)
        for node in nodes:
            self.failures.pop(node, None)

        def succeeded(made: Any) -> None:
            # What was begun in one job never lands in another.
            if session is self.session:
                self.guarded(partial(done, made))

        def failed(why: str, detail: str) -> None:
            if session is not self.session:
                return
            self.failures |= dict.fromkeys(nodes, why)
            self.tell(f"{title}: {why}" + (f"\n\n{detail}" if detail else ""))

        def ended() -> None:
            if session is self.session:
                self.running -= set(nodes)
                self.changed.emit()

        self.runner.start(
            Task(
                title=title,
                work=work,
                done=lambda made: self.bridge.post(partial(succeeded, made)),
                failed=lambda why, detail: self.bridge.post(partial(failed, why, detail)),
                ended=lambda: self.bridge.post(ended),
            )
        )
        self.worked.emit()

    def start_behind(
        self,
        runner: Runner,
        title: str,
        work: Callable[[Progress], Any],
        done: Callable[[Any], None],
        failed: Callable[[str], None] = lambda why: None,
        *,
        owner: QObject | None = None,
        pausable: bool = False,
    ) -> None:
        """Do work that nobody waits for; `done` runs here with its result, unless another job is open by then.

        Parameters
        ----------
        owner : QObject or None
            Whom the result is for; where that is gone by then, nobody is told.
        """
        session = self.session

        def there() -> bool:
            return session is self.session and (owner is None or not sip.isdeleted(owner))

        def succeeded(made: Any) -> None:
            if there():
                done(made)

        def faulty(why: str, detail: str) -> None:
            if there():
                failed(why + detail)

        self.bridge.start(runner, title, work, succeeded, faulty, pausable=pausable)

    def _task_changed(self, task: Task) -> None:
        self.worked.emit()
        if self.runner.current() is None and task.state == "cancelled":
            self.say(f"{task.title}: cancelled, nothing was changed")

    def close(self) -> None:
        """End all work, and write what waits to be written."""
        self.runner.close()
        self.behind.close()
        self.guarded(self.session.close)


Words = Mapping[str, str | None]
