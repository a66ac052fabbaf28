"""What of data lies inside or outside an area, exactly to its edge."""

from __future__ import annotations

import dataclasses
from functools import singledispatch
from typing import Any

import numpy as np

from vastgrid.base import late_shapely as shapely
from vastgrid.base.errors import CallError, DataError
from vastgrid.base.findings import Finding, count, note
from vastgrid.base.words import spaced
from vastgrid.data.areas import Areas, from_shapes
from vastgrid.data.dataset import Dataset, Flags, Floats
from vastgrid.data.grid import Grid
from vastgrid.data.linework import Contours, Linework
from vastgrid.data.pointset import PointSet
from vastgrid.data.tin import Tin
from vastgrid.terrain.lines.courses import parted_by
from vastgrid.terrain.tin.limits import cut_to, polygons_of

BLOCK = 1_000_000


@singledispatch
def clipped(data: Dataset, area: Any, inside: bool, findings: list[Finding]) -> Dataset:
    """Return what of a dataset lies inside or outside an area.

    Raises
    ------
    DataError
        If that is nothing.
    """
    raise CallError(f"{data.name} ({data.title}) cannot be clipped")


@clipped.register
def _tin(data: Tin, area: Any, inside: bool, findings: list[Finding]) -> Dataset:
    if not inside:
        low, high = data.vertices[:, :2].min(axis=0), data.vertices[:, :2].max(axis=0)
        room = 1.0 + float(np.ptp(data.vertices[:, :2]))
        area = shapely.box(*(low - room), *(high + room)).difference(area)
    made = cut_to(data, area)
    new = len(made.vertices) - int(np.isin(_complex(made.vertices), _complex(data.vertices)).sum())
    text = f"{count(len(made.triangles), 'triangle')} of {spaced(len(data.triangles))} are left; {count(new, 'vertex', 'vertices')} lie on the edge, each in the plane of its triangle."
    findings.append(note("clipped", text))
    # What it was built from reaches beyond, and would build another surface.
    return made.without_source()


def _complex(xyz: Floats) -> Any:
    return xyz[:, 0] + 1j * xyz[:, 1]


def _within(area: Any, east: Floats, north: Floats) -> Flags:
    shapely.prepare(area)
    out = np.zeros(len(east), np.bool_)
    for start in range(0, len(east), BLOCK):
        part = slice(start, start + BLOCK)
        # A place on the edge is inside.
        out[part] = shapely.intersects_xy(area, east[part], north[part])
    return out


@clipped.register
def _points(data: PointSet, area: Any, inside: bool, findings: list[Finding]) -> Dataset:
    keep = _within(area, np.asarray(data.xyz[:, 0]), np.asarray(data.xyz[:, 1]))
    keep = keep if inside else ~keep
    if not keep.any():
        raise DataError(f"no point of {data.name} lies {'inside' if inside else 'outside'} the closed lines")
    findings.append(note("clipped", f"{count(int(keep.sum()), 'point')} of {spaced(len(keep))} are left."))
    return data.chosen(keep)


@clipped.register
def _grid(data: Grid, area: Any, inside: bool, findings: list[Finding]) -> Dataset:
    east, north = np.meshgrid(data.eastings(), data.northings())
    keep = _within(area, east.ravel(), north.ravel()).reshape(data.heights.shape)
    keep = keep if inside else ~keep
    heights = np.where(keep, data.heights, np.nan)
    known = np.isfinite(heights)
    if not known.any():
        raise DataError(f"no cell of {data.name} lies {'inside' if inside else 'outside'} the closed lines")
    rows, columns = np.flatnonzero(known.any(axis=1)), np.flatnonzero(known.any(axis=0))
    top, left = int(rows[0]), int(columns[0])
    text = f"{count(int(known.sum()), 'cell')} of {spaced(int(np.isfinite(data.heights).sum()))} are left: those whose middle lies {'inside' if inside else 'outside'}."
    findings.append(note("clipped", text))
    return dataclasses.replace(
        data,
        heights=heights[top : int(rows[-1]) + 1, left : int(columns[-1]) + 1],
        west=data.west + left * data.dx,
        north=data.north - top * data.dy,
    )


@clipped.register
def _lines(data: Linework, area: Any, inside: bool, findings: list[Finding]) -> Dataset:
    vertices, offsets, source = parted_by(data.vertices, data.offsets, area, inside)
    _say_lines(len(offsets) - 1, len(np.unique(source)), len(data), data.name, inside, findings)
    attributes = {name: values[source] for name, values in data.attributes.items()}
    return dataclasses.replace(
        data, vertices=vertices, offsets=offsets, layer=data.layer[source], attributes=attributes
    )


@clipped.register
def _areas(data: Areas, area: Any, inside: bool, findings: list[Finding]) -> Dataset:
    shapes = data.shapes(plan=bool(data.without_heights().all()))
    touched = np.unique(shapely.STRtree(shapes).query(area, predicate="intersects"))
    cut = np.setdiff1d(touched, touched[shapely.covers(area, shapes[touched])]) if len(touched) else touched
    made = shapes.copy()
    side = shapely.intersection if inside else shapely.difference
    made[cut] = side(shapes[cut], area)
    stay = np.isin(np.arange(len(shapes)), touched)
    stay = stay if inside else ~stay | np.isin(np.arange(len(shapes)), cut)
    whole = np.array([shapely.MultiPolygon([one for one in polygons_of(each) if one.area]) for each in made], object)
    kept = np.flatnonzero(stay & ~shapely.is_empty(whole))
    if len(kept) == 0:
        raise DataError(f"no area of {data.name} lies {'inside' if inside else 'outside'} the closed lines")
    text = f"{count(len(kept), 'area')} of {spaced(len(data))} are left, {spaced(int(np.isin(kept, cut).sum()))} of them cut exactly at the edge."
    findings.append(note("clipped", text))
    return from_shapes(
        whole[kept],
        name=data.name,
        frame=data.frame,
        layer=data.layer[kept],
        layers=data.layers,
        attributes={name: values[kept] for name, values in data.attributes.items()},
    )


@clipped.register
def _contours(data: Contours, area: Any, inside: bool, findings: list[Finding]) -> Dataset:
    vertices, offsets, source = parted_by(data.coordinates(), data.offsets, area, inside)
    _say_lines(len(offsets) - 1, len(np.unique(source)), len(data), data.name, inside, findings)
    if data.labels:
        findings.append(note("labels-left", f"Labels of {data.name} do not go along; make them again."))
    return data.parts(vertices, offsets, source)


def _say_lines(number: int, of_lines: int, before: int, name: str, inside: bool, findings: list[Finding]) -> None:
    if number == 0:
        raise DataError(f"no line of {name} lies {'inside' if inside else 'outside'} the closed lines")
    text = f"{count(number, 'line')} of {count(of_lines, 'line')} (of {spaced(before)}) are left, ending exactly on the edge."
    findings.append(note("clipped", text))
