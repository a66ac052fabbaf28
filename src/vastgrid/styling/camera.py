"""Where one looks from: the camera of the 3D view, in world coordinates."""

from __future__ import annotations

import dataclasses
import math
from dataclasses import dataclass

import numpy as np

from vastgrid.data.dataset import Floats

# Angle of the picture's height.
FIELD = 45.0


@dataclass(frozen=True)
class Camera:
    """Where one looks from and to.

    Attributes
    ----------
    east, north, height : float
        Place in the middle of the picture; its height in height units.
    distance : float
        How far the eye is from it, in plan units.
    heading : float
        Bearing that one looks along, in degrees.
    pitch : float
        Degrees below the horizon that one looks down; negative looks up.
    stretch : float
        Vertical exaggeration.
    ratio : float
        Height units in a plan unit.
    """

    east: float = 0.0
    north: float = 0.0
    height: float = 0.0
    distance: float = 100.0
    heading: float = 340.0
    pitch: float = 35.0
    stretch: float = 1.0
    ratio: float = 1.0

    def axes(self) -> tuple[Floats, Floats, Floats]:
        """Return the directions to the right, up, and away from the eye."""
        h, p = math.radians(self.heading), math.radians(self.pitch)
        away = np.array((math.sin(h) * math.cos(p), math.cos(h) * math.cos(p), -math.sin(p)))
        right = np.array((math.cos(h), -math.sin(h), 0.0))
        return right, np.cross(right, away), away

    @property
    def target(self) -> Floats:
        """The place in the middle, in the world."""
        return np.array((self.east, self.north, self.height))

    def factor(self) -> float:
        """Return what heights are multiplied by before the eye."""
        return self.stretch / self.ratio

    def matrix(self) -> Floats:
        """Return the matrix for `kernels.space.project`, whose origin is the target."""
        axes = self.axes()
        out = np.zeros((3, 4))
        for k, axis in enumerate(axes):
            out[k, :3] = axis
        out[2, 3] = self.distance
        return out

    def eye(self) -> Floats:
        """Return where the eye is, in the world."""
        away = self.axes()[2]
        off = -away * self.distance
        return np.asarray(self.target + np.array((off[0], off[1], off[2] / self.factor())))

    def at_eye(self, eye: Floats) -> Camera:
        """Return the camera moved so that its eye is at a place, looking the same way."""
        away = self.axes()[2] * self.distance
        return dataclasses.replace(
            self,
            east=float(eye[0] + away[0]),
            north=float(eye[1] + away[1]),
            height=float(eye[2] + away[2] / self.factor()),
        )

    def focus(self, rows: int) -> float:
        """Return the pixels per unit of slope in a picture of so many rows."""
        return rows / 2.0 / math.tan(math.radians(FIELD / 2.0))

    def pixel_size(self, rows: int) -> float:
        """Return how many plan units a pixel covers at the target."""
        return self.distance / self.focus(rows)

    def place(self, x: float, y: float, inverse: float, width: int, rows: int) -> Floats:
        """Return the world coordinates of a pixel whose inverse distance is known."""
        right, up, away = self.axes()
        z = 1.0 / inverse
        f = self.focus(rows)
        off = (x - width / 2.0) * z / f * right + (rows / 2.0 - y) * z / f * up + (z - self.distance) * away
        return np.asarray(self.target + np.array((off[0], off[1], off[2] / self.factor())))

    def pixels(self, places: Floats, width: int, rows: int) -> tuple[Floats, Floats]:
        """Return where places in the world (n, 3) are seen, x and y (m,); those behind the eye are left out."""
        off = (places - self.target) * (1.0, 1.0, self.factor())
        turned = off @ np.array(self.axes()).T
        z = turned[:, 2] + self.distance
        turned, z = turned[z > 0], z[z > 0]
        f = self.focus(rows)
        return width / 2.0 + f * turned[:, 0] / z, rows / 2.0 - f * turned[:, 1] / z

    def pixel(self, place: Floats, width: int, rows: int) -> tuple[float, float] | None:
        """Return where a place in the world is seen; None behind the eye."""
        off = (np.asarray(place, float) - self.target) * (1.0, 1.0, self.factor())
        right, up, away = self.axes()
        z = float(off @ away) + self.distance
        if z <= 0:
            return None
        f = self.focus(rows)
        return width / 2.0 + f * float(off @ right) / z, rows / 2.0 - f * float(off @ up) / z
