"""Data as a script has it: arrays that cannot be changed, and what is known of them."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from types import MappingProxyType
from typing import Any, ClassVar, Self

import numpy as np
from numpy.typing import NDArray

from vastgrid import catalog
from vastgrid.base import findings as core
from vastgrid.base.errors import CallError, DataError
from vastgrid.base.findings import counted
from vastgrid.base.quantities import Unit, parse_unit
from vastgrid.data.dataset import Dataset, Extent, fixed
from vastgrid.data.frame import Frame, frame_of_crs
from vastgrid.data.loss import Loss
from vastgrid.data.table import Table as TableData
from vastgrid.library.spoken import said


@dataclass(frozen=True, slots=True)
class Finding:
    """One thing noticed.

    Attributes
    ----------
    code : str
        Stable short name; the manual's page of findings has a paragraph for each.
    text : str
        One sentence with its figures.
    severity : str
        “note”, “warning” or “error”.
    place : (float, float) or None
        Easting and northing, in the data's own unit.
    """

    code: str
    text: str
    severity: str
    place: tuple[float, float] | None


def told(found: Sequence[core.Finding]) -> tuple[Finding, ...]:
    """Return findings as a script has them."""
    return tuple(Finding(each.code, said(each.text), each.severity.value, each.at) for each in found)


@dataclass(frozen=True, slots=True)
class Origin:
    """Where data comes from: the sentence of the last step, what it cost and noticed, and the files behind it."""

    sentence: str = ""
    loss: Loss | None = None
    findings: tuple[Finding, ...] = ()
    figures: Mapping[str, Any] = field(default_factory=dict)
    more: Mapping[str, Data] = field(default_factory=dict)
    paths: tuple[Path, ...] = ()


class Data:
    """Data of some kind, which cannot be changed: what it is, where it comes from, and every conversion as a method.

    A conversion is called as on the command line: parameters by name, with units where they have some, other inputs by the
    name of their role.
    """

    _of: ClassVar[type[Dataset]]
    _dataset: Dataset
    _origin: Origin

    __slots__ = ("_dataset", "_origin")

    def __init__(self, dataset: Dataset, origin: Origin | None = None) -> None:
        object.__setattr__(self, "_dataset", dataset)
        object.__setattr__(self, "_origin", origin or Origin())

    def __setattr__(self, name: str, value: object) -> None:
        raise AttributeError(f"{type(self).__name__} cannot be changed; make another one")

    def __delattr__(self, name: str) -> None:
        raise AttributeError(f"{type(self).__name__} cannot be changed")

    def __getstate__(self) -> tuple[Dataset, Origin]:
        return self._dataset, self._origin

    def __setstate__(self, state: tuple[Dataset, Origin]) -> None:
        object.__setattr__(self, "_dataset", state[0])
        object.__setattr__(self, "_origin", state[1])

    def __repr__(self) -> str:
        counts = ", ".join(counted(value, name) for name, value in self._dataset.count().items())
        frame = f"; {self._dataset.frame.describe()}" if self._dataset.located else ""
        return f"<{type(self).__name__} “{self.name}”: {counts}{frame}>"

    def __getattr__(self, name: str) -> Callable[..., Any]:
        if not name.startswith("_") and name.removesuffix("_") in catalog.CONVERSIONS.ids:
            from vastgrid.library.calls import method

            return method(self, name)
        raise AttributeError(f"{type(self).__name__} has no “{name}”")

    def __dir__(self) -> list[str]:
        from vastgrid.library.calls import able

        return sorted({*super().__dir__(), *able(self)})

    # -- what it is

    @property
    def kind(self) -> str:
        """What it is: “points”, “lines”, “contours”, “areas”, “tin”, “grid”, “mesh”, “survey” or “table”."""
        return self._dataset.kind

    @property
    def name(self) -> str:
        """What it is called."""
        return self._dataset.name

    def named(self, name: str) -> Self:
        """Return the same data under another name."""
        return type(self)(self._dataset.renamed(name), self._origin)

    @property
    def frame(self) -> Frame:
        """System and units together."""
        return self._dataset.frame

    @property
    def crs(self) -> str | None:
        """Coordinate reference system as WKT; None where it is unknown or a local grid."""
        return self._dataset.frame.crs

    @property
    def unit(self) -> str | None:
        """Unit of eastings and northings: “m”, “mm”, “in”, “ft”, “us-ft” or “deg”; None where unknown."""
        return self._dataset.frame.horizontal.value if self._dataset.frame.horizontal else None

    @property
    def vertical_unit(self) -> str | None:
        """Unit of elevations; None where unknown."""
        return self._dataset.frame.vertical.value if self._dataset.frame.vertical else None

    @property
    def extent(self) -> Extent:
        """Smallest and largest of `east`, `north` and `elevation`, each a pair, or None where there is nothing."""
        return self._dataset.extent()

    @property
    def count(self) -> dict[str, int]:
        """How many there are of what."""
        return self._dataset.count()

    @property
    def attributes(self) -> Mapping[str, NDArray[Any]]:
        """Columns by name, one value for each point, line or area; texts are text."""
        own = getattr(self._dataset, "attributes", {})
        return MappingProxyType({name: as_text(values) for name, values in own.items()})

    @property
    def digest(self) -> str:
        """Digest of all of it: the same where every array is the same to the last bit."""
        return self._dataset.digest

    # -- where it comes from

    @property
    def sentence(self) -> str:
        """What the step that made it did."""
        return self._origin.sentence

    @property
    def loss(self) -> Loss | None:
        """What that step cost vertically: `largest`, `rmse`, `mean`, `p95`; None where it changed no surface."""
        return self._origin.loss

    @property
    def findings(self) -> tuple[Finding, ...]:
        """What was noticed."""
        return self._origin.findings

    @property
    def figures(self) -> Mapping[str, Any]:
        """What the step counted, reached or answered, by name."""
        return MappingProxyType(dict(self._origin.figures))

    @property
    def more(self) -> Mapping[str, Data]:
        """What else the step gave, by name: residuals beside the data that was fitted, say."""
        return MappingProxyType(dict(self._origin.more))

    @property
    def tables(self) -> tuple[Any, ...]:
        """All tables that the step gave."""
        return tuple(each for each in (self, *self._origin.more.values()) if each.kind == TableData.kind)

    def write(self, path: str | Path, **options: Any) -> Any:
        """Write it, read it back and compare; see `vastgrid.write`."""
        from vastgrid.library.files import write

        return write(path, self, **options)

    def check(self, **thresholds: Any) -> tuple[Finding, ...]:
        """Look at it with every check; see `vastgrid.check`."""
        from vastgrid.library.calls import check

        return check(self, **thresholds)


def as_text(values: NDArray[Any]) -> NDArray[Any]:
    """Return a column with its texts as text, read-only."""
    if values.dtype.kind != "S":
        return fixed(values)
    made = np.array([each.decode("utf-8", "replace") for each in values.tolist()] or [""])[: len(values)]
    made.flags.writeable = False
    return made


def columns_from(attributes: Mapping[str, Any] | None, number: int, of: str) -> dict[str, NDArray[Any]]:
    """Return columns as they are kept: numbers, and texts as UTF-8."""
    found = {}
    for name, values in (attributes or {}).items():
        # What was given may be changed later; data may not.
        own = np.array(values)
        if own.dtype.kind in "UO":
            own = np.array([str(each).encode() for each in own.tolist()] or [b""])[: len(own)]
        if len(own) != number:
            raise DataError(f"attribute {name} has {len(own)} values for {number} {of}")
        found[str(name)] = own
    return found


def frame_from(crs: Any, unit: str | None, vertical_unit: str | None) -> Frame:
    """Return a frame from what a script says; nothing said is metres, or what the system says.

    Raises
    ------
    CallError
        If a unit is unknown, or contradicts the system.
    """
    try:
        own = frame_of_crs(str(crs.to_wkt() if hasattr(crs, "to_wkt") else crs)) if crs is not None else Frame()
    except ValueError as error:
        raise CallError(f"crs: {error}") from error
    plan, height = (_unit(word) if word is not None else None for word in (unit, vertical_unit))
    for what, asked, known in (("unit", plan, own.horizontal), ("vertical_unit", height, own.vertical)):
        if asked is not None and known is not None and asked is not known:
            raise CallError(f"{what}: {asked.title} was said, the reference system has {known.title}")
    plan = plan or own.horizontal or Unit.METRE
    if height is None and own.vertical is None and plan not in (Unit.METRE, Unit.DEGREE) and unit is None:
        raise CallError(f"vertical_unit: the reference system has {plan.title} in plan and says nothing of heights")
    return Frame(own.crs, plan, height or own.vertical or Unit.METRE)


def _unit(word: str) -> Unit:
    return Unit.DEGREE if word in ("deg", "degree") else parse_unit(word)
