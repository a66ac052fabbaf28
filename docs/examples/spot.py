"""Spot heights as the invented Tollgarth plotter writes them: a first line, then easting, northing and height of each."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from vastgrid.base.errors import FormatError
from vastgrid.base.progress import Progress
from vastgrid.data.dataset import Dataset
from vastgrid.data.frame import UNKNOWN
from vastgrid.data.kinds import narrowed
from vastgrid.data.pointset import PointSet
from vastgrid.declarations.fileformat import Carries, Format, NoParams, ReadResult, weighing
from vastgrid.kernels.text.decimals import read_words
from vastgrid.kernels.text.textrows import RowTemplate

_HEAD = b"TOLLGARTH SPOTS\n"


def sniff(head: bytes, path: Path) -> int:
    """Say how sure it is that a file is of this format."""
    return 95 if head.startswith(_HEAD) else 0


def read(path: Path, params: NoParams, progress: Progress) -> ReadResult:
    """Read the spots; the file says no unit, and so the data has none.

    Raises
    ------
    FormatError
        If something is not a number, or a line is cut off.
    """
    body = path.read_bytes()[len(_HEAD) :]
    numbers, wrong = read_words(body)
    if wrong >= 0:
        line = body.count(b"\n", 0, wrong) + 2
        raise FormatError(path, f"“{body[wrong:].split()[0].decode('latin-1')}” is not a number", line=line)
    if len(numbers) % 3:
        raise FormatError(path, f"the last spot is cut off: {len(numbers)} numbers are not three for each")
    progress.report(1.0, f"reading {path.name}")
    return ReadResult((PointSet(name=path.stem, frame=UNKNOWN, xyz=numbers.reshape(-1, 3)),))


def write(datasets: Sequence[Dataset], path: Path, params: NoParams, progress: Progress) -> None:
    """Write the spots with four decimals."""
    xyz = narrowed(datasets[0], PointSet).xyz
    with path.open("wb") as file:
        file.write(_HEAD)
        file.writelines(RowTemplate("{} {} {}\n", (4, 4, 4)).blocks(list(xyz.T)))
    progress.report(1.0, f"writing {path.name}")


FORMAT = Format(
    id="spot",
    title="Tollgarth spots",
    used_for="survey and CAD",
    suffixes=(".spot",),
    sniff=sniff,
    carries=Carries(kinds=(PointSet,), step=1e-4, attributes=False),
    read=read,
    write=write,
    weigh=weighing(points=40),
)
