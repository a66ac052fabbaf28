"""Labels along contours: where they may be, which of them are put, and those that were moved by hand."""

from __future__ import annotations

import dataclasses
import re
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.errors import CallError
from vastgrid.base.findings import count
from vastgrid.base.progress import Progress
from vastgrid.data.dataset import Floats
from vastgrid.data.linework import Contours, legs
from vastgrid.kernels.lines.labels import placed_labels
from vastgrid.kernels.triangles.crossings import crossings
from vastgrid.params.kinds import Kind, register

# Widths as shares of a label's height: of a digit, of a point, and of the room on both sides together.
DIGIT, POINT, ROOM = 0.68, 0.4, 0.7
# A moved label was this near to where it is said to have been, in heights.
NEAR = 6.0


@dataclass(frozen=True, slots=True)
class Moves:
    """Labels that were moved by hand.

    Attributes
    ----------
    rows : tuple of (float, (float, float), (float, float))
        Level, where the label was, and where it is now.
    """

    rows: tuple[tuple[float, tuple[float, float], tuple[float, float]], ...] = ()

    def __str__(self) -> str:
        return f"{count(len(self.rows), 'label')} moved by hand" if self.rows else "no label moved by hand"

    def then(self, level: float, was: tuple[float, float], now: tuple[float, float], near: float) -> Moves:
        """Return the moves with one more; a label that was moved before is moved on from where it was at first."""
        kept = []
        for row in self.rows:
            if row[0] == level and np.hypot(row[2][0] - was[0], row[2][1] - was[1]) < near:
                was = row[1]
            else:
                kept.append(row)
        return Moves((*kept, (level, was, now)))


_ROW = re.compile(r"\s*(\S+)\s*:\s*(\S+)\s+(\S+)\s*(?:->|→)\s*(\S+)\s+(\S+)\s*")


def _parse(_: Any, word: str) -> Moves:
    rows = []
    for line in re.split(r"[\n;]", word):
        if not line.strip():
            continue
        found = _ROW.fullmatch(line)
        try:
            level, e0, n0, e1, n1 = map(float, found.groups() if found else "x")
        except ValueError:
            raise CallError(f"“{line.strip()}” moves no label; write LEVEL: E N -> E N") from None
        rows.append((level, (e0, n0), (e1, n1)))
    return Moves(tuple(rows))


def _text(moves: Moves) -> str:
    return "\n".join(f"{level!r}: {was[0]!r} {was[1]!r} -> {now[0]!r} {now[1]!r}" for level, was, now in moves.rows)


register(Moves, Kind(_parse, _text, editor="lines", large=True))


class Wish(NamedTuple):
    """How labels are wished for: lengths in the unit of plan."""

    height: float
    decimals: int
    brackets: bool
    first: float
    spacing: float
    ends: bool
    placed: str
    uphill: bool
    every: bool
    shortest: float
    along: Floats | None
    moves: Moves


class Put(NamedTuple):
    """Contours with their labels, and how many found no room."""

    contours: Contours
    left_out: int


def decimals_of(levels: Floats, most: int = 4) -> int:
    """Return how many decimals levels need."""
    for digits in range(most):
        if len(levels) == 0 or np.abs(np.round(levels, digits) - levels).max() < 1e-6:
            return digits
    return most


def labelled(contours: Contours, wish: Wish, progress: Progress) -> Put:
    """Return contours with labels; index contours come first, then those that are between, in their order."""
    along = contours.along()
    lengths = contours.lengths()
    width = _widths(contours, wish)
    wanted = lengths >= max(wish.shortest, 0.0)
    if not wish.every:
        wanted &= contours.index
    moved = _moved(contours, along, wish)
    parts = [
        moved,
        _at_ends(contours, lengths, width, wanted, wish),
        _on_line(contours, along, wanted, wish) if wish.along is not None else _spaced(lengths, wanted, wish),
    ]
    line, at, reach, must = (np.concatenate([part[k] for part in parts]) for k in range(4))
    rank = np.concatenate([np.full(len(part[0]), k) for k, part in enumerate(parts)])
    order = np.lexsort((at, line, ~contours.index[line], rank > 0))
    shunned = np.array([row[1] for row in wish.moves.rows]).reshape(-1, 2)
    of_level = np.array([contours.levels == row[0] for row in wish.moves.rows], np.bool_).reshape(-1, len(contours))
    progress.report(0.3, "placing labels")
    chosen, out = placed_labels(
        contours.plan.copy(),
        contours.offsets.copy(),
        along,
        width,
        wish.height,
        wish.placed == "above",
        wish.uphill,
        line[order].astype(np.int64),
        at[order],
        reach[order],
        must[order].astype(np.bool_),
        shunned,
        of_level,
        NEAR * wish.height,
    )
    own = line[order][chosen].astype(np.int64)
    progress.report(1.0, "placing labels")
    low = contours.depressions() if wish.brackets else np.zeros(len(contours), np.bool_)
    labels: dict[str, NDArray[Any]] = {
        "level": contours.levels[own],
        "line": own,
        "place": out[:, :2].copy(),
        "angle": out[:, 2].copy(),
        "along": out[:, 3].copy(),
        "wide": width[own],
        "gap": width[own] if wish.placed == "gap" else np.zeros(len(own)),
        "brackets": low[own],
    }
    made = dataclasses.replace(contours, labels=labels, label_height=wish.height, label_decimals=wish.decimals)
    return Put(made, len(line) - len(own))


def _widths(contours: Contours, wish: Wish) -> Floats:
    """Return how wide each line's label is."""
    digits = np.char.str_len(np.char.mod(f"%.{wish.decimals}f", contours.levels)) if len(contours) else np.zeros(0)
    wide = (digits - (wish.decimals > 0)) * DIGIT + (wish.decimals > 0) * POINT + ROOM
    if wish.brackets:
        wide = wide + 2 * POINT * contours.depressions()
    return np.asarray(wide * wish.height, np.float64)


Candidates = tuple[NDArray[np.int64], Floats, Floats, NDArray[np.bool_]]


def _spaced(lengths: Floats, wanted: NDArray[np.bool_], wish: Wish) -> Candidates:
    """Return places at a first distance and then at a spacing along each line; on a short line its middle."""
    index = np.flatnonzero(wanted)
    whole = lengths[index]
    number = np.maximum(np.floor((whole - wish.first) / wish.spacing).astype(np.int64) + 1, 1)
    line = np.repeat(index, number)
    nth = np.arange(len(line)) - np.repeat(np.cumsum(number) - number, number)
    first = np.where(whole < wish.first, whole / 2.0, wish.first)
    at = np.repeat(first, number) + nth * wish.spacing
    return line, at, np.full(len(line), 0.4 * wish.spacing), np.zeros(len(line), np.bool_)


def _at_ends(contours: Contours, lengths: Floats, width: Floats, wanted: NDArray[np.bool_], wish: Wish) -> Candidates:
    index = np.flatnonzero(wanted & ~contours.closed()) if wish.ends else np.zeros(0, np.int64)
    half = 0.501 * width[index]
    at = np.concatenate((half, lengths[index] - half))
    return np.concatenate((index, index)), at, np.zeros(len(at)), np.zeros(len(at), np.bool_)


def _on_line(contours: Contours, along: Floats, wanted: NDArray[np.bool_], wish: Wish) -> Candidates:
    """Return the places where contours cross a drawn line."""
    assert wish.along is not None
    start = legs(contours.offsets, len(contours.plan))
    owner = np.searchsorted(contours.offsets, start, side="right") - 1
    start, owner = start[wanted[owner]], owner[wanted[owner]]
    number = len(start)
    a = np.concatenate((contours.plan[start], wish.along[:-1]))
    b = np.concatenate((contours.plan[start + 1], wish.along[1:]))
    pairs, shares = crossings(a, b)
    mixed = (pairs[:, 0] < number) & (pairs[:, 1] >= number)
    leg, share = pairs[mixed, 0], shares[mixed, 0]
    at = along[start[leg]] + np.clip(share, 0.0, 1.0) * (along[start[leg] + 1] - along[start[leg]])
    # A line that goes through a vertex crosses both of its legs.
    key = np.unique(np.column_stack((owner[leg], np.round(at / max(wish.height, 1e-9), 3))), axis=0, return_index=True)[
        1
    ]
    line, at = owner[leg][key], at[key]
    return line, at, np.full(len(line), wish.height), np.zeros(len(line), np.bool_)


def _moved(contours: Contours, along: Floats, wish: Wish) -> Candidates:
    """Return the places of labels that were moved by hand: on the nearest line of their level."""
    line, at = [], []
    start = legs(contours.offsets, len(contours.plan))
    owner = np.searchsorted(contours.offsets, start, side="right") - 1
    for level, _, now in wish.moves.rows:
        own = start[contours.levels[owner] == level]
        if len(own) == 0:
            continue
        a, b = contours.plan[own], contours.plan[own + 1]
        leg = b - a
        square = np.maximum((leg**2).sum(axis=1), 1e-300)
        share = np.clip(((np.array(now) - a) * leg).sum(axis=1) / square, 0.0, 1.0)
        best = int(np.hypot(*(a + share[:, None] * leg - now).T).argmin())
        line.append(int(np.searchsorted(contours.offsets, own[best], side="right") - 1))
        at.append(float(along[own[best]] + share[best] * np.sqrt(square[best])))
    return np.array(line, np.int64), np.array(at), np.zeros(len(at)), np.ones(len(at), np.bool_)
