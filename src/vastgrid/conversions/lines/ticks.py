"""Ticks on contours that close around lower ground."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Annotated

import numpy as np

from vastgrid.base.findings import count, note
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Length, Quantity, Unit
from vastgrid.data.linework import Contours, Linework
from vastgrid.declarations.conversion import Conversion, Input, Output, Result
from vastgrid.params.declare import Param


@dataclass(frozen=True)
class TickParams:
    """How long, and how far apart."""

    length: Annotated[
        Length | None, Param("Length", "Of a tick.", Quantity.XY_LENGTH, above=0, absent="a suitable length")
    ] = None
    spacing: Annotated[
        Length | None,
        Param(
            "Spacing",
            "From one tick to the next along the line.",
            Quantity.XY_LENGTH,
            above=0,
            absent="a suitable spacing",
        ),
    ] = None


def settle(inputs: Sequence[Contours], params: TickParams) -> TickParams:
    """Let ticks be as long as half the usual way to the next contour, and stand four lengths apart."""
    contours = inputs[0]
    unit = None if contours.frame.horizontal is Unit.DEGREE else contours.frame.horizontal
    if params.length is None:
        every = contours.spacing()[0]
        own = 0.4 * every if np.isfinite(every) and every > 0.0 else 1.0
        params = replace(params, length=Length(float(f"{own:.1g}"), unit))
    if params.spacing is None:
        assert params.length is not None
        params = replace(params, spacing=Length(float(f"{4.0 * params.length.value:.2g}"), params.length.unit))
    return params


def run(inputs: Sequence[Contours], params: TickParams, progress: Progress) -> Result:
    """Draw ticks towards the lower ground; see `CONVERSION`."""
    contours, params = inputs[0], settle(inputs, params)
    assert params.length is not None
    assert params.spacing is not None
    long = params.length.in_unit(contours.frame.horizontal, "length")
    far = params.spacing.in_unit(contours.frame.horizontal, "spacing")
    along = contours.along()
    low = contours.depressions()
    ends: list[np.ndarray] = [np.zeros((0, 2, 3))]
    for k in np.flatnonzero(low).tolist():
        first, stop = contours.offsets[k], contours.offsets[k + 1]
        ring, at = contours.plan[first:stop], along[first:stop]
        number = max(int(at[-1] / far), 2)
        places = (np.arange(number) + 0.5) * at[-1] / number
        here = np.column_stack([np.interp(places, at, ring[:, axis]) for axis in (0, 1)])
        leg = np.clip(np.searchsorted(at, places, side="right") - 1, 0, len(ring) - 2)
        way = ring[leg + 1] - ring[leg]
        way = way / np.maximum(np.hypot(*way.T), 1e-300)[:, None]
        # Higher ground is on the left of a contour, so a tick goes to the right.
        tip = here + long * np.column_stack((way[:, 1], -way[:, 0]))
        level = np.full((number, 1), contours.levels[k])
        ends.append(np.stack((np.hstack((here, level)), np.hstack((tip, level))), axis=1))
    made = np.concatenate(ends)
    progress.report(1.0)
    number = len(made)
    ticks = Linework(
        name="Ticks",
        frame=contours.frame,
        vertices=made.reshape(-1, 3),
        offsets=np.arange(number + 1) * 2,
        layer=np.zeros(number, np.int32),
        layers=("Depression ticks",),
    )
    text = f"{count(int(low.sum()), 'contour')} of {len(contours)} closed around lower ground, with {count(number, 'tick')}."
    return Result(ticks, (note("depressions", text),))


CONVERSION = Conversion(
    id="ticks",
    version=1,
    title="Depression ticks",
    also=("hachures",),
    help="Short lines on contours that close around lower ground, pointing down.",
    inputs=(Input("contours", (Contours,)),),
    outputs=(Output("ticks", Linework),),
    params=TickParams,
    template="Ticks[ {length} long| of {length=automatic length}][, every {spacing},| at {spacing=automatic spacing}] on the depressions of {contours}.",
    run=run,
    settle=settle,
    name=lambda inputs, params: f"Depressions of {inputs[0].name}",
)
