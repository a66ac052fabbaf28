"""Spot heights as text: a first line, then easting, northing and height of each."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np

from vastgrid.plugin import (
    UNKNOWN, Carries, Dataset, Format, FormatError, NoParams, PointSet, Progress, ReadResult, narrowed, weighing,
)  # fmt: skip

INTERFACE = "1.0"
_HEAD = "tollgarth_spots 1"


def sniff(head: bytes, path: Path) -> int:
    """Say how sure it is that a file is of this format."""
    return 95 if head.startswith(_HEAD.encode()) else 0


def read(path: Path, params: NoParams, progress: Progress) -> ReadResult:
    """Read the spots; the file says no unit, and so the data has none."""
    lines = path.read_text(encoding="utf-8", errors="replace").splitlines()
    if not lines or lines[0].strip() != _HEAD:
        raise FormatError(path, f"its first line is not “{_HEAD}”")
    rows = []
    for number, line in enumerate(lines[1:], 2):
        try:
            east, north, height = (float(word) for word in line.split())
        except ValueError:
            raise FormatError(path, f"“{line[:40]}” is not three numbers", line=number) from None
        rows.append((east, north, height))
    if not rows or not np.isfinite(rows).all():
        raise FormatError(path, "there is no spot in it, or one is not a finite number")
    progress.report(1.0, f"reading {path.name}")
    return ReadResult((PointSet(name=path.stem, frame=UNKNOWN, xyz=np.array(rows)),))


def write(datasets: Sequence[Dataset], path: Path, params: NoParams, progress: Progress) -> None:
    """Write the spots with all of their digits."""
    with path.open("w", encoding="utf-8") as file:
        file.write(f"{_HEAD}\n")
        for east, north, height in narrowed(datasets[0], PointSet).xyz.tolist():
            file.write(f"{east!r} {north!r} {height!r}\n")
    progress.report(1.0, f"writing {path.name}")


FORMAT = Format(
    id="tollgarth_spots",
    title="Spots of tollgarth_spots",
    used_for="survey and CAD",
    suffixes=(".tollgarth_spots",),
    sniff=sniff,
    carries=Carries(kinds=(PointSet,)),
    read=read,
    write=write,
    weigh=weighing(points=50),
)
