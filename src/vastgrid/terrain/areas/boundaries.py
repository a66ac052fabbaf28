"""Closed lines as areas with names: each counts for itself."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated, Any

import numpy as np

from vastgrid.base import late_shapely as shapely
from vastgrid.base.errors import CallError, DataError
from vastgrid.base.findings import Finding, count, note
from vastgrid.base.quantities import Unit, factor, unit_word
from vastgrid.base.words import instead, plain, shortly, spaced
from vastgrid.data.areas import Areas
from vastgrid.data.dataset import Dataset
from vastgrid.data.frame import need_lengths
from vastgrid.data.grid import Grid
from vastgrid.data.line_roles import BOUNDARY, VOID
from vastgrid.data.linework import Linework
from vastgrid.data.places import Area
from vastgrid.data.tin import Tin
from vastgrid.declarations.conversion import listed
from vastgrid.params.declare import Param
from vastgrid.terrain.tin.limits import closed_rings, polygons_of, ring_area
from vastgrid.terrain.tin.lines_for_tin import matches
from vastgrid.terrain.tin.surfaces import grid_tin

# A grid of so many cells takes about three gigabytes as triangles.
MOST_CELLS = 30_000_000
# Attributes in which files give lines a name, by any case.
_NAMES = ("name", "title", "label", "layer")


# What every conversion says that counts inside closed lines.
ClosedLines = Annotated[
    str,
    Param(
        "Boundaries",
        "Names or layers of the closed lines that count, separated by commas; * and ? as in names of files.",
        absent="all closed lines",
        once=True,
    ),
]
DrawnArea = Annotated[
    Area | None,
    Param("Area", "An area that was drawn or typed, beside closed lines or instead of them.", absent="none"),
]


@dataclass(frozen=True, slots=True)
class NamedArea:
    """A name, and a GEOS polygon or several."""

    name: str
    area: Any


def named_areas(
    lines: Sequence[Dataset], findings: list[Finding], drawn: Area | None = None, wanted: str = ""
) -> list[NamedArea]:
    """Return areas, and closed lines as areas, each for itself; voids are taken out of those around them.

    A line inside another of the same name is a hole in it, and one inside a hole is an area again, as in polygons of maps. A line is called by its own name where it has one, otherwise by its layer, otherwise by what holds it.

    Parameters
    ----------
    wanted : str
        Names and layers of the lines that count, separated by commas, with * and ? as in names of files; empty for all.

    Raises
    ------
    CallError
        If lines are given and none is closed, or none has a name that is wanted.
    DataError
        If one of them cannot be used.
    """
    found: list[NamedArea] = []
    known: list[str] = []
    voids = []
    whole: list[NamedArea] = []
    for each in lines:
        if isinstance(each, Areas):
            named = names_of(each)
            known += named
            own = each.shapes()
            whole += [
                NamedArea(name, own[k])
                for k, name in enumerate(named)
                if not wanted or matches(name, wanted) or matches(_layer(each, k), wanted)
            ]
            continue
        assert isinstance(each, Linework)
        names, roles = names_of(each), _texts(each, BOUNDARY)
        known += names
        meant = [
            k for k, name in enumerate(names) if not wanted or matches(name, wanted) or matches(_layer(each, k), wanted)
        ]
        chosen = each.chosen(np.array(meant, np.int64)) if len(meant) < len(each) else each
        closed = [meant[k] for k in np.flatnonzero(chosen.closed()).tolist()]
        for k, ring in zip(closed, closed_rings(chosen, findings), strict=True):
            area = ring_area(ring, names[k], findings, each.frame.horizontal)
            if roles is not None and roles[k] == VOID:
                voids.append(area)
            else:
                found.append(NamedArea(names[k], area))
    if drawn is not None:
        found.append(NamedArea(drawn.name or "Area", shapely.Polygon(drawn.corners)))
    if not (found or whole) and wanted:
        raise CallError(
            f"boundaries={shortly(wanted)}: there is no closed line of such a name; {instead(wanted, known)}"
        )
    if not (found or whole):
        raise CallError("there is no closed line: an area needs one that ends where it begins")
    made = []
    counted: dict[str, int] = {}
    for one in (*whole, *_with_holes(found, findings)):
        area = one.area
        for void in voids:
            area = shapely.difference(area, void)
        counted[one.name] = counted.get(one.name, 0) + 1
        name = one.name if counted[one.name] == 1 else f"{one.name} ({counted[one.name]})"
        made.append(NamedArea(name, shapely.MultiPolygon(polygons_of(area))))
    for k, one in enumerate(made):
        for other in made[k + 1 :]:
            if shapely.intersection(one.area, other.area).area > 1e-9 * min(one.area.area, other.area.area):
                text = f"{one.name} and {other.name} overlap: what lies in both counts in each of their rows, and once in all."
                findings.append(note("areas-overlap", text))
    return made


def _with_holes(found: Sequence[NamedArea], findings: list[Finding]) -> list[NamedArea]:
    """Return areas in their order, those inside another of the same name taken out of it."""
    around: dict[int, int] = {}
    depth: dict[int, int] = {}
    for k in sorted(range(len(found)), key=lambda k: -found[k].area.area):
        holding = [j for j in depth if found[j].name == found[k].name and found[j].area.covers(found[k].area)]
        depth[k] = len(holding)
        if holding:
            around[k] = min(holding, key=lambda j: found[j].area.area)
    areas = {k: own.area for k, own in enumerate(found) if depth[k] % 2 == 0}
    for k, holder in around.items():
        if depth[k] % 2:
            areas[holder] = shapely.difference(areas[holder], found[k].area)
    holes = sum(each % 2 for each in depth.values())
    if holes:
        names = listed(list(dict.fromkeys(found[k].name for k in depth if depth[k] % 2)))
        findings.append(
            note(
                "holes",
                f"{count(holes, 'line')} inside another of the same name ({names}) {'is a hole' if holes == 1 else 'are holes'} in it.",
            )
        )
    return [NamedArea(found[k].name, areas[k]) for k in sorted(areas)]


def names_of(lines: Linework | Areas) -> list[str]:
    """Return what each line or area is called: its own name, otherwise its layer, otherwise what holds it."""
    said = {name.lower(): name for name in lines.attributes}
    own = next((_texts(lines, said[name]) for name in _NAMES if name in said), None)
    layers = [lines.layers[k] for k in lines.layer.tolist()]
    return [
        (own[k] if own is not None else "") or layers[k] or lines.name or f"Line {k + 1}" for k in range(len(lines))
    ]


def _layer(lines: Linework | Areas, k: int) -> str:
    return str(lines.layers[lines.layer[k]])


def _texts(lines: Linework | Areas, name: str) -> list[str] | None:
    values = lines.attributes.get(name)
    if values is None:
        return None
    return [plain(each) for each in values.tolist()]


def whole_of(areas: Sequence[NamedArea]) -> Any:
    """Return all areas together."""
    return shapely.union_all([each.area for each in areas])


def as_tin(surface: Dataset, like: Dataset | None = None) -> Tin:
    """Return a surface as a TIN: a grid by two triangles between the centres of four cells.

    Parameters
    ----------
    like : Dataset or None
        A grid whose cells decide along which diagonal cells at the same place are split.

    Raises
    ------
    CallError
        If a grid has more cells than can be taken as triangles.
    """
    if isinstance(surface, Grid):
        cells = surface.rows * surface.columns
        if cells > MOST_CELLS:
            raise CallError(
                f"{surface.name} has {spaced(cells)} cells; as triangles at most {spaced(MOST_CELLS)} can be counted. Clip it, or "
                "make its cells larger first (cells)"
            )
        return grid_tin(surface, like if isinstance(like, Grid) else None)
    assert isinstance(surface, Tin)
    return surface


def beyond_centres(surfaces: Sequence[Dataset]) -> list[Finding]:
    """Say that the ground of a grid ends at the centres of its outer cells: half a cell all round is not counted."""
    found = []
    for each in surfaces:
        if isinstance(each, Grid):
            unit = unit_word(each.frame.horizontal)
            text = f"{each.name} is counted between the centres of its cells: the outer half cell ({each.dx / 2:g} × {each.dy / 2:g}{unit}) along its edge is not counted."
            found.append(note("half-cell", text))
    return found


def for_volumes(surface: Dataset, like: Dataset | None = None) -> Tin:
    """Return a surface as a TIN whose heights are in the unit of plan, so that volumes are of one unit; see `as_tin`.

    Raises
    ------
    CallError
        If it is in degrees, or one of its two units is known and the other is not.
    DataError
        If it is empty.
    """
    frame = surface.frame
    need_lengths(surface.name, frame, "volumes need")
    if (frame.horizontal is None) is not (frame.vertical is None):
        what, option = ("height", "--from-vertical-units") if frame.vertical is None else ("plan", "--from-units")
        raise CallError(f"the {what} unit of {surface.name} is unknown, and volumes need both; say it with {option}")
    tin = as_tin(surface, like)
    if len(tin.triangles) == 0:
        raise DataError(f"{surface.name} has no triangles")
    if frame.horizontal is None or frame.vertical is None or frame.horizontal is frame.vertical:
        return tin
    vertices = tin.vertices.copy()
    vertices[:, 2] *= factor(frame.vertical, frame.horizontal)
    return Tin(name=tin.name, frame=frame, vertices=vertices, triangles=tin.triangles, neighbours=tin.neighbours)


def cubic(unit: Unit | None) -> str:
    """Return “m³”, or nothing."""
    return f"{unit.value}³" if unit else ""
