"""Least squares from local coordinates onto known points: shift, similarity, affine, and similarity in space.

Sources: closed forms of the plane similarity (Ghilani and Wolf, “Elementary Surveying”, two-dimensional conformal coordinate
transformation) and of the spatial one (Umeyama 1991, “Least-squares estimation of transformation parameters between two point
patterns”); points far from the rest by externally studentised residuals, the fit made without the point in question
(Belsley, Kuh and Welsch 1980, “Regression Diagnostics”; from memory).
"""

from __future__ import annotations

import dataclasses
import math
from dataclasses import dataclass
from enum import Enum
from typing import Any

import numpy as np

from vastgrid.base.errors import DataError
from vastgrid.data.dataset import Flags, Floats, fixed
from vastgrid.kernels.cells.affine import through


class Model(Enum):
    """Which plane or spatial transformation."""

    SHIFT = "shift"
    HELMERT = "helmert"
    HELMERT_FIXED = "helmert_fixed"
    AFFINE = "affine"
    HELMERT_3D = "helmert_3d"

    @property
    def parameters(self) -> int:
        """How many parameters its plan has; of the spatial one all."""
        return {"shift": 2, "helmert": 4, "helmert_fixed": 3, "affine": 6, "helmert_3d": 7}[self.value]

    @property
    def least(self) -> int:
        """How many points it needs."""
        return {"shift": 1, "helmert": 2, "helmert_fixed": 2, "affine": 3, "helmert_3d": 3}[self.value]

    @property
    def solid(self) -> bool:
        """Whether it turns in space and settles heights itself."""
        return self is Model.HELMERT_3D


class Heights(Enum):
    """How heights are brought along."""

    SHIFT = "shift"
    PLANE = "plane"
    NONE = "none"

    @property
    def parameters(self) -> int:
        """How many parameters it has."""
        return {"shift": 1, "plane": 3, "none": 0}[self.value]


@dataclass(frozen=True, slots=True)
class Fit:
    """A transformation: p' = goal + matrix · (p − middle), in plan or in space.

    Attributes
    ----------
    model : Model
    heights : Heights
    middle, goal : (float, float, float)
        The centre of the local points, and where it goes.
    matrix : tuple of three rows
        Turn, scale and shear; the last row is what is added to heights along east and north, and 1.
    """

    model: Model
    heights: Heights
    middle: tuple[float, float, float]
    goal: tuple[float, float, float]
    matrix: tuple[tuple[float, float, float], ...]

    @property
    def scale(self) -> float:
        """Of lengths; of an affine transformation the root of how areas grow."""
        own = np.array(self.matrix)
        if self.model.solid:
            return float(np.cbrt(abs(np.linalg.det(own))))
        return math.sqrt(abs(float(np.linalg.det(own[:2, :2]))))

    @property
    def rotation(self) -> float:
        """Degrees in plan, local onto grid, counter-clockwise."""
        (a, b, _), (c, d, _) = self.matrix[:2]
        return math.degrees(math.atan2(c - b, a + d))

    @property
    def mirrored(self) -> bool:
        """Whether it turns the plan over."""
        return float(np.linalg.det(np.array(self.matrix)[:2, :2])) < 0.0

    def shift(self) -> tuple[float, float, float]:
        """Return what goes on top of turned and scaled local coordinates: where their origin goes, heights at the middle."""
        origin = np.array(self.goal) - np.array(self.matrix) @ np.array(self.middle)
        up = float(origin[2]) if self.model.solid else self.goal[2] - self.middle[2]
        return float(origin[0]), float(origin[1]), up

    def places(self, xyz: Floats) -> Floats:
        """Return places, (n, 3), transformed; a place without a height stays without, and is otherwise where it belongs."""
        own = fixed(np.ascontiguousarray(xyz))
        made: Floats = through(own, np.array(self.middle), np.array(self.matrix), np.array(self.goal), self.model.solid)
        return made

    def inverse(self) -> Fit:
        """Return the way back."""
        back = np.linalg.inv(np.array(self.matrix))
        rows = tuple((float(a), float(b), float(c)) for a, b, c in back)
        return dataclasses.replace(self, middle=self.goal, goal=self.middle, matrix=rows)

    def to_json(self) -> dict[str, Any]:
        """Return plain values."""
        return {
            "model": self.model.value,
            "heights": self.heights.value,
            "middle": list(self.middle),
            "goal": list(self.goal),
            "matrix": [list(row) for row in self.matrix],
        }

    @staticmethod
    def from_json(values: dict[str, Any]) -> Fit:
        """Return the transformation that `to_json` gave.

        Raises
        ------
        ValueError, KeyError, TypeError
            If the values are others.
        """
        rows = tuple((float(a), float(b), float(c)) for a, b, c in values["matrix"])
        (mx, my, mz), (gx, gy, gz) = values["middle"], values["goal"]
        numbers = [float(each) for each in (mx, my, mz, gx, gy, gz)]
        if len(rows) != 3 or not np.isfinite([*numbers, *(each for row in rows for each in row)]).all():
            raise ValueError("numbers are missing")
        if abs(float(np.linalg.det(np.array(rows)))) < 1e-12:
            raise ValueError("it leads nowhere")
        middle, goal = (numbers[0], numbers[1], numbers[2]), (numbers[3], numbers[4], numbers[5])
        return Fit(Model(values["model"]), Heights(values["heights"]), middle, goal, rows)


UNMOVED = Fit(
    Model.SHIFT, Heights.NONE, (0.0, 0.0, 0.0), (0.0, 0.0, 0.0), ((1.0, 0.0, 0.0), (0.0, 1.0, 0.0), (0.0, 0.0, 1.0))
)


def fitted(local: Floats, known: Floats, model: Model, heights: Heights) -> Fit:
    """Return the transformation of least squares from local points onto known ones.

    Parameters
    ----------
    local, known : (n, 3) float64
        In pairs; without heights where these are NaN, which then count in plan only.

    Raises
    ------
    DataError
        If there are too few points, or they lie so that the model cannot be told.
    """
    if len(local) < model.least:
        raise DataError(
            f"model={model.value} needs at least {model.least} points in pairs, and there {'is' if len(local) == 1 else 'are'} {len(local)}"
        )
    if model.solid:
        return _solid(local, known)
    middle, goal = local[:, :2].mean(axis=0), known[:, :2].mean(axis=0)
    x, y = (local[:, :2] - middle).T
    e, n = (known[:, :2] - goal).T
    plan = np.eye(2)
    if model in (Model.HELMERT, Model.HELMERT_FIXED):
        size = float((x * x + y * y).sum())
        if size == 0.0:
            raise DataError("the local points are all at one place")
        a, b = float((x * e + y * n).sum()), float((x * n - y * e).sum())
        size = size if model is Model.HELMERT else math.hypot(a, b)
        if size == 0.0 or math.hypot(a, b) == 0.0:
            raise DataError("the known points are all at one place, or say nothing of a turn")
        plan = np.array([(a, -b), (b, a)]) / size
    elif model is Model.AFFINE:
        design = np.column_stack((x, y))
        if np.linalg.svd(design, compute_uv=False)[-1] <= 1e-9 * max(float(np.abs(design).max()), 1e-300):
            raise DataError("the local points lie on one line; an affine fit needs three that do not (model=helmert)")
        plan = np.linalg.lstsq(design, np.column_stack((e, n)), rcond=None)[0].T
    matrix = np.eye(3)
    matrix[:2, :2] = plan
    low, high, tilt = _of_heights(local, known, middle, heights)
    matrix[2, :2] = tilt
    return _fit(model, heights, (*middle, low), (*goal, high), matrix)


def _fit(model: Model, heights: Heights, middle: Any, goal: Any, matrix: Floats) -> Fit:
    rows = tuple((float(a), float(b), float(c)) for a, b, c in matrix)
    own, other = ((float(each[0]), float(each[1]), float(each[2])) for each in (middle, goal))
    return Fit(model, heights, own, other, rows)


def _of_heights(local: Floats, known: Floats, middle: Floats, heights: Heights) -> tuple[float, float, Floats]:
    """Return the height of the middle, where it goes, and what is added along east and north."""
    both = np.isfinite(local[:, 2]) & np.isfinite(known[:, 2])
    none = np.zeros(2)
    if heights is Heights.NONE:
        return 0.0, 0.0, none
    number = int(both.sum())
    if number < heights.parameters:
        raise DataError(
            f"heights={heights.value} needs {heights.parameters} points with a height on both sides, and there are {number} (heights=none)"
        )
    low, gap = float(local[both, 2].mean()), known[both, 2] - local[both, 2]
    if heights is Heights.SHIFT:
        return low, low + float(gap.mean()), none
    design = np.column_stack((local[both, :2] - middle, np.ones(number)))
    sizes = np.linalg.svd(design[:, :2] - design[:, :2].mean(axis=0), compute_uv=False)
    if sizes[-1] <= 1e-9 * max(sizes[0], 1e-300):
        raise DataError("the points with heights lie on one line, so no plane can be told (heights=shift)")
    tilt = np.linalg.lstsq(design, gap, rcond=None)[0]
    return low, low + float(tilt[2]), np.asarray(tilt[:2], np.float64)


def _solid(local: Floats, known: Floats) -> Fit:
    if not (np.isfinite(local[:, 2]).all() and np.isfinite(known[:, 2]).all()):
        raise DataError("model=helmert_3d needs a height at every point, on both sides")
    middle, goal = local.mean(axis=0), known.mean(axis=0)
    away, there = local - middle, known - goal
    sizes = np.linalg.svd(away, compute_uv=False)
    if len(sizes) < 2 or sizes[1] <= 1e-9 * max(sizes[0], 1e-300):
        raise DataError("the points lie on one line; a fit in space needs three that do not (model=helmert)")
    u, d, vt = np.linalg.svd(there.T @ away)
    sign = np.array([1.0, 1.0, np.sign(np.linalg.det(u) * np.linalg.det(vt)) or 1.0])
    turn = u @ np.diag(sign) @ vt
    scale = float((d * sign).sum() / (away**2).sum())
    return _fit(Model.HELMERT_3D, Heights.NONE, middle, goal, scale * turn)


@dataclass(frozen=True, slots=True)
class Residuals:
    """How a transformation meets its points.

    Attributes
    ----------
    values : (n, 3) float64
        Fitted minus given, east, north and height; NaN where there is no height to compare.
    rmse_plan : float
        Radial.
    rmse_height : float or None
        None where no height was fitted.
    redundancy, redundancy_height : int
        Observations minus parameters.
    """

    values: Floats
    rmse_plan: float
    rmse_height: float | None
    redundancy: int
    redundancy_height: int

    @property
    def standard_error(self) -> float | None:
        """Of one coordinate in plan; None where nothing checks the fit."""
        square = float((self.values[:, :2] ** 2).sum())
        return math.sqrt(square / self.redundancy) if self.redundancy > 0 else None


def residuals_of(fit: Fit, local: Floats, known: Floats) -> Residuals:
    """Return how a transformation meets points, (n, 3) each."""
    values = fit.places(local) - known
    if fit.heights is Heights.NONE and not fit.model.solid:
        values[:, 2] = np.nan
    up = values[np.isfinite(values[:, 2]), 2]
    count = len(values)
    # In space four of the seven move the plan, and three the heights.
    plan = 4 if fit.model.solid else fit.model.parameters
    high = 3 if fit.model.solid else fit.heights.parameters
    return Residuals(
        values=values,
        rmse_plan=float(np.sqrt((values[:, :2] ** 2).sum(axis=1).mean())),
        rmse_height=float(np.sqrt((up**2).mean())) if len(up) else None,
        redundancy=2 * count - plan,
        redundancy_height=max(len(up) - high, 0),
    )


# Nobody measures better than this, in the unit of plan: an exact pair is no reason to suspect another.
_NOISE = 1e-4


def outlying(local: Floats, known: Floats, model: Model, heights: Heights, most: float) -> Flags:
    """Return which points lie farther from a fit of the others than so many of its standard errors, (n,) bool.

    The worst is set aside, and the rest looked at again, while a fit of the rest is checked by anything.
    """
    out = np.zeros(len(local), np.bool_)
    for _ in range(len(local) // 2):
        kept = np.flatnonzero(~out)
        worst, k = 0.0, -1
        for each in kept.tolist():
            others = kept[kept != each]
            far = _deviations(local, known, others, each, model, heights, most)
            if far > worst:
                worst, k = far, each
        if worst <= 1.0:
            return out
        out[k] = True
    return out


def _deviations(
    local: Floats, known: Floats, others: Any, each: int, model: Model, heights: Heights, most: float
) -> float:
    """Return how far a point lies from a fit of others, in what is allowed; 0 where nothing checks that fit.

    So many deviations are allowed as are as seldom, by Student's distribution, as `most` are by the normal one: what few
    points say of their own error is uncertain. A place far from the others is foretold less surely.
    """
    try:
        fit = fitted(local[others], known[others], model, heights)
    except DataError:
        return 0.0
    own = residuals_of(fit, local[others], known[others])
    away = residuals_of(fit, local[[each]], known[[each]]).values[0]
    middle = local[others, :2].mean(axis=0)
    spread = float(((local[others, :2] - middle) ** 2).sum())
    far = float(((local[each, :2] - middle) ** 2).sum())
    unsure = math.sqrt(1.0 + 1.0 / len(others) + (far / spread if spread else 0.0))
    found = 0.0
    if own.standard_error is not None:
        size = float(np.hypot(away[0], away[1])) / math.sqrt(2.0)
        found = size / (unsure * max(own.standard_error, _NOISE) * _seldom(most, own.redundancy))
    if own.redundancy_height > 0 and np.isfinite(away[2]):
        up = own.values[np.isfinite(own.values[:, 2]), 2]
        sigma = math.sqrt(float((up**2).sum()) / own.redundancy_height)
        size = abs(float(away[2]))
        found = max(found, size / (unsure * max(sigma, _NOISE) * _seldom(most, own.redundancy_height)))
    return found


def _seldom(most: float, redundancy: int) -> float:
    from scipy.stats import norm, t

    return float(t.isf(norm.sf(most), redundancy))
