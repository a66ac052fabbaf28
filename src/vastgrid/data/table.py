"""Tables: what was counted or measured, as columns."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any, ClassVar, Self

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.words import spaced
from vastgrid.data.dataset import Dataset, Floats
from vastgrid.data.frame import Frame


@dataclass(frozen=True, eq=False, kw_only=True)
class Table(Dataset):
    """Columns of equal length.

    Attributes
    ----------
    columns : dict
        Values by heading: (n,) float64, or (n,) bytes in UTF-8.
    units : tuple of str
        Unit of each column as it is shown, empty where it has none.
    """

    kind: ClassVar[str] = "table"
    title: ClassVar[str] = "table"
    columns: dict[str, NDArray[Any]] = field(default_factory=dict)
    units: tuple[str, ...] = ()

    def __post_init__(self) -> None:
        lengths = {len(values) for values in self.columns.values()}
        if len(lengths) > 1:
            raise ValueError("columns of a table differ in length")
        kept = {}
        for name, values in self.columns.items():
            own = np.ascontiguousarray(values)
            own.flags.writeable = False
            kept[name] = own
        object.__setattr__(self, "columns", kept)
        object.__setattr__(self, "units", tuple(self.units))

    @property
    def has_heights(self) -> bool:
        """Tables have no place."""
        return False

    @property
    def located(self) -> bool:
        """Tables have no place."""
        return False

    def count(self) -> dict[str, int]:
        """Return the number of entries."""
        return {"entries": len(next(iter(self.columns.values()), ()))}

    def coordinates(self) -> Floats:
        """Return none."""
        return np.zeros((0, 3))

    def with_coordinates(self, plan: float, height: float, frame: Frame) -> Self:
        """Return the table as it is: its columns say their own units."""
        return self

    def texts(self) -> list[list[str]]:
        """Return its entries as they are shown, row by row."""
        # Where each row has a unit of its own, each figure is shown by itself.
        alone = "unit" in self.columns
        shown = [_shown(values, alone=alone) for values in self.columns.values()]
        return [list(row) for row in zip(*shown, strict=True)]

    def rows(self) -> list[dict[str, Any]]:
        """Return its entries as plain values by heading; what is unknown is None."""
        plain = {
            name: [
                value.decode("utf-8", "replace") if isinstance(value, bytes) else None if value != value else value
                for value in values.tolist()
            ]
            for name, values in self.columns.items()
        }
        return [dict(zip(plain, row, strict=True)) for row in zip(*plain.values(), strict=True)]

    def as_csv(self) -> str:
        """Return it as comma-separated text, one heading line first; numbers in full."""
        heads = [
            f"{name} [{unit}]" if unit else name
            for name, unit in zip(self.columns, self.units or [""] * len(self.columns), strict=True)
        ]
        rows = zip(*(values.tolist() for values in self.columns.values()), strict=True)
        return "".join(",".join(_quoted(each) for each in row) + "\n" for row in [heads, *rows])


def _shown(values: NDArray[Any], *, alone: bool) -> list[str]:
    """Return a column's entries: figures of what is counted without decimals, of all else with three."""
    if values.dtype.kind == "S":
        return [value.decode("utf-8", "replace") for value in values.tolist()]
    known = values[np.isfinite(values)]
    whole = len(known) > 0 and bool((known == np.round(known)).all())
    if alone:
        return ["" if value != value else spaced(value, 0 if value == round(value) else 3) for value in values.tolist()]
    return ["" if value != value else spaced(value, 0 if whole else 3) for value in values.tolist()]


def _quoted(value: Any) -> str:
    if isinstance(value, float) and value != value:
        return ""
    text = (
        value
        if isinstance(value, str)
        else value.decode("utf-8", "replace")
        if isinstance(value, bytes)
        else repr(value)
    )
    return f'"{text.replace(chr(34), chr(34) * 2)}"' if any(sign in text for sign in ',"\n\r') else text


def figures_table(name: str, rows: Sequence[tuple[str, float, str]]) -> Table:
    """Return a table of figures: what, how much, in which unit."""
    what = np.array([row[0].encode() for row in rows])
    unit = np.array([row[2].encode() for row in rows], dtype="S24")
    return Table(name=name, columns={"figure": what, "value": np.array([row[1] for row in rows]), "unit": unit})
