"""Boundaries and lines that are given twice."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.findings import Finding, Severity
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Length, Quantity, length_in
from vastgrid.data.dataset import Dataset
from vastgrid.data.linework import Linework
from vastgrid.declarations.check import Check, cut_short
from vastgrid.params.declare import Param

# The attribute that tells outlines of areas from their holes.
HOLE = "hole"


@dataclass(frozen=True)
class Params:
    """When two lines are the same."""

    place: Annotated[
        Length,
        Param("One place", "Vertices are the same when they agree rounded to this.", Quantity.XY_LENGTH, above=0),
    ] = Length(0.001)


def run(lines: Linework, others: Sequence[Dataset], params: Params, progress: Progress) -> list[Finding]:
    """Return lines that are there twice, in this dataset or in another; closed ones first."""
    if HOLE in lines.attributes:
        # Outlines of neighbouring areas: what is the rim of one is a hole of the other.
        return []
    size = length_in(params.place, lines.frame.horizontal)
    own = _marks(lines, size)
    closed = lines.closed()
    seen: dict[tuple[int, int], tuple[str, int]] = {}
    for other in others:
        if isinstance(other, Linework) and other.frame.horizontal is lines.frame.horizontal:
            for k, mark in enumerate(_marks(other, size)):
                seen.setdefault(mark, (other.name, k))
    progress.report(0.6)
    first: dict[tuple[int, int], int] = {}
    found = []
    for k, mark in enumerate(own):
        if mark[0] < 2:
            continue
        layer = lines.layers[lines.layer[k]]
        what = f"{'The closed line' if closed[k] else 'A line'} on {layer or 'no layer'}"
        if mark in first:
            before = lines.layers[lines.layer[first[mark]]]
            where = "twice" if before == layer else f"also on {before}"
            text = f"{what} is given {where}, vertex for vertex; one of the two is enough."
        elif mark in seen:
            text = f"{what} is also in {seen[mark][0]}, vertex for vertex."
        else:
            first[mark] = k
            continue
        at = lines.line(k)[0]
        severity = Severity.WARNING if closed[k] else Severity.NOTE
        found.append(Finding(CHECK.id, text, severity, (float(at[0]), float(at[1]))))
    found.sort(key=lambda each: each.severity is Severity.NOTE)
    return cut_short(found, CHECK.id, ("line given twice", "lines given twice"))


def _marks(lines: Linework, size: float) -> list[tuple[int, int]]:
    """Return for each line how many vertices it has and a digest that neither direction nor start changes."""
    if len(lines) == 0:
        return []
    cell = np.rint(np.nan_to_num(lines.vertices[:, :2]) / size).astype(np.int64)
    hashed: NDArray[np.uint64] = cell[:, 0].astype(np.uint64) * np.uint64(0x9E3779B97F4A7C15)
    hashed ^= cell[:, 1].astype(np.uint64) * np.uint64(0xC2B2AE3D27D4EB4F)
    hashed ^= hashed >> np.uint64(31)
    hashed *= np.uint64(0x94D049BB133111EB)
    hashed ^= hashed >> np.uint64(29)
    # A closed line repeats its first vertex, wherever that is: it does not count.
    hashed[lines.offsets[1:][lines.closed()] - 1] = 0
    total = np.concatenate((np.zeros(1, np.uint64), np.cumsum(hashed, dtype=np.uint64)))
    sums = total[lines.offsets[1:]] - total[lines.offsets[:-1]]
    return list(zip(np.diff(lines.offsets).tolist(), sums.tolist(), strict=True))


CHECK = Check(
    id="given-twice",
    version=1,
    title="Lines given twice",
    help="A boundary that is there twice cuts twice, or encloses nothing.",
    takes=(Linework,),
    params=Params,
    run=run,
    around=True,
)
