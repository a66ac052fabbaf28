"""Cutting everything along a line: what each surface, cloud and line is like below it, by distance along it."""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from functools import singledispatch
from typing import Any

import numpy as np
from numpy.typing import NDArray

from vastgrid.data.classes import CLASSES
from vastgrid.data.dataset import Dataset, Floats
from vastgrid.data.frame import Frame, ratio_of
from vastgrid.data.grid import Grid
from vastgrid.data.linework import Linework, from_lines, legs
from vastgrid.data.mesh import Mesh
from vastgrid.data.pointset import PointSet
from vastgrid.data.tin import Tin
from vastgrid.kernels.triangles.locate import cuts_along
from vastgrid.measures.heights import bucket_index, heights

# Some points of a cloud, and the rows they have in it; None for all.
Piece = tuple[Floats, NDArray[Any] | None]


@dataclass(frozen=True, eq=False)
class Profile:
    """What one dataset is like along a section.

    Attributes
    ----------
    name : str
        The dataset's.
    kind : str
        “line” for surfaces, “marks” for points, clouds, and lines that are crossed.
    along : (n,) float64
        Distance along the section, in plan units.
    z : (n,) float64
        Height; NaN parts runs where there is no ground.
    source : int
        Place of the dataset among those that were cut.
    classes : (n,) uint8 or None
        Class of each mark, where points have one.
    """

    name: str
    kind: str
    along: Floats
    z: Floats
    source: int
    classes: NDArray[np.uint8] | None = None

    def at(self, distance: float) -> float:
        """Return the height at a distance; NaN where there is none, and for marks."""
        if self.kind != "line" or len(self.along) == 0 or not self.along[0] <= distance <= self.along[-1]:
            return math.nan
        k = int(np.searchsorted(self.along, distance, side="right"))
        k = min(max(k, 1), len(self.along) - 1)
        a, b = self.along[k - 1], self.along[k]
        if b == a:
            return float(self.z[k])
        return float(self.z[k - 1] + (distance - a) / (b - a) * (self.z[k] - self.z[k - 1]))


def lengths_along(line: Floats) -> Floats:
    """Return the distance of each vertex from the first, (n,)."""
    steps = np.hypot(*np.diff(line[:, :2], axis=0).T)
    return np.concatenate(([0.0], np.cumsum(steps)))


def nearest_along(xyz: Floats, line: Floats, band: float) -> Floats:
    """Return the distance along a line of the place on it that is nearest to each point; NaN where none is within the band."""
    total = lengths_along(line)
    best = np.full(len(xyz), band)
    place = np.full(len(xyz), np.nan)
    for k in range(len(line) - 1):
        a, step = line[k, :2], line[k + 1, :2] - line[k, :2]
        length = float(np.hypot(*step))
        if length == 0:
            continue
        rel = xyz[:, :2] - a
        t = rel @ step / length
        away = np.abs(rel[:, 0] * -step[1] + rel[:, 1] * step[0]) / length
        closer = (t >= 0) & (t <= length) & (away <= best)
        best[closer], place[closer] = away[closer], total[k] + t[closer]
    return place


def stepped(line: Floats, sideways: float) -> Floats:
    """Return a line moved sideways, to the right of its direction where positive; corners are mitred.

    A corner so sharp that its mitre would be more than four times as far is cut at that.
    """
    xy = np.asarray(line[:, :2], np.float64)
    step = np.diff(xy, axis=0)
    length = np.hypot(step[:, 0], step[:, 1])
    unit = step / np.where(length == 0, 1.0, length)[:, None]
    right = np.column_stack((unit[:, 1], -unit[:, 0]))
    before, after = np.vstack((right[:1], right)), np.vstack((right, right[-1:]))
    mean = before + after
    size = np.maximum((mean**2).sum(axis=1), 0.125)
    return np.asarray(xy + sideways * 2.0 * mean / size[:, None])


def cut(
    datasets: Sequence[Dataset],
    line: Floats,
    band: float,
    clouds: dict[str, Iterable[Piece]] | None = None,
) -> list[Profile]:
    """Cut datasets along a line.

    Parameters
    ----------
    line : (n, ≥ 2) float64
        The section line; n ≥ 2.
    band : float
        Points count up to this far from the line, to either side.
    clouds : dict
        Of clouds too large to search whole, by digest of their points: the pieces near the line, each with the rows it has
        in the cloud.

    Returns
    -------
    list of Profile
        In the datasets' order; what is not met is left out.
    """
    found = []
    for k, each in enumerate(datasets):
        profile = _profile(each, line, k, band, (clouds or {}).get(each.content))
        if profile is not None and len(profile.along):
            found.append(profile)
    return found


@singledispatch
def _profile(data: Dataset, line: Floats, source: int, band: float, pieces: Iterable[Piece] | None) -> Profile | None:
    """Return what one dataset is like along a line; lines are met where they cross it."""
    courses = data.courses()
    return None if courses is None else _lines(data.name, data.coordinates(), courses[1], line, source)


def _sampled(surface: Tin | Grid, line: Floats, along: Floats) -> tuple[Floats, Floats]:
    """Return heights at distances where the surface bends, with NaN between where it has a gap."""
    total = lengths_along(line)
    along = np.unique(np.concatenate((along, total)))
    # Rounding makes two of one crossing; where they are no farther apart than that, one is enough.
    along = along[np.concatenate(([True], np.diff(along) > 1e-9 * max(total[-1], 1.0)))]
    z = heights(surface, _at(line, total, along))
    middle = (along[1:] + along[:-1]) / 2.0
    gap = np.isnan(heights(surface, _at(line, total, middle))) | np.isnan(z[1:]) | np.isnan(z[:-1])
    # At a rim the last height is taken from just inside, where rounding put the crossing outside.
    where = np.flatnonzero(gap) + 1
    out_along, out_z = np.insert(along, where, middle[gap]), np.insert(z, where, np.nan)
    if not np.isfinite(out_z).any():
        return np.zeros(0), np.zeros(0)
    known = np.flatnonzero(np.isfinite(out_z))
    return out_along[known[0] : known[-1] + 1], out_z[known[0] : known[-1] + 1]


def _at(line: Floats, total: Floats, along: Floats) -> Floats:
    """Return the places at distances along a line, (n, 2)."""
    return np.column_stack((np.interp(along, total, line[:, 0]), np.interp(along, total, line[:, 1])))


@_profile.register
def _tin(tin: Tin, line: Floats, source: int, band: float, pieces: Iterable[Piece] | None) -> Profile:
    met = cuts_along(line, tin.vertices, tin.triangles, bucket_index(tin))
    total = lengths_along(line)
    step = np.diff(total)
    segment = met[:, 0].astype(np.int64)
    along = total[segment] + met[:, 1] * step[segment]
    along, z = _with_cuts(tin, line, along, met[:, 4])
    return Profile(tin.name, "line", along, z, source)


def _with_cuts(tin: Tin, line: Floats, along: Floats, z: Floats) -> tuple[Floats, Floats]:
    """Return the profile through the crossings, whose heights are exact, and the line's own vertices."""
    total = lengths_along(line)
    own_z = heights(tin, np.ascontiguousarray(line[:, :2], np.float64))
    every, heights_there = np.concatenate((along, total)), np.concatenate((z, own_z))
    good = np.isfinite(heights_there)
    every, heights_there = every[good], heights_there[good]
    order = np.argsort(every, kind="stable")
    every, heights_there = every[order], heights_there[order]
    if len(every) == 0:
        return every, heights_there
    keep = np.concatenate(([True], np.diff(every) > 1e-9 * max(total[-1], 1.0)))
    every, heights_there = every[keep], heights_there[keep]
    middle = (every[1:] + every[:-1]) / 2.0
    gap = np.isnan(heights(tin, _at(line, total, middle)))
    where = np.flatnonzero(gap) + 1
    return np.insert(every, where, middle[gap]), np.insert(heights_there, where, np.nan)


@_profile.register
def _grid(grid: Grid, line: Floats, source: int, band: float, pieces: Iterable[Piece] | None) -> Profile:
    """Cut a grid where the line crosses rows and columns of cell centres, and half-way between: it bends there."""
    total = lengths_along(line)
    parts = [total]
    for k in range(len(line) - 1):
        for axis, origin, size in ((0, grid.west + grid.dx / 2.0, grid.dx), (1, grid.north - grid.dy / 2.0, grid.dy)):
            a, b = (line[k, axis] - origin) / size, (line[k + 1, axis] - origin) / size
            if abs(b - a) < 1e-12:
                continue
            whole = np.arange(math.ceil(min(a, b)), math.floor(max(a, b)) + 1)
            parts.append(total[k] + (whole - a) / (b - a) * (total[k + 1] - total[k]))
    along = np.unique(np.concatenate(parts))
    # Between two crossings the bilinear surface is a parabola: its middle keeps the chord near it.
    along = np.sort(np.concatenate((along, (along[1:] + along[:-1]) / 2.0)))
    return Profile(grid.name, "line", *_sampled(grid, line, along), source)


@_profile.register
def _mesh(mesh: Mesh, line: Floats, source: int, band: float, pieces: Iterable[Piece] | None) -> Profile:
    """Cut every face that the line's vertical planes meet; each cut is a run of its own."""
    total = lengths_along(line)
    along, z = [], []
    corner = mesh.vertices[mesh.triangles]
    for k in range(len(line) - 1):
        a, b = line[k, :2], line[k + 1, :2]
        length = float(np.hypot(*(b - a)))
        if length == 0:
            continue
        unit = (b - a) / length
        rel = corner[:, :, :2] - a
        side = rel[:, :, 0] * -unit[1] + rel[:, :, 1] * unit[0]
        at = rel @ unit
        met = np.flatnonzero(
            (side.min(axis=1) <= 0) & (side.max(axis=1) >= 0) & (at.max(axis=1) >= 0) & (at.min(axis=1) <= length)
        )
        for t in met.tolist():
            ends = _face_cut(side[t], at[t], corner[t, :, 2], length)
            if ends is not None:
                along += [total[k] + ends[0][0], total[k] + ends[1][0], total[k] + ends[1][0]]
                z += [ends[0][1], ends[1][1], math.nan]
    return Profile(mesh.name, "line", np.array(along), np.array(z), source)


def _face_cut(side: Floats, at: Floats, z: Floats, length: float) -> list[tuple[float, float]] | None:
    ends = []
    for i, j in ((0, 1), (1, 2), (2, 0)):
        if (side[i] <= 0) != (side[j] <= 0):
            t = side[i] / (side[i] - side[j])
            ends.append((float(at[i] + t * (at[j] - at[i])), float(z[i] + t * (z[j] - z[i]))))
    if len(ends) != 2:
        return None
    ends.sort()
    (a, za), (b, zb) = ends
    if b < 0 or a > length:
        return None
    if b > a:
        slope = (zb - za) / (b - a)
        za, a = (za + slope * (max(a, 0.0) - a), max(a, 0.0))
        zb, b = (zb + slope * (min(b, length) - b), min(b, length))
    return [(a, za), (b, zb)]


@_profile.register
def _of_points(points: PointSet, line: Floats, source: int, band: float, pieces: Iterable[Piece] | None) -> Profile:
    classes = points.attributes.get(CLASSES)
    along, z = [np.zeros(0)], [np.zeros(0)]
    codes = [np.zeros(0, np.uint8)]
    low, high = line[:, :2].min(axis=0) - band, line[:, :2].max(axis=0) + band
    for xyz, rows in pieces if pieces is not None else [(points.xyz, None)]:
        close = np.flatnonzero(((xyz[:, :2] >= low) & (xyz[:, :2] <= high)).all(axis=1))
        near = xyz[close]
        place = nearest_along(near, line, band)
        good = np.isfinite(place) & np.isfinite(near[:, 2])
        along.append(place[good])
        z.append(near[good, 2])
        if classes is not None:
            codes.append(classes[close[good] if rows is None else rows[close[good]]].astype(np.uint8))
    every, every_z = np.concatenate(along), np.concatenate(z)
    order = np.argsort(every)
    own = np.concatenate(codes)[order] if classes is not None else None
    return Profile(points.name, "marks", every[order], every_z[order], source, own)


def _lines(name: str, xyz: Floats, offsets: NDArray[np.int64], line: Floats, source: int) -> Profile:
    """Return where lines cross the section."""
    total = lengths_along(line)
    start = legs(offsets, len(xyz))
    along, z = [np.zeros(0)], [np.zeros(0)]
    for k in range(len(line) - 1):
        a, step = line[k, :2], line[k + 1, :2] - line[k, :2]
        side = (xyz[:, 0] - a[0]) * -step[1] + (xyz[:, 1] - a[1]) * step[0]
        met = start[(side[start] <= 0) != (side[start + 1] <= 0)]
        share = side[met] / (side[met] - side[met + 1])
        place = xyz[met] + share[:, None] * (xyz[met + 1] - xyz[met])
        t = ((place[:, :2] - a) @ step) / max(float(step @ step), 1e-300)
        good = (t >= 0) & (t <= 1) & np.isfinite(place[:, 2])
        along.append(total[k] + t[good] * (total[k + 1] - total[k]))
        z.append(place[good, 2])
    every, every_z = np.concatenate(along), np.concatenate(z)
    order = np.argsort(every)
    return Profile(name, "marks", every[order], every_z[order], source)


# -- handing on


def as_csv(profiles: Sequence[Profile], line: Floats) -> str:
    """Return a section as a table: distance, easting, northing, then a column of heights for each surface.

    Marks follow in rows of their own, named in the last column.
    """
    total = lengths_along(line)
    surfaces = [each for each in profiles if each.kind == "line"]
    along = np.unique(np.concatenate([np.zeros(0), *(each.along for each in surfaces)]))
    places = _at(line, total, along)
    names = "".join('"' + each.name.replace('"', "'") + '",' for each in surfaces)
    rows = [f"Distance,Easting,Northing,{names}Mark,Mark elevation"]
    for k, distance in enumerate(along.tolist()):
        z = [each.at(distance) for each in surfaces]
        words = "".join("," if math.isnan(value) else f"{value:.4f}," for value in z)
        rows.append(f"{distance:.4f},{places[k, 0]:.4f},{places[k, 1]:.4f},{words},")
    empty = "," * len(surfaces)
    for each in profiles:
        if each.kind == "marks":
            where = _at(line, total, each.along)
            name = each.name.replace('"', "'")
            for k in range(len(each.along)):
                place = f"{each.along[k]:.4f},{where[k, 0]:.4f},{where[k, 1]:.4f}"
                rows.append(f'{place},{empty}"{name}",{each.z[k]:.4f}')
    return "\n".join(rows) + "\n"


def as_drawing(profiles: Sequence[Profile], frame: Frame) -> Linework:
    """Return a section as lines: distance to the right, heights upwards, both at 1:1, a layer for each dataset."""
    lines, layers = [], []
    for each in profiles:
        flat = np.column_stack((each.along, each.z, np.zeros(len(each.along))))
        good = np.isfinite(each.z)
        marks = np.flatnonzero(np.diff(np.concatenate(([False], good, [False])).astype(np.int8)))
        for start, stop in zip(marks[::2].tolist(), marks[1::2].tolist(), strict=True):
            if each.kind == "line" and stop - start > 1:
                lines.append(flat[start:stop])
                layers.append(each.name)
        if each.kind == "marks":
            # A short tick, since a point alone is easily overlooked in a drawing.
            lines += [np.array([(d - 0.05, z, 0.0), (d + 0.05, z, 0.0)]) for d, z, _ in flat[good][:20_000].tolist()]
            layers += [each.name] * min(int(good.sum()), 20_000)
    unit = frame.horizontal
    work = from_lines("Section", Frame(None, unit, unit), lines, layers)
    if ratio_of(frame) != 1.0:
        work = from_lines(
            "Section",
            Frame(None, unit, unit),
            [line * (1.0, 1.0 / ratio_of(frame), 1.0) for line in lines],
            layers,
        )
    return work
