"""Bringing datasets into another coordinate reference system, by pyproj; heights only where that can be done rightly."""

from __future__ import annotations

import dataclasses
import math
import warnings
from dataclasses import dataclass
from functools import lru_cache, singledispatch
from typing import Any

import numpy as np

from vastgrid.base.disk_arrays import large_array
from vastgrid.base.errors import CallError, DataError
from vastgrid.base.findings import Finding, Severity, count, note
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Unit, factor, unit_word
from vastgrid.data.dataset import Dataset, Floats
from vastgrid.data.frame import Frame, crs_name, frame_of_crs, frame_said
from vastgrid.data.grid import Grid
from vastgrid.data.linework import Contours
from vastgrid.data.outline import Box, CellOutline, Window
from vastgrid.kernels.cells.raster import bilinear
from vastgrid.terrain.place.mapping import mapped

WGS84 = "EPSG:4326"


@dataclass(frozen=True)
class Passage:
    """The way from one reference system to another.

    Attributes
    ----------
    plan : pyproj.Transformer
        Easting and northing (longitude and latitude) of one to those of the other.
    space : pyproj.Transformer or None
        With heights; None where heights keep their reference.
    target : Frame
        The frame that is reached.
    findings : tuple of Finding
        How exact it is, and what happens to heights.
    """

    plan: Any
    space: Any
    target: Frame
    findings: tuple[Finding, ...]


@lru_cache(maxsize=32)
def passage(source: Frame, wanted: str) -> Passage:
    """Return the way from a frame into a reference system.

    Raises
    ------
    CallError
        If either is unknown or cannot be used, or no exact enough way is known (never a guess in PROJ's sense).
    DataError
        If heights would change reference and the grid that this needs is not installed.
    """
    import pyproj
    from pyproj.transformer import TransformerGroup

    if source.crs is None:
        raise CallError(
            "the coordinate reference system of the data is unknown, so it cannot be reprojected; say in which it is "
            "first: --via system crs=EPSG:…"
        )
    target = frame_said(wanted)
    goal = pyproj.CRS.from_user_input(wanted)
    if goal.is_geocentric:
        raise CallError(
            f"{goal.name} is geocentric; choose a system with easting and northing, or longitude and latitude"
        )
    origin = pyproj.CRS.from_user_input(source.crs)
    flat, flat_goal = _flat(origin), _flat(goal)
    findings: list[Finding] = []
    try:
        with warnings.catch_warnings():
            # What is missing is said by us, as a finding.
            warnings.simplefilter("ignore", UserWarning)
            plan = pyproj.Transformer.from_crs(flat, flat_goal, always_xy=True, allow_ballpark=False)
            group = TransformerGroup(flat, flat_goal, always_xy=True, allow_ballpark=False)
    except pyproj.exceptions.ProjError as error:
        raise CallError(
            f"no way is known from {flat.name} to {flat_goal.name}; where that is not what the data is in, say what it is: "
            "--via system crs=EPSG:… instead=yes"
        ) from error
    if not group.best_available and group.unavailable_operations:
        missing = sorted(
            {grid.short_name for way in group.unavailable_operations for grid in way.grids if not grid.available}
        )
        text = (
            f"A better way from {flat.name} to {flat_goal.name} needs {', '.join(missing[:4])}, which is not installed."
        )
        findings.append(Finding("grid-missing", text, Severity.WARNING))
    accuracy = getattr(plan, "accuracy", -1.0)
    if accuracy is not None and accuracy > 0.1:
        findings.append(Finding("accuracy", f"The way is exact to about {accuracy:g} m in plan, says its publisher."))
    space, heights = _heights(origin, goal, findings)
    if heights is None:
        heights = source.vertical
    return Passage(plan, space, Frame(target.crs, target.horizontal, heights), tuple(findings))


def _flat(crs: Any) -> Any:
    flat = crs.sub_crs_list[0] if crs.is_compound else crs
    if flat.is_bound:
        flat = flat.source_crs
    return flat.to_2d()


def _vertical(crs: Any) -> Any:
    return crs.sub_crs_list[1] if crs.is_compound and len(crs.sub_crs_list) > 1 else None


def _heights(origin: Any, goal: Any, findings: list[Finding]) -> tuple[Any, Unit | None]:
    """Return a transformer that changes the heights' reference too, and the unit they get; none where they stay."""
    import pyproj
    from pyproj.transformer import TransformerGroup

    here, there = _vertical(origin), _vertical(goal)
    # Ellipsoidal heights have no vertical system of their own, only a third axis.
    own = here is not None or len(origin.axis_info) == 3
    wanted = there is not None or len(goal.axis_info) == 3
    if not (own and wanted) or (here is not None and there is not None and here.equals(there)):
        if wanted and not own:
            text = "The data does not say what its heights refer to; they were left as they are."
            findings.append(Finding("heights-kept", text))
        elif own and not wanted:
            findings.append(note("heights-kept", "Heights keep their reference; only the plan was reprojected."))
        return None, None
    try:
        space = pyproj.Transformer.from_crs(origin, goal, always_xy=True, allow_ballpark=False, only_best=True)
        # The error for a missing grid may come only with the first point.
        area = goal.area_of_use
        probe = (0.5 * (area.west + area.east), 0.5 * (area.south + area.north)) if area else (0.0, 0.0)
        there_xy = pyproj.Transformer.from_crs("EPSG:4326", _flat(origin), always_xy=True).transform(*probe)
        if not all(map(math.isfinite, space.transform(*there_xy, 0.0, errcheck=False))):
            raise pyproj.exceptions.ProjError("the grid is not installed")
    except pyproj.exceptions.ProjError as error:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", UserWarning)
            group = TransformerGroup(origin, goal, always_xy=True, allow_ballpark=False)
        missing = sorted({g.short_name for way in group.unavailable_operations for g in way.grids if not g.available})
        need = f"; it needs {', '.join(missing[:4])}" if missing else ""
        raise DataError(
            f"heights cannot be brought from {origin.name} to {goal.name}: the grid between them is not installed{need}. "
            "Choose a target without a height system to reproject the plan only"
        ) from error
    return space, frame_of_crs(goal.to_wkt()).vertical


def reprojected(dataset: Dataset, wanted: str, progress: Progress) -> tuple[Dataset, tuple[Finding, ...]]:
    """Return a dataset in another reference system; grids are sampled anew, everything else moves vertex by vertex.

    Raises
    ------
    CallError, DataError
        See `passage`; and if a place has no counterpart there.
    """
    way = passage(dataset.frame, wanted)
    findings = list(way.findings)
    moved = _brought(dataset, way, progress, findings)
    progress.report(1.0)
    return moved, tuple(findings)


@singledispatch
def _brought(dataset: Dataset, way: Passage, progress: Progress, findings: list[Finding]) -> Dataset:
    made = mapped(dataset, lambda xyz: _moved(xyz, way, dataset.name, progress), findings)
    return made.in_frame(way.target)


@_brought.register
def _grid_brought(grid: Grid, way: Passage, progress: Progress, findings: list[Finding]) -> Dataset:
    return _grid(grid, way, progress, findings)


@_brought.register
def _contours_brought(contours: Contours, way: Passage, progress: Progress, findings: list[Finding]) -> Dataset:
    xyz = _moved(contours.coordinates(), way, contours.name, progress)
    if contours.labels:
        findings.append(note("labels-left", f"Labels of {contours.name} do not go along; make them again there."))
    return dataclasses.replace(contours, plan=xyz[:, :2], labels={}, frame=way.target)


def _moved(xyz: Floats, way: Passage, name: str, progress: Progress) -> Floats:
    out = large_array(xyz.shape, np.float64)
    for start in range(0, len(xyz), 1_000_000):
        part = xyz[start : start + 1_000_000]
        own = out[start : start + len(part)]
        if way.space is None:
            own[:, 0], own[:, 1] = way.plan.transform(part[:, 0], part[:, 1])
            own[:, 2] = part[:, 2]
        else:
            z = np.where(np.isnan(part[:, 2]), 0.0, part[:, 2])
            own[:, 0], own[:, 1], own[:, 2] = way.space.transform(part[:, 0], part[:, 1], z)
            own[np.isnan(part[:, 2]), 2] = np.nan
        lost = int((~np.isfinite(own[:, :2]).all(axis=1)).sum())
        if lost:
            raise DataError(
                f"{count(lost, 'place')} of {name} without a counterpart in {crs_name(way.target.crs)}; is its CRS right?"
            )
        progress.report(0.9 * (start + len(part)) / len(xyz), "reprojecting")
    return out


def _grid(grid: Grid, way: Passage, progress: Progress, findings: list[Finding]) -> Grid:
    goal = cells_there(CellOutline.of(grid), way)
    findings.append(sampled_said(goal))
    return grid_there(grid, CellOutline.of(grid), goal, Window(0, 0, goal.rows, goal.columns), way, progress)


def sampled_said(goal: CellOutline) -> Finding:
    """Return the finding that a grid's heights are new ones."""
    unit = unit_word(goal.frame.horizontal)
    text = f"Heights were sampled anew (bilinear) on a grid of {goal.dx:g}{unit}, which rounds them."
    return Finding("grid-sampled", text)


def cells_there(whole: CellOutline, way: Passage) -> CellOutline:
    """Return the lattice on which a grid lies in another reference system: about as many square cells, on whole multiples.

    Raises
    ------
    DataError
        If heights would change their reference, or the rim of the grid has no counterpart there.
    """
    if way.space is not None:
        raise DataError("the heights of a grid cannot change their reference here; make points of it first")
    box = rim_there(whole.name, whole.box(), way)
    size = float(f"{math.sqrt((box.east - box.west) * (box.north - box.south) / (whole.rows * whole.columns)):.3g}")
    left, top = math.floor(box.west / size) * size, math.ceil(box.north / size) * size
    rows, columns = max(math.ceil((top - box.south) / size), 1), max(math.ceil((box.east - left) / size), 1)
    return CellOutline(whole.name, way.target, left, top, size, size, rows, columns)


def rim_there(name: str, box: Box, way: Passage) -> Box:
    """Return the box, in the system that is reached, around the rim of a box.

    Raises
    ------
    DataError
        If some of the rim has no counterpart there.
    """
    x, y = _rim(box)
    tx, ty = way.plan.transform(x, y)
    if not (np.isfinite(tx).all() and np.isfinite(ty).all()):
        raise DataError(f"the rim of {name} has no counterpart in {crs_name(way.target.crs)}; is its CRS right?")
    return Box(float(tx.min()), float(ty.min()), float(tx.max()), float(ty.max()))


def _rim(box: Box) -> tuple[Floats, Floats]:
    steps = np.linspace(0.0, 1.0, 65)
    along, up = box.west + steps * (box.east - box.west), box.south + steps * (box.north - box.south)
    x = np.concatenate([along, along, np.full(65, box.west), np.full(65, box.east)])
    y = np.concatenate([np.full(65, box.south), np.full(65, box.north), up, up])
    return x, y


def ground_before(box: Box, whole: Box, way: Passage) -> Box:
    """Return the ground from which what lies in a box was brought: all of it where that cannot be told.

    The rim of the box is followed at 65 places a side; a hundredth more is taken, for what bends between them.
    """
    x, y = way.plan.transform(*_rim(box), direction="INVERSE")
    if not (np.isfinite(x).all() and np.isfinite(y).all()):
        return whole
    west, south, east, north = float(x.min()), float(y.min()), float(x.max()), float(y.max())
    return Box(west, south, east, north).grown(0.01 * max(east - west, north - south))


def grid_there(
    part: Grid, whole: CellOutline, goal: CellOutline, window: Window, way: Passage, progress: Progress
) -> Grid:
    """Return some of the cells of a goal's lattice, sampled (bilinear) from the part of a grid that lies there.

    Parameters
    ----------
    part : Grid
        On the lattice of `whole`, in whose terms places are worked out: so that parts give the same as all of it.
    """
    place = whole.place_of(part)
    heights = large_array((window.rows, window.columns), np.float64, np.nan)
    eastings = goal.west + (window.left + np.arange(window.columns) + 0.5) * goal.dx
    for row in range(window.rows):
        northing = goal.north - (window.top + row + 0.5) * goal.dy
        sx, sy = way.plan.transform(eastings, np.full(window.columns, northing), direction="INVERSE")
        column, line = (np.asarray(sx) - whole.west) / whole.dx - 0.5, (whole.north - np.asarray(sy)) / whole.dy - 0.5
        heights[row] = bilinear(part.heights, column - place.left, line - place.top)
        if row % 64 == 0:
            progress.report(0.95 * row / window.rows, "reprojecting")
    return goal.grid(window, heights)


def geographic(dataset: Dataset, progress: Progress) -> tuple[Dataset, tuple[Finding, ...]]:
    """Return a dataset in longitude and latitude of WGS 84, heights in metres: what GPX and KML hold.

    Raises
    ------
    CallError
        If its reference system is unknown, or the unit of its heights where it has any.
    """
    known = dataset.frame.vertical
    if known is None and dataset.extent().elevation is not None:
        raise CallError(
            f"the height unit of {dataset.name} is unknown, and the file holds metres; say it with --from-vertical-units (m, ft, us-ft)"
        )
    moved, findings = reprojected(dataset, WGS84, progress)
    ratio = factor(known, Unit.METRE) if known is not None else 1.0
    frame = Frame(moved.frame.crs, Unit.DEGREE, Unit.METRE)
    return moved.with_coordinates(1.0, ratio, frame), findings


def utm_zone(east: float, north: float) -> str:
    """Return the UTM zone (WGS 84) that a longitude and latitude lie in, as an EPSG code."""
    zone = min(max(int((east + 180.0) // 6.0) + 1, 1), 60)
    return f"EPSG:{(32600 if north >= 0 else 32700) + zone}"
