"""The manual in a window of its own: contents and search on the left, the page on the right."""

from __future__ import annotations

from importlib import resources

from PyQt6.QtCore import Qt, QUrl
from PyQt6.QtGui import QKeySequence, QShortcut
from PyQt6.QtWidgets import (
    QHBoxLayout,
    QLineEdit,
    QSplitter,
    QTextBrowser,
    QTreeWidget,
    QTreeWidgetItem,
    QVBoxLayout,
    QWidget,
)

from vastgrid.manual.pages import FIRST, Page, found, page
from vastgrid.manual.site import body, contents
from vastgrid.qt.widgets import theme
from vastgrid.qt.widgets.buttons import flat_button

# Pixels that a picture is wide.
PICTURE = 660
_SLUG = Qt.ItemDataRole.UserRole


class ManualWindow(QWidget):
    """Shows pages of the manual; stays open beside the work.

    Parameters
    ----------
    palette : Palette
        Light or dark.
    """

    def __init__(self, palette: theme.Palette, parent: QWidget | None = None) -> None:
        super().__init__(parent, Qt.WindowType.Window)
        self.setObjectName("page")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setWindowTitle("Manual – Vast Grid")
        self.resize(1020, 740)
        self.palette_ = palette
        self.slug = ""
        self._before: list[str] = []
        outer = QVBoxLayout(self)
        row = QHBoxLayout()
        self.back = flat_button("← back", self.go_back, "The page before")
        row.addWidget(self.back)
        self.search = QLineEdit()
        self.search.setPlaceholderText("Search the manual")
        self.search.setAccessibleName("Search the manual")
        self.search.setClearButtonEnabled(True)
        self.search.textChanged.connect(self._fill)
        self.search.returnPressed.connect(self._first_hit)
        row.addWidget(self.search, 1)
        outer.addLayout(row)
        halves = QSplitter(Qt.Orientation.Horizontal)
        self.tree = QTreeWidget()
        self.tree.setHeaderHidden(True)
        self.tree.setAccessibleName("Pages of the manual")
        self.tree.currentItemChanged.connect(self._chosen)
        halves.addWidget(self.tree)
        self.text = QTextBrowser()
        self.text.setAccessibleName("Page")
        self.text.setOpenLinks(False)
        self.text.setSearchPaths([str(resources.files("vastgrid.manual") / "pages")])
        self.text.anchorClicked.connect(self._follow)
        halves.addWidget(self.text)
        halves.setSizes([270, 750])
        halves.setStretchFactor(1, 1)
        outer.addWidget(halves, 1)
        QShortcut(QKeySequence("Ctrl+F"), self, self.search.setFocus)
        QShortcut(QKeySequence("Alt+Left"), self, self.go_back)
        QShortcut(QKeySequence("Esc"), self, self.close)
        self._fill("")
        self.show_page(FIRST)

    def show_page(self, where: str) -> None:
        """Show a page, perhaps at a place on it: “findings#unit-unknown”."""
        slug, _, place = where.partition("#")
        own = page(slug) or page(FIRST)
        assert own is not None
        if own.slug != self.slug:
            if self.slug:
                self._before.append(self.slug)
            self.slug = own.slug
            self._draw(own)
        self.back.setEnabled(bool(self._before))
        self._mark(own.slug)
        if place:
            self.text.scrollToAnchor(place)
        else:
            self.text.verticalScrollBar().setValue(0)  # type: ignore[union-attr]

    def set_palette(self, palette: theme.Palette) -> None:
        """Change the theme."""
        self.palette_ = palette
        own = page(self.slug)
        if own is not None:
            self._draw(own)

    def go_back(self) -> None:
        """Show the page before."""
        if self._before:
            slug = self._before.pop()
            self.slug = ""
            self.show_page(slug)

    def _draw(self, own: Page) -> None:
        p = self.palette_
        document = self.text.document()
        assert document is not None
        document.setDocumentMargin(16)
        document.setDefaultStyleSheet(
            f"body, p, li, td, th {{ color: {p.ink}; }} a {{ color: {p.action}; }} h1 {{ font-size: 17pt; }} h2 {{ font-size: 13pt; }} "
            f"h3 {{ font-size: 11pt; }} code, pre {{ font-family: '{theme.MONO}'; background: {p.band}; }} "
            f"th {{ background: {p.band}; }} td, th {{ padding: 3px 7px; }} blockquote {{ color: {p.quiet}; }}"
        )
        text = body(own, "").replace("<table>", f'<table border="1" cellspacing="0" style="border-color:{p.line}">')
        # The library draws a picture as large as it is: as wide as a page is usually, it is made here.
        self.text.setHtml(text.replace("<img ", f'<img width="{PICTURE}" '))

    def _fill(self, words: str) -> None:
        self.tree.blockSignals(True)
        self.tree.clear()
        if words.strip():
            for each in found(words, 60):
                self.tree.addTopLevelItem(self._item(each))
        else:
            for part, own in contents():
                head = QTreeWidgetItem([part])
                head.setToolTip(0, part)
                head.setFlags(Qt.ItemFlag.ItemIsEnabled)
                head.addChildren([self._item(each) for each in own])
                self.tree.addTopLevelItem(head)
                head.setExpanded(part in ("Tasks", "To look up"))
        self.tree.blockSignals(False)
        self._mark(self.slug)

    @staticmethod
    def _item(own: Page) -> QTreeWidgetItem:
        made = QTreeWidgetItem([own.title])
        made.setData(0, _SLUG, own.slug)
        made.setToolTip(0, own.title)
        return made

    def _mark(self, slug: str) -> None:
        self.tree.blockSignals(True)
        for k in range(self.tree.topLevelItemCount()):
            top = self.tree.topLevelItem(k)
            assert top is not None
            for own in (top, *(top.child(n) for n in range(top.childCount()))):
                if own is not None and own.data(0, _SLUG) == slug:
                    self.tree.setCurrentItem(own)
        self.tree.blockSignals(False)

    def _chosen(self, now: QTreeWidgetItem | None, _before: QTreeWidgetItem | None) -> None:
        slug = now.data(0, _SLUG) if now is not None else None
        if slug:
            self.show_page(slug)

    def _first_hit(self) -> None:
        own = self.tree.topLevelItem(0)
        if own is not None and own.data(0, _SLUG):
            self.show_page(own.data(0, _SLUG))

    def _follow(self, url: QUrl) -> None:
        where = url.toString()
        self.show_page(where if not where.startswith("#") else f"{self.slug}{where}")
