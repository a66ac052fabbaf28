"""Reading arrays that were kept as .npy, one at a time."""

from __future__ import annotations

import threading
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

# The header of an array file is read by the language's own parser, which in Python 3.11 fails now and then when two
# threads use it at once (“AST constructor recursion depth mismatch”, CPython issue 106905).
_one_at_a_time = threading.Lock()


def load_array(path: Path, *, mapped: bool = False) -> NDArray[Any]:
    """Return an array from a .npy file, mapped from disk or read whole.

    Raises
    ------
    OSError, ValueError
        If it is gone or damaged.
    """
    with _one_at_a_time:
        array = np.load(path, mmap_mode="r" if mapped else None, allow_pickle=False)
    # A plain view: kernels and threads need no subclass.
    return np.asarray(array)
