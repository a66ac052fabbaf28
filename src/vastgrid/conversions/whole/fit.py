"""Anything brought onto known points: by points that are known in both systems."""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence
from dataclasses import dataclass
from enum import Enum
from pathlib import Path
from typing import Annotated, Any

import numpy as np

from vastgrid.base.errors import CallError, DataError
from vastgrid.base.findings import Finding, Severity, count, left_out, note
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Unit, factor, unit_word
from vastgrid.data.areas import Areas
from vastgrid.data.dataset import Dataset, Flags
from vastgrid.data.frame import Frame, is_geographic
from vastgrid.data.grid import Grid
from vastgrid.data.kinds import narrowed, of_kind
from vastgrid.data.linework import Contours, Linework, from_lines
from vastgrid.data.mesh import Mesh
from vastgrid.data.outline import Outline
from vastgrid.data.pointset import PointSet
from vastgrid.data.survey import Survey
from vastgrid.data.table import Table
from vastgrid.data.tin import Tin
from vastgrid.declarations.conversion import Conversion, Input, Inputs, Output, Result, listed
from vastgrid.declarations.tiles import TilePart, Tiling
from vastgrid.measures.fitting import Fit, Heights, Model, Residuals, fitted, outlying, residuals_of
from vastgrid.params.declare import Param
from vastgrid.terrain.place.control_points import POINT_NAMES, Pairs, paired, point_names
from vastgrid.terrain.place.kept_fits import KeptFit, keep_fit, kept_fit
from vastgrid.terrain.place.moving import Fitted, moved
from vastgrid.terrain.place.tiled_motion import ground_before, moved_outline, moved_tile


class HeightsBy(Enum):
    """How heights are brought along."""

    AUTO = "auto"
    SHIFT = "shift"
    PLANE = "plane"
    NONE = "none"


@dataclass(frozen=True)
class FitParams:
    """By which model, and what becomes of points that do not fit."""

    model: Annotated[
        Model,
        Param(
            "Model",
            "shift; helmert: shift, turn and scale; helmert_fixed: without scale; affine: with shear; helmert_3d: in space, heights too.",
            said=(
                ("shift", "a shift"),
                ("helmert", "a Helmert transformation"),
                ("helmert_fixed", "a Helmert transformation without scale"),
                ("affine", "an affine transformation"),
                ("helmert_3d", "a Helmert transformation in space"),
            ),
        ),
    ] = Model.HELMERT
    heights: Annotated[
        HeightsBy,
        Param(
            "Heights by",
            "auto: shift where both sets have heights; shift: one amount; plane: a tilted plane over the local points; none: heights stay.",
            said=(
                ("auto", "what the points have"),
                ("shift", "one shift"),
                ("plane", "a plane"),
                ("none", "nothing"),
            ),
        ),
    ] = HeightsBy.AUTO
    by: Annotated[
        str,
        Param(
            "Paired by", "Attribute with the number or name of a point, in both sets.", absent="their order", once=True
        ),
    ] = ""
    blunder: Annotated[
        float,
        Param(
            "Blunders",
            "Points that lie beyond this many standard deviations from a fit of the others are named.",
            above=0,
        ),
    ] = 3.0
    drop: Annotated[
        bool,
        Param(
            "Leave them out",
            "yes: points that are named as blunders do not count.",
            said=(("yes", "left out"), ("no", "counted")),
        ),
    ] = False
    keep: Annotated[str, Param("Keep in", "File in which the fit is kept, for other data.", absent="no file")] = ""
    using: Annotated[
        str, Param("Using", "File with a fit that was kept; no points are needed then.", absent="the points")
    ] = ""
    inverse: Annotated[
        bool,
        Param(
            "Backwards",
            "yes: from the known points to the local ones.",
            said=(("yes", "backwards"), ("no", "not backwards")),
        ),
    ] = False


# So many residuals are told one by one, and so long is the longest arrow as a share of the points' extent.
_MOST_TOLD, _ARROW = 10, 0.08
# A scale farther from 1 is none of a projection or of measuring.
_SCALE = 0.002
_KNOWN_SCALES = (
    (0.3048, "feet were taken for metres"),
    (1.0 / 0.3048, "metres were taken for feet"),
    (0.001, "millimetres were taken for metres"),
    (1000.0, "metres were taken for millimetres"),
)


def settle(inputs: Inputs, params: FitParams) -> FitParams:
    """Say by which attribute points are paired, and how heights are brought along, by what the points or a kept fit have.

    Raises
    ------
    CallError
        If something is asked for that a kept fit says otherwise, or that needs points.
    """
    if params.using:
        return _as_kept(params)
    local, known = _both(inputs)
    if local is None or known is None:
        return params
    by = params.by or next(
        (name for name in local.attributes if name.lower() in POINT_NAMES and point_names(known, name) is not None), ""
    )
    heights = params.heights
    if heights is HeightsBy.AUTO:
        both = all(np.isfinite(each.xyz[:, 2]).any() for each in (local, known))
        heights = HeightsBy.SHIFT if both and not params.model.solid else HeightsBy.NONE
    return dataclasses.replace(params, by=by, heights=heights)


def _as_kept(params: FitParams) -> FitParams:
    fit, usual = kept_fit(Path(params.using)).fit, FitParams()
    own = dataclasses.replace(params, model=fit.model, heights=HeightsBy(fit.heights.value))
    asked = {"model": params.model, "heights": params.heights}
    for name, value in asked.items():
        if value not in (getattr(usual, name), getattr(own, name)):
            raise CallError(
                f"{params.using} keeps a fit with {name}={getattr(own, name).value}; leave out {name}={value.value}, or fit anew"
            )
    for name in ("by", "drop", "keep"):
        if getattr(params, name) != getattr(usual, name):
            raise CallError(f"a fit that was kept is applied as it is: leave out {name}, or using")
    return own


def _both(inputs: Sequence[Dataset]) -> tuple[PointSet | None, PointSet | None]:
    """Return the points of both sides; where points are brought into place and no others are named, they are the local ones."""
    local, known = _points(inputs, "from"), _points(inputs, "to")
    if local is None and known is not None and isinstance(inputs, Inputs):
        local = next(iter(of_kind(inputs.of("data"), PointSet)), None)
    return local, known


def _points(inputs: Sequence[Dataset], role: str) -> PointSet | None:
    found = inputs.of(role) if isinstance(inputs, Inputs) else ()
    return narrowed(found[0], PointSet) if found else None


def run(inputs: Inputs, params: FitParams, progress: Progress) -> Result:
    """Fit and move; see `CONVERSION`.

    Raises
    ------
    CallError
        If points are missing or cannot be paired, or data is in degrees.
    DataError
        If the points do not tell the model.
    """
    data = inputs.of("data")[0]
    local, known = _both(inputs)
    findings: list[Finding] = []
    if params.using:
        if local is not None or known is not None:
            raise CallError("a fit that was kept needs no points: leave out from and to, or using")
        kept = kept_fit(Path(params.using))
        data = _in_unit(data, kept.unit, findings)
        return _given(data, kept, params, findings, progress)
    if local is None or known is None:
        raise CallError(
            "name the points that are known in both systems, from=LOCAL.csv and to=GRID.csv, or a fit (using=FILE)"
        )
    for each in (data, local, known):
        if is_geographic(each.frame):
            raise CallError(f"{each.name} is in degrees; bring it onto a grid first (reproject)")
    params = settle(inputs, params)
    pairs = paired(local, known, params.by, findings)
    heights = Heights(params.heights.value)
    progress.report(0.1, "fitting")
    far = outlying(pairs.local, pairs.known, params.model, heights, params.blunder)
    used = pairs.chosen(~far) if params.drop else pairs
    fit = fitted(used.local, used.known, params.model, heights)
    own = residuals_of(fit, used.local, used.known)
    every = residuals_of(fit, pairs.local, pairs.known)
    word = unit_word(known.frame.horizontal)
    findings += _told(fit, own, every, pairs, used, far, params, word)
    figures = _figures(fit, own, every, pairs, far, params)
    kept = KeptFit(fit, known.frame, local.frame.horizontal, pairs, far, f"{local.name} onto {known.name}")
    if params.keep:
        keep_fit(Path(params.keep), kept)
        findings.append(note("fit-kept", f"The fit was kept in {params.keep} (using={params.keep} applies it)."))
    result = _given(data, kept, params, findings, progress)
    return dataclasses.replace(result, figures=figures)


def _given(data: Dataset, kept: KeptFit, params: FitParams, findings: list[Finding], progress: Progress) -> Result:
    result = _moved(data, kept.fit, kept.frame, params, findings, progress)
    every = residuals_of(kept.fit, kept.pairs.local, kept.pairs.known)
    more = {
        "residuals": _table(f"{kept.called}, residuals", kept.pairs, every, kept.far, kept.frame),
        "arrows": _arrows(f"{kept.called}, residual arrows", kept.pairs, every, kept.frame),
    }
    return dataclasses.replace(result, more=more)


def _moved(
    data: Dataset, fit: Fit, frame: Frame, params: FitParams, findings: list[Finding], progress: Progress
) -> Result:
    own = fit.inverse() if params.inverse else fit
    made, told, loss = moved(data, Fitted.by(own))
    made = made.in_frame(_frame_after(made, frame, params))
    progress.report(1.0)
    return Result(made, (*findings, *told), loss)


def _frame_after(data: Dataset, frame: Frame, params: FitParams) -> Frame:
    """Return the frame of data that was brought into place, or backwards."""
    crs, plan = (None, data.frame.horizontal) if params.inverse else (frame.crs, frame.horizontal)
    return Frame(crs, plan or data.frame.horizontal, data.frame.vertical or frame.vertical)


def _told(
    fit: Fit,
    own: Residuals,
    every: Residuals,
    pairs: Pairs,
    used: Pairs,
    far: Flags,
    params: FitParams,
    unit: str,
) -> list[Finding]:
    """Say how well it fits, what checks it, and what looks like a slip."""
    shift = fit.shift()
    ppm = (fit.scale - 1.0) * 1e6
    text = f"{count(len(used.names), 'point')}: RMSE in plan {own.rmse_plan:.4f}{unit}"
    text += f", in height {own.rmse_height:.4f}{unit}" if own.rmse_height is not None else ""
    if own.standard_error is not None:
        text += f", standard error {own.standard_error:.4f}{unit}"
    text += f"; redundancy {own.redundancy} in plan" + (
        f" and {own.redundancy_height} in height" if own.rmse_height is not None else ""
    )
    text += f"; scale {ppm:+.2f} ppm, rotation {fit.rotation:.6f}° counter-clockwise, shift E {shift[0]:.4f}, N {shift[1]:.4f}"
    found = [note("fit", text + (f", up {shift[2]:.4f}{unit}." if own.rmse_height is not None else f"{unit}."))]
    if own.redundancy <= 0:
        text = f"{count(len(used.names), 'point')} just tell the {params.model.value} fit: nothing checks it, and a wrong number would not be seen."
        found.append(Finding("fit-unchecked", text, Severity.WARNING))
    for k in np.argsort(-np.nan_to_num(np.abs(every.values)).max(axis=1))[:_MOST_TOLD].tolist():
        if not far[k]:
            continue
        east, north, up = every.values[k].tolist()
        off = f"{east:+.4f} east, {north:+.4f} north" + (f", {up:+.4f} up" if up == up else "")
        what = "It was left out." if params.drop else "It is counted; look at it (drop=yes leaves it out)."
        text = f"Point {pairs.names[k]} is off by {off}{unit} (fitted minus given): farther from a fit of the others than {params.blunder:g} standard deviations. {what}"
        at = (float(pairs.known[k, 0]), float(pairs.known[k, 1]))
        found.append(Finding("fit-residual", text, Severity.WARNING, at))
    if params.drop and far.any():
        names = listed([name for name, own_ in zip(pairs.names, far.tolist(), strict=True) if own_])
        found.append(
            left_out("fit-dropped", f"{count(int(far.sum()), 'point')} left out of the fit, as asked: {names}.")
        )
    return [*found, *_slips(fit, own, used, params)]


def _slips(fit: Fit, own: Residuals, used: Pairs, params: FitParams) -> list[Finding]:
    """Say what looks like a slip: exchanged axes, another unit, points on one line."""
    found = []
    if fit.mirrored:
        text = "The fit turns the plan over: northing and easting are exchanged in one of the two sets."
        found.append(Finding("fit-mirrored", text, Severity.WARNING))
    elif params.model is not Model.AFFINE and own.redundancy > 0:
        try:
            other = fitted(used.local[:, [1, 0, 2]], used.known, params.model, fit.heights)
            swapped = residuals_of(other, used.local[:, [1, 0, 2]], used.known).rmse_plan
        except DataError:
            swapped = np.inf
        if swapped < 0.2 * own.rmse_plan:
            text = f"With northing and easting exchanged RMSE in plan would be {swapped:.4f} instead of {own.rmse_plan:.4f}: they are exchanged in one of the two sets."
            found.append(Finding("fit-mirrored", text, Severity.WARNING))
    scale = fit.scale
    if params.model in (Model.SHIFT, Model.HELMERT_FIXED) and len(used.names) > 1:
        try:
            scale = fitted(used.local, used.known, Model.HELMERT, Heights.NONE).scale
        except DataError:
            scale = 1.0
    if not found and abs(scale - 1.0) > _SCALE:
        hint = next((f": {why}" for value, why in _KNOWN_SCALES if abs(scale / value - 1.0) < 0.01), "")
        text = f"The scale between the two sets is {scale:.6g}, far from 1{hint}."
        found.append(Finding("fit-scale", text, Severity.WARNING))
    if len(used.names) > 2 and not params.model.solid:
        sizes = np.linalg.svd(used.local[:, :2] - used.local[:, :2].mean(axis=0), compute_uv=False)
        if sizes[1] < 0.01 * sizes[0]:
            text = "The points lie nearly on one line: across it nothing checks the fit."
            found.append(Finding("fit-on-line", text, Severity.WARNING))
    return found


def _figures(fit: Fit, own: Residuals, every: Residuals, pairs: Pairs, far: Flags, params: FitParams) -> dict[str, Any]:
    rows = [
        {
            "name": name,
            "east": values[0],
            "north": values[1],
            "height": values[2] if values[2] == values[2] else None,
            "blunder": bad,
            "used": not (bad and params.drop),
        }
        for name, values, bad in zip(pairs.names, every.values.tolist(), far.tolist(), strict=True)
    ]
    high = f", {own.rmse_height:.3f} in height" if own.rmse_height is not None else ""
    return {
        "in short": f"RMSE {own.rmse_plan:.3f} in plan{high}",
        "model": fit.model.value,
        "heights": fit.heights.value,
        "shift": list(fit.shift()),
        "rotation_degrees": fit.rotation,
        "scale": fit.scale,
        "scale_ppm": (fit.scale - 1.0) * 1e6,
        "rmse_plan": own.rmse_plan,
        "rmse_height": own.rmse_height,
        "standard_error": own.standard_error,
        "redundancy": own.redundancy,
        "redundancy_height": own.redundancy_height,
        "residuals": rows,
        "matrix": [list(row) for row in fit.matrix],
        "middle": list(fit.middle),
        "goal": list(fit.goal),
    }


def _table(name: str, pairs: Pairs, every: Residuals, far: Flags, frame: Frame) -> Table:
    plan = frame.horizontal.value if frame.horizontal else ""
    high = frame.vertical.value if frame.vertical else ""
    columns = {
        "point": np.array([each.encode() for each in pairs.names]),
        "east": every.values[:, 0],
        "north": every.values[:, 1],
        "plan": np.hypot(every.values[:, 0], every.values[:, 1]),
        "height": every.values[:, 2],
        "blunder": np.array([b"yes" if each else b"" for each in far.tolist()]),
    }
    return Table(name=name, columns=columns, units=("", plan, plan, plan, high, ""))


def _arrows(name: str, pairs: Pairs, every: Residuals, frame: Frame) -> Linework:
    """Return residuals in plan as arrows at the known points, so much longer that they are seen."""
    plan = pairs.known[:, :2]
    longest = float(np.hypot(every.values[:, 0], every.values[:, 1]).max(initial=0.0))
    reach = max(float(np.ptp(plan, axis=0).max(initial=0.0)), 1.0) * _ARROW
    times = reach / longest if longest > 0.0 else 1.0
    lines = []
    for place, own in zip(pairs.known, every.values, strict=True):
        way = own[:2] * times
        side = np.array((-way[1], way[0]))
        tip = place[:2] + way
        course = [place[:2], tip, tip - 0.22 * way + 0.1 * side, tip, tip - 0.22 * way - 0.1 * side]
        lines.append(np.column_stack((np.array(course), np.full(5, place[2]))))
    made = from_lines(f"{name}, {times:.3g} times as long", frame, lines, ["RESIDUAL"] * len(lines))
    attributes = {
        "point": np.array([each.encode() for each in pairs.names]),
        "east": every.values[:, 0],
        "north": every.values[:, 1],
        "height": every.values[:, 2],
    }
    return dataclasses.replace(made, attributes=attributes)


def _in_unit(data: Dataset, unit: Unit | None, findings: list[Finding]) -> Dataset:
    own = data.frame.horizontal
    if own is None or unit is None or own is unit:
        return data
    if Unit.DEGREE in (own, unit):
        raise CallError(f"{data.name} is in degrees; bring it onto a grid first (reproject)")
    ratio = factor(own, unit)
    findings.append(
        note("unit-brought", f"{data.name}: plan brought from {own.title} to {unit.title}, as the fit has it.")
    )
    return data.with_coordinates(ratio, 1.0, Frame(data.frame.crs, unit, data.frame.vertical))


def _tiled_motion(data: Dataset, params: FitParams) -> tuple[Fitted, Frame]:
    """Return the motion of a fit that was kept, and the frame in which it leaves some data of a tile.

    Raises
    ------
    CallError
        If the data is in another unit than the fit.
    """
    kept = kept_fit(Path(params.using))
    own = data.frame.horizontal
    if own is not None and kept.unit is not None and own is not kept.unit:
        raise CallError(
            f"{data.name} is in {own.title}, the fit takes {kept.unit.title}; on tiles both have to be the same"
        )
    if kept.fit.model.solid:
        raise CallError("a fit in space moves the plan by the heights; on tiles a fit in plan can be used")
    return Fitted.by(kept.fit.inverse() if params.inverse else kept.fit), _frame_after(data, kept.frame, params)


def _tile(inputs: Sequence[Dataset], params: FitParams, piece: TilePart) -> Dataset:
    motion, frame = _tiled_motion(inputs[0], params)
    return moved_tile(inputs[0], motion, piece).in_frame(frame)


def _whole(inputs: Sequence[Outline], params: FitParams) -> Outline:
    motion, frame = _tiled_motion(inputs[0].dataset(), params)
    return dataclasses.replace(moved_outline(inputs[0], motion), frame=frame)


def _refuses(params: FitParams) -> str:
    return (
        ""
        if params.using
        else "on tiles a fit has to be there: make it first (vastgrid fit … --keep FILE), then name it (using=FILE)"
    )


CONVERSION = Conversion(
    id="fit",
    version=1,
    title="Fit to control points",
    also=(
        "control points",
        "Helmert",
        "localization",
        "calibration",
        "transformation",
        "affine",
        "georeference",
        "site grid",
    ),
    help="Data from a local grid onto known points: shift, turn and scale by least squares, with residuals at every point.",
    inputs=(
        Input(
            "data", (PointSet, Linework, Contours, Areas, Tin, Grid, Mesh, Survey), help="what is brought into place"
        ),
        Input("from", (PointSet,), least=0, help="points in the data's own coordinates"),
        Input("to", (PointSet,), least=0, help="the same points, known"),
    ),
    outputs=(
        Output("data", like="data"),
        Output("residuals", Table, title="residuals", aside=True),
        Output("arrows", Linework, title="residual arrows", aside=True),
    ),
    params=FitParams,
    template="{data} fitted[ from {from}][ onto {to}][ using {using}] by {model}[, heights by {heights}][, paired by {by}], blunders beyond {blunder} standard deviations {drop}[, kept in {keep}][, {inverse}].",
    run=run,
    settle=settle,
    name=lambda inputs, params: f"{inputs[0].name}, fitted",
    frame_of="to",
    tiles=Tiling(
        halo=lambda inputs, params: 0.0,
        whole=_whole,
        run=_tile,
        ground=lambda box, outline, params: ground_before(box, _tiled_motion(outline.dataset(), params)[0]),
        refuses=_refuses,
    ),
    any_quantity=True,
    own_frame=True,
    ask=True,
)
