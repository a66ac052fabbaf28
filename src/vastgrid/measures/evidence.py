"""What speaks for or against a unit: the area a CRS is made for, the data beside it, the spacing of its points."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from vastgrid.base.disk_arrays import pieces
from vastgrid.base.findings import Finding, counted, either
from vastgrid.base.quantities import Unit, unit_word
from vastgrid.base.words import place_words, spaced
from vastgrid.data.dataset import Dataset, Extent, Floats
from vastgrid.data.frame import crs_name, unit_of
from vastgrid.data.grid import Grid
from vastgrid.data.kinds import of_kind
from vastgrid.data.linework import Linework
from vastgrid.data.pointset import PointSet

_FEET = (Unit.FOOT, Unit.US_FOOT)
SAMPLE = 400


@dataclass(frozen=True, slots=True)
class Suggestion:
    """A unit that something speaks for; it is never applied unasked.

    Attributes
    ----------
    which : str
        “plan” or “height”.
    unit : Unit
        The unit.
    why : str
        What speaks for it, as a clause.
    """

    which: str
    unit: Unit
    why: str


def contradictions(dataset: Dataset) -> list[Finding]:
    """Return what in a dataset does not fit together, each with what would."""
    if not dataset.has_heights:
        return []
    found = []
    extent = dataset.extent()
    if dataset.frame.crs and extent.east and extent.north:
        found += outside_area(dataset, extent)
        found += _unit_by_name(dataset.frame.crs)
    return found


def stray_places(dataset: Dataset) -> list[Finding]:
    """Return what lies so far from all else that it stretches the extent beyond use: often 0, 0, 0."""
    points = dataset.kind == PointSet.kind
    xyz = dataset.coordinates() if points or dataset.kind == Linework.kind else np.zeros((0, 3))
    if len(xyz) < 20:
        return []
    step = max(len(xyz) // 200_000, 1)
    some = xyz[::step, :2]
    some = some[np.isfinite(some).all(axis=1)]
    if len(some) < 20:
        return []
    low, high = np.quantile(some, (0.02, 0.98), axis=0)
    width = float(np.hypot(*(high - low)))
    middle = (low + high) / 2.0
    far, at, reach = 0, (0.0, 0.0), 0.0
    for piece in pieces(xyz):
        away = np.hypot(piece[:, 0] - middle[0], piece[:, 1] - middle[1])
        wrong = away > 50.0 * max(width, 1e-9)
        far += int(wrong.sum())
        if wrong.any() and float(np.nanmax(away)) > reach:
            worst = int(np.nanargmax(away))
            at, reach = (float(piece[worst, 0]), float(piece[worst, 1])), float(np.nanmax(away))
    if far == 0 or far > 0.02 * len(xyz):
        return []
    unit = unit_word(dataset.frame.horizontal)
    what = counted(far, "points" if points else "vertices")
    box = ",".join(f"{value:.0f}" for value in (*(low - width), *(high + width)))
    crop = f" (for a cloud crop={box} leaves {either(far, 'it', 'them')} out)" if points else ""
    text = (
        f"{what} of {spaced(len(xyz))} {either(far, 'lies', 'lie')} far from all others, the farthest {spaced(reach)}{unit} "
        f"away at {place_words(at[0], at[1])}; the rest is {spaced(width)}{unit} wide{crop}."
    )
    return [Finding("stray-places", text, at=at)]


def fits_only_turned(dataset: Dataset, others: Sequence[Dataset]) -> bool:
    """Say whether a dataset lies beside others, but among them once easting and northing are taken for each other."""
    own = dataset.extent()
    if not own.east or not own.north or dataset.frame.horizontal is Unit.DEGREE:
        return False
    beside = among = False
    for other in others:
        there = other.extent()
        scale = _plan_scale(dataset, other)
        if not there.east or not there.north or scale is None:
            continue
        (west, east), (south, north) = there.east, there.north
        slack = 0.5 * max(east - west, north - south)
        for turned in (False, True):
            x, y = (own.north, own.east) if turned else (own.east, own.north)
            near = (
                x[0] * scale <= east + slack
                and x[1] * scale >= west - slack
                and y[0] * scale <= north + slack
                and y[1] * scale >= south - slack
            )
            among |= near and turned
            beside |= near and not turned
    return among and not beside


def _plan_scale(dataset: Dataset, other: Dataset) -> float | None:
    """Return what brings one's plan coordinates into the other's unit; 1 where a unit is unknown, None for degrees."""
    one, two = dataset.frame.horizontal, other.frame.horizontal
    if Unit.DEGREE in (one, two):
        return None
    return float(one.metres / two.metres) if one and two else 1.0


def outside_area(dataset: Dataset, extent: Extent) -> list[Finding]:
    """Say where coordinates lie outside the area their CRS is made for, and inside when read in another unit."""
    import pyproj

    try:
        crs = pyproj.CRS.from_user_input(dataset.frame.crs)
        flat = crs.sub_crs_list[0] if crs.is_compound else crs
        area = flat.area_of_use or _area_by_code(flat) or _area_of_base(flat)
        back = pyproj.Transformer.from_crs(flat.to_2d(), "EPSG:4326", always_xy=True)
    except (pyproj.exceptions.CRSError, pyproj.exceptions.ProjError):
        return []
    if area is None or not extent.east or not extent.north:
        return []
    place = (sum(extent.east) / 2.0, sum(extent.north) / 2.0)

    def inside(factor: float) -> bool:
        lon, lat = back.transform(place[0] * factor, place[1] * factor)
        slack = 2.0
        good = area.south - slack <= lat <= area.north + slack
        if area.west <= area.east:
            return bool(good and area.west - slack <= lon <= area.east + slack)
        return bool(good and (lon >= area.west - slack or lon <= area.east + slack))

    if inside(1.0):
        return []
    unit = dataset.frame.horizontal
    metres = 1.0 if unit is None or unit is Unit.DEGREE else float(unit.metres)
    other = [each for each in (Unit.METRE, Unit.FOOT, Unit.US_FOOT, Unit.MILLIMETRE) if each is not unit]
    fits = [each for each in other if unit is not Unit.DEGREE and inside(float(each.metres) / metres)]
    named = unit.title if unit else "unknown"
    text = f"{dataset.name} lies outside the area that {crs_name(dataset.frame.crs)} is made for"
    if fits:
        text += f"; read in {fits[0].title} instead of {named} it would lie inside. Its unit or its CRS is wrong."
    else:
        text += "; its CRS, or the order of its axes, may be wrong."
    return [Finding("unit-contradiction", text)]


def _area_by_code(crs: Any) -> Any:
    """Return the area of the authority's own definition, which files seldom repeat."""
    import pyproj

    code = crs.to_epsg(min_confidence=70)
    return pyproj.CRS.from_epsg(code).area_of_use if code else None


def _area_of_base(crs: Any) -> Any:
    """Return the area of the geodetic system where a custom projection has none of its own."""
    return getattr(crs.geodetic_crs, "area_of_use", None)


def _unit_by_name(crs: str) -> list[Finding]:
    """Say where a CRS names one unit and gives the factor of another."""
    import pyproj

    try:
        axes = pyproj.CRS.from_user_input(crs).axis_info
    except pyproj.exceptions.CRSError:
        return []
    for axis in axes:
        named, metres = axis.unit_name, axis.unit_conversion_factor
        meant = _factor_named(named)
        if meant is None or any(abs(metres / each - 1.0) < 2e-8 for each in meant):
            continue
        known = unit_of(named, metres)
        taken = f"the factor counts ({known.title})" if known else "the unit is taken as unknown"
        text = f"The CRS names the {named} but gives it the factor {metres:.10g}; {taken}. Say which it is."
        return [Finding("unit-contradiction", text)]
    return []


def _factor_named(name: str) -> tuple[float, ...] | None:
    """Return how many metres a unit may have by its name; None where the name is no unit's of ours."""
    words = name.lower().replace("_", " ").replace("-", " ")
    if any(word in words for word in ("foot", "feet", "ft")):
        survey, international = float(Unit.US_FOOT.metres), float(Unit.FOOT.metres)
        if "us" in words.split() or "us survey" in words:
            return (survey,)
        if "international" in words:
            return (international,)
        # Other feet, as Clarke's, have names and factors of their own.
        return (survey, international) if words in ("foot", "feet", "ft", "survey foot") else None
    return (1.0,) if words in ("metre", "meter", "m") else None


def units_doubtful(findings: Sequence[Finding]) -> bool:
    """Return whether a file contradicts itself about its units, so that what the user says counts instead."""
    return any(finding.code in ("unit-contradiction", "unit-doubtful") for finding in findings)


def suggestions(dataset: Dataset, others: Sequence[Dataset]) -> list[Suggestion]:
    """Return units that something speaks for, where a dataset does not say its own.

    Parameters
    ----------
    others : sequence of Dataset
        What the job already has, in units that are known.
    """
    found: list[Suggestion] = []
    extent = dataset.extent()
    if not extent.east or not extent.north:
        return found
    unit = dataset.frame.horizontal
    if unit is None:
        plan = _plan_by_neighbours(extent, others) or _plan_by_spacing(dataset)
        found += [plan] if plan else []
        unit = plan.unit if plan else None
    if dataset.frame.vertical is None:
        height = _height_by_neighbours(dataset, unit, others)
        found += [height] if height else []
    return found


def _plan_by_neighbours(extent: Extent, others: Sequence[Dataset]) -> Suggestion | None:
    assert extent.east
    assert extent.north
    for other in others:
        unit, there = other.frame.horizontal, other.extent()
        if unit is None or unit is Unit.DEGREE or not there.east or not there.north:
            continue
        for candidate in dict.fromkeys((unit, Unit.METRE, Unit.FOOT, Unit.US_FOOT)):
            ratio = float(candidate.metres / unit.metres)
            east, north = [v * ratio for v in extent.east], [v * ratio for v in extent.north]
            if _meet(east, there.east) and _meet(north, there.north):
                return Suggestion("plan", candidate, f"so read, it lies with {other.name}")
    return None


def _meet(one: Sequence[float], other: Sequence[float]) -> bool:
    return one[0] <= other[1] and other[0] <= one[1]


def _plan_by_spacing(dataset: Dataset) -> Suggestion | None:
    """A grid of 3.2808 was laid out in metres and is written in feet; one of 0.3048 the other way round."""
    grids = of_kind([dataset], Grid)
    if not grids:
        return None
    cell = grids[0].dx
    for unit, size in ((Unit.FOOT, cell * 0.3048), (Unit.METRE, cell / 0.3048)):
        whole = size > 0.05 and abs(size * 2.0 - round(size * 2.0)) < 1e-6 and round(size * 2.0) > 0
        if whole and abs(cell * 2.0 - round(cell * 2.0)) > 1e-3:
            other = "m" if unit is Unit.FOOT else "ft"
            return Suggestion("plan", unit, f"cells of {cell:g} are {size:g} {other} then")
    return None


def _height_by_neighbours(dataset: Dataset, plan: Unit | None, others: Sequence[Dataset]) -> Suggestion | None:
    """Compare heights with those of the nearest places of the job's data, plan coordinates read in a unit."""
    from scipy.spatial import cKDTree

    own = _sampled(dataset)
    for other in others:
        unit = other.frame.vertical
        if unit is None or len(own) == 0:
            continue
        there = _sampled(other, 20_000)
        scale = 1.0
        there_unit = other.frame.horizontal
        if plan and there_unit and Unit.DEGREE not in (plan, there_unit):
            scale = float(plan.metres / there_unit.metres)
        if len(there) < 10:
            continue
        near = cKDTree(there[:, :2])
        spacing = math.sqrt(float(np.ptp(there[:, 0]) * np.ptp(there[:, 1])) / len(there)) or 1.0
        distance, index = near.query(own[:, :2] * scale)
        close = distance < 2.0 * spacing
        base = there[index[close], 2]
        if close.sum() < 10 or np.median(np.abs(base)) < 5.0:
            continue
        ratio = float(np.median(own[close, 2] / np.where(base == 0.0, np.nan, base)))
        for candidate in (unit, Unit.METRE, Unit.FOOT, Unit.US_FOOT, Unit.MILLIMETRE):
            if abs(ratio * float(candidate.metres / unit.metres) - 1.0) < 0.03:
                # The two feet differ too little to be told apart by heights.
                pick = unit if candidate in _FEET and unit in _FEET else candidate
                return Suggestion("height", pick, f"so read, its heights fit {other.name}")
    return None


def _sampled(dataset: Dataset, most: int = SAMPLE) -> Floats:
    for grid in of_kind([dataset], Grid):
        step = max(1, math.isqrt(grid.rows * grid.columns // most) or 1)
        rows, columns = np.arange(0, grid.rows, step), np.arange(0, grid.columns, step)
        east, north = np.meshgrid(grid.eastings()[columns], grid.northings()[rows])
        xyz = np.column_stack((east.ravel(), north.ravel(), grid.heights[np.ix_(rows, columns)].ravel()))
        break
    else:
        every = dataset.coordinates()
        xyz = np.asarray(every[:: max(1, len(every) // most)])
    return np.asarray(xyz[np.isfinite(xyz).all(axis=1)], np.float64)
