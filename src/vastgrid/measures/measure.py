"""Measuring between places: differences, lengths, grades, bearings, areas, and whether contours keep their interval."""

from __future__ import annotations

import itertools
import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from vastgrid.base.errors import DataError
from vastgrid.base.quantities import Unit, unit_word
from vastgrid.base.words import gap_words
from vastgrid.data.dataset import fixed
from vastgrid.data.frame import Frame, ratio_of
from vastgrid.data.grid import Grid
from vastgrid.data.linework import Contours
from vastgrid.data.tin import Tin
from vastgrid.kernels.lines.nearest import on_lines
from vastgrid.measures.heights import heights
from vastgrid.measures.snap import Caught


@dataclass(frozen=True, slots=True)
class Leg:
    """From one place to another.

    Attributes
    ----------
    east, north, up : float
        ΔE and ΔN in plan units, ΔZ in height units; ΔZ is NaN where a height is missing.
    plan, slope : float
        Length in plan, and along the slope, in plan units.
    grade : float
        Rise over run, both in one unit; infinite where it is vertical.
    bearing : float
        Degrees clockwise from grid north, 0 ≤ bearing < 360; NaN where both places are the same.
    """

    east: float
    north: float
    up: float
    plan: float
    slope: float
    grade: float
    bearing: float


def leg(a: Caught, b: Caught, ratio: float = 1.0) -> Leg:
    """Measure from one place to another.

    Parameters
    ----------
    ratio : float
        Height units in a plan unit.
    """
    east, north, up = b.east - a.east, b.north - a.north, b.z - a.z
    plan = math.hypot(east, north)
    rise = up / ratio
    grade = rise / plan if plan > 0 else math.copysign(math.inf, rise) if rise else 0.0
    bearing = math.degrees(math.atan2(east, north)) % 360.0 if plan > 0 else math.nan
    return Leg(east, north, up, plan, math.hypot(plan, rise), grade, bearing)


def area_of(places: Sequence[Caught]) -> float:
    """Return the plan area inside places, by the surveyor's formula (Gauss); local coordinates keep its digits."""
    x = np.array([each.east - places[0].east for each in places])
    y = np.array([each.north - places[0].north for each in places])
    return abs(float(x @ np.roll(y, -1) - y @ np.roll(x, -1))) / 2.0


def grade_text(grade: float) -> str:
    """Return “12.50 % · 1 : 8.00 · 7.13°”."""
    if math.isnan(grade):
        return "–"
    if math.isinf(grade):
        return "vertical"
    ratio = f"1 : {1.0 / abs(grade):.2f}" if grade else "level"
    return f"{100.0 * grade:+.2f} % · {ratio} · {math.degrees(math.atan(grade)):+.2f}°"


def leg_rows(own: Leg, frame: Frame) -> list[tuple[str, str]]:
    """Return a leg's figures, ready to show or copy."""
    plan = unit_word(frame.horizontal)
    height = unit_word(frame.vertical)
    return [
        ("ΔE", f"{own.east:+.3f}{plan}"),
        ("ΔN", f"{own.north:+.3f}{plan}"),
        ("ΔZ", f"{own.up:+.3f}{height}" if not math.isnan(own.up) else "–"),
        ("Plan", f"{own.plan:.3f}{plan}"),
        ("Slope", f"{own.slope:.3f}{plan}" if not math.isnan(own.slope) else "–"),
        ("Grade", grade_text(own.grade)),
        ("Bearing", f"{own.bearing:.4f}°" if not math.isnan(own.bearing) else "–"),
    ]


def chain_rows(places: Sequence[Caught], frame: Frame, *, closed: bool = False) -> list[tuple[str, str]]:
    """Return the figures of what was measured: a leg, a chain of legs, or an area."""
    ratio = ratio_of(frame)
    round_ = [*places, places[0]] if closed else list(places)
    legs = [leg(a, b, ratio) for a, b in itertools.pairwise(round_)]
    plan = unit_word(frame.horizontal)
    if closed:
        square = f" {frame.horizontal.value}²" if frame.horizontal else ""
        area = area_of(places)
        rows = [("Area in plan", f"{area:.2f}{square}"), ("Around it", f"{sum(each.plan for each in legs):.3f}{plan}")]
        if frame.horizontal is Unit.METRE:
            rows.insert(1, ("", f"{area / 10_000.0:.4f} ha"))
        known = [each.z for each in places if not math.isnan(each.z)]
        if known:
            rows.append(("Corners", f"{min(known):.3f} … {max(known):.3f}"))
        return rows
    if len(legs) == 1:
        return leg_rows(legs[0], frame)
    rows = [
        ("Legs", str(len(legs))),
        ("Plan in all", f"{sum(each.plan for each in legs):.3f}{plan}"),
        ("Slope in all", f"{sum(each.slope for each in legs):.3f}{plan}"),
    ]
    return rows + _short("Ends", leg(places[0], places[-1], ratio), frame) + _short("Last", legs[-1], frame)


def _short(name: str, own: Leg, frame: Frame) -> list[tuple[str, str]]:
    """Return a leg's figures in few rows."""
    row = dict(leg_rows(own, frame))
    return [
        (f"{name}: ΔE, ΔN, ΔZ", f"{row['ΔE']}, {row['ΔN']}, {row['ΔZ']}"),
        (f"{name}: plan, slope", f"{row['Plan']}, {row['Slope']}"),
        (f"{name}: grade", row["Grade"]),
        (f"{name}: bearing", row["Bearing"]),
    ]


# -- contours' interval


@dataclass(frozen=True, slots=True)
class IntervalCheck:
    """Whether contours keep the interval that was asked for.

    Attributes
    ----------
    asked : float
        The interval as the contours declare it; 0 where they do not.
    found : float
        Median height difference of neighbouring contours, by their levels.
    pairs : int
        Pairs that were measured.
    keep : int
        Pairs whose levels differ by the interval.
    on_surface : float
        Largest difference between the surface and a contour's level at the measured places; NaN without a surface.
    worst : tuple of float
        Place of that, or of the first pair that does not keep the interval.
    unit : Unit or None
        Unit of the heights.
    """

    asked: float
    found: float
    pairs: int
    keep: int
    on_surface: float
    worst: tuple[float, float]
    unit: Unit | None

    @property
    def good(self) -> bool:
        """Whether every pair keeps the interval that was asked for."""
        return self.keep == self.pairs and (not self.asked or abs(self.found - self.asked) < 1e-6 * max(self.asked, 1))

    def sentence(self) -> str:
        """Return the outcome in words, the unit named."""
        unit = f" {self.unit.title}" if self.unit else " (unit unknown)"
        asked = f"{self.asked:g}" if self.asked else f"{self.found:g}"
        text = f"{self.keep} of {self.pairs} neighbouring pairs are {asked}{unit} apart"
        if not self.good:
            text += f"; the usual distance is {self.found:g}{unit}"
            if self.asked and self.unit:
                for other in (Unit.METRE, Unit.FOOT, Unit.US_FOOT):
                    if (
                        other is not self.unit
                        and abs(self.found * float(self.unit.metres / other.metres) / self.asked - 1.0) < 1e-3
                    ):
                        text += f", which is {self.asked:g} {other.title}: the unit was mixed up"
        if not math.isnan(self.on_surface):
            text += (
                f"; at those places the surface differs from the contours by at most {gap_words(self.on_surface)}{unit}"
            )
        return text + "."


def check_interval(
    contours: Contours, surface: Tin | Grid | None, *, asked: float | None = None, pairs: int = 30, seed: int = 1
) -> IntervalCheck:
    """Measure random neighbouring pairs of contours.

    From a random vertex the nearest contour of another level is looked for; the two levels should differ by the interval.

    Parameters
    ----------
    surface : Tin, Grid or None
        Whose heights at both places are compared with the levels.
    asked : float or None
        The interval that should be, in the contours' unit; None takes what they declare.

    Raises
    ------
    DataError
        If there are no two levels.
    """
    levels = np.unique(contours.levels)
    if len(levels) < 2:
        raise DataError(f"{contours.name} has only one level, so there is no interval to check")
    wanted = contours.interval if asked is None else asked
    rng = np.random.default_rng(seed)
    line_of = np.repeat(np.arange(len(contours)), np.diff(contours.offsets))
    xyz = contours.coordinates()
    extent = contours.extent()
    assert extent.east is not None
    assert extent.north is not None
    reach = max(extent.east[1] - extent.east[0], extent.north[1] - extent.north[0])
    gaps, off, places = [], [], []
    for vertex in rng.choice(len(xyz), min(pairs, len(xyz)), replace=False).tolist():
        here = xyz[vertex]
        found = _neighbour(contours, xyz, line_of, here, reach)
        if found is None:
            continue
        gaps.append(abs(found[2] - here[2]))
        places.append((float(here[0]), float(here[1])))
        if surface is not None:
            both = heights(surface, np.array([here[:2], found[:2]]))
            gap = np.abs(both - (here[2], found[2]))
            off.append(float(np.nanmax(gap)) if np.isfinite(gap).any() else 0.0)
    if not gaps:
        raise DataError(f"no contour of {contours.name} has a neighbour of another level")
    usual = float(np.median(gaps))
    right = np.abs(np.array(gaps) - (wanted or usual)) < 1e-6 * max(usual, 1.0)
    k = int(np.argmax(off)) if off and right.all() else int(np.argmin(right))
    return IntervalCheck(
        wanted,
        round(usual, 6),
        len(gaps),
        int(right.sum()),
        max(off) if off else math.nan,
        places[k],
        contours.frame.vertical,
    )


def _neighbour(
    contours: Contours, xyz: np.ndarray, line_of: np.ndarray, here: np.ndarray, reach: float
) -> np.ndarray | None:
    """Return the nearest place on a contour of the next level above or below, whichever is nearer."""
    levels = np.unique(contours.levels)
    at = int(np.searchsorted(levels, here[2]))
    best, place = math.inf, None
    for level in (*levels[max(at - 1, 0) : at], *levels[at + 1 : at + 2]):
        for line in np.flatnonzero(contours.levels == level).tolist():
            part = xyz[contours.offsets[line] : contours.offsets[line + 1]]
            k, share, away = on_lines(fixed(part), fixed(np.array([0, len(part)])), here[0], here[1], min(best, reach))
            if k >= 0 and away < best:
                best, place = away, part[k] + share * (part[k + 1] - part[k])
    return place
