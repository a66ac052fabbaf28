"""A surface parted into bands of height, or of what else a grid holds."""

from __future__ import annotations

import dataclasses
import itertools
import math
from collections.abc import Sequence
from dataclasses import dataclass
from enum import Enum
from typing import Annotated, Any

import numpy as np

from vastgrid.base import late_shapely as shapely
from vastgrid.base.errors import CallError, DataError, ParamError
from vastgrid.base.findings import Finding, count, note
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Length, Quantity, square_word, unit_word
from vastgrid.data.areas import Areas, from_shapes
from vastgrid.data.dataset import Dataset, Floats
from vastgrid.data.frame import need_lengths
from vastgrid.data.grid import Grid
from vastgrid.data.linework import Linework
from vastgrid.data.outline import CellOutline, EdgeOutline, Outline
from vastgrid.data.table import Table
from vastgrid.data.tin import Tin
from vastgrid.declarations.conversion import Conversion, Input, Output, Result
from vastgrid.declarations.tiles import Seen, Sums, TilePart, Tiling
from vastgrid.params.declare import Param
from vastgrid.params.kinds import Levels
from vastgrid.terrain.lines.banding import (
    Band,
    Cuts,
    banded,
    cuts_of,
    equal_shares,
    faces_of,
    in_order,
    joined_cuts,
    number_by_places,
    numbered,
)
from vastgrid.terrain.tin.seams import on_lattice, shared_window
from vastgrid.terrain.tin.surfaces import grid_tin

MOST_BANDS = 2000
# So many bands are told with their areas in a sentence; the table has all.
MOST_SAID = 12


class As(Enum):
    """What bands are given as."""

    POLYGONS = "polygons"
    GRID = "grid"


@dataclass(frozen=True)
class BandParams:
    """Where bands end."""

    interval: Annotated[
        Length | None,
        Param("Interval", "Height of each band; bands begin at whole multiples of it.", Quantity.VALUE, above=0),
    ] = None
    limits: Annotated[
        Levels | None, Param("Limits", "Your own limits: 200, 210, 225 m; of slopes 5, 10, 25.", Quantity.VALUE)
    ] = None
    shares: Annotated[int | None, Param("Shares", "Number of bands of equal area.", least=2, most=100)] = None
    as_: Annotated[
        As,
        Param("As", "polygons: the areas of each band; grid: the number of its band in each cell."),
    ] = As.POLYGONS


def settle(inputs: Sequence[Tin | Grid], params: BandParams) -> BandParams:
    """Part into five equal shares where nothing is said.

    Raises
    ------
    CallError
        If more than one is said.
    """
    said = [name for name in ("interval", "limits", "shares") if getattr(params, name) is not None]
    if len(said) > 1:
        raise CallError(f"bands end by {' or by '.join(said)}, not by both")
    unit = inputs[0].frame.vertical if inputs[0].has_lengths else None
    if params.interval is not None and params.interval.unit is None:
        return dataclasses.replace(params, interval=Length(params.interval.value, unit))
    if params.limits is not None and params.limits.unit is None:
        return dataclasses.replace(params, limits=Levels(params.limits.values, unit))
    return params if said else dataclasses.replace(params, shares=5)


def limits_of(surface: Tin | Grid, params: BandParams, pair: tuple[float, float] | None) -> Floats:
    """Return where bands end, ascending.

    Parameters
    ----------
    pair : (float, float) or None
        Lowest and highest value of all.

    Raises
    ------
    ParamError
        If there would be more than 2 000 bands.
    """
    unit = surface.frame.vertical if surface.has_lengths else None
    if pair is None:
        raise DataError(f"{surface.name} has no heights")
    if params.limits is not None:
        return np.array(params.limits.in_unit(unit, "limits"))
    if params.interval is not None:
        step = params.interval.in_unit(unit, "interval")
        first, last = math.floor(pair[0] / step) + 1, math.ceil(pair[1] / step) - 1
        if last - first > MOST_BANDS:
            raise ParamError("interval", f"it gives {last - first} bands; choose a larger one")
        return np.asarray(np.round(np.arange(first, last + 1) * step, 10), np.float64)
    shares = params.shares or 5
    if isinstance(surface, Tin):
        return equal_shares(surface, shares)
    known = surface.heights[np.isfinite(surface.heights)]
    return np.asarray(np.quantile(known, np.arange(1, shares) / shares), np.float64)


def run(inputs: Sequence[Tin | Grid], params: BandParams, progress: Progress) -> Result:
    """Part the surface; see `CONVERSION`.

    Raises
    ------
    CallError
        If areas are asked for of data in degrees, or a grid of bands of a TIN.
    """
    surface, params = inputs[0], settle(inputs, params)
    need_lengths(surface.name, surface.frame, "areas need")
    limits = limits_of(surface, params, surface.extent().elevation)
    progress.report(0.1)
    made: Dataset
    if params.as_ is As.GRID:
        if not isinstance(surface, Grid):
            raise CallError(f"as=grid: {surface.name} is a TIN; make a grid of it first, or take polygons")
        made, areas = _grid(surface, limits)
    else:
        made, areas = _polygons(surface, limits, progress.part(0.1, 1.0))
    table = _table(surface, limits, areas)
    return Result(made, (_said(surface, limits, areas),), more={"areas": table})


def _said(surface: Tin | Grid, limits: Floats, areas: Floats) -> Finding:
    """Return how much of the surface lies in each band."""
    index = np.flatnonzero(areas > 0.0)
    square = square_word(surface.frame.horizontal)
    names = _names(surface, limits)
    each = [f"{names[k]}: {areas[k]:.2f}{square}, {areas[k] / areas.sum():.1%}" for k in index.tolist()]
    text = (
        f"{count(len(index), 'band')}, {areas.sum():.2f}{square} in all"
        + ("; ".join(["", *each]) if len(index) <= MOST_SAID else "")
        + "."
    )
    return note("bands", text)


def _grid(surface: Grid, limits: Floats) -> tuple[Grid, Floats]:
    number = np.searchsorted(limits, surface.heights, side="right").astype(np.float64) + 1.0
    number[np.isnan(surface.heights)] = np.nan
    made = dataclasses.replace(
        surface, name=f"Bands of {surface.name}", heights=number, quantity="height band", measure=""
    )
    return made, _areas(made, limits)


def _areas(bands: Grid, limits: Floats) -> Floats:
    """Return the area of each band."""
    number = bands.heights[np.isfinite(bands.heights)].astype(np.int64)
    return np.asarray(np.bincount(number, minlength=len(limits) + 2)[1:] * (bands.dx * bands.dy), np.float64)


def _polygons(surface: Tin | Grid, limits: Floats, progress: Progress) -> tuple[Areas, Floats]:
    tin = grid_tin(surface) if isinstance(surface, Grid) else surface
    return _outlines(surface, banded(tin, limits, progress), limits)


def _outlines(surface: Tin | Grid, bands: Sequence[Band], limits: Floats) -> tuple[Areas, Floats]:
    """Return the pieces of bands as areas that know what they are, and the area of each band."""
    names = _names(surface, limits)
    number = np.array([band.number for band in bands], np.int64)
    shapes = np.array([band.outline for band in bands], object)
    size = np.asarray(shapely.area(shapes), np.float64)
    ends = np.concatenate(([np.nan], limits, [np.nan]))
    layers, layer = np.unique(number, return_inverse=True)
    made = from_shapes(
        shapes,
        name=f"Bands of {surface.name}",
        frame=surface.frame,
        layer=layer.astype(np.int32),
        layers=tuple(names[k] for k in layers.tolist()) or ("",),
        attributes={"band": number + 1, "from": ends[number], "to": ends[number + 1], "area": size},
    )
    return made, np.asarray(np.bincount(number, size, minlength=len(limits) + 1), np.float64)


def _names(surface: Tin | Grid, limits: Floats) -> list[str]:
    said = [f"{limit:.10g}" if abs(limit - round(limit, 3)) < 1e-9 else f"{limit:.3f}" for limit in limits.tolist()]
    word = unit_word(surface.frame.vertical) if surface.has_lengths else f" {getattr(surface, 'measure', '')}".rstrip()
    if not said:
        return [f"all{word}"]
    inner = [f"{low} to {high}{word}" for low, high in itertools.pairwise(said)]
    return [f"below {said[0]}{word}", *inner, f"from {said[-1]}{word}"]


def _table(surface: Tin | Grid, limits: Floats, areas: Floats) -> Table:
    ends = np.concatenate(([np.nan], limits, [np.nan]))
    own = areas > 0.0
    word = surface.frame.vertical.value if surface.has_lengths and surface.frame.vertical else ""
    plan = f"{surface.frame.horizontal.value}²" if surface.frame.horizontal else ""
    columns = {
        "band": np.arange(1.0, len(areas) + 1)[own],
        "from": ends[:-1][own],
        "to": ends[1:][own],
        "area": areas[own],
        "share": (areas / max(areas.sum(), 1e-300) * 100.0)[own],
    }
    return Table(name=f"Bands of {surface.name}, areas", columns=columns, units=("", word, word, plan, "%"))


# ------------------------------------------------------------------------------------------------------ on tiles


def _refuses(params: BandParams) -> str:
    if params.interval is None and params.limits is None:
        return "equal shares need all heights at once; say where bands end (interval=5m or limits=200,210,225)"
    return ""


def _halo(inputs: Sequence[Tin | Grid], params: BandParams) -> float | None:
    (surface,) = inputs
    if not isinstance(surface, Grid):
        return None
    # Outlines run between centres of cells, so a tile goes on to the first beyond it.
    return 1.5 * max(surface.dx, surface.dy) if params.as_ is As.POLYGONS else 0.0


def _whole(inputs: Sequence[Outline], params: BandParams) -> CellOutline | EdgeOutline:
    (own,) = inputs
    assert isinstance(own, CellOutline)
    need_lengths(own.name, own.frame, "areas need")
    name = f"Bands of {own.name}"
    if params.as_ is As.POLYGONS:
        return EdgeOutline(own, name)
    return dataclasses.replace(own, name=name, quantity="height band", measure="", elevation=None)


def _part(grid: Grid, piece: TilePart) -> Grid:
    whole = piece.inputs[0]
    assert isinstance(whole, CellOutline)
    return whole.cut(grid, whole.window(piece.box))


def _look(inputs: Sequence[Grid], params: BandParams, piece: TilePart) -> Seen:
    """Return the lowest and highest value on a tile: bands are counted from the lowest of all."""
    pair = _part(inputs[0], piece).extent().elevation
    return {} if pair is None else {"values": pair}


def _limits(surface: Tin | Grid, params: BandParams, piece: TilePart) -> Floats:
    return limits_of(surface, params, piece.seen.get("values", (0.0, 0.0)))


def _tile(inputs: Sequence[Grid], params: BandParams, piece: TilePart) -> Grid | Linework:
    (grid,) = inputs
    limits = _limits(grid, params, piece)
    return _edges(grid, limits, piece) if params.as_ is As.POLYGONS else _grid(grid, limits)[0]


# What lines of a tile are: level lines, rims, and single places whose band is known.
_LEVEL, _RIM, _PLACE = range(3)


def _edges(grid: Grid, limits: Floats, piece: TilePart) -> Linework:
    """Return what parts the ground of a tile, edge by edge, and a place inside each of its pieces with band and area."""
    whole = piece.inputs[0]
    assert isinstance(whole, CellOutline)
    part = whole.cut(grid, shared_window(whole, whole.window(piece.box)))
    tin = on_lattice(grid_tin(part), whole)
    cuts = cuts_of(tin, limits)
    faces = faces_of(cuts)
    number, places = numbered(tin, limits, faces)
    ground = number >= 0
    single = places[ground]
    xy = np.concatenate((cuts.levels.reshape(-1, 2), cuts.rim.reshape(-1, 2), single))
    sizes = [2] * (len(cuts.levels) + len(cuts.rim)) + [1] * len(single)
    what = np.repeat([_LEVEL, _RIM, _PLACE], (len(cuts.levels), len(cuts.rim), len(single)))
    none = np.zeros(len(what) - len(single))
    attributes: dict[str, Any] = {
        "what": what.astype(np.int8),
        "band": np.concatenate((none, number[ground])).astype(np.int64),
        "area": np.concatenate((none, shapely.area(faces[ground]))),
    }
    return Linework(
        name=part.name,
        frame=part.frame,
        vertices=np.column_stack((xy, np.full(len(xy), np.nan))),
        offsets=np.concatenate(([0], np.cumsum(sizes, dtype=np.int64))),
        layer=np.zeros(len(what), np.int32),
        attributes=attributes,
    )


def _sums(inputs: Sequence[Grid], made: Dataset | None, params: BandParams, piece: TilePart) -> Sums:
    limits = _limits(inputs[0], params, piece)
    if isinstance(made, Linework):
        own = made.attributes
        return {"areas": np.asarray(np.bincount(own["band"], own["area"], len(limits) + 1), np.float64)}
    assert isinstance(made, Grid)
    return {"areas": _areas(_part(made, piece), limits)}


def _told(sums: Sums, params: BandParams, piece: TilePart) -> list[Finding]:
    surface = piece.inputs[0].dataset()
    assert isinstance(surface, Grid)
    return [_said(surface, _limits(surface, params, piece), sums["areas"])]


def _finish(joined: Linework, piece: TilePart, params: BandParams) -> tuple[Areas, list[Finding]]:
    """Return the outlines of bands from the edges of all tiles."""
    surface = piece.inputs[0].dataset()
    assert isinstance(surface, Grid)
    what, first = joined.attributes["what"], joined.offsets[:-1]
    xy = joined.vertices[:, :2]

    def edges(kind: int) -> Floats:
        at = first[what == kind]
        return np.stack((xy[at], xy[at + 1]), axis=1) if len(at) else np.zeros((0, 2, 2))

    faces = faces_of(joined_cuts(Cuts(edges(_LEVEL), edges(_RIM))))
    place = what == _PLACE
    number = number_by_places(faces, xy[first[place]], joined.attributes["band"][place])
    return _outlines(surface, in_order(faces, number), _limits(surface, params, piece))[0], []


CONVERSION = Conversion(
    id="bands",
    version=2,
    title="Elevation and slope bands",
    also=("zones", "classify", "ranges", "hypsometric"),
    help="The surface divided by height, or a grid by its values, such as slope: areas, or a grid.",
    inputs=(Input("surface", (Tin, Grid)),),
    outputs=(Output("bands", Areas, look={"colour": "layer"}), Output("areas", Table, title="areas")),
    params=BandParams,
    template="Bands of {surface}[, every {interval}][, with limits at {limits}][, split into {shares} equal shares], as {as}.",
    run=run,
    settle=settle,
    name=lambda inputs, params: f"Bands of {inputs[0].name}",
    forms=((Grid, {"as": "grid"}),),
    kinds_as=lambda params: (Grid,) if params.as_ is As.GRID else (Tin, Grid),
    any_quantity=True,
    tiles=Tiling(
        whole=_whole,
        run=_tile,
        halo=_halo,
        refuses=_refuses,
        looks=lambda params: params.limits is None,
        look=_look,
        sums=_sums,
        told=_told,
        finish=_finish,
    ),
)
