"""A scene in one HTML file, that opens from disk in any browser: no network, no server."""

from __future__ import annotations

from pathlib import Path

from vastgrid.data.areas import Areas
from vastgrid.data.linework import Contours, Linework
from vastgrid.data.mesh import Mesh
from vastgrid.data.pointset import PointSet
from vastgrid.data.survey import Survey
from vastgrid.data.tin import Tin
from vastgrid.declarations.fileformat import Carries, Format, weighing
from vastgrid.formats.webscene._read import MARK, read
from vastgrid.formats.webscene._write import SceneWriteParams, given, library_size, says, seen, write

__all__ = ["FORMAT", "SceneWriteParams", "read", "write"]


def sniff(head: bytes, path: Path) -> int:
    """A page that says it is one of ours."""
    return 100 if MARK in head[:4096] else 0


_each = weighing(triangles=16, vertices=16, points=20, areas=300, rings=200)


FORMAT = Format(
    id="scene",
    title="Scene for a browser",
    used_for="web and paper",
    suffixes=(".html", ".htm"),
    sniff=sniff,
    carries=Carries(
        kinds=(Tin, Mesh, Contours, Linework, Areas, PointSet, Survey),
        several=True,
        units="both",
        labels=True,
        open_heights=True,
        single=True,
        roles=("alignment", "parcel", "plan feature", "trajectory", "photo position"),
        crs=True,
    ),
    read=read,
    write=write,
    write_params=SceneWriteParams,
    weigh=lambda dataset: _each(dataset) + library_size(),
    given=given,
    says=says,
    seen=seen,
)
