"""How much earth lies between two surfaces."""

from __future__ import annotations

import dataclasses
import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated, Any

import numpy as np

from vastgrid.base import late_shapely as shapely
from vastgrid.base.errors import DataError, ParamError
from vastgrid.base.findings import Finding, note
from vastgrid.base.progress import Progress, Silent
from vastgrid.base.quantities import Length, Quantity, Unit, factor, square_word
from vastgrid.base.words import spaced, step_above
from vastgrid.data.areas import Areas
from vastgrid.data.dataset import Dataset, Floats
from vastgrid.data.frame import Frame
from vastgrid.data.grid import Grid
from vastgrid.data.linework import Linework
from vastgrid.data.outline import CellOutline, Outline, TotalOutline
from vastgrid.data.table import Table
from vastgrid.data.tin import Tin
from vastgrid.declarations.conversion import Conversion, Input, Inputs, Output, Picture, Result, listed
from vastgrid.declarations.tiles import Seen, Sums, TilePart, Tiling
from vastgrid.kernels.lines.chains import lattice_rim
from vastgrid.measures.earthwork import (
    Earthwork,
    Part,
    Region,
    Sides,
    between,
    between_sections,
    by_cells,
    by_sections,
    common_box,
    gaps,
    region_of,
    section_areas,
)
from vastgrid.measures.heights import heights
from vastgrid.params.declare import Param
from vastgrid.terrain.areas.boundaries import (
    ClosedLines,
    DrawnArea,
    NamedArea,
    beyond_centres,
    cubic,
    for_volumes,
    named_areas,
    whole_of,
)
from vastgrid.terrain.areas.ground import OnGround, to_ground
from vastgrid.terrain.cells.adding import PIECE, summed
from vastgrid.terrain.tin.limits import has_rings

# A cross-check by so many cells and sections where nobody says how large they are or how far apart.
CELLS, SECTIONS = 250_000, 60
MOST_CLASSES = 200
# More cells take more memory, more sections more time, than a cross-check is worth.
MOST_CELLS, MOST_SECTIONS = 100_000_000, 20_000
# Cross-checks that differ by more than this share of all that is moved are pointed out.
FAR = 0.05
# Ground that is missing inside a boundary is told from this share on.
MISSING = 1e-6


@dataclass(frozen=True)
class VolumeParams:
    """Inside what, in which classes, and what becomes of earth on its way."""

    boundaries: ClosedLines = ""
    area: DrawnArea = None
    ground: OnGround = False
    depth: Annotated[
        Length | None,
        Param(
            "Depth of a class",
            "Cut and fill by depth, in classes of this height.",
            Quantity.Z_LENGTH,
            above=0,
            absent="automatic",
        ),
    ] = None
    swell: Annotated[
        float | None,
        Param("Swell", "Bulking factor: loose volume for each unit cut; 1.25 is a quarter more.", above=0, most=10),
    ] = None
    shrink: Annotated[
        float | None,
        Param("Shrink", "Shrinkage factor: compacted fill for each unit cut; 0.9 is a tenth less.", above=0, most=10),
    ] = None
    cell: Annotated[
        Length | None,
        Param("Cells", "Size of the cells of the cross-check.", Quantity.XY_LENGTH, above=0, absent="automatic"),
    ] = None
    sections: Annotated[
        Length | None,
        Param(
            "Sections",
            "Distance between the sections of the cross-check.",
            Quantity.XY_LENGTH,
            above=0,
            absent="automatic",
        ),
    ] = None


def run(inputs: Inputs, params: VolumeParams, progress: Progress) -> Result:
    """Add up what lies between them; see `CONVERSION`.

    Raises
    ------
    DataError
        If they have no ground in common, or none inside the boundaries.
    """
    (base,), (top,), lines = inputs.of("base"), inputs.of("top"), inputs.of("inside")
    if isinstance(base, Grid) and isinstance(top, Grid) and max(base.heights.size, top.heights.size) > PIECE:
        # As triangles they would take a hundred times the room: piece by piece the figures are the same.
        sums, piece = summed(_TILING, inputs, params, progress)
        return _answer(inputs, sums, params, piece)
    findings: list[Finding] = []
    one, two = for_volumes(base), for_volumes(top, base)
    areas = named_areas(lines, findings, params.area, params.boundaries) if lines or params.area else []
    whole = whole_of(areas) if areas else None
    limits = _limits(_range(one, two, whole, progress.part(0.0, 0.1)), base.frame, params)
    rows, classes = _exact(one, two, areas, whole, limits, progress.part(0.1, 0.6))
    _need_ground(base, top, areas, rows[-1])
    checks = _checks(one, two, whole, rows[-1], params, base.frame, progress.part(0.6, 1.0))
    return _answered(base, top, areas, findings, _Figures(limits, rows, classes, checks), params)


@dataclass(frozen=True, slots=True)
class _Figures:
    """What was added up: ends of classes, each area and all of them, classes of depth, and the cross-checks by name."""

    limits: Floats
    rows: list[Earthwork]
    classes: Floats
    checks: list[tuple[str, Earthwork]]


def _need_ground(base: Dataset, top: Dataset, areas: Sequence[NamedArea], total: Earthwork) -> None:
    """Refuse to tell figures of nothing.

    Raises
    ------
    DataError
        If there is no ground in common.
    """
    if total.area <= 0.0:
        where = f" inside {listed([own.name for own in areas])}" if areas else ""
        raise DataError(f"{base.name} and {top.name} have no ground in common{where}")


def _answered(
    base: Dataset,
    top: Dataset,
    areas: Sequence[NamedArea],
    findings: list[Finding],
    own: _Figures,
    params: VolumeParams,
) -> Result:
    """Return figures as tables, and what is said of them."""
    rows, checks, total = own.rows, own.checks, own.rows[-1]
    findings += [*_missing(areas, rows, base.frame), *beyond_centres((base, top))]
    times = to_ground(base, findings, wanted=params.ground)
    if times != 1.0:
        rows = [each.scaled(times) for each in rows]
        checks = [(name, each.scaled(times)) for name, each in checks]
        own, total = _Figures(own.limits, rows, own.classes * times, checks), rows[-1]
    names = [each.name for each in areas] if len(areas) == 1 else [*(each.name for each in areas), "in all"]
    if len(areas) == 1:
        rows = rows[:1]
    findings += _agreement(total, checks, base.frame)
    called = f"Cut and fill, {base.name} to {top.name}"
    swelling = params.swell, params.shrink
    table = _table(called, names, rows, base.frame, swelling)
    methods = _table(
        f"{called}, methods", [name for name, _ in checks], [each for _, each in checks], base.frame, (None, None)
    )
    depths = _classes(f"{called}, depth classes", own.limits, own.classes, base.frame)
    unit = base.frame.horizontal
    figures = {
        "in short": f"cut {spaced(total.cut)}, fill {spaced(total.fill)} {cubic(unit)}".strip(),
        "volumes": {
            **_values(total, swelling),
            "unit": unit.value if unit else None,
            "method": "exact",
            "parts": [{"name": name, **_values(each, swelling)} for name, each in zip(names, rows, strict=True)][
                : len(areas)
            ],
            "classes": depths.rows(),
            "methods": [{"name": name, **_values(each, (None, None))} for name, each in checks],
        },
    }
    findings.insert(0, note("volumes", _said(total, base.frame, swelling)))
    return Result(table, tuple(findings), more={"methods": methods, "classes": depths}, figures=figures)


def _exact(
    one: Tin, two: Tin, areas: Sequence[NamedArea], whole: Any, limits: Floats, progress: Progress
) -> tuple[list[Earthwork], Floats]:
    """Return what lies in each area and, last, in all of them; and the classes of all."""
    region: Region | None = None
    if areas:
        alone = len(areas) == 1
        region = region_of([area.area for area in areas] if alone else [*(area.area for area in areas), whole])
    rows, classes = between(one, two, region, limits, progress)
    if len(areas) == 1 and rows:
        rows = [rows[0], rows[0]]
    return (rows, classes[-1]) if rows else ([Earthwork()], np.zeros((len(limits) + 1, 2)))


def _limits(gaps_: tuple[float, float], frame: Frame, params: VolumeParams) -> Floats:
    """Return the ends of classes of depth, in the unit of plan, 0 among them.

    Parameters
    ----------
    gaps_ : (float, float)
        About how far the one surface lies below and above the other.

    Raises
    ------
    ParamError
        If there would be more classes than anybody reads.
    """
    low, high = gaps_
    ratio = factor(frame.vertical, frame.horizontal) if frame.vertical and frame.horizontal else 1.0
    if params.depth is not None:
        step = params.depth.in_unit(frame.vertical, "depth") * ratio
    else:
        step = step_above(max(high, -low, 1e-3) / ratio / 6.0) * ratio
    first, last = math.floor(min(low, 0.0) / step), math.ceil(max(high, 0.0) / step)
    if last - first > MOST_CLASSES:
        raise ParamError("depth", f"it gives {last - first} classes; choose a larger one")
    return (
        np.asarray(np.arange(first + 1, last, dtype=np.float64) * step, np.float64) if last - first > 1 else np.zeros(1)
    )


def _range(one: Tin, two: Tin, whole: Any, progress: Progress) -> tuple[float, float]:
    """Return about how far the one lies below and above the other: by cells, which is enough for ends of classes."""
    values = gaps(one, two, whole, 40_000)
    progress.report(1.0)
    return (float(values.min()), float(values.max())) if len(values) else (0.0, 0.0)


def _missing(areas: Sequence[NamedArea], rows: Sequence[Earthwork], frame: Frame) -> list[Finding]:
    found = []
    square = square_word(frame.horizontal)
    for own, row in zip(areas, rows, strict=False):
        gone = own.area.area - row.area
        if gone > MISSING * own.area.area:
            text = (
                f"{own.name} has {own.area.area:.2f}{square}; on {gone:.2f}{square} of it ({gone / own.area.area:.1%}) one of the "
                "surfaces has no ground, and nothing is counted there."
            )
            at = own.area.centroid
            found.append(Finding("ground-missing", text, at=(at.x, at.y)))
    return found


def _checks(
    one: Tin, two: Tin, whole: Any, total: Earthwork, params: VolumeParams, frame: Frame, progress: Progress
) -> list[tuple[str, Earthwork]]:
    """Return the exact figures and those of both cross-checks, each with its name.

    Raises
    ------
    ParamError
        If what is asked for is finer than a cross-check can be.
    """
    unit = frame.horizontal
    word = f" {unit.value}" if unit else ""
    box = common_box(one, two, whole)
    wide, high = box[2] - box[0], box[3] - box[1]
    cell = params.cell.in_unit(unit, "cell") if params.cell is not None else step_above(math.sqrt(total.area / CELLS))
    if wide * high / cell**2 > MOST_CELLS:
        raise ParamError("cell", f"that makes {spaced(wide * high / cell**2)} cells; choose a larger one")
    number = _sections(box, params, unit)
    cells = by_cells(one, two, whole, cell, progress.part(0.0, 0.4))
    sections, spacing = by_sections(one, two, whole, number, progress.part(0.4, 1.0))
    return _named_checks(total, (cell, cells), (spacing, sections), word)


def _sections(box: Sides, params: VolumeParams, unit: Unit | None) -> int:
    """Return how many sections part the ground in common.

    Raises
    ------
    ParamError
        If that is more than a cross-check needs.
    """
    if params.sections is None:
        return SECTIONS
    longer = max(box[2] - box[0], box[3] - box[1])
    number = max(math.ceil(longer / params.sections.in_unit(unit, "sections") - 1e-9), 1)
    if number > MOST_SECTIONS:
        raise ParamError("sections", f"that makes {spaced(number)} sections; let them stand farther apart")
    return number


def _named_checks(
    total: Earthwork, cells: tuple[float, Earthwork], sections: tuple[float, Earthwork], word: str
) -> list[tuple[str, Earthwork]]:
    return [
        ("exact, prism by prism", total),
        (f"by cells of {cells[0]:g}{word}", cells[1]),
        (f"by sections every {sections[0]:.3g}{word}", sections[1]),
    ]


def _agreement(total: Earthwork, checks: Sequence[tuple[str, Earthwork]], frame: Frame) -> list[Finding]:
    moved = max(total.cut + total.fill, 1e-300)
    said, worst = [], 0.0
    for name, own in checks[1:]:
        off = max(abs(own.cut - total.cut), abs(own.fill - total.fill)) / moved
        worst = max(worst, off)
        said.append(f"{name} {off:.2%}")
    text = f"Cross-checks differ from the exact figures by at most this share of all that is moved: {'; '.join(said)}."
    return [Finding("methods-differ", text) if worst > FAR else note("methods-agree", text)]


def _values(earthwork: Earthwork, swelling: tuple[float | None, float | None]) -> dict[str, float]:
    values = {
        "cut": earthwork.cut,
        "fill": earthwork.fill,
        "net": earthwork.net,
        "cut_area": earthwork.cut_area,
        "fill_area": earthwork.fill_area,
        "common_area": earthwork.area,
    }
    swell, shrink = swelling
    if swell is not None:
        values["cut_loose"] = earthwork.cut * swell
    if shrink is not None:
        values["cut_for_fill"] = earthwork.fill / shrink
        values["surplus"] = earthwork.cut - earthwork.fill / shrink
    return values


_HEADS = {
    "cut": "cut",
    "fill": "fill",
    "net": "net",
    "cut_area": "cut area",
    "fill_area": "fill area",
    "common_area": "common area",
    "cut_loose": "cut, loose",
    "cut_for_fill": "cut that the fill needs",
    "surplus": "surplus of cut",
}


def _table(
    name: str,
    names: Sequence[str],
    rows: Sequence[Earthwork],
    frame: Frame,
    swelling: tuple[float | None, float | None],
) -> Table:
    values = [_values(own, swelling) for own in rows]
    unit = frame.horizontal
    square = f"{unit.value}²" if unit else ""
    columns: dict[str, Any] = {"inside": np.array([each.encode() for each in names])}
    for key in values[0]:
        columns[_HEADS[key]] = np.array([row[key] for row in values])
    units = ["", *(square if key.endswith("area") else cubic(unit) for key in values[0])]
    return Table(name=name, frame=frame, columns=columns, units=tuple(units))


def _classes(name: str, limits: Floats, classes: Floats, frame: Frame) -> Table:
    ratio = factor(frame.horizontal, frame.vertical) if frame.vertical and frame.horizontal else 1.0
    ends = np.round(np.concatenate(([np.nan], limits * ratio, [np.nan])), 9)
    own = classes[:, 0] > 0.0
    unit = frame.horizontal
    height = frame.vertical.value if frame.vertical else ""
    columns = {
        "from": ends[:-1][own],
        "to": ends[1:][own],
        "area": classes[own, 0],
        "share": classes[own, 0] / max(float(classes[:, 0].sum()), 1e-300) * 100.0,
        "volume": classes[own, 1],
    }
    square = f"{unit.value}²" if unit else ""
    return Table(name=name, frame=frame, columns=columns, units=(height, height, square, "%", cubic(unit)))


def _signed(value: float) -> str:
    whole = round(value, 1) + 0.0
    return f"+{spaced(whole, 1)}" if whole > 0.0 else spaced(whole, 1)


def _said(earthwork: Earthwork, frame: Frame, swelling: tuple[float | None, float | None]) -> str:
    unit = f" {cubic(frame.horizontal)}".rstrip() or " cubic units"
    square = square_word(frame.horizontal)
    text = (
        f"Cut {spaced(earthwork.cut, 1)}{unit} on {spaced(earthwork.cut_area, 1)}{square}, fill {spaced(earthwork.fill, 1)}{unit} on "
        f"{spaced(earthwork.fill_area, 1)}{square}; net {_signed(earthwork.net)}{unit} (fill minus cut)."
    )
    values = _values(earthwork, swelling)
    if "cut_loose" in values:
        text += f" Loose, the cut is {spaced(values['cut_loose'], 1)}{unit}."
    if "surplus" in values:
        over = values["surplus"]
        text += (
            f" The fill needs {spaced(values['cut_for_fill'], 1)}{unit} of cut: "
            f"{spaced(abs(over), 1)}{unit} {'too much' if over >= 0 else 'too little'} is cut."
        )
    return text


# ------------------------------------------------------------------------------------------------------ on tiles


def _halo(inputs: Inputs, params: VolumeParams) -> float | None:
    surfaces = [*inputs.of("base"), *inputs.of("top")]
    if not all(isinstance(each, Grid) for each in surfaces):
        return None
    return 2.0 * max(max(each.dx, each.dy) for each in surfaces if isinstance(each, Grid))


def _whole(inputs: Sequence[Outline], params: VolumeParams) -> TotalOutline:
    """Return the cells of the base that may have ground in common with the other surface.

    Raises
    ------
    DataError
        If none does.
    """
    base, top = inputs
    assert isinstance(base, CellOutline)
    name = f"Cut and fill, {base.name} to {top.dataset().name}"
    try:
        window = base.window(top.box())
    except DataError:
        raise DataError(f"{base.name} and {top.dataset().name} have no ground in common") from None
    box = base.box(window)
    own = dataclasses.replace(base, name=name, west=box.west, north=box.north, rows=window.rows, columns=window.columns)
    return TotalOutline(own)


def _surfaces(inputs: Inputs) -> tuple[Tin, Tin] | None:
    """Return both surfaces of a tile; None where one of them has no ground."""
    (base,), (top,) = inputs.of("base"), inputs.of("top")
    if not all(isinstance(each, Grid) and len(lattice_rim(each.heights)) for each in (base, top)):
        return None
    return for_volumes(base), for_volumes(top, base)


def _areas_of(inputs: Inputs, params: VolumeParams, findings: list[Finding]) -> list[NamedArea]:
    lines = inputs.of("inside")
    return named_areas(lines, findings, params.area, params.boundaries) if lines or params.area else []


def _look(inputs: Inputs, params: VolumeParams, piece: TilePart) -> Seen:
    """Return how far both surfaces reach, and about how far one lies above the other inside the boundaries."""
    both = _surfaces(inputs)
    if both is None:
        return {}
    seen: Seen = {}
    for name, tin in zip(("base", "top"), both, strict=True):
        for axis, way in enumerate(("east", "north")):
            seen[f"{name} {way}"] = (float(tin.vertices[:, axis].min()), float(tin.vertices[:, axis].max()))
    one, two = both
    box = piece.box
    x, y = one.vertices[:, 0], one.vertices[:, 1]
    here = (x >= box.west) & (x < box.east) & (y >= box.south) & (y < box.north)
    areas = _areas_of(inputs, params, [])
    if areas:
        here[here] = shapely.contains_xy(whole_of(areas), x[here], y[here])
    gap = heights(two, one.vertices[here, :2]) - one.vertices[here, 2]
    gap = gap[np.isfinite(gap)]
    if len(gap):
        seen["gap"] = (float(gap.min()), float(gap.max()))
    return seen


def _common(seen: Seen, whole: Any) -> Sides:
    """Return the ground in common by what was seen, as far as areas go where there are some."""
    none = (0.0, 0.0)
    pairs = [(seen.get(f"base {way}", none), seen.get(f"top {way}", none)) for way in ("east", "north")]
    (west, east), (south, north) = ((max(a[0], b[0]), min(a[1], b[1])) for a, b in pairs)
    if whole is None:
        return west, south, east, north
    bounds = whole.bounds
    return max(west, bounds[0]), max(south, bounds[1]), min(east, bounds[2]), min(north, bounds[3])


def _sums(inputs: Inputs, made: Dataset | None, params: VolumeParams, piece: TilePart) -> Sums:
    """Return what a tile adds: exact for each area and in all, classes, cells, sections."""
    both = _surfaces(inputs)
    if both is None:
        return {}
    one, two = both
    own, frame = piece.box, one.frame
    sides = (own.west, own.south, own.east, own.north)
    areas = _areas_of(inputs, params, [])
    whole = whole_of(areas) if areas else None
    shapes = [*(each.area for each in areas), whole] if areas else []
    tile = shapely.box(*sides)
    inner = [shapely.intersection(each, tile) for each in shapes] if areas else [tile]
    limits = _limits(piece.seen.get("gap", (0.0, 0.0)), frame, params)
    rows, classes = between(one, two, region_of(inner), limits, Silent())
    exact = np.zeros((len(inner), 5))
    for k, row in enumerate(rows):
        exact[k] = dataclasses.astuple(row)
    if not exact.any():
        return {}
    # Parts behind the last that has ground here are not told: all areas together are the last.
    depth = classes[-1] if len(classes) == len(inner) else np.zeros((len(limits) + 1, 2))
    common = _common(piece.seen, whole)
    part = Part(common, sides)
    base = piece.inputs[0]
    assert isinstance(base, CellOutline)
    cell = _cell(base, params)
    number = (own.east - own.west) * (own.north - own.south) / cell**2
    if number > MOST_CELLS:
        raise ParamError("cell", f"that makes {spaced(number)} cells in a tile; choose a larger one")
    cells = by_cells(one, two, whole, cell, Silent(), part)
    sections = section_areas(one, two, whole, _sections(common, params, frame.horizontal), part, Silent())
    return {"exact": exact, "classes": depth, "cells": np.array(dataclasses.astuple(cells)), "sections": sections}


def _cell(base: CellOutline, params: VolumeParams) -> float:
    """Return how large the cells of the cross-check are: those of the base where nobody says it."""
    return params.cell.in_unit(base.frame.horizontal, "cell") if params.cell is not None else max(base.dx, base.dy)


def _answer(inputs: Inputs, sums: Sums, params: VolumeParams, piece: TilePart) -> Result:
    """Return the answer from the sums of all tiles."""
    (base,), (top,) = inputs.of("base"), inputs.of("top")
    findings: list[Finding] = []
    areas = _areas_of(inputs, params, findings)
    frame = base.frame
    rows = [Earthwork(*row) for row in sums["exact"].tolist()] if sums else [Earthwork()]
    if len(areas) == 1:
        rows = [rows[0], rows[0]]
    _need_ground(base, top, areas, rows[-1])
    outline = piece.inputs[0]
    assert isinstance(outline, CellOutline)
    common = _common(piece.seen, whole_of(areas) if areas else None)
    sections, spacing = between_sections(sums["sections"], common)
    cells = Earthwork(*sums["cells"].tolist())
    word = f" {frame.horizontal.value}" if frame.horizontal else ""
    checks = _named_checks(rows[-1], (_cell(outline, params), cells), (spacing, sections), word)
    limits = _limits(piece.seen.get("gap", (0.0, 0.0)), frame, params)
    return _answered(base, top, areas, findings, _Figures(limits, rows, sums["classes"], checks), params)


_TILING = Tiling(
    whole=_whole,
    run=None,
    halo=_halo,
    local="it needs two grids",
    looks=lambda params: True,
    look=_look,
    sums=_sums,
    answer=_answer,
)


CONVERSION = Conversion(
    id="volumes",
    version=1,
    title="Cut and fill volumes",
    also=("earthworks", "quantities"),
    help="How much earth lies between two surfaces: exact, and by cells and sections beside it; inside each of some boundaries, and by depth.",
    inputs=(
        Input("base", (Tin, Grid), help="the earlier surface", fits=lambda data: data.has_heights),
        Input(
            "top",
            (Tin, Grid),
            help="the later surface: fill is where it lies above",
            fits=lambda data: data.has_heights,
        ),
        Input(
            "inside",
            (Linework, Areas),
            least=0,
            most=None,
            help="areas or closed lines; each gets a row of its own",
            fits=has_rings,
        ),
    ),
    outputs=(
        Output("volumes", Table, picture=Picture("bars", "Cut and fill, exact", ("inside", "cut", "fill"))),
        Output(
            "methods",
            Table,
            title="methods",
            picture=Picture("bars", "Three methods side by side", ("inside", "cut", "fill")),
        ),
        Output(
            "classes",
            Table,
            title="depth classes",
            picture=Picture("columns", "Area by depth, blue is cut", ("from", "to", "area")),
        ),
    ),
    params=VolumeParams,
    template=(
        "Cut and fill from {base} to {top}[, inside {inside}][ ({boundaries})][, inside {area}][, in classes of {depth}][, swelling by {swell}]"
        "[, shrinking by {shrink}][, checked by cells of {cell}][, by sections every {sections}][, {ground}]."
    ),
    run=run,
    name=lambda inputs, params: f"Cut and fill, {inputs[0].name} to {inputs[1].name}",
    answers=True,
    tiles=_TILING,
    seen_by=(
        ("difference", {"base": "base", "top": "top"}),
        ("no_change", {"first": "base", "second": "top"}),
    ),
)
