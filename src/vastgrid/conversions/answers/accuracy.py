"""How good a surface is: independent check points against it."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated, Any

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.errors import CallError, DataError
from vastgrid.base.findings import Finding, Severity, count, note
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Length, Quantity, unit_word
from vastgrid.base.words import instead, plain, shortly, spaced, step_above
from vastgrid.data.classes import class_name
from vastgrid.data.dataset import Flags, Floats
from vastgrid.data.grid import Grid
from vastgrid.data.kinds import narrowed
from vastgrid.data.pointset import PointSet
from vastgrid.data.table import Table, figures_table
from vastgrid.data.tin import Tin
from vastgrid.declarations.conversion import Conversion, Input, Inputs, Output, Picture, Result
from vastgrid.measures.accuracy import ASPRS_LEAST, NSSDA_LEAST, Accuracy, accuracy_of, blunders
from vastgrid.measures.heights import heights
from vastgrid.params.declare import Param
from vastgrid.terrain.areas.clipping import clipped
from vastgrid.terrain.areas.limiting import LIMIT, limit_of

# Attributes that name a point, by any case; and the one that a cloud's classes stand in.
_NAMES = ("point", "name", "number", "id")
CLASS = "classification"
# Columns of the histogram, and how far from the median a residual lies that is no blunder, as a share of the heights' range.
COLUMNS, NEAR = 15, 1e-9
MOST_GROUPS = 200
# How residuals say which point they are of, and what they are.
POINT, RESIDUAL = "point", "residual"


@dataclass(frozen=True)
class AccuracyParams:
    """How the points are split, and what counts as a blunder."""

    by: Annotated[
        str,
        Param(
            "Split by",
            "Attribute of the points by which figures are split, such as land cover.",
            absent="nothing",
            once=True,
        ),
    ] = ""
    blunder: Annotated[
        float,
        Param(
            "Blunders",
            "Residuals farther from the median than this many robust deviations are reported as blunders.",
            above=0,
        ),
    ] = 3.0
    survey: Annotated[
        Length | None,
        Param(
            "Check survey",
            "RMSE of the check points themselves, which ASPRS 2024 adds.",
            Quantity.Z_LENGTH,
            least=0,
            absent="not known",
        ),
    ] = None


def run(inputs: Inputs, params: AccuracyParams, progress: Progress) -> Result:
    """Measure it; see `CONVERSION`.

    Raises
    ------
    CallError
        If there is no attribute of that name, or it has more values than anybody reads.
    DataError
        If no point lies over the surface.
    """
    (surface,), (points,) = inputs.of("surface"), inputs.of("points")
    assert isinstance(surface, Tin | Grid)
    assert isinstance(points, PointSet)
    told: list[Finding] = []
    limit = limit_of(inputs, told)
    if limit is not None:
        points = narrowed(clipped(points, limit, inside=True, findings=told), PointSet)
    group = _groups(points, params.by)
    z = heights(surface, np.ascontiguousarray(points.xyz[:, :2]))
    progress.report(0.6, "looking up heights")
    residual = z - points.xyz[:, 2]
    good = np.isfinite(residual)
    outside = int((~good).sum())
    if not good.any():
        raise DataError(f"none of the {count(len(points.xyz), 'point')} of {points.name} lies over {surface.name}")
    values = residual[good]
    every = accuracy_of(values)
    least = NEAR * max(float(np.ptp(points.xyz[good, 2])), 1.0)
    bad = blunders(values, params.blunder, least)
    names = _names(points)
    unit = surface.frame.vertical
    word = unit_word(unit)
    findings = told + _findings(points, names, good, values, every, bad, outside, params, word)
    own = points.chosen(good)
    attributes = {
        **own.attributes,
        POINT: np.array([names[k].encode() for k in np.flatnonzero(good).tolist()]),
        "surface height": z[good],
        RESIDUAL: values,
        "blunder": bad.astype(np.uint8),
    }
    called = f"{surface.name} against {points.name}"
    residuals = PointSet(name=f"{called}, residuals", frame=points.frame, xyz=own.xyz, attributes=attributes)
    groups = _split(params.by, group, good, values) if group is not None else []
    survey = params.survey.in_unit(unit, "survey") if params.survey is not None else None
    table = _table(called, every, groups, outside, bad, survey, word.strip())
    at = (float(own.xyz[every.at, 0]), float(own.xyz[every.at, 1]))
    figures: dict[str, Any] = {
        "in short": f"RMSEz {every.rmse:.3f}, 95 % {every.nssda_95:.3f}{word}",
        "quality": f"RMSEz {every.rmse:.3f}{word} over {count(every.count, 'point')}, {every.nssda_95:.3f}{word} at 95 % (NSSDA)",
        "accuracy": {
            **every.to_json(),
            "max": abs(every.largest),
            "outside": outside,
            "at": list(at),
            "blunders": int(bad.sum()),
            "unit": unit.value if unit else None,
        },
    }
    if survey is not None:
        figures["accuracy"]["rmse_with_survey"] = every.with_survey(survey)
    if group is not None:
        figures["accuracy"]["groups"] = {
            name: {**own_.to_json(), **({"rmse_with_survey": own_.with_survey(survey)} if survey is not None else {})}
            for name, own_ in groups
        }
    more = {"residuals": residuals, "histogram": _histogram(called, values, word.strip())}
    progress.report(1.0)
    return Result(table, tuple(findings), more=more, figures=figures)


# So many blunders are told one by one.
_MOST_BLUNDERS = 10


def _names(points: PointSet) -> list[str]:
    own = next((values for name in _NAMES for key, values in points.attributes.items() if key.lower() == name), None)
    if own is None or own.ndim != 1:
        return [str(k + 1) for k in range(len(points.xyz))]
    return _texts(own)


def _texts(values: NDArray[Any]) -> list[str]:
    if values.dtype.kind == "f":
        return [f"{value:.10g}" for value in values.tolist()]
    return [plain(each) for each in values.tolist()]


def _groups(points: PointSet, by: str) -> list[str] | None:
    if not by:
        return None
    values = points.attributes.get(by)
    if values is None or values.ndim != 1:
        known = [name for name, own in points.attributes.items() if own.ndim == 1]
        raise CallError(f"by={shortly(by)}: {points.name} has no attribute of that name; {instead(by, known)}")
    if by.lower() == CLASS:
        return [class_name(code) for code in values.tolist()]
    return _texts(values)


def _split(by: str, group: list[str], good: Flags, values: Floats) -> list[tuple[str, Accuracy]]:
    own = np.array(group)[good]
    names, which = np.unique(own, return_inverse=True)
    if len(names) > MOST_GROUPS:
        raise CallError(
            f"by={by}: it has {spaced(len(names))} values; figures can be split into {MOST_GROUPS} groups at most"
        )
    return [(str(name), accuracy_of(values[which == k])) for k, name in enumerate(names.tolist())]


def _findings(
    points: PointSet,
    names: list[str],
    good: Flags,
    values: Floats,
    every: Accuracy,
    bad: Flags,
    outside: int,
    params: AccuracyParams,
    word: str,
) -> list[Finding]:
    found = [
        note(
            "accuracy",
            f"{count(every.count, 'check point')}: mean {every.mean:+.3f}{word}, RMSEz {every.rmse:.3f}{word}, standard deviation "
            f"{every.std:.3f}{word}; tested {every.nssda_95:.3f}{word} vertical accuracy at 95 % confidence level (NSSDA).",
        )
    ]
    if outside:
        text = f"{count(outside, 'point')} of {points.name} {'lies' if outside == 1 else 'lie'} outside the surface and {'counts' if outside == 1 else 'count'} for nothing."
        away = points.xyz[~good]
        found.append(Finding("outside", text, at=(float(away[0, 0]), float(away[0, 1]))))
    which = np.flatnonzero(good)
    deviations = f"more than {params.blunder:g} × 1.4826 × the median absolute deviation from the median"
    worst = sorted(np.flatnonzero(bad).tolist(), key=lambda k: -abs(float(values[k])))
    for k in worst[:_MOST_BLUNDERS]:
        xyz = points.xyz[which[k]]
        text = f"Point {names[which[k]]} is off by {values[k]:+.3f}{word}: {deviations}. It is counted; look at it."
        found.append(Finding("blunder", text, Severity.WARNING, (float(xyz[0]), float(xyz[1]))))
    if len(worst) > _MOST_BLUNDERS:
        text = f"{count(len(worst) - _MOST_BLUNDERS, 'point')} more lie so far off; the residuals have a mark for them (blunder)."
        found.append(Finding("more-blunders", text))
    if bad.any() and not bad.all():
        rest = accuracy_of(values[~bad])
        text = f"Without {count(int(bad.sum()), 'blunder')} RMSEz would be {rest.rmse:.3f}{word}, and {rest.nssda_95:.3f}{word} at 95 %."
        found.append(note("without-blunders", text))
    if every.count < ASPRS_LEAST:
        text = (
            f"{count(every.count, 'check point')}: NSSDA asks for at least {NSSDA_LEAST}, ASPRS for at least {ASPRS_LEAST}; "
            f"{'too few for both' if every.count < NSSDA_LEAST else 'enough for NSSDA alone'}."
        )
        found.append(Finding("few-points", text))
    else:
        found.append(
            note(
                "enough-points",
                f"{count(every.count, 'check point')} are enough for NSSDA ({NSSDA_LEAST}) and ASPRS ({ASPRS_LEAST}).",
            )
        )
    if every.count > 1 and abs(every.mean) > every.rmse / 2.0 and abs(every.mean) > 1e-6:
        text = (
            f"The mean of {every.mean:+.3f}{word} is most of the RMSEz: the surface lies too {'high' if every.mean > 0 else 'low'} as a whole. "
            "The factor 1.96 of the standards holds where there is no such bias."
        )
        found.append(Finding("biased", text))
    return found


def _table(
    name: str,
    every: Accuracy,
    groups: Sequence[tuple[str, Accuracy]],
    outside: int,
    bad: Flags,
    survey: float | None,
    unit: str,
) -> Table:
    if groups:
        rows = [*groups, ("all", every)]
        columns: dict[str, NDArray[Any]] = {
            "group": np.array([own.encode() for own, _ in rows]),
            "points": np.array([float(own.count) for _, own in rows]),
            "mean": np.array([own.mean for _, own in rows]),
            "RMSEz": np.array([own.rmse for _, own in rows]),
            "std. deviation": np.array([own.std for _, own in rows]),
            "largest": np.array([own.largest for _, own in rows]),
            "95 %, NSSDA": np.array([own.nssda_95 for _, own in rows]),
            "95th percentile": np.array([own.p95 for _, own in rows]),
        }
        if survey is not None:
            columns["with check survey, ASPRS 2024"] = np.array([own.with_survey(survey) for _, own in rows])
        return Table(name=name, columns=columns, units=("", "", *[unit] * (len(columns) - 2)))
    figures = [
        ("check points", float(every.count), ""),
        ("outside the surface", float(outside), ""),
        ("blunders", float(bad.sum()), ""),
        ("mean", every.mean, unit),
        ("RMSEz", every.rmse, unit),
        ("standard deviation", every.std, unit),
        ("largest", every.largest, unit),
        ("at 95 %, NSSDA and ASPRS 2014 NVA", every.nssda_95, unit),
        ("95th percentile, ASPRS 2014 VVA", every.p95, unit),
    ]
    if survey is not None:
        figures.append(("RMSEz with check survey, ASPRS 2024", every.with_survey(survey), unit))
    return figures_table(name, figures)


def _histogram(name: str, values: Floats, unit: str) -> Table:
    """Return how many residuals lie in each of some columns of an even, readable width, nought at an end of one."""
    span = max(float(np.ptp(values)), 1e-6)
    step = step_above(span / COLUMNS)
    first, last = math.floor(float(values.min()) / step), math.floor(float(values.max()) / step) + 1
    ends = np.arange(first, last + 1) * step
    number, _ = np.histogram(values, ends)
    columns = {"from": ends[:-1], "to": ends[1:], "points": number.astype(np.float64)}
    return Table(name=f"{name}, histogram", columns=columns, units=(unit, unit, ""))


def _suggest(inputs: Sequence[Any]) -> dict[str, list[str]]:
    has = [
        name for each in inputs if isinstance(each, PointSet) for name, own in each.attributes.items() if own.ndim == 1
    ]
    return {"by": ["", *(name for name in has if name.lower() not in _NAMES)]}


CONVERSION = Conversion(
    id="accuracy",
    version=1,
    title="Check-point accuracy",
    also=("RMSE", "QA", "NSSDA", "ASPRS", "check shots", "residuals"),
    help="Compares independent check points with a surface: residuals, RMSEz and accuracy at 95 % by the published standards.",
    inputs=(
        Input("surface", (Tin, Grid), help="what is checked", fits=lambda data: data.has_heights),
        Input("points", (PointSet,), help="independent check points"),
        LIMIT,
    ),
    outputs=(
        Output("figures", Table),
        Output("residuals", PointSet, title="residuals", look={"colour": "difference", "against": "{surface}"}),
        Output(
            "histogram",
            Table,
            title="histogram",
            picture=Picture("columns", "Residuals, surface minus check point", ("from", "to", "points")),
        ),
    ),
    params=AccuracyParams,
    template="{surface} checked against {points}[ within {limit}][, split by {by}], with blunders beyond {blunder} standard deviations[ and a check survey of {survey}].",
    run=run,
    suggest=_suggest,
    name=lambda inputs, params: f"{inputs[0].name} against {inputs[1].name}",
    answers=True,
)
