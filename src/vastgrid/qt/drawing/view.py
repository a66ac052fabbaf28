"""Which part of the world a plan shows, and where a place lies in it."""

from __future__ import annotations

import dataclasses
import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from vastgrid.data.dataset import Dataset, fixed

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class View:
    """What part of the world a picture shows.

    Attributes
    ----------
    east, north : float
        Its middle.
    size : float
        World units per pixel.
    width, height : int
        In pixels.
    turn : float
        Bearing in degrees of the picture's upper side: 0 where north is up.
    """

    east: float
    north: float
    size: float
    width: int
    height: int
    turn: float = 0.0

    @property
    def west(self) -> float:
        """Left rim, as an easting where north is up, and otherwise in the turned coordinates that `turned` gives."""
        return self.east - self.width * self.size / 2.0

    @property
    def top(self) -> float:
        """Upper rim, likewise."""
        return self.north + self.height * self.size / 2.0

    def world(self, x: float, y: float) -> tuple[float, float]:
        """Return the place under a pixel."""
        u, v = (x - self.width / 2.0) * self.size, (self.height / 2.0 - y) * self.size
        cos, sin = self._trig()
        return self.east + u * cos + v * sin, self.north - u * sin + v * cos

    def pixel(self, east: float, north: float) -> tuple[float, float]:
        """Return where a place is drawn."""
        dx, dy = east - self.east, north - self.north
        cos, sin = self._trig()
        u, v = dx * cos - dy * sin, dx * sin + dy * cos
        return self.width / 2.0 + u / self.size, self.height / 2.0 - v / self.size

    def grown(self, share: float) -> View:
        """Return a view of the same middle and scale with a margin all around."""
        return dataclasses.replace(self, width=int(self.width * share), height=int(self.height * share))

    def finer(self, ratio: float) -> View:
        """Return the view of the same ground in so many times the pixels along each side."""
        if ratio == 1.0:
            return self
        width, height = math.ceil(self.width * ratio), math.ceil(self.height * ratio)
        return dataclasses.replace(self, size=self.size / ratio, width=width, height=height)

    def turned(self, xy: Floats) -> Floats:
        """Return coordinates (n, ≥ 2) turned about the middle so that the picture's upper side is north."""
        if self.turn == 0.0:
            return fixed(xy)
        cos, sin = self._trig()
        out = np.array(xy, np.float64)
        dx, dy = xy[:, 0] - self.east, xy[:, 1] - self.north
        out[:, 0] = self.east + dx * cos - dy * sin
        out[:, 1] = self.north + dx * sin + dy * cos
        return fixed(out)

    def box(self) -> tuple[float, float, float, float]:
        """Return west, south, east, north of a box that holds all that is seen."""
        corners = [self.world(x, y) for x in (0, self.width) for y in (0, self.height)]
        east, north = [c[0] for c in corners], [c[1] for c in corners]
        return min(east), min(north), max(east), max(north)

    def _trig(self) -> tuple[float, float]:
        turn = math.radians(self.turn)
        return (math.cos(turn), math.sin(turn)) if self.turn else (1.0, 0.0)


def bounds(datasets: Sequence[Dataset]) -> tuple[float, float, float, float] | None:
    """Return west, south, east, north of all datasets together."""
    extents = [each.extent() for each in datasets]
    east = [e.east for e in extents if e.east]
    north = [e.north for e in extents if e.north]
    if not east or not north:
        return None
    return min(e[0] for e in east), min(n[0] for n in north), max(e[1] for e in east), max(n[1] for n in north)


def fitted(box: tuple[float, float, float, float], width: int, height: int, margin: float = 0.06) -> View:
    """Return the view that shows a box whole."""
    west, south, east, north = box
    across, up = max(east - west, 1e-3), max(north - south, 1e-3)
    size = max(across / max(width, 1), up / max(height, 1)) * (1.0 + 2.0 * margin)
    return View((west + east) / 2.0, (south + north) / 2.0, size, width, height)
