"""Errors in a script's words: what the command line calls an option is a parameter here."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from vastgrid.base.errors import VastGridError

# Longer words first, so that none is cut by another.
_WORDS = (
    ("--from-vertical-units", "vertical_unit= when it is read"),
    ("--override-units", "override_units=True"),
    ("--from-units", "unit= when it is read"),
    (" (--only NAME)", ""),
    (" (vastgrid formats)", ""),
    (" (vastgrid conversions)", ""),
    ("--via reproject crs=", "reproject(crs=…) "),
    ("--via ", ""),
)


def said(text: str) -> str:
    """Return a text that speaks of options as a script has it."""
    for option, parameter in _WORDS:
        text = text.replace(option, parameter)
    return text


@contextmanager
def in_script_words() -> Iterator[None]:
    """Let errors that pass through here speak of parameters instead of options."""
    try:
        yield
    except VastGridError as error:
        error.args = (said(str(error)),)
        raise
