"""Polygons that enclose what they mean to: slips are mended by a stated rule, what is ambiguous is refused with its place."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from vastgrid.base import late_shapely as shapely
from vastgrid.base.errors import DataError
from vastgrid.base.findings import Finding, count, left_out
from vastgrid.base.words import place_words
from vastgrid.data.dataset import Floats
from vastgrid.terrain.tin.limits import polygons_of


@dataclass(slots=True)
class _Mended:
    """What was mended, how often, and where first."""

    times: dict[str, int] = field(default_factory=dict)
    at: dict[str, tuple[float, float]] = field(default_factory=dict)

    def add(self, what: str, number: int, at: tuple[float, float]) -> None:
        if number:
            self.times[what] = self.times.get(what, 0) + number
            self.at.setdefault(what, at)


_TOLD = {
    "repeated": ("repeated vertex", "repeated vertices", "dropped"),
    "spike": ("spike", "spikes", "dropped: they enclose nothing"),
    "bow tie": ("rim that crosses itself", "rims that cross themselves", "split where they cross"),
    "twice": ("hole given twice", "holes given twice", "counted once"),
    "hole": ("hole that encloses nothing", "holes that enclose nothing", "dropped"),
}


def sound(
    shapes: NDArray[Any], called: Callable[[int], str], findings: list[Finding]
) -> tuple[NDArray[Any], NDArray[np.int64]]:
    """Return polygons that are valid by OGC 06-103r4, and which of those given each is: what encloses nothing is left out.

    Spikes go, and with them vertices that repeat the one before; a rim that crosses itself is parted at the crossing, each
    part being inside by the even-odd rule; a hole given twice counts once. Each is counted.

    Parameters
    ----------
    shapes : (k,) of shapely Polygon or MultiPolygon
        None empty.
    called : callable
        Number of a shape → what it is called in messages.

    Raises
    ------
    DataError
        If one is invalid in another way, so that nobody can say which ground is meant: holes outside, parts over each other.
    """
    out = np.array(shapes, object)
    bad = ~shapely.is_valid(out)
    mended = _Mended()
    nothing: list[int] = []
    for k in np.flatnonzero(bad).tolist():
        made = _mended(out[k], called(k), mended)
        if made is None:
            nothing.append(k)
        else:
            out[k] = made
    for what, number in mended.times.items():
        one, many, done = _TOLD[what]
        text = f"{count(number, one, many)} {done} (first at {place_words(*mended.at[what])})."
        findings.append(Finding(f"area-{what.replace(' ', '-')}", text, at=mended.at[what]))
    if nothing:
        at = _place(shapes[nothing[0]])
        text = f"{count(len(nothing), 'area')} that {'encloses' if len(nothing) == 1 else 'enclose'} nothing left out (first {called(nothing[0])} at {place_words(*at)})."
        findings.append(left_out("area-empty", text, at=at))
    kept = np.setdiff1d(np.arange(len(out)), nothing)
    return out[kept], kept


def _place(shape: Any) -> tuple[float, float]:
    first = shapely.get_coordinates(shape)[0]
    return float(first[0]), float(first[1])


def _mended(shape: Any, name: str, mended: _Mended) -> Any:
    """Return a valid shape instead of an invalid one; None where it encloses nothing."""
    made: list[Any] = []
    for polygon in polygons_of(shape):
        rim = _rim(_clean(shapely.get_coordinates(polygon.exterior, include_z=True), mended), mended)
        if not rim:
            continue
        made += _with_holes(rim, polygon, name, mended)
    if not made:
        return None
    whole = made[0] if len(made) == 1 else shapely.multipolygons(made)
    if not whole.is_valid:
        at, reason = _reason(whole)
        raise DataError(
            f"{name} is no area that can be used: {reason} at {place_words(*at)}; nobody can say which ground is meant. "
            "Mend it there, or leave it out"
        )
    return whole


def _with_holes(rim: list[Any], polygon: Any, name: str, mended: _Mended) -> list[Any]:
    """Return the parts of a rim with the holes in them."""
    holes: list[Any] = []
    for ring in polygon.interiors:
        xyz = _clean(shapely.get_coordinates(ring, include_z=True), mended)
        parts = _rim(xyz, mended)
        at = _place(ring)
        if not parts:
            mended.add("hole", 1, at)
        for part in parts:
            if any(part.equals(other) for other in holes):
                mended.add("twice", 1, at)
                continue
            holes.append(part)
    inside: list[list[Any]] = [[] for _ in rim]
    for hole in holes:
        owner = next((k for k, part in enumerate(rim) if part.covers(hole)), None)
        if owner is None:
            raise DataError(
                f"{name} is no area that can be used: a hole at {place_words(*_place(hole))} lies outside it, or crosses its rim; "
                "nobody can say which ground is meant. Mend it there, or leave it out"
            )
        inside[owner].append(hole.exterior)
    return [shapely.Polygon(part.exterior, own) if own else part for part, own in zip(rim, inside, strict=True)]


def _clean(xyz: Floats, mended: _Mended) -> Floats:
    """Return a ring without repeated vertices and without spikes: there and back on one line."""
    at = (float(xyz[0, 0]), float(xyz[0, 1]))
    places = [tuple(each) for each in xyz[:-1].tolist()]
    repeated = spikes = k = 0
    while len(places) > 2 and k < len(places):
        a, b, c = places[k - 1], places[k], places[(k + 1) % len(places)]
        same, back = a[:2] == b[:2], _turns_back(a, b, c)
        if not (same or back):
            k += 1
            continue
        at = (b[0], b[1])
        # The two sides of a spike meet in one place, which is no repeated vertex of the file.
        repeated += same and spikes == 0
        spikes += back and not same
        del places[k]
        k = max(k - 2, 0)
    mended.add("repeated", repeated, at)
    mended.add("spike", spikes, at)
    return np.array([*places, places[0]]) if len(places) > 2 else np.zeros((0, 3))


def _turns_back(a: tuple[float, ...], b: tuple[float, ...], c: tuple[float, ...]) -> bool:
    """Return whether the way from b leads back along that to b."""
    u, v = (a[0] - b[0], a[1] - b[1]), (c[0] - b[0], c[1] - b[1])
    across = u[0] * v[1] - u[1] * v[0]
    along = u[0] * v[0] + u[1] * v[1]
    return along > 0.0 and abs(across) <= 1e-12 * along


def _rim(xyz: Floats, mended: _Mended) -> list[Any]:
    """Return what a ring encloses: one polygon, or several where it crosses itself; none where it encloses nothing."""
    if len(xyz) < 4:
        return []
    # Where some have none, heights would keep a ring from closing.
    polygon = shapely.Polygon(xyz if np.isfinite(xyz[:, 2]).all() else xyz[:, :2])
    if polygon.is_valid:
        return [polygon] if polygon.area > 0.0 else []
    at, _ = _reason(polygon)
    parts = [each for each in polygons_of(shapely.make_valid(polygon, method="linework")) if each.area > 0.0]
    if parts:
        mended.add("bow tie", 1, at)
    return parts


def _reason(shape: Any) -> tuple[tuple[float, float], str]:
    said = str(shapely.is_valid_reason(shape))
    found = re.search(r"^(.*?)\[(\S+) (\S+?)[ \]]", said)
    if not found:
        return _place(shape), said.lower()
    return (float(found[2]), float(found[3])), _REASONS.get(found[1], found[1].lower())


_REASONS = {
    "Hole lies outside shell": "a hole lies outside",
    "Holes are nested": "one hole lies in another",
    "Nested shells": "one part lies in another",
    "Self-intersection": "rings cross",
    "Interior is disconnected": "holes part it",
    "Duplicate Rings": "a ring is given twice",
    "Ring Self-intersection": "a ring touches itself",
}
