"""Shapely, loaded when something of it is first asked for: most commands need none of it, and it is a tenth of their start."""

from __future__ import annotations

import importlib
from typing import Any


def __getattr__(name: str) -> Any:
    value = getattr(importlib.import_module("shapely"), name)
    globals()[name] = value
    return value
