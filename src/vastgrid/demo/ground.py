"""The ground of the invented Tollgarth Quarry: a height for every place, and the edges that shape it."""

from __future__ import annotations

import itertools

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]

ORIGIN = (431_000.0, 887_000.0)
SIZE = (640.0, 440.0)
CENTRE = (330.0, 215.0)
FLOOR, STEP, BENCH, FACE = 200.6, 11.7, 13.0, 3.2
LEVELS = 4
POND = (352.0, 205.0, 34.0, 196.4)
ROAD_WIDTH = 11.0
# A bay of the lower pond at the southern limit: under water when the surveyors came.
BAY = (430.0, 38.0, 29.0)
TIP = (95.0, 345.0)


def hill(x: Floats, y: Floats) -> Floats:
    """The hillside before the quarry: rising to the north-west, gently rolling."""
    roll = 3.0 * np.sin(x / 61.0 + 0.7) * np.cos(y / 47.0) + 1.6 * np.sin(x / 23.0 - y / 31.0)
    return 247.0 - 0.018 * x + 0.03 * y + roll


def _radius(angle: Floats) -> Floats:
    """The pit's floor in plan: an uneven oval."""
    oval = 1.0 / np.sqrt((np.cos(angle) / 92.0) ** 2 + (np.sin(angle) / 62.0) ** 2)
    return oval * (1.0 + 0.07 * np.sin(3.0 * angle + 0.4) + 0.04 * np.sin(5.0 * angle))


def _profile(distance: Floats) -> Floats:
    """Height of benches and faces by distance from the floor's edge."""
    whole = FACE + BENCH
    step = np.floor(np.maximum(distance, 0.0) / whole)
    within = np.maximum(distance, 0.0) - step * whole
    rise = np.minimum(within / FACE, 1.0)
    # The floor drains towards the pond, as a quarry's does.
    return np.where(
        distance <= 0.0, FLOOR + 0.012 * distance, FLOOR + STEP * (step + rise) + 0.02 * np.maximum(within - FACE, 0.0)
    )


def _polar(x: Floats, y: Floats) -> tuple[Floats, Floats]:
    dx, dy = x - CENTRE[0], y - CENTRE[1]
    return np.arctan2(dy, dx), np.hypot(dx, dy)


def road_axis(count: int = 60) -> Floats:
    """Return the haul road's centre line, (n, 3): from the eastern gate down to the floor."""
    share = np.linspace(0.0, 1.0, count)
    x = 622.0 - 215.0 * share
    y = 96.0 + 74.0 * share + 16.0 * np.sin(np.pi * share)
    top = float(hill(np.array([622.0]), np.array([96.0]))[0])
    return np.column_stack((x, y, top + (FLOOR - top) * np.clip((share - 0.12) / 0.88, 0.0, 1.0)))


def _road(x: Floats, y: Floats, ground: Floats) -> Floats:
    axis = road_axis()
    near = np.full(x.shape, np.inf)
    level = np.zeros(x.shape)
    for a, b in itertools.pairwise(axis):
        along = b[:2] - a[:2]
        share = np.clip(((x - a[0]) * along[0] + (y - a[1]) * along[1]) / float(along @ along), 0.0, 1.0)
        away = np.hypot(x - a[0] - share * along[0], y - a[1] - share * along[1])
        closer = away < near
        near = np.where(closer, away, near)
        level = np.where(closer, a[2] + share * (b[2] - a[2]), level)
    beside = np.maximum(near - ROAD_WIDTH / 2.0, 0.0)
    # Cut and bank at 1 in 1 beside the road.
    return np.where(near < 60.0, np.clip(ground, level - beside, level + beside), ground)


def _pile(x: Floats, y: Floats, east: float, north: float, height: float, radius: float) -> Floats:
    return np.maximum(height * (1.0 - np.hypot(x - east, (y - north) * 1.15) / radius), 0.0)


def height(x: Floats, y: Floats, *, later: bool = False) -> Floats:
    """Return the height of the ground at local places, in metres.

    Parameters
    ----------
    later : bool
        As the re-survey found it: one stockpile has grown, the other was carted off in part.
    """
    angle, distance = _polar(x, y)
    before = hill(x, y)
    ground = np.minimum(_profile(distance - _radius(angle)), before)
    ground = _road(x, y, ground)
    tip = 14.0 * np.exp(-(((x - 95.0) / 46.0) ** 4) - ((y - 345.0) / 38.0) ** 4)
    ground = ground + tip
    ground = ground + _pile(x, y, 545.0, 330.0, 11.0 if later else 8.5, 24.0)
    ground = ground + _pile(x, y, 585.0, 275.0, 4.0 if later else 7.0, 19.0)
    pond = np.hypot(x - POND[0], y - POND[1]) - POND[2]
    shore = np.where(pond < 0.0, POND[3], POND[3] + 0.8 * pond)
    return np.asarray(np.where(pond < 5.0, np.minimum(ground, shore), ground))


def under_water(x: Floats, y: Floats) -> NDArray[np.bool_]:
    """Return which local places lie in the bay, where nobody could survey."""
    return np.asarray(np.hypot(x - BAY[0], y - BAY[1]) < BAY[2])


def edges() -> list[tuple[str, Floats]]:
    """Return breaklines by layer, in local metres: crests and toes of faces, road edges, pond, and the site limit (flat)."""
    found: list[tuple[str, Floats]] = []
    angle = np.linspace(-np.pi, np.pi, 181)
    floor = _radius(angle)
    for level in range(LEVELS):
        for layer, extra in (("BENCH_TOE", 0.02), ("BENCH_CREST", FACE + 0.02)):
            reach = floor + level * (FACE + BENCH) + extra
            x, y = CENTRE[0] + reach * np.cos(angle), CENTRE[1] + reach * np.sin(angle)
            z = height(x, y)
            # Where the hillside or the road cuts the bench off there is no edge to survey.
            there = np.abs(z - _profile(reach - floor)) < 0.3
            found += [(layer, part) for part in _runs(np.column_stack((x, y, z)), there)]
    axis = road_axis()
    along = np.gradient(axis[:, :2], axis=0)
    side = np.column_stack((-along[:, 1], along[:, 0])) / np.hypot(along[:, 0], along[:, 1])[:, None]
    for sign in (1.0, -1.0):
        line = axis[:, :2] + sign * side * ROAD_WIDTH / 2.0
        found.append(("HAUL_ROAD", np.column_stack((line, height(line[:, 0], line[:, 1])))))
    ring = np.linspace(0.0, 2.0 * np.pi, 73)
    x, y = POND[0] + POND[2] * np.cos(ring), POND[1] + POND[2] * np.sin(ring)
    shore = np.column_stack((x, y, np.full(len(ring), POND[3])))
    shore[-1] = shore[0]
    found.append(("POND_EDGE", shore))
    # A culvert under the road, surveyed at its invert and drawn among the edges: a fault to be found.
    along = np.linspace(0.0, 1.0, 5)
    x, y = 512.0 + 14.0 * along, 100.0 + 62.0 * along
    found.append(("CULVERT", np.column_stack((x, y, height(x, y) - 1.85))))
    limit = [(22, 30), (260, 14), (628, 40), (631, 300), (560, 424), (250, 431), (40, 418), (12, 210), (22, 30)]
    found.append(("SITE_LIMIT", np.array([(x, y, 0.0) for x, y in limit])))
    return found


def _runs(line: Floats, there: NDArray[np.bool_]) -> list[Floats]:
    """Return the stretches of a line of at least four vertices that are there."""
    marks = np.flatnonzero(np.diff(np.concatenate(([False], there, [False])).astype(int)))
    return [line[a:b] for a, b in zip(marks[::2], marks[1::2], strict=True) if b - a >= 4]
