"""GeoTIFF rasters."""

from __future__ import annotations

import pickle
from collections.abc import Sequence
from dataclasses import dataclass
from enum import Enum
from pathlib import Path
from typing import Annotated

import numpy as np

from vastgrid.base.errors import library_faults
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import LENGTH_UNITS
from vastgrid.base.subprocesses import run_apart
from vastgrid.data.dataset import Dataset
from vastgrid.data.frame import local_crs
from vastgrid.data.grid import Grid
from vastgrid.data.kinds import narrowed
from vastgrid.data.outline import CellOutline, Window
from vastgrid.declarations.fileformat import Carries, Format, ReadResult, weighing
from vastgrid.format_support.rasterfile import BandParams, head_of, no_height, opened, peeked, read_band, window_of
from vastgrid.format_support.rastertiles import DEEP, USUAL, mosaic_of, read_tile
from vastgrid.params.declare import Param


class Precision(Enum):
    """How many bits a height gets."""

    SINGLE = "float32"
    DOUBLE = "float64"


class Layout(Enum):
    """How the parts of the file lie."""

    PLAIN = "plain"
    CLOUD = "cloud"


class Compression(Enum):
    """How cells are packed."""

    DEFLATE = "deflate"
    LZW = "lzw"
    ZSTD = "zstd"
    NONE = "none"


# From this size on a tile is a tile; smaller rasters are one strip.
_TILE = 256


@dataclass(frozen=True)
class TiffWriteParams:
    """How the raster is written."""

    precision: Annotated[Precision, Param("Precision", "float32 is read everywhere; float64 keeps every digit.")] = (
        Precision.SINGLE
    )
    layout: Annotated[
        Layout,
        Param(
            "Layout",
            "plain: a raster in tiles with overviews; cloud: ordered so that parts can be read over a network.",
        ),
    ] = Layout.PLAIN
    compression: Annotated[
        Compression, Param("Compression", "deflate and lzw are read everywhere; zstd is quicker; none is largest.")
    ] = Compression.DEFLATE


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
    import rasterio.shutil
    from rasterio.enums import Resampling

    grid = narrowed(datasets[0], Grid)
    frame = grid.frame
    nodata = no_height(grid)
    rows, columns = grid.heights.shape
    tiled = params.layout is Layout.PLAIN and min(rows, columns) >= _TILE
    packed = {"compress": params.compression.value} | ({"predictor": 3} if params.compression.value != "none" else {})
    # The library writes to memory, and Python to the disk: on a full one the library would print a line and go on.
    with rasterio.MemoryFile() as held:
        with library_faults(path, "writing the raster"), rasterio.Env(GDAL_TIFF_INTERNAL_MASK=True):
            with held.open(
                driver="GTiff",
                width=columns,
                height=rows,
                count=1,
                dtype=params.precision.value,
                crs=frame.crs or (local_crs(frame.horizontal) if frame.horizontal in LENGTH_UNITS else None),
                transform=rasterio.Affine(grid.dx, 0.0, grid.west, 0.0, -grid.dy, grid.north),
                nodata=nodata,
                bigtiff="if_safer",
                **(packed if params.layout is Layout.PLAIN else {}),
                **({"tiled": True, "blockxsize": _TILE, "blockysize": _TILE} if tiled else {}),
            ) as target:
                step = 4096
                for top in range(0, rows, step):
                    part = grid.heights[top : top + step]
                    filled = np.where(np.isnan(part), nodata, part).astype(params.precision.value)
                    target.write(filled, 1, window=((top, top + len(part)), (0, columns)))
                    progress.report(0.7 * (top + len(part)) / rows, "writing the raster")
                if not grid.has_heights:
                    target.descriptions = (grid.quantity,)
                    target.units = (grid.measure,)
                if grid.has_lengths and frame.vertical:
                    target.units = (frame.vertical.title,)
                target.update_tags(AREA_OR_POINT="Point" if grid.point_registered else "Area")
            if params.layout is Layout.CLOUD:
                with rasterio.MemoryFile() as ordered:
                    rasterio.shutil.copy(held.name, ordered.name, driver="COG", **_ordered(params, rows, columns))
                    path.write_bytes(ordered.getbuffer())
                progress.report(1.0)
                return
            smaller = [2**k for k in range(1, 12) if max(rows, columns) >> k >= _TILE and min(rows, columns) >> k >= 1]
            if smaller:
                with rasterio.open(held.name, "r+") as target:
                    target.build_overviews(smaller, Resampling.average)
        path.write_bytes(held.getbuffer())
    progress.report(1.0)


def precision_of(params: TiffWriteParams) -> str:
    """Return the type in which tiles for such a file are kept."""
    return params.precision.value


def assemble(
    whole: CellOutline, tiles: Sequence[tuple[Window, Path]], path: Path, params: TiffWriteParams, progress: Progress
) -> list[tuple[str, str, str, bool]]:
    """Put tiles together as a cloud-optimised file, in a process of its own, and compare it with them cell by cell.

    Returns
    -------
    list of (str, str, str, bool)
        What was compared, as it was sent, as it was read, and whether they agree.

    Raises
    ------
    DataError
        If the library cannot write it.
    """
    nodata = USUAL if whole.elevation is None or whole.elevation[0] > -9998.0 else DEEP
    options = {
        **_ordered(params, whole.rows, whole.columns),
        "NUM_THREADS": "ALL_CPUS",
        "OVERVIEW_RESAMPLING": "AVERAGE",
    }
    made = mosaic_of(whole, tiles, params.precision.value, nodata)
    job = pickle.dumps((made, str(path), options))
    run_apart(
        "vastgrid.format_support.assembling",
        job,
        lambda: progress.report(0.2, "putting tiles together"),
        "writing the raster",
    )
    return _compared(whole, tiles, path, nodata, progress.part(0.6, 1.0))


def _compared(
    whole: CellOutline, tiles: Sequence[tuple[Window, Path]], path: Path, nodata: float, progress: Progress
) -> list[tuple[str, str, str, bool]]:
    import rasterio

    sent = known = differ = 0
    largest = 0.0
    # Each block is read once: the library need not remember any.
    with rasterio.Env(GDAL_CACHEMAX=64 << 20), library_faults(path, "reading the raster back"), opened(path) as file:
        shape = (file.height, file.width)
        place = tuple(file.transform[:6])
        for k, (window, tile) in enumerate(tiles):
            rows, columns = (window.top, window.top + window.rows), (window.left, window.left + window.columns)
            back = file.read(1, window=(rows, columns)).astype(np.float64)
            back[back == nodata] = np.nan
            own = read_tile(tile)
            sent += int(np.isfinite(own).sum())
            known += int(np.isfinite(back).sum())
            off = np.abs(own - back)
            differ += int((off > 0.0).sum()) + int((np.isnan(own) != np.isnan(back)).sum())
            largest = max(largest, float(np.nanmax(off, initial=0.0)))
            progress.report((k + 1) / len(tiles), f"reading {path.name} back")
    there = (whole.dx, 0.0, whole.west, 0.0, -whole.dy, whole.north)
    size = f"{whole.rows} × {whole.columns}"
    return [
        ("rows and columns", size, f"{shape[0]} × {shape[1]}", shape == (whole.rows, whole.columns)),
        ("place of the cells", f"{there[2]:.6f}, {there[5]:.6f}", f"{place[2]:.6f}, {place[5]:.6f}", place == there),
        ("cells with a value", str(sent), str(known), sent == known),
        ("cells that differ", "0", f"{differ}, by {largest:g} at most" if differ else "0", differ == 0),
    ]


def _ordered(params: TiffWriteParams, rows: int, columns: int) -> dict[str, str]:
    """Return the options of a cloud-optimised file: tiles of 512, overviews down to one of them, made by averages."""
    options = {"BLOCKSIZE": "512", "OVERVIEW_RESAMPLING": "AVERAGE", "BIGTIFF": "IF_SAFER"}
    options["COMPRESS"] = params.compression.value.upper()
    if params.compression is not Compression.NONE:
        options["PREDICTOR"] = "FLOATING_POINT"
    if min(rows, columns) < 2 or max(rows, columns) <= 512:
        options["OVERVIEWS"] = "NONE"
    return options


def sniff(head: bytes, path: Path) -> int:  # noqa: D103
    return 100 if head[:4] in (b"II*\0", b"MM\0*", b"II+\0", b"MM\0+") else 0


FORMAT = Format(
    id="geotiff",
    title="GeoTIFF",
    used_for="rasters",
    also=("DEM", "raster", "elevation model"),
    suffixes=(".tif", ".tiff"),
    sniff=sniff,
    carries=Carries(kinds=(Grid,), units="both", crs=True, quantity=True, single=True),
    weigh=weighing(cells=2),
    usual=3,
    read=read,
    write=write,
    read_params=BandParams,
    peek=peek,
    head=head_of,
    part=window_of,
    assemble=assemble,
    precision_of=precision_of,
    write_params=TiffWriteParams,
)
