"""The part of the panel that tells a card's findings, with what can be done about each."""

from __future__ import annotations

from html import escape

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QVBoxLayout, QWidget

from vastgrid.base.findings import Severity
from vastgrid.execution.inspection import Noticed
from vastgrid.qt.widgets import theme
from vastgrid.qt.widgets.labels import label


class FindingsPart(QWidget):
    """Findings of one card.

    Signals
    -------
    wanted : Noticed
        The place is to be shown.
    mended : Noticed
        The remedy is to be done.
    listed : ()
        All findings are to be shown.
    explained : str
        The manual is to tell of a code.
    """

    wanted = pyqtSignal(object)
    mended = pyqtSignal(object)
    listed = pyqtSignal()
    explained = pyqtSignal(str)

    def __init__(self, noticed: list[Noticed], palette: theme.Palette, mendable: list[bool]) -> None:
        super().__init__()
        self.setProperty("manual", "find-what-is-wrong")
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(6)
        number = sum(each.open for each in noticed)
        rest = len(noticed) - number
        more = f", {rest} more" if number and rest else ""
        self.told = (f"{number} open" if number else "none open") + more
        head = label(f'<a href="all" style="color:{palette.action}">all, accept, thresholds</a>')
        head.linkActivated.connect(lambda _: self.listed.emit())
        layout.addWidget(head)
        for each, able in zip(noticed, mendable, strict=True):
            layout.addWidget(self._line(each, palette, able))

    def _line(self, noticed: Noticed, palette: theme.Palette, able: bool) -> QWidget:
        finding = noticed.finding
        colour = palette.warning if noticed.open else palette.quiet
        links = []
        if finding.at:
            links.append(f'<a href="place" style="color:{palette.action}">Show the place</a>')
        if able and noticed.open and finding.remedy is not None:
            links.append(f'<a href="mend" style="color:{palette.action}">{escape(finding.remedy.text)}</a>')
        links.append(f'<a href="explain" style="color:{palette.action}">what it means</a>')
        state = "accepted" if noticed.accepted is not None else finding.severity.value
        note = f" <i>{escape(noticed.accepted)}</i>" if noticed.accepted else ""
        quiet = finding.severity is Severity.NOTE or not noticed.open
        text = f'<span style="color:{colour}">{state}</span> · {escape(finding.text)}{note} {" · ".join(links)}'
        made = label(text, quiet=quiet)
        made.setTextInteractionFlags(
            Qt.TextInteractionFlag.LinksAccessibleByMouse | Qt.TextInteractionFlag.LinksAccessibleByKeyboard
        )
        made.linkActivated.connect(lambda link: self._follow(link, noticed))
        return made

    def _follow(self, link: str, noticed: Noticed) -> None:
        if link == "explain":
            self.explained.emit(noticed.finding.code)
        else:
            (self.wanted if link == "place" else self.mended).emit(noticed)
