"""Datasets moved, turned and scaled in plan, and their heights changed: the same motion for every kind of data."""

from __future__ import annotations

import dataclasses
import math
from collections.abc import Callable
from dataclasses import dataclass
from functools import singledispatch

import numpy as np

from vastgrid.base.errors import CallError, DataError
from vastgrid.base.findings import Finding, count
from vastgrid.data.dataset import Dataset, Floats
from vastgrid.data.grid import Grid
from vastgrid.data.linework import Contours
from vastgrid.data.loss import Loss
from vastgrid.kernels.cells.raster import bilinear
from vastgrid.measures.fitting import UNMOVED, Fit
from vastgrid.terrain.place.mapping import mapped


@dataclass(frozen=True, slots=True)
class Motion:
    """A motion in plan and of heights.

    About a place, plan coordinates are scaled and turned counter-clockwise; then everything is shifted:
    (x', y') = about + scale · R(turn) · ((x, y) − about) + shift, z' = z · times + up.

    Attributes
    ----------
    shift : (float, float)
        East and north, in the unit of plan.
    turn : float
        Degrees, counter-clockwise.
    scale : float
        Of plan lengths, above 0.
    about : (float, float)
        What stays where it is while turning and scaling.
    up, times : float
        What is added to heights that were multiplied first.
    lift : callable or None
        Places, (n, 3) → what is added to their heights beside that; NaN where it is not known.
    """

    shift: tuple[float, float] = (0.0, 0.0)
    turn: float = 0.0
    scale: float = 1.0
    about: tuple[float, float] = (0.0, 0.0)
    up: float = 0.0
    times: float = 1.0
    lift: Callable[[Floats], Floats] | None = None

    @property
    def stays(self) -> bool:
        """Whether the plan is only shifted."""
        return self.turn % 360.0 == 0.0 and self.scale == 1.0

    def matrix(self) -> tuple[float, float]:
        """Return the scaled cosine and sine of the turn, exact for quarters of a circle."""
        quarters = {0.0: (1.0, 0.0), 90.0: (0.0, 1.0), 180.0: (-1.0, 0.0), 270.0: (0.0, -1.0)}
        angle = self.turn % 360.0
        cosine, sine = quarters.get(angle, (math.cos(math.radians(angle)), math.sin(math.radians(angle))))
        return self.scale * cosine, self.scale * sine

    def plan(self, xy: Floats) -> Floats:
        """Return places in plan, (n, 2), moved."""
        if self.stays:
            return xy + self.shift
        cosine, sine = self.matrix()
        away = xy - self.about
        turned = np.column_stack((away[:, 0] * cosine - away[:, 1] * sine, away[:, 0] * sine + away[:, 1] * cosine))
        return turned + self.about + self.shift

    @property
    def level(self) -> bool:
        """Whether heights change alike everywhere."""
        return self.lift is None

    @property
    def quarters(self) -> int | None:
        """By how many quarters of a circle it turns, 0 to 3; None where cells of a grid come to lie askew."""
        quarters = self.turn / 90.0
        return round(quarters) % 4 if quarters == round(quarters) else None

    def back(self, xy: Floats, heights: Callable[[Floats], Floats] | None = None) -> Floats:
        """Return where places in plan, (n, 2), came from; heights tell that where they move the plan."""
        if self.stays:
            return xy - self.shift
        cosine, sine = self.matrix()
        size = cosine * cosine + sine * sine
        away = xy - self.about - self.shift
        turned = np.column_stack((away[:, 0] * cosine + away[:, 1] * sine, away[:, 1] * cosine - away[:, 0] * sine))
        return turned / size + self.about

    def heights(self, xyz: Floats) -> Floats:
        """Return the heights of places, (n, 3), changed; a place without a height stays without."""
        z = xyz[:, 2]
        if self.times != 1.0:
            z = z * self.times
        if self.up:
            z = z + self.up
        if self.lift is not None and len(xyz):
            z = z + self._lifted(xyz)
        return z

    def _lifted(self, xyz: Floats) -> Floats:
        assert self.lift is not None
        known = ~np.isnan(xyz[:, 2])
        more = np.zeros(len(xyz))
        more[known] = self.lift(xyz[known])
        lost = int(np.isnan(more).sum())
        if lost:
            raise DataError(f"{count(lost, 'place')} of {len(xyz)} lie outside the geoid grid; clip them off first")
        return more

    def places(self, xyz: Floats) -> Floats:
        """Return places, (n, 3), moved."""
        return np.column_stack((self.plan(xyz[:, :2]), self.heights(xyz)))


@dataclass(frozen=True, slots=True)
class Fitted(Motion):
    """A motion that was fitted to points."""

    fit: Fit = UNMOVED

    @staticmethod
    def by(fit: Fit) -> Fitted:
        """Return the motion of a fit."""
        own = fit.matrix
        east, north, up = (goal - middle for goal, middle in zip(fit.goal, fit.middle, strict=True))
        return Fitted((east, north), fit.rotation, fit.scale, fit.middle[:2], up, own[2][2], None, fit)

    @property
    def stays(self) -> bool:
        """Whether the plan is only shifted."""
        own = self.fit.matrix
        return own[0] == (1.0, 0.0, 0.0) and own[1] == (0.0, 1.0, 0.0)

    @property
    def level(self) -> bool:
        """Whether heights change alike everywhere."""
        return self.fit.matrix[2][:2] == (0.0, 0.0) and not self.fit.model.solid

    @property
    def quarters(self) -> int | None:
        """0 where it only shifts; cells lie askew otherwise."""
        return 0 if self.stays else None

    def plan(self, xy: Floats) -> Floats:
        """Return places in plan, (n, 2), at the height of the middle, moved."""
        return self.fit.places(np.column_stack((xy, np.full(len(xy), self.fit.middle[2]))))[:, :2]

    def back(self, xy: Floats, heights: Callable[[Floats], Floats] | None = None) -> Floats:
        """Return where places in plan, (n, 2), came from; in space heights of the old places say how far they moved."""
        matrix = np.array(self.fit.matrix)[:2, :2]
        inverse = np.linalg.inv(matrix)
        here: Floats = (xy - np.array(self.fit.goal[:2])) @ inverse.T + np.array(self.fit.middle[:2])
        if not self.fit.model.solid or heights is None:
            return here
        # Tilts are small, so that each turn leaves a small part of what was missing.
        for _ in range(4):
            away = xy - self.fit.places(np.column_stack((here, heights(here))))[:, :2]
            here = here + away @ inverse.T
        return here

    def heights(self, xyz: Floats) -> Floats:
        """Return the heights of places, (n, 3), changed."""
        return self.fit.places(xyz)[:, 2]

    def places(self, xyz: Floats) -> Floats:
        """Return places, (n, 3), moved."""
        return self.fit.places(xyz)


def moved(dataset: Dataset, motion: Motion) -> tuple[Dataset, tuple[Finding, ...], Loss | None]:
    """Return a dataset moved, what is to be known of that, and what it cost where a grid had to be sampled anew.

    Raises
    ------
    CallError
        If this kind cannot be moved so.
    DataError
        If a place has no counterpart.
    """
    findings: list[Finding] = []
    losses: list[Loss] = []
    made = _moved(dataset, motion, findings, losses)
    return made, tuple(findings), losses[0] if losses else None


@singledispatch
def _moved(data: Dataset, motion: Motion, findings: list[Finding], losses: list[Loss]) -> Dataset:
    return mapped(data, motion.places, findings)


@_moved.register
def _contours(contours: Contours, motion: Motion, findings: list[Finding], losses: list[Loss]) -> Dataset:
    if not motion.level:
        raise CallError(
            f"a contour has one height, and its places would get different ones: take the surface that {contours.name} are "
            "of, and make them again"
        )

    def raised(levels: Floats) -> Floats:
        none = np.zeros(len(levels))
        return motion.heights(np.column_stack((none, none, levels)))

    labels = dict(contours.labels)
    if labels:
        for name in ("along", "wide", "gap"):
            labels[name] = labels[name] * motion.scale
        labels["place"] = motion.plan(labels["place"])
        labels["angle"] = labels["angle"] + math.radians(motion.turn)
        labels["level"] = raised(labels["level"])
    return dataclasses.replace(
        contours,
        plan=motion.plan(contours.plan),
        levels=raised(contours.levels),
        interval=contours.interval * motion.times,
        labels=labels,
        label_height=contours.label_height * motion.scale,
    )


@_moved.register
def _grid(grid: Grid, motion: Motion, findings: list[Finding], losses: list[Loss]) -> Dataset:
    if motion.quarters is not None:
        return _turned_by_quarters(_grid_heights(grid, motion), motion, motion.quarters)
    return _sampled(grid, motion, findings, losses)


def _grid_heights(grid: Grid, motion: Motion) -> Grid:
    """Return a grid with other heights in the same cells."""
    if motion.level and motion.times == 1.0 and motion.up == 0.0:
        return grid
    heights = np.zeros_like(grid.heights)
    eastings = grid.eastings()
    for row, northing in enumerate(grid.northings().tolist()):
        xyz = np.column_stack((eastings, np.full(grid.columns, northing), grid.heights[row]))
        heights[row] = motion.heights(xyz)
    return dataclasses.replace(grid, heights=heights)


def _turned_by_quarters(grid: Grid, motion: Motion, quarters: int) -> Grid:
    """Return a grid on the very cells that it had, turned: no height is sampled."""
    heights = np.rot90(grid.heights, quarters) if quarters else grid.heights
    dx, dy = (grid.dy, grid.dx) if quarters % 2 else (grid.dx, grid.dy)
    east, south = grid.west + grid.columns * grid.dx, grid.north - grid.rows * grid.dy
    if motion.stays:
        # Shifted alone, the corner takes the shift and nothing else.
        return dataclasses.replace(grid, west=grid.west + motion.shift[0], north=grid.north + motion.shift[1])
    corners = motion.plan(np.array([(grid.west, grid.north), (east, grid.north), (east, south), (grid.west, south)]))
    return dataclasses.replace(
        grid,
        heights=np.ascontiguousarray(heights),
        west=float(corners[:, 0].min()),
        north=float(corners[:, 1].max()),
        dx=dx * motion.scale,
        dy=dy * motion.scale,
    )


def _sampled(grid: Grid, motion: Motion, findings: list[Finding], losses: list[Loss]) -> Grid:
    """Return a grid on new cells of the same size, sampled (bilinear) from the one that is turned."""
    changed = _grid_heights(grid, motion)
    east, south = grid.west + grid.columns * grid.dx, grid.north - grid.rows * grid.dy
    corners = motion.plan(np.array([(grid.west, grid.north), (east, grid.north), (east, south), (grid.west, south)]))
    dx, dy = grid.dx * motion.scale, grid.dy * motion.scale

    def at(heights: Floats, xy: Floats) -> Floats:
        place = (xy[:, 0] - grid.west) / grid.dx - 0.5, (grid.north - xy[:, 1]) / grid.dy - 0.5
        return np.asarray(bilinear(heights, *place), np.float64)

    west, north = math.floor(corners[:, 0].min() / dx) * dx, math.ceil(corners[:, 1].max() / dy) * dy
    columns = max(math.ceil((corners[:, 0].max() - west) / dx), 1)
    rows = max(math.ceil((north - corners[:, 1].min()) / dy), 1)
    heights = np.zeros((rows, columns))
    eastings = west + (np.arange(columns) + 0.5) * dx
    for row in range(rows):
        there = np.column_stack((eastings, np.full(columns, north - (row + 0.5) * dy)))
        here = motion.back(there, lambda xy: at(grid.heights, xy))
        heights[row] = at(changed.heights, here)
    made = dataclasses.replace(grid, heights=heights, west=west, north=north, dx=dx, dy=dy)
    text = "The cells of a turned grid lie elsewhere: heights were sampled anew (bilinear), which rounds them."
    findings.append(Finding("grid-sampled", text))
    loss = _sampling_loss(grid, changed, made, motion)
    if loss is not None:
        losses.append(loss)
    return made


def _sampling_loss(grid: Grid, changed: Grid, made: Grid, motion: Motion) -> Loss | None:
    """Return how far the new grid lies from the old one's changed heights at their moved places."""
    x, y = np.meshgrid(grid.eastings(), grid.northings())
    there = motion.places(np.column_stack((x.ravel(), y.ravel(), grid.heights.ravel())))
    column, line = (there[:, 0] - made.west) / made.dx - 0.5, (made.north - there[:, 1]) / made.dy - 0.5
    gaps = bilinear(made.heights, column, line) - changed.heights.ravel()
    known = np.flatnonzero(np.isfinite(gaps))
    wanted = int(np.isfinite(grid.heights).sum())
    if not len(known):
        return None
    size = np.abs(gaps[known])
    worst = known[int(size.argmax())]
    return Loss(
        largest=float(size.max()),
        rmse=float(np.sqrt(np.mean(gaps[known] ** 2))),
        mean=float(gaps[known].mean()),
        p95=float(np.quantile(size, 0.95)),
        at=(float(there[worst, 0]), float(there[worst, 1])),
        area=len(known) * made.dx * made.dy,
        share=len(known) / max(wanted, 1),
        unit=grid.frame.vertical,
        plan_unit=grid.frame.horizontal,
    )
