"""What a basin holds: area and volume below each of some levels."""

from __future__ import annotations

import dataclasses
import math
from dataclasses import dataclass
from typing import Annotated

import numpy as np

from vastgrid.base import late_shapely as shapely
from vastgrid.base.errors import CallError, DataError, ParamError
from vastgrid.base.findings import Finding, note
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Length, Quantity, factor, unit_word
from vastgrid.base.words import place_words, step_above
from vastgrid.data.areas import Areas
from vastgrid.data.grid import Grid
from vastgrid.data.linework import Linework
from vastgrid.data.table import Table
from vastgrid.data.tin import Tin
from vastgrid.declarations.conversion import Conversion, Input, Inputs, Output, Picture, Result, listed
from vastgrid.measures.earthwork import below_levels, region_of
from vastgrid.measures.section import cut
from vastgrid.params.declare import Param
from vastgrid.params.kinds import Levels
from vastgrid.terrain.areas.boundaries import (
    ClosedLines,
    DrawnArea,
    beyond_centres,
    cubic,
    for_volumes,
    named_areas,
    whole_of,
)
from vastgrid.terrain.areas.ground import OnGround, to_ground
from vastgrid.terrain.tin.limits import cut_to, has_rings, polygons_of

MOST = 20_000


@dataclass(frozen=True)
class StageParams:
    """At which levels."""

    every: Annotated[
        Length | None,
        Param(
            "Every", "Level interval: the difference of neighbouring levels.", Quantity.Z_LENGTH, above=0, absent="—"
        ),
    ] = None
    levels: Annotated[Levels | None, Param("Levels", "A list of levels instead.", Quantity.Z_LENGTH, absent="none")] = (
        None
    )
    boundaries: ClosedLines = ""
    area: DrawnArea = None
    ground: OnGround = False


def settle(inputs: Inputs, params: StageParams) -> StageParams:
    """Take about twenty levels where nothing is said.

    Raises
    ------
    CallError
        If both a step and a list are said.
    """
    surface = inputs[0]
    if params.levels is not None:
        if params.every is not None:
            raise CallError("levels are given by every or by levels, not by both")
        return params
    pair = surface.extent().elevation
    if params.every is None and pair is not None:
        step = step_above(max((pair[1] - pair[0]) / 20.0, 1e-3))
        return dataclasses.replace(params, every=Length(step, surface.frame.vertical))
    return params


def run(inputs: Inputs, params: StageParams, progress: Progress) -> Result:
    """Fill it level by level; see `CONVERSION`.

    Raises
    ------
    DataError
        If there is no ground inside the line.
    ParamError
        If there would be more levels than anybody reads.
    """
    (surface,), lines = inputs.of("surface"), inputs.of("inside")
    params = settle(inputs, params)
    findings: list[Finding] = []
    areas = named_areas(lines, findings, params.area, params.boundaries)
    whole = whole_of(areas)
    name = listed([own.name for own in areas])
    tin = for_volumes(surface)
    findings += beyond_centres([surface])
    inner = cut_to(tin, whole)
    if len(inner.triangles) == 0:
        raise DataError(f"{surface.name} has no ground inside {name}")
    frame = surface.frame
    ratio = factor(frame.vertical, frame.horizontal) if frame.vertical and frame.horizontal else 1.0
    low, high = (float(end) / ratio for end in (inner.vertices[:, 2].min(), inner.vertices[:, 2].max()))
    if params.levels is not None:
        levels = np.array(params.levels.in_unit(frame.vertical, "levels"))
    else:
        assert params.every is not None
        step = params.every.in_unit(frame.vertical, "every")
        first, last = math.floor(low / step) + 1, math.ceil(high / step - 1e-9)
        if last - first > MOST:
            raise ParamError("every", f"it gives {last - first} levels; choose a larger one")
        levels = np.round(np.arange(first, last + 1) * step, 10)
    held = below_levels(tin, region_of([whole]), levels * ratio, progress)
    held = held * to_ground(surface, findings, wanted=params.ground)
    unit = frame.horizontal
    findings += _rim(tin, whole, name, ratio, surface)
    columns = {"level": levels, "area": held[:, 0], "volume": held[:, 1]}
    height = frame.vertical.value if frame.vertical else ""
    called = f"What {name} holds"
    table = Table(
        name=called, frame=frame, columns=columns, units=(height, f"{unit.value}²" if unit else "", cubic(unit))
    )
    figures = {
        "stages": {
            "rows": [
                {"level": level, "area": area, "volume": volume}
                for level, (area, volume) in zip(levels.tolist(), held.tolist(), strict=True)
            ],
            "unit": unit.value if unit else None,
        }
    }
    return Result(table, tuple(findings), figures=figures)


def _rim(tin: Tin, whole: object, name: str, ratio: float, surface: object) -> list[Finding]:
    """Say where water would leave over the line first, and whether the line leaves the ground."""
    found: list[Finding] = []
    best, at, missing = math.inf, (0.0, 0.0), False
    for each in polygons_of(whole):
        xy = shapely.get_coordinates(each.exterior)
        profiles = cut([tin], xy, 0.0)
        if not profiles or not np.isfinite(profiles[0].z).all():
            missing = True
        for own in profiles:
            if np.isfinite(own.z).any():
                k = int(np.nanargmin(own.z))
                if own.z[k] < best:
                    place = shapely.line_interpolate_point(each.exterior, float(own.along[k]))
                    best, at = float(own.z[k]), (place.x, place.y)
    if math.isfinite(best):
        unit = unit_word(tin.frame.vertical)
        text = (
            f"The lowest place of the line lies at {best / ratio:.3f}{unit} ({place_words(at[0], at[1])}); a level above it would "
            "run over there, and is counted up to the line alone."
        )
        found.append(note("spills-at", text, at))
    if missing:
        found.append(
            Finding("ground-missing", f"The line of {name} leaves the ground; nothing is held where there is none.")
        )
    return found


CONVERSION = Conversion(
    id="stages",
    version=1,
    title="Storage volumes by level",
    also=("basin", "pond", "stage–storage", "hypsometry"),
    help="Area and volume between the ground and a level surface inside a line, level by level.",
    inputs=(
        Input("surface", (Tin, Grid), fits=lambda data: data.has_heights),
        Input("inside", (Linework, Areas), least=0, most=None, help="areas or closed lines around it", fits=has_rings),
    ),
    outputs=(Output("levels", Table, picture=Picture("curve", "Volume below each level", ("level", "volume"))),),
    params=StageParams,
    template="Storage volumes of {surface} below each level[, inside {inside}][ ({boundaries})][, inside {area}][, every {every}][, at {levels}][, {ground}].",
    run=run,
    settle=settle,
    name=lambda inputs, params: f"What {inputs[0].name} holds",
    answers=True,
    ask=True,
)
