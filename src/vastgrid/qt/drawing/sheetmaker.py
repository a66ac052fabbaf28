"""Draws plan sheets, pictures and documents without a window: run as a process, the job on standard input."""

from __future__ import annotations

import datetime
import pickle
import sys
from collections.abc import Callable, Sequence
from pathlib import Path

from PyQt6.QtCore import QMarginsF, QSizeF
from PyQt6.QtGui import QFont, QGuiApplication, QPageLayout, QPageSize, QPdfWriter, QTextDocument

from vastgrid.base.subprocesses import DONE
from vastgrid.data.dataset import Dataset
from vastgrid.data.linework import Contours
from vastgrid.qt.drawing import furniture, rendering
from vastgrid.qt.drawing.images import save_image
from vastgrid.qt.drawing.sheets import OWN, Page, draw_sheet, finished
from vastgrid.qt.drawing.view import View, bounds, fitted
from vastgrid.qt.widgets import theme
from vastgrid.styling.colouring import StyledLayer
from vastgrid.styling.look import look_of
from vastgrid.styling.paper import Sheet


def main() -> None:
    """Do the job that stands on standard input; say so on standard output."""
    # The bytes come from the process that started this one, over a pipe that nobody else holds.
    what, *job = pickle.loads(sys.stdin.buffer.read())
    application = QGuiApplication(["vastgrid"])
    theme.load_fonts()
    does: dict[str, Callable[..., None]] = {"sheet": sheet, "picture": picture, "document": document}
    does[what](*job)
    del application
    sys.stdout.write(DONE)


def _styled(datasets: Sequence[Dataset]) -> tuple[StyledLayer, ...]:
    return tuple(
        StyledLayer(each, look_of(each, {"labels": "yes"} if isinstance(each, Contours) else None), number)
        for number, each in enumerate(datasets)
    )


def sheet(datasets: Sequence[Dataset], own: Sheet, words: list[str], path: str, kind: str) -> None:
    """Draw the plan on a sheet, as “pdf” or “svg”."""
    unit = datasets[0].frame.horizontal
    box = bounds(datasets)
    assert box is not None
    assert unit is not None
    width, height = own.plan_size()
    view = View(
        (box[0] + box[2]) / 2.0,
        (box[1] + box[3]) / 2.0,
        own.scale * 0.0254 / OWN / float(unit.metres),
        round(width / 25.4 * OWN),
        round(height / 25.4 * OWN),
        0.0,
    )
    legend = furniture.scales(_styled(datasets), rendering.height_range(datasets))
    today = datetime.date.today().isoformat()
    said = [own.title, words[0], today, *words[1:]]
    draw_sheet(Path(path), kind, Page(own, view, _styled(datasets), unit, legend, said, wires=False))


def picture(datasets: Sequence[Dataset], width: int, height: int, path: str) -> None:
    """Draw a picture of the plan that shows everything, as PNG."""
    box = bounds(datasets)
    assert box is not None
    view = fitted(box, width, height)
    items = _styled(datasets)
    drawn = rendering.draw(items, view, theme.LIGHT, wires=False)
    legend = furniture.scales(items, rendering.height_range(datasets))
    save_image(finished(drawn, theme.LIGHT, view, datasets[0].frame.horizontal, legend, 1.0), Path(path))


def document(html: str, path: str, title: str) -> None:
    """Print a page of HTML on A4, as PDF."""
    writer = QPdfWriter(path)
    writer.setPageLayout(
        QPageLayout(QPageSize(QPageSize.PageSizeId.A4), QPageLayout.Orientation.Portrait, QMarginsF(16, 15, 16, 15),
                    QPageLayout.Unit.Millimeter)
    )  # fmt: skip
    writer.setResolution(OWN)
    writer.setTitle(title)
    writer.setCreator("Vast Grid")
    text = QTextDocument()
    text.setDocumentMargin(0.0)
    font = QFont(theme.SANS)
    font.setPointSizeF(9.0)
    text.setDefaultFont(font)
    text.documentLayout().setPaintDevice(writer)  # type: ignore[union-attr]
    text.setPageSize(QSizeF(writer.width(), writer.height()))
    text.setHtml(html)
    text.print(writer)


if __name__ == "__main__":
    main()
