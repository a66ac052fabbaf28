"""ASCII grid: a short header and rows of heights as text."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated

import numpy as np

from vastgrid.base.errors import DataError, FormatError
from vastgrid.base.progress import Progress
from vastgrid.kernels.textrows import RowTemplate
from vastgrid.params.declare import Param
from vastgrid.terrain.dataset import Dataset
from vastgrid.terrain.fileformat import Carries, Format, NoParams, ReadResult, rounding, weighing
from vastgrid.terrain.grid import Grid
from vastgrid.terrain.rasterfile import read_band

NODATA = -9999


@dataclass(frozen=True)
class AsciiWriteParams:
    """How the grid is written."""

    decimals: Annotated[int, Param("Decimals", "Decimals of every height.", least=0, most=9)] = 4


def read(path: Path, params: NoParams, progress: Progress) -> ReadResult:
    """Read the grid; see `read_band`.

    Raises
    ------
    FormatError
        If the file ends before its last row.
    """
    _check_rows(path)
    grid, findings = read_band(path, 1, progress, driver="AAIGrid", DATATYPE="Float64")
    return ReadResult((grid,), tuple(findings))


def _check_rows(path: Path) -> None:
    """The library fills up a grid that is cut off, so the rows are counted first."""
    with path.open("rb") as file:
        head = file.read(2048).lower()
        sizes = [re.search(rb"%s\s+(\d{1,9})" % name, head) for name in (b"ncols", b"nrows")]
        if not all(sizes):
            raise FormatError(path, "there is no ncols and nrows at the beginning")
        columns, rows = (int(size[1]) for size in sizes if size)
        file.seek(0)
        words = 0
        inside = False
        header = sum(
            1 for line in re.split(rb"[\r\n]+", head) if re.match(rb"\s*[a-z]", line) and b"nan" not in line[:4]
        )
        while block := file.read(1 << 24):
            raw = np.frombuffer(block, np.uint8) > 32
            begins = int(np.count_nonzero(raw[1:] & ~raw[:-1])) + int(raw[0] and not inside)
            words += begins
            inside = bool(raw[-1])
    found = words - 2 * header
    if found < rows * columns:
        raise FormatError(
            path, f"the grid is cut off: {rows} × {columns} heights are announced, {max(found, 0)} are there"
        )


def write(datasets: Sequence[Dataset], path: Path, params: AsciiWriteParams, progress: Progress) -> None:
    """Write a grid of square cells.

    Raises
    ------
    DataError
        If the cells are not square, which the format cannot say.
    """
    grid = datasets[0]
    assert isinstance(grid, Grid)
    if abs(grid.dx / grid.dy - 1.0) > 1e-9:
        raise DataError(f"an ASCII grid needs square cells; those of {grid.name} are {grid.dx:g} × {grid.dy:g}")
    south = grid.north - grid.rows * grid.dy
    template = RowTemplate("{} " * (grid.columns - 1) + "{}\n", (params.decimals,) * grid.columns)
    step = max(1, 200_000 // grid.columns)
    with path.open("wb") as file:
        head = f"ncols {grid.columns}\nnrows {grid.rows}\nxllcorner {grid.west!r}\nyllcorner {south!r}\n"
        file.write(f"{head}cellsize {grid.dx!r}\nNODATA_value {NODATA}\n".encode())
        for top in range(0, grid.rows, step):
            part = grid.heights[top : top + step]
            for block in template.blocks(list(np.where(np.isnan(part), NODATA, part).T)):
                file.write(block)
            progress.report(min((top + step) / grid.rows, 1.0), "writing the grid")


def sniff(head: bytes, path: Path) -> int:
    """The header's first word says it."""
    return 100 if re.match(rb"\s*(ncols|nrows)\s+\d", head, re.IGNORECASE) else 0


_CARRIES = Carries(kinds=(Grid,))
FORMAT = Format(
    id="asciigrid",
    title="ASCII grid",
    suffixes=(".asc", ".agr"),
    sniff=sniff,
    carries=_CARRIES,
    carries_as=rounding(_CARRIES),
    weigh=weighing(cells=9),
    read=read,
    write=write,
    write_params=AsciiWriteParams,
)
