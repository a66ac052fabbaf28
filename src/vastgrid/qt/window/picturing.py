"""Pictures of the views: PNG of any size, and the plan on a sheet, true to scale, as PDF or SVG."""

from __future__ import annotations

import dataclasses
import datetime
from pathlib import Path

from PyQt6.QtCore import QSize
from PyQt6.QtGui import QImage
from PyQt6.QtWidgets import QDialog, QFileDialog

from vastgrid.base.errors import CallError
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Unit
from vastgrid.qt.desk.desk import Desk
from vastgrid.qt.dialogs.picture_dialogs import PictureDialog, SheetDialog
from vastgrid.qt.drawing import rendering
from vastgrid.qt.drawing.images import save_image
from vastgrid.qt.drawing.sheets import OWN, Page, finished, write_sheet
from vastgrid.qt.drawing.view import View
from vastgrid.qt.views.views import Views
from vastgrid.styling.paper import SCALES, Sheet


class Picturing:
    """Saves pictures of the window's views.

    Parameters
    ----------
    views : Views
        What is pictured.
    desk : Desk
        Whose job it is.
    """

    def __init__(self, views: Views, desk: Desk) -> None:
        self.views, self.desk = views, desk

    def ask_picture(self) -> None:
        """Ask for size and file, and save the picture."""
        views = self.views
        dialog = PictureDialog(self.views.window() or self.views, self.views.plan.size(), views.shown)
        if dialog.exec() != QDialog.DialogCode.Accepted:
            return
        name, _ = QFileDialog.getSaveFileName(
            self.views,
            "Save the picture",
            str(self.desk.session.deliver_folder / f"{dialog.view.currentText()}.png"),
            "PNG (*.png)",
        )
        if name:
            self.desk.session.refuse_output(Path(name))
            size = QSize(dialog.width_.value(), dialog.height_.value())
            self.save_picture(Path(name), dialog.view.currentText(), size)

    def save_picture(self, path: Path, which: str, size: QSize) -> None:
        """Draw a view at a size of its own, off the interface thread, and write it."""
        plan, space = self.views.plan, self.views.space
        palette = plan.palette_
        if which == "plan":
            # The same ground is seen, whatever the number of pixels.
            ratio = max(plan.width() / size.width(), plan.height() / size.height())
            view = dataclasses.replace(plan.view, size=plan.view.size * ratio, width=size.width(), height=size.height())
            items, unit, legend = tuple(plan.items), plan.unit, list(plan.legend)

            def draw(progress: Progress) -> QImage:
                drawn = rendering.draw(items, view, palette, wires=True)
                return finished(drawn, palette, view, unit, legend, size.width() / max(plan.width(), 1))
        else:
            legend3 = list(space.legend)

            def draw(progress: Progress) -> QImage:
                drawn = space.picture(size.width(), size.height())
                return finished(drawn, palette, None, None, legend3, size.width() / max(space.width(), 1))

        def work(progress: Progress) -> str:
            save_image(draw(progress), path)
            progress.report(1.0)
            return f"{path.name} is written"

        self.desk.start(f"drawing {path.name}", work, self.desk.say)

    def ask_sheet(self) -> None:
        """Ask for paper, scale and file, and save the plan on a sheet."""
        plan = self.views.plan
        metres = self._metres()
        # The next usual scale at which what is seen fits on the paper that is proposed.
        wanted = plan.view.size * plan.width() * metres / 0.4
        scale = next((each for each in SCALES if each >= wanted), SCALES[-1])
        dialog = SheetDialog(self.views.window() or self.views, self.desk.session.name, scale)
        if dialog.exec() != QDialog.DialogCode.Accepted:
            return
        kind = dialog.kind.currentText().lower()
        name, _ = QFileDialog.getSaveFileName(
            self.views,
            "Save the plan",
            str(self.desk.session.deliver_folder / f"plan.{kind}"),
            f"{kind.upper()} (*.{kind})",
        )
        if name:
            self.desk.session.refuse_output(Path(name))
            self.save_sheet(Path(name), dialog.sheet(), kind)

    def _metres(self) -> float:
        unit = self.views.plan.unit
        if unit is None or unit is Unit.DEGREE:
            raise CallError("the plan's unit is unknown or degrees, so it has no scale; say the unit at import first")
        return float(unit.metres)

    def save_sheet(self, path: Path, sheet: Sheet, kind: str) -> None:
        """Draw the plan on a sheet, the middle of what is seen in its middle."""
        plan = self.views.plan
        width, height = sheet.plan_size()
        size = sheet.scale * 0.0254 / OWN / self._metres()
        view = View(
            plan.view.east, plan.view.north, size, round(width / 25.4 * OWN), round(height / 25.4 * OWN),
            plan.view.turn,
        )  # fmt: skip
        items, unit, legend = tuple(plan.items), plan.unit, list(plan.legend)
        words = [
            sheet.title, f"1 : {sheet.scale}", datetime.date.today().isoformat(), self.desk.session.units_text(),
        ]  # fmt: skip

        page = Page(sheet, view, items, unit, legend, words)

        def work(progress: Progress) -> str:
            write_sheet(path, kind, page)
            progress.report(1.0)
            return f"{path.name}: the plan at 1:{sheet.scale} on {sheet.paper}"

        self.desk.start(f"drawing {path.name}", work, self.desk.say)
