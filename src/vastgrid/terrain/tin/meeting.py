"""Where lines meet lines or points: one height by a stated rule, and how far what was given lies from it."""

from __future__ import annotations

from dataclasses import dataclass, field
from enum import Enum

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.findings import Finding, Remedy, Severity, count, note
from vastgrid.base.quantities import unit_word
from vastgrid.base.words import gap_words, place_words, spaced
from vastgrid.data.dataset import Floats
from vastgrid.data.frame import Frame
from vastgrid.kernels.triangles import topology
from vastgrid.kernels.triangles.crossings import on_segments
from vastgrid.kernels.triangles.triangulate import along_edges


class Meeting(Enum):
    """Which height counts where several meet at one place."""

    MEAN = "mean"
    FIRST = "first"
    LAST = "last"
    HIGHEST = "highest"
    LOWEST = "lowest"


RULE = {
    Meeting.MEAN: topology.MEAN,
    Meeting.FIRST: topology.FIRST,
    Meeting.LAST: topology.LAST,
    Meeting.HIGHEST: topology.HIGHEST,
    Meeting.LOWEST: topology.LOWEST,
}


@dataclass(slots=True)
class Met:
    """Where lines meet other lines or points on the way, by which rule, and how far what was given lies from it."""

    rule: Meeting
    gaps: list[float] = field(default_factory=list)
    at: list[tuple[float, float]] = field(default_factory=list)
    places: dict[str, int] = field(default_factory=lambda: {"crossing": 0, "meeting": 0})
    different: dict[str, int] = field(default_factory=lambda: {"crossing": 0, "meeting": 0})
    worst: dict[str, tuple[float, tuple[float, float]]] = field(default_factory=dict)
    all_different: list[tuple[float, tuple[float, float]]] = field(default_factory=list)

    def choose(self, kind: str, values: list[float], orders: list[int], xy: tuple[float, float]) -> float:
        """Return the height that counts of those given at one place, and remember how far apart they are."""
        height = _chosen(values, orders, self.rule)
        spread = max(values) - min(values)
        self.places[kind] += 1
        if spread > 1e-6:
            self.different[kind] += 1
            self.all_different.append((spread, xy))
            self.gaps += [height - value for value in values]
            self.at += [xy] * len(values)
            if spread > self.worst.get(kind, (0.0, xy))[0]:
                self.worst[kind] = (spread, xy)
        return height

    def findings(self, frame: Frame) -> list[Finding]:
        """Say it."""
        found = []
        unit = unit_word(frame.vertical)
        for kind, code, what in (
            ("crossing", "crossing-breaklines", "Breaklines cross at {}"),
            ("meeting", "touching-breaklines", "Breaklines end on, run along or pass through others or points at {}"),
        ):
            if not self.places[kind]:
                continue
            text = what.format(count(self.places[kind], "place"))
            differ = self.different[kind]
            if not differ:
                found.append(note(code, f"{text}, with the same height on both."))
                continue
            spread, at = self.worst[kind]
            text += (
                f"; at {spaced(differ)} with different heights, at most {gap_words(spread)}{unit} apart ({place_words(at[0], at[1])}); "
                f"the {self.rule.value} counts."
            )
            found.append(undecided(code, text, at, self.rule, "crossings"))
        return found

    def refusal(self, frame: Frame) -> str:
        """Return every place where heights differ, as the reason why nothing is made."""
        unit = unit_word(frame.vertical)
        each = [f"{place_words(at[0], at[1])} ({gap_words(spread)}{unit} apart)" for spread, at in self.all_different]
        shown = "; ".join(each[:200])
        more = f"; and {spaced(len(each) - 200)} more" if len(each) > 200 else ""
        return f"breaklines cross or meet with different heights at {count(len(each), 'place')}: {shown}{more}"


def undecided(code: str, text: str, at: tuple[float, float], rule: Meeting, field: str) -> Finding:
    """Return that heights differ: a warning with a way out while they are averaged, a note once people said which counts."""
    if rule is not Meeting.MEAN:
        return note(code, text, at)
    remedy = Remedy("words", "Use the last one given", {field: Meeting.LAST.value})
    return Finding(code, text, Severity.WARNING, at, remedy)


def _chosen(values: list[float], orders: list[int], rule: Meeting) -> float:
    choices = {
        Meeting.MEAN: sum(values) / len(values),
        Meeting.FIRST: values[orders.index(min(orders))],
        Meeting.LAST: values[orders.index(max(orders))],
        Meeting.HIGHEST: max(values),
        Meeting.LOWEST: min(values),
    }
    return choices[rule]


def meet(
    places: Floats,
    group: NDArray[np.int32],
    edges: NDArray[np.int64],
    order: NDArray[np.int64],
    tolerance: float,
    met: Met,
) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Part edges at places that lie on them, and give those places one height by the rule; heights change in place."""
    if len(edges) == 0:
        return edges, order
    pairs, shares = on_segments(places, places[edges[:, 0]], places[edges[:, 1]], max(tolerance, 1e-12))
    if len(pairs) == 0:
        return edges, order
    first = np.full(len(places), np.iinfo(np.int64).max)
    last = np.full(len(places), -1)
    np.minimum.at(first, group, np.arange(len(group)))
    np.maximum.at(last, group, np.arange(len(group)))
    ends = places[edges[pairs[:, 1]], 2]
    along = ends[:, 0] + shares * (ends[:, 1] - ends[:, 0])
    by_place = np.argsort(pairs[:, 0], kind="stable")
    borders = np.flatnonzero(np.diff(pairs[by_place, 0])) + 1
    own = last if met.rule is Meeting.LAST else first
    heights = {}
    for rows in np.split(by_place, borders):
        place = int(pairs[rows[0], 0])
        values = [float(places[place, 2]), *along[rows].tolist()]
        orders = [int(own[place]), *order[pairs[rows, 1]].tolist()]
        xy = (float(places[place, 0]), float(places[place, 1]))
        heights[place] = met.choose("meeting", values, orders, xy)
    for place, height in heights.items():
        places[place, 2] = height
    pieces, of_edge = along_edges(edges, pairs, shares)
    return once_in_order(pieces, order[of_edge])


def height_along(places: Floats, edge: NDArray[np.int64], xy: Floats) -> float:
    """Return the height of an edge, a pair of places, beside a place in plan."""
    a, b = places[edge[0]], places[edge[1]]
    along = b[:2] - a[:2]
    share = float(np.dot(xy - a[:2], along) / np.dot(along, along))
    return float(a[2] + share * (b[2] - a[2]))


def once_in_order(edges: NDArray[np.int64], order: NDArray[np.int64]) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Return edges each once, with where in the inputs each came first; those that lead nowhere go."""
    real = edges[:, 0] != edges[:, 1]
    edges, order = np.sort(edges[real], axis=1), order[real]
    if len(edges) == 0:
        return edges, order
    # Orders rise, so the first of equal edges is the one that came first.
    by_order = np.argsort(order, kind="stable")
    edges, order = edges[by_order], order[by_order]
    once, first = np.unique(edges, axis=0, return_index=True)
    return once, order[first]
