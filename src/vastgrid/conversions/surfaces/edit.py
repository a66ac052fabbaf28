"""A TIN with edits made by hand."""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated

from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Length, Quantity, Unit
from vastgrid.data.tin import Tin
from vastgrid.declarations.conversion import Conversion, Input, Output, Result
from vastgrid.params.declare import Param
from vastgrid.terrain.editing.edits import EditLog, replayed
from vastgrid.terrain.editing.nearness import NEAR


@dataclass(frozen=True)
class EditParams:
    """Which edits."""

    log: Annotated[
        EditLog,
        Param(
            "Edits",
            "One line each, such as: set 431200,887100 231.4m, or cut 431200,887100 431260,887140.",
            absent="no edits",
        ),
    ] = EditLog()  # noqa: RUF009 - it never changes
    near: Annotated[
        Length | None,
        Param(
            "Near",
            "set, remove, move and swap mean the vertex or edge nearest to their place, up to this far away.",
            Quantity.XY_LENGTH,
            above=0,
            absent="five centimetres",
        ),
    ] = None


def settle(inputs: Sequence[Tin], params: EditParams) -> EditParams:
    """Let a place mean what lies within five centimetres."""
    if params.near is None:
        unit = inputs[0].frame.horizontal
        if unit is not None and unit is not Unit.DEGREE:
            return dataclasses.replace(params, near=Length(NEAR, Unit.METRE))
    return params


def run(inputs: Sequence[Tin], params: EditParams, progress: Progress) -> Result:
    """Make the edits one after another; see `CONVERSION`."""
    near = params.near.in_unit(inputs[0].frame.horizontal, "near") if params.near is not None else None
    done = replayed(inputs[0], params.log, near)
    progress.report(1.0)
    figures = {"replayed": done.made, "not_replayed": done.missed}
    return Result(done.tin, done.findings, figures=figures)


CONVERSION = Conversion(
    id="edit",
    version=2,
    title="Edit the surface by hand",
    also=("swap edges", "move points", "delete triangles"),
    help="A TIN with edits made by hand: a log of lines, replayed by coordinates when what it is made from changes.",
    inputs=(Input("surface", (Tin,)),),
    outputs=(Output("tin", Tin),),
    params=EditParams,
    template="{surface} with {log}; each applies to what lies within {near} of its place.",
    run=run,
    settle=settle,
    name=lambda inputs, params: f"{inputs[0].name}, by hand",
    resumes="log",
)
