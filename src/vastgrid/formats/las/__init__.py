"""LAS and LAZ point clouds, 1.0 to 1.4 in, 1.2 and 1.4 out; and those that are ordered for looking at a part (COPC)."""

from __future__ import annotations

import dataclasses
from pathlib import Path

from vastgrid.data.pointset import PointSet
from vastgrid.declarations.fileformat import Carries, Format, weighing
from vastgrid.formats.las import _copc
from vastgrid.formats.las._read import SELDOM, LasReadParams, Marked, head, part, peek, read
from vastgrid.formats.las._write import LasWriteParams, Version, fits, renamed, write

__all__ = ["FORMAT", "LasReadParams", "LasWriteParams", "Marked", "Version", "peek", "read", "write"]


def sniff(head: bytes, path: Path) -> int:
    return 90 if head.startswith(b"LASF") else 0


_CARRIES = Carries(kinds=(PointSet,), units="both", crs=True, attributes="numbers")


def _carries(params: LasWriteParams | _copc.CopcWriteParams) -> Carries:
    return dataclasses.replace(_CARRIES, step=0.0 if params.decimals is None else 10.0**-params.decimals)


FORMAT = Format(
    id="las",
    title="LAS or LAZ point cloud",
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
)

COPC = Format(
    id="copc",
    title="COPC point cloud",
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
    renamed=lambda names, params: renamed(names, LasWriteParams(point_format=6)),
    head=head,
    part=part,
    seldom=tuple(SELDOM),
)
