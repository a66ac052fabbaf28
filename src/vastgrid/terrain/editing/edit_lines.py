"""One edit as a line that people write and read."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from vastgrid.base.errors import CallError
from vastgrid.base.quantities import Length, parse_length

Places = tuple[tuple[float, float], ...]


@dataclass(frozen=True, slots=True)
class Edit:
    """One edit as it was read.

    Attributes
    ----------
    word : str
        Which kind.
    places : tuple of (float, float)
        Easting and northing of each place.
    heights : tuple of float or None
        Height at each place, where some are given.
    value : Length or None
        A height, or how much.
    inside : tuple of (float, float)
        The ring inside which it counts.
    """

    word: str
    places: Places = ()
    heights: tuple[float | None, ...] = ()
    value: Length | None = None
    inside: Places = ()

    @property
    def at(self) -> tuple[float, float]:
        """The place that leads to it: its only one, or the middle of its extent."""
        own = self.places or self.inside
        east, north = [e for e, _ in own], [n for _, n in own]
        if len(own) <= 2 and self.word == "move":
            return own[0]
        return (min(east) + max(east)) / 2.0, (min(north) + max(north)) / 2.0

    def line(self) -> str:
        """Return the line that is read back as this."""
        words = [self.word]
        if self.word in ("raise", "level", "even"):
            words.append(length_words(self.value))
        if self.word == "move":
            words += [_pair(self.places[0]), "to", _pair(self.places[1])]
        else:
            heights = self.heights or (None,) * len(self.places)
            words += [
                _pair(p) + ("" if z is None else f",{float(z)!r}") for p, z in zip(self.places, heights, strict=True)
            ]
        if self.word in ("set", "add") and self.value is not None:
            words.append(length_words(self.value))
        if self.inside:
            words += ["inside", *(_pair(p) for p in self.inside)]
        return " ".join(words)


def _pair(place: tuple[float, float]) -> str:
    return f"{float(place[0])!r},{float(place[1])!r}"


def length_words(value: Length | None) -> str:
    """Return a length as it is read back; empty where there is none."""
    return "" if value is None else f"{value.value!r}{value.unit.value if value.unit else ''}"


def _place(word: str) -> tuple[float, float]:
    east, north = (float(part) for part in word.split(","))
    if not (np.isfinite(east) and np.isfinite(north)):
        raise ValueError(word)
    return east, north


def _ring(words: Sequence[str]) -> Places:
    ring = tuple(_place(word) for word in words)
    if len(ring) > 3 and ring[0] == ring[-1]:
        ring = ring[:-1]
    if len(ring) < 3:
        raise CallError("an area needs three corners")
    return ring


def line_or_inside(word: str) -> Callable[[Sequence[str]], Edit]:
    """Return a reader of a line, or of an area."""

    def read(words: Sequence[str]) -> Edit:
        if words and words[0] == "inside":
            return Edit(word, inside=_ring(words[1:]))
        places = tuple(_place(each) for each in words)
        if not places:
            raise ValueError("no place")
        return Edit(word, places)

    return read


def one_place(word: str) -> Callable[[Sequence[str]], Edit]:
    """Return a reader of one place."""

    def read(words: Sequence[str]) -> Edit:
        (place,) = words
        return Edit(word, (_place(place),))

    return read


def place_and_height(word: str, *, open_: bool = False) -> Callable[[Sequence[str]], Edit]:
    """Return a reader of a place and a height."""

    def read(words: Sequence[str]) -> Edit:
        if open_ and len(words) == 1:
            return Edit(word, (_place(words[0]),))
        place, height = words
        return Edit(word, (_place(place),), value=parse_length(height))

    return read


def move(words: Sequence[str]) -> Edit:
    """Read two places."""
    first, to, last = words
    if to != "to":
        raise ValueError(to)
    return Edit("move", (_place(first), _place(last)))


def value_inside(word: str) -> Callable[[Sequence[str]], Edit]:
    """Return a reader of an amount and an area."""

    def read(words: Sequence[str]) -> Edit:
        if words[1] != "inside":
            raise ValueError(words[1])
        return Edit(word, value=parse_length(words[0]), inside=_ring(words[2:]))

    return read


def _triple(word: str) -> tuple[float, float, float | None]:
    parts = [float(part) for part in word.split(",")]
    if len(parts) not in (2, 3) or not all(np.isfinite(parts)):
        raise ValueError(word)
    return parts[0], parts[1], parts[2] if len(parts) == 3 else None


def drawn(words: Sequence[str]) -> Edit:
    """Read places of a line, heights perhaps."""
    rows = [_triple(word) for word in words]
    if len(rows) < 2:
        raise CallError("a line needs two places")
    return Edit("line", tuple((e, n) for e, n, _ in rows), tuple(z for *_, z in rows))


def plane(words: Sequence[str]) -> Edit:
    """Read three places with heights, and an area."""
    at = list(words).index("inside")
    rows = [_triple(word) for word in words[:at]]
    if len(rows) != 3 or any(z is None for *_, z in rows):
        raise CallError("a plane needs three places with heights")
    edit = Edit("plane", tuple((e, n) for e, n, _ in rows), tuple(z for *_, z in rows), inside=_ring(words[at + 1 :]))
    (ax, ay), (bx, by), (cx, cy) = edit.places
    if abs((bx - ax) * (cy - ay) - (by - ay) * (cx - ax)) < 1e-9:
        raise CallError("the three places of a plane lie on one straight line")
    return edit
