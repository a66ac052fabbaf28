"""Float raster: rows of single precision, and a header of its own beside them."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from vastgrid.base.errors import DataError
from vastgrid.base.progress import Progress
from vastgrid.data.dataset import Dataset
from vastgrid.data.grid import Grid
from vastgrid.data.kinds import narrowed
from vastgrid.declarations.fileformat import NoParams
from vastgrid.format_support.headedraster import with_header
from vastgrid.format_support.prj import write_beside
from vastgrid.format_support.rasterfile import floats


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


FORMAT = with_header("floatgrid", "Float raster", ".flt", write)
