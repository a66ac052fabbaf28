"""What contours are made by: level lines, smoother or sparser ones that never cross, and what of them lies in flat ground."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.progress import Progress
from vastgrid.data.dataset import Flags, Floats
from vastgrid.data.grid import Grid
from vastgrid.data.linework import closed_lines, legs, line_lengths
from vastgrid.data.tin import Tin, rim
from vastgrid.kernels.lines.chains import lattice_rim
from vastgrid.kernels.lines.gridlines import grid_isolines
from vastgrid.kernels.lines.isolines import isolines, undoubled
from vastgrid.kernels.lines.smoothing import crossed, densified, lowered, mean_along, swept, weeded
from vastgrid.measures.heights import gradients

# So often what comes too near is moved half the way back; then it goes back at once, and at last its whole line.
HALVINGS, RETURNS = 4, 12
# Over so many places beside it, a line turns from where it is free to where it had to go back.
TAPER = 10
# Vertices of smoothed lines that lie nearer to the straight way than this share of a usual leg go again.
NEEDED = 0.03


class Lines(NamedTuple):
    """Level lines: vertices in plan (n, 2), where each line begins (k + 1,), and which level each has (k,)."""

    plan: Floats
    offsets: NDArray[np.int64]
    which: NDArray[np.int64]

    def closed(self) -> Flags:
        """Return which lines end where they began."""
        return closed_lines(self.plan, self.offsets)

    def lengths(self) -> Floats:
        """Return each line's length."""
        return line_lengths(self.plan, self.offsets)

    def chosen(self, keep: Flags) -> Lines:
        """Return some of the lines."""
        size = np.diff(self.offsets)
        starts = np.concatenate(([0], np.cumsum(size[keep])))
        return Lines(self.plan[np.repeat(keep, size)], starts, self.which[keep])


def level_lines(surface: Tin | Grid, levels: Floats) -> Lines:
    """Return a surface's level lines, higher ground on their left.

    A grid is followed between its own centres, without a triangulation that would add kinks.
    """
    if isinstance(surface, Grid):
        west, north = surface.west + surface.dx / 2.0, surface.north - surface.dy / 2.0
        return Lines(*undoubled(*grid_isolines(surface.heights, west, north, surface.dx, surface.dy, levels)))
    return Lines(*undoubled(*isolines(surface.vertices, surface.triangles, surface.edges_across, levels)))


@dataclass(frozen=True, slots=True)
class Clear:
    """What lines must stay clear of.

    Attributes
    ----------
    a, b : (m, 2) float64
        Ends of segments that none may cross: lines half-way between the levels, and the rim of the surface.
    held : (k, 2) float64
        Places that none may pass, in the order of cells; empty where lines are free.
    """

    a: Floats
    b: Floats
    held: Floats


def clear_of(surface: Tin | Grid, levels: Floats, *, held: bool) -> Clear:
    """Return what keeps the lines of some levels apart: half-way between two levels none of either comes."""
    middle = between(levels)
    found = level_lines(surface, middle)
    start = legs(found.offsets, len(found.plan))
    ends = _rim(surface)
    a, b = np.concatenate((found.plan[start], ends[0])), np.concatenate((found.plan[start + 1], ends[1]))
    places = np.zeros((0, 2))
    if held:
        xyz = surface.coordinates()
        # A place exactly on a level has the line on it, which is held by itself.
        places = np.ascontiguousarray(xyz[np.isfinite(xyz[:, 2]), :2])
    return Clear(a, b, places)


def between(levels: Floats) -> Floats:
    """Return the heights half-way between neighbouring levels, and as far beyond the lowest and the highest."""
    if len(levels) < 2:
        return np.zeros(0)
    middle = (levels[1:] + levels[:-1]) / 2.0
    return np.concatenate(([2.0 * levels[0] - middle[0]], middle, [2.0 * levels[-1] - middle[-1]]))


def _rim(surface: Tin | Grid) -> tuple[Floats, Floats]:
    if isinstance(surface, Grid):
        pairs = lattice_rim(surface.heights)
        row, column = np.divmod(pairs, surface.columns)
        xy = np.stack((surface.eastings()[column], surface.northings()[row]), axis=-1)
        return np.ascontiguousarray(xy[:, 0]), np.ascontiguousarray(xy[:, 1])
    edges = rim(surface)[:, :, :2]
    return np.ascontiguousarray(edges[:, 0]), np.ascontiguousarray(edges[:, 1])


def smoothed(lines: Lines, strengths: Sequence[float], clear: Clear, progress: Progress) -> tuple[Lines, float]:
    """Return lines made smoother, and along which share of them they had to stay nearer to what they were.

    Places are put between the vertices and moved to a weighted mean along the line, twice: the second time by what the
    first has taken away, so that bends are rounded and rings do not shrink. Wherever a line would cross another or what it
    must stay clear of, it goes back until it does not, to what the next lower strength has made of it; ends of open lines
    stay.

    Parameters
    ----------
    strengths : sequence of float
        How far along the line the mean reaches, in usual legs: one strength after the other, the last being what is wanted.
    """
    start = legs(lines.offsets, len(lines.plan))
    if len(start) == 0:
        return lines, 0.0
    length = np.hypot(*(lines.plan[start + 1] - lines.plan[start]).T)
    mean = float(length.mean())
    usual = max(float(np.median(length)), 0.5 * mean)
    plan, offsets, _ = densified(lines.plan, lines.offsets, max(strengths[0] * usual / 2.5, 0.3 * mean))
    closed = closed_lines(plan, offsets)
    made, back = plan, 0
    for k, strength in enumerate(strengths):
        part = progress.part(k / len(strengths), (k + 1) / len(strengths))
        once = mean_along(plan, offsets, closed, strength * usual)
        # What the mean took away is given back (Tukey's twicing).
        goal = 2.0 * once - mean_along(once, offsets, closed, strength * usual)
        part.report(0.2, "smoothing contours")
        made, back = _kept_clear(made, goal, offsets, closed, clear, part.part(0.2, 1.0))
    # Most of the places that smoothing put in are not needed to show its curves.
    return sparser(Lines(made, offsets, lines.which), NEEDED * usual, clear), back / max(len(plan), 1)


def _kept_clear(
    plan: Floats, goal: Floats, offsets: NDArray[np.int64], closed: Flags, clear: Clear, progress: Progress
) -> tuple[Floats, int]:
    """Return places moved towards a goal as far as no line crosses anything, and how many had to stay back."""
    share = np.ones(len(plan))
    start = legs(offsets, len(plan))
    line = np.repeat(np.arange(len(offsets) - 1), np.diff(offsets))
    cells = _cells(clear.held, _nobodys(clear.held))
    for turn in range(HALVINGS + RETURNS + 2):
        made = plan + share[:, None] * (goal - plan)
        bad = np.zeros(len(plan), np.bool_)
        hit = crossed(made[start], made[start + 1], clear.a, clear.b)
        bad[start[hit]] = bad[start[hit] + 1] = True
        if cells is not None:
            bad |= swept(plan, made, offsets, *cells)
        bad &= share > 0.0
        progress.report((turn + 1) / (HALVINGS + RETURNS + 2), "smoothing contours")
        if not bad.any():
            return made, int((share < 1.0).sum())
        if turn < HALVINGS + RETURNS:
            share = lowered(share, bad, offsets, closed, 0.5 if turn < HALVINGS else 0.0, TAPER + turn)
        else:
            share[np.isin(line, np.unique(line[bad]))] = 0.0
    return plan + share[:, None] * (goal - plan), int((share < 1.0).sum())


def _nobodys(places: Floats) -> NDArray[np.int64]:
    return np.full(len(places), -1, np.int64)


def _cells(
    places: Floats, owner: NDArray[np.int64]
) -> tuple[Floats, NDArray[np.int64], NDArray[np.int64], float, float, float, int, int] | None:
    """Return places with the lines that they belong to, ordered by cells, as `swept` takes them; None where there are none."""
    if len(places) == 0:
        return None
    low, span = places.min(axis=0), np.maximum(np.ptp(places, axis=0), 1e-9)
    size = max(float(np.sqrt(span[0] * span[1] / len(places))), float(span.max()) / 4000.0)
    columns, rows = int(span[0] / size) + 1, int(span[1] / size) + 1
    at = ((places - low) / size).astype(np.int64)
    cell = np.minimum(at[:, 1], rows - 1) * columns + np.minimum(at[:, 0], columns - 1)
    order = np.argsort(cell, kind="stable")
    starts = np.searchsorted(cell[order], np.arange(columns * rows + 1)).astype(np.int64)
    return places[order], owner[order], starts, float(low[0]), float(low[1]), size, columns, rows


def sparser(lines: Lines, tolerance: float, clear: Clear) -> Lines:
    """Return lines without the vertices that lie no farther than a tolerance from the straight way, none crossing.

    Where a straight way would cross another line or what lines must stay clear of, or leave a whole line on its other side,
    its vertices stay.
    """
    closed = lines.closed()
    keep = weeded(lines.plan, lines.offsets, closed, tolerance)
    # A line that is left on the other side as a whole is crossed by nothing: its first vertex tells.
    begins = lines.plan[lines.offsets[:-1]]
    owner = np.concatenate((_nobodys(clear.held), np.arange(len(begins))))
    cells = _cells(np.concatenate((clear.held, begins)), owner)
    number = np.arange(len(keep))
    for _ in range(60):
        size = np.add.reduceat(keep.astype(np.int64), lines.offsets[:-1]) if len(lines.which) else np.zeros(0, np.int64)
        offsets = np.concatenate(([0], np.cumsum(size)))
        plan, own = lines.plan[keep], number[keep]
        start = legs(offsets, len(plan))
        bad = start[crossed(plan[start], plan[start + 1], clear.a, clear.b)]
        if cells is not None:
            straight = _on_straight(lines, keep)
            over = swept(lines.plan, straight, lines.offsets, *cells) & ~keep
            bad = np.union1d(bad, np.searchsorted(own, number[over], side="right") - 1)
        # A stretch that lost nothing cannot be mended.
        bad = bad[own[bad + 1] - own[bad] > 1]
        if len(bad) == 0:
            return Lines(plan, offsets, lines.which)
        # All that such a stretch lost comes back.
        back = np.zeros(len(keep) + 1, np.int64)
        np.add.at(back, own[bad], 1)
        np.add.at(back, own[bad + 1], -1)
        keep |= np.cumsum(back)[:-1] > 0
    return lines


def _on_straight(lines: Lines, keep: Flags) -> Floats:
    """Return every vertex moved onto the straight way between those that stay."""
    number = np.arange(len(keep))
    kept = number[keep]
    before = np.searchsorted(kept, number, side="right") - 1
    a, b = kept[before], kept[np.minimum(before + 1, len(kept) - 1)]
    share = np.where(b > a, (number - a) / np.maximum(b - a, 1), 0.0)
    out = lines.plan[a] + share[:, None] * (lines.plan[b] - lines.plan[a])
    out[keep] = lines.plan[keep]
    return np.asarray(out, np.float64)


def flat_parts(lines: Lines, surface: Tin | Grid, grade: float, ratio: float, window: float) -> Lines:
    """Return the parts of lines along which the ground is flatter than a grade, none shorter than a window.

    Parameters
    ----------
    grade : float
        Rise over run.
    ratio : float
        Height units in a plan unit.
    window : float
        Length over which the slope along a line is averaged; shorter parts are left out, shorter gaps closed.
    """
    plan, offsets, _ = densified(lines.plan, lines.offsets, window / 4.0)
    steep = np.hypot(*gradients(surface, plan, window / 8.0).T) / ratio
    slope = np.where(np.isfinite(steep), steep, np.inf)
    parts: list[Floats] = []
    which: list[int] = []
    for k in range(len(lines.which)):
        own = plan[offsets[k] : offsets[k + 1]]
        for first, last in _runs(own, slope[offsets[k] : offsets[k + 1]], grade, window):
            parts.append(own[first : last + 1])
            which.append(int(lines.which[k]))
    starts = np.concatenate(([0], np.cumsum([len(part) for part in parts], dtype=np.int64))).astype(np.int64)
    return Lines(np.concatenate([np.zeros((0, 2)), *parts]), starts, np.array(which, np.int64))


def _runs(own: Floats, slope: Floats, grade: float, window: float) -> list[tuple[int, int]]:
    along = np.concatenate(([0.0], np.cumsum(np.hypot(*np.diff(own, axis=0).T))))
    if len(own) < 2:
        return []
    known = np.where(np.isfinite(slope), slope, 10.0 * grade + 10.0)
    # The mean over a window, by sums along the line.
    total = np.concatenate(([0.0], np.cumsum(0.5 * (known[1:] + known[:-1]) * np.diff(along))))
    low, high = np.maximum(along - window / 2.0, 0.0), np.minimum(along + window / 2.0, along[-1])
    mean = (np.interp(high, along, total) - np.interp(low, along, total)) / np.maximum(high - low, 1e-12)
    flat = mean < grade
    edges = np.flatnonzero(np.diff(np.concatenate(([False], flat, [False])).astype(np.int8)))
    runs = [(int(a), int(b) - 1) for a, b in zip(edges[::2], edges[1::2], strict=True)]
    joined: list[tuple[int, int]] = []
    for first, last in runs:
        if joined and along[first] - along[joined[-1][1]] < window:
            joined[-1] = (joined[-1][0], last)
        else:
            joined.append((first, last))
    return [(first, last) for first, last in joined if last > first and along[last] - along[first] >= window]
