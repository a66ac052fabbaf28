"""Large folders from the window: looked at, planned, worked on in tiles, and the result as a card."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QWidget

from vastgrid import catalog
from vastgrid.base.findings import count
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import parse_length, unit_word
from vastgrid.base.words import spaced
from vastgrid.data.outline import CellOutline
from vastgrid.job.lineage import Node
from vastgrid.params import declare
from vastgrid.qt.desk.desk import Desk
from vastgrid.qt.dialogs.large_dialog import LargeDialog, Layout, Wish, findings_text
from vastgrid.qt.widgets import theme
from vastgrid.session.accounts import Account
from vastgrid.session.saying import Options, Said
from vastgrid.session.steps import read_file
from vastgrid.session.tile_plans import Asked, planned
from vastgrid.session.tiled import TiledRun, TileState, run_tiled, scratch_size
from vastgrid.tiling.engine import Control
from vastgrid.tiling.work import Plan

# Seconds of one core for a million points, and for a million cells, as measured (docs/user/larger-than-memory.md).
EACH_POINTS, EACH_CELLS = 1.2, 0.35
# A larger raster is written but not read into the job.
MOST_CELLS = 400_000_000


class Tiling:
    """Asks, plans and runs.

    Parameters
    ----------
    parent : QWidget
        Above which the dialog opens.
    desk : Desk
        On which the work is done.
    palette : callable
        Gives the theme.
    """

    def __init__(self, parent: QWidget, desk: Desk, palette: Callable[[], theme.Palette]) -> None:
        self._parent, self.desk, self._palette = parent, desk, palette
        self._control = Control()

    def ask(self) -> LargeDialog:
        """Open the dialog."""
        dialog = LargeDialog(self._parent, self._palette(), self.desk.guarded)
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.looked.connect(lambda wish: self.desk.guarded(lambda: self._look(dialog, wish)))
        dialog.begun.connect(lambda wish: self.desk.guarded(lambda: self._begin(dialog, wish)))
        dialog.held.connect(self._hold)
        dialog.stopped.connect(self._stop)
        dialog.show()
        return dialog

    def _hold(self, waits: bool) -> None:
        (self._control.paused.set if waits else self._control.paused.clear)()

    def _stop(self) -> None:
        self._control.cancelled = lambda: True
        self._control.paused.clear()

    def _planned(self, wish: Wish, progress: Progress) -> tuple[Plan, Account]:
        account = Account()
        plan = planned(wish.paths, wish.vias, Options(), Said(), self._asked(wish), account, progress)
        return plan, account

    @staticmethod
    def _asked(wish: Wish) -> Asked:
        return Asked(parse_length(wish.tile) if wish.tile else None, 0 if wish.cluster else wish.workers, wish.cluster)

    def _look(self, dialog: LargeDialog, wish: Wish) -> None:
        self.desk.start(
            f"looking at {wish.paths[0].name}",
            lambda progress: self._planned(wish, progress),
            lambda made: dialog.show_layout(layout_of(made[0], made[1], wish.workers)),
        )

    def _begin(self, dialog: LargeDialog, wish: Wish) -> None:
        self.desk.session.refuse_output(wish.target)
        kind = catalog.format_of_target(wish.target)
        declare.build(kind.write_params, {})
        self._control = control = Control()
        dialog.show_working(working=True)
        alive = [True]
        dialog.destroyed.connect(lambda: alive.clear())

        def on(run: Callable[[], None]) -> None:
            self.desk.bridge.post(lambda: run() if alive else None)

        def watch(state: TileState) -> None:
            on(lambda: dialog.show_state(state))

        session, wanted = self.desk.session, dialog.card.isChecked()

        def work(progress: Progress) -> tuple[TiledRun, list[Node]]:
            try:
                plan, account = self._planned(wish, progress.part(0.0, 0.01))
                layout = layout_of(plan, account, wish.workers)
                on(lambda: dialog.show_layout(layout))
                run = run_tiled(
                    wish.paths,
                    wish.target,
                    wish.vias,
                    read_words=Options(),
                    write_words={},
                    from_units=Said(),
                    asked=self._asked(wish),
                    progress=progress.part(0.01, 0.9),
                    account=Account(tell=lambda text: self.desk.bridge.post(lambda: self.desk.say(text))),
                    control=control,
                    watch=watch,
                )
                path, whole = run.account.deliveries[0].path, run.plan.whole
                fits = not isinstance(whole, CellOutline) or whole.rows * whole.columns <= MOST_CELLS
                if not wanted or not fits or not run.account.deliveries[0].good:
                    return run, []
                source = read_file(path, {}, progress.part(0.9, 0.97), (None, None))
                return run, session.sources.take_in(source, {}, (None, None), progress.part(0.97, 1.0))
            finally:
                on(lambda: dialog.show_working(working=False))

        def done(made: tuple[TiledRun, list[Node]]) -> None:
            run, nodes = made
            told = findings_text(
                [*(step.sentence for step in run.account.steps), run.account.deliveries[0].sentence()],
                list(run.account.findings()),
            )
            if alive:
                dialog.text.setText(told)
            self.desk.say(run.account.deliveries[0].sentence())
            if nodes:
                session.accept(nodes, f"import {wish.target.name}")
                self.desk.select([output.card for node in nodes for output in node.outputs])
            elif wanted and run.account.deliveries[0].good:
                self.desk.tell(
                    f"{wish.target.name} is written. It has more cells than a job holds at once; a part of it can be brought in, "
                    "or coarser cells made of it (grid on tiles)."
                )

        self.desk.start(f"{wish.target.name} in tiles", work, done)


def layout_of(plan: Plan, account: Account, workers: int) -> Layout:
    """Return what a plan says, in words and rectangles."""
    number = len(plan.tiles())
    width = f"{plan.tile:g}{unit_word(plan.source.outline.frame.horizontal)}"
    whole = plan.source.outline
    if isinstance(whole, CellOutline):
        seconds = whole.rows * whole.columns / 1e6 * EACH_CELLS
    else:
        seconds = whole.count / 1e6 * EACH_POINTS
    seconds = seconds / max(workers, 1) + 8.0
    long = f"{seconds / 60.0:.0f} min" if seconds > 90 else f"{seconds:.0f} s"
    lines = [step.sentence for step in account.steps]
    given = [(role, own.outline.name) for role, own in plan.sources]
    for step in plan.steps:
        params = declare.build(step.conversion.params, step.words)
        pairs = [(role or step.conversion.main.role, name) for role, name in given]
        lines.append(declare.plain(step.conversion.sentence(params, pairs)))
        given = [("", step.whole.dataset().name)]
    lines.append(
        f"{count(number, 'tile')} of {width}, about {long}; scratch on the disk {spaced(scratch_size(plan) / 1e6)} MB."
    )
    files = tuple(each.outline.box() for _, own in plan.sources for each in own.files)
    tiles = tuple(plan.box(k) for k in range(number)) if number <= 40_000 else ()
    return Layout(findings_text(lines, list(account.findings())), files, tiles)
