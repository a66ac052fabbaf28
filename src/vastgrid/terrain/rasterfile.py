"""Reading one band of whatever the raster library opens, as a grid."""

from __future__ import annotations

import logging
import warnings
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import numpy as np

from vastgrid.base.errors import CallError, FormatError, ParamError, library_faults
from vastgrid.base.findings import Finding
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Unit, parse_unit
from vastgrid.terrain.frame import Frame, frame_of_crs
from vastgrid.terrain.grid import Grid


def read_band(path: Path, band: int, progress: Progress, **options: Any) -> tuple[Grid, list[Finding]]:
    """Read one band.

    Parameters
    ----------
    band : int
        From 1.
    **options
        Passed to the raster library's driver.

    Raises
    ------
    FormatError
        If the raster is damaged, rotated, or holds no heights.
    ParamError
        If there is no such band.
    """
    import rasterio  # here, not above: it takes a third of the time that the command line has to start

    findings: list[Finding] = []
    with library_faults(path, "reading the raster"), _remarks(findings), warnings.catch_warnings():
        warnings.simplefilter("ignore", rasterio.errors.NotGeoreferencedWarning)
        with rasterio.open(path, **options) as source:
            if band > source.count:
                raise ParamError("band", f"the raster has {source.count}")
            place = source.transform
            if place.b or place.d:
                raise FormatError(path, "the raster is rotated; only rasters along east and north are read")
            if place.is_identity or (abs(place.a) == 1.0 and place.c == 0 and place.f == 0 and source.crs is None):
                text = "The raster does not say where it is: rows and columns stand for northings and eastings."
                findings.append(Finding("no-place", text))
            heights = _heights(source, band, progress)
            frame = _frame(source, band, findings)
            point = str(source.tags().get("AREA_OR_POINT", "Area")).lower() == "point"
            west, north, dx, dy = place.c, place.f, place.a, -place.e
    if dx < 0:
        heights, west, dx = heights[:, ::-1], west + dx * heights.shape[1], -dx
    if dy < 0:
        heights, north, dy = heights[::-1], north - dy * heights.shape[0], -dy
    if not np.isfinite(heights).any():
        raise FormatError(path, "no cell of the raster has a height")
    grid = Grid(
        name=path.stem, frame=frame, heights=heights, west=west, north=north, dx=dx, dy=dy, point_registered=point
    )
    return grid, findings


class _Remarks(logging.Handler):
    """Collects what the raster library logs."""

    def __init__(self) -> None:
        super().__init__(logging.WARNING)
        self.texts: dict[str, None] = {}

    def emit(self, record: logging.LogRecord) -> None:
        """Keep a remark, once."""
        self.texts[" ".join(record.getMessage().split())[:200]] = None


@contextmanager
def _remarks(findings: list[Finding]) -> Iterator[None]:
    """Turn the library's log of a damaged file into findings: a lost tag may be a lost place or a lost no-data value."""
    log, handler = logging.getLogger("rasterio._env"), _Remarks()
    passes = log.propagate
    log.addHandler(handler)
    log.propagate = False
    try:
        yield
    finally:
        log.removeHandler(handler)
        log.propagate = passes
        findings += [Finding("raster-remark", f"The raster library says: {text}.") for text in list(handler.texts)[:5]]


def _heights(source: Any, band: int, progress: Progress) -> np.ndarray[Any, np.dtype[np.float64]]:
    rows, columns = source.height, source.width
    heights = np.full((rows, columns), np.nan)
    step = max(1, 16_000_000 // max(columns, 1))
    scale, offset = source.scales[band - 1], source.offsets[band - 1]
    for top in range(0, rows, step):
        stop = min(top + step, rows)
        part = source.read(band, window=((top, stop), (0, columns)), masked=True)
        heights[top:stop] = part.astype(np.float64).filled(np.nan)
        progress.report(0.9 * stop / rows, "reading the raster")
    heights[~np.isfinite(heights)] = np.nan
    if scale != 1.0 or offset != 0.0:
        heights = heights * scale + offset
    return heights


def _frame(source: Any, band: int, findings: list[Finding]) -> Frame:
    vertical: Unit | None = None
    word = source.units[band - 1]
    if word:
        try:
            vertical = parse_unit(word)
        except CallError:
            findings.append(Finding("unit-unknown", f"The raster's height unit “{word}” is not known."))
    if source.crs is None:
        return Frame(None, None, vertical)
    try:
        frame = frame_of_crs(source.crs.to_wkt())
    except ValueError as error:
        findings.append(Finding("crs-unreadable", f"{error}."))
        return Frame(None, None, vertical)
    if frame.vertical and vertical and frame.vertical is not vertical:
        text = f"The CRS says heights are in {frame.vertical.title}, the band says {vertical.title}; the band counts."
        findings.append(Finding("unit-contradiction", text))
    return Frame(frame.crs, frame.horizontal, vertical or frame.vertical)
