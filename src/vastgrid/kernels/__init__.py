"""Compiled inner loops: arrays in, arrays out, no datasets."""

import importlib
import os
import tempfile
from pathlib import Path


def _find_cache_a_place() -> None:
    """Let compiled code be kept for the day where neither the program's folder nor the user's can be written.

    The compiler refuses to work at all without a place for its cache.
    """
    own = Path(__file__).parent
    user = Path(os.environ.get("XDG_CACHE_HOME") or Path.home() / ".cache")
    there = next((path for path in (user, *user.parents) if path.exists()), user)
    able = any(place.is_dir() and os.access(place, os.W_OK | os.X_OK) for place in (own, there))
    if not able and "NUMBA_CACHE_DIR" not in os.environ:
        kept = Path(tempfile.gettempdir()) / f"vastgrid-{os.getuid()}"
        kept.mkdir(mode=0o700, exist_ok=True)
        # What lies there is run: it has to be ours alone.
        ours = not kept.is_symlink() and kept.stat().st_uid == os.getuid() and not kept.stat().st_mode & 0o022
        os.environ["NUMBA_CACHE_DIR"] = str(kept) if ours else tempfile.mkdtemp(prefix="vastgrid-")


def _leave_linear_algebra_aside() -> None:
    """Keep the compiler from loading SciPy's linear algebra as it starts: a quarter of every start, for what no kernel uses.

    It only asks whether that is there, which it is; what a kernel uses of it would still be loaded with the kernel.
    """
    from numba.np import linalg

    whole = linalg.ensure_blas
    linalg.ensure_blas = lambda: None
    try:
        importlib.import_module("numba.np.arraymath")
    finally:
        linalg.ensure_blas = whole


_find_cache_a_place()
_leave_linear_algebra_aside()
