"""Geometry of alignments: curves and spirals as chords, and heights along a profile."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from vastgrid.base.findings import Finding
from vastgrid.data.dataset import Floats

MOST = 20_000


def drawn(elements: list[dict[str, Any]], chord: float, name: str, findings: list[Finding]) -> Floats:
    """Return geometry elements as one line, (n, 3); elevation NaN where the elements have none.

    Parameters
    ----------
    elements : list of dict
        Each with ``kind`` (line, curve, spiral, course) and its places as [E, N] or [E, N, Z].
    chord : float
        Largest distance of a chord from the curve it stands for.
    """
    parts: list[Floats] = []
    for element in elements:
        part = _DRAWN[element["kind"]](element, chord)
        if element["kind"] == "spiral" and len(part) > 1:
            gap = float(np.hypot(*(part[-1, :2] - np.array(element["end"][:2]))))
            if gap > max(10.0 * chord, 1e-3 * float(element["length"])):
                text = (
                    f"A spiral of {name} ends {gap:.3f} beside the end that the file gives; it was drawn to that end."
                )
                findings.append(Finding("spiral-gap", text, at=(float(part[-1, 0]), float(part[-1, 1]))))
            # What is left after integration is spread along the spiral, so that the course stays closed.
            share = np.linspace(0.0, 1.0, len(part))[:, None]
            part[:, :2] += share * (np.array(element["end"][:2]) - part[-1, :2])
        if len(part):
            parts.append(part if not parts or (part[0, :2] != parts[-1][-1, :2]).any() else part[1:])
    return np.concatenate(parts) if parts else np.zeros((0, 3))


def _place(place: list[float]) -> Floats:
    return np.array([place[0], place[1], place[2] if len(place) > 2 else math.nan], np.float64)


def _line(element: dict[str, Any], _chord: float) -> Floats:
    return np.array([_place(element["start"]), _place(element["end"])])


def _course(element: dict[str, Any], _chord: float) -> Floats:
    return np.array([_place(place) for place in element["points"]]).reshape(-1, 3)


def _curve(element: dict[str, Any], chord: float) -> Floats:
    start, end, centre = (_place(element[key]) for key in ("start", "end", "centre"))
    radius = float(np.hypot(*(start - centre)[:2]))
    first = math.atan2(start[1] - centre[1], start[0] - centre[0])
    last = math.atan2(end[1] - centre[1], end[0] - centre[0])
    turn = (first - last) if element["rot"] == "cw" else (last - first)
    turn %= 2.0 * math.pi
    if turn < 1e-12:
        turn = 2.0 * math.pi
    if radius == 0.0:
        return np.array([start, end])
    step = 2.0 * math.acos(max(1.0 - chord / radius, -0.5))
    pieces = min(max(math.ceil(turn / max(step, 1e-9)), 2), MOST)
    share = np.linspace(0.0, 1.0, pieces + 1)
    angle = first + (-turn if element["rot"] == "cw" else turn) * share
    z = start[2] + share * (end[2] - start[2])
    line = np.column_stack((centre[0] + radius * np.cos(angle), centre[1] + radius * np.sin(angle), z))
    line[0], line[-1] = start, end
    return line


# How curvature grows along a spiral, as share of the way → share of the change.
_GROWTH = {
    "bloss": lambda t: t * t * (3.0 - 2.0 * t),
    "sinusoid": lambda t: t - np.sin(2.0 * np.pi * t) / (2.0 * np.pi),
    "sinehalfwave": lambda t: (1.0 - np.cos(np.pi * t)) / 2.0,
    "cosine": lambda t: (1.0 - np.cos(np.pi * t)) / 2.0,
    "biquadratic": lambda t: np.where(t < 0.5, 2.0 * t * t, 1.0 - 2.0 * (1.0 - t) ** 2),
}


def _spiral(element: dict[str, Any], chord: float) -> Floats:
    """Draw a spiral: the direction is the integral of the curvature, the course that of the direction.

    A clothoid's curvature grows evenly along it; what else the standard names follows its own growth, and what is
    not known here (cubic parabolas among it) is drawn as a clothoid.
    """
    start, end, length = _place(element["start"]), _place(element["end"]), float(element["length"])
    one, other = (0.0 if not r else 1.0 / r for r in (element["radius_start"], element["radius_end"]))
    sign = -1.0 if element["rot"] == "cw" else 1.0
    if "pi" in element:
        pi = _place(element["pi"])
        direction = math.atan2(pi[1] - start[1], pi[0] - start[0])
    else:
        direction = math.atan2(end[1] - start[1], end[0] - start[0])
    most = max(abs(one), abs(other), 1e-9)
    pieces = min(max(math.ceil(length / math.sqrt(8.0 * max(chord, 1e-6) / most)), 4), MOST)
    fine = 16
    t = np.linspace(0.0, 1.0, pieces * fine + 1)
    growth = _GROWTH.get(str(element.get("spiral", "")).lower(), lambda share: share)(t)
    curvature = sign * (one + (other - one) * growth)
    step = length / (pieces * fine)
    heading = direction + _running(curvature, step)
    x, y = start[0] + _running(np.cos(heading), step), start[1] + _running(np.sin(heading), step)
    z = start[2] + t * (end[2] - start[2])
    return np.ascontiguousarray(np.column_stack((x, y, z))[::fine])


def _running(values: Floats, step: float) -> Floats:
    """Return the integral up to each place, by the trapezoid rule."""
    return np.concatenate(([0.0], np.cumsum((values[1:] + values[:-1]) * (step / 2.0))))


_DRAWN = {"line": _line, "curve": _curve, "spiral": _spiral, "course": _course}


def with_profile(line: Floats, station: float, profile: list[dict[str, Any]], chord: float) -> Floats:
    """Return a line with the heights of a profile, NaN before its first and after its last point.

    Vertices are added where grades change, and along vertical curves.

    Parameters
    ----------
    line : (n, 3) float64
        The course.
    station : float
        Station of its beginning.
    profile : list of dict
        Points of vertical intersection in order: ``station``, ``elevation`` and, for vertical curves, ``kind``
        (parabola, two parabolas, circle) with ``length``, ``length_in`` and ``length_out``, or ``radius``.
    chord : float
        Largest vertical distance of a chord from the curve it stands for.
    """
    along = station + np.concatenate(([0.0], np.cumsum(np.hypot(*np.diff(line[:, :2], axis=0).T))))
    more = _profile_stations(profile, chord)
    stations = np.union1d(along, more[(more > along[0]) & (more < along[-1])])
    # Stations that lie closer than a rounding are one.
    stations = stations[np.concatenate(([True], np.diff(stations) > 1e-9 * (1.0 + abs(along[-1]))))]
    plan = [np.interp(stations, along, line[:, k]) for k in (0, 1)]
    return np.column_stack((*plan, profile_heights(stations, profile)))


def _profile_stations(profile: list[dict[str, Any]], chord: float) -> Floats:
    """Return the stations at which a profile has to be drawn: its intersections, and along its curves."""
    found = [float(pvi["station"]) for pvi in profile]
    for before, pvi, after in zip(profile, profile[1:], profile[2:], strict=False):
        s = float(pvi["station"])
        one, two = s - float(before["station"]), float(after["station"]) - s
        if one <= 0.0 or two <= 0.0:
            continue
        bend = abs((after["elevation"] - pvi["elevation"]) / two - (pvi["elevation"] - before["elevation"]) / one)
        into = float(pvi.get("length_in", pvi.get("length", 0.0) / 2.0))
        beyond = float(pvi.get("length_out", pvi.get("length", 0.0) / 2.0))
        if pvi.get("kind") == "circle" and pvi.get("radius"):
            into = beyond = abs(float(pvi["radius"])) * bend / 2.0
        if into > 0.0 and beyond > 0.0:
            # The rise of a parabola over its chord is length × bend / 8 for the whole of it.
            pieces = min(max(math.ceil(math.sqrt((into + beyond) * bend / (8.0 * max(chord, 1e-6)))), 2), MOST)
            found += np.linspace(s - into, s, pieces + 1).tolist() + np.linspace(s, s + beyond, pieces + 1).tolist()
    return np.array(found, np.float64)


def profile_heights(stations: Floats, profile: list[dict[str, Any]]) -> Floats:
    """Return the heights of a profile at stations, (n,) float64; see `with_profile`."""
    if len(profile) == 0:
        return np.full(len(stations), np.nan)
    s = np.array([pvi["station"] for pvi in profile], np.float64)
    z = np.array([pvi["elevation"] for pvi in profile], np.float64)
    out = np.interp(stations, s, z, left=np.nan, right=np.nan)
    for k in range(1, len(profile) - 1):
        if s[k] <= s[k - 1] or s[k + 1] <= s[k]:
            continue
        before, after = (z[k] - z[k - 1]) / (s[k] - s[k - 1]), (z[k + 1] - z[k]) / (s[k + 1] - s[k])
        pvi = profile[k]
        if pvi.get("kind") == "circle" and pvi.get("radius"):
            _circle(stations, out, float(s[k]), float(z[k]), float(before), float(after), abs(float(pvi["radius"])))
            continue
        into = float(pvi.get("length_in", pvi.get("length", 0.0) / 2.0))
        beyond = float(pvi.get("length_out", pvi.get("length", 0.0) / 2.0))
        if into <= 0.0 or beyond <= 0.0:
            continue
        # Both parabolas touch the tangents and meet at the intersection with the offset m.
        m = (after - before) * into * beyond / (2.0 * (into + beyond))
        near = (stations >= s[k] - into) & (stations <= s[k])
        out[near] = z[k] + before * (stations[near] - s[k]) + m * ((stations[near] - s[k] + into) / into) ** 2
        far = (stations > s[k]) & (stations <= s[k] + beyond)
        out[far] = z[k] + after * (stations[far] - s[k]) + m * ((s[k] + beyond - stations[far]) / beyond) ** 2
    return out


def _circle(stations: Floats, out: Floats, s: float, z: float, before: float, after: float, radius: float) -> None:
    one, other = math.atan(before), math.atan(after)
    if one == other:
        return
    sag = 1.0 if other > one else -1.0
    tangent = radius * math.tan(abs(other - one) / 2.0)
    begin, end = s - tangent * math.cos(one), s + tangent * math.cos(other)
    centre = (begin - sag * radius * math.sin(one), z - tangent * math.sin(one) + sag * radius * math.cos(one))
    own = (stations >= begin) & (stations <= end)
    out[own] = centre[1] - sag * np.sqrt(np.maximum(radius**2 - (stations[own] - centre[0]) ** 2, 0.0))
