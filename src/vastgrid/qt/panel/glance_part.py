"""The panel with nothing chosen: the job at a glance, and what is worth doing next."""

from __future__ import annotations

from collections.abc import Sequence
from html import escape

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QPushButton, QVBoxLayout, QWidget

from vastgrid.base.findings import count
from vastgrid.jobs.glance import Glance
from vastgrid.lineage.graph import Card
from vastgrid.qt.widgets import theme
from vastgrid.qt.widgets.labels import label, rule

# So many names stand in a list; the rest is counted.
_MOST = 8


class GlancePart(QWidget):
    """What there is to know of a job.

    Signals
    -------
    wanted : str
        A card is to be chosen.
    wished : Suggestion
        What was proposed is to be done.
    listed : ()
        All findings are to be shown.
    """

    wanted = pyqtSignal(str)
    wished = pyqtSignal(object)
    listed = pyqtSignal()

    def __init__(self, name: str, own: Glance, palette: theme.Palette, doing: str = "") -> None:
        super().__init__()
        self.palette_ = palette
        self.buttons: list[QPushButton] = []
        self.layout_ = QVBoxLayout(self)
        self.layout_.setContentsMargins(0, 0, 0, 0)
        self.layout_.setSpacing(7)
        self.layout_.addWidget(label(escape(name), name="heading"))
        self.layout_.addWidget(label(doing or "the job at a glance", quiet=True))
        empty = not own.came_in and not own.made
        if empty and not doing:
            self.layout_.addWidget(
                label("Nothing is in this job yet. Drop files on the window, or begin with one of these:")
            )
        if not empty:
            self._section("Units and system", escape(own.units))
            self._cards("Came in", own.came_in)
            self._cards("Out of date", own.stale, name="warning")
            if own.open_findings:
                link = (
                    f'<a href="findings" style="color:{palette.action}">{count(own.open_findings, "open finding")}</a>'
                )
                self._section("Findings", link)
            sent = [
                self._link(each.card) + f" · {each.when} · {'read back ✓' if each.good else 'read back: differs'}"
                for each in own.sent
            ]
            self._section("Went out", "<br>".join(_shortened(sent)))
        if own.suggestions and not doing:
            self.layout_.addWidget(rule())
            self.layout_.addWidget(label("Next", quiet=True))
            for suggestion in own.suggestions:
                button = QPushButton(suggestion.text)
                button.setToolTip(suggestion.text)
                button.setStyleSheet("text-align: left;")
                button.clicked.connect(lambda _=False, own=suggestion: self.wished.emit(own))
                self.layout_.addWidget(button)
                self.buttons.append(button)
        if not empty:
            text = "Choose a card below to read how it was made, to change its sentence, and to see what it cost."
            self.layout_.addWidget(label(text, quiet=True))

    def _link(self, card: Card) -> str:
        return f'<a href="card:{card.id}" style="color:{self.palette_.action}; text-decoration:none">{escape(card.name)}</a>'

    def _cards(self, title: str, cards: Sequence[Card], name: str = "") -> None:
        self._section(title, ", ".join(_shortened([self._link(card) for card in cards])), name)

    def _section(self, title: str, html: str, name: str = "") -> None:
        if not html:
            return
        self.layout_.addWidget(label(title, quiet=not name, name=name))
        body = label(html)
        body.setAccessibleName(title)
        body.linkActivated.connect(self._followed)
        self.layout_.addWidget(body)

    def _followed(self, link: str) -> None:
        if link == "findings":
            self.listed.emit()
        else:
            self.wanted.emit(link.removeprefix("card:"))


def _shortened(parts: Sequence[str]) -> list[str]:
    """Return a list that is not too long to read."""
    return [*parts[:_MOST], f"and {len(parts) - _MOST} more"] if len(parts) > _MOST + 1 else list(parts)
