"""What a surface is built from, while the surface is edited: it follows each vertex that is set, moved, removed or added."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from vastgrid.data.dataset import Floats
from vastgrid.data.tin import Tin

Place = tuple[float, float]


class BuiltFrom:
    """Source points and breaklines of a TIN, and what is yet to be done to them."""

    def __init__(self, tin: Tin) -> None:
        self._now = (tin.source_points, tin.break_vertices, tin.break_offsets)
        self._points: list[tuple[float, float, float]] = []
        self._lines: list[Floats] = []
        # By where a place was: where it is now, None where it is gone.
        self._moved: dict[Place, tuple[float, float, float] | None] = {}
        self._was: dict[Place, Place] = {}

    def move(self, place: Place, target: tuple[float, float, float] | None) -> None:
        """Let a place follow a vertex; None where the vertex is gone."""
        origin = self._was.pop(place, place)
        self._moved[origin] = target
        if target is not None:
            self._was[target[:2]] = origin

    def add(self, points: Sequence[tuple[float, float, float]], line: Floats | None = None) -> None:
        """Add points, or a breakline."""
        new = [*points, *(line.tolist() if line is not None else ())]
        if any((east, north) in self._moved for east, north, _ in new):
            self.now()
        self._points += points
        if line is not None:
            self._lines.append(line)

    def now(self) -> tuple[Floats, Floats, NDArray[np.int64]]:
        """Return points, breaklines' vertices and where each breakline begins, everything done."""
        points, breaks, offsets = self._now
        if len(points) or len(breaks):
            if self._points:
                points = np.concatenate((points, np.array(self._points)))
            if self._lines:
                sizes = np.concatenate((np.diff(offsets), [len(line) for line in self._lines]))
                breaks = np.concatenate((breaks, *self._lines))
                offsets = np.concatenate(([0], np.cumsum(sizes))).astype(np.int64)
            if self._moved:
                points, breaks = _followed(points, self._moved, drop=True), _followed(breaks, self._moved, drop=False)
        self._now = (points, breaks, offsets)
        self._points, self._lines, self._moved, self._was = [], [], {}, {}
        return self._now


def _followed(
    xyz: Floats, moved: dict[tuple[float, float], tuple[float, float, float] | None], *, drop: bool
) -> Floats:
    """Return places with those that moved at their new place; those removed are dropped, or stay where they cannot be."""
    if len(xyz) == 0:
        return xyz
    keys = np.array(list(moved))
    own = xyz[:, 0] + 1j * xyz[:, 1]
    place = keys[:, 0] + 1j * keys[:, 1]
    order = np.argsort(place)
    found = np.minimum(np.searchsorted(place[order], own), len(order) - 1)
    same = place[order][found] == own
    out = xyz.copy()
    targets = list(moved.values())
    keep = np.ones(len(xyz), np.bool_)
    for row in np.flatnonzero(same).tolist():
        target = targets[int(order[found[row]])]
        if target is not None:
            out[row] = target
        elif drop:
            keep[row] = False
    return out[keep]
