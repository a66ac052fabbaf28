"""LAS and LAZ point clouds, 1.0 to 1.4 in, 1.2 and 1.4 out."""

from __future__ import annotations

import dataclasses
from pathlib import Path

from vastgrid.data.pointset import PointSet
from vastgrid.declarations.fileformat import Carries, Format, weighing
from vastgrid.formats.las._read import SELDOM, LasReadParams, Marked, head, part, peek, read
from vastgrid.formats.las._write import LasWriteParams, Version, fits, renamed, write

__all__ = ["FORMAT", "LasReadParams", "LasWriteParams", "Marked", "Version", "peek", "read", "write"]


def sniff(head: bytes, path: Path) -> int:
    return 100 if head.startswith(b"LASF") else 0


_CARRIES = Carries(kinds=(PointSet,), units="both", crs=True, attributes="numbers")


def _carries(params: LasWriteParams) -> Carries:
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
