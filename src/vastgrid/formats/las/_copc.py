"""Cloud-optimised point clouds (COPC 1.0): LAZ 1.4 whose chunks are the nodes of an octree, coarse to fine.

After the COPC specification 1.0 (copc.io, Hobu 2021): the first record after the header tells the cube and where the
hierarchy is; the hierarchy tells of each node where its points lie. Layouts are from the specification, from memory.
"""

from __future__ import annotations

import dataclasses
import struct
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated, Any

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.errors import FormatError, library_faults
from vastgrid.base.findings import Finding
from vastgrid.base.progress import Progress
from vastgrid.data.dataset import Dataset, Floats
from vastgrid.data.kinds import narrowed
from vastgrid.data.pointset import PointSet
from vastgrid.declarations.fileformat import ReadResult
from vastgrid.formats.las._read import STANDARD_TIME, TIME, LasReadParams
from vastgrid.formats.las._read import peek as peek_any
from vastgrid.formats.las._write import LasWriteParams, Version, content_of, file_header, record_of
from vastgrid.formats.las._write import fits as fits_las
from vastgrid.kernels.triangles.topology import corners
from vastgrid.params.declare import Param

# A node has about one point in each of its cells, so many along a side; one with fewer points than this has them all.
CELLS = 64
FEW = 20_000
DEEPEST = 12
# So many points make a picture.
SHOWN = 600_000
_ENTRY = struct.Struct("<4iQ2i")


@dataclass(frozen=True)
class CopcWriteParams:
    """How the cloud is written."""

    decimals: Annotated[
        int | None,
        Param("Decimals", "Decimals of every coordinate.", least=0, most=9, absent="as many as the coordinates have"),
    ] = None


def _as_las(params: CopcWriteParams, number: int | None = None) -> LasWriteParams:
    return LasWriteParams(version=Version.NEW, point_format=number, decimals=params.decimals)


def fits(datasets: Sequence[Dataset], params: CopcWriteParams) -> CopcWriteParams:
    """Settle the decimals by the content.

    Raises
    ------
    ParamError
        If the format cannot count the coordinates in such steps.
    """
    return dataclasses.replace(params, decimals=_settled(datasets, params).decimals)


def _settled(datasets: Sequence[Dataset], params: CopcWriteParams) -> LasWriteParams:
    found = fits_las(datasets, _as_las(params))
    if found.point_format is not None and found.point_format < 6:
        # The older fields all have a place in the newer formats (LAS 1.4, tables 7 to 17).
        newer = {0: 6, 1: 6, 2: 7, 3: 7}[found.point_format]
        found = fits_las(datasets, dataclasses.replace(found, point_format=newer))
    return found


@dataclass(frozen=True, slots=True)
class Octree:
    """Points put into the nodes of an octree.

    Attributes
    ----------
    order : (n,) int64
        Points, node after node, coarse to fine.
    keys : (m, 4) int64
        Level and place of each node.
    starts : (m + 1,) int64
        Where each node's points begin in that order.
    low : (3,) float64
        Lowest corner of the cube.
    size : float
        Width of the cube.
    """

    order: NDArray[np.int64]
    keys: NDArray[np.int64]
    starts: NDArray[np.int64]
    low: Floats
    size: float


def _scrambled(whole: NDArray[np.int64]) -> NDArray[np.uint64]:
    """Return a number for each point that its place alone makes, and that tells nothing of the place."""
    with np.errstate(over="ignore"):
        mixed = whole[:, 0].astype(np.uint64) * np.uint64(0x9E3779B97F4A7C15)
        mixed ^= whole[:, 1].astype(np.uint64) * np.uint64(0xC2B2AE3D27D4EB4F)
        mixed ^= whole[:, 2].astype(np.uint64) * np.uint64(0x165667B19E3779F9)
        mixed ^= mixed >> np.uint64(29)
        mixed *= np.uint64(0xBF58476D1CE4E5B9)
        return np.asarray(mixed ^ (mixed >> np.uint64(32)), np.uint64)


def octree(xyz: Floats) -> Octree:
    """Put points into nodes: each has one point of each of its cells, and its children have the rest.

    Which point of a cell that is depends on the points' places alone, not on their order.
    """
    low, high = corners(xyz)
    size = float((high - low).max()) or 1.0
    # Millimetres tell points apart; what lies closer is taken in the order given.
    rank = np.argsort(_scrambled(np.floor((xyz - low) * 1000.0).astype(np.int64)), kind="stable")
    level_of = np.zeros(len(xyz), np.int8)
    rest = rank
    for level in range(DEEPEST + 1):
        node = _cell(xyz[rest], low, size, 1 << level)
        _, inverse, number = np.unique(node, return_inverse=True, return_counts=True)
        stays = (number <= FEW)[inverse]
        if level == DEEPEST:
            stays[:] = True
        many = np.flatnonzero(~stays)
        if len(many):
            _, first = np.unique(_cell(xyz[rest[many]], low, size, CELLS << level), return_index=True)
            stays[many[first]] = True
        level_of[rest[stays]] = level
        rest = rest[~stays]
        if not len(rest):
            break
    places = np.minimum(
        np.floor((xyz - low) / size * (1 << level_of.astype(np.int64))[:, None]).astype(np.int64),
        (1 << level_of.astype(np.int64))[:, None] - 1,
    )
    order = np.lexsort((places[:, 2], places[:, 1], places[:, 0], level_of))
    keys = np.column_stack((level_of, places))[order]
    new = np.flatnonzero(np.append(True, (keys[1:] != keys[:-1]).any(axis=1)))
    return Octree(order, keys[new].astype(np.int64), np.append(new, len(xyz)).astype(np.int64), low, size)


def _cell(xyz: Floats, low: Floats, size: float, number: int) -> NDArray[np.int64]:
    """Return the number of the cell of each point, of so many along each side of the cube."""
    own = np.minimum(((xyz - low) / size * number).astype(np.int64), number - 1)
    return np.asarray((own[:, 0] * number + own[:, 1]) * number + own[:, 2], np.int64)


def given(datasets: Sequence[Dataset], params: CopcWriteParams) -> Sequence[Dataset]:
    """Return the cloud in the order in which the file has it."""
    found: list[Dataset] = []
    for each in datasets:
        if isinstance(each, PointSet) and len(each.xyz):
            found.append(each.chosen(octree(each.xyz).order))
        else:
            found.append(each)
    return found


def write(datasets: Sequence[Dataset], path: Path, params: CopcWriteParams, progress: Progress) -> None:
    """Write the cloud node by node, then the hierarchy.

    Raises
    ------
    DataError
        If an attribute has values that its field of the format cannot hold.
    """
    import laspy
    import lazrs

    points = narrowed(datasets[0], PointSet)
    settled = _settled(datasets, params)
    header = file_header(points, settled)
    tree = octree(points.xyz)
    progress.report(0.2, f"putting {path.name} in order")
    extra = header.point_format.size - laspy.PointFormat(settled.point_format or 6).size
    packing = lazrs.LazVlr.new_for_compression(settled.point_format, extra, use_variable_size_chunks=True)
    information = laspy.VLR("copc", 1, "COPC info VLR", bytes(160))
    others = list(header.vlrs)
    header.vlrs.clear()
    header.vlrs.extend([information, *others, laspy.VLR("laszip encoded", 22204, "lazrs", packing.record_data())])
    header.are_points_compressed = True
    header.point_count = len(points.xyz)
    columns = content_of(points, header)
    with library_faults(path, "writing the cloud"), path.open("w+b") as file:
        _put_header(header, points, tree, columns, file)
        packer = lazrs.LasZipCompressor(file, packing)
        for k, (start, stop) in enumerate(zip(tree.starts[:-1], tree.starts[1:], strict=True)):
            record = record_of(points, tree.order[start:stop], header, columns)
            packer.compress_many(np.frombuffer(record.array.tobytes(), np.uint8))
            if k + 1 < len(tree.keys):
                # The last chunk is finished with the file; one more would be empty.
                packer.finish_current_chunk()
            if k % 64 == 0:
                progress.report(0.2 + 0.75 * stop / len(points.xyz), f"writing {path.name}")
        packer.done()
        file.flush()
        file.seek(0, 2)
        _put_hierarchy(file, header, tree, packing, points)
    progress.report(1.0)


def _put_header(header: Any, points: PointSet, tree: Octree, columns: dict[str, Any], file: Any) -> None:
    whole = record_of(points, tree.order, header, columns)
    # A new header begins at nought, which is no place of the points.
    header.mins, header.maxs = np.full(3, np.inf), np.full(3, -np.inf)
    header.grow(whole)
    header.point_count = len(points.xyz)
    header.write_to(file, ensure_same_size=False)


def _put_hierarchy(file: Any, header: Any, tree: Octree, packing: Any, points: PointSet) -> None:
    """Write the hierarchy behind the points, and into the header where it is."""
    import lazrs

    start = int(header.offset_to_point_data)
    end = file.tell()
    file.seek(start)
    table = lazrs.read_chunk_table(file, packing)
    sizes = np.array([size for _, size in table], np.int64)
    # The table's own place stands before the first chunk.
    offsets = start + 8 + np.concatenate(([0], np.cumsum(sizes[:-1])))
    counts = np.diff(tree.starts)
    entries = b"".join(
        _ENTRY.pack(*(int(value) for value in key), int(offset), int(size), int(number))
        for key, offset, size, number in zip(tree.keys, offsets, sizes, counts, strict=True)
    )
    file.seek(end)
    head = struct.pack("<H16sHQ32s", 0, b"copc", 1000, len(entries), b"COPC hierarchy")
    file.write(head + entries)
    centre = tree.low + tree.size / 2.0
    times = points.attributes.get(TIME, points.attributes.get(STANDARD_TIME))
    span = (float(times.min()), float(times.max())) if times is not None and len(times) else (0.0, 0.0)
    spacing = tree.size / CELLS
    file.seek(375 + 54)
    file.write(
        struct.pack("<5dQQ2d11Q", *centre, tree.size / 2.0, spacing, end + len(head), len(entries), *span, *([0] * 11))
    )
    file.seek(235)
    file.write(struct.pack("<QI", end, 1))


def peek(path: Path, params: LasReadParams, progress: Progress) -> ReadResult:
    """Return the coarse levels of a cloud: evenly spread, and read at once however large the file is."""
    import laspy

    found = peek_any(path, params, progress)
    (total,) = found.totals
    (sample,) = found.datasets
    try:
        with library_faults(path, "reading the coarse levels"), laspy.CopcReader.open(str(path)) as reader:
            points = _coarse(reader, total["points"])
    except FormatError:
        # Its points may be whole all the same: they are looked at like those of any other file.
        return found
    xyz = np.column_stack((np.asarray(points.x), np.asarray(points.y), np.asarray(points.z)))
    classes = np.asarray(points.classification)
    cloud = PointSet(name=path.stem, frame=sample.frame, xyz=xyz, attributes={"classification": classes})
    return ReadResult((cloud,), tuple(each for each in found.findings if isinstance(each, Finding)), found.totals)


def _coarse(reader: Any, total: int) -> Any:
    """Return the points of as many levels as make a picture."""
    for level in range(DEEPEST + 1):
        points = reader.query(level=range(level + 1))
        if len(points) * 4 > SHOWN or len(points) >= total:
            break
    return points


def sniff(head: bytes, path: Path) -> int:
    """Look for the record that has to come first."""
    return 100 if head.startswith(b"LASF") and head[377:381] == b"copc" else 0
