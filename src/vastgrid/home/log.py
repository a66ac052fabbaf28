"""The log: what was done and how long it took, without a coordinate or a path unless that is asked for."""

from __future__ import annotations

import logging
import logging.handlers
import os
import re
from collections import deque
from pathlib import Path

from vastgrid.home.state import state_folder

# Said by the user who wants help with a place: VASTGRID_LOG=full.
FULL = "full"
MOST = 1_000_000
# Numbers of five digits or with decimals may be coordinates; paths may name people.
_NUMBER = re.compile(r"(?<![\w.])[-+]?(?:\d{5,}(?:\.\d+)?|\d+\.\d{2,})(?![\w])")
_PATH = re.compile(r"(?<![\w.])~?(?:/[^\s:“”\"',;()]+)+/([^\s/:“”\"',;()]+)")

recent: deque[str] = deque(maxlen=60)
"""The last lines, for a report of a crash."""


def masked(text: str) -> str:
    """Return text without what could be a coordinate, and with the names of files alone of their paths."""
    return _NUMBER.sub("#", _PATH.sub(r"…/\1", text))


class _Masking(logging.Formatter):
    def format(self, record: logging.LogRecord) -> str:
        """Return the line as it is kept."""
        line = super().format(record)
        line = line if os.environ.get("VASTGRID_LOG") == FULL else masked_line(line)
        recent.append(line)
        return line


def masked_line(line: str) -> str:
    """Return a line of the log with all but its time masked."""
    when, _, rest = line.partition("  ")
    return f"{when}  {masked(rest)}"


class _Quiet(logging.handlers.RotatingFileHandler):
    """A log that cannot be written, on a full disk, is nothing to speak of."""

    def handleError(self, record: logging.LogRecord) -> None:
        """Pass over it."""


def log_file() -> Path:
    """Return where the log is."""
    return state_folder() / "vastgrid.log"


def begin() -> logging.Logger:
    """Begin the log of this run; where it cannot be written there is none."""
    logger = logging.getLogger("vastgrid")
    if logger.handlers:
        return logger
    logger.setLevel(logging.INFO)
    logger.propagate = False
    try:
        state_folder().mkdir(parents=True, exist_ok=True)
        handler: logging.Handler = _Quiet(log_file(), maxBytes=MOST, backupCount=2, encoding="utf-8", delay=True)
    except OSError:
        handler = logging.NullHandler()
    handler.setFormatter(_Masking("%(asctime)s  %(levelname)s %(message)s", "%Y-%m-%d %H:%M:%S"))
    logger.addHandler(handler)
    return logger
