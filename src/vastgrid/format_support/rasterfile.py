"""Reading one band of whatever the raster library opens, as a grid."""

from __future__ import annotations

import logging
import math
import warnings
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from enum import Enum
from pathlib import Path
from typing import Annotated, Any

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.disk_arrays import large_array, pieces, release
from vastgrid.base.errors import CallError, DataError, FormatError, ParamError, library_faults
from vastgrid.base.findings import Finding, count, either, note
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Unit, parse_unit
from vastgrid.base.words import spaced
from vastgrid.data.dataset import DIFFERENCE, HEIGHT
from vastgrid.data.frame import Frame, frame_of_crs
from vastgrid.data.grid import Grid
from vastgrid.data.outline import CellOutline, Window
from vastgrid.declarations.fileformat import Head, ReadResult
from vastgrid.kernels.cells.raster import bilinear
from vastgrid.params.declare import Param


class Holds(Enum):
    """Which quantity a raster holds."""

    AUTO = "detect"
    HEIGHT = "height"
    OTHER = "other"


@dataclass(frozen=True)
class BandParams:
    """What is read of a raster."""

    band: Annotated[
        int | None,
        Param("Band", "Number of the band that holds heights.", least=1, absent="the first band that is not colour"),
    ] = None
    holds: Annotated[
        Holds,
        Param("It holds", "height, or other: values other than heights, such as slopes; detect: as the file says."),
    ] = Holds.AUTO
    nodata: Annotated[
        float | None, Param("No-data value", "Value of cells without a height.", absent="as the file says")
    ] = None
    coarser: Annotated[
        int,
        Param(
            "Coarser",
            "Read at reduced resolution, 1 in N cells, from the file's own coarse levels where it has them: a look at what is larger than memory.",
            least=1,
            most=4096,
        ),
    ] = 1


# So many cells are unpacked in about two seconds.
QUICK_CELLS = 60_000_000


def read_band(
    path: Path, params: BandParams, progress: Progress, *, sparse: int = 0, **options: Any
) -> tuple[Grid, list[Finding]]:
    """Read one band.

    Parameters
    ----------
    params : BandParams
        Which band, what it holds, and which value stands for none.
    sparse : int
        Read about so many rows or columns only, for a picture; 0 reads all.
    **options
        Passed to the raster library's driver.

    Raises
    ------
    FormatError
        If the raster is damaged or holds no heights.
    ParamError
        If there is no such band.
    """
    findings: list[Finding] = []
    with _band_of(path, params, findings, **options) as (source, band):
        place = source.transform
        if place.is_identity or (abs(place.a) == 1.0 and place.c == 0 and place.f == 0 and source.crs is None):
            text = "The raster does not say where it is: rows and columns stand for northings and eastings."
            findings.append(Finding("no-place", text))
        quantity, measure = _quantity(path, source, band, params.holds, findings)
        frame = _frame(source, band, findings, heights=quantity in (HEIGHT, DIFFERENCE))
        point = str(source.tags().get("AREA_OR_POINT", "Area")).lower() == "point"
        every = max(1, sparse and math.ceil(max(source.shape) / sparse))
        if params.coarser > 1 and not sparse:
            heights = _coarser(source, band, params.coarser, findings)
        else:
            heights = _heights(source, band, progress, every)
        without_nodata(heights, params, findings)
        place = place @ place.scale(source.width / heights.shape[1], source.height / heights.shape[0])
    if not all(map(math.isfinite, place[:6])) or place.a * place.e == place.b * place.d:
        raise FormatError(path, "the raster's place in the world makes no sense; the file is damaged")
    if place.b or place.d:
        heights, place = _turned_north(heights, place, findings)
    west, north, dx, dy = place.c, place.f, place.a, -place.e
    if dx < 0:
        heights, west, dx = heights[:, ::-1], west + dx * heights.shape[1], -dx
    if dy < 0:
        heights, north, dy = heights[::-1], north - dy * heights.shape[0], -dy
    if not any(np.isfinite(piece).any() for piece in pieces(heights)):
        raise FormatError(path, "no cell of the raster has a height")
    grid = Grid(
        name=path.stem,
        frame=frame,
        heights=heights,
        west=west,
        north=north,
        dx=dx,
        dy=dy,
        point_registered=point,
        quantity=quantity,
        measure=measure,
    )
    return grid, findings


def no_height(grid: Grid) -> float:
    """Return the number that stands for no height: -9999, by common practice, or one that no ground has."""
    lowest = grid.extent().elevation
    return -9999.0 if lowest is None or lowest[0] > -9998.0 else -3.0e38


def floats(grid: Grid, path: Path, progress: Progress) -> float:
    """Write a grid's rows as little-endian single precision, north to south; return what stands for no height."""
    nodata = no_height(grid)
    step = max(1, 4_000_000 // max(grid.columns, 1))
    with path.open("wb") as file:
        for top in range(0, grid.rows, step):
            part = grid.heights[top : top + step]
            file.write(np.where(np.isnan(part), nodata, part).astype("<f4").tobytes())
            progress.report(min((top + step) / grid.rows, 1.0), f"writing {path.name}")
    return nodata


def opened(path: Path, **options: Any) -> Any:
    """Open a raster by certain drivers only: one that points elsewhere must not open a stranger's file.

    Parameters
    ----------
    **options
        ``driver`` is a name or a list of names; the rest goes to the driver.
    """
    import rasterio
    from rasterio.io import DatasetReader

    # A folder of thousands is not listed for each of its files; what may lie beside one is asked for by name.
    with rasterio.Env(GDAL_DISABLE_READDIR_ON_OPEN="TRUE"):
        return DatasetReader(path, **{"driver": ["GTiff"], **options})


@contextmanager
def _band_of(path: Path, params: BandParams, findings: list[Finding], **options: Any) -> Iterator[tuple[Any, int]]:
    """Open a raster and yield it with the number of the band that is read; what the library remarks is noticed."""
    import rasterio  # here, not above: it takes a third of the time that the command line has to start

    with library_faults(path, "reading the raster"), _remarks(findings), warnings.catch_warnings():
        warnings.simplefilter("ignore", rasterio.errors.NotGeoreferencedWarning)
        with opened(path, **options) as source:
            yield source, _band(path, source, params, findings)


def peeked(path: Path, params: BandParams, progress: Progress, **options: Any) -> ReadResult:
    """Return a raster at about 800 rows, and how many it has."""
    with library_faults(path, "reading the raster"), opened(path, **options) as source:
        total = {"rows": source.height, "columns": source.width}
    grid, findings = read_band(path, params, progress, sparse=800, **options)
    return ReadResult((grid,), tuple(findings), (total,))


def head_of(path: Path, params: BandParams, **options: Any) -> Head:
    """Return what the header of a raster tells; its heights' range is by some of its rows and columns.

    Raises
    ------
    FormatError
        If it is damaged, turned against east and north, or does not say where it is.
    ParamError
        If it is to be read coarser.
    """
    if params.coarser > 1:
        raise ParamError("coarser", "on tiles every cell is read; leave it out")
    findings: list[Finding] = []
    with _band_of(path, params, findings, **options) as (source, band):
        outline = _outline(path, source, band, params, findings)
    return Head(outline, tuple(findings))


def _outline(path: Path, source: Any, band: int, params: BandParams, findings: list[Finding]) -> CellOutline:
    place = source.transform
    if place.b or place.d or place.a <= 0 or place.e >= 0 or not all(map(math.isfinite, place[:6])):
        # Nothing is wrong with the file: left out like a damaged one, its ground would be missing.
        raise CallError(
            f"{path.name}: its rows do not run from north to south along east, so it cannot be read in parts; "
            f"bring it into that order first (vastgrid convert {path.name} NEW.tif), or work on files without it"
        )
    quantity, measure = _quantity(path, source, band, params.holds, findings)
    frame = _frame(source, band, findings, heights=quantity in (HEIGHT, DIFFERENCE))
    point = str(source.tags().get("AREA_OR_POINT", "Area")).lower() == "point"
    own = (place.c, place.f, place.a, -place.e, source.height, source.width)
    return CellOutline(path.stem, frame, *own, quantity, measure, point)


def window_of(path: Path, params: BandParams, which: Window, _columns: Sequence[str] | None, **options: Any) -> Grid:
    """Return some of a raster's cells as a grid; perhaps none of them has a height.

    Raises
    ------
    FormatError
        If the file is damaged or cut off there.
    """
    with _band_of(path, params, [], **options) as (source, band):
        outline = _outline(path, source, band, params, [])
        rows, columns = (which.top, which.top + which.rows), (which.left, which.left + which.columns)
        part = source.read(band, window=(rows, columns), masked=True)
        heights = _cleaned(part, source.scales[band - 1], source.offsets[band - 1])
        without_nodata(heights, params, [])
    return outline.grid(which, heights)


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
        if handler.texts:
            text = f"{count(len(handler.texts), 'warning')} while reading the file; a tag that was passed over may be its place, its unit or its no-data value."
            findings.append(Finding("raster-remark", text))


_COLOURS = {
    "red",
    "green",
    "blue",
    "palette",
    "alpha",
    "hue",
    "saturation",
    "lightness",
    "cyan",
    "magenta",
    "yellow",
    "black",
}
# What rasters derived from heights are called (common practice), and units that no height has.
_OTHERS = (
    *("slope", "aspect", "hillshade", "curvature", "roughness", "ruggedness", "intensity", "reflectance", "ndvi"),
    *("land cover", "landcover", "class", "flow", "accumulation", "temperature", "precipitation", "density", "count"),
    "height band",
)
_MEASURES = {
    **dict.fromkeys(("%", "percent", "per cent", "pct"), "%"),
    **dict.fromkeys(("deg", "degree", "degrees", "°"), "°"),
    **dict.fromkeys(("rad", "radian", "radians"), "radians"),
}
# No ground is so low or so high: the ends of single precision, and other numbers that programs write for nothing.
_NO_GROUND = 1.0e30
_USUAL_NODATA = (-9999.0, -32768.0, -32767.0, -99999.0)


def _band(path: Path, source: Any, params: BandParams, findings: list[Finding]) -> int:
    """Return the number of the band that is read.

    Raises
    ------
    ParamError
        If there is none of that number.
    FormatError
        If the raster is a picture.
    """
    kinds = [each.name for each in source.colorinterp]
    if params.band is not None:
        if params.band > source.count:
            raise ParamError("band", f"the raster has {source.count}")
        if kinds[params.band - 1] in _COLOURS:
            text = f"Band {params.band} is the colour “{kinds[params.band - 1]}” of a picture; its numbers were taken, as asked."
            findings.append(Finding("colour-band", text))
        return params.band
    free = [k + 1 for k, kind in enumerate(kinds) if kind not in _COLOURS]
    if not free:
        listed = ", ".join(kinds)
        raise FormatError(
            path, f"this is a picture ({listed}), no raster of heights; band=1 takes a band's numbers all the same"
        )
    if source.count > 1:
        findings.append(
            note("one-band", f"The raster has {source.count} bands; band {free[0]} was read (band=… takes another).")
        )
    return free[0]


def _own_unit(source: Any, band: int) -> str:
    """Return the unit that a band says; the library takes that of the system's heights for one of bands that say none."""
    word = (source.units[band - 1] or "").strip().lower()
    try:
        vertical = frame_of_crs(source.crs.to_wkt()).vertical if source.crs is not None else None
        return "" if vertical is not None and parse_unit(word) is vertical else word
    except (CallError, ValueError):
        return word


def _quantity(path: Path, source: Any, band: int, holds: Holds, findings: list[Finding]) -> tuple[str, str]:
    """Return what a band holds and what it is measured in, by its unit and description; heights have no word."""
    unit = _own_unit(source, band)
    described = (source.descriptions[band - 1] or "").strip().lower()
    measure = _MEASURES.get(unit, "")
    word = next((each for each in _OTHERS if each in described), "")
    if holds is Holds.HEIGHT:
        return HEIGHT, ""
    if described == DIFFERENCE and holds is Holds.AUTO:
        text = "The raster holds height differences, no heights, by its own word (holds=height takes them for heights)."
        findings.append(Finding("no-heights", text))
        return DIFFERENCE, ""
    if holds is Holds.OTHER or measure or word:
        quantity = word or (described if described and described != HEIGHT else "values")
        if holds is Holds.AUTO:
            told = f"{quantity} in {measure}" if measure else quantity
            findings.append(
                Finding(
                    "no-heights",
                    f"The raster holds {told}, no heights, by its own word (holds=height takes it for heights).",
                )
            )
        return quantity, measure or unit
    return quantity_by_name(path, holds, findings), ""


def quantity_by_name(path: Path, holds: Holds, findings: list[Finding]) -> str:
    """Return what a raster holds that says nothing of it; point out where the file's name does."""
    if holds is Holds.OTHER:
        return "values"
    named = next((each for each in _OTHERS[:5] if each in path.stem.lower()), "")
    if named and holds is Holds.AUTO:
        text = (
            f"The file's name speaks of {named}, its content does not; if these are not heights, say so (holds=other)."
        )
        findings.append(Finding("perhaps-no-heights", text))
    return HEIGHT


def without_nodata(heights: NDArray[np.float64], params: BandParams, findings: list[Finding]) -> None:
    """Take out, in place, what stands for no height: what was said, and what no ground can be; point out what may."""
    if params.nodata is not None:
        for piece in pieces(heights):
            piece[piece == params.nodata] = np.nan
    deep, usual = 0, dict.fromkeys(_USUAL_NODATA, 0)
    for piece in pieces(heights):
        beyond = np.abs(piece) >= _NO_GROUND
        deep += int(beyond.sum())
        piece[beyond] = np.nan
        if np.nanmin(piece, initial=0.0) <= -9999.0:
            for value in usual:
                usual[value] += int((piece == value).sum())
    if deep:
        text = f"{count(deep, 'cell')} beyond ±{_NO_GROUND:g} {either(deep, 'has', 'have')} no height; the file does not say so."
        findings.append(Finding("undeclared-nodata", text))
    for value, number in usual.items():
        if number:
            text = f"{count(number, 'cell')} {either(number, 'is', 'are')} at {value:g}, which is usually a no-data value; the file does not say so (nodata={value:g} does)."
            findings.append(Finding("undeclared-nodata", text))


def _heights(source: Any, band: int, progress: Progress, every: int) -> NDArray[np.float64]:
    scale, offset = source.scales[band - 1], source.offsets[band - 1]
    if every > 1:
        shape = (max(source.height // every, 1), max(source.width // every, 1))
        if source.overviews(band) or source.width * source.height < QUICK_CELLS:
            return _cleaned(source.read(band, out_shape=shape, masked=True), scale, offset)
        return _strips(source, band, shape, scale, offset, progress)
    rows, columns = source.height, source.width
    heights = large_array((rows, columns), np.float64)
    # Whole rows of the file's own blocks, so that none is unpacked twice.
    high = source.block_shapes[band - 1][0]
    step = max(1, 16_000_000 // max(columns, 1))
    step = max(step // high * high, 1)
    for top in range(0, rows, step):
        stop = min(top + step, rows)
        part = source.read(band, window=((top, stop), (0, columns)), masked=True)
        heights[top:stop] = _cleaned(part, scale, offset)
        release(heights)
        progress.report(0.9 * stop / rows, "reading the raster")
    return heights


def _coarser(source: Any, band: int, every: int, findings: list[Finding]) -> NDArray[np.float64]:
    """Return heights of which each stands for so many across, from the coarse levels of the file."""
    shape = (max(math.ceil(source.height / every), 1), max(math.ceil(source.width / every), 1))
    made = source.read(band, out_shape=shape, masked=True)
    own = [level for level in source.overviews(band) if level <= every]
    how = f"from the file's level of {max(own)} cells" if own else "each the height of one of them"
    text = (
        f"Read coarser: {spaced(shape[0])} rows and {spaced(shape[1])} columns of {spaced(source.height)} and "
        f"{spaced(source.width)}, {how}. What lies between them is in the file, not here."
    )
    findings.append(Finding("read-coarser", text))
    return _cleaned(made, source.scales[band - 1], source.offsets[band - 1])


def _strips(
    source: Any, band: int, shape: tuple[int, int], scale: float, offset: float, progress: Progress
) -> NDArray[np.float64]:
    """Return a picture of a large raster without overviews from some of its rows of blocks, others as the nearest."""
    high = max(source.block_shapes[band - 1][0], 1)
    blocks = math.ceil(source.height / high)
    step = max(1, math.ceil(source.width * source.height / QUICK_CELLS))
    wanted = list(range(0, blocks, step))
    strips = []
    for k, block in enumerate(wanted):
        top, stop = block * high, min((block + 1) * high, source.height)
        rows = max(round((stop - top) * shape[0] / source.height), 1)
        part = source.read(band, window=((top, stop), (0, source.width)), out_shape=(rows, shape[1]), masked=True)
        strips.append(_cleaned(part, scale, offset))
        progress.report(0.9 * k / len(wanted), "looking into the raster")
    out = np.zeros(shape)
    for row in range(shape[0]):
        at = (row + 0.5) * source.height / shape[0]
        strip = strips[min(round(at / high / step - 0.5 / step), len(strips) - 1)]
        out[row] = strip[min(int(at % high / high * len(strip)), len(strip) - 1)]
    return out


def _cleaned(part: Any, scale: float, offset: float) -> NDArray[np.float64]:
    with np.errstate(invalid="ignore"):
        # A damaged cell may hold what no number is.
        heights = np.asarray(part.astype(np.float64).filled(np.nan))
    heights[~np.isfinite(heights)] = np.nan
    return heights if scale == 1.0 and offset == 0.0 else heights * scale + offset


def _turned_north(heights: NDArray[np.float64], place: Any, findings: list[Finding]) -> tuple[NDArray[np.float64], Any]:
    """Return a rotated or sheared raster on a lattice along east and north, cells of the same size, bilinear."""
    rows, columns = heights.shape
    corners = [place @ corner for corner in ((0, 0), (columns, 0), (0, rows), (columns, rows))]
    west, north = min(c[0] for c in corners), max(c[1] for c in corners)
    east, south = max(c[0] for c in corners), min(c[1] for c in corners)
    size = math.sqrt(abs(place.a * place.e - place.b * place.d))
    shape = (max(round((north - south) / size), 1), max(round((east - west) / size), 1))
    if shape[0] * shape[1] > 16 * rows * columns + 1000:
        raise DataError("the raster is sheared beyond use")
    turned = large_array(shape, np.float64, np.nan)
    back = ~place
    x = west + (np.arange(shape[1]) + 0.5) * size
    for row in range(shape[0]):
        y = north - (row + 0.5) * size
        column = back.a * x + back.b * y + back.c - 0.5
        line = back.d * x + back.e * y + back.f - 0.5
        turned[row] = bilinear(heights, column, line)
    angle = math.degrees(math.atan2(place.d, place.a))
    text = (
        f"The raster is turned by {angle:.3f}° in plan; it was brought onto a lattice along east and north with cells "
        f"of {size:g} (bilinear), which rounds its heights."
    )
    findings.append(Finding("raster-turned", text))
    return turned, type(place)(size, 0.0, west, 0.0, -size, north)


def _frame(source: Any, band: int, findings: list[Finding], *, heights: bool) -> Frame:
    vertical: Unit | None = None
    word = source.units[band - 1]
    if word and heights:
        try:
            vertical = parse_unit(word)
        except CallError:
            findings.append(Finding("unit-unknown", f"The raster's height unit “{word}” is not known."))
    if source.crs is None:
        return Frame(None, None, vertical)
    try:
        frame = frame_of_crs(source.crs.to_wkt())
    except ValueError:
        findings.append(Finding("crs-unreadable", "The coordinate reference system cannot be read."))
        return Frame(None, None, vertical)
    if frame.vertical and vertical and frame.vertical is not vertical:
        text = f"The CRS says heights are in {frame.vertical.title}, the band says {vertical.title}; the band counts."
        findings.append(Finding("unit-contradiction", text))
    return Frame(frame.crs, frame.horizontal, (vertical or frame.vertical) if heights else None)
