"""BIL raster: bands of rows of single precision, and a header beside them."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from vastgrid.base.progress import Progress
from vastgrid.data.dataset import Dataset
from vastgrid.data.grid import Grid
from vastgrid.data.kinds import narrowed
from vastgrid.declarations.fileformat import NoParams
from vastgrid.format_support.headedraster import with_header
from vastgrid.format_support.prj import write_beside
from vastgrid.format_support.rasterfile import floats


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


FORMAT = with_header("bil", "BIL raster", ".bil", write)
