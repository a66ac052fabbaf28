"""A TIN at the precision of a file: triangles that rounding would leave without an area are mended before they go out."""

from __future__ import annotations

import dataclasses

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.findings import Finding, count, note
from vastgrid.base.quantities import unit_word
from vastgrid.data.dataset import Flags, Floats
from vastgrid.data.tin import Tin
from vastgrid.declarations.conversion import listed
from vastgrid.kernels.text.textrows import scaled
from vastgrid.kernels.triangles.topology import compact, free_edges, mend_flat, neighbours_of, plan_areas

# A height may move by so many steps of the precision where two places become one: on slopes of that steepness rounding the
# place alone moves it as far.
STEEP = 10.0
# Corners so many steps apart may become one where no edge can be flipped.
NEAR = 4.0
ROUNDS = 12
# So often a corner may be moved aside.
MOVES = 2


def at_decimals(tin: Tin, decimals: int, findings: list[Finding]) -> Tin:
    """Return a TIN whose every triangle still has an area when its coordinates are rounded to some decimals.

    As `mended`.
    """
    return mended(tin, written_as(tin.vertices, decimals), 10.0**-decimals, count(decimals, "decimal"), findings)


def mended(tin: Tin, rounded: Floats, slack: float, precision: str, findings: list[Finding]) -> Tin:
    """Return a TIN whose every triangle still has an area when its vertices are where a reader will see them.

    Vertices that fall together become one, triangles whose corner falls on an edge are flipped with the one across, and
    where neither goes, as at a wall, their nearest corners become one or the corner moves aside by a step of the
    precision: every inner edge keeps its two faces. What cannot be mended so is left out, and said.

    Parameters
    ----------
    rounded : (n, 3) float64
        Where that is.
    slack : float
        The step of the precision, in the unit of the coordinates.
    precision : str
        What the file holds, as a sentence says it: “3 decimals”.
    """
    flat = plan_areas(rounded, tin.triangles) <= 0.0
    if not flat.any():
        return tin
    assert tin.constrained is not None
    work = _Work(rounded.copy(), slack, tin.triangles.copy(), tin.constrained.copy())
    work.weld()
    more = True
    for k in range(ROUNDS):
        stuck = work.flip(last=not more or k == ROUNDS - 1)
        if not stuck.any():
            break
        more = work.join_nearest(stuck) or work.move_aside(stuck)
    made, used = work.done(tin)
    moved = int((work.moves[used] > 0).sum())
    number = int(flat.sum())
    parts = [f"{count(work.welded, 'vertex was', 'vertices were')} joined to their neighbour"] if work.welded else []
    parts += [f"{count(work.flipped, 'edge was', 'edges were')} flipped"] if work.flipped else []
    parts += [f"{count(moved, 'vertex was', 'vertices were')} moved aside by a step of it"] if moved else []
    gone = len(tin.triangles) - len(made.triangles)
    parts += [f"{count(gone, 'triangle was', 'triangles were')} left out"] if gone else []
    opened = _opened(tin, made, rounded, work.rounded[used], slack)
    text = (
        f"{tin.name}: {count(number, 'triangle')} would have no area at {precision}; {listed(parts)}, the ground otherwise "
        + ("unchanged." if not opened else f"unchanged but for {opened}.")
    )
    findings.append(note("collapsing-triangles", text) if not opened else Finding("collapsing-triangles", text))
    return made


def without_slivers(tin: Tin, step: float) -> Tin:
    """Return a TIN none of whose triangles is thinner than what its places were found on.

    Slivers along the lines where surfaces meet say nothing about the ground, and rounding tears them. They are flipped, or
    their nearest corners become one; no vertex moves, and where the heights forbid it, as at a wall, they stay.

    Parameters
    ----------
    step : float
        The precision of the places, in their unit; heights that differ by ten times as much are taken for one.
    """
    assert tin.constrained is not None
    places = tin.vertices[tin.triangles][:, :, :2]
    along = places - np.roll(places, -1, axis=1)
    longest = np.hypot(along[:, :, 0], along[:, :, 1]).max(axis=1, initial=0.0)
    if not (2.0 * plan_areas(tin.vertices, tin.triangles) <= step * longest).any():
        return tin
    work = _Work(tin.vertices, step, tin.triangles.copy(), tin.constrained.copy(), step)
    for _ in range(ROUNDS):
        stuck = work.flip(last=False)
        if not stuck.any() or not work.join_nearest(stuck):
            break
    # What has no area at all is no ground, wherever it stands.
    work.thin = 0.0
    work.flip(last=True)
    return work.done(tin)[0]


@dataclasses.dataclass(slots=True)
class _Work:
    """Triangles while they are mended."""

    rounded: Floats
    slack: float
    triangles: NDArray[np.int32]
    flags: Flags
    thin: float = 0.0
    welded: int = 0
    flipped: int = 0
    moves: NDArray[np.int8] = dataclasses.field(init=False)

    def __post_init__(self) -> None:
        self.moves = np.zeros(len(self.rounded), np.int8)

    def weld(self) -> None:
        """Join vertices that fall on one place at one height."""
        _, first, group = np.unique(self.rounded[:, :2], axis=0, return_index=True, return_inverse=True)
        onto = first[group.reshape(-1)]
        close = np.abs(self.rounded[onto, 2] - self.rounded[:, 2]) <= STEEP * self.slack
        self._join(np.where(close, onto, np.arange(len(onto))))

    def flip(self, *, last: bool) -> Flags:
        """Flip what has no area, and return what cannot be flipped; the last time that is left out."""
        across = neighbours_of(self.triangles)
        keep, flipped, stuck = mend_flat(
            self.rounded, self.triangles, across, self.flags, STEEP * self.slack, self.thin, last
        )
        self.flipped += flipped
        self.triangles, self.flags = self.triangles[keep], self.flags[keep]
        return np.asarray(stuck[keep])

    def join_nearest(self, which: Flags) -> bool:
        """Join the nearest corners of some triangles, where they are near enough; say whether any were."""
        stuck = self.triangles[which]
        onto = np.arange(len(self.rounded))
        ends = np.stack((stuck, np.roll(stuck, -1, axis=1)), axis=2)
        away = self.rounded[ends[:, :, 1]] - self.rounded[ends[:, :, 0]]
        length = np.hypot(away[:, :, 0], away[:, :, 1])
        able = (length <= NEAR * self.slack) & (np.abs(away[:, :, 2]) <= STEEP * self.slack)
        length[~able] = np.inf
        best = length.argmin(axis=1)
        rows = np.flatnonzero(able.any(axis=1))
        pairs = np.sort(ends[rows, best[rows]], axis=1)
        # One after another: a vertex that others are joined to stays.
        _, own = np.unique(pairs[:, 1], return_index=True)
        pairs = pairs[own]
        pairs = pairs[~np.isin(pairs[:, 0], pairs[:, 1])]
        onto[pairs[:, 1]] = pairs[:, 0]
        return self._join(onto)

    def move_aside(self, which: Flags) -> bool:
        """Move the corners that lie on the longest edge of some triangles off it, by a step; say whether any were.

        At a wall that is nearer than the rounding would move it away, and an edge with two heights cannot be flipped.
        """
        stuck = self.triangles[which]
        rows = np.arange(len(stuck))
        along = self.rounded[np.roll(stuck, -1, axis=1)] - self.rounded[stuck]
        k = np.hypot(along[:, :, 0], along[:, :, 1]).argmax(axis=1)
        corner, edge = stuck[rows, (k + 2) % 3], along[rows, k]
        corner, own = np.unique(corner, return_index=True)
        edge = edge[own]
        free = self.moves[corner] < MOVES
        corner, edge = corner[free], edge[free]
        self.moves[corner] += 1
        # The triangle lies to the left of its edges.
        flat = np.abs(edge[:, 0]) > np.abs(edge[:, 1])
        self.rounded[corner, 0] -= np.where(flat, 0.0, np.sign(edge[:, 1]) * self.slack)
        self.rounded[corner, 1] += np.where(flat, np.sign(edge[:, 0]) * self.slack, 0.0)
        return len(corner) > 0

    def done(self, tin: Tin) -> tuple[Tin, NDArray[np.int64]]:
        """Return the TIN as it is now, and the old number of each of its vertices."""
        every = np.ones(len(self.triangles), np.bool_)
        across = neighbours_of(self.triangles)
        triangles, across, flags, used = compact(self.triangles, across, self.flags, every, len(tin.vertices))
        vertices = np.where((self.moves > 0)[:, None], self.rounded, tin.vertices)[used]
        made = dataclasses.replace(tin, vertices=vertices, triangles=triangles, neighbours=across, constrained=flags)
        return made, used

    def _join(self, onto: NDArray[np.int64]) -> bool:
        """Put vertices onto others and leave out the triangles that vanish; say whether any vertex was joined."""
        moved = np.flatnonzero(onto != np.arange(len(onto)))
        moved = moved[np.isin(moved, self.triangles)]
        self.welded += len(moved)
        triangles = onto[self.triangles].astype(np.int32)
        following = np.roll(triangles, -1, axis=1)
        gone = (triangles == following).any(axis=1)
        # An edge that is held stays so when the triangle beside it vanishes.
        held = np.sort(np.stack((triangles, following), axis=2)[gone][self.flags[gone]], axis=1).astype(np.int64)
        self.triangles, self.flags = triangles[~gone], self.flags[~gone]
        if len(held):
            edges = np.sort(np.stack((self.triangles, np.roll(self.triangles, -1, axis=1)), axis=2), axis=2)
            top = np.int64(len(self.rounded))
            self.flags |= np.isin(edges[:, :, 0] * top + edges[:, :, 1], held[:, 0] * top + held[:, 1])
        return len(moved) > 0


def _opened(before: Tin, after: Tin, old: Floats, new: Floats, slack: float) -> str:
    """Return how much more of one TIN's edges has a face on one side alone than of another's; nothing if none has."""
    own = [free_edges(tin.triangles, tin.edges_across, places) for tin, places in ((before, old), (after, new))]
    longer = own[1][1] - own[0][1]
    # Rounding a rim makes it no longer than its vertices move.
    if longer <= 4.0 * slack * max(own[0][0], own[1][0]):
        return ""
    return f"{longer:.{max(0, round(-np.log10(slack)))}f}{unit_word(before.frame.horizontal)} of edges that have a face on one side alone now"


def written_as(coordinates: Floats, decimals: int) -> Floats:
    """Return coordinates as a reader of a file with so many decimals sees them."""
    columns = [scaled(coordinates[:, k], decimals) / 10.0**decimals for k in range(coordinates.shape[1])]
    return np.ascontiguousarray(np.column_stack(columns))
