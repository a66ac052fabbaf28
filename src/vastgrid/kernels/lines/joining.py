"""Level lines of tiles as whole lines: ends that are one place become one."""

from __future__ import annotations

import numba
import numpy as np
from numpy.typing import NDArray


def joined_lines(
    plan: NDArray[np.float64],
    offsets: NDArray[np.int64],
    level: NDArray[np.int64],
    seams: tuple[NDArray[np.float64], NDArray[np.float64]],
) -> tuple[NDArray[np.float64], NDArray[np.int64], NDArray[np.int64]]:
    """Return lines joined wherever one ends, on a seam, where another of its level begins.

    All lines have higher ground on the same side, so that ends meet beginnings only. Where several meet in one place they
    are joined in the order in which they are given. What closes becomes a ring, its first place repeated at its end.

    Parameters
    ----------
    plan : (n, 2) float64
        Vertices of all lines; places at seams are equal to the last bit.
    offsets : (k + 1,) int64
        Where each begins.
    level : (k,) int64
        What has to agree.
    seams : (i,) and (j,) float64
        Eastings and northings of the seams, exactly as the places on them have them; ends elsewhere are true ends.
    """
    number = len(level)
    if not number:
        return plan, offsets, level
    first, last = plan[offsets[:-1]], plan[offsets[1:] - 1]
    follows = np.full(number, -1, np.int64)
    rings = (first == last).all(axis=1)
    begins, stops = (
        np.flatnonzero(~rings & (np.isin(ends[:, 0], seams[0]) | np.isin(ends[:, 1], seams[1])))
        for ends in (first, last)
    )
    # Beginnings and ends in one order: a place's beginnings stand before its ends.
    lines = np.concatenate((begins, stops))
    ends = np.concatenate((first[begins], last[stops]))
    order = np.lexsort((np.arange(len(lines)), ends[:, 1], ends[:, 0], level[lines]))
    _follow(ends, level[lines], order, lines, len(begins), follows)
    plan, offsets, level = _chained(plan, offsets, level, follows)
    return plan, offsets, level


@numba.njit(cache=True, nogil=True)
def _follow(ends, level, order, lines, count, follows):
    n = order.shape[0]
    a = 0
    while a < n:
        b = a + 1
        while b < n and level[order[b]] == level[order[a]] and (ends[order[b]] == ends[order[a]]).all():
            b += 1
        # Beginnings come first among equals, then ends.
        split = a
        while split < b and order[split] < count:
            split += 1
        for k in range(min(split - a, b - split)):
            follows[lines[order[split + k]]] = lines[order[a + k]]
        a = b


@numba.njit(cache=True, nogil=True)
def _chained(plan, offsets, level, follows):
    number = level.shape[0]
    entered = np.zeros(number, np.bool_)
    for k in range(number):
        if follows[k] >= 0:
            entered[follows[k]] = True
    taken = np.zeros(number, np.bool_)
    out = np.zeros((plan.shape[0], 2))
    starts = np.zeros(number + 1, np.int64)
    levels = np.zeros(number, np.int64)
    points = lines = 0
    # What begins at a rim first, then the rings.
    for ring in range(2):
        for k in range(number):
            if taken[k] or (ring == 0 and entered[k]):
                continue
            at, begin = k, points
            while at >= 0 and not taken[at]:
                taken[at] = True
                for i in range(offsets[at], offsets[at + 1]):
                    if i == offsets[at] and points > begin:
                        continue
                    out[points] = plan[i]
                    points += 1
                at = follows[at]
            levels[lines] = level[k]
            lines += 1
            starts[lines] = points
    return out[:points].copy(), starts[: lines + 1].copy(), levels[:lines].copy()
