"""ASCII grid: a short header and rows of heights as text."""

from __future__ import annotations

import dataclasses
import re
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated

import numpy as np

from vastgrid.base.errors import DataError, FormatError
from vastgrid.base.findings import Finding, count
from vastgrid.base.progress import Progress
from vastgrid.base.words import spaced
from vastgrid.data.dataset import Dataset
from vastgrid.data.grid import Grid
from vastgrid.data.kinds import narrowed
from vastgrid.declarations.fileformat import Carries, Format, ReadResult, rounding, weighing
from vastgrid.families.prj import frame_beside, write_beside
from vastgrid.families.rasterfile import BandParams, Holds, no_height, read_band
from vastgrid.kernels.textrows import RowTemplate
from vastgrid.params.declare import Param

NODATA = -9999


@dataclass(frozen=True)
class AsciiWriteParams:
    """How the grid is written."""

    decimals: Annotated[int, Param("Decimals", "Decimals of every height.", least=0, most=9)] = 4


@dataclass(frozen=True)
class AsciiReadParams:
    """What the numbers are."""

    holds: Annotated[
        Holds, Param("It holds", "height, or other: values that are no heights; detect: as for heights.")
    ] = Holds.AUTO
    nodata: Annotated[
        float | None,
        Param(
            "No height", "Value that stands for no height.", absent="as the file says, or -9999 where it says nothing"
        ),
    ] = None


def read(path: Path, params: AsciiReadParams, progress: Progress) -> ReadResult:
    """Read the grid; see `read_band`.

    Raises
    ------
    FormatError
        If the file holds fewer or more heights than its head says.
    """
    head = _head(path)
    _check_count(path, head)
    findings: list[Finding] = []
    nodata = params.nodata
    if nodata is None and "nodata_value" not in head:
        # The format's own default, by common practice.
        nodata = float(NODATA)
    grid, said = read_band(path, BandParams(1, params.holds, nodata), progress, driver="AAIGrid", DATATYPE="Float64")
    gone = int(np.isnan(grid.heights).sum())
    if params.nodata is None and "nodata_value" not in head and gone:
        text = f"The head names no NODATA_value; {NODATA}, the usual one, stands for no height ({count(gone, 'cell')})."
        findings.append(Finding("usual-nodata", text))
    corner = {axis: f"{axis}llcorner" in head for axis in "xy"}
    if corner["x"] is not corner["y"]:
        west = head["xllcorner"] if corner["x"] else head["xllcenter"] - grid.dx / 2.0
        south = head["yllcorner"] if corner["y"] else head["yllcenter"] - grid.dy / 2.0
        grid = dataclasses.replace(grid, west=west, north=south + grid.rows * grid.dy)
        said = [each for each in said if each.code != "no-place"]
        text = "The head gives a corner on one axis and a cell's centre on the other; each was taken as what it says."
        findings.append(Finding("corner-and-centre", text))
    frame = frame_beside(path)
    if frame.horizontal or frame.vertical:
        grid = grid.in_frame(frame if grid.has_heights else dataclasses.replace(frame, vertical=None))
    return ReadResult((grid,), (*findings, *said))


_WORDS = r"ncols|nrows|xllcorner|yllcorner|xllcenter|yllcenter|cellsize|dx|dy|nodata_value"


def _head(path: Path) -> dict[str, float]:
    """Return the head's words and numbers.

    Raises
    ------
    FormatError
        If something that is needed is not there, is there twice, or is no number.
    """
    with path.open("rb") as file:
        text = file.read(4096).decode("latin-1").lower()
    head: dict[str, float] = {}
    for number, line in enumerate(re.split(r"\r\n|\n|\r", text), 1):
        found = re.match(rf"\s*({_WORDS})\s+(\S+)\s*$", line)
        if not found:
            if line.strip():
                break
            continue
        if found[1] in head:
            raise FormatError(path, f"{found[1]} is given twice", line=number)
        try:
            head[found[1]] = float(found[2])
        except ValueError as error:
            raise FormatError(path, f"{found[1]} is no number: “{found[2][:30]}”", line=number) from error
        if not np.isfinite(head[found[1]]) and found[1] != "nodata_value":
            raise FormatError(path, f"{found[1]} is no number: “{found[2][:30]}”", line=number)
    for word in ("ncols", "nrows"):
        if not 1 <= head.get(word, 0) < 1e9 or head[word] % 1:
            raise FormatError(path, f"there is no {word} with a whole number at the beginning")
    for axis in "xy":
        if f"{axis}llcorner" not in head and f"{axis}llcenter" not in head:
            raise FormatError(
                path, f"the head says neither {axis}llcorner nor {axis}llcenter, so the grid has no place"
            )
    return head


def _check_count(path: Path, head: dict[str, float]) -> None:
    """Compare the heights there are with those announced: the library fills up or passes over what does not fit."""
    words = 0
    inside = False
    with path.open("rb") as file:
        while block := file.read(1 << 24):
            raw = np.frombuffer(block, np.uint8) > 32
            words += int(np.count_nonzero(raw[1:] & ~raw[:-1])) + int(raw[0] and not inside)
            inside = bool(raw[-1])
    rows, columns = int(head["nrows"]), int(head["ncols"])
    found = words - 2 * len(head)
    told = f"{spaced(rows)} × {spaced(columns)} heights are announced, {spaced(max(found, 0))} are there"
    if found < rows * columns:
        raise FormatError(path, f"the grid is cut off: {told}")
    if found > rows * columns:
        raise FormatError(path, f"the grid holds more than its head says: {told}; mend nrows or ncols")


def write(datasets: Sequence[Dataset], path: Path, params: AsciiWriteParams, progress: Progress) -> None:
    """Write a grid of square cells.

    Raises
    ------
    DataError
        If the cells are not square, which the format cannot say.
    """
    grid = narrowed(datasets[0], Grid)
    if abs(grid.dx / grid.dy - 1.0) > 1e-9:
        raise DataError(f"an ASCII grid needs square cells; those of {grid.name} are {grid.dx:g} × {grid.dy:g}")
    nodata = no_height(grid)
    south = grid.north - grid.rows * grid.dy
    template = RowTemplate("{} " * (grid.columns - 1) + "{}\n", (params.decimals,) * grid.columns)
    step = max(1, 200_000 // grid.columns)
    with path.open("wb") as file:
        head = f"ncols {grid.columns}\nnrows {grid.rows}\nxllcorner {grid.west!r}\nyllcorner {south!r}\n"
        file.write(f"{head}cellsize {grid.dx!r}\nNODATA_value {nodata:.10g}\n".encode())
        for top in range(0, grid.rows, step):
            part = grid.heights[top : top + step]
            for block in template.blocks(list(np.where(np.isnan(part), nodata, part).T)):
                file.write(block)
            progress.report(min((top + step) / grid.rows, 1.0), "writing the grid")
    write_beside(path, grid.frame)


def sniff(head: bytes, path: Path) -> int:
    """The header's first word says it."""
    return 100 if re.match(rb"\s*(ncols|nrows)\s+\d", head, re.IGNORECASE) else 0


_CARRIES = Carries(kinds=(Grid,), units="both", crs=True)
FORMAT = Format(
    id="asciigrid",
    title="ASCII grid",
    suffixes=(".asc", ".agr"),
    sniff=sniff,
    carries=_CARRIES,
    carries_as=rounding(_CARRIES),
    weigh=weighing(cells=9),
    parts=(".prj",),
    read=read,
    write=write,
    read_params=AsciiReadParams,
    write_params=AsciiWriteParams,
)
