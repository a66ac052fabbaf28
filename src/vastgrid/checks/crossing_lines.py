"""Breaklines that cross at different heights: no surface can go through both."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.findings import Finding
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Length, Quantity, length_in
from vastgrid.kernels.crossings import crossings
from vastgrid.params.declare import Param
from vastgrid.terrain.check import Check, cut_short, with_unit
from vastgrid.terrain.dataset import Dataset, Floats
from vastgrid.terrain.linework import Linework


@dataclass(frozen=True)
class Params:
    """When a crossing contradicts itself."""

    apart: Annotated[
        Length,
        Param("Heights differ by more than", "Smaller differences are measuring noise.", Quantity.Z_LENGTH, least=0),
    ] = Length(0.05)


def run(lines: Linework, others: Sequence[Dataset], params: Params, progress: Progress) -> list[Finding]:
    """Return crossings at different heights, the farthest apart first."""
    start = np.setdiff1d(np.arange(len(lines.vertices)), lines.offsets[1:] - 1)
    a, b = lines.vertices[start], lines.vertices[start + 1]
    solid = np.isfinite(a).all(axis=1) & np.isfinite(b).all(axis=1) & ~_flat_at_zero(lines)[start]
    a, b, start = a[solid], b[solid], start[solid]
    if len(a) < 2:
        return []
    pairs, shares = crossings(a, b)
    progress.report(0.5)
    one, other = pairs.T
    s, t = shares.T
    place = a[one] + s[:, None] * (b[one] - a[one])
    z = a[other, 2] + t * (b[other, 2] - a[other, 2])
    gap = np.abs(place[:, 2] - z)
    wrong = np.flatnonzero(gap > length_in(params.apart, lines.frame.vertical))
    wrong = wrong[np.argsort(-gap[wrong], kind="stable")]
    wrong = wrong[np.unique(np.round(place[wrong, :2], 3), axis=0, return_index=True)[1]]
    wrong = wrong[np.argsort(-gap[wrong], kind="stable")]
    progress.report(0.9)
    line_of = np.searchsorted(lines.offsets, start, side="right") - 1
    found = [
        _told(lines, int(line_of[one[k]]), int(line_of[other[k]]), place[k], float(z[k])) for k in wrong[:500].tolist()
    ]
    return cut_short(found, CHECK.id, ("crossing", "crossings"))


def _flat_at_zero(lines: Linework) -> NDArray[np.bool_]:
    """Return which vertices belong to lines that lie at zero as a whole: outlines without heights."""
    flat = np.zeros(len(lines.vertices), np.bool_)
    z = lines.vertices[:, 2]
    for k in range(len(lines)):
        own = slice(int(lines.offsets[k]), int(lines.offsets[k + 1]))
        flat[own] = not np.any(z[own])
    return flat


def _told(lines: Linework, one: int, other: int, place: Floats, z: float) -> Finding:
    unit = lines.frame.vertical
    names = [lines.layers[lines.layer[k]] or "a line" for k in (one, other)]
    who = f"Two lines on {names[0]}" if names[0] == names[1] else f"{names[0]} and {names[1]}"
    own = float(place[2])
    text = f"{who} cross at different heights: {with_unit(own, unit, 3)} and {with_unit(z, unit, 3)}, {with_unit(abs(own - z), unit, 3)} apart."
    return Finding(CHECK.id, text, at=(float(place[0]), float(place[1])))


CHECK = Check(
    id="crossing-lines",
    version=1,
    title="Lines crossing at different heights",
    help="Where two breaklines cross, the ground has one height; one of the lines is wrong there.",
    takes=(Linework,),
    params=Params,
    run=run,
)
