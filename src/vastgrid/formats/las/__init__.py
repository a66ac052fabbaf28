"""LAS and LAZ point clouds, 1.0 to 1.4 in, 1.2 and 1.4 out; and those that are ordered for looking at a part (COPC)."""

from __future__ import annotations

import dataclasses
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.errors import library_faults
from vastgrid.data.pointset import PointSet
from vastgrid.declarations.fileformat import Carries, Format, weighing
from vastgrid.format_support.columns import as_numbers
from vastgrid.formats.las import _copc
from vastgrid.formats.las._read import SELDOM, LasReadParams, Marked, head, part, peek, read
from vastgrid.formats.las._write import LasWriteParams, Version, fits, renamed, write

__all__ = ["FORMAT", "LasReadParams", "LasWriteParams", "Marked", "Version", "peek", "read", "write"]


def sniff(head: bytes, path: Path) -> int:
    return 90 if head.startswith(b"LASF") else 0


def audit(path: Path) -> tuple[str, ...]:
    """Return what the header says otherwise than the points: their bounds, and how many there are of each return."""
    import laspy

    low, high = np.full(3, np.inf), np.full(3, -np.inf)
    returns = np.zeros(16, np.int64)
    with library_faults(path, "looking at the header"), laspy.open(path) as file:
        header = file.header
        for points in file.chunk_iterator(1_000_000):
            whole = np.column_stack([np.asarray(points[axis]) for axis in "XYZ"])
            low, high = np.minimum(low, whole.min(axis=0)), np.maximum(high, whole.max(axis=0))
            returns += np.bincount(np.asarray(points.return_number), minlength=16)[:16]
        said = np.asarray(header.number_of_points_by_return)
        ends = [(np.asarray(each) - header.offsets) / header.scales for each in (header.mins, header.maxs)]
    wrong = []
    if any((np.abs(end - own) > 0.51).any() for end, own in zip(ends, (low, high), strict=True)):
        wrong.append("its header's bounds are not those of the points")
    if (said != returns[1 : 1 + len(said)]).any():
        wrong.append("its header counts returns otherwise than the points")
    return tuple(wrong)


def column(_name: str, values: NDArray[Any], _params: object) -> tuple[NDArray[Any], str]:
    """Return an attribute as the format holds it: as numbers."""
    return as_numbers(values)


_CARRIES = Carries(kinds=(PointSet,), units="both", crs=True, attributes="numbers")


def _carries(params: LasWriteParams | _copc.CopcWriteParams) -> Carries:
    return dataclasses.replace(_CARRIES, step=0.0 if params.decimals is None else 10.0**-params.decimals)


FORMAT = Format(
    id="las",
    title="LAS or LAZ point cloud",
    used_for="point clouds",
    also=("lidar", "point cloud", "scan"),
    suffixes=(".laz", ".las"),
    sniff=sniff,
    carries=_CARRIES,
    carries_as=_carries,
    read=read,
    write=write,
    read_params=LasReadParams,
    write_params=LasWriteParams,
    peek=peek,
    weigh=weighing(points=8),
    fits=fits,
    head=head,
    part=part,
    seldom=tuple(SELDOM),
    renamed=renamed,
    column=column,
    audit=audit,
)

COPC = Format(
    id="copc",
    title="COPC point cloud",
    used_for="point clouds",
    suffixes=(".copc.laz",),
    sniff=_copc.sniff,
    carries=_CARRIES,
    carries_as=_carries,
    read=read,
    write=_copc.write,
    read_params=LasReadParams,
    write_params=_copc.CopcWriteParams,
    peek=_copc.peek,
    weigh=weighing(points=8),
    given=_copc.given,
    fits=_copc.fits,
    audit=audit,
    column=column,
    renamed=lambda names, params: renamed(names, LasWriteParams(point_format=6)),
    head=head,
    part=part,
    seldom=tuple(SELDOM),
)
