"""Tiles of a grid that is larger than memory: each a small raster, all together one file for a driver to read."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np

from vastgrid.base.errors import DataError, library_faults
from vastgrid.base.quantities import LENGTH_UNITS
from vastgrid.base.xmltext import escape
from vastgrid.data.dataset import Floats
from vastgrid.data.frame import local_crs
from vastgrid.data.grid import Grid
from vastgrid.data.outline import CellOutline, Window

# No ground is so low; used where values may go below -9998.
DEEP = -3.0e38
USUAL = -9999.0
_BLOCK = 512
_TYPES = {"float32": "Float32", "float64": "Float64"}


def write_tile(grid: Grid, path: Path, precision: str) -> None:
    """Write a tile, quickly packed; cells without a value stay not-a-number.

    Raises
    ------
    DataError
        If the library cannot write it.
    """
    import rasterio

    rows, columns = grid.heights.shape
    tiled = {"tiled": True, "blockxsize": _BLOCK, "blockysize": _BLOCK} if min(rows, columns) >= _BLOCK else {}
    with (
        library_faults(path, "writing a tile"),
        rasterio.Env(GDAL_CACHEMAX=64 << 20),
        rasterio.open(
            path,
            "w",
            driver="GTiff",
            width=columns,
            height=rows,
            count=1,
            dtype=precision,
            transform=rasterio.Affine(grid.dx, 0.0, grid.west, 0.0, -grid.dy, grid.north),
            compress="zstd",
            zstd_level=1,
            predictor=3,
            **tiled,
        ) as file,
    ):
        file.write(grid.heights.astype(precision), 1)


def read_tile(path: Path) -> Floats:
    """Return the values of a tile, (rows, columns) float64.

    Raises
    ------
    FormatError
        If it is damaged.
    """
    import rasterio

    with library_faults(path, "reading a tile"), rasterio.open(path, driver="GTiff") as file:
        return np.asarray(file.read(1), np.float64)


def mosaic_of(whole: CellOutline, tiles: Sequence[tuple[Window, Path]], precision: str, nodata: float) -> str:
    """Return the description of all tiles as one raster, for the raster library's virtual format.

    Parameters
    ----------
    nodata : float
        What stands for no value where there is no tile, and in the place of what is not a number.

    Raises
    ------
    DataError
        If there is no tile.
    """
    if not tiles:
        raise DataError("there is nothing to put together")
    frame = whole.frame
    crs = frame.crs or (local_crs(frame.horizontal) if frame.horizontal in LENGTH_UNITS else None)
    heights = whole.dataset().has_lengths
    unit = frame.vertical.title if heights and frame.vertical else ("" if heights else whole.measure)
    lines = [f'<VRTDataset rasterXSize="{whole.columns}" rasterYSize="{whole.rows}">']
    if crs:
        lines.append(f"<SRS>{escape(crs)}</SRS>")
    lines.append(f"<GeoTransform>{whole.west!r}, {whole.dx!r}, 0.0, {whole.north!r}, 0.0, {-whole.dy!r}</GeoTransform>")
    lines.append(f'<Metadata><MDI key="AREA_OR_POINT">{"Point" if whole.point_registered else "Area"}</MDI></Metadata>')
    lines.append(f'<VRTRasterBand dataType="{_TYPES[precision]}" band="1"><NoDataValue>{nodata!r}</NoDataValue>')
    if not whole.dataset().has_heights:
        lines.append(f"<Description>{escape(whole.quantity)}</Description>")
    if unit:
        lines.append(f"<UnitType>{escape(unit)}</UnitType>")
    for window, path in tiles:
        size = f'xSize="{window.columns}" ySize="{window.rows}"'
        lines.append(
            f'<ComplexSource><SourceFilename relativeToVRT="0">{escape(str(path))}</SourceFilename><SourceBand>1</SourceBand>'
            f'<SrcRect xOff="0" yOff="0" {size}/><DstRect xOff="{window.left}" yOff="{window.top}" {size}/>'
            f"<NODATA>nan</NODATA></ComplexSource>"
        )
    lines += ["</VRTRasterBand>", "</VRTDataset>"]
    return "\n".join(lines)
