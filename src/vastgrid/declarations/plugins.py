"""Declarations of other distributions: found by their entry points, loaded with care, and told of where they fail."""

from __future__ import annotations

import dataclasses
import importlib
import importlib.metadata
import threading
from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache, wraps
from typing import Any

from vastgrid.base.errors import Cancelled, DataError, VastGridError
from vastgrid.declarations.check import Check
from vastgrid.declarations.conversion import Conversion
from vastgrid.declarations.fileformat import Format

# What a plug-in can rely on (`vastgrid.plugin`): a first number that differs does not fit, a second one may be smaller.
INTERFACE = "1.0"
KINDS: dict[str, type] = {
    "vastgrid.conversions": Conversion,
    "vastgrid.formats": Format,
    "vastgrid.checks": Check,
}
# A plug-in that takes longer to load hangs.
PATIENCE = 20.0


@dataclass(frozen=True, slots=True)
class Place:
    """Where a declaration of a plug-in stands.

    Attributes
    ----------
    group : str
        One of `KINDS`.
    name : str
        Its id.
    target : str
        Module and attribute, with a colon between.
    origin : str
        Distribution and version.
    """

    group: str
    name: str
    target: str
    origin: str


# Why something of a plug-in is left out, by its place.
faults: dict[Place, str] = {}


@lru_cache(maxsize=1)
def places() -> tuple[Place, ...]:
    """Return everything that other distributions declare, none of it imported."""
    found = []
    for group in KINDS:
        for entry in importlib.metadata.entry_points(group=group):
            own = f"{entry.dist.name} {entry.dist.version}" if entry.dist is not None else "an unnamed plug-in"
            found.append(Place(group, entry.name, entry.value, own))
    return tuple(found)


def of_group(group: str, taken: tuple[str, ...]) -> dict[str, Place]:
    """Return the places of a group by id; an id that is ours, or another plug-in's, is left out and told."""
    found: dict[str, Place] = {}
    for place in places():
        if place.group != group:
            continue
        if place.name in taken or place.name in found:
            whose = found[place.name].origin if place.name in found else "Vast Grid"
            faults[place] = f"“{place.name}” is there already, from {whose}"
        else:
            found[place.name] = place
    return found


def load(place: Place) -> Any:
    """Return a declaration; None where it cannot be had, and `faults` says why."""
    box: list[Any] = []

    def work() -> None:
        try:
            box.append(_loaded(place))
        except BaseException as error:  # noqa: BLE001 - whatever a stranger's module does, the program goes on
            box.append(error)

    thread = threading.Thread(target=work, name=f"plug-in {place.name}", daemon=True)
    thread.start()
    thread.join(PATIENCE)
    made = box[0] if box else TimeoutError(f"loading it takes longer than {PATIENCE:g} s")
    if isinstance(made, BaseException):
        faults[place] = str(made) if isinstance(made, VastGridError | TimeoutError) else repr(made)
        return None
    faults.pop(place, None)
    return made


def _loaded(place: Place) -> Any:
    module, _, attribute = place.target.partition(":")
    own = importlib.import_module(module)
    fit = fits(getattr(own, "INTERFACE", ""))
    if fit:
        raise DataError(fit)
    declared = getattr(own, attribute or "CONVERSION")
    kind = KINDS[place.group]
    if not isinstance(declared, Conversion | Format | Check) or not isinstance(declared, kind):
        raise DataError(f"{place.target} is no {kind.__name__}")
    if declared.id != place.name:
        raise DataError(f"it is called “{declared.id}” and announced as “{place.name}”")
    return marked(declared, place.origin)


def fits(said: str) -> str:
    """Return why an interface does not fit this program; empty where it does."""
    try:
        major, minor = (int(part) for part in said.split("."))
    except ValueError:
        return f"its module does not say which interface it was written for (INTERFACE = “{INTERFACE}”)"
    ours = [int(part) for part in INTERFACE.split(".")]
    if major != ours[0] or minor > ours[1]:
        return f"it was written for interface {said}; this is {INTERFACE}"
    return ""


def marked(declared: Any, origin: str) -> Any:
    """Return a declaration that says where it comes from, and whose faults are told with its name."""
    title = f"{declared.title} ({origin.split()[0]})"
    own: dict[str, Any] = {"title": title, "origin": origin}
    for name in ("run", "settle", "read", "write"):
        if callable(getattr(declared, name, None)):
            own[name] = _guarded(getattr(declared, name), declared.id, origin)
    return dataclasses.replace(declared, **own)


def _guarded(call: Callable[..., Any], what: str, origin: str) -> Callable[..., Any]:
    @wraps(call)
    def guarded(*words: Any, **named: Any) -> Any:
        try:
            return call(*words, **named)
        except (VastGridError, Cancelled, OSError):
            raise
        except Exception as error:
            raise DataError(f"{what}, of the plug-in {origin}, failed: {error!r}; tell whoever made it") from error

    return guarded
