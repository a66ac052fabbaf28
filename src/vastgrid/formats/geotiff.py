"""GeoTIFF rasters."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import Enum
from pathlib import Path
from typing import Annotated

import numpy as np

from vastgrid.base.errors import library_faults
from vastgrid.base.progress import Progress
from vastgrid.data.dataset import Dataset
from vastgrid.data.frame import local_crs
from vastgrid.data.grid import Grid
from vastgrid.data.kinds import narrowed
from vastgrid.declarations.fileformat import Carries, Format, ReadResult, weighing
from vastgrid.families.rasterfile import BandParams, peeked, read_band
from vastgrid.params.declare import Param


class Precision(Enum):
    """How many bits a height gets."""

    SINGLE = "float32"
    DOUBLE = "float64"


@dataclass(frozen=True)
class TiffWriteParams:
    """How the raster is written."""

    precision: Annotated[Precision, Param("Precision", "float32 is read everywhere; float64 keeps every digit.")] = (
        Precision.SINGLE
    )


def read(path: Path, params: BandParams, progress: Progress) -> ReadResult:
    """Read one band as a grid; see `read_band`."""
    grid, findings = read_band(path, params, progress)
    return ReadResult((grid,), tuple(findings))


def peek(path: Path, params: BandParams, progress: Progress) -> ReadResult:
    """Read every so many cells, through overviews where there are any."""
    return peeked(path, params, progress)


def write(datasets: Sequence[Dataset], path: Path, params: TiffWriteParams, progress: Progress) -> None:
    """Write a grid, compressed, in tiles, with overviews."""
    import rasterio  # here, not above: it takes a third of the time that the command line has to start
    from rasterio.enums import Resampling

    grid = narrowed(datasets[0], Grid)
    frame = grid.frame
    crs = frame.crs or (local_crs(frame.horizontal) if frame.horizontal else None)
    lowest = float(np.nanmin(grid.heights))
    # -9999 is common practice; where the ground could be taken for it, a number no ground has.
    nodata = -9999.0 if lowest > -9998.0 else -3.0e38
    rows, columns = grid.heights.shape
    layout = {"tiled": True, "blockxsize": 256, "blockysize": 256} if min(rows, columns) >= 256 else {}
    # The library writes to memory, and Python to the disk: on a full one the library would print a line and go on.
    with rasterio.MemoryFile() as held:
        with library_faults(path, "writing the raster"), rasterio.Env(GDAL_TIFF_INTERNAL_MASK=True):
            with held.open(
                driver="GTiff",
                width=columns,
                height=rows,
                count=1,
                dtype=params.precision.value,
                crs=crs,
                transform=rasterio.Affine(grid.dx, 0.0, grid.west, 0.0, -grid.dy, grid.north),
                nodata=nodata,
                compress="deflate",
                predictor=3,
                bigtiff="if_safer",
                **layout,
            ) as target:
                step = 4096
                for top in range(0, rows, step):
                    part = grid.heights[top : top + step]
                    filled = np.where(np.isnan(part), nodata, part).astype(params.precision.value)
                    target.write(filled, 1, window=((top, top + len(part)), (0, columns)))
                    progress.report(0.8 * (top + len(part)) / rows, "writing the raster")
                if not grid.has_heights:
                    target.descriptions = (grid.quantity,)
                    target.units = (grid.measure,)
                elif frame.vertical:
                    target.units = (frame.vertical.title,)
                target.update_tags(AREA_OR_POINT="Point" if grid.point_registered else "Area")
            if max(rows, columns) > 1024:
                with rasterio.open(held.name, "r+") as target:
                    target.build_overviews(
                        [2**k for k in range(1, 6) if max(rows, columns) >> k >= 256], Resampling.average
                    )
        path.write_bytes(held.getbuffer())
    progress.report(1.0)


def sniff(head: bytes, path: Path) -> int:  # noqa: D103
    return 100 if head[:4] in (b"II*\0", b"MM\0*", b"II+\0", b"MM\0+") else 0


FORMAT = Format(
    id="geotiff",
    title="GeoTIFF",
    suffixes=(".tif", ".tiff"),
    sniff=sniff,
    carries=Carries(kinds=(Grid,), units="both", crs=True, quantity=True),
    weigh=weighing(cells=2),
    usual=3,
    read=read,
    write=write,
    read_params=BandParams,
    peek=peek,
    write_params=TiffWriteParams,
)
