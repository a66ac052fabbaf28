"""What a drawing holds, in one table: lines, faces, places and texts, each with what rules can ask for."""

from __future__ import annotations

import re
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from vastgrid.data.dataset import Floats
from vastgrid.formats.dxf.sorting import Items

BYLAYER = 256


Look = tuple[str, str, int, str]
"""What rules can ask of an entity: type, layer, colour, line type."""


class Names:
    """Names numbered in the order in which they come."""

    def __init__(self) -> None:
        self.of: dict[str, int] = {}

    def number(self, name: str) -> int:
        """Return a name's number."""
        return self.of.setdefault(name, len(self.of))

    def all(self) -> tuple[str, ...]:
        """Return the names in their order."""
        return tuple(self.of) or ("",)


@dataclass(slots=True)
class Drawing:
    """A drawing's content: lines, triangles and places, each with the entity it belongs to.

    Attributes
    ----------
    lines : list of (m, 3) float64
        Polylines; a closed one repeats its first vertex.
    corners : list of (m, 3, 3) float64
        Blocks of triangles.
    owners : list of (m,) int64
        For each block, which of the faces' entities a triangle belongs to.
    places : list of (k, 3) float64
        Blocks of points.
    texts : dict of int, str
        What stands at a place, by the number of the point.
    said : dict of int, dict
        What a block says of a point in it: its number, code or description.
    hatches : list of (str, list of (m, 3) float64)
        Areas: the layer, and the closed rings of their boundaries.
    looks : dict of str, list of (k, 4) int64
        Of “lines”, “faces” and “points”: numbers of type, layer, colour and line type of each entity.
    """

    lines: list[Floats] = field(default_factory=list)
    corners: list[Floats] = field(default_factory=list)
    owners: list[NDArray[np.int64]] = field(default_factory=list)
    places: list[Floats] = field(default_factory=list)
    texts: dict[int, str] = field(default_factory=dict)
    said: dict[int, dict[str, str]] = field(default_factory=dict)
    hatches: list[tuple[str, list[Floats]]] = field(default_factory=list)
    looks: dict[str, list[NDArray[np.int64]]] = field(default_factory=lambda: {"lines": [], "faces": [], "points": []})
    types: Names = field(default_factory=Names)
    layers: Names = field(default_factory=Names)
    line_types: Names = field(default_factory=Names)

    def count(self, what: str) -> int:
        """Return how many entities there are of “lines”, “faces” or “points”."""
        return sum(len(block) for block in self.looks[what])

    def look(self, what: str, look: Look) -> None:
        """Add one entity's look."""
        kind, layer, colour, line = look
        row = (self.types.number(kind), self.layers.number(layer), colour, self.line_types.number(line))
        self.looks[what].append(np.array([row], np.int64))

    def table(self, what: str) -> NDArray[np.int64]:
        """Return the looks of all entities of a kind, (k, 4)."""
        return np.concatenate([np.zeros((0, 4), np.int64), *self.looks[what]])

    def faces(self) -> tuple[Floats, NDArray[np.int64]]:
        """Return all triangles and the entity of each."""
        return (
            np.concatenate([np.zeros((0, 3, 3)), *self.corners]),
            np.concatenate([np.zeros(0, np.int64), *self.owners]),
        )

    def points(self) -> Floats:
        """Return all places, (k, 3)."""
        return np.concatenate([np.zeros((0, 3)), *self.places])

    def move(self, by: Floats) -> None:
        """Move everything."""
        self.lines = [line + by for line in self.lines]
        self.hatches = [(layer, [ring + by for ring in rings]) for layer, rings in self.hatches]
        self.corners = [block + by for block in self.corners]
        self.places = [block + by for block in self.places]

    def add_faces(self, triangles: Floats, look: Look) -> None:
        """Add one entity's triangles."""
        self.owners.append(np.full(len(triangles), self.count("faces"), np.int64))
        self.corners.append(triangles)
        self.look("faces", look)

    def add_point(self, place: Floats, look: Look, text: str | None = None) -> None:
        """Add one place, perhaps with the text that stands there."""
        if text is not None:
            self.texts[self.count("points")] = text
        self.places.append(place[None])
        self.look("points", look)

    def items(self) -> Items:
        """Return the table that rules sort: lines first, then faces, then points."""
        rows = np.concatenate([self.table(what) for what in ("lines", "faces", "points")])
        triangles, owner = self.faces()
        places = self.points()
        low = np.full(len(rows), np.inf)
        high = np.full(len(rows), -np.inf)
        number = np.repeat(np.arange(len(self.lines)), [len(line) for line in self.lines])
        z = np.concatenate([np.zeros(0), *(line[:, 2] for line in self.lines)])
        first, last = len(self.lines), len(self.lines) + self.count("faces")
        for index, heights in (
            (number, z),
            (np.repeat(owner + first, 3), triangles[:, :, 2].ravel()),
            (np.arange(last, len(rows)), places[:, 2]),
        ):
            np.minimum.at(low, index, heights)
            np.maximum.at(high, index, heights)
        for k, text in self.texts.items():
            value = text_height(text)
            if value is not None:
                low[last + k] = high[last + k] = value
        names = (self.types.all(), self.layers.all(), self.line_types.all())
        return Items(rows[:, 0], rows[:, 1], rows[:, 2], rows[:, 3], low, high, *names)


# Words that stand before an elevation on plans (common practice); before any other word a number is a name, like R-7.
_HEIGHT_WORDS = "el|elev|elevation|h|hgt|ht|height|z|rl|lvl|level|gl|fgl|egl|fl|ffl|tl|hp|lp|cote|cota|höhe|hoehe|ok|uk"
_HEIGHT = re.compile(
    rf"(?:(?:{_HEIGHT_WORDS})\.?\s*[:=]?\s*|[(\[]\s*)?(?<![A-Za-z])(?P<sign>[+\-−±]?)\s?(?P<number>\d{{1,5}}(?:[.,]\d{{1,4}})?)"
    r"\s*(?:m|ft|')?\s*[)\]]?",
    re.IGNORECASE,
)


def text_height(text: str) -> float | None:
    """Return the elevation that a text says, such as 231.44, +231,44 or “EL 231.44 m”; None where it is no elevation."""
    found = re.fullmatch(_HEIGHT, text.strip())
    if not found:
        return None
    value = float(found["number"].replace(",", "."))
    return -value if found["sign"] in ("-", "−") else value
