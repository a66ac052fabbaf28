"""Names that are used twice: of points, of records, of datasets."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.findings import Finding, Severity, count, note
from vastgrid.base.progress import Progress
from vastgrid.data.areas import Areas
from vastgrid.data.dataset import Dataset
from vastgrid.data.grid import Grid
from vastgrid.data.linework import Contours, Linework
from vastgrid.data.pointset import PointSet
from vastgrid.data.survey import Survey
from vastgrid.data.tin import Tin
from vastgrid.declarations.check import Check, cut_short, point_name

_NUMBERED = re.compile(r" \(\d+\)$")


@dataclass(frozen=True)
class Params:
    """There is nothing to choose."""


def run(data: Dataset, others: Sequence[Dataset], params: Params, progress: Progress) -> list[Finding]:
    """Return names that do not tell apart what they name."""
    found: list[Finding] = []
    plain = _NUMBERED.sub("", data.name)
    if plain != data.name and any(other.name == plain and other.kind == data.kind for other in others):
        found.append(note(CHECK.id, f"The name {plain} was taken already; this one became {data.name}."))
    if isinstance(data, PointSet) and "point" in data.attributes:
        found += _points(data)
    if isinstance(data, Survey):
        found += _records(data)
    return cut_short(found, CHECK.id, ("name used twice", "names used twice"))


def _points(points: PointSet) -> list[Finding]:
    names = points.attributes["point"]
    if len(names) > 2_000_000 or names.dtype.kind not in "SU":
        return []
    _, first, group, number = np.unique(_hashes(names), return_index=True, return_inverse=True, return_counts=True)
    twice = np.flatnonzero(number > 1)
    found = []
    for k in twice[:200].tolist():
        name = point_name(points, int(first[k])).strip()
        if not name:
            continue
        own = points.xyz[np.flatnonzero(group.ravel() == k)]
        reach = float(np.hypot(*np.ptp(own[:, :2], axis=0)))
        text = f"Point {name} is there {number[k]} times, at places up to {reach:.2f} apart."
        found.append(Finding(CHECK.id, text, Severity.WARNING, (float(own[1, 0]), float(own[1, 1]))))
    if len(twice) > 200:
        found.append(note(CHECK.id, f"{count(len(twice), 'name')} in all are used more than once."))
    return found


def _hashes(names: NDArray[Any]) -> NDArray[np.uint64]:
    """Return a digest of each name, (n,): numbers are sorted while others work, texts are not."""
    plain = np.ascontiguousarray(names)
    wide = plain.dtype.itemsize
    padded = np.zeros((len(plain), -(-wide // 8) * 8), np.uint8)
    padded[:, :wide] = plain.view(np.uint8).reshape(len(plain), wide)
    out = np.zeros(len(plain), np.uint64)
    for word in padded.view(np.uint64).T:
        out = (out ^ word) * np.uint64(0x9E3779B97F4A7C15)
        out ^= out >> np.uint64(29)
    return out


def _records(survey: Survey) -> list[Finding]:
    seen: dict[tuple[str, str], int] = {}
    found = []
    for k, key in enumerate(zip(survey.roles, survey.names, strict=True)):
        if key in seen and key[1]:
            at = survey.vertices[survey.offsets[k]]
            text = f"The {key[0]} {key[1]} is there twice."
            found.append(Finding(CHECK.id, text, Severity.WARNING, (float(at[0]), float(at[1]))))
        seen.setdefault(key, k)
    return found


CHECK = Check(
    id="name-twice",
    version=1,
    title="Names used twice",
    help="Two things with the same name cannot be distinguished later, and some formats keep only one of them.",
    takes=(PointSet, Survey, Tin, Grid, Linework, Contours, Areas),
    params=Params,
    run=run,
    around=True,
)
