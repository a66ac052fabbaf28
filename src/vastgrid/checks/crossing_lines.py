"""Breaklines that meet others, or points, at different heights: no surface can go through both."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Annotated

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.findings import Finding
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Length, Quantity, Unit, length_in
from vastgrid.data.dataset import Dataset, Floats
from vastgrid.data.linework import Linework
from vastgrid.data.pointset import PointSet
from vastgrid.declarations.check import Check, cut_short, with_unit
from vastgrid.kernels.triangles.crossings import crossings, on_segments
from vastgrid.params.declare import Param


@dataclass(frozen=True)
class Params:
    """When a crossing contradicts itself."""

    apart: Annotated[
        Length,
        Param("Heights differ by more than", "Smaller differences are measuring noise.", Quantity.Z_LENGTH, least=0),
    ] = Length(0.05)


def run(lines: Linework, others: Sequence[Dataset], params: Params, progress: Progress) -> list[Finding]:
    """Return crossings at different heights, ends and points on lines at other heights; the farthest apart first."""
    start = np.setdiff1d(np.arange(len(lines.vertices)), lines.offsets[1:] - 1)
    a, b = lines.vertices[start], lines.vertices[start + 1]
    solid = np.isfinite(a).all(axis=1) & np.isfinite(b).all(axis=1) & ~_flat_at_zero(lines)[start]
    a, b, start = a[solid], b[solid], start[solid]
    if len(a) == 0:
        return []
    line_of = np.searchsorted(lines.offsets, start, side="right") - 1
    unit = lines.frame.vertical
    apart = length_in(params.apart, unit)
    called = [lines.layers[k] or "a line" for k in lines.layer.tolist()]
    pairs, shares = crossings(a, b)
    progress.report(0.4)
    one, other = line_of[pairs].T
    place = a[pairs[:, 0]] + shares[:, :1] * (b[pairs[:, 0]] - a[pairs[:, 0]])
    z = a[pairs[:, 1], 2] + shares[:, 1] * (b[pairs[:, 1], 2] - a[pairs[:, 1], 2])
    met = _apart(place, z, apart, lambda k: _pair(called[one[k]], called[other[k]]))
    near = length_in(_NEAR, lines.frame.horizontal)

    def on_lines(xyz: Floats, who: Sequence[str]) -> list[_Met]:
        on, along = on_segments(xyz, a, b, near)
        z = a[on[:, 1], 2] + along * (b[on[:, 1], 2] - a[on[:, 1], 2])
        name = "{} lies on {} at another height".format
        return _apart(xyz[on[:, 0]], z, apart, lambda k: name(who[on[k, 0]], called[line_of[on[k, 1]]]))

    vertex = np.unique(np.concatenate((start, start + 1)))
    vertex_line = np.searchsorted(lines.offsets, vertex, side="right") - 1
    met += on_lines(lines.vertices[vertex], [f"A vertex of {called[k]}" for k in vertex_line.tolist()])
    progress.report(0.7)
    for points in others:
        # A scan has points everywhere, bushes and walls beside a line included; a survey's points are meant.
        if not isinstance(points, PointSet) or {"intensity", "return_number"} & set(points.attributes):
            continue
        if len(points.xyz) <= MOST_POINTS and points.frame == lines.frame:
            xyz = points.xyz[np.isfinite(points.xyz).all(axis=1)]
            met += on_lines(xyz, [f"A point of {points.name}"] * len(xyz))
    progress.report(0.9)
    met.sort(key=lambda each: -abs(each.own - each.other))
    found, seen = [], set()
    for each in met:
        key = (round(each.east, 3), round(each.north, 3))
        if key not in seen:
            seen.add(key)
            found.append(each.told(unit))
    return cut_short(found, CHECK.id, ("meeting", "meetings"))


# Closer to a line than this a point lies on it: what a TIN takes for one place.
_NEAR = Length(0.001)
MOST_POINTS = 200_000
_MOST_TOLD = 500


@dataclass(frozen=True, slots=True)
class _Met:
    """Two heights at one place."""

    who: str
    east: float
    north: float
    own: float
    other: float

    def told(self, unit: Unit | None) -> Finding:
        own, other = self.own, self.other
        text = f"{self.who}: {with_unit(own, unit, 3)} and {with_unit(other, unit, 3)}, {with_unit(abs(own - other), unit, 3)} apart."
        return Finding(CHECK.id, text, at=(self.east, self.north))


def _apart(place: Floats, z: Floats, apart: float, who: Callable[[int], str]) -> list[_Met]:
    """Return the places whose own height and the other lie farthest apart, each with what meets there."""
    gap = np.abs(place[:, 2] - z)
    wrong = np.flatnonzero(gap > apart)
    order = wrong[np.argsort(-gap[wrong], kind="stable")][:_MOST_TOLD]
    return [
        _Met(who(k), east, north, own, float(z[k]))
        for k, (east, north, own) in zip(order.tolist(), place[order].tolist(), strict=True)
    ]


def _pair(one: str, other: str) -> str:
    who = f"Two lines on {one}" if one == other else f"{one} and {other}"
    return f"{who} cross at different heights"


def _flat_at_zero(lines: Linework) -> NDArray[np.bool_]:
    """Return which vertices belong to lines that lie at zero as a whole: outlines without heights."""
    flat = np.zeros(len(lines.vertices), np.bool_)
    z = lines.vertices[:, 2]
    for k in range(len(lines)):
        own = slice(int(lines.offsets[k]), int(lines.offsets[k + 1]))
        flat[own] = not np.any(z[own])
    return flat


CHECK = Check(
    id="crossing-lines",
    version=2,
    title="Lines meeting at different heights",
    help="Where breaklines cross, end on each other or run through points, the ground has one height; one of them is wrong there.",
    takes=(Linework,),
    params=Params,
    run=run,
    around=True,
)
