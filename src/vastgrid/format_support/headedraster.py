"""Rasters of plain rows of numbers with a header beside them (.flt, .bil): the header is compared with the file first."""

from __future__ import annotations

import dataclasses
import math
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.disk_arrays import large_array, release
from vastgrid.base.errors import FormatError, ParamError
from vastgrid.base.findings import Finding, note
from vastgrid.base.progress import Progress
from vastgrid.base.words import spaced
from vastgrid.data.dataset import HEIGHT, Dataset
from vastgrid.data.grid import Grid
from vastgrid.declarations.fileformat import Carries, Format, ReadResult, weighing
from vastgrid.format_support.prj import frame_beside
from vastgrid.format_support.rasterfile import BandParams, quantity_by_name, without_nodata
from vastgrid.kernels.text.decimals import number_of

_COUNTS = ("NROWS", "NCOLS", "NBANDS", "NBITS", "BANDROWBYTES", "TOTALROWBYTES", "BANDGAPBYTES", "SKIPBYTES")
_PLACES = (
    *("ULXMAP", "ULYMAP", "XDIM", "YDIM"),
    *("XLLCORNER", "YLLCORNER", "XLLCENTER", "YLLCENTER", "CELLSIZE"),
)
_NUMBERS = (*_COUNTS, *_PLACES, "NODATA", "NODATA_VALUE")
_ORDERS = {"I": "<", "LSBFIRST": "<", "M": ">", "MSBFIRST": ">"}
_KINDS = {"FLOAT": "f", "SIGNEDINT": "i", "UNSIGNEDINT": "u"}
_LAYOUTS = ("BIL", "BIP", "BSQ")
# Numbers of 32 bits of an unsaid kind are whole if none of them is larger: heights of single precision would be.
_PLAUSIBLE = 1_000_000


@dataclass(frozen=True, slots=True)
class _Header:
    """Where the numbers of one band lie, and what they are.

    Attributes
    ----------
    kind : dtype
        Of a number.
    start : int
        Byte of the band's first number.
    strides : (int, int)
        Bytes from a row to the next and from a column to the next.
    """

    rows: int
    columns: int
    kind: np.dtype[Any]
    start: int
    strides: tuple[int, int]
    west: float
    north: float
    dx: float
    dy: float
    placed: bool
    centred: bool
    nodata: float | None
    kind_said: bool


class _Words:
    """The words of a header."""

    def __init__(self, path: Path) -> None:
        beside = next((each for each in (path.with_suffix(".hdr"), path.with_suffix(".HDR")) if each.is_file()), None)
        if beside is None:
            raise FormatError(path, f"its header {path.with_suffix('.hdr').name} is not beside it")
        if beside.stat().st_size > 1 << 20:
            raise FormatError(beside, "this is not a header: it is larger than a megabyte")
        self.path = beside
        self.found: dict[str, str] = {}
        for number, line in enumerate(beside.read_text(encoding="latin-1").splitlines(), 1):
            parts = line.split()
            if len(parts) < 2 or parts[0].startswith("#"):
                continue
            word = parts[0].upper()
            if word in self.found and self.found[word] != parts[1]:
                raise FormatError(beside, f"{parts[0]} is given twice", line=number)
            self.found[word] = parts[1]
            if word in _NUMBERS:
                self._check(word, parts[1], number)

    def _check(self, word: str, text: str, line: int) -> None:
        try:
            value = 0.0 if word.startswith("NODATA") and _void(text) else number_of(text)
        except ValueError as error:
            raise FormatError(self.path, f"{word} is not a number: “{text[:30]}”", line=line) from error
        if word in _COUNTS and (value < 0 or value % 1.0 or value > 1e12):
            raise FormatError(self.path, f"{word} is not a whole number: “{text[:30]}”", line=line)

    def whole(self, word: str, default: int | None = None) -> int:
        """Return a whole number."""
        if word not in self.found:
            if default is None:
                raise FormatError(self.path, f"there is no {word}")
            return default
        return int(number_of(self.found[word]))

    def chosen(self, word: str, among: dict[str, str], default: str) -> str:
        """Return what a word stands for."""
        said = self.found.get(word, default).upper()
        if said not in among:
            raise FormatError(self.path, f"{word} is “{said[:30]}”, not one of {', '.join(among)}")
        return among[said]

    def nodata(self) -> float | None:
        """Return what stands for no height."""
        said = next((self.found[word] for word in ("NODATA", "NODATA_VALUE") if word in self.found), "nan")
        return None if _void(said) else number_of(said)


def _void(text: str) -> bool:
    return text.lower().strip("+-") in ("nan", "inf")


def _header(path: Path, params: BandParams, findings: list[Finding]) -> _Header:
    """Return what the header says, compared with the length of the file.

    Raises
    ------
    FormatError
        If something that is needed is not there, or makes no sense, or the file is shorter or longer than it implies.
    ParamError
        If there is no such band.
    """
    words = _Words(path)
    rows, columns, bands = words.whole("NROWS"), words.whole("NCOLS"), words.whole("NBANDS", 1)
    if not rows or not columns or not bands:
        raise FormatError(words.path, "it says that there are no rows, columns or bands")
    band = params.band or 1
    if band > bands:
        raise ParamError("band", f"the raster has {bands}")
    if bands > 1 and params.band is None:
        findings.append(note("one-band", f"The raster has {bands} bands; band 1 was read (band=… takes another)."))
    floats = path.suffix.lower() == ".flt"
    bits = words.whole("NBITS", 32 if floats else 8)
    if bits not in (8, 16, 32, 64):
        raise FormatError(words.path, f"numbers of {bits} bits are not heights that can be read")
    first, strides, least, most = _layout(words, rows, columns, bands, bits // 8, band)
    there = path.stat().st_size
    if there < least or there > most:
        what = "the file is cut off" if there < least else "the file holds more than its header says"
        told = f"its header implies {spaced(least)} bytes, {spaced(there)} are there"
        raise FormatError(path, f"{what}: {told} ({rows} rows of {columns} numbers of {bits} bits, {bands} bands)")
    kind = _kind(path, words, bits, floats=floats)
    return _Header(
        rows, columns, np.dtype(kind), first, strides, *_place(words, rows), words.nodata(), "PIXELTYPE" in words.found
    )


def _layout(
    words: _Words, rows: int, columns: int, bands: int, size: int, band: int
) -> tuple[int, tuple[int, int], int, int]:
    """Return a band's first byte, the bytes from row to row and column to column, and how many bytes the file may have."""
    layout = words.chosen("LAYOUT", {each: each for each in _LAYOUTS}, "BIL")
    row = words.whole("BANDROWBYTES", columns * size)
    start, gap = words.whole("SKIPBYTES", 0), words.whole("BANDGAPBYTES", 0)
    if row < columns * size:
        raise FormatError(words.path, f"BANDROWBYTES is {row}, but {columns} columns take {columns * size}")
    if layout == "BSQ":
        end = start + bands * rows * row + (bands - 1) * gap
        return start + (band - 1) * (rows * row + gap), (row, size), end - (row - columns * size), end + gap
    used = (bands - 1) * row + columns * size if layout == "BIL" else bands * columns * size
    step = words.whole("TOTALROWBYTES", bands * row if layout == "BIL" else used)
    if step < used:
        raise FormatError(words.path, f"TOTALROWBYTES is {step}, but a row takes {used}")
    # What fills up the last row may be missing.
    ends = start + (rows - 1) * step + used, start + rows * step
    if layout == "BIL":
        return start + (band - 1) * row, (step, size), *ends
    return start + (band - 1) * size, (step, bands * size), *ends


def _kind(path: Path, words: _Words, bits: int, *, floats: bool) -> str:
    order = words.chosen("BYTEORDER", _ORDERS, "I")
    kind = words.chosen("PIXELTYPE", {**_KINDS, "UNSAID": "?"}, "FLOAT" if floats else "UNSAID")
    if kind == "f" and bits < 32:
        raise FormatError(words.path, f"there are no floats of {bits} bits")
    if kind == "?":
        # Unsaid: bytes have no sign, heights of 16 bits do by common practice, and those of 32 are looked at.
        kind = {8: "u", 16: "i", 32: "?", 64: "f"}[bits]
    if kind == "?":
        some = np.fromfile(path, f"{order}i4", 100_000)
        kind = "i" if len(some) and np.abs(some.astype(np.int64)).max() < _PLAUSIBLE else "f"
    return f"{order}{kind}{bits // 8}"


def _place(words: _Words, rows: int) -> tuple[float, float, float, float, bool, bool]:
    """Return west, north, cell sizes, whether the header says where the raster lies, and whether by centres of cells."""
    numbers = {word: number_of(words.found[word]) for word in _PLACES if word in words.found}
    dx = numbers.get("CELLSIZE", numbers.get("XDIM", 1.0))
    dy = numbers.get("CELLSIZE", numbers.get("YDIM", dx))
    if not dx > 0.0 or not dy > 0.0:
        raise FormatError(words.path, "a cell's size is not above zero")
    lower = {
        axis: next((f"{axis}LL{end}" for end in ("CORNER", "CENTER") if f"{axis}LL{end}" in numbers), "")
        for axis in "XY"
    }
    if lower["X"] and lower["Y"]:
        west = numbers[lower["X"]] - (dx / 2.0 if lower["X"].endswith("CENTER") else 0.0)
        south = numbers[lower["Y"]] - (dy / 2.0 if lower["Y"].endswith("CENTER") else 0.0)
        return west, south + rows * dy, dx, dy, True, lower["X"].endswith("CENTER")
    # ULXMAP and ULYMAP tell the centre of the first cell.
    placed = "ULXMAP" in numbers and "ULYMAP" in numbers
    west, north = numbers.get("ULXMAP", 0.0) - dx / 2.0, numbers.get("ULYMAP", float(rows - 1)) + dy / 2.0
    return west, north, dx, dy, placed, False


def _grid(path: Path, params: BandParams, progress: Progress, every: int = 1) -> tuple[Grid, list[Finding]]:
    findings: list[Finding] = []
    head = _header(path, params, findings)
    if not head.placed:
        text = "The raster does not say where it is: rows and columns stand for northings and eastings."
        findings.append(Finding("no-place", text))
    raw = np.memmap(path, np.uint8, "r")
    band: NDArray[Any] = np.ndarray((head.rows, head.columns), head.kind, raw, head.start, head.strides)
    band = band[every // 2 :: every, every // 2 :: every]
    heights = large_array(band.shape, np.float64)
    step = max(1, 4_000_000 // max(band.shape[1], 1))
    for top in range(0, len(band), step):
        with np.errstate(invalid="ignore"):
            part = band[top : top + step].astype(np.float64)
        part[~np.isfinite(part)] = np.nan
        if head.nodata is not None:
            part[band[top : top + step] == np.array(head.nodata).astype(head.kind)] = np.nan
            part[part == head.nodata] = np.nan
        heights[top : top + step] = part
        release(heights)
        progress.report(0.9 * min(top + step, len(band)) / len(band), "reading the raster")
    if not head.kind_said and head.kind.kind == "i" and np.nanmin(heights, initial=0.0) < 0.0:
        text = "The header does not say whether numbers have a sign (PIXELTYPE); they were read with one, and some are below zero."
        findings.append(Finding("sign-unsaid", text))
    without_nodata(heights, params, findings)
    if not np.isfinite(heights).any():
        raise FormatError(path, "no cell of the raster has a height")
    quantity = quantity_by_name(path, params.holds, findings)
    frame = frame_beside(path)
    if quantity != HEIGHT:
        frame = dataclasses.replace(frame, vertical=None)
    dx, dy = head.dx * head.columns / band.shape[1], head.dy * head.rows / band.shape[0]
    grid = Grid(
        name=path.stem,
        frame=frame,
        heights=heights,
        west=head.west,
        north=head.north,
        dx=dx,
        dy=dy,
        point_registered=head.centred,
        quantity=quantity,
    )
    return grid, findings


def with_header(
    own: str, title: str, suffix: str, write: Callable[[Sequence[Dataset], Path, Any, Progress], None]
) -> Format:
    """Return the declaration of a raster whose rows have a header and a .prj beside them."""

    def read(path: Path, params: BandParams, progress: Progress) -> ReadResult:
        grid, findings = _grid(path, params, progress, params.coarser)
        if params.coarser > 1:
            text = (
                f"Read coarser: one cell of {params.coarser} across. What lies between them is in the file, not here."
            )
            findings.append(Finding("read-coarser", text))
        return ReadResult((grid,), tuple(findings))

    def peek(path: Path, params: BandParams, progress: Progress) -> ReadResult:
        head = _header(path, params, [])
        every = max(1, math.ceil(max(head.rows, head.columns) / 800))
        grid, findings = _grid(path, params, progress, min(every, head.rows, head.columns))
        return ReadResult((grid,), tuple(findings), ({"rows": head.rows, "columns": head.columns},))

    def sniff(head: bytes, path: Path) -> int:
        if not re.fullmatch(re.escape(suffix), path.suffix, re.IGNORECASE):
            return 0
        return 90 if any(path.with_suffix(end).is_file() for end in (".hdr", ".HDR")) else 0

    return Format(
        id=own,
        title=title,
        used_for="rasters",
        suffixes=(suffix,),
        sniff=sniff,
        carries=Carries(kinds=(Grid,), units="both", crs=True, single=True),
        weigh=weighing(cells=4),
        parts=(".hdr", ".prj"),
        read=read,
        write=write,
        read_params=BandParams,
        peek=peek,
    )
