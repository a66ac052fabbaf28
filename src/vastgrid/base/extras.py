"""Libraries that are asked for by an extra of the package: the window, IFC models, a cluster."""

from __future__ import annotations

import importlib.util

from vastgrid.base.errors import CallError


def need(package: str, extra: str, what: str) -> None:
    """Refuse what needs a library that is not installed.

    Raises
    ------
    CallError
        With what to do.
    """
    if importlib.util.find_spec(package) is None:
        raise CallError(
            f"{what} needs {package}, which is not installed here; pip install 'vastgrid[{extra}]' brings it"
        )
