"""Large folders from the window: looked at, planned, worked on in tiles, and the result as a card."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QWidget

from vastgrid import catalog
from vastgrid.base.errors import VastGridError
from vastgrid.base.progress import Progress, Silent
from vastgrid.base.quantities import parse_length, parse_unit, unit_word
from vastgrid.data.dataset import Dataset
from vastgrid.data.grid import Grid
from vastgrid.data.outline import CellOutline
from vastgrid.declarations.conversion import Conversion
from vastgrid.execution.executor import Units
from vastgrid.execution.input_options import Options, Said
from vastgrid.execution.run_log import Account, Via
from vastgrid.execution.steps import read_file
from vastgrid.lineage.graph import Node, Role
from vastgrid.params import declare
from vastgrid.qt.desk.desk import Desk
from vastgrid.qt.dialogs.large_dialog import LargeDialog, Layout, Wish, findings_text
from vastgrid.qt.widgets import theme
from vastgrid.tiled.plans import TilingOptions, effort, planned
from vastgrid.tiled.run import run_tiled
from vastgrid.tiled.sets import is_set
from vastgrid.tiled.stages import TiledRun, TileState
from vastgrid.tiling.engine import Control, cores
from vastgrid.tiling.work import Plan

# A larger raster comes into the job from its coarse levels, with about so many cells.
MOST_CELLS, COARSE_CELLS = 100_000_000, 25_000_000
# From so many points or cells on, work on a card's file is offered in tiles as well.
MANY = 20_000_000


class LargeFolderWork:
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
        """Open the dialog, with nothing asked for yet."""
        dialog = LargeDialog(self._parent, self._palette(), self.desk.guarded)
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.looked.connect(lambda wish: self.desk.guarded(lambda: self._look(dialog, wish)))
        dialog.begun.connect(lambda wish: self.desk.guarded(lambda: self._begin(dialog, wish)))
        dialog.held.connect(self._hold)
        dialog.stopped.connect(self._stop)
        dialog.show()
        return dialog

    def offers(self, cards: Sequence[str]) -> list[tuple[Conversion, str]]:
        """Return the conversions that can be made in tiles from the files of some cards, each with what it takes.

        Only files that are larger than a window's job likes to hold are offered so.
        """
        nodes = self._large(cards)
        if not nodes:
            return []
        paths = [Path(node.path) for node in nodes]
        read, units = _as_read(nodes)
        known = [data for card in cards if (data := self.desk.session.dataset(card)) is not None]
        found = []
        for each in catalog.CONVERSIONS:
            roles = sum(source.least for source in each.inputs)
            # What builds a surface of points needs a step after it: that is asked for in the window of steps.
            if each.tiles is None or each.answers or each.builds or not (each.many or len(paths) == roles):
                continue
            if not all(each.can_use(data) for data in known):
                continue
            try:
                plan = planned(paths, [Via(each, {})], read, units, TilingOptions(None, cores()), Account(), Silent())
                found.append((each, effort(plan, cores())))
            except VastGridError:
                # One that only lacks a word is offered: its form asks for it.
                found.append((each, ""))
        return found

    def _large(self, cards: Sequence[str]) -> list[Node]:
        """Return the sources behind cards; none if one is no source, or all are small."""
        graph = self.desk.session.graph
        nodes = [graph.node(card) for card in cards]
        if not all(node.role is Role.SOURCE and Path(node.path).is_file() for node in nodes):
            return []
        if any(catalog.format_named(node.operation).head is None for node in nodes):
            return []
        data = [self.desk.session.dataset(card) for card in cards]
        size = sum(_size(each) for each in data if each is not None)
        return nodes if size >= MANY or any("coarser" in node.words for node in nodes) else []

    def ask_for(self, cards: Sequence[str], conversion: Conversion) -> LargeDialog:
        """Open the dialog for the files of some cards, with a step to be made of them."""
        nodes = self._large(cards)
        dialog = self.ask()
        dialog.read, dialog.units = _as_read(nodes)
        paths = [Path(node.path) for node in nodes]
        dialog.set_paths(paths)
        kinds = [type(data) for card in cards if (data := self.desk.session.dataset(card)) is not None]
        ending = catalog.usual_format([conversion.gives(kinds)]).suffixes[0]
        if conversion.keeps:
            ending = paths[0].name.removeprefix(paths[0].name.split(".")[0])
        dialog.target.setText(str(paths[0].with_name(f"{paths[0].name.split('.')[0]}-{conversion.id}{ending}")))
        dialog.ask_step(conversion, {})
        return dialog

    def _hold(self, waits: bool) -> None:
        (self._control.paused.set if waits else self._control.paused.clear)()

    def _stop(self) -> None:
        self._control.cancelled = lambda: True
        self._control.paused.clear()

    def _planned(self, wish: Wish, progress: Progress) -> tuple[Plan, Account]:
        account = Account()
        plan = planned(wish.paths, wish.vias, wish.read, wish.units, self._asked(wish), account, progress)
        return plan, account

    @staticmethod
    def _asked(wish: Wish) -> TilingOptions:
        return TilingOptions(
            parse_length(wish.tile) if wish.tile else None, 0 if wish.cluster else wish.workers, wish.cluster
        )

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
                    read_words=wish.read,
                    write_words={},
                    from_units=wish.units,
                    asked=self._asked(wish),
                    progress=progress.part(0.01, 0.9),
                    account=Account(tell=lambda text: self.desk.bridge.post(lambda: self.desk.say(text))),
                    control=control,
                    watch=watch,
                )
                delivery, whole = run.account.deliveries[0], run.plan.whole
                if not wanted or not delivery.good or is_set(run.plan):
                    return run, []
                words = coarse_words(whole.rows * whole.columns) if isinstance(whole, CellOutline) else {}
                source = read_file(delivery.path, words, progress.part(0.9, 0.97), (None, None))
                return run, session.sources.take_in(source, words, (None, None), progress.part(0.97, 1.0))
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
                self.desk.tell(f"{run.account.deliveries[0].sentence()} Bring in the parts that you want to see.")

        self.desk.start(f"{wish.target.name} in tiles", work, done)


def _as_read(nodes: Sequence[Node]) -> tuple[Options, Said]:
    """Return how the files of some cards were read."""
    words = {node.path: {key: text for key, text in node.words.items() if key != "coarser"} for node in nodes}
    units: dict[str, Units] = {}
    for node in nodes:
        plan, height = (parse_unit(word) if word else None for word in node.units)
        units[node.path] = plan, height
    return Options(of_file=words), Said(of_file=units)


def _size(data: Dataset) -> int:
    return data.rows * data.columns if isinstance(data, Grid) else max(data.count().values(), default=0)


def coarse_words(cells: int) -> dict[str, str]:
    """Return the reading options of a raster of so many cells for the job: all of it, or its coarse levels."""
    return {} if cells <= MOST_CELLS else {"coarser": str(math.ceil(math.sqrt(cells / COARSE_CELLS)))}


def layout_of(plan: Plan, account: Account, workers: int) -> Layout:
    """Return what a plan says, in words and rectangles."""
    lines = [step.sentence for step in account.steps]
    given = [(role, own.outline.name) for role, own in plan.sources]
    for step in plan.steps:
        params = declare.build(step.conversion.params, step.words)
        pairs = [(role or step.conversion.main.role, name) for role, name in given]
        lines.append(declare.plain(step.conversion.sentence(params, pairs)))
        given = [("", step.whole.dataset().name)]
    width = f"{plan.tile:g}{unit_word(plan.ground.frame.horizontal)}"
    lines.append(f"Tiles of {width}: {effort(plan, workers)} on the disk.")
    number = len(plan.tiles())
    files = tuple(each.outline.box() for _, own in plan.sources for each in own.files)
    tiles = tuple(plan.source_box(k) for k in range(number)) if number <= 40_000 else ()
    return Layout(findings_text(lines, list(account.findings())), files, tiles)
