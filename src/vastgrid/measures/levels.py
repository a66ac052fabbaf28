"""Lines at even heights: which interval they keep, and which do not."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.findings import Finding, Severity, count, note
from vastgrid.base.quantities import unit_word
from vastgrid.base.words import spaced
from vastgrid.data.dataset import Floats
from vastgrid.data.linework import Linework


def line_levels(lines: Linework) -> Floats:
    """Return the height of each line that is level, (k,) float64; NaN for others and for lines without heights."""
    if len(lines) == 0:
        return np.zeros(0)
    z = lines.vertices[:, 2]
    sizes = np.diff(lines.offsets)
    starts = np.minimum(lines.offsets[:-1], max(len(z) - 1, 0))
    if len(z) == 0:
        return np.full(len(lines), np.nan)
    low, high = np.minimum.reduceat(z, starts), np.maximum.reduceat(z, starts)
    return np.where((low == high) & (sizes > 0), low, np.nan)


@dataclass(frozen=True, slots=True)
class Interval:
    """The interval that level lines keep.

    Attributes
    ----------
    step, base : float
        Levels are ``base + n * step``; the base is 0 where that fits.
    odd : (k,) bool
        Lines that do not stand at such a level; lines without a height are no exceptions.
    """

    step: float
    base: float
    odd: NDArray[np.bool_]


def interval_of(levels: Floats) -> Interval | None:
    """Return the interval that level lines keep; None where there are fewer than three heights or none is kept.

    The interval is the difference of neighbouring levels that comes most often among those that nine in ten levels
    keep; it is what the lines have, not what would be usual.
    """
    known = np.isfinite(levels)
    heights = np.unique(np.round(levels[known], 6))
    if len(heights) < 3:
        return None
    gaps, times = np.unique(np.round(np.diff(heights), 6), return_counts=True)
    # A common difference, or a part of one: of 0, 1, 2.5, 5 and 7.5 most are a multiple of 2.5.
    for step in gaps[np.argsort(-times, kind="stable")][:20].tolist():
        if step <= 0.0:
            continue
        share = np.mod(heights, step) / step
        turned = np.exp(2j * np.pi * share)
        # The most frequent remainder is the base.
        base = float(np.angle(turned[np.argmax([(np.abs(turned - each) < 1e-3).sum() for each in turned[:50]])]))
        base = base / (2.0 * np.pi) % 1.0 * step
        base = 0.0 if min(base, step - base) < 1e-4 * step else float(f"{base:.6g}")
        off = np.abs((levels - base) / step - np.rint((levels - base) / step)) > 1e-3
        odd = known & off
        fit = np.abs((heights - base) / step - np.rint((heights - base) / step)) <= 1e-3
        if odd.sum() <= 0.1 * known.sum() and fit.sum() >= 3 and odd.sum() <= 0.5 * known.sum():
            return Interval(step, base, odd)
    return None


def interval_finding(lines: Linework) -> list[Finding]:
    """Return what can be said of the interval of lines that are contours."""
    levels = line_levels(lines)
    known = np.isfinite(levels)
    if known.sum() < 0.5 * len(lines) or known.sum() < 3:
        return []
    found = interval_of(levels)
    if found is None:
        return []
    unit = unit_word(lines.frame.vertical)
    begin = f", counted from {found.base:g}{unit}" if found.base else ""
    keeps = "keeps" if known.sum() == 1 else "keep"
    text = f"{count(int(known.sum()), 'level line')} of {spaced(len(lines))} {keeps} an interval of {found.step:g}{unit}{begin}"
    odd = found.odd
    if not odd.any():
        return [note("contour-interval", f"{text}, without exception.")]
    first = int(np.flatnonzero(odd)[0])
    at = lines.vertices[lines.offsets[first], :2].tolist()
    some = ", ".join(f"{value:g}" for value in np.unique(levels[odd])[:6])
    text = f"{text}, but {count(int(odd.sum()), 'line does', 'lines do')} not: {some}{unit}."
    return [Finding("contour-interval", text, Severity.WARNING, (at[0], at[1]))]
