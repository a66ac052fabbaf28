"""What a check declares: something an experienced person would notice, its thresholds, and how it is looked for."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

from vastgrid.base.findings import Finding, count, note
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Unit, square_word, unit_word
from vastgrid.base.words import plain, spaced
from vastgrid.data.dataset import Dataset
from vastgrid.data.pointset import PointSet

# So many places of one kind are told one by one; what is beyond them is summed up.
MOST = 20

Look = Callable[[Any, Sequence[Dataset], Any, Progress], list[Finding]]


@dataclass(frozen=True, slots=True)
class Check:
    """One kind of finding.

    Attributes
    ----------
    id : str
        Its word; findings carry it as their code.
    version : int
        Rises whenever the same data and thresholds give other findings.
    title : str
        What is looked for, for the list of thresholds.
    help : str
        Why it matters, in one sentence.
    takes : tuple of type
        Kinds of dataset that are looked at.
    params : type
        Frozen dataclass of declared thresholds.
    run : callable
        Dataset, the job's other datasets, thresholds, progress → findings, the worst first.
    also : tuple of str
        What else people call it.
    origin : str
        Distribution and version of the plug-in that it comes from; empty for ours.
    around : bool
        Whether the other datasets matter: then it is run again when they change.
    """

    id: str
    version: int
    title: str
    help: str
    takes: tuple[type[Dataset], ...]
    params: type
    run: Look
    around: bool = False
    also: tuple[str, ...] = ()
    origin: str = ""


def cut_short(findings: list[Finding], code: str, what: tuple[str, str]) -> list[Finding]:
    """Return the first findings, and one that counts the rest."""
    rest = len(findings) - MOST
    if rest <= 0:
        return findings
    return [*findings[:MOST], note(code, f"Besides these, {count(rest, *what)} of the same kind, all smaller.")]


def with_unit(value: float, unit: Unit | None, decimals: int = 2) -> str:
    """Return “6.02 m”, or the bare number where the unit is unknown."""
    return f"{value:.{decimals}f}" + unit_word(unit)


def plan_area(value: float, unit: Unit | None) -> str:
    """Return “1 240 m²”, thousands set apart by a thin no-break space."""
    return spaced(value) + square_word(unit)


def point_name(points: PointSet, number: int) -> str:
    """Return a point's own name, where the source gave one."""
    name = points.attributes["point"][number] if "point" in points.attributes else ""
    return plain(name)
