"""The plan on a sheet of paper, true to scale, as PDF or SVG: frame, grid ticks, legend, north arrow, scale bar, title block.

The window's own drawing makes it, in a process of its own that needs no screen.
"""

from __future__ import annotations

import dataclasses
import pickle
import re
from collections.abc import Sequence
from dataclasses import dataclass
from enum import Enum
from pathlib import Path
from typing import Annotated
from xml.etree import ElementTree

from vastgrid.base.errors import CallError, ParamError
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Unit
from vastgrid.base.subprocesses import run_apart
from vastgrid.data.areas import Areas
from vastgrid.data.dataset import Dataset
from vastgrid.data.frame import crs_name
from vastgrid.data.grid import Grid
from vastgrid.data.kinds import kind_of
from vastgrid.data.linework import Contours, Linework
from vastgrid.data.mesh import Mesh
from vastgrid.data.pointset import PointSet
from vastgrid.data.survey import Survey
from vastgrid.data.tin import Tin
from vastgrid.declarations.fileformat import Carries, Format
from vastgrid.params.declare import Param
from vastgrid.styling.paper import PAPERS, Sheet, fitting_scale


class Paper(Enum):
    """Sizes of sheets (ISO 216)."""

    A4 = "A4"
    A3 = "A3"
    A2 = "A2"
    A1 = "A1"
    A0 = "A0"


class Lies(Enum):
    """How the sheet lies."""

    WIDE = "wide"
    TALL = "tall"


@dataclass(frozen=True)
class PlanWriteParams:
    """What the sheet is like."""

    paper: Annotated[Paper, Param("Paper", "Size of the sheet.")] = Paper.A3
    lies: Annotated[Lies | None, Param("Orientation", "wide or tall.", absent="as the ground does")] = None
    scale: Annotated[
        int | None,
        Param(
            "Scale",
            "500 for 1:500.",
            least=1,
            most=10_000_000,
            absent="the largest standard scale at which everything fits",
        ),
    ] = None
    title: Annotated[str, Param("Title", "What stands in the title block.", absent="the name of the ground")] = ""
    note: Annotated[str, Param("Note", "A line below the title.", absent="nothing")] = ""


def fits(datasets: Sequence[Dataset], params: PlanWriteParams) -> PlanWriteParams:
    """Settle how the sheet lies, its scale and its title.

    Raises
    ------
    CallError
        If the unit of plan is unknown or degrees: then nothing has a scale.
    ParamError
        If what is shown does not fit on the sheet at the scale that was said.
    """
    own = [each for each in datasets if each.located]
    extents = [each.extent() for each in own]
    east = [pair for each in extents if (pair := each.east)]
    north = [pair for each in extents if (pair := each.north)]
    if not east or not north:
        raise CallError("there is nothing that lies anywhere, so there is no plan of it")
    unit = own[0].frame.horizontal
    if unit is None or unit is Unit.DEGREE:
        what = "unknown" if unit is None else "degrees"
        raise CallError(
            f"the plan unit of {own[0].name} is {what}, so the plan has no scale; say it with --from-units (m, ft, us-ft), or reproject"
        )
    metres = float(unit.metres)
    width = (max(p[1] for p in east) - min(p[0] for p in east)) * metres
    height = (max(p[1] for p in north) - min(p[0] for p in north)) * metres
    lies = params.lies or (Lies.WIDE if width >= height else Lies.TALL)
    sheet = Sheet(params.paper.value, lies is Lies.WIDE, params.scale or 1, "")
    needed = fitting_scale(width, height, sheet.plan_size())
    if params.scale is not None and _needs(width, height, sheet.plan_size()) > params.scale:
        room = {name: Sheet(name, lies is Lies.WIDE, 1, "").plan_size() for name in PAPERS}
        larger = [name for name, size in room.items() if _needs(width, height, size) <= params.scale]
        hint = f"paper={larger[0]} has room" if larger else f"1:{needed} fits"
        raise ParamError("scale", f"at 1:{params.scale} the ground is larger than {params.paper.value}; {hint}")
    ground = next((each for each in own if kind_of(each).covers), own[0])
    return dataclasses.replace(params, lies=lies, scale=params.scale or needed, title=params.title or ground.name)


def _needs(width: float, height: float, plan: tuple[float, float]) -> float:
    """Return the scale at which so many metres just fit on so many millimetres."""
    return max(width / plan[0], height / plan[1]) * 1000.0


def write(datasets: Sequence[Dataset], path: Path, params: PlanWriteParams, progress: Progress) -> None:
    """Draw the sheet.

    Raises
    ------
    DataError
        If the drawing process cannot start or fails, with what it lacks.
    """
    params = fits(datasets, params)
    frame = datasets[0].frame
    words = [f"1 : {params.scale}", frame.describe().split(" · ")[0], crs_name(frame.crs) or "local grid"]
    sheet = Sheet(params.paper.value, params.lies is Lies.WIDE, params.scale or 1, params.title, params.note)
    order = sorted(datasets, key=lambda each: kind_of(each).rank)
    job = pickle.dumps(("sheet", order, sheet, words, str(path), path.suffix.lower().removeprefix(".")))
    run_apart(
        "vastgrid.qt.drawing.sheetmaker",
        job,
        lambda: progress.report(0.5, f"drawing {path.name}"),
        f"drawing {path.name}",
    )
    progress.report(1.0, f"drawing {path.name}")


def verify(path: Path, datasets: Sequence[Dataset], params: PlanWriteParams) -> list[tuple[str, str, str, bool]]:
    """Return what is compared of a sheet that was read back: whether it is whole, and how large it is."""
    params = fits(datasets, params)
    width, height = Sheet(params.paper.value, params.lies is Lies.WIDE, 1, "").size()
    told = f"{width:.0f} × {height:.0f} mm"
    data = path.read_bytes()
    if path.suffix.lower() == ".svg":
        try:
            root = ElementTree.fromstring(data)
            size = [float(re.sub(r"[^\d.]", "", root.get(name, "0"))) for name in ("width", "height")]
        except (ElementTree.ParseError, ValueError):
            return [("drawing", "whole", "damaged", False)]
        drawn = len(re.findall(rb"<(?:path|polyline|polygon|image|text)\b", data))
    else:
        if not data.startswith(b"%PDF-") or b"%%EOF" not in data[-1024:]:
            return [("document", "whole", "damaged", False)]
        box = re.search(rb"/MediaBox\s*\[\s*([\d.]+)\s+([\d.]+)\s+([\d.]+)\s+([\d.]+)", data)
        size = [(float(box[k + 3]) - float(box[k + 1])) / 72.0 * 25.4 for k in (0, 1)] if box else [0.0, 0.0]
        drawn = data.count(b"endstream")
    good = abs(size[0] - width) < 1.0 and abs(size[1] - height) < 1.0
    return [
        ("sheet", told, f"{size[0]:.0f} × {size[1]:.0f} mm", good),
        ("drawn things", "some", str(drawn), drawn > 0),
    ]


def _never(head: bytes, path: Path) -> int:
    return 0


FORMAT = Format(
    id="plan",
    title="Plan on paper (PDF, SVG)",
    used_for="web and paper",
    suffixes=(".pdf", ".svg"),
    sniff=_never,
    carries=Carries(
        kinds=(Tin, Grid, Mesh, PointSet, Contours, Linework, Areas, Survey),
        several=True,
        units="both",
        crs=True,
        attributes=True,
        breaklines=True,
        roles=("alignment", "parcel", "plan feature", "trajectory", "photo position"),
        open_heights=True,
        quantity=True,
        labels=True,
    ),
    write=write,
    write_params=PlanWriteParams,
    fits=fits,
    verify=verify,
    weigh=lambda dataset: 250_000.0,
)
