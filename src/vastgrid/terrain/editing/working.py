"""A TIN while it is edited: every change is local, and what was taken out can be brought back."""

from __future__ import annotations

import dataclasses
from typing import Any

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.errors import CallError
from vastgrid.data.dataset import Floats
from vastgrid.data.tin import Tin
from vastgrid.kernels.triangles import planar
from vastgrid.kernels.triangles.planar import INSIDE, NOWHERE, ON_EDGE
from vastgrid.kernels.triangles.surroundings import (
    crossed,
    drawn_on,
    holding,
    middles_within,
    nearest_edge,
    vertices_near,
    vertices_within,
)
from vastgrid.kernels.triangles.topology import edge_flags, inside_polygon
from vastgrid.terrain.editing.bits import BREAK, GONE, HELD, OUTSIDE, SHOWN, SPARE
from vastgrid.terrain.editing.following import BuiltFrom
from vastgrid.terrain.editing.land import land, match
from vastgrid.terrain.editing.nearness import CLOSE, usual_near
from vastgrid.terrain.editing.ordering import in_order

# So many vertices are found by looking at all of them before anything is built.
FEW = 24
# Local coordinates count from multiples of this, so that they stay the same while ground at the rim comes and goes.
STEP = 65536.0
ROOM = 4096


class Working:
    """A TIN while it is being edited.

    Parameters
    ----------
    tin : Tin
        What is edited; it stays as it is.
    near : float or None
        How far a place may lie from the vertex or edge that it means, in the unit of plan.

    Attributes
    ----------
    xyz : (v, 3) float64
        Vertices in the world, with room at the end.
    """

    def __init__(self, tin: Tin, near: float | None = None) -> None:
        self.tin = tin
        self.near = usual_near(tin) if near is None else near
        self.close = usual_near(tin, CLOSE)
        self.vertices = len(tin.vertices)
        self.xyz: Floats = np.concatenate((tin.vertices, tin.spare_vertices))
        self._heights_changed: dict[int, None] = {}
        self._asked = 0
        self._open = False
        self.structure = False
        self._stamp = 0
        self._last = 0
        self.built_from = BuiltFrom(tin)

    # -- the triangulation, opened when a change needs it

    def open(self) -> None:
        """Make a triangulation of all ground, of what was taken out, and of the land around it.

        Raises
        ------
        CallError
            If its rim cannot be followed.
        """
        if self._open:
            return
        self._open = True
        tin = self.tin
        self.origin = np.floor(self.xyz[:, :2].min(axis=0) / STEP) * STEP
        number = len(self.xyz)
        low, high = self.xyz[:, :2].min(axis=0), self.xyz[:, :2].max(axis=0)
        # Far enough for the rim never to be bent by it, near enough for its numbers to stay exact.
        room = 8.0 * float((high - low).max()) + 1.0
        far = np.array(
            [
                (low[0] - room, low[1] - room),
                (high[0] + room, low[1] - room),
                (high[0] + room, high[1] + room),
                (low[0] - room, high[1] + room),
            ]
        )
        self._corners = number
        self._grow_vertices(number + 4 + ROOM)
        self.xyz[number : number + 4] = np.column_stack((far, np.zeros(4)))
        self.xy = np.ascontiguousarray(self.xyz[:, :2] - self.origin)
        assert tin.constrained is not None and tin.spare_constrained is not None  # noqa: PT018
        own = np.concatenate((tin.triangles, tin.spare))
        across = np.concatenate((tin.edges_across, np.full((len(tin.spare), 3), -1, np.int32)))
        flags = np.concatenate((tin.constrained, tin.spare_constrained)).astype(np.uint8) * BREAK
        around, met = land(self.xy, own, across, number, tin.name)
        # Where rims touch or cross by a rounding the land has a vertex of its own.
        self._land_end = number + 4 + len(met)
        self._grow_vertices(self._land_end + ROOM)
        self.xyz[number + 4 : self._land_end, :2] = met + self.origin
        self.xy = np.ascontiguousarray(self.xyz[:, :2] - self.origin)
        count = len(own) + len(around)
        top = count + ROOM
        self.tri, self.nbr, self.flag = (np.zeros((top, 3), kind) for kind in (np.int32, np.int32, np.uint8))
        self.part = np.zeros(top, np.uint8)
        self.tri[: len(own)], self.tri[len(own) : count] = own, around
        self.nbr[:count] = -1
        self.nbr[: len(own)] = across
        self.flag[: len(own)] = flags
        self.part[: len(tin.triangles)], self.part[len(tin.triangles) : len(own)] = SHOWN, SPARE
        self.part[len(own) : count] = OUTSIDE
        self.size = np.array([self._land_end, count], np.int64)
        match(self.tri[:count], self.nbr[:count])
        if len(tin.held):
            pairs = np.sort(tin.held, axis=1).astype(np.int64)
            held = edge_flags(self.tri[:count], pairs, self._land_end)
            self.flag[:count][held] |= HELD
        self.at = np.full(len(self.xy), -1, np.int32)
        planar.first_triangles(self.tri, count, self.at)
        self._stamps = np.zeros(top, np.int32)
        self.ring = np.zeros(4096, np.int32)
        self._stack = np.zeros((16384, 2), np.int64)

    def _grow_vertices(self, top: int) -> None:
        if len(self.xyz) < top:
            self.xyz = np.concatenate((self.xyz, np.zeros((top - len(self.xyz), 3))))

    def _room(self, vertices: int = 64, triangles: int = 256) -> None:
        """Make sure that there is room for more."""
        if self.size[0] + vertices > len(self.xy):
            more = len(self.xy) + vertices + ROOM
            self.xyz = np.concatenate((self.xyz, np.zeros((more - len(self.xyz), 3))))
            self.xy = np.concatenate((self.xy, np.zeros((more - len(self.xy), 2))))
            self.at = np.concatenate((self.at, np.full(more - len(self.at), -1, np.int32)))
        if self.size[1] + triangles > len(self.tri):
            more = triangles + max(ROOM, len(self.tri) // 4)
            self.tri = np.concatenate((self.tri, np.zeros((more, 3), np.int32)))
            self.nbr = np.concatenate((self.nbr, np.zeros((more, 3), np.int32)))
            self.flag = np.concatenate((self.flag, np.zeros((more, 3), np.uint8)))
            self.part = np.concatenate((self.part, np.zeros(more, np.uint8)))
            self._stamps = np.concatenate((self._stamps, np.zeros(more, np.int32)))

    # -- asking

    def local(self, east: float, north: float) -> tuple[float, float]:
        """Return a place in local coordinates."""
        return east - float(self.origin[0]), north - float(self.origin[1])

    def locate(self, east: float, north: float) -> tuple[int, int, int]:
        """Return the triangle at a place, what of it the place lies on, and which edge or corner."""
        self.open()
        count = int(self.size[1])
        start = self._last if self._last < count and self.part[self._last] != GONE else int(self.at[self._corners])
        x, y = self.local(east, north)
        found, what, k = planar.locate(self.xy, self.tri[:count], self.nbr, x, y, start)
        if found < 0:
            # A way may end where rims touch by a rounding: all triangles are looked at.
            found, what, k = holding(self.xy, self.tri, self.part, count, x, y)
        if found >= 0:
            self._last = int(found)
        return int(found), int(what), int(k)

    def vertex_at(self, east: float, north: float) -> int | None:
        """Return the vertex of ground nearest to a place, up to what counts as near; None where there is none."""
        self._asked += 1
        if not self._open and self._asked <= FEW:
            own = self.xyz[: self.vertices]
            away = np.abs(own[:, 0] - east) + np.abs(own[:, 1] - north)
            close = np.flatnonzero(away <= 2.0 * self.near)
            if len(close) == 0:
                return None
            exact = np.hypot(own[close, 0] - east, own[close, 1] - north)
            return int(close[exact.argmin()]) if exact.min() <= self.near else None
        t, what, _ = self.locate(east, north)
        if what == NOWHERE:
            return None
        near = np.unique(self.ring[: vertices_near(self.tri, self.nbr, t, self.ring)])
        away = np.hypot(self.xyz[near, 0] - east, self.xyz[near, 1] - north)
        for k in np.argsort(away, kind="stable").tolist():
            if away[k] > self.near:
                return None
            if self._is_ground(int(near[k])):
                return int(near[k])
        return None

    def _is_ground(self, vertex: int) -> bool:
        return bool((self.part[self.around(vertex)] == SHOWN).any())

    def around(self, vertex: int) -> NDArray[np.int32]:
        """Return the triangles around a vertex."""
        number = int(planar.around(self.xy, self.tri, self.nbr, self.at, vertex, self.ring))
        return self.ring[: max(number, 0)].copy()

    def height_at(self, east: float, north: float) -> float | None:
        """Return the height of the ground at a place; None where there is none."""
        t, what, k = self.locate(east, north)
        if what == NOWHERE:
            return None
        if self.part[t] != SHOWN:
            # On a rim the ground is on the other side.
            other = int(self.nbr[t, k]) if what == ON_EDGE else -1
            if other < 0 or self.part[other] != SHOWN:
                return None
            t = other
        # From the westernmost corner or end on, whichever way the triangle is kept: rounding is the same each time.
        corners = sorted(self.xyz[self.tri[t]].tolist())
        for corner in corners:
            if corner[:2] == [east, north]:
                return float(corner[2])
        if what == ON_EDGE:
            a, b = self._edge_through(t, east, north)
            along = b[:2] - a[:2]
            share = float((np.array([east, north]) - a[:2]) @ along) / float(along @ along)
            return float(a[2] + share * (b[2] - a[2]))
        a, b, c = (np.array(corner) for corner in corners)
        return _plane_height(a, b, c, east, north)

    def _edge_through(self, t: int, east: float, north: float) -> tuple[Floats, Floats]:
        """Return the ends of the edge of a triangle that passes a place, the westernmost first."""
        x, y = self.local(east, north)
        own = [int(v) for v in self.tri[t]]
        pairs = [(own[k], own[(k + 1) % 3]) for k in range(3)]
        away = []
        for a, b in pairs:
            along = self.xy[b] - self.xy[a]
            away.append(abs(along[0] * (y - self.xy[a, 1]) - along[1] * (x - self.xy[a, 0])) / float(np.hypot(*along)))
        a, b = pairs[int(np.argmin(away))]
        ends = sorted((self.xyz[a].tolist(), self.xyz[b].tolist()))
        return np.array(ends[0]), np.array(ends[1])

    def edge_at(self, east: float, north: float) -> tuple[int, int] | None:
        """Return the triangle and which of its edges lies nearest to a place, up to what counts as near."""
        t, what, _ = self.locate(east, north)
        if what == NOWHERE:
            return None
        x, y = self.local(east, north)
        found, k, away = nearest_edge(self.xy, self.tri, self.nbr, t, x, y)
        return (int(found), int(k)) if away <= self.near else None

    def breakline_at(self, east: float, north: float) -> tuple[int, int] | None:
        """Return the triangle and edge of the breakline nearest to a place, up to what counts as near."""
        t, what, _ = self.locate(east, north)
        if what == NOWHERE:
            return None
        x, y = self.local(east, north)
        found, least = None, self.near
        for u in sorted({t, *(int(v) for corner in self.tri[t].tolist() for v in self.around(int(corner)))}):
            for k in range(3):
                if not self.flag[u, k] & BREAK:
                    continue
                a, b = self.xy[int(self.tri[u, k])], self.xy[int(self.tri[u, (k + 1) % 3])]
                along = b - a
                share = min(max(float((np.array([x, y]) - a) @ along) / float(along @ along), 0.0), 1.0)
                away = float(np.hypot(*(a + share * along - (x, y))))
                if away <= least and (found is None or away < least):
                    found, least = (u, k), away
        return found

    def crossed_by(self, line: Floats) -> NDArray[np.int32]:
        """Return the triangles whose inside a line passes through, ground or not."""
        self.open()
        found = []
        for k in range(len(line) - 1):
            (e0, n0), (e1, n1) = line[k, :2], line[k + 1, :2]
            start, what, _ = self.locate(float(e0), float(n0))
            if what == NOWHERE:
                continue
            (x0, y0), (x1, y1) = self.local(float(e0), float(n0)), self.local(float(e1), float(n1))
            out = np.zeros(4096, np.int32)
            while True:
                self._stamp += 1
                count = int(crossed(self.xy, self.tri, self.nbr, x0, y0, x1, y1, start, out, self._stamps, self._stamp))
                if count <= len(out):
                    break
                out = np.zeros(count, np.int32)
            found.append(out[:count])
        return np.unique(np.concatenate(found)) if found else np.zeros(0, np.int32)

    def within(self, ring: Floats) -> NDArray[np.int32]:
        """Return the triangles whose middle lies inside a ring, ground or not."""
        self.open()
        count = int(self.size[1])
        own = np.ascontiguousarray(ring[:, :2] - self.origin)
        return np.flatnonzero(middles_within(self.xy, self.tri, self.part, count, GONE, own)).astype(np.int32)

    def ground_vertices(self, ring: Floats) -> NDArray[np.int64]:
        """Return the vertices of ground inside a ring."""
        self._asked += 1
        if not self._open and self._asked > FEW:
            self.open()
        if not self._open:
            self.origin = np.floor(self.xyz[:, :2].min(axis=0) / STEP) * STEP
            x, y = (self.xyz[: self.vertices, :2] - self.origin).T
            own = np.ascontiguousarray(ring[:, :2] - self.origin)
            (west, south), (east, north) = own.min(axis=0), own.max(axis=0)
            near = np.flatnonzero((x >= west) & (x <= east) & (y >= south) & (y <= north))
            return np.asarray(near[inside_polygon(x[near], y[near], own)])
        own = np.ascontiguousarray(ring[:, :2] - self.origin)
        total, count = int(self.size[0]), int(self.size[1])
        return np.flatnonzero(vertices_within(self.xy, total, self.tri, self.part, count, SHOWN, own))

    def neighbours_of(self, vertex: int) -> NDArray[np.int64]:
        """Return the vertices that edges of ground lead to from one."""
        around = self.around(vertex)
        own = self.tri[around[self.part[around] == SHOWN]]
        return np.setdiff1d(own, [vertex]).astype(np.int64)

    # -- changing

    def set_heights(self, vertices: NDArray[np.int64], heights: Floats) -> None:
        """Give vertices other heights."""
        for v, z in zip(vertices.tolist(), heights.tolist(), strict=True):
            east, north = float(self.xyz[v, 0]), float(self.xyz[v, 1])
            self.built_from.move((east, north), (east, north, z))
        self.xyz[vertices, 2] = heights
        self._heights_changed[0] = None

    def take_out(self, triangles: NDArray[np.int32]) -> int:
        """Take ground out; return how many triangles."""
        own = triangles[self.part[triangles] == SHOWN]
        self.part[own] = SPARE
        self.structure = self.structure or len(own) > 0
        return len(own)

    def bring_back(self, triangles: NDArray[np.int32]) -> int:
        """Bring back what was taken out, and land between ground; return how many triangles.

        Land that reaches the far corners is none.
        """
        own = triangles[(self.part[triangles] == SPARE) | (self.part[triangles] == OUTSIDE)]
        own = own[~((self.tri[own] >= self._corners) & (self.tri[own] < self._corners + 4)).any(axis=1)]
        self.part[own] = SHOWN
        self.structure = self.structure or len(own) > 0
        return len(own)

    def swap(self, triangle: int, k: int) -> str:
        """Swap an edge; return why that cannot be, or nothing."""
        other = int(self.nbr[triangle, k])
        if self.part[triangle] != SHOWN or other < 0 or self.part[other] != SHOWN:
            return "the edge there lies at the rim of the ground"
        if self.flag[triangle, k] & BREAK:
            return "the edge there lies on a breakline"
        if not planar.can_flip(self.xy, self.tri, self.nbr, self.part, triangle, k):
            return "the two triangles there make no figure whose other diagonal lies inside it"
        planar.flip(self.tri, self.nbr, self.flag, self.at, triangle, k)
        c, d = int(self.tri[triangle, 2]), int(self.tri[triangle, 1])
        t, edge = planar.find_edge(self.tri, self.nbr, self.at, d, c)
        planar.mark(self.tri, self.nbr, self.flag, t, edge, HELD)
        self.structure = True
        return ""

    def new_vertex(self, east: float, north: float, z: float) -> int:
        """Return the number of a vertex that is yet to be put in."""
        self._room()
        v = int(self.size[0])
        self.size[0] += 1
        self.xyz[v] = (east, north, z)
        self.xy[v] = self.local(east, north)
        self.at[v] = -1
        return v

    def put(self, vertex: int, t: int, what: int, k: int) -> None:
        """Put a vertex into the triangle, or on the edge, that `locate` found."""
        self._room()
        if what == INSIDE:
            planar.split_triangle(self.xy, self.tri, self.nbr, self.flag, self.part, self.at, self.size, t, vertex)
        else:
            planar.split_edge(self.xy, self.tri, self.nbr, self.flag, self.part, self.at, self.size, t, k, vertex)
        self.legalise(vertex)
        self.structure = True

    def legalise(self, vertex: int) -> None:
        """Make the surroundings of a vertex Delaunay again."""
        planar.legalise_around(
            self.xy, self.tri, self.nbr, self.flag, self.part, self.at, vertex, self._stack, self.ring
        )

    def led_through_land(self) -> bool:
        """Return whether something was drawn where there is no ground, nor was any: what is there is not kept."""
        if not self._open:
            return False
        count = int(self.size[1])
        return bool(drawn_on(self.tri, self.flag, self.part, count, OUTSIDE, self._land_end, BREAK))

    def moves_rim(self, east: float, north: float) -> bool:
        """Return whether the vertex at a place, if there is one, has land beside it."""
        vertex = self.vertex_at(east, north)
        if vertex is None:
            return False
        self.open()
        return bool((self.part[self.around(vertex)] == OUTSIDE).any())

    def edges_kept_at(self, vertex: int) -> list[tuple[int, int]]:
        """Return the vertices to which kept edges lead from one, each with its bits; edges of a rim have bit 4."""
        found = []
        for t in self.around(vertex).tolist():
            k = int(planar.corner_of(self.tri, t, vertex))
            bits = int(self.flag[t, k])
            if self.part[t] != self.part[self.nbr[t, k]]:
                bits |= 4
            if bits:
                found.append((int(self.tri[t, (k + 1) % 3]), bits))
        return found

    def keep(self, a: int, b: int, bit: int) -> list[int]:
        """Make edges that stay from one vertex to another; what stays already is crossed in a new vertex.

        Its height is that of the way from a to b; a crossing that falls together with a vertex goes through that. Return the
        vertices on the way, both ends included.

        Raises
        ------
        CallError
            If an edge cannot be made.
        """
        way, goals = [a], [b]
        first, last = self.xyz[a].copy(), self.xyz[b].copy()
        for _ in range(100_000):
            if way[-1] == goals[-1]:
                goals.pop()
                if not goals:
                    return way
                continue
            reached, right, left = self._kept_towards(way[-1], goals[-1], bit)
            if reached >= 0:
                way.append(reached)
                continue
            place = _crossing(self.xyz[way[-1]], self.xyz[goals[-1]], self.xyz[right], self.xyz[left])
            ends = np.hypot(*(self.xyz[[right, left], :2] - place).T)
            if ends.min() <= self.close:
                goals.append((right, left)[int(ends.argmin())])
                if len(goals) > len(self.xyz):
                    break
                continue
            share = float((place - first[:2]) @ (last[:2] - first[:2])) / float(((last[:2] - first[:2]) ** 2).sum())
            v = self.new_vertex(float(place[0]), float(place[1]), float(first[2] + share * (last[2] - first[2])))
            t, k = planar.find_edge(self.tri, self.nbr, self.at, right, left)
            planar.split_edge(self.xy, self.tri, self.nbr, self.flag, self.part, self.at, self.size, t, k, v)
            self.legalise(v)
            goals.append(v)
        raise CallError("an edge there cannot be made")

    def _kept_towards(self, a: int, b: int, bit: int) -> tuple[int, int, int]:
        """Make an edge from a vertex towards another; return the vertex reached, or -1 and the edge in the way."""
        self._room()
        out = np.zeros(3, np.int64)
        reached = int(planar.keep_edge(self.xy, self.tri, self.nbr, self.flag, self.part, self.at, a, b, bit, out))
        self.structure = True
        if reached == -2:
            raise CallError("an edge there cannot be made")
        return reached, int(out[0]), int(out[1])

    # -- what comes of it

    def done(self) -> Tin:
        """Return the edited TIN; what it is built from has the new heights too."""
        changed = bool(self._heights_changed)
        if not changed and not self.structure:
            return self.tin
        source, breaks, offsets = self.built_from.now()
        parts: dict[str, Any] = {"source_points": source, "break_vertices": breaks, "break_offsets": offsets}
        if not self.structure:
            number = len(self.tin.vertices)
            spare = self.xyz[number : number + len(self.tin.spare_vertices)].copy()
            return dataclasses.replace(self.tin, vertices=self.xyz[:number].copy(), spare_vertices=spare, **parts)
        total, count = int(self.size[0]), int(self.size[1])
        return dataclasses.replace(
            self.tin,
            **in_order(self.xyz[:total], self.tri[:count], self.nbr[:count], self.flag[:count], self.part[:count]),
            **parts,
        )


def _plane_height(a: Floats, b: Floats, c: Floats, east: float, north: float) -> float:
    u, v = b - a, c - a
    det = u[0] * v[1] - u[1] * v[0]
    x, y = east - a[0], north - a[1]
    s, t = (x * v[1] - y * v[0]) / det, (u[0] * y - u[1] * x) / det
    return float(a[2] + s * u[2] + t * v[2])


def _crossing(a: Floats, b: Floats, c: Floats, d: Floats) -> Floats:
    """Return where the way from a to b crosses that from c to d, in plan."""
    along, across = b[:2] - a[:2], d[:2] - c[:2]
    away = c[:2] - a[:2]
    det = along[0] * across[1] - along[1] * across[0]
    share = (away[0] * along[1] - away[1] * along[0]) / det
    return np.asarray(c[:2] + share * across)
