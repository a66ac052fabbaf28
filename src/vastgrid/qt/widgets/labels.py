"""Small pieces that panels and dialogs are made of."""

from __future__ import annotations

from PyQt6.QtWidgets import QFrame, QLabel


def label(text: str = "", *, quiet: bool = False, name: str = "", wrap: bool = True) -> QLabel:
    """Return a text label."""
    made = QLabel(text)
    made.setWordWrap(wrap)
    if quiet:
        made.setProperty("quiet", "true")
    if name:
        made.setObjectName(name)
    return made


def rule() -> QFrame:
    """Return a quiet line."""
    made = QFrame()
    made.setObjectName("rule")
    made.setFixedHeight(1)
    return made
