"""Which points of a cloud are meant: inside an area drawn in plan, beside a section, or as they are seen from somewhere.

A pick is written as people say it, and read back the same::

    inside E,N E,N E,N                            in plan, at any height
    along E,N E,N band 0.5m inside D,Z D,Z D,Z    within the band of a section line, D being the distance along it
    seen from E,N,Z through E,N,Z E,N,Z E,N,Z     in the cone of rays from an eye through the corners of an area
    everywhere

each followed, where that is meant, by ``above Z``, ``below Z`` and ``of 2,5`` (classes). ``also`` and ``less`` join picks.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np

from vastgrid.base.errors import CallError
from vastgrid.base.findings import count
from vastgrid.base.quantities import Length, parse_length
from vastgrid.data.classes import CLASSES
from vastgrid.data.dataset import Flags, Floats
from vastgrid.data.pointset import PointSet
from vastgrid.kernels.triangles.topology import inside_polygon
from vastgrid.measures.section import lengths_along, nearest_along
from vastgrid.terrain.editing.edit_lines import length_words

Corners = tuple[tuple[float, ...], ...]
# How a pick joins those before it.
ALSO, LESS = "also", "less"
_ENDS = ("above", "below", "of")


@dataclass(frozen=True, slots=True)
class Pick:
    """One part of space, and which of the points in it.

    Attributes
    ----------
    corners : tuple of tuples of float
        Of the area: (E, N) in plan, (D, Z) in a section, (E, N, Z) as seen from `eye`; empty for everywhere.
    line : tuple of (float, float)
        The section's line, where it is drawn in one.
    band : Length or None
        How far points may lie from the section's line.
    eye : (float, float, float) or None
        Where it was seen from.
    above, below : Length or None
        Limits of height.
    of : tuple of int
        Only these classes; empty for all.
    """

    corners: Corners = ()
    line: Corners = ()
    band: Length | None = None
    eye: tuple[float, ...] | None = None
    above: Length | None = None
    below: Length | None = None
    of: tuple[int, ...] = ()

    @property
    def at(self) -> tuple[float, float]:
        """The place that leads to it."""
        if self.line:
            line = np.array(self.line)
            middle = float(np.mean([distance for distance, _ in self.corners]))
            total = lengths_along(line)
            return float(np.interp(middle, total, line[:, 0])), float(np.interp(middle, total, line[:, 1]))
        if not self.corners:
            return np.nan, np.nan
        east, north = [each[0] for each in self.corners], [each[1] for each in self.corners]
        return (min(east) + max(east)) / 2.0, (min(north) + max(north)) / 2.0

    def words(self) -> str:
        """Return the words that are read back as this."""
        if self.line:
            words = [
                "along",
                *map(_tuple, self.line),
                "band",
                length_words(self.band),
                "inside",
                *map(_tuple, self.corners),
            ]
        elif self.eye is not None:
            words = ["seen from", _tuple(self.eye), "through", *map(_tuple, self.corners)]
        elif self.corners:
            words = ["inside", *map(_tuple, self.corners)]
        else:
            words = ["everywhere"]
        for word, value in (("above", self.above), ("below", self.below)):
            words += [word, length_words(value)] if value is not None else []
        words += ["of", ",".join(map(str, self.of))] if self.of else []
        return " ".join(words)

    def said(self, unit: str) -> str:
        """Return how people read it; a height without a unit of its own is in `unit`."""
        east, north = self.at
        about = f"about E {east:.1f}, N {north:.1f}"
        if self.line:
            text = f"in {count(len(self.corners), 'corner')} of a section {about}"
        elif self.eye is not None:
            text = f"in {count(len(self.corners), 'corner')} seen in 3D {about}"
        elif self.corners:
            text = f"inside {count(len(self.corners), 'corner')} {about}"
        else:
            text = "everywhere"
        for word, value in (("above", self.above), ("below", self.below)):
            if value is not None:
                text += f", {word} {value.value:.2f}{' ' + value.unit.value if value.unit else unit}"
        return text + (f", of class {', '.join(map(str, self.of))}" if self.of else "")


# Picks with how each joins those before it; the first always adds.
Picks = tuple[tuple[str, Pick], ...]


def words_of(picks: Picks) -> str:
    """Return the words of picks in a row."""
    return " ".join(pick.words() if k == 0 else f"{how} {pick.words()}" for k, (how, pick) in enumerate(picks))


def words_of_point(place: Floats, half: float, above: float | None, below: float | None) -> str:
    """Return the words that mean one point (≥ 2,): a square of twice `half` in plan, between two heights.

    Measured again, the point may stand a little otherwise, so there has to be room around it.
    """
    east, north = float(place[0]), float(place[1])
    ring = tuple((east + x * half, north + y * half) for x, y in ((-1, -1), (1, -1), (1, 1), (-1, 1)))
    low, high = (Length(round(each, 4)) if each is not None else None for each in (above, below))
    return Pick(ring, above=low, below=high).words()


def said_of(picks: Picks, unit: str) -> str:
    """Return picks in a row as people read them."""
    words = {ALSO: "and", LESS: "but not"}
    return " ".join(
        pick.said(unit) if k == 0 else f"{words[how]} {pick.said(unit)}" for k, (how, pick) in enumerate(picks)
    )


def read_picks(words: Sequence[str]) -> Picks:
    """Return picks from their words.

    Raises
    ------
    CallError, ValueError
        If they are none.
    """
    found: list[tuple[str, Pick]] = []
    how, rest = ALSO, list(words)
    while True:
        cut = next((k for k, word in enumerate(rest) if word in (ALSO, LESS)), len(rest))
        found.append((how, _read(rest[:cut])))
        if cut == len(rest):
            return tuple(found)
        how, rest = rest[cut], rest[cut + 1 :]


def _read(words: list[str]) -> Pick:
    end = next((k for k, word in enumerate(words) if word in _ENDS), len(words))
    limits = _limits(words[end:])
    own = words[:end]
    if own == ["everywhere"]:
        return Pick(**limits)  # type: ignore[arg-type]
    if own and own[0] == "inside":
        return Pick(_ring(own[1:], 2), **limits)  # type: ignore[arg-type]
    if own and own[0] == "along":
        band, inside = own.index("band"), own.index("inside")
        line = tuple(_numbers(word, 2) for word in own[1:band])
        if len(line) < 2 or inside != band + 2:
            raise CallError("a section needs a line of two places and one band")
        width = parse_length(own[band + 1])
        if width.value <= 0:
            raise CallError("a band has to be wider than nothing")
        return Pick(_ring(own[inside + 1 :], 2), line, width, **limits)  # type: ignore[arg-type]
    if own[:2] == ["seen", "from"]:
        if own[3] != "through":
            raise ValueError(own[3])
        eye = _numbers(own[2], 3)
        pick = Pick(_ring(own[4:], 3), eye=eye, **limits)  # type: ignore[arg-type]
        _rays(pick)
        return pick
    raise CallError("points are picked “inside”, “along”, “seen from” or “everywhere”")


def _limits(words: list[str]) -> dict[str, object]:
    found: dict[str, object] = {}
    for k in range(0, len(words), 2):
        word, value = words[k], words[k + 1]
        if word == "of":
            codes = tuple(int(code) for code in value.split(","))
            if not all(0 <= code <= 255 for code in codes):
                raise CallError("classes are 0 to 255")
            found["of"] = codes
        elif word in _ENDS:
            found[word] = parse_length(value)
        else:
            raise ValueError(word)
    return found


def _numbers(word: str, size: int) -> tuple[float, ...]:
    numbers = tuple(float(part) for part in word.split(","))
    if len(numbers) != size or not np.isfinite(numbers).all():
        raise ValueError(word)
    return numbers


def _ring(words: Sequence[str], size: int) -> Corners:
    ring = tuple(_numbers(word, size) for word in words)
    if len(ring) > 3 and ring[0] == ring[-1]:
        ring = ring[:-1]
    if len(ring) < 3:
        raise CallError("an area needs three corners")
    return ring


def _tuple(numbers: Iterable[float]) -> str:
    return ",".join(repr(float(each)) for each in numbers)


# ------------------------------------------------------------------------------------------------ finding points


def picked(points: PointSet, picks: Picks, classes: Floats | None = None) -> Flags:
    """Return which points are meant, (n,) bool.

    Parameters
    ----------
    classes : (n,) array or None
        Class of each point, where it is not the one in its attributes.

    Raises
    ------
    CallError
        If a height has a unit and that of the points is unknown.
    """
    own = classes if classes is not None else points.attributes.get(CLASSES)
    chosen = np.zeros(len(points.xyz), np.bool_)
    for how, pick in picks:
        if how == LESS:
            chosen &= ~_meant(points, pick, own)
        else:
            chosen |= _meant(points, pick, own)
    return chosen


def _meant(points: PointSet, pick: Pick, classes: Floats | None) -> Flags:
    xyz = points.xyz
    chosen: Flags = np.asarray(np.isfinite(xyz).all(axis=1))
    for value, sign in ((pick.above, 1.0), (pick.below, -1.0)):
        if value is not None:
            limit = value.in_unit(points.frame.vertical, "height")
            # As they are written: a limit that was read off a point means that point too.
            chosen &= (xyz[:, 2] - limit) * sign >= 0.0
    if pick.of:
        chosen &= np.isin(classes, pick.of) if classes is not None else (0 in pick.of)
    if pick.line:
        _beside(points, pick, chosen)
    elif pick.eye is not None:
        _seen(xyz, pick, chosen)
    elif pick.corners:
        _inside(xyz[:, 0], xyz[:, 1], np.array(pick.corners), chosen)
    return chosen


def _inside(x: Floats, y: Floats, ring: Floats, chosen: Flags) -> None:
    """Let go of what lies outside a ring; only what lies in its box is looked at closely."""
    (west, south), (east, north) = ring.min(axis=0), ring.max(axis=0)
    chosen &= (x >= west) & (x <= east) & (y >= south) & (y <= north)
    near = np.flatnonzero(chosen)
    # Beside each other, so that nothing is lost to the size of coordinates.
    closed = np.ascontiguousarray(np.vstack((ring, ring[:1])) - ring[0])
    chosen[near] = inside_polygon(x[near] - ring[0, 0], y[near] - ring[0, 1], closed)


def _beside(points: PointSet, pick: Pick, chosen: Flags) -> None:
    assert pick.band is not None
    band = pick.band.in_unit(points.frame.horizontal, "band")
    line = np.array(pick.line)
    low, high = line.min(axis=0) - band, line.max(axis=0) + band
    chosen &= ((points.xyz[:, :2] >= low) & (points.xyz[:, :2] <= high)).all(axis=1)
    near = np.flatnonzero(chosen)
    along = nearest_along(points.xyz[near], line, band)
    chosen[near] = np.isfinite(along)
    own = np.zeros(len(chosen))
    own[near] = along
    _inside(own, points.xyz[:, 2], np.array(pick.corners), chosen)


def _rays(pick: Pick) -> tuple[Floats, Floats]:
    """Return three axes, the last into the middle of the corners, (3, 3), and the corners on the plane one unit ahead, (n, 2).

    Raises
    ------
    CallError
        If the corners do not lie on one side of the eye.
    """
    rays = np.array(pick.corners) - np.array(pick.eye)
    size = np.linalg.norm(rays, axis=1)
    if (size == 0).any():
        raise CallError("a corner lies in the eye")
    ahead = (rays / size[:, None]).mean(axis=0)
    if np.linalg.norm(ahead) < 1e-9:
        raise CallError("the corners lie around the eye")
    ahead /= np.linalg.norm(ahead)
    aside = np.cross(ahead, (0.0, 0.0, 1.0) if abs(ahead[2]) < 0.9 else (0.0, 1.0, 0.0))
    aside /= np.linalg.norm(aside)
    axes = np.array((aside, np.cross(aside, ahead), ahead))
    turned = rays @ axes.T
    if (turned[:, 2] <= 0.0).any():
        raise CallError("the corners do not all lie ahead of the eye")
    return axes, turned[:, :2] / turned[:, 2:]


def _seen(xyz: Floats, pick: Pick, chosen: Flags) -> None:
    axes, ring = _rays(pick)
    near = np.flatnonzero(chosen)
    turned = (xyz[near] - np.array(pick.eye)) @ axes.T
    front = turned[:, 2] > 0.0
    chosen[near[~front]] = False
    near, turned = near[front], turned[front]
    flat = turned[:, :2] / turned[:, 2:]
    inside = np.ones(len(near), np.bool_)
    _inside(flat[:, 0], flat[:, 1], ring, inside)
    chosen[near] = inside
