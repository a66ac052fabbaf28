"""Points along lines."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Annotated

import numpy as np

from vastgrid.base.errors import DataError
from vastgrid.base.findings import count, left_out
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Length, Quantity, Unit
from vastgrid.data.grid import Grid
from vastgrid.data.linework import Linework, line_lengths
from vastgrid.data.pointset import PointSet
from vastgrid.data.tin import Tin
from vastgrid.declarations.conversion import Conversion, Input, Inputs, Output, Result
from vastgrid.measures.heights import heights
from vastgrid.params.declare import Param


@dataclass(frozen=True)
class AlongParams:
    """How far apart."""

    spacing: Annotated[
        Length | None,
        Param(
            "Spacing",
            "From one point to the next, along the line.",
            Quantity.XY_LENGTH,
            above=0,
            absent="a suitable spacing",
        ),
    ] = None
    corners: Annotated[
        bool,
        Param(
            "Corners too",
            "Every vertex of a line gets a point as well.",
            said=(("yes", "and at their corners"), ("no", "at their ends too")),
        ),
    ] = False


def settle(inputs: Inputs, params: AlongParams) -> AlongParams:
    """Propose a spacing that gives about two hundred points."""
    lines = inputs[0]
    assert isinstance(lines, Linework)
    if params.spacing is not None:
        return params
    whole = float(line_lengths(lines.vertices, lines.offsets).sum())
    size = float(f"{max(whole / 200.0, 1e-9):.1g}")
    unit = lines.frame.horizontal
    return replace(params, spacing=Length(size, None if unit is Unit.DEGREE else unit))


def run(inputs: Inputs, params: AlongParams, progress: Progress) -> Result:
    """Place the points; see `CONVERSION`.

    Raises
    ------
    DataError
        If no point gets a height.
    """
    (lines,) = inputs.of("lines")
    surfaces = inputs.of("surface")
    assert isinstance(lines, Linework)
    params = settle(inputs, params)
    assert params.spacing is not None
    unit = lines.frame.horizontal
    size = params.spacing.value if unit is Unit.DEGREE else params.spacing.in_unit(unit, "spacing")
    parts, distance, owner = [np.zeros((0, 3))], [np.zeros(0)], [np.zeros(0, np.int64)]
    for k in range(len(lines)):
        line = lines.line(k)
        total = np.concatenate(([0.0], np.cumsum(np.hypot(*np.diff(line[:, :2], axis=0).T))))
        stops = np.append(np.arange(0.0, total[-1] - 1e-9 * max(total[-1], 1.0), size), total[-1])
        if params.corners:
            stops = np.unique(np.concatenate((stops, total)))
        parts.append(np.column_stack([np.interp(stops, total, line[:, axis]) for axis in range(3)]))
        distance.append(stops)
        owner.append(np.full(len(stops), k))
        if k % 500 == 0:
            progress.report(0.8 * k / len(lines), "placing points along lines")
    xyz, along, line_of = np.concatenate(parts), np.concatenate(distance), np.concatenate(owner)
    for surface in surfaces:
        assert isinstance(surface, Tin | Grid)
        xyz[:, 2] = heights(surface, np.ascontiguousarray(xyz[:, :2]))
    known = np.isfinite(xyz[:, 2])
    if not known.any():
        raise DataError(f"no point along {lines.name} has a height; give a surface as well")
    findings = []
    if not known.all():
        text = f"{count(int((~known).sum()), 'point')} without a height left out."
        findings.append(left_out("no-height", text))
    layer = np.array([name.encode() for name in lines.layers])[lines.layer[line_of]]
    attributes = {"line": line_of + 1, "distance": along, "code": layer}
    made = PointSet(name="Points", frame=lines.frame, xyz=xyz, attributes=attributes).chosen(known)
    return Result(made, tuple(findings))


CONVERSION = Conversion(
    id="along",
    version=1,
    title="Points along lines",
    also=("stations", "chainage", "densify"),
    help="Points at an even distance along lines, with the heights of the lines or of a surface.",
    inputs=(
        Input("lines", (Linework,)),
        Input("surface", (Tin, Grid), least=0, help="whose heights they get", fits=lambda data: data.has_heights),
    ),
    outputs=(Output("points", PointSet),),
    params=AlongParams,
    template="Points[ every {spacing}| at {spacing=automatic spacing}] along {lines}[, with the heights of {surface}], {corners}.",
    run=run,
    settle=settle,
    name=lambda inputs, params: f"Points along {inputs[0].name}",
)
