"""Shapefiles: points, lines and areas with attributes."""

from __future__ import annotations

import struct
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated

import numpy as np

from vastgrid.base.errors import FormatError
from vastgrid.base.findings import Finding, count
from vastgrid.base.progress import Progress
from vastgrid.base.words import spaced
from vastgrid.data.areas import Areas
from vastgrid.data.dataset import Dataset
from vastgrid.data.linework import Contours, Linework
from vastgrid.data.pointset import PointSet
from vastgrid.declarations.fileformat import Carries, NoParams
from vastgrid.format_support.columns import AsHeld, Column, as_text, cut_texts, different, in_bytes, whole_beyond
from vastgrid.format_support.prj import write_beside
from vastgrid.format_support.vectorfile import VectorReadParams, beside_layer, vector_format, write_vector
from vastgrid.params.declare import Param


@dataclass(frozen=True)
class ShapeReadParams(VectorReadParams):
    """What is taken from the file."""

    accept_cut: Annotated[
        bool, Param("Accept a cut-off file", "Take the whole features of a file that is shorter than it says.")
    ] = False


def sniff(head: bytes, path: Path) -> int:
    """The file code 9994 stands first (ESRI Shapefile Technical Description, 1998)."""
    return 100 if head[:4] == b"\0\0\x27\x0a" else 0


def check(path: Path, params: ShapeReadParams) -> tuple[Finding, ...]:
    """Refuse a shapefile without its index, which senders often forget, and one that was cut off.

    Raises
    ------
    FormatError
        With what is missing.
    """
    beside = {each.name.lower(): each for each in path.parent.iterdir()}
    index = beside.get(f"{path.stem}.shx".lower())
    if index is None:
        raise FormatError(
            path,
            f"its index {path.stem}.shx is not beside it; a shapefile is several files: ask for .shp, .shx and .dbf",
        )
    found = []
    for each in (path, index, beside.get(f"{path.stem}.dbf".lower())):
        told = "" if each is None else _cut(each)
        if told and not params.accept_cut:
            raise FormatError(path, f"{told}; it is cut off (accept_cut=yes takes the features that are whole)")
        if told:
            found.append(Finding("cut-off", f"{told}; the features that are whole were taken."))
    return tuple(found)


def _cut(path: Path) -> str:
    """Return how much shorter a file is than its head says; empty where it is not.

    Lengths by the ESRI Shapefile Technical Description (1998): 16-bit words in byte 24, big-endian; in a .dbf the
    number of rows, the length of the head and of a row from byte 4 on, little-endian.
    """
    size = path.stat().st_size
    with path.open("rb") as file:
        head = file.read(100)
    if path.suffix.lower() == ".dbf":
        if len(head) < 32:
            return f"{path.name} is shorter than its head"
        rows, first, width = struct.unpack_from("<IHH", head, 4)
        said = first + rows * width
    elif len(head) < 100:
        return f"{path.name} is shorter than its head"
    else:
        said = 2 * int(struct.unpack_from(">i", head, 24)[0])
    return f"{path.name} has {spaced(size)} bytes of {spaced(said)}" if size < said else ""


_LONGEST = 10


def _called(names: Sequence[str]) -> dict[str, str]:
    # The library takes a colon for a mark of its own.
    return different({name: in_bytes(name.replace(":", "_"), _LONGEST) for name in names}, _LONGEST, in_bytes)


def write(datasets: Sequence[Dataset], path: Path, params: NoParams, progress: Progress) -> None:
    """Write one dataset with its attributes, and its system in a .prj."""
    write_vector(datasets, path, progress, "ESRI Shapefile", called=_called, own_heights=False)
    write_beside(path, datasets[0].frame)


def renamed(names: Sequence[str], params: NoParams) -> dict[str, str]:
    """Return what attributes are called: names of at most ten bytes (ESRI Shapefile Technical Description, 1998)."""
    return _called(beside_layer(names))


# What fits in the widths that receivers read as whole numbers and as reals (xBase; the library's own widths).
_WHOLE = 10**17
_SMALL, _LARGE = 1e-3, 1e22
_TEXT = 254


def column(_name: str, values: Column, _params: NoParams) -> AsHeld:
    """Return an attribute as a .dbf holds it: numbers in 24 places, texts of at most 254 bytes."""
    if values.ndim > 1:
        return values, ""
    if whole_beyond(values, _WHOLE):
        return as_text(
            values
        ), "whole numbers of more than 17 digits, which a .dbf cannot hold as numbers, written as text"
    if values.dtype.kind == "f":
        size = np.abs(values[np.isfinite(values) & (values != 0.0)].astype(np.float64))
        if np.isinf(values).any() or (len(size) and (size.min() < _SMALL or size.max() >= _LARGE)):
            return as_text(values), "numbers that a .dbf cannot hold with all digits, written as text"
    made, long = cut_texts(values, _TEXT)
    if long:
        return made, f"{count(long, 'text')} of more than {_TEXT} bytes, which a .dbf cannot hold, cut"
    return made, ""


def exact(path: Path, _layer: str, name: str) -> list[int | None] | None:
    """Return a column of whole numbers of more than 18 digits, which the library takes for reals; None for another one.

    Places by the dBASE III+ table file format: a field's name, type, width and decimals in 32 bytes each from byte 32 on.
    """
    beside = next((each for each in path.parent.iterdir() if each.name.lower() == f"{path.stem}.dbf".lower()), None)
    if beside is None:
        return None
    with beside.open("rb") as file:
        head = file.read(32)
        rows, first, width = struct.unpack_from("<IHH", head, 4)
        fields = file.read(max(first - 32, 0))
        at = 1
        for k in range(0, len(fields) - 31, 32):
            own, kind, size, decimals = (
                fields[k : k + 11].split(b"\0")[0],
                fields[k + 11 : k + 12],
                fields[k + 16],
                fields[k + 17],
            )
            if own.decode("utf-8", "replace") == name:
                break
            at += size
        else:
            return None
        if kind not in b"NF" or decimals:
            return None
        file.seek(first)
        table = [file.read(width) for _ in range(rows)]
    cells = [row[at : at + size].strip(b" \0*") for row in table if row[:1] != b"*"]
    try:
        return [int(cell) if cell else None for cell in cells]
    except ValueError:
        return None


FORMAT = vector_format(
    "shapefile",
    "Shapefile",
    (".shp",),
    sniff,
    "ESRI Shapefile",
    check,
    ShapeReadParams,
    write=write,
    renamed=renamed,
    column=column,
    exact=exact,
    parts=(".shx", ".dbf", ".prj", ".cpg"),
    carries=Carries(kinds=(Areas, PointSet, Linework, Contours), units="both", crs=True, attributes=True),
)
