"""What is kept of a file that went out: what was written, and what reading it back showed."""

from __future__ import annotations

import dataclasses
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from vastgrid.base.findings import Finding
from vastgrid.base.words import gap_words, size_words
from vastgrid.declarations.conversion import listed

# So many files of a set are told by name.
MOST_NAMED = 12


@dataclass(frozen=True, slots=True)
class Compared:
    """One thing that was compared after reading back."""

    what: str
    sent: str
    read: str
    good: bool


@dataclass(frozen=True, slots=True)
class Delivery:
    """What was written, and what reading it back showed.

    Attributes
    ----------
    path : Path
        The file.
    format : str
        Id of its format.
    size : int
        Bytes.
    checks : tuple of Compared
        Counts, extents, units.
    vertical, plan : float or None
        Largest difference of any height, and of any easting or northing; None where they cannot be paired.
    unit, plan_unit : str
        Unit of heights and of plan, empty where unknown.
    findings : tuple of Finding
        What the file could not hold, and what reading it noticed.
    seconds : float
        Time for writing and reading.
    files : tuple of str
        Names of the files of a set; empty where there is only one.
    cost : str
        How far the ground in it differs from that which came in, as a clause; empty where no step changed it.
    """

    path: Path
    format: str
    size: int
    checks: tuple[Compared, ...]
    vertical: float | None
    plan: float | None
    unit: str
    findings: tuple[Finding, ...]
    seconds: float
    plan_unit: str = ""
    files: tuple[str, ...] = ()
    cost: str = ""

    @property
    def good(self) -> bool:
        """Whether everything compared agrees."""
        return all(check.good for check in self.checks)

    def sentence(self) -> str:
        """Return the outcome, so that a receiver can tell whether the file can be used: what was compared, what differs."""
        size = size_words(self.size)
        bad = [check.what for check in self.checks if not check.good]
        if self.vertical is None:
            gap = "; heights could not be paired" if bad else ""
        else:
            unit = f" {self.unit}" if self.unit else ""
            plan_unit = f" {self.plan_unit}" if self.plan_unit else ""
            gap = f"; largest difference in height {gap_words(self.vertical, 6)}{unit}, in plan {gap_words(self.plan or 0.0, 6)}{plan_unit}"
        what = "counts, extents and units" if self.vertical is None else "counts, extents, units and every coordinate"
        # “Agree” beside ground that differs by decimetres would be heard as more than was compared.
        same = f"{what} are those of what was sent" if self.cost else f"{what} agree with what was sent"
        state = f"but {', '.join(bad)} differ" if bad else same
        named = listed(self.files) if self.files else self.path.name
        if len(self.files) > MOST_NAMED:
            named = f"{self.files[0]} and {len(self.files) - 1} files more"
        cost = f"; but {self.cost}" if self.cost else ""
        return f"{named}: {size} written and read back; {state}{gap}{cost}."

    def to_json(self) -> dict[str, Any]:
        """Return plain values."""
        values = dataclasses.asdict(self)
        values["path"] = str(self.path)
        values["findings"] = [finding.to_json() for finding in self.findings]
        values["good"] = self.good
        return values

    @staticmethod
    def from_json(values: dict[str, Any]) -> Delivery:
        """Return the delivery that `to_json` gave."""
        own = {field.name: values[field.name] for field in dataclasses.fields(Delivery) if field.name in values}
        own["path"] = Path(own["path"])
        own["files"] = tuple(own.get("files", ()))
        own["checks"] = tuple(Compared(**check) for check in own["checks"])
        own["findings"] = tuple(Finding.from_json(finding) for finding in own["findings"])
        return Delivery(**own)
