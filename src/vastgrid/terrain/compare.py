"""How far two surfaces differ vertically: the figure that every conversion and every written file has to show."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np

from vastgrid.base.errors import DataError
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Unit, unit_word
from vastgrid.kernels.locate import Buckets, buckets, heights_at, largest_edge_gap
from vastgrid.kernels.raster import bilinear, lattice_triangles, raster_heights
from vastgrid.kernels.topology import group_places
from vastgrid.kernels.triangulate import once, parted_at_places, triangulate
from vastgrid.terrain.dataset import Dataset, Floats
from vastgrid.terrain.grid import Grid
from vastgrid.terrain.linework import Contours
from vastgrid.terrain.tin import Tin, edges

LATTICE = 1_000_000


@dataclass(frozen=True, slots=True)
class Loss:
    """Vertical difference of two surfaces over their common ground (second minus first).

    Attributes
    ----------
    largest : float
        Largest absolute difference found: on the lattice, at every vertex of both and, between TINs, wherever their
        edges cross, which makes it exact.
    rmse, mean, p95 : float
        Root mean square, mean (signed) and 95th percentile of the absolute difference, over an even lattice of about
        a million places.
    at : tuple of float
        Easting and northing of the largest.
    area : float
        Plan area in common, by the lattice.
    share : float
        That area as a share of the first surface's own.
    unit, plan_unit : Unit or None
        Unit of the differences; unit of the place, whose square is the area's.
    """

    largest: float
    rmse: float
    mean: float
    p95: float
    at: tuple[float, float]
    area: float
    share: float
    unit: Unit | None
    plan_unit: Unit | None

    def to_json(self) -> dict[str, Any]:
        """Return the figures by the names the command line uses."""
        return {
            "max": self.largest,
            "rmse": self.rmse,
            "p95": self.p95,
            "mean": self.mean,
            "at": list(self.at),
            "area": self.area,
            "unit": self.unit.value if self.unit else None,
            "plan_unit": self.plan_unit.value if self.plan_unit else None,
            "share": self.share,
        }

    @staticmethod
    def from_json(values: dict[str, Any]) -> Loss:
        """Return the loss that `to_json` gave."""
        unit, plan = (Unit(values[name]) if values[name] else None for name in ("unit", "plan_unit"))
        at = (float(values["at"][0]), float(values["at"][1]))
        return Loss(
            values["max"],
            values["rmse"],
            values["mean"],
            values["p95"],
            at,
            values["area"],
            values["share"],
            unit,
            plan,
        )

    def sentence(self) -> str:
        """Return “0.61 m at most (at E 1, N 2), 0.11 m RMSE, 0.25 m for 95 %”."""
        unit = unit_word(self.unit)
        place = f"E {self.at[0]:.2f}, N {self.at[1]:.2f}"
        text = (
            f"{self.largest:.3f}{unit} at most (at {place}), {self.rmse:.3f}{unit} RMSE, {self.p95:.3f}{unit} for 95 %"
        )
        return text if self.share > 0.995 else f"{text}, over {self.share:.0%} of the ground"


def bucket_index(tin: Tin) -> Buckets:
    """Return a TIN's bucket index, made once."""
    made: Buckets = tin.worked_out("buckets", lambda: buckets(tin.vertices, tin.triangles))
    return made


def heights_at_hand(surface: Dataset) -> bool:
    """Return whether heights of a surface can be had at once: a TIN's index takes a second for millions of triangles."""
    return isinstance(surface, Grid) or (isinstance(surface, Tin) and surface.is_worked_out("buckets"))


def heights(surface: Tin | Grid, xy: Floats) -> Floats:
    """Return a surface's height at places in plan, (n,) float64, NaN outside."""
    if isinstance(surface, Tin):
        return heights_at(xy, surface.vertices, surface.triangles, bucket_index(surface))
    column = (xy[:, 0] - surface.west) / surface.dx - 0.5
    row = (surface.north - xy[:, 1]) / surface.dy - 0.5
    return np.asarray(bilinear(surface.heights, column, row))


def lattice(
    surface: Tin | Grid, corner: tuple[float, float], cell: tuple[float, float], shape: tuple[int, int]
) -> Floats:
    """Return a surface's heights at the centres of a lattice, (rows, columns) float64, NaN outside."""
    if isinstance(surface, Tin):
        return raster_heights(surface.vertices, surface.triangles, corner, cell, shape)
    east = corner[0] + (np.arange(shape[1]) + 0.5) * cell[0]
    north = corner[1] - (np.arange(shape[0]) + 0.5) * cell[1]
    column = np.tile((east - surface.west) / surface.dx - 0.5, shape[0])
    row = np.repeat((surface.north - north) / surface.dy - 0.5, shape[1])
    return np.asarray(bilinear(surface.heights, column, row).reshape(shape))


def grid_tin(grid: Grid) -> Tin:
    """Return the TIN through a grid's cell centres; see `lattice_triangles` for how cells are split."""
    triangles = lattice_triangles(grid.heights)
    row, column = np.divmod(np.arange(grid.rows * grid.columns), grid.columns)
    vertices = np.column_stack((grid.eastings()[column], grid.northings()[row], grid.heights.ravel()))
    used = np.zeros(len(vertices), np.bool_)
    used[triangles.ravel()] = True
    number = np.cumsum(used, dtype=np.int32) - 1
    return Tin(name=grid.name, frame=grid.frame, vertices=vertices[used], triangles=number[triangles])


def contour_tin(contours: Contours, progress: Progress) -> Tin:
    """Return contours turned back into a TIN, their lines kept as edges: what a receiver can make of them alone.

    Raises
    ------
    DataError
        If the contours do not span a plane.
    """
    xyz = contours.coordinates()
    origin = np.floor(xyz[:, :2].min(axis=0)) if len(xyz) else np.zeros(2)
    local = np.ascontiguousarray(xyz[:, :2] - origin)
    # Vertices that only rounding keeps apart are one, and lines that touch share it.
    near = max(float(np.ptp(local, axis=0).max(initial=0.0)) * 1e-10, 1e-9)
    number, first = group_places(local[:, 0].copy(), local[:, 1].copy(), near)
    places, z = xyz[first, :2], xyz[first, 2]
    lengths = np.diff(contours.offsets)
    follows = np.ones(len(xyz), np.bool_)
    follows[contours.offsets[1:][lengths > 0] - 1] = False
    start = np.flatnonzero(follows)
    lines = np.column_stack((number[start], number[start + 1])).astype(np.int64)
    lines = parted_at_places(places, once(lines), 10.0 * near)
    made = triangulate(places, lines, progress)
    # Contours of one surface do not cross; where rounding makes them, the first line's level stands.
    extra = [z[lines[group[0], 0]] if group else 0.0 for _, group in made.crossings]
    vertices = np.column_stack((made.xy, np.concatenate((z, extra))))
    return Tin(
        name=contours.name,
        frame=contours.frame,
        vertices=vertices,
        triangles=made.triangles,
        neighbours=made.neighbours,
        constrained=made.constrained,
    )


def difference(first: Tin | Grid, second: Tin | Grid, progress: Progress) -> Loss:
    """Measure how far the second surface lies above the first.

    Raises
    ------
    DataError
        If they have no ground in common.
    """
    for each in (first, second):
        if isinstance(each, Grid) and not each.has_heights:
            raise DataError(f"{each.name} holds {each.holds()}, no heights, so it cannot be compared as ground")
    if first.content == second.content:
        second = first
    corner, cell, shape = _common_lattice(first, second)
    own = lattice(first, corner, cell, shape)
    progress.report(0.3, "comparing")
    other = lattice(second, corner, cell, shape)
    progress.report(0.5, "comparing")
    gap = other - own
    both = np.isfinite(gap)
    row, column = np.nonzero(both)
    places = np.column_stack((corner[0] + (column + 0.5) * cell[0], corner[1] - (row + 0.5) * cell[1]))
    values = gap[both]
    # A surface does not differ from itself, whatever rounding says.
    vertex_places, vertex_gap = (np.zeros((0, 2)), np.zeros(0)) if first is second else _at_vertices(first, second)
    progress.report(0.8, "comparing")
    if len(values) == 0:
        # Slivers that no lattice place hits still have vertices.
        values, places = vertex_gap, vertex_places
    if len(values) == 0:
        raise DataError(f"{first.name} and {second.name} have no ground in common, so they cannot be compared")
    worst, at = _worst([(values, places), (vertex_gap, vertex_places)])
    if isinstance(first, Tin) and isinstance(second, Tin) and first is not second:
        found, x, y = largest_edge_gap(
            edges(first), first.vertices, second.vertices, second.triangles, bucket_index(second)
        )
        if abs(found) > worst:
            worst, at = abs(found), (x, y)
    progress.report(1.0, "comparing")
    return Loss(
        largest=worst,
        rmse=math.sqrt(float(np.mean(values**2))),
        mean=float(np.mean(values)),
        p95=float(np.quantile(np.abs(values), 0.95)),
        at=at,
        area=float(both.sum()) * cell[0] * cell[1],
        share=min(float(both.sum()) / max(float(np.isfinite(own).sum()), 1.0), 1.0) * _overlap(first, second),
        unit=first.frame.vertical,
        plan_unit=first.frame.horizontal,
    )


def _bounds(surface: Dataset) -> tuple[float, float, float, float]:
    extent = surface.extent()
    if extent.east is None or extent.north is None:
        raise DataError(f"{surface.name} is empty")
    return extent.east[0], extent.north[0], extent.east[1], extent.north[1]


def _overlap(first: Dataset, second: Dataset) -> float:
    # The lattice covers the common rectangle; what of the first lies outside it is lost too.
    a, b = _bounds(first), _bounds(second)
    whole = (a[2] - a[0]) * (a[3] - a[1])
    common = max(min(a[2], b[2]) - max(a[0], b[0]), 0.0) * max(min(a[3], b[3]) - max(a[1], b[1]), 0.0)
    return min(common / whole, 1.0) if whole > 0 else 1.0


def _common_lattice(
    first: Dataset, second: Dataset
) -> tuple[tuple[float, float], tuple[float, float], tuple[int, int]]:
    a, b = _bounds(first), _bounds(second)
    west, south, east, north = max(a[0], b[0]), max(a[1], b[1]), min(a[2], b[2]), min(a[3], b[3])
    if east <= west or north <= south:
        raise DataError(
            f"{first.name} (E {a[0]:.2f} … {a[2]:.2f}, N {a[1]:.2f} … {a[3]:.2f}) and {second.name} "
            f"(E {b[0]:.2f} … {b[2]:.2f}, N {b[1]:.2f} … {b[3]:.2f}) have no ground in common"
        )
    size = math.sqrt((east - west) * (north - south) / LATTICE)
    columns, rows = max(int((east - west) / size), 1), max(int((north - south) / size), 1)
    columns, rows = min(columns, LATTICE), min(rows, LATTICE)
    return (west, north), ((east - west) / columns, (north - south) / rows), (rows, columns)


def _at_vertices(first: Tin | Grid, second: Tin | Grid) -> tuple[Floats, Floats]:
    places, gaps = [], []
    for own, other, sign in ((first, second, 1.0), (second, first, -1.0)):
        xyz = own.coordinates()
        gap = sign * (heights(other, xyz[:, :2]) - xyz[:, 2])
        good = np.isfinite(gap)
        places.append(xyz[good, :2])
        gaps.append(gap[good])
    return np.concatenate(places), np.concatenate(gaps)


def _worst(samples: list[tuple[Floats, Floats]]) -> tuple[float, tuple[float, float]]:
    worst, at = 0.0, (math.nan, math.nan)
    for values, places in samples:
        if len(values):
            k = int(np.abs(values).argmax())
            if abs(values[k]) > worst or math.isnan(at[0]):
                worst, at = abs(float(values[k])), (float(places[k, 0]), float(places[k, 1]))
    return worst, at
