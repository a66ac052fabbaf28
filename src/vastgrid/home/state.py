"""Where the application keeps what is about itself: its log, and reports of crashes."""

from __future__ import annotations

import os
from pathlib import Path


def state_folder() -> Path:
    """Return the user's folder for it (XDG Base Directory Specification)."""
    base = os.environ.get("XDG_STATE_HOME") or str(Path.home() / ".local" / "state")
    return Path(base) / "vastgrid"


def cache_folder() -> Path:
    """Return the user's folder for what can be made again."""
    base = os.environ.get("XDG_CACHE_HOME") or str(Path.home() / ".cache")
    return Path(base) / "vastgrid"
