"""What a step will give, before it is made: how much, how large as a file, and how long it takes."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, cast

from vastgrid import catalog
from vastgrid.base.errors import VastGridError
from vastgrid.base.findings import counted
from vastgrid.base.words import size_words, spaced
from vastgrid.data.dataset import Dataset
from vastgrid.data.kinds import kind_named
from vastgrid.declarations.conversion import Conversion
from vastgrid.execution.steps import check_usable, settled

# Nobody waits for less.
SHORT = 1.5


@dataclass(frozen=True, slots=True)
class Foretold:
    """What a step will give: the kind, what will be counted of it, its size in the format it usually goes out in, seconds."""

    kind: str
    counts: dict[str, int]
    bytes: float
    format: str
    seconds: float

    def words(self) -> str:
        """Return “about 12 300 triangles, 1.2 MB as LandXML, 4 s”."""
        kind = kind_named(self.kind)
        if kind is None or not self.counts:
            return ""
        if "rows" in self.counts:
            much = f"{spaced(self.counts['columns'])} × {spaced(self.counts['rows'])} cells"
        else:
            much = f"about {counted(_round(self.counts[kind.counted]), kind.counted)}"
        size = f", {size_words(self.bytes)} as {self.format}" if self.bytes else ""
        return much + size + (f", {self.seconds:.0f} s" if self.seconds >= SHORT else "")


@dataclass(frozen=True, slots=True)
class _Stand:
    """What formats weigh before there is a dataset: its kind and its counts."""

    kind: str
    counts: dict[str, int]

    def count(self) -> dict[str, int]:
        return self.counts


def foretold(conversion: Conversion, inputs: Any, params: Any) -> Foretold | None:
    """Return what a conversion will give; None where it cannot tell."""
    if conversion.foretell is None:
        return None
    counts, seconds = conversion.foretell(inputs, params)
    kind = conversion.gives([type(each) for each in inputs])
    target = catalog.usual_format([kind])
    able = counts and issubclass(kind, target.carries.kinds)
    size = target.weigh(cast(Dataset, _Stand(kind.kind, counts))) if able else 0.0
    return Foretold(kind.kind, counts, size, target.title, seconds)


def offered(conversion: Conversion, datasets: list[Dataset]) -> str:
    """Return what is said of a conversion where it is offered: what it will give, or why it cannot."""
    try:
        given = check_usable(conversion, datasets)
        params = settled(conversion, given, conversion.params())
        estimate = conversion.estimate(given, params)
        own = foretold(conversion, given, params)
    except VastGridError as error:
        return str(error)
    told = own.words() if own is not None else ""
    return "; ".join(part for part in (estimate, told) if part)


def _round(number: int) -> int:
    """Return a number to two digits: an estimate has no more."""
    return int(float(f"{number:.2g}"))
