"""What a case is, and running all of them."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from importlib import import_module
from typing import Any

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.errors import VastGridError
from vastgrid.base.progress import Progress

Figures = float | Sequence[float] | NDArray[Any]


@dataclass(frozen=True, slots=True)
class Case:
    """One case.

    Attributes
    ----------
    id : str
        What it is about and which case of that: “volumes.frustum”.
    covers : tuple of str
        Ids of the conversions and formats, or other subjects, that it checks.
    says : str
        What is checked, in a sentence.
    source : str
        Where the expected figure comes from: a book, a standard, a closed form, or another library.
    tolerance : float
        Largest difference from what is expected.
    unit : str
        Unit of the figures; empty where they have none.
    run : callable
        Returns what is expected and what came out: a number each, or several.
    """

    id: str
    covers: tuple[str, ...]
    says: str
    source: str
    tolerance: float
    unit: str
    run: Callable[[], tuple[Figures, Figures]]


@dataclass(frozen=True, slots=True)
class Outcome:
    """What came out of a case; where there are several figures, those that differ most."""

    case: Case
    expected: float
    got: float
    difference: float
    seconds: float
    error: str = ""

    @property
    def passed(self) -> bool:
        """Whether it is within its tolerance."""
        return not self.error and self.difference <= self.case.tolerance

    def to_json(self) -> dict[str, Any]:
        """Return plain values."""
        return {
            "id": self.case.id,
            "covers": list(self.case.covers),
            "says": self.case.says,
            "source": self.case.source,
            "expected": self.expected,
            "got": self.got,
            "difference": self.difference,
            "tolerance": self.case.tolerance,
            "unit": self.case.unit,
            "passed": self.passed,
            "error": self.error or None,
            "seconds": self.seconds,
        }


_CASES: list[Case] = []
_MODULES = ("surfaces", "lines", "points", "volumes", "places", "files")


def case(
    name: str, says: str, source: str, tolerance: float, unit: str = "", *, covers: str = ""
) -> Callable[[Callable[[], tuple[Figures, Figures]]], Callable[[], tuple[Figures, Figures]]]:
    """Register a function as a case; it covers what its name begins with, if nothing else is said."""

    def keep(run: Callable[[], tuple[Figures, Figures]]) -> Callable[[], tuple[Figures, Figures]]:
        _CASES.append(Case(name, tuple((covers or name.split(".")[0]).split()), says, source, tolerance, unit, run))
        return run

    return keep


def cases() -> tuple[Case, ...]:
    """Return every case in order."""
    for name in _MODULES:
        import_module(f"vastgrid.verification.{name}")
    return tuple(_CASES)


def run_case(own: Case) -> Outcome:
    """Run one case; what goes wrong is told."""
    began = time.perf_counter()
    try:
        expected, got = (np.atleast_1d(np.asarray(each, np.float64)) for each in own.run())
    except Exception as error:  # noqa: BLE001 - whatever is wrong with an installation, its cases tell it one by one
        why = str(error) if isinstance(error, VastGridError) else repr(error)
        return Outcome(own, np.nan, np.nan, np.inf, time.perf_counter() - began, why)
    if expected.shape != got.shape:
        why = f"{len(got)} figures came out, {len(expected)} are expected"
        return Outcome(own, np.nan, np.nan, np.inf, time.perf_counter() - began, why)
    off = np.where(np.isnan(expected) & np.isnan(got), 0.0, np.abs(got - expected))
    off = np.where(np.isnan(off), np.inf, off)
    # Of those that are off by the same, the largest says most.
    worst = int(np.lexsort((np.nan_to_num(np.abs(expected)), off))[-1])
    seconds = time.perf_counter() - began
    return Outcome(own, float(expected[worst]), float(got[worst]), float(off[worst]), seconds)


def run_all(progress: Progress, chosen: Sequence[str] = ()) -> list[Outcome]:
    """Run all cases, or those of some subjects."""
    every = [each for each in cases() if not chosen or set(chosen) & {each.id, *each.covers}]
    found = []
    for k, each in enumerate(every):
        progress.report(k / max(len(every), 1), each.says)
        found.append(run_case(each))
    return found
