"""Vast Grid: terrain conversion for survey technicians, with the proof of what each conversion did.

From a script, ``import vastgrid as vg`` is the whole engine: `read`, `write`, every conversion as a function and as a method of
what it begins from, `check`, `run` for recipes, `open_job`; see the page “From a script” of the manual.
"""

from importlib import import_module
from typing import Any

__version__ = "0.1.0"

# Where each public name stands; nothing is imported before it is asked for.
_PUBLIC = {
    **dict.fromkeys(("Error", "CallError", "DataError", "FormatError", "WriteError", "Cancelled"), "base.errors"),
    "Length": "library.values",
    **dict.fromkeys(("Data", "Finding"), "library.data"),
    **dict.fromkeys(("PointSet", "Linework", "Contours", "Areas"), "library.vectors"),
    **dict.fromkeys(("Tin", "Mesh", "Grid"), "library.surfaces"),
    **dict.fromkeys(("Survey", "Table"), "library.kinds"),
    **dict.fromkeys(("convert", "check"), "library.calls"),
    **dict.fromkeys(("read", "write", "Written"), "library.files"),
    **dict.fromkeys(("run", "open_job", "Ran", "Job"), "library.repeating"),
    "run_tiles": "library.tiles",
}
_CALLED = {"Error": "VastGridError"}


def __getattr__(name: str) -> Any:
    if name in _PUBLIC:
        value = getattr(import_module(f"vastgrid.{_PUBLIC[name]}"), _CALLED.get(name, name))
    elif name.startswith("_"):
        raise AttributeError(f"vastgrid has no “{name}”")
    else:
        # By name, so that the package does not depend on what it leads to.
        if name.removesuffix("_") not in import_module("vastgrid.catalog").CONVERSIONS.ids:
            raise AttributeError(f"vastgrid has no “{name}”")
        value = import_module("vastgrid.library.calls").function(name)
    globals()[name] = value
    return value


def __dir__() -> list[str]:
    return sorted({*globals(), *_PUBLIC, *import_module("vastgrid.catalog").CONVERSIONS.ids})
