"""The nearest of many places or lines to one place, in plan."""

from __future__ import annotations

import numba
import numpy as np


@numba.njit(cache=True, nogil=True)
def on_places(xyz, east, north, reach):
    """Return the number of the nearest place within reach and its distance; -1 and infinity where there is none."""
    best, found = reach * reach, -1
    for i in range(xyz.shape[0]):
        dx = xyz[i, 0] - east
        if abs(dx) > reach:
            continue
        dy = xyz[i, 1] - north
        away = dx * dx + dy * dy
        if away <= best:
            best, found = away, i
    return found, np.sqrt(best) if found >= 0 else np.inf


@numba.njit(cache=True, nogil=True)
def on_lines(xyz, offsets, east, north, reach):
    """Return the nearest segment within reach: its first vertex, the share along it, and the distance; -1 for none."""
    best, found, share = reach * reach, -1, 0.0
    for line in range(offsets.shape[0] - 1):
        for i in range(offsets[line], offsets[line + 1] - 1):
            ax, ay = xyz[i, 0] - east, xyz[i, 1] - north
            bx, by = xyz[i + 1, 0] - east, xyz[i + 1, 1] - north
            if min(ax, bx) > reach or max(ax, bx) < -reach or min(ay, by) > reach or max(ay, by) < -reach:
                continue
            dx, dy = bx - ax, by - ay
            length = dx * dx + dy * dy
            t = min(max(-(ax * dx + ay * dy) / length, 0.0), 1.0) if length > 0.0 else 0.0
            px, py = ax + t * dx, ay + t * dy
            away = px * px + py * py
            if away <= best:
                best, found, share = away, i, t
    return found, share, np.sqrt(best) if found >= 0 else np.inf
