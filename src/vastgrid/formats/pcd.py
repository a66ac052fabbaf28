"""PCD point clouds: text, binary and packed."""

from __future__ import annotations

import re
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.errors import FormatError
from vastgrid.base.findings import count, left_out, longer_than_said
from vastgrid.base.progress import Progress
from vastgrid.base.words import spaced
from vastgrid.data.pointset import PointSet
from vastgrid.declarations.fileformat import Carries, Format, ReadResult
from vastgrid.format_support.cloudfile import CloudReadParams, filtered
from vastgrid.kernels.cells.clouds import unpacked
from vastgrid.kernels.text.decimals import number_of, read_words

_TYPES = {
    "F": {4: "<f4", 8: "<f8"},
    "I": {1: "i1", 2: "<i2", 4: "<i4", 8: "<i8"},
    "U": {1: "u1", 2: "<u2", 4: "<u4", 8: "<u8"},
}


@dataclass(frozen=True, slots=True)
class _Head:
    fields: list[str]
    layout: np.dtype[Any]
    counts: list[int]
    points: int
    data: str
    start: int
    viewpoint: list[float]


def _head(path: Path, data: bytes) -> _Head:
    found = re.search(rb"^DATA[ \t]+(\w+)[ \t]*\r?\n", data, re.MULTILINE)
    if not found:
        raise FormatError(path, "the file is cut off: its header does not end with DATA")
    words: dict[str, list[str]] = {}
    for line in data[: found.start()].decode("latin-1").splitlines():
        parts = line.split("#")[0].split()
        if parts:
            words[parts[0].upper()] = parts[1:]
    try:
        fields = words.get("FIELDS") or words["COLUMNS"]
        sizes = [int(word) for word in words["SIZE"]]
        kinds = words["TYPE"]
        counts = [int(word) for word in words.get("COUNT", ["1"] * len(fields))]
        own = [_TYPES[kind][size] for kind, size in zip(kinds, sizes, strict=True)]
        names = [f"{name}_{k}" if name == "_" or fields.count(name) > 1 else name for k, name in enumerate(fields)]
        if not all(0 < count < 10_000 for count in counts):
            raise FormatError(path, "a field's count is not a small number")
        layout = np.dtype([(n, t, (c,)) for n, t, c in zip(names, own, counts, strict=True)])
        points = int(words["POINTS"][0]) if "POINTS" in words else int(words["WIDTH"][0]) * int(words["HEIGHT"][0])
        viewpoint = [number_of(word) for word in words.get("VIEWPOINT", [])]
    except (KeyError, ValueError, IndexError) as error:
        raise FormatError(path, "its header is not whole") from error
    if not {"x", "y", "z"} <= set(names):
        raise FormatError(path, f"the points have no x, y and z; there are {', '.join(names)}")
    if points < 1:
        raise FormatError(path, "there are no points in the file")
    return _Head(names, layout, counts, points, found[1].decode().lower(), found.end(), viewpoint)


def read(path: Path, params: CloudReadParams, progress: Progress) -> ReadResult:
    """Read the points with all their fields; points that are not finite are left out and counted.

    Raises
    ------
    FormatError
        If the file is damaged or cut off.
    """
    data = path.read_bytes()
    head = _head(path, data)
    progress.report(0.1, f"reading {path.name}")
    body = data[head.start :]
    if head.data == "ascii":
        rows = _from_text(path, head, body)
    elif head.data == "binary":
        if len(body) < head.points * head.layout.itemsize:
            there = len(body) // head.layout.itemsize
            raise FormatError(path, f"the file is cut off: {head.points} points are announced, {there} are there")
        rows = np.frombuffer(body, head.layout, head.points)
    elif head.data == "binary_compressed":
        rows = _from_packed(path, head, body)
    else:
        raise FormatError(path, f"its points are stored as “{head.data}”, which the format does not know")
    progress.report(0.6, f"reading {path.name}")
    xyz = np.column_stack([rows[axis][:, 0].astype(np.float64) for axis in "xyz"])
    good = np.asarray(np.isfinite(xyz).all(axis=1) & (np.abs(xyz) < 1e12).all(axis=1))
    if not good.any():
        raise FormatError(path, "no point has finite coordinates")
    findings = []
    if head.data == "binary" and (rest := len(body[head.points * head.layout.itemsize :].strip(b"\0"))):
        findings.append(longer_than_said(rest))
    if not good.all():
        gone = int((~good).sum())
        findings.append(
            left_out(
                "not-finite", f"{count(gone, 'point')} of {spaced(len(xyz))} without finite coordinates: left out."
            )
        )
    attributes = _attributes(head, rows, good)
    cloud = PointSet(name=path.stem, xyz=xyz[good], attributes=attributes)
    scanner = np.array(head.viewpoint[:3]) if len(head.viewpoint) >= 3 and any(head.viewpoint[:3]) else None
    if scanner is None and params.reach is not None and not params.scanner:
        scanner = np.zeros(3)
    cloud, said = filtered(path, cloud, params, progress.part(0.6, 1.0), scanner)
    return ReadResult((cloud,), (*findings, *said))


def _attributes(head: _Head, rows: NDArray[Any], good: NDArray[np.bool_]) -> dict[str, NDArray[Any]]:
    found = {}
    for name in head.fields:
        if name in ("x", "y", "z") or name.startswith("__") or name.startswith("_"):
            continue
        values = np.ascontiguousarray(rows[name][good])
        values = values[:, 0] if values.shape[1] == 1 else values
        if name in ("rgb", "rgba") and values.ndim == 1 and values.dtype.itemsize == 4:
            # A colour's bytes, packed into what may be declared as a float.
            packed = np.ascontiguousarray(values).view("<u4")
            for colour, shift in (("red", 16), ("green", 8), ("blue", 0)):
                found[colour] = ((packed >> np.uint32(shift)) & np.uint32(255)).astype(np.uint8)
        else:
            found[name] = values
    return found


def _from_text(path: Path, head: _Head, body: bytes) -> NDArray[Any]:
    width = sum(head.counts)
    values, wrong = read_words(body, void=True)
    if wrong >= 0:
        shown = body[wrong : wrong + 40].split()[0].decode("latin-1")
        row = body.count(b"\n", 0, wrong) + 1
        raise FormatError(path, f"something among the points is not a number: “{shown}” in line {row} of them")
    if len(values) < head.points * width:
        there = len(values) // width
        raise FormatError(path, f"the file is cut off: {head.points} points are announced, {there} are there")
    numbers = values[: head.points * width].reshape(-1, width)
    rows = np.zeros(head.points, head.layout)
    place = 0
    with np.errstate(invalid="ignore", over="ignore"):
        for name, count in zip(head.fields, head.counts, strict=True):
            rows[name] = numbers[:, place : place + count].astype(rows[name].dtype)
            place += count
    return rows


def _from_packed(path: Path, head: _Head, body: bytes) -> NDArray[Any]:
    if len(body) < 8:
        raise FormatError(path, "the file is cut off before its points")
    packed, whole = np.frombuffer(body, "<u4", 2).tolist()
    if whole != head.points * head.layout.itemsize or packed > len(body) - 8 or whole > 300 * packed:
        raise FormatError(path, f"the file is cut off or damaged: {packed} packed bytes stand for {whole}")
    flat = unpacked(np.frombuffer(body, np.uint8, packed, 8), whole)
    if len(flat) != whole:
        raise FormatError(path, f"the packed points are damaged after {len(flat)} of {whole} bytes")
    rows = np.zeros(head.points, head.layout)
    place = 0
    # Packed files hold one field after another, not one point after another.
    for name in head.fields:
        own = head.layout[name]
        size = own.itemsize * head.points
        rows[name] = flat[place : place + size].view(own.base).reshape(rows[name].shape)
        place += size
    return rows


def sniff(head: bytes, path: Path) -> int:
    """The header speaks of fields, sizes and points."""
    if re.match(rb"(\s*#[^\n]*\n)*\s*(VERSION|FIELDS)\b", head) and b"FIELDS" in head[:4096]:
        return 100
    return 0


FORMAT = Format(
    id="pcd",
    title="PCD point cloud",
    used_for="point clouds",
    suffixes=(".pcd",),
    sniff=sniff,
    carries=Carries(kinds=(PointSet,), attributes=True),
    read=read,
    read_params=CloudReadParams,
)
