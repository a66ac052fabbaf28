"""The parts of a window, put together: the desk, what is done on it, and the views."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial
from pathlib import Path

from PyQt6 import sip
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QAction
from PyQt6.QtWidgets import QFileDialog, QWidget

from vastgrid import catalog
from vastgrid.base.errors import CallError
from vastgrid.base.files import read_text, write_text
from vastgrid.base.progress import Progress
from vastgrid.data.places import Area
from vastgrid.jobs.session import Session
from vastgrid.params import declare
from vastgrid.qt.desk.desk import Desk
from vastgrid.qt.desk.figuring import Figuring
from vastgrid.qt.desk.inspecting import Inspecting
from vastgrid.qt.desk.making import Making
from vastgrid.qt.desk.ordering import Ordering
from vastgrid.qt.desk.sourcing import Sourcing
from vastgrid.qt.desk.styling import Styling
from vastgrid.qt.dialogs.go_dialog import GoDialog
from vastgrid.qt.views.measuring import Measuring
from vastgrid.qt.views.views import Views
from vastgrid.qt.widgets import theme
from vastgrid.qt.widgets.chooser import Choice, Chooser
from vastgrid.qt.window.at_home import AtHome
from vastgrid.qt.window.checking import Checking
from vastgrid.qt.window.choosing import Choosing
from vastgrid.qt.window.delivering import Delivering
from vastgrid.qt.window.edit_tools import EditTools
from vastgrid.qt.window.importing import Importing
from vastgrid.qt.window.interval import AskInterval
from vastgrid.qt.window.moving_labels import MovingLabels
from vastgrid.qt.window.offers import Offers
from vastgrid.qt.window.picking import Picking
from vastgrid.qt.window.picturing import Picturing
from vastgrid.qt.window.repeating import Repeating
from vastgrid.qt.window.tiling import LargeFolderWork
from vastgrid.terrain.tin.rims import rim_ring


class Parts:
    """Everything a window holds that is not its own frame.

    Parameters
    ----------
    window : QWidget
        Above which dialogs open.
    session : Session
        The open job.
    palette : callable
        Gives the theme.
    restyle : callable
        Gives every widget its style anew.
    """

    views: Views
    measuring: Measuring
    offers: Offers
    moving_labels: MovingLabels
    interval: AskInterval
    picturing: Picturing
    edit_tools: EditTools
    picking: Picking
    choosing: Choosing

    def __init__(
        self,
        window: QWidget,
        session: Session,
        palette: Callable[[], theme.Palette],
        restyle: Callable[[], None] = lambda: None,
    ) -> None:
        self.window, self.palette = window, palette
        self.desk = Desk(session)
        self.making = Making(self.desk)
        self.sourcing = Sourcing(self.desk, self.making)
        self.inspecting = Inspecting(self.desk, self.making)
        self.styling = Styling(self.desk)
        self.figuring = Figuring(self.desk)
        self.ordering = Ordering(self.desk)
        self.importing = Importing(window, self.desk)
        self.delivering = Delivering(window, self.desk, self.making, self.sheet)
        self.checking = Checking(window, self.desk, self.making, self.inspecting, palette)
        self.repeating = Repeating(window, self.desk, palette, self._use)
        self.tiling = LargeFolderWork(window, self.desk, palette)
        self.at_home = AtHome(window, self.desk, palette, self._use, restyle)

    def build_views(self, actions: dict[str, QAction]) -> None:
        """Make the views and what works on them; their rows offer actions."""
        self.views = Views(self.desk, self.styling, actions, self.palette())
        plan = self.views.plan
        self.desk.view_box = lambda: plan.view.box()
        self.measuring = Measuring(self.desk, plan)
        self.offers = Offers(
            self.window,
            self.desk,
            self.making,
            plan,
            self.palette,
            lambda: self.delivering.choose(),
            self.tiling,
        )
        self.interval = AskInterval(self.window, self.desk, self.measuring)
        self.picturing = Picturing(self.views, self.desk)
        self.edit_tools = EditTools(self.window, self.desk, self.making, self.views)
        self.picking = Picking(self.window, self.desk, self.making, self.views)
        self.choosing = Choosing(self.desk, self.making, self.views)
        self.moving_labels = MovingLabels(self.desk, self.making, plan)

    def sheet(self, title: str, choices: Sequence[Choice]) -> Chooser:
        """Open a sheet of choices over the window."""
        self.chooser = Chooser(self.window, self.palette(), title, choices)
        self.chooser.begin()
        slow = [each for each in choices if each.tell is not None]
        if slow:
            chooser = self.chooser

            def say(title: str, quiet: str) -> None:
                if not sip.isdeleted(chooser):
                    chooser.tell(title, quiet)

            def work(progress: Progress) -> None:
                for title, tell in {each.title: each.tell for each in slow if each.tell}.items():
                    progress.report(0.0)
                    self.desk.bridge.post(partial(say, title, tell()))

            self.desk.behind.cancel_all()
            self.desk.start_behind(self.desk.behind, "what could be made", work, lambda made: None)
        return self.chooser

    # -- what asks for a place or a file first

    def ask_place(self) -> None:
        """Ask for coordinates and go there."""
        view = self.views.plan.view
        dialog = GoDialog(self.window, f"{view.east:.3f} {view.north:.3f}")
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.accepted.connect(lambda: self.desk.guarded(lambda: self.views.go_to(*dialog.place())))
        dialog.open()

    def ask_replacement(self, _node: str, source: str) -> None:
        """Ask for the file that replaces a source's."""
        own = self.desk.session.graph[source]
        name, _ = QFileDialog.getOpenFileName(self.window, f"Replace {own.name} by", str(Path(own.path).parent))
        if name:
            self.sourcing.replace(source, Path(name))

    def save_text(self, path: Path, text: str) -> None:
        """Write text to a file that the user chose."""
        self.desk.session.refuse_output(path)
        write_text(path, text)
        self.desk.say(f"{path.name} is written")

    def save_edits(self, node: str) -> None:
        """Ask for a file and write the log of edits of a card to it."""
        name, _ = QFileDialog.getSaveFileName(self.window, "Save the edits as text", f"{self._name(node)}.txt")
        if name:
            self.save_text(Path(name), "\n".join(self.desk.session.editing.entries(node)) + "\n")

    def load_edits(self, node: str) -> None:
        """Ask for a text file and let the log of edits of a card be what it says."""
        name, _ = QFileDialog.getOpenFileName(self.window, "Load edits from a text file", str(self.desk.session.folder))
        if not name:
            return
        self.making.rewrite_edits(node, read_text(Path(name)).splitlines())

    def _name(self, node: str) -> str:
        return self.desk.session.graph[node].name

    def keep_rim(self) -> None:
        """Let the rim of the chosen surface be its outer boundary, so that triangles stay away when it is built again.

        Raises
        ------
        CallError
            If no surface is chosen that is built from points and lines.
        """
        surface = self.edit_tools.surface()
        if surface is None:
            raise CallError("choose one TIN first: its rim is kept")
        card, tin = surface
        builder = catalog.builder()
        field = next(each for each in declare.fields(builder.params) if each.kind is Area)
        if self.desk.session.graph[card].operation != builder.id:
            raise CallError(f"{self._name(card)} is not built from points and lines; choose the surface that is")
        ring = rim_ring(tin)[:-1]
        area = Area(tuple((float(e), float(n)) for e, n in ring), tin.frame, "its rim")
        self.making.change_field(card, field.name, declare.value_text(area))

    # -- jobs

    def new_job(self) -> None:
        """Begin an empty job in a new folder."""
        parent = self.desk.session.folder.parent
        name, _ = QFileDialog.getSaveFileName(self.window, "New job: name of its folder", str(parent / "New job"))
        if name:
            self._use(Path(name))
            self.desk.session.save()
            self.desk.session.keeper.flush()

    def open_job(self) -> None:
        """Open a job's folder."""
        parent = self.desk.session.folder.parent
        name = QFileDialog.getExistingDirectory(self.window, "Open a job: its folder", str(parent))
        if name:
            if not (Path(name) / "job.json").exists():
                raise CallError(f"there is no job in {name}")
            self._use(Path(name))

    def _use(self, folder: Path) -> None:
        if folder.resolve() == self.desk.session.folder.resolve():
            self.desk.say(f"{folder.name} is open already")
            return
        session = Session(folder)
        session.claim()
        self.desk.use_session(session)

    def save_copy(self) -> None:
        """Copy the job to another folder."""
        suggestion = str(self.desk.session.folder) + " copy"
        name, _ = QFileDialog.getSaveFileName(self.window, "Save a copy: name of its folder", suggestion)
        if name:
            self.desk.session.save_copy(Path(name))
            self.desk.say(f"copied to {name}")

    def close(self) -> None:
        """End all work."""
        self.at_home.close()
        self.ordering.close()
        self.inspecting.close()
        self.figuring.close()
        self.styling.close()
        self.views.sectioning.close_runner()
        self.views.close_painters()
        self.desk.close()
