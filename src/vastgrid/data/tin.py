"""The triangulated irregular network."""

from __future__ import annotations

import dataclasses
from dataclasses import dataclass, field
from typing import Any, ClassVar, Self

import numpy as np
from numpy.typing import NDArray

from vastgrid.data.dataset import DIFFERENCE, HEIGHT, Dataset, Floats, Ints, frozen
from vastgrid.data.frame import Frame
from vastgrid.data.line_roles import OUTER
from vastgrid.kernels.triangles.topology import neighbours_of, plan_areas


def _no_lines() -> NDArray[np.int64]:
    return np.zeros(1, np.int64)


def _no_edges() -> Ints:
    return np.zeros((0, 2), np.int32)


def _no_triangles() -> Ints:
    return np.zeros((0, 3), np.int32)


def _no_points() -> Floats:
    return np.zeros((0, 3))


@dataclass(frozen=True, eq=False, kw_only=True)
class Tin(Dataset):
    """A TIN: triangles in plan, each a plane in space.

    Attributes
    ----------
    vertices : (n, 3) float64
        Easting, northing, elevation.
    triangles : (m, 3) int32
        Vertex indices, counter-clockwise in plan.
    neighbours : (m, 3) int32
        Triangle across the edge from corner k to corner k + 1; -1 at the rim.
    constrained : (m, 3) bool
        Whether that edge lies on a breakline.
    source_points, break_vertices : (…, 3) float64
        What it was built from, where that is known (LandXML calls it source data).
    break_offsets, limit_offsets : (…,) int64
        Breakline i is ``break_vertices[break_offsets[i]:break_offsets[i + 1]]``; boundaries likewise.
    break_kinds : tuple of str
        What each breakline is, by the words of LandXML, or “contour”; empty where all are standard ones.
    limit : (…, 3) float64
        The closed lines that limit it, elevations perhaps NaN.
    limit_roles : tuple of str
        What each of them is: “outer”, “void” or “island”.
    limit_whole : tuple of bool
        Whether triangles stay whole at each of them; empty where none do.
    spare_vertices, spare : (s, 3) float64, (k, 3) int32
        Triangles that were taken out and can be brought back; corners from ``len(vertices)`` on are spare vertices.
    spare_constrained : (k, 3) bool
        Which of their edges lie on a breakline.
    held : (h, 2) int32
        Edges that were swapped by hand: they stay as they are when something beside them changes.
    quantity : str
        What the third coordinate is: “height”, or “height difference”, how far one surface lies above another.
    """

    kind: ClassVar[str] = "tin"
    title: ClassVar[str] = "TIN"
    vertices: Floats
    triangles: Ints
    neighbours: Ints | None = None
    constrained: NDArray[np.bool_] | None = None
    source_points: Floats = field(default_factory=_no_points)
    break_vertices: Floats = field(default_factory=_no_points)
    break_offsets: NDArray[np.int64] = field(default_factory=_no_lines)
    break_kinds: tuple[str, ...] = ()
    limit: Floats = field(default_factory=_no_points)
    limit_offsets: NDArray[np.int64] = field(default_factory=_no_lines)
    limit_roles: tuple[str, ...] = ()
    limit_whole: tuple[bool, ...] = ()
    spare_vertices: Floats = field(default_factory=_no_points)
    spare: Ints = field(default_factory=_no_triangles)
    spare_constrained: NDArray[np.bool_] | None = None
    held: Ints = field(default_factory=_no_edges)
    quantity: str = HEIGHT

    def __post_init__(self) -> None:
        object.__setattr__(self, "vertices", frozen(self.vertices, np.float64, (-1, 3), "vertices"))
        object.__setattr__(self, "triangles", frozen(self.triangles, np.int32, (-1, 3), "triangles"))
        object.__setattr__(self, "limit_roles", tuple(self.limit_roles))
        object.__setattr__(self, "break_kinds", tuple(self.break_kinds))
        object.__setattr__(self, "limit_whole", tuple(self.limit_whole))
        object.__setattr__(self, "spare_vertices", frozen(self.spare_vertices, np.float64, (-1, 3), "spare_vertices"))
        object.__setattr__(self, "spare", frozen(self.spare, np.int32, (-1, 3), "spare"))
        marks = np.zeros((len(self.spare), 3), np.bool_) if self.spare_constrained is None else self.spare_constrained
        object.__setattr__(
            self, "spare_constrained", frozen(marks, np.bool_, (len(self.spare), 3), "spare_constrained")
        )
        object.__setattr__(self, "held", frozen(self.held, np.int32, (-1, 2), "held"))
        if len(self.limit) and not self.limit_roles:
            # Kept by an earlier version, which knew one boundary.
            object.__setattr__(self, "limit_offsets", np.array([0, len(self.limit)], np.int64))
            object.__setattr__(self, "limit_roles", (OUTER,))
        neighbours = neighbours_of(self.triangles) if self.neighbours is None else self.neighbours
        object.__setattr__(self, "neighbours", frozen(neighbours, np.int32, (len(self.triangles), 3), "neighbours"))
        flags = np.zeros((len(self.triangles), 3), np.bool_) if self.constrained is None else self.constrained
        object.__setattr__(self, "constrained", frozen(flags, np.bool_, (len(self.triangles), 3), "constrained"))

    @property
    def has_heights(self) -> bool:
        """Whether its third coordinate is a height."""
        return self.quantity == HEIGHT

    @property
    def has_lengths(self) -> bool:
        """Whether its third coordinate is in the unit of heights."""
        return self.quantity in (HEIGHT, DIFFERENCE)

    def holds(self) -> str:
        """Return what it holds, as a sentence says it."""
        return "heights" if self.has_heights else self.quantity

    @property
    def edges_across(self) -> Ints:
        """The neighbours, known to be there."""
        assert self.neighbours is not None
        return self.neighbours

    def count(self) -> dict[str, int]:
        """Return the numbers of vertices and triangles."""
        return {"vertices": len(self.vertices), "triangles": len(self.triangles)}

    def coordinates(self) -> Floats:
        """Return the vertices."""
        return self.vertices

    def with_coordinates(self, plan: float, height: float, frame: Frame) -> Self:
        """Return the TIN scaled into another frame, source data included."""
        scale = (plan, plan, height)
        return dataclasses.replace(
            self,
            vertices=self.vertices * scale,
            source_points=self.source_points * scale,
            break_vertices=self.break_vertices * scale,
            limit=self.limit * scale,
            spare_vertices=self.spare_vertices * scale,
            frame=frame,
        )

    def limits(self) -> list[tuple[str, Floats]]:
        """Return the closed lines that limit it, each with its role."""
        cuts = self.limit_offsets
        return [(role, self.limit[cuts[k] : cuts[k + 1]]) for k, role in enumerate(self.limit_roles)]

    def without_source(self, points: bool = True, lines: bool = True, limits: bool = True) -> Tin:
        """Return it without what it was built from: its points, its breaklines, its boundaries, or some of them."""
        change: dict[str, Any] = {"source_points": _no_points()} if points else {}
        if lines:
            change |= {"break_vertices": _no_points(), "break_offsets": _no_lines(), "break_kinds": ()}
        if limits:
            change |= {"limit": _no_points(), "limit_offsets": _no_lines(), "limit_roles": (), "limit_whole": ()}
        return dataclasses.replace(self, **change) if change else self

    def corners(self) -> Floats:
        """Return each triangle's corners, (m, 3, 3)."""
        return self.vertices[self.triangles]


def edges(tin: Tin) -> Ints:
    """Return every edge once, (e, 2) vertex indices."""
    across = tin.edges_across
    once = (across < 0) | (across > np.arange(len(tin.triangles), dtype=np.int32)[:, None])
    following = np.roll(tin.triangles, -1, axis=1)
    return np.column_stack((tin.triangles[once], following[once]))


def rim(tin: Tin) -> Floats:
    """Return the edges that have a triangle on one side only, (r, 2, 3)."""
    outer = tin.edges_across < 0
    following = np.roll(tin.triangles, -1, axis=1)
    return np.stack((tin.vertices[tin.triangles[outer]], tin.vertices[following[outer]]), axis=1)


def areas(tin: Tin) -> Floats:
    """Return each triangle's plan area, (m,), positive for counter-clockwise."""
    return np.asarray(plan_areas(tin.vertices, tin.triangles))


def edge_lengths(tin: Tin) -> Floats:
    """Return the plan length of each triangle's edges, (m, 3): from corner k to corner k + 1."""
    corner = tin.corners()[:, :, :2]
    step = np.roll(corner, -1, axis=1) - corner
    return np.asarray(np.hypot(step[:, :, 0], step[:, :, 1]))
