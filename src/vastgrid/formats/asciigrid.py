"""ASCII grid: a short header and rows of heights as text."""

from __future__ import annotations

import dataclasses
import re
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.disk_arrays import large_array, release
from vastgrid.base.errors import DataError, FormatError
from vastgrid.base.findings import Finding, count
from vastgrid.base.progress import Progress
from vastgrid.base.words import spaced
from vastgrid.data.dataset import HEIGHT, Dataset
from vastgrid.data.grid import Grid
from vastgrid.data.kinds import narrowed
from vastgrid.declarations.fileformat import Carries, Format, ReadResult, rounding, weighing
from vastgrid.format_support.prj import frame_beside, write_beside
from vastgrid.format_support.rasterfile import BandParams, Holds, no_height, quantity_by_name, without_nodata
from vastgrid.kernels.text.decimals import number_of, read_words
from vastgrid.kernels.text.textrows import RowTemplate
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
        Holds, Param("It holds", "height, or other: values other than heights; detect: as for heights.")
    ] = Holds.AUTO
    nodata: Annotated[
        float | None,
        Param(
            "No-data value",
            "Value of cells without a height.",
            absent="as the file says, or -9999 where it says nothing",
        ),
    ] = None


def read(path: Path, params: AsciiReadParams, progress: Progress) -> ReadResult:
    """Read the grid; see `read_band`.

    Raises
    ------
    FormatError
        If the file holds fewer or more heights than its head says.
    """
    head, start = _head(path)
    findings: list[Finding] = []
    heights = _heights(path, head, start, progress)
    said = params.nodata if params.nodata is not None else head.get("nodata_value")
    # The format's own default, by common practice.
    nodata = float(NODATA) if said is None else said
    without_nodata(heights, BandParams(1, params.holds, nodata), findings)
    gone = int(np.isnan(heights).sum())
    if said is None and gone:
        text = f"The head names no NODATA_value; {NODATA}, the usual one, is taken for no-data ({count(gone, 'cell')})."
        findings.append(Finding("usual-nodata", text))
    if gone == heights.size:
        raise FormatError(path, "no cell of the raster has a height")
    dx = head.get("cellsize", head.get("dx", 0.0))
    dy = head.get("cellsize", head.get("dy", 0.0))
    if not dx > 0.0 or not dy > 0.0:
        raise FormatError(path, "the head does not say how large a cell is (cellsize, above zero)")
    corner = {axis: f"{axis}llcorner" in head for axis in "xy"}
    if corner["x"] is not corner["y"]:
        text = "The head gives a corner on one axis and a cell's centre on the other; each was taken as what it says."
        findings.append(Finding("corner-and-centre", text))
    south = head["yllcorner"] if corner["y"] else head["yllcenter"] - dy / 2.0
    quantity = quantity_by_name(path, params.holds, findings)
    frame = frame_beside(path)
    grid = Grid(
        name=path.stem,
        frame=frame if quantity == HEIGHT else dataclasses.replace(frame, vertical=None),
        heights=heights,
        west=head["xllcorner"] if corner["x"] else head["xllcenter"] - dx / 2.0,
        north=south + len(heights) * dy,
        dx=dx,
        dy=dy,
        point_registered=not corner["x"] and not corner["y"],
        quantity=quantity,
    )
    return ReadResult((grid,), tuple(findings))


_WORDS = r"ncols|nrows|xllcorner|yllcorner|xllcenter|yllcenter|cellsize|dx|dy|nodata_value"


def _head(path: Path) -> tuple[dict[str, float], int]:
    """Return the head's words and numbers, and where the heights begin.

    Raises
    ------
    FormatError
        If something that is needed is not there, is there twice, or is no number.
    """
    with path.open("rb") as file:
        text = file.read(4096).decode("latin-1").lower()
    head: dict[str, float] = {}
    start = 0
    for number, line in enumerate(re.findall(r"[^\r\n]*(?:\r\n|\n|\r|\Z)", text), 1):
        found = re.match(rf"\s*({_WORDS})\s+(\S+)\s*$", line)
        if not found:
            if line.strip():
                break
            start += len(line)
            continue
        start += len(line)
        if found[1] in head:
            raise FormatError(path, f"{found[1]} is given twice", line=number)
        try:
            void = found[1] == "nodata_value" and found[2].strip("+-") in ("nan", "inf")
            head[found[1]] = np.nan if void else number_of(found[2])
        except ValueError as error:
            raise FormatError(path, f"{found[1]} is not a number: “{found[2][:30]}”", line=number) from error
    for word in ("ncols", "nrows"):
        if not 1 <= head.get(word, 0) < 1e9 or head[word] % 1:
            raise FormatError(path, f"there is no {word} with a whole number at the beginning")
    for axis in "xy":
        if f"{axis}llcorner" not in head and f"{axis}llcenter" not in head:
            raise FormatError(
                path, f"the head says neither {axis}llcorner nor {axis}llcenter, so the grid has no place"
            )
    return head, start


def _heights(path: Path, head: dict[str, float], start: int, progress: Progress) -> NDArray[np.float64]:
    """Return the heights, as many as the head says; “nan” is none.

    Raises
    ------
    FormatError
        If there are fewer or more, or one is not a number.
    """
    rows, columns = int(head["nrows"]), int(head["ncols"])
    size = path.stat().st_size
    # A height takes a digit and a blank.
    if rows * columns > size:
        raise FormatError(path, f"the grid is cut off: {_announced(rows, columns)}, the file has {spaced(size)} bytes")
    heights = large_array((rows * columns,), np.float64)
    filled, line = 0, 0
    with path.open("rb") as file:
        line = file.read(start).count(b"\n") + 1
        rest = b""
        while block := file.read(1 << 25):
            block = rest + block
            cut = max(block.rfind(b" "), block.rfind(b"\n"), block.rfind(b"\t"), block.rfind(b"\r")) + 1
            cut = cut if file.peek(1) else len(block)
            rest, block = block[cut:], block[:cut]
            values, wrong = read_words(block, void=True)
            if wrong >= 0:
                shown = block[wrong : wrong + 40].split()[0].decode("latin-1")
                raise FormatError(
                    path, f"a height is not a number: “{shown}”", line=line + block.count(b"\n", 0, wrong)
                )
            room = heights[filled : filled + len(values)]
            room[:] = values[: len(room)]
            filled += len(values)
            line += block.count(b"\n")
            release(heights)
            progress.report(0.9 * file.tell() / size, f"reading {path.name}")
    told = f"{_announced(rows, columns)}, {spaced(filled)} are there"
    if filled < len(heights):
        raise FormatError(path, f"the grid is cut off: {told}")
    if filled > len(heights):
        raise FormatError(path, f"the grid holds more than its head says: {told}; mend nrows or ncols")
    return heights.reshape(rows, columns)


def _announced(rows: int, columns: int) -> str:
    return f"{spaced(rows)} × {spaced(columns)} heights are announced"


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
    used_for="rasters",
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
