"""Float raster: rows of single precision, and a header of its own beside them."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from vastgrid.base.errors import DataError
from vastgrid.base.progress import Progress
from vastgrid.data.dataset import Dataset
from vastgrid.data.grid import Grid
from vastgrid.data.kinds import narrowed
from vastgrid.declarations.fileformat import Carries, Format, NoParams, ReadResult, weighing
from vastgrid.families.prj import write_beside
from vastgrid.families.rasterfile import BandParams, floats, peeked, read_beside

_DRIVER = "EHdr"


def read(path: Path, params: BandParams, progress: Progress) -> ReadResult:
    """Read the grid; see `read_band`."""
    return read_beside(path, params, progress, driver=_DRIVER)


def peek(path: Path, params: BandParams, progress: Progress) -> ReadResult:
    """Read every so many cells."""
    return peeked(path, params, progress, driver=_DRIVER)


def write(datasets: Sequence[Dataset], path: Path, params: NoParams, progress: Progress) -> None:
    """Write a grid of square cells, its header, and its system.

    Raises
    ------
    DataError
        If the cells are not square, which the header cannot say.
    """
    grid = narrowed(datasets[0], Grid)
    if abs(grid.dx / grid.dy - 1.0) > 1e-9:
        raise DataError(f"a float raster needs square cells; those of {grid.name} are {grid.dx:g} × {grid.dy:g}")
    south = grid.north - grid.rows * grid.dy
    nodata = floats(grid, path, progress)
    path.with_suffix(".hdr").write_text(
        f"ncols {grid.columns}\nnrows {grid.rows}\nxllcorner {grid.west!r}\nyllcorner {south!r}\n"
        f"cellsize {grid.dx!r}\nNODATA_value {nodata:.10g}\nbyteorder LSBFIRST\n",
        encoding="ascii",
    )
    write_beside(path, grid.frame)


def sniff(head: bytes, path: Path) -> int:
    """The header beside it has the words of a grid."""
    return 90 if path.suffix.lower() == ".flt" and path.with_suffix(".hdr").is_file() else 0


FORMAT = Format(
    id="floatgrid",
    title="Float raster",
    suffixes=(".flt",),
    sniff=sniff,
    carries=Carries(kinds=(Grid,), units="both", crs=True, single=True),
    weigh=weighing(cells=4),
    parts=(".hdr", ".prj"),
    read=read,
    write=write,
    read_params=BandParams,
    peek=peek,
)
