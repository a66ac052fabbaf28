"""BIL raster: bands of rows of single precision, and a header beside them."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

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
    """Write a grid as one band, its header, and its system."""
    grid = narrowed(datasets[0], Grid)
    nodata = floats(grid, path, progress)
    wide = 4 * grid.columns
    path.with_suffix(".hdr").write_text(
        f"BYTEORDER I\nLAYOUT BIL\nNROWS {grid.rows}\nNCOLS {grid.columns}\nNBANDS 1\nNBITS 32\nPIXELTYPE FLOAT\n"
        f"BANDROWBYTES {wide}\nTOTALROWBYTES {wide}\nULXMAP {grid.west + grid.dx / 2!r}\n"
        f"ULYMAP {grid.north - grid.dy / 2!r}\nXDIM {grid.dx!r}\nYDIM {grid.dy!r}\nNODATA {nodata:.10g}\n",
        encoding="ascii",
    )
    write_beside(path, grid.frame)


def sniff(head: bytes, path: Path) -> int:
    """The header beside it says how its bytes lie."""
    return 90 if path.suffix.lower() == ".bil" and path.with_suffix(".hdr").is_file() else 0


FORMAT = Format(
    id="bil",
    title="BIL raster",
    suffixes=(".bil",),
    sniff=sniff,
    carries=Carries(kinds=(Grid,), units="both", crs=True, single=True),
    weigh=weighing(cells=4),
    parts=(".hdr", ".prj"),
    read=read,
    write=write,
    read_params=BandParams,
    peek=peek,
)
