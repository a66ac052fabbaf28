"""Slopes from a line out to the ground: rays square to the line, as far as the ground, and what they bound.

A slope is a plane through each leg of the line, as steep as was asked square to the leg in plan. At an outer corner the planes
of both legs are carried on until they meet, or a cone goes round it; at an inner corner they end where they meet. Rays lie in
these planes, from the line to where they first meet the ground, which is exact. Between two rays more are put in until the
daylight line keeps within a tolerance of what it would be with one more.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from vastgrid.base import late_shapely as shapely
from vastgrid.base.errors import DataError
from vastgrid.base.progress import Progress
from vastgrid.data.dataset import Floats
from vastgrid.data.tin import Tin
from vastgrid.kernels.triangles.locate import cuts_along
from vastgrid.measures.heights import bucket_index, heights

# Feet of rays stand no nearer to each other than this share of the line's length; so many times a gap is halved at most.
NEAREST, HALVINGS = 1e-6, 12
# The largest angle between neighbouring rays of a round corner.
FAN = math.radians(6.0)
# A line that turns by less has no corner there.
STRAIGHT = math.radians(0.05)


@dataclass(frozen=True, slots=True)
class Slopes:
    """How steep, in units of plan and of height.

    Attributes
    ----------
    cut, fill : float
        Horizontal per one vertical.
    ratio : float
        Height units in a plan unit.
    bench, width : float
        Height between benches, 0 for none, and how wide they are.
    round : bool
        Whether outer corners are round.
    """

    cut: float
    fill: float
    ratio: float
    bench: float
    width: float
    round: bool

    def profile(self, up: bool) -> tuple[Floats, Floats]:
        """Return how high a slope is at distances square to the line, to the farthest that anybody needs."""
        flatness = (self.cut if up else self.fill) / self.ratio
        if self.bench <= 0.0:
            return np.array([0.0, 1.0]), np.array([0.0, 1.0 / flatness])
        rise = self.bench * flatness
        steps = 400
        away = np.cumsum(np.concatenate(([0.0], np.tile([rise, self.width], steps))))
        high = np.cumsum(np.concatenate(([0.0], np.tile([self.bench, 0.0], steps))))
        return away, high


class Ray(NamedTuple):
    """A ray before it is cast.

    Attributes
    ----------
    at : float
        How far along the line its foot is.
    foot : (x, y, z)
    way : (x, y)
        Unit direction in plan.
    normal : (x, y)
        Square to the leg in whose plane it lies.
    long : float
        Rise of the leg per unit along it.
    tangent : (x, y)
    shared : bool
        Whether it lies in the planes of both legs of a corner.
    kept : bool
        Whether it was asked for, and stays where it is not needed for the daylight line.
    """

    at: float
    foot: tuple[float, float, float]
    way: tuple[float, float]
    normal: tuple[float, float]
    long: float
    tangent: tuple[float, float]
    shared: bool = False
    kept: bool = False


@dataclass(slots=True)
class Cast:
    """A ray that was cast.

    Attributes
    ----------
    places : (n, 3) float64
        Foot, benches, end.
    state : str
        “ground” where it meets the ground, “slope” where another slope comes first, “open” where the ground ends before.
    up : bool
        Whether it is a cut.
    """

    ray: Ray
    places: Floats
    state: str
    up: bool

    @property
    def end(self) -> Floats:
        """Where it ends."""
        return np.asarray(self.places[-1], np.float64)


@dataclass(slots=True)
class Side:
    """The rays of one side of a line, in its order, and how many feet lie beside the ground."""

    casts: list[Cast]
    closed: bool
    beside: int = 0


def corner_ray(point: Floats, before: Ray, after: Ray, at: float, spread: float) -> Ray:
    """Return the ray in which the planes of two legs meet.

    Parameters
    ----------
    spread : float
        What a slope rises, signed, per unit square to a leg.
    """
    q = np.array(before.long) * before.tangent - np.array(after.long) * after.tangent
    q = q + spread * (np.array(before.normal) - np.array(after.normal))
    mean = np.array(before.normal) + np.array(after.normal)
    size = float(np.hypot(*q))
    if size < 1e-12:
        way = mean / max(float(np.hypot(*mean)), 1e-300)
    else:
        way = np.array([-q[1], q[0]]) / size
        if way @ mean < 0.0:
            way = -way
    foot = (float(point[0]), float(point[1]), float(point[2]))
    return Ray(at, foot, (float(way[0]), float(way[1])), before.normal, before.long, before.tangent, True)


class Caster:
    """Casts rays from one side of a line."""

    def __init__(self, line: Floats, ground: Tin, slopes: Slopes, side: float, spacing: float = 0.0) -> None:
        self.line, self.ground, self.slopes, self.side, self.spacing = line, ground, slopes, side, spacing
        step = np.diff(line[:, :2], axis=0)
        self.length = np.hypot(*step.T)
        self.total = np.concatenate(([0.0], np.cumsum(self.length)))
        self.tangent = step / self.length[:, None]
        # To the right for a positive side.
        self.normal = side * np.column_stack((self.tangent[:, 1], -self.tangent[:, 0]))
        self.long = np.diff(line[:, 2]) / self.length
        self.closed = bool((line[0, :2] == line[-1, :2]).all())
        self.shape = shapely.LineString(line[:, :2])
        shapely.prepare(self.shape)
        self.index = bucket_index(ground)
        extent = ground.vertices[:, :2]
        self.far = 1.5 * float(np.hypot(*np.ptp(extent, axis=0))) + float(self.total[-1])

    def of_leg(self, leg: int, share: float) -> Ray:
        """Return the ray square to a leg."""
        point = self.line[leg] + share * (self.line[leg + 1] - self.line[leg])
        n, t = self.normal[leg], self.tangent[leg]
        return Ray(
            float(self.total[leg] + share * self.length[leg]),
            (float(point[0]), float(point[1]), float(point[2])),
            (float(n[0]), float(n[1])),
            (float(n[0]), float(n[1])),
            float(self.long[leg]),
            (float(t[0]), float(t[1])),
        )

    def cast(self, ray: Ray, up: bool | None = None) -> Cast | None:
        """Cast a ray to the ground; None where its foot lies beside it.

        Parameters
        ----------
        up : bool or None
            Whether it is a cut; None to see from the ground at its foot.
        """
        x, y, z = ray.foot
        under = float(heights(self.ground, np.array([[x, y]]))[0])
        if not math.isfinite(under):
            return None
        if up is None:
            up = under > z
        if abs(under - z) <= 1e-9 * max(abs(z), 1.0):
            return Cast(ray, np.array([[x, y, z]]), "ground", up)
        if (under > z) != up:
            return Cast(ray, np.array([[x, y, z]]), "ground", up)
        way = np.array(ray.way)
        spread = float(way @ ray.normal)
        sign = 1.0 if up else -1.0
        away, high = self.slopes.profile(up)
        drift = ray.long * float(way @ ray.tangent)

        def slope(t: Floats) -> Floats:
            p = t * spread
            rise = np.interp(p, away, high) + np.maximum(p - away[-1], 0.0) * (high[1] - high[0]) / (away[1] - away[0])
            return np.asarray(z + drift * t + sign * rise, np.float64)

        reach = max(abs(under - z) * (self.slopes.cut if up else self.slopes.fill) / self.slopes.ratio * 3.0, 1e-3)
        hit, end, open_ = math.nan, 0.0, False
        while True:
            reach = min(reach, self.far)
            t, g = self._ground(x, y, way, reach)
            bends = away[(away > 0.0) & (away < reach * spread)] / spread if spread > 0.0 else np.zeros(0)
            stops = np.unique(np.concatenate((t, bends[bends < t[-1]])))
            gap = sign * (slope(stops) - np.interp(stops, t, g))
            below = np.flatnonzero((gap[1:] >= 0.0) & (gap[:-1] < 0.0))
            if len(below):
                k = int(below[0])
                hit = float(stops[k] + gap[k] / (gap[k] - gap[k + 1]) * (stops[k + 1] - stops[k]))
                break
            ended = t[-1] < reach * (1.0 - 1e-9)
            if ended or reach >= self.far:
                end, open_ = float(t[-1]), True
                break
            reach *= 3.0
        end = end if open_ else hit
        trimmed = self._clear(ray, way, spread, end)
        state = "slope" if trimmed < end * (1.0 - 1e-7) else ("open" if open_ else "ground")
        end = min(trimmed, end)
        bends = np.zeros(0)
        if spread > 0.0 and self.slopes.bench > 0.0:
            bends = away[1:][away[1:] < end * spread * (1.0 - 1e-9)] / spread
        stops = np.concatenate(([0.0], bends, [end]))
        return Cast(ray, np.column_stack((x + way[0] * stops, y + way[1] * stops, slope(stops))), state, up)

    def _ground(self, x: float, y: float, way: Floats, reach: float) -> tuple[Floats, Floats]:
        """Return the ground's profile along a ray until it ends."""
        line = np.array([[x, y], [x + way[0] * reach, y + way[1] * reach]])
        met = cuts_along(line, self.ground.vertices, self.ground.triangles, self.index)
        ends = heights(self.ground, line)
        t = np.concatenate(([0.0], met[:, 1] * reach, [reach]))
        g = np.concatenate((ends[:1], met[:, 4], ends[1:]))
        keep = np.isfinite(g) & np.append(True, np.diff(t) > 1e-10 * reach)
        t, g = t[keep], g[keep]
        # The ground ends where nothing lies between two crossings.
        middle = (t[1:] + t[:-1]) / 2.0
        gone = np.isnan(heights(self.ground, np.column_stack((x + way[0] * middle, y + way[1] * middle))))
        if gone.any():
            stop = int(np.flatnonzero(gone)[0]) + 1
            t, g = t[:stop], g[:stop]
        return t, g

    def _clear(self, ray: Ray, way: Floats, spread: float, end: float) -> float:
        """Return how far a ray goes until another part of the line is nearer than its own leg."""
        foot = np.array(ray.foot[:2])

        def nearer(t: float) -> bool:
            own = t * spread
            return float(shapely.distance(self.shape, shapely.Point(foot + way * t))) < own * (1.0 - 1e-7) - 1e-9

        if end <= 0.0 or not any(nearer(end * share) for share in (1.0, 0.5, 0.25, 0.75)):
            return end
        low, high = 0.0, end
        for share in np.linspace(0.0, 1.0, 17)[1:].tolist():
            if nearer(end * share):
                high = end * share
                break
            low = end * share
        for _ in range(50):
            middle = (low + high) / 2.0
            low, high = (low, middle) if nearer(middle) else (middle, high)
        return low


def side_of(caster: Caster, within: float, progress: Progress) -> Side:
    """Cast the rays of one side, as many as keep the daylight line within a tolerance."""
    marks = _marks(caster)
    casts: list[Cast] = []
    beside = 0
    for k, rays in enumerate(marks):
        for ray in rays:
            own = caster.cast(ray)
            if own is None:
                beside += 1
                continue
            if casts:
                casts += _between(caster, casts[-1], own, within, HALVINGS)
            casts.append(own)
        if k % 8 == 0:
            progress.report(k / len(marks), "casting slopes to the ground")
    if not casts:
        raise DataError("the line lies beside the surface")
    return Side(_needed(casts), caster.closed, beside)


def _needed(casts: list[Cast]) -> list[Cast]:
    """Return rays without those that lie between two others in one plane, ending on the straight way between theirs."""
    kept: list[Cast] = []
    waiting: list[Cast] = []
    for k, own in enumerate(casts):
        after = casts[k + 1] if k + 1 < len(casts) else None
        if kept and after is not None and _plain(kept[-1], own) and _plain(own, after):
            waiting.append(own)
            if all(_on_way(each, kept[-1], after) for each in waiting):
                continue
            own = waiting[-1]
        waiting = []
        kept.append(own)
    return kept


def _plain(one: Cast, two: Cast) -> bool:
    alike = not (one.ray.kept or two.ray.kept) and (
        one.ray.way == two.ray.way and one.ray.normal == two.ray.normal and one.state == two.state and one.up == two.up
    )
    return alike and len(one.places) == len(two.places) > 1


def _on_way(own: Cast, one: Cast, two: Cast) -> bool:
    whole = two.end - one.end
    size = max(float(np.hypot(*whole[:2])), 1e-12)
    share = float((own.end - one.end)[:2] @ whole[:2]) / size**2
    return float(np.abs(one.end + share * whole - own.end).max()) < 1e-9 * max(size, 1.0)


def _marks(caster: Caster) -> list[list[Ray]]:
    """Return the rays that have to be: at corners, and where the line comes out of the ground or goes into it."""
    crossings = _crossings(caster)
    marks: list[list[Ray]] = []
    legs = len(caster.length)
    for leg in range(legs):
        marks.append(_at_corner(caster, leg))
        asked = _spaced(caster, leg)
        own = [(share, False) for share in crossings.get(leg, [])] + [(share, True) for share in asked]
        marks += [[caster.of_leg(leg, share)._replace(kept=kept)] for share, kept in sorted(own)]
    marks.append(_at_corner(caster, legs))
    return marks


def _spaced(caster: Caster, leg: int) -> list[float]:
    """Return where on a leg rays were asked for, at a spacing along the line, as shares along it."""
    if caster.spacing <= 0.0:
        return []
    first, last = float(caster.total[leg]), float(caster.total[leg + 1])
    at = np.arange(math.floor(first / caster.spacing) + 1, math.ceil(last / caster.spacing)) * caster.spacing
    return [float(share) for share in (at - first) / (last - first) if 1e-9 < share < 1.0 - 1e-9]


def _crossings(caster: Caster) -> dict[int, list[float]]:
    """Return where each leg passes through the ground, as shares along it."""
    found: dict[int, list[float]] = {}
    line, ground = caster.line, caster.ground
    met = cuts_along(line, ground.vertices, ground.triangles, caster.index)
    own = heights(ground, np.ascontiguousarray(line[:, :2]))
    for leg in range(len(line) - 1):
        mine = met[met[:, 0] == leg]
        share = np.concatenate(([0.0], mine[:, 1], [1.0]))
        g = np.concatenate((own[leg : leg + 1], mine[:, 4], own[leg + 1 : leg + 2]))
        gap = line[leg, 2] + share * (line[leg + 1, 2] - line[leg, 2]) - g
        turn = np.flatnonzero(gap[1:] * gap[:-1] < 0.0)
        shares = share[turn] + gap[turn] / (gap[turn] - gap[turn + 1]) * (share[turn + 1] - share[turn])
        # A step of a vertical wall has no width; a leg is divided here and there, so that nothing between is missed.
        even = np.arange(1, 8) / 8.0
        found[leg] = np.unique(np.concatenate((shares, even))).tolist()
    return found


def _at_corner(caster: Caster, vertex: int) -> list[Ray]:
    legs = len(caster.length)
    if not caster.closed and vertex in (0, legs):
        return [caster.of_leg(0, 0.0) if vertex == 0 else caster.of_leg(legs - 1, 1.0)]
    before, after = caster.of_leg((vertex - 1) % legs, 1.0), caster.of_leg(vertex % legs, 0.0)
    at = float(caster.total[vertex])
    before, after = before._replace(at=at), after._replace(at=at)
    a, b = np.array(before.normal), np.array(after.normal)
    turn = math.atan2(a[0] * b[1] - a[1] * b[0], float(a @ b))
    point = caster.line[vertex]
    under = float(heights(caster.ground, np.array([point[:2]]))[0])
    up = under > point[2]
    away, high = caster.slopes.profile(up)
    spread = (1.0 if up else -1.0) * float((high[1] - high[0]) / (away[1] - away[0]))
    if abs(turn) < STRAIGHT:
        return [before]
    # The normals spread where the bend opens to this side.
    outer = float(np.array(before.tangent) @ b) > 0.0
    meeting = corner_ray(point, before, after, at, spread)
    if not outer:
        return [meeting]
    if not caster.slopes.round:
        # Of a closed line's first corner one half begins it, the other ends it.
        return [before, meeting, after][1 if vertex == 0 else 0 : 2 if vertex == legs else 3]
    steps = max(math.ceil(abs(turn) / FAN), 1)
    fan = []
    for k in range(steps + 1):
        angle = turn * k / steps
        cos, sin = math.cos(angle), math.sin(angle)
        way = (float(cos * a[0] - sin * a[1]), float(sin * a[0] + cos * a[1]))
        long = before.long if k < steps / 2 else after.long
        fan.append(Ray(at, before.foot, way, way, long, (way[1], -way[0])))
    return fan[-1:] if vertex == 0 else fan


def _between(caster: Caster, one: Cast, two: Cast, within: float, depth: int) -> list[Cast]:
    """Return rays between two, until the daylight line keeps within a tolerance."""
    if depth == 0 or (one.up != two.up and len(one.places) > 1 and len(two.places) > 1):
        return []
    middle = _middle(caster, one.ray, two.ray)
    if middle is None:
        return []
    up = one.up if len(one.places) > 1 else two.up
    own = caster.cast(middle, up)
    if own is None:
        return []
    a, b, m = one.end[:2], two.end[:2], own.end[:2]
    chord = b - a
    length = float(np.hypot(*chord))
    off = abs(chord[0] * (m - a)[1] - chord[1] * (m - a)[0]) / length if length > 0.0 else float(np.hypot(*(m - a)))
    if off <= within and one.state == two.state == own.state and depth < HALVINGS - 1:
        return []
    return [*_between(caster, one, own, within, depth - 1), own, *_between(caster, own, two, within, depth - 1)]


def _middle(caster: Caster, one: Ray, two: Ray) -> Ray | None:
    """Return the ray half-way between two."""
    far = two.at - one.at
    if far > NEAREST * float(caster.total[-1]):
        at = (one.at + two.at) / 2.0
        leg = min(max(int(np.searchsorted(caster.total, at, side="right")) - 1, 0), len(caster.length) - 1)
        return caster.of_leg(leg, float((at - caster.total[leg]) / caster.length[leg]))
    way = np.array(one.way) + np.array(two.way)
    size = float(np.hypot(*way))
    if size < 1e-9 or float(np.hypot(*(np.array(one.way) - np.array(two.way)))) < math.radians(0.05):
        return None
    way = way / size
    # A ray of a corner lies in the plane of the leg beside it.
    plain = two if one.shared else one
    if caster.slopes.round:
        return plain._replace(way=(float(way[0]), float(way[1])), normal=(float(way[0]), float(way[1])))
    return plain._replace(way=(float(way[0]), float(way[1])))
