"""Arrays that may be larger than memory's comfort: beyond a size they live in a file that nobody else sees."""

from __future__ import annotations

import mmap
import os
import tempfile
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

# From this many bytes on an array is kept in a file.
LARGE = 192 << 20


def scratch_folder() -> Path:
    """Return where such files are made: on disk, not in a memory file system."""
    base = os.environ.get("XDG_CACHE_HOME") or str(Path.home() / ".cache")
    folder = Path(base) / "vastgrid"
    folder.mkdir(parents=True, exist_ok=True)
    return folder


def large_array(shape: tuple[int, ...], dtype: Any, fill: float = 0) -> NDArray[Any]:
    """Return an array filled with a value; a large one is a view of a file that vanishes with it.

    Raises
    ------
    OSError
        If the disk is full.
    """
    kind = np.dtype(dtype)
    size = int(np.prod(shape, dtype=np.int64)) * kind.itemsize
    if size < LARGE:
        return np.full(shape, fill, kind)
    # Removed from its folder at once: the system frees it when the array is gone, also after a crash.
    with tempfile.TemporaryFile(prefix="array-", dir=scratch_folder()) as file:
        os.posix_fallocate(file.fileno(), 0, size)
        room = mmap.mmap(file.fileno(), size)
    array = np.frombuffer(room, kind).reshape(shape)
    if fill != 0:
        rows = max(1, (32 << 20) // max(size // max(shape[0], 1), 1))
        for start in range(0, shape[0], rows):
            array[start : start + rows] = fill
            release(array)
    return array


def release(array: NDArray[Any]) -> None:
    """Let the system take back the memory of an array that lives in a file; its content stays."""
    base: Any = array
    while isinstance(base, np.ndarray):
        base = base.base
    if isinstance(base, memoryview):
        base = base.obj
    if isinstance(base, mmap.mmap):
        base.madvise(mmap.MADV_DONTNEED)


def pieces(array: NDArray[Any], size: int = 64 << 20) -> Any:
    """Yield an array in pieces of some rows, letting go of each when the next is asked for."""
    if array.ndim == 0 or len(array) == 0:
        yield array
        return
    rows = max(1, size // max(array.nbytes // len(array), 1))
    for start in range(0, len(array), rows):
        yield array[start : start + rows]
        release(array)
