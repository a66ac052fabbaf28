"""Compiled inner loops: arrays in, arrays out, no datasets."""

import importlib
import os
import sys
import tempfile
from pathlib import Path
from typing import Any


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


def _start_without_the_compiler() -> None:
    """Let compiled code that is kept be used without making the compiler ready for more: half of every start.

    Numba fills its registries, with SciPy's linear algebra, before it loads anything from its cache. Code from there
    needs its memory management only; what has to be compiled anew fills them first, as `numba.core.compiler` does.
    """
    # YAML is for settings that nobody has here.
    present = sys.modules.get("yaml")
    sys.modules["yaml"] = None  # type: ignore[assignment]
    try:
        importlib.import_module("numba")
    finally:
        del sys.modules["yaml"]
        if present is not None:
            sys.modules["yaml"] = present
    from numba.core import caching, cpu
    from numba.core.runtime.nrt import rtsys

    def load_overload(self: Any, sig: Any, target_context: Any) -> Any:
        rtsys.initialize(target_context)
        with self._guard_against_spurious_io_errors():
            return self._load_overload(sig, target_context)

    fill = cpu.CPUContext.load_additional_registries

    def load_additional_registries(self: Any) -> None:
        # It only asks whether SciPy's linear algebra is there; what a kernel uses of it is loaded with the kernel.
        linalg: Any = importlib.import_module("numba.np.linalg")
        whole, linalg.ensure_blas = linalg.ensure_blas, lambda: None
        try:
            fill(self)
        finally:
            linalg.ensure_blas = whole

    caching.Cache.load_overload = load_overload
    cpu.CPUContext.load_additional_registries = load_additional_registries


_find_cache_a_place()
_start_without_the_compiler()
