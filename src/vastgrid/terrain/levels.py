"""Lines at even heights: which interval they keep, and which do not."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.findings import Finding, Severity, count, note
from vastgrid.base.words import spaced
from vastgrid.terrain.dataset import Floats
from vastgrid.terrain.linework import Linework

# Intervals that contours are drawn at, in any unit (common practice).
_USUAL = [m * 10.0**e for e in (-2, -1, 0, 1, 2) for m in (1.0, 2.0, 2.5, 5.0)] + [1000.0]


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


def interval_of(levels: Floats) -> tuple[float, NDArray[np.bool_]] | None:
    """Return the interval that level lines keep, and which of them do not stand at a multiple of it.

    The largest usual interval that at least nine in ten keep is taken; lines without a height are no exceptions.

    Returns
    -------
    interval : float
    odd : (k,) bool
        None for both where there are fewer than three heights, or no usual interval fits.
    """
    known = np.isfinite(levels)
    heights = np.unique(np.round(levels[known], 6))
    if len(heights) < 3:
        return None
    for interval in sorted(_USUAL, reverse=True):
        if interval > np.ptp(heights) / 2.0:
            continue
        off = np.abs(levels / interval - np.rint(levels / interval)) > 1e-4
        odd = known & off
        different = np.abs(heights / interval - np.rint(heights / interval)) <= 1e-4
        if odd.sum() <= 0.1 * known.sum() and different.sum() >= 3:
            return interval, odd
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
    interval, odd = found
    unit = f" {lines.frame.vertical.value}" if lines.frame.vertical else ""
    text = f"{count(int(known.sum()), 'level line')} of {spaced(len(lines))} keep an interval of {interval:g}{unit}"
    if not odd.any():
        return [note("contour-interval", f"{text}, without exception.")]
    first = int(np.flatnonzero(odd)[0])
    at = lines.vertices[lines.offsets[first], :2].tolist()
    some = ", ".join(f"{value:g}" for value in np.unique(levels[odd])[:6])
    text = f"{text}, but {count(int(odd.sum()), 'line does', 'lines do')} not: {some}."
    return [Finding("contour-interval", text, Severity.WARNING, (at[0], at[1]))]
