"""A solid for printing."""

from __future__ import annotations

import dataclasses
import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated, Any

import numpy as np

from vastgrid.base.errors import CallError, DataError
from vastgrid.base.findings import Finding, count, note
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Length, Unit, length_in
from vastgrid.base.words import step_above
from vastgrid.data.dataset import Floats
from vastgrid.data.frame import Frame, need_lengths
from vastgrid.data.grid import Grid
from vastgrid.data.loss import Loss
from vastgrid.data.mesh import Mesh
from vastgrid.data.places import Area
from vastgrid.data.tin import Tin
from vastgrid.declarations.conversion import Conversion, Input, Output, Result
from vastgrid.kernels.triangles.topology import inside_polygon
from vastgrid.measures.difference import difference
from vastgrid.measures.heights import heights
from vastgrid.params.declare import Param
from vastgrid.params.kinds import Kind, register
from vastgrid.terrain.tin.solids import solid_of, tiles_of, without_single_bridges

MOST_NODES = 25_000_000
MILLIMETRES = Frame(None, Unit.MILLIMETRE, Unit.MILLIMETRE)


@dataclass(frozen=True, slots=True)
class Bed:
    """The room that a printer has, in millimetres."""

    wide: float
    tall: float

    def __str__(self) -> str:
        return f"{self.wide:g} × {self.tall:g} mm"


def _bed(_: Any, word: str) -> Bed:
    found = re.fullmatch(r"\s*(\d+\.?\d*)\s*[x×*]\s*(\d+\.?\d*)\s*(mm)?\s*", word)
    if not found or not (float(found[1]) > 0.0 and float(found[2]) > 0.0):
        raise CallError(f"“{word}” is not a bed; write its sides in millimetres, such as 300x420")
    return Bed(float(found[1]), float(found[2]))


register(Bed, Kind(_bed, lambda own: f"{own.wide!r}x{own.tall!r}"))


@dataclass(frozen=True)
class SolidParams:
    """How large, and how fine."""

    scale: Annotated[float | None, Param("Scale", "The n of 1:n.", above=0, absent="the one that fits the bed")] = None
    spacing: Annotated[
        float, Param("Sample spacing", "Of the heights, in millimetres of the print.", above=0, most=50)
    ] = 0.5
    exaggeration: Annotated[float, Param("Heights times", "Vertical exaggeration.", above=0, most=100)] = 1.0
    base: Annotated[float, Param("Base", "Thickness below the lowest place, in millimetres.", above=0, most=500)] = 3.0
    bed: Annotated[Bed, Param("Bed", "What the printer has room for, in millimetres: 300x420.")] = Bed(200.0, 200.0)
    tiles: Annotated[
        bool,
        Param(
            "Tiles",
            "Where it does not fit the bed, it is cut into numbered tiles.",
            said=(("yes", "cut into tiles where it does not fit"), ("no", "in one piece")),
        ),
    ] = False
    area: Annotated[
        Area | None,
        Param("Area", "Only this: a box as west,south,east,north, or a polygon.", absent="its whole extent"),
    ] = None


def settle(inputs: Sequence[Tin | Grid], params: SolidParams) -> SolidParams:
    """Propose the largest scale of the usual ones at which it fits the bed."""
    if params.scale is not None:
        return params
    low, high = _box(inputs[0], params)
    metre = length_in(Length(1.0, Unit.METRE), inputs[0].frame.horizontal)
    return dataclasses.replace(params, scale=_fitting((high - low) / metre * 1000.0, params.bed, usual=True))


def _fitting(size: Floats, bed: Bed, *, usual: bool) -> float:
    """Return the n of 1:n at which a size in real millimetres fits a bed, either way round."""
    wide, tall = float(size[0]), float(size[1])
    least = min(max(wide / bed.wide, tall / bed.tall), max(wide / bed.tall, tall / bed.wide))
    steps = (1.0, 1.25, 2.0, 2.5, 5.0) if usual else tuple(np.arange(1.0, 9.95, 0.1).tolist())
    # No hair too large for the bed.
    return step_above(max(least, 1e-9) / 0.999, steps)


def _box(surface: Tin | Grid, params: SolidParams) -> tuple[Floats, Floats]:
    extent = surface.extent()
    if extent.east is None or extent.north is None:
        raise DataError(f"{surface.name} is empty")
    low, high = np.array([extent.east[0], extent.north[0]]), np.array([extent.east[1], extent.north[1]])
    if isinstance(surface, Grid):
        # Between the outermost centres: what lies beyond them nobody measured.
        half = np.array([surface.dx, surface.dy]) / 2.0
        low, high = low + half, high - half
    if params.area is not None:
        ring = params.area.in_frame(surface.frame).ring()
        low, high = np.maximum(low, ring.min(axis=0)), np.minimum(high, ring.max(axis=0))
    if (high <= low).any():
        raise DataError(f"{params.area} lies beside {surface.name}")
    return low, high


def run(inputs: Sequence[Tin | Grid], params: SolidParams, progress: Progress) -> Result:
    """Make the solid; see `CONVERSION`.

    Raises
    ------
    CallError
        If the surface is in degrees or of unknown unit.
    DataError
        If the solid does not fit the bed and tiles are not wanted.
    """
    surface, params = inputs[0], settle(inputs, params)
    frame = surface.frame
    need_lengths(surface.name, surface.frame, "a scale needs")
    if frame.horizontal is None or frame.vertical is None:
        raise CallError(
            f"the units of {surface.name} are not known, so a scale has no meaning; say them (--from-units)"
        )
    assert params.scale is not None
    # Millimetres of print for a unit of plan and of height.
    plan = 1000.0 / length_in(Length(1.0, Unit.METRE), frame.horizontal) / params.scale
    up = 1000.0 / length_in(Length(1.0, Unit.METRE), frame.vertical) / params.scale * params.exaggeration
    low, high = _box(surface, params)
    columns, rows = (max(round(float(side) * plan / params.spacing), 1) + 1 for side in high - low)
    if rows * columns > MOST_NODES:
        raise CallError(f"spacing: {params.spacing:g} mm gives {count(rows * columns, 'node')}; choose a wider one")
    # The nodes go from rim to rim, so that the spacing is very nearly what was asked for.
    nodes, places = _sampled(surface, params, low, high, (rows, columns))
    progress.report(0.3, "sampling heights")
    nodes, gone = without_single_bridges(nodes)
    if not np.isfinite(nodes).any():
        raise DataError(f"no node of the solid lies on {surface.name}")
    lowest, highest = float(np.nanmin(nodes)), float(np.nanmax(nodes))
    step = float((high - low)[0]) * plan / max(columns - 1, 1), float((high - low)[1]) * plan / max(rows - 1, 1)
    heights_mm = (nodes - lowest) * up + params.base
    size = (step[0] * (columns - 1), step[1] * (rows - 1), (highest - lowest) * up + params.base)
    findings = [note("size", f"{size[0]:.1f} × {size[1]:.1f} × {size[2]:.1f} mm at 1:{params.scale:g}.")]
    fits = _fits(size, params.bed)
    if not fits and not params.tiles:
        scale = _fitting((high - low) * plan * params.scale, params.bed, usual=False)
        raise DataError(
            f"the solid is {size[0]:.1f} × {size[1]:.1f} × {size[2]:.1f} mm and does not fit a bed of {params.bed}; "
            f"1:{scale:g} would fit, or cut it into tiles (tiles=yes)"
        )
    ranges = (
        ([(0, rows)], [(0, columns)])
        if fits
        else tiles_of(rows, columns, max(step), (params.bed.wide, params.bed.tall))
    )
    made = _body(heights_mm, step, ranges)
    progress.report(0.7, "closing the solid")
    number = int(made.part.max()) + 1 if len(made.part) else 1
    if number > 1:
        findings.append(
            note("tiles", f"Cut into {number} tiles that share their edges, numbered from the south-west, eastwards.")
        )
    if gone:
        text = f"{count(gone, 'node')} left out where pieces touched in a single place."
        findings.append(Finding("bridges", text))
    loss = _loss(surface, nodes, places, progress.part(0.7, 1.0))
    return Result(made, tuple(findings), loss, figures={"triangles": len(made.triangles)})


def _fits(size: tuple[float, float, float], bed: Bed) -> bool:
    slack = 1.0 + 1e-9
    return (size[0] <= bed.wide * slack and size[1] <= bed.tall * slack) or (
        size[0] <= bed.tall * slack and size[1] <= bed.wide * slack
    )


def _sampled(
    surface: Tin | Grid, params: SolidParams, low: Floats, high: Floats, shape: tuple[int, int]
) -> tuple[Floats, tuple[Floats, Floats]]:
    rows, columns = shape
    east, north = np.linspace(low[0], high[0], columns), np.linspace(high[1], low[1], rows)
    xy = np.column_stack((np.tile(east, rows), np.repeat(north, columns)))
    z = heights(surface, xy)
    if params.area is not None and len(set(params.area.corners)) != 4:
        ring = params.area.in_frame(surface.frame).ring()
        middle = ring.mean(axis=0)
        z[~inside_polygon(xy[:, 0].copy(), xy[:, 1].copy(), middle + (ring - middle) * (1.0 + 1e-9))] = np.nan
    return z.reshape(rows, columns), (east, north)


def _body(
    nodes: Floats, step: tuple[float, float], ranges: tuple[list[tuple[int, int]], list[tuple[int, int]]]
) -> Mesh:
    rows = nodes.shape[0]
    vertices, triangles, part = [], [], []
    start = number = 0
    # From the south-west, eastwards.
    for r0, r1 in reversed(ranges[0]):
        for c0, c1 in ranges[1]:
            own, faces = solid_of(nodes[r0:r1, c0:c1], 1.0, 0.0)
            if len(faces) == 0:
                continue
            vertices.append((own + np.array([c0, rows - r1, 0.0])) * (*step, 1.0))
            triangles.append(faces + start)
            part.append(np.full(len(faces), number, np.int32))
            start += len(own)
            number += 1
    pieces = np.concatenate(part) if number > 1 else np.zeros(0, np.int32)
    return Mesh(
        name="Solid",
        frame=MILLIMETRES,
        vertices=np.concatenate(vertices),
        triangles=np.concatenate(triangles),
        part=pieces,
    )


def _loss(surface: Tin | Grid, nodes: Floats, places: tuple[Floats, Floats], progress: Progress) -> Loss | None:
    """Return what sampling costs the surface, as ground."""
    east, north = places
    dx, dy = (float(abs(line[-1] - line[0])) / max(len(line) - 1, 1) for line in (east, north))
    if min(nodes.shape) < 2:
        return None
    sampled = Grid(
        name="Samples", frame=surface.frame, heights=nodes, west=float(east[0]) - dx / 2.0, north=float(north[0]) + dy / 2.0,
        dx=dx, dy=dy,
    )  # fmt: skip
    return difference(surface, sampled, progress)


def _estimate(inputs: Sequence[Tin | Grid], params: SolidParams) -> str:
    settled = settle(inputs, params)
    low, high = _box(inputs[0], settled)
    if settled.scale is None or inputs[0].frame.horizontal is None:
        return ""
    plan = 1000.0 / length_in(Length(1.0, Unit.METRE), inputs[0].frame.horizontal) / settled.scale
    wide, tall = ((high - low) * plan).tolist()
    return f"{wide:.0f} × {tall:.0f} mm at 1:{settled.scale:g}"


def foretell(inputs: Sequence[Tin | Grid], params: SolidParams) -> tuple[dict[str, int], float]:
    """Return four triangles for each sample: two on top, two below."""
    low, high = _box(inputs[0], params)
    if params.scale is None or inputs[0].frame.horizontal is None:
        return {}, 0.0
    plan = 1000.0 / length_in(Length(1.0, Unit.METRE), inputs[0].frame.horizontal) / params.scale
    wide, tall = ((high - low) * plan / params.spacing).tolist()
    number = int(4.0 * wide * tall * _covered(inputs[0], low, high))
    return {"triangles": number, "vertices": number // 2}, number * 1e-6


def _covered(surface: Tin | Grid, low: Floats, high: Floats) -> float:
    """Return about which share of a box a surface covers."""
    x, y = (low[axis] + (np.arange(40) + 0.5) / 40.0 * (high - low)[axis] for axis in (0, 1))
    return float(np.isfinite(heights(surface, np.column_stack((np.tile(x, 40), np.repeat(y, 40))))).mean())


CONVERSION = Conversion(
    id="solid",
    version=1,
    title="Solid for 3D printing",
    also=("print", "STL", "base"),
    help="A closed body of the surface with a base, in millimetres at a scale, checked against a printer's bed.",
    inputs=(Input("surface", (Tin, Grid)),),
    outputs=(Output("solid", Mesh),),
    params=SolidParams,
    template="Solid of {surface}[ at 1:{scale}| at {scale=the scale that fills the bed}], a height every {spacing} mm, heights × {exaggeration}, on a base of {base} mm, for a "
    "bed of {bed}, {tiles}[, of {area}].",
    run=run,
    foretell=foretell,
    settle=settle,
    estimate=_estimate,
    name=lambda inputs, params: f"Solid of {inputs[0].name}",
    ask=True,
    own_frame=True,
)
