"""Solids that stand on the ground."""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum
from typing import Annotated

import numpy as np

from vastgrid.base.errors import CallError, DataError, ParamError
from vastgrid.base.findings import Finding, count, left_out
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Length, Quantity, parse_length
from vastgrid.base.words import instead, plain, shortly
from vastgrid.data.dataset import Floats
from vastgrid.data.frame import need_lengths
from vastgrid.data.grid import Grid
from vastgrid.data.mesh import Mesh
from vastgrid.data.pointset import PointSet
from vastgrid.data.tin import Tin
from vastgrid.declarations.conversion import Conversion, Input, Inputs, Output, Result
from vastgrid.measures.heights import heights
from vastgrid.params.declare import Param
from vastgrid.terrain.tin.solids import cylinder, standing

SIDES = {"cylinder": 24, "box": 4}
MOST = 200_000


class Shape(Enum):
    """What stands there."""

    CYLINDER = "cylinder"
    BOX = "box"


@dataclass(frozen=True)
class StructureParams:
    """How tall, and of what shape."""

    height: Annotated[
        str,
        Param("Height", "Name of the attribute that has it, or one height for all, such as 6m.", absent="to be named"),
    ] = ""
    shape: Annotated[Shape, Param("Shape", "cylinder or box, standing upright.")] = Shape.CYLINDER
    size: Annotated[Length, Param("Size", "Diameter of a cylinder, width of a box.", Quantity.XY_LENGTH, above=0)] = (
        Length(1.0)
    )
    above: Annotated[Length, Param("Above the ground", "How far above the ground they begin.", Quantity.Z_LENGTH)] = (
        Length(0.0)
    )


def _tall(points: PointSet, params: StructureParams) -> Floats:
    """Return the height of each, NaN where none is said.

    Raises
    ------
    ParamError
        If there is neither such an attribute nor such a height.
    """
    word = params.height.strip()
    if word in points.attributes:
        values = points.attributes[word]
        if values.dtype.kind in "SU":
            return np.array([_number(value) for value in values.tolist()], np.float64)
        return np.asarray(values, np.float64)
    if not word:
        text = f"say which attribute has the height, or a height for all; {instead('', points.attributes)}"
        raise ParamError("height", text)
    try:
        length = parse_length(word)
    except CallError:
        raise ParamError(
            "height",
            f"the points have no attribute “{shortly(word)}”, and it is not a height; {instead(word, points.attributes)}",
        ) from None
    return np.full(len(points.xyz), length.in_unit(points.frame.vertical, "height"))


def _number(value: object) -> float:
    text = plain(value)
    try:
        return float(text)
    except ValueError:
        return float("nan")


def run(inputs: Inputs, params: StructureParams, progress: Progress) -> Result:
    """Set the solids up; see `CONVERSION`.

    Raises
    ------
    CallError
        If there are too many, or the data is in degrees.
    DataError
        If none has a height and a place to stand.
    """
    (points,) = inputs.of("points")
    assert isinstance(points, PointSet)
    need_lengths(points.name, points.frame, "sizes need")
    if len(points.xyz) > MOST:
        raise CallError(
            f"{points.name} has {count(len(points.xyz), 'point')}; at most {MOST} can stand as solids: thin them"
        )
    size = params.size.in_unit(points.frame.horizontal, "size")
    above = params.above.in_unit(points.frame.vertical, "above")
    sides = SIDES[params.shape.value]
    tall = _tall(points, params)
    foot, under = points.xyz[:, 2].copy(), points.xyz[:, 2].copy()
    for surface in inputs.of("surface"):
        assert isinstance(surface, Tin | Grid)
        foot = heights(surface, np.ascontiguousarray(points.xyz[:, :2]))
        # On a slope the lowest corner of the footprint has to reach the ground as well.
        ring = cylinder(sides)[0][:sides, :2] * size
        corners = (points.xyz[:, None, :2] + ring[None]).reshape(-1, 2)
        around = heights(surface, np.ascontiguousarray(corners)).reshape(len(foot), sides)
        under = np.fmin(foot, np.fmin.reduce(around, axis=1))
    progress.report(0.5, "setting solids up")
    good = np.isfinite(tall) & np.isfinite(foot) & (tall > 0.0)
    if not good.any():
        raise DataError(f"no point of {points.name} has both a height above 0 and ground to stand on")
    floor = (foot if above > 0.0 else under)[good] + above
    top = foot[good] + above + tall[good]
    vertices, triangles = standing(points.xyz[good, :2], floor, top, size, sides)
    findings: list[Finding] = []
    gone = int((~good).sum())
    if gone:
        findings.append(
            left_out("no-structure", f"{count(gone, 'point')} without a height or without ground: left out.")
        )
    made = Mesh(name="Structures", frame=points.frame, vertices=vertices, triangles=triangles)
    return Result(made, tuple(findings), figures={"solids": int(good.sum())})


CONVERSION = Conversion(
    id="structures",
    version=1,
    title="Structures at points",
    also=("trees", "poles", "buildings", "cylinders"),
    help="Cylinders or boxes that stand at points, on a surface or above it, as tall as an attribute says.",
    inputs=(
        Input("points", (PointSet,)),
        Input("surface", (Tin, Grid), least=0, help="what they stand on", fits=lambda data: data.has_heights),
    ),
    outputs=(Output("structures", Mesh),),
    params=StructureParams,
    template="A {shape} {size} wide at every point of {points}[, height {height}|, {height=height to be named}], {above} above the ground[ of {surface}].",
    run=run,
    suggest=lambda inputs: {"height": list(inputs[0].attributes)},
    name=lambda inputs, params: f"Structures at {inputs[0].name}",
    ask=True,
)
