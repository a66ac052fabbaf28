"""Heights of exactly zero among others that are far from it: a missing value written as a number."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated

import numpy as np

from vastgrid.base.findings import Finding, Severity, count
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Length, Quantity, length_in
from vastgrid.data.dataset import Dataset, Floats
from vastgrid.data.grid import Grid
from vastgrid.data.linework import Linework
from vastgrid.data.pointset import PointSet
from vastgrid.data.tin import Tin
from vastgrid.declarations.check import Check
from vastgrid.params.declare import Param


@dataclass(frozen=True)
class Params:
    """When a zero is no height."""

    away: Annotated[
        Length,
        Param(
            "Other heights are away by at least",
            "How far from zero 95 % of the other heights have to be.",
            Quantity.Z_LENGTH,
            above=0,
        ),
    ] = Length(5.0)


def run(data: Dataset, others: Sequence[Dataset], params: Params, progress: Progress) -> list[Finding]:
    """Return how many heights are zero where none should be, and where the first one is."""
    away = length_in(params.away, data.frame.vertical)
    if isinstance(data, Linework):
        return _of_lines(data, away)
    xyz = data.coordinates()
    zero = xyz[:, 2] == 0.0
    if not _strange(xyz[:, 2], zero, away):
        return []
    what = {"points": ("point", "points"), "tin": ("vertex", "vertices"), "grid": ("cell", "cells")}[data.kind]
    at = xyz[int(np.flatnonzero(zero)[0]), :2]
    text = f"{count(int(zero.sum()), *what)} of {count(len(xyz), *what)} have the height 0, while the others are {_usual(xyz[:, 2], zero)}: no height was known there."
    return [Finding(CHECK.id, text, at=(float(at[0]), float(at[1])))]


def _strange(z: Floats, zero: np.ndarray, away: float) -> bool:
    if not zero.any():
        return False
    some = slice(None, None, max(len(z) // 1_000_000, 1))
    rest = np.abs(z[some][~zero[some] & np.isfinite(z[some])])
    return len(rest) > 0 and float(np.quantile(rest, 0.05)) >= away


def _usual(z: Floats, zero: np.ndarray) -> str:
    rest = z[~zero & np.isfinite(z)]
    return f"{rest.min():.2f} … {rest.max():.2f}"


def _of_lines(lines: Linework, away: float) -> list[Finding]:
    z = lines.vertices[:, 2]
    zero = z == 0.0
    if not _strange(z, zero, away):
        return []
    whole, part = [], []
    for k in range(len(lines)):
        own = zero[lines.offsets[k] : lines.offsets[k + 1]]
        if own.all() and len(own):
            whole.append(k)
        elif own.any():
            part.append(k)
    found = []
    for chosen, severity, one, many, rest in (
        (part, Severity.WARNING, "has", "have", "vertices with the height 0 among others: no height was known there"),
        (
            whole,
            Severity.NOTE,
            "lies",
            "lie",
            "at 0 as a whole, outlines without heights. A TIN has to leave them out, or use them as a boundary",
        ),
    ):
        if chosen:
            names = ", ".join(dict.fromkeys(lines.layers[lines.layer[k]] or "no layer" for k in chosen))
            first = lines.line(chosen[0])
            at = first[int(np.flatnonzero(first[:, 2] == 0.0)[0]), :2]
            verb = one if len(chosen) == 1 else many
            text = f"{count(len(chosen), 'line')} ({names}) {verb} {rest}; the other heights are {_usual(z, zero)}."
            found.append(Finding(CHECK.id, text, severity, (float(at[0]), float(at[1]))))
    return found


CHECK = Check(
    id="zero-heights",
    version=1,
    title="Heights of zero",
    help="Many programs write 0 where they know no height; such places pull a surface down to sea level.",
    takes=(PointSet, Linework, Tin, Grid),
    params=Params,
    run=run,
)
