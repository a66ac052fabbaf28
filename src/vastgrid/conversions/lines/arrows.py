"""Arrows that point downhill."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Annotated

import numpy as np

from vastgrid.base.errors import DataError, ParamError
from vastgrid.base.findings import count, note
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Length, Quantity
from vastgrid.data.frame import need_lengths, ratio_of
from vastgrid.data.grid import Grid
from vastgrid.data.linework import Linework
from vastgrid.data.tin import Tin
from vastgrid.declarations.conversion import Conversion, Input, Output, Result
from vastgrid.measures.heights import gradients, heights
from vastgrid.params.declare import Param
from vastgrid.params.kinds import Grade

MOST = 500_000
# Length of an arrow and of its head, as shares of the spacing.
SHAFT, HEAD = 0.7, 0.22


@dataclass(frozen=True)
class ArrowParams:
    """How far apart, and where the ground counts as level."""

    spacing: Annotated[
        Length | None,
        Param(
            "Spacing", "Of the arrows, along east and north.", Quantity.XY_LENGTH, above=0, absent="a suitable spacing"
        ),
    ] = None
    level: Annotated[Grade, Param("Level below", "Ground flatter than this gets no arrow: 0.5 %.")] = Grade(0.5)  # noqa: RUF009


def settle(inputs: Sequence[Tin | Grid], params: ArrowParams) -> ArrowParams:
    """Propose a spacing that gives about forty arrows along the longer side."""
    if params.spacing is not None:
        return params
    extent = inputs[0].extent()
    sides = [float(np.ptp(pair)) if pair else 0.0 for pair in (extent.east, extent.north)]
    size = float(f"{max(max(sides) / 40.0, 1e-9):.1g}")
    return replace(params, spacing=Length(size, inputs[0].frame.horizontal))


def run(inputs: Sequence[Tin | Grid], params: ArrowParams, progress: Progress) -> Result:
    """Lay the arrows; see `CONVERSION`.

    Raises
    ------
    CallError
        If the surface is in degrees.
    DataError
        If the ground is level everywhere.
    """
    surface, params = inputs[0], settle(inputs, params)
    need_lengths(surface.name, surface.frame, "slopes need")
    assert params.spacing is not None
    size = params.spacing.in_unit(surface.frame.horizontal, "spacing")
    extent = surface.extent()
    if extent.east is None or extent.north is None:
        raise DataError(f"{surface.name} is empty")
    x = np.arange(math.ceil(extent.east[0] / size), math.floor(extent.east[1] / size) + 1) * size
    y = np.arange(math.ceil(extent.north[0] / size), math.floor(extent.north[1] / size) + 1) * size
    if len(x) * len(y) > MOST:
        raise ParamError("spacing", f"{params.spacing} would give {len(x) * len(y)} arrows; choose a larger one")
    places = np.column_stack([part.ravel() for part in np.meshgrid(x, y)])
    slope = gradients(surface, places, 0.25 * size) / ratio_of(surface.frame)
    steep = np.hypot(*slope.T)
    progress.report(0.5, "looking which way is down")
    shown = np.isfinite(steep) & (steep > params.level.rise)
    if not shown.any():
        raise DataError(f"nowhere is {surface.name} steeper than {params.level}")
    middle, way = places[shown], -slope[shown] / steep[shown][:, None]
    tip, end = middle + 0.5 * SHAFT * size * way, middle - 0.5 * SHAFT * size * way
    side = np.column_stack((-way[:, 1], way[:, 0]))
    left, right = (tip - HEAD * size * (way + turn * 0.6 * side) for turn in (1.0, -1.0))
    xy = np.stack((end, tip, left, tip, right), axis=1).reshape(-1, 2)
    z = heights(surface, np.ascontiguousarray(xy))
    number = len(middle)
    made = Linework(
        name="Downhill",
        frame=surface.frame,
        vertices=np.column_stack((xy, z)),
        offsets=np.arange(number + 1) * 5,
        layer=np.zeros(number, np.int32),
        layers=("Downhill",),
        attributes={
            "slope_percent": steep[shown] * 100.0,
            "bearing": np.degrees(np.arctan2(way[:, 0], way[:, 1])) % 360.0,
        },
    ).heights_filled()
    flat = int((np.isfinite(steep) & ~shown).sum())
    findings = [note("level", f"{count(flat, 'place')} flatter than {params.level} without an arrow.")] if flat else []
    return Result(made, tuple(findings))


def foretell(inputs: Sequence[Tin | Grid], params: ArrowParams) -> tuple[dict[str, int], float]:
    """Return an arrow of five vertices for each place of the lattice that lies on the surface."""
    assert params.spacing is not None
    surface = inputs[0]
    size = params.spacing.in_unit(surface.frame.horizontal, "spacing")
    extent = surface.extent()
    if not extent.east or not extent.north:
        return {"lines": 0, "vertices": 0}, 0.0
    x, y = (
        np.arange(extent.east[0], extent.east[1], 4.0 * size),
        np.arange(extent.north[0], extent.north[1], 4.0 * size),
    )
    places = np.column_stack([part.ravel() for part in np.meshgrid(x, y)])
    number = 16 * int(np.isfinite(heights(surface, places)).sum())
    return {"lines": number, "vertices": 5 * number}, number * 5e-6


CONVERSION = Conversion(
    id="arrows",
    version=1,
    title="Slope arrows",
    also=("flow arrows", "downhill"),
    help="Arrows at an even spacing that point down the slope, with their slope and bearing.",
    inputs=(Input("surface", (Tin, Grid)),),
    outputs=(Output("arrows", Linework),),
    params=ArrowParams,
    template="Arrows downhill on {surface}[, every {spacing}|, at {spacing=automatic spacing}], where it is steeper than {level}.",
    run=run,
    foretell=foretell,
    settle=settle,
    name=lambda inputs, params: f"Downhill on {inputs[0].name}",
)
