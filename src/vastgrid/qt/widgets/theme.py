"""Colours, fonts and the style of every widget; light and dark."""

from __future__ import annotations

import re
from dataclasses import dataclass
from pathlib import Path

from PyQt6.QtGui import QColor, QFont, QFontDatabase

_HERE = Path(__file__).parent
SANS, MONO = "IBM Plex Sans", "IBM Plex Mono"


@dataclass(frozen=True)
class Palette:
    """The colours of one theme, as hex."""

    name: str
    paper: str
    raised: str
    band: str
    ink: str
    quiet: str
    line: str
    action: str
    on_action: str
    chip: str
    warning: str
    error: str
    curve: str
    contour: str
    index: str
    breakline: str

    def colour(self, role: str) -> QColor:
        """Return one colour."""
        return QColor(getattr(self, role))


LIGHT = Palette(
    name="light",
    paper="#F7F5F0",
    raised="#FFFFFF",
    band="#EFECE4",
    ink="#1F2D36",
    quiet="#5B6870",
    line="#D9D4C7",
    action="#0B6E75",
    on_action="#FFFFFF",
    chip="#DCEBEA",
    # A shade below the design's #B5541C, which misses 4.5:1 on the band.
    warning="#A84C16",
    error="#A3263A",
    curve="#8AA3A4",
    contour="#7A4E26",
    index="#4A2A10",
    breakline="#B5541C",
)
DARK = Palette(
    name="dark",
    paper="#172026",
    raised="#1F2B32",
    band="#131B20",
    ink="#E6E1D6",
    quiet="#A3ADB0",
    line="#33424B",
    action="#4FB3B0",
    on_action="#0F1A1D",
    chip="#21444A",
    warning="#E39A5C",
    error="#E5717F",
    curve="#587077",
    contour="#7A4E26",
    index="#4A2A10",
    breakline="#E39A5C",
)


_size = [1.0]


def text_size() -> float:
    """Return how large text is, as a share of the usual."""
    return _size[0]


def set_text_size(share: float) -> None:
    """Make text larger or smaller from now on; styles have to be given anew."""
    _size[0] = share


def points(size: float) -> str:
    """Return a size of text as styles say it."""
    return f"{size * _size[0]:.2f}pt"


def load_fonts() -> None:
    """Make the shipped fonts known to the application."""
    for file in sorted((_HERE / "fonts").glob("*.ttf")):
        QFontDatabase.addApplicationFont(str(file))


def font(size: float = 10.0, *, bold: bool = False, mono: bool = False) -> QFont:
    """Return a shipped font."""
    made = QFont(MONO if mono else SANS)
    made.setPointSizeF(size * _size[0])
    made.setWeight(QFont.Weight.DemiBold if bold else QFont.Weight.Normal)
    return made


def style(palette: Palette) -> str:
    """Return the style sheet of a theme."""
    p = palette
    text = _style(p)
    return re.sub(r"font-size: ([\d.]+)pt", lambda found: f"font-size: {float(found[1]) * _size[0]:.2f}pt", text)


def _style(p: Palette) -> str:
    return f"""
    * {{ font-family: "{SANS}"; font-size: 10pt; color: {p.ink}; }}
    QMainWindow, QDialog, QWidget#page {{ background: {p.paper}; }}
    QWidget#header, QWidget#status {{ background: {p.paper}; }}
    QWidget#viewBar, QWidget#sectionStrip {{ background: {p.paper}; }}
    QWidget#viewBar {{ border-bottom: 1px solid {p.line}; }}
    QWidget#viewBar QToolButton {{ padding: 3px 8px; }}
    QToolButton:checked {{ background: {p.chip}; color: {p.action}; font-weight: 600; }}
    QWidget#viewBar QComboBox, QDoubleSpinBox, QSpinBox {{ background: {p.raised}; border: 1px solid {p.line}; border-radius: 6px; padding: 2px 6px; }}
    QAbstractSpinBox::up-button, QAbstractSpinBox::down-button {{ width: 0; border: none; }}
    QDoubleSpinBox:focus, QSpinBox:focus {{ border: 2px solid {p.action}; padding: 1px 5px; }}
    QWidget#header {{ border-bottom: 1px solid {p.line}; }}
    QWidget#status {{ border-top: 1px solid {p.line}; }}
    QWidget#panel, QScrollArea#panelScroll, QWidget#panelBody, QWidget#panelPlace {{ background: {p.paper}; border: none; }}
    QWidget#panel {{ border-left: 1px solid {p.line}; }}
    QLabel {{ background: transparent; }}
    QLabel#quiet, QLabel[quiet="true"] {{ color: {p.quiet}; }}
    QLabel#heading {{ font-size: 13pt; font-weight: 600; }}
    QLabel#warning {{ color: {p.warning}; }}
    QLabel#error {{ color: {p.error}; }}
    QPushButton, QToolButton {{ background: {p.raised}; border: 1px solid {p.line}; border-radius: 6px; padding: 5px 12px; }}
    QPushButton:hover, QToolButton:hover {{ border-color: {p.action}; }}
    QPushButton:focus, QToolButton:focus {{ border: 2px solid {p.action}; padding: 4px 11px; }}
    QPushButton:disabled, QToolButton:disabled {{ color: {p.quiet}; background: {p.band}; }}
    QPushButton[main="true"] {{ background: {p.action}; color: {p.on_action}; border-color: {p.action}; }}
    QPushButton[main="true"]:focus {{ border: 2px solid {p.ink}; }}
    QPushButton[main="true"]:disabled {{ background: {p.band}; color: {p.quiet}; border-color: {p.line}; }}
    QToolButton[flat="true"] {{ background: transparent; border: 1px solid transparent; padding: 5px 10px; }}
    QToolButton[flat="true"]:hover {{ background: {p.band}; }}
    QToolButton[flat="true"]:focus {{ border: 2px solid {p.action}; padding: 4px 9px; }}
    QToolButton[flat="true"][small="true"] {{ padding: 3px 3px; font-size: 9pt; }}
    QToolButton[flat="true"][small="true"]:focus {{ padding: 2px 2px; }}
    QToolButton#section {{ background: transparent; border: 1px solid transparent; padding: 2px 2px; font-weight: 600; }}
    QToolButton#section:checked {{ background: transparent; color: {p.ink}; }}
    QToolButton#section:hover {{ color: {p.action}; }}
    QToolButton#section:focus {{ border: 2px solid {p.action}; padding: 1px 1px; }}
    QFileDialog QToolButton {{ padding: 3px; }}
    QFileDialog QToolButton:focus {{ padding: 2px; }}
    QToolButton::menu-indicator {{ image: none; width: 0; }}
    QLineEdit, QComboBox, QPlainTextEdit {{ background: {p.raised}; border: 1px solid {p.line}; border-radius: 6px; padding: 4px 8px; selection-background-color: {p.action}; selection-color: {p.on_action}; }}
    QLineEdit:focus, QComboBox:focus {{ border: 2px solid {p.action}; padding: 3px 7px; }}
    QLineEdit#finder {{ border-radius: 15px; padding: 5px 14px; }}
    QComboBox::drop-down {{ border: none; width: 22px; }}
    QComboBox::down-arrow {{ image: url("{(_HERE / "glyphs").as_posix()}/chevron-{p.name}.svg"); width: 12px; height: 12px; }}
    QDialogButtonBox {{ dialogbuttonbox-buttons-have-icons: 0; }}
    QMessageBox {{ background: {p.paper}; }}
    QComboBox QAbstractItemView {{ background: {p.raised}; border: 1px solid {p.line}; selection-background-color: {p.chip}; selection-color: {p.ink}; }}
    QMenu {{ background: {p.raised}; border: 1px solid {p.line}; padding: 4px; }}
    QMenu::item {{ padding: 6px 18px; border-radius: 4px; }}
    QMenu::item:selected {{ background: {p.chip}; }}
    QMenu::item:disabled {{ color: {p.quiet}; }}
    QMenu::separator {{ height: 1px; background: {p.line}; margin: 4px 8px; }}
    QFrame#box {{ background: {p.raised}; border: 1px solid {p.line}; border-radius: 6px; }}
    QFrame#rule {{ background: {p.line}; max-height: 1px; border: none; }}
    QTableWidget, QListWidget, QTreeWidget {{ background: {p.raised}; border: 1px solid {p.line}; border-radius: 4px; gridline-color: {p.line}; alternate-background-color: {p.band}; }}
    QTextBrowser {{ background: {p.raised}; border: 1px solid {p.line}; border-radius: 4px; }}
    QTableWidget:focus, QListWidget:focus, QTreeWidget:focus {{ border: 2px solid {p.action}; }}
    QTableWidget::item:selected, QListWidget::item:selected, QTreeWidget::item:selected {{ background: {p.chip}; color: {p.ink}; }}
    QHeaderView::section {{ background: {p.band}; border: none; border-right: 1px solid {p.line}; border-bottom: 1px solid {p.line}; padding: 4px 6px; }}
    QTableCornerButton::section {{ background: {p.band}; border: none; }}
    QProgressBar {{ background: {p.line}; border: none; border-radius: 3px; max-height: 6px; min-height: 6px; }}
    QProgressBar::chunk {{ background: {p.action}; border-radius: 3px; }}
    QScrollBar:vertical {{ background: transparent; width: 10px; }}
    QScrollBar:horizontal {{ background: transparent; height: 10px; }}
    QScrollBar::handle {{ background: {p.line}; border-radius: 5px; min-height: 24px; min-width: 24px; }}
    QScrollBar::add-line, QScrollBar::sub-line {{ width: 0; height: 0; }}
    QSplitter::handle {{ background: {p.line}; }}
    QSplitter::handle:vertical {{ height: 4px; }}
    QSplitter::handle:horizontal {{ width: 1px; }}
    QToolTip {{ background: {p.raised}; color: {p.ink}; border: 1px solid {p.line}; padding: 4px; }}
    QCheckBox:focus {{ color: {p.action}; }}
    """
