"""Draws one plan sheet without a window: run as a process by the format of plans, with the sheet on standard input."""

from __future__ import annotations

import datetime
import pickle
import sys
from pathlib import Path

from PyQt6.QtGui import QGuiApplication

from vastgrid.data.linework import Contours
from vastgrid.looks.colouring import Dressed
from vastgrid.looks.look import look_of
from vastgrid.looks.paper import Sheet
from vastgrid.qt.drawing import furniture, rendering
from vastgrid.qt.drawing.sheets import OWN, Page, draw_sheet
from vastgrid.qt.drawing.view import View, bounds
from vastgrid.qt.widgets import theme


def main() -> None:
    """Draw the sheet that stands on standard input; say “done” on standard output."""
    # The bytes come from the process that started this one, over a pipe that nobody else holds.
    datasets, sheet, words, path, kind = pickle.loads(sys.stdin.buffer.read())
    application = QGuiApplication(["vastgrid"])
    theme.load_fonts()
    assert isinstance(sheet, Sheet)
    unit = datasets[0].frame.horizontal
    box = bounds(datasets)
    assert box is not None
    width, height = sheet.plan_size()
    size = sheet.scale * 0.0254 / OWN / float(unit.metres)
    view = View(
        (box[0] + box[2]) / 2.0,
        (box[1] + box[3]) / 2.0,
        size,
        round(width / 25.4 * OWN),
        round(height / 25.4 * OWN),
        0.0,
    )
    items = tuple(
        Dressed(each, look_of(each, {"labels": "yes"} if isinstance(each, Contours) else None), number)
        for number, each in enumerate(datasets)
    )
    legend = furniture.scales(items, rendering.height_range(datasets))
    today = datetime.date.today().isoformat()
    draw_sheet(
        Path(path),
        kind,
        Page(sheet, view, items, unit, legend, [sheet.title, words[0], today, *words[1:]], wires=False),
    )
    del application
    sys.stdout.write("done")


if __name__ == "__main__":
    main()
