"""What of datasets goes into a file, and as what: kinds, units, heights, decimals and names; what stays behind is said."""

from __future__ import annotations

import dataclasses
import math
from collections.abc import Callable, Sequence
from functools import singledispatch
from typing import Any

import numpy as np

from vastgrid.base.errors import CallError, DataError
from vastgrid.base.findings import Finding, count, either, left_out, note
from vastgrid.base.progress import Silent
from vastgrid.base.quantities import Unit, factor
from vastgrid.data.areas import Areas
from vastgrid.data.attributes import numbers_of_texts
from vastgrid.data.dataset import Dataset, Floats
from vastgrid.data.kinds import narrowed
from vastgrid.data.linework import Linework
from vastgrid.data.pointset import PointSet
from vastgrid.data.tin import Tin
from vastgrid.declarations.fileformat import Carries, Format, losses
from vastgrid.terrain.place.reproject import geographic, utm_zone
from vastgrid.terrain.place.units import in_units
from vastgrid.terrain.tin.precision import at_decimals, mended


def prepared(
    datasets: Sequence[Dataset],
    target: Format,
    params: Any,
    units: tuple[Unit | None, Unit | None],
    findings: list[Finding],
) -> list[Dataset]:
    """Return what will be written: what the format can hold, in the units asked for; say what stays behind.

    Raises
    ------
    CallError
        If nothing can be written, or units are asked for that cannot be had.
    """
    carries = target.carries_with(params)
    able = [each for each in datasets if isinstance(each, carries.kinds)]
    for each in datasets:
        # Tables lie nowhere: no file of terrain holds them, and the report has what they say.
        if each not in able and each.located:
            findings.append(
                Finding("kind-not-carried", f"{target.title} cannot hold {each.title}: {each.name} was left out.")
            )
    _check_able(able, target, carries)
    if carries.metres:
        able = [_in_metres(each, target, units, findings) for each in able]
        units = (None, None)
    if carries.geographic:
        if units != (None, None):
            raise CallError(f"{target.title} holds longitude, latitude and metres; no other unit can be asked for")
        able = [_geographic(each, findings) for each in able]
        units = (None, None)
    for each in able:
        on_grid = carries.unit_needed or carries.units == "one" or carries.metres
        if on_grid and each.frame.horizontal is Unit.DEGREE:
            extent = each.extent()
            zone = utm_zone(sum(extent.east) / 2, sum(extent.north) / 2) if extent.east and extent.north else "…"
            raise CallError(
                f"{each.name} is in degrees; {target.title} needs coordinates on a grid, in a unit of length. "
                f"Bring it into one first: --via reproject crs={zone}"
            )
    out = [_converted(each, carries.units, units, target, findings) for each in able]
    if not carries.open_heights:
        out = [_with_heights(each, target, findings) for each in out]
    out = [_with_columns(each, target, params, findings) for each in out]
    findings += target.says(out, params)
    out = list(target.given(out, params))
    if carries.step:
        decimals = round(-math.log10(carries.step))
        out = [at_decimals(narrowed(each, Tin), decimals, findings) if each.kind == Tin.kind else each for each in out]
    elif target.seen is not None:
        out = [_as_seen(each, target.seen, params, findings) for each in out]
    for each in out:
        if carries.unit_needed and each.frame.horizontal is None:
            raise CallError(
                f"{target.title} has to say its unit, and that of {each.name} is unknown; say it with --from-units (m, ft, us-ft)"
            )
        findings += losses(each, carries)
    return _with_own_names(out, findings)


@singledispatch
def _with_columns(dataset: Dataset, target: Format, params: Any, findings: list[Finding]) -> Dataset:
    """Return a dataset with its attributes as the format holds them; say what that does to them, and to their names."""
    return dataset


@_with_columns.register(PointSet)
@_with_columns.register(Linework)
@_with_columns.register(Areas)
def _columns_held(
    data: PointSet | Linework | Areas, target: Format, params: Any, findings: list[Finding]
) -> PointSet | Linework | Areas:
    carries = target.carries_with(params)
    attributes = dict(data.attributes)
    if carries.attributes == "numbers":
        found = {name: numbers_of_texts(values) for name, values in attributes.items()}
        attributes |= {name: values for name, values in found.items() if values is not None}
    held = carries.attributes_held(attributes)
    for name in held:
        values, told = target.column(name, attributes[name], params)
        if told:
            findings.append(Finding("attribute-changed", f"Attribute {name} of {data.name}: {told}."))
        if len(values) == len(attributes[name]):
            attributes[name] = values
        else:
            del attributes[name]
    called = target.renamed([name for name in held if name in attributes], params)
    other = [f"{name} as {there}" for name, there in called.items() if there and there != name]
    if other:
        findings.append(
            note(
                "attributes-renamed", f"{target.title} spells attributes of {data.name} otherwise: {', '.join(other)}."
            )
        )
    return dataclasses.replace(data, attributes=attributes)


@singledispatch
def _with_heights(dataset: Dataset, target: Format, findings: list[Finding]) -> Dataset:
    """Return a dataset for a format in which every place has a height; say what that does to those that have none.

    Raises
    ------
    CallError
        If no point has one.
    """
    return dataset


@_with_heights.register
def _points_with_heights(points: PointSet, target: Format, findings: list[Finding]) -> Dataset:
    known = np.isfinite(points.xyz[:, 2])
    if known.all():
        return points
    if not known.any():
        raise CallError(f"no point of {points.name} has a height, and {target.title} needs one of each")
    number = int((~known).sum())
    text = f"{count(number, 'point')} of {points.name} without a height, which {target.title} cannot say: left out."
    findings.append(left_out("no-height", text))
    attributes = {name: values[known] for name, values in points.attributes.items()}
    return dataclasses.replace(points, xyz=points.xyz[known], attributes=attributes)


@_with_heights.register
def _lines_with_heights(lines: Linework, target: Format, findings: list[Finding]) -> Dataset:
    if not np.isnan(lines.vertices[:, 2]).any():
        return lines
    flat = int(lines.without_heights().sum())
    lacking = int(np.isnan(lines.vertices[:, 2]).sum())
    filled = lines.heights_filled()
    between = lacking - int(np.isnan(filled.vertices[:, 2]).sum())
    if flat:
        text = f"{count(flat, 'line')} of {lines.name} {either(flat, 'has', 'have')} no heights; {target.title} cannot say that, so a receiver will read height 0 for {either(flat, 'it', 'them')}."
        findings.append(Finding("lines-without-height", text))
    if between:
        text = f"{count(between, 'vertex', 'vertices')} of {lines.name} {either(between, 'has', 'have')} no height; heights are interpolated between the line's known heights."
        findings.append(Finding("heights-filled", text))
    return filled


def _check_able(able: Sequence[Dataset], target: Format, carries: Carries) -> None:
    """Refuse what cannot go into one file together, or is empty."""
    if not able:
        kinds = ", ".join(kind.title for kind in carries.kinds)
        raise CallError(f"{target.title} holds {kinds}; there is none to write")
    if len(able) > 1 and not carries.several:
        names = ", ".join(each.name for each in able)
        raise CallError(
            f"{target.title} holds one dataset, and there are {len(able)}: {names}; choose one of them (--only NAME)"
        )
    for each in able:
        if not any(each.count().values()):
            raise DataError(f"{each.name} is empty: there is nothing to write")


def _as_seen(dataset: Dataset, seen: Callable[[Floats, Any], Floats], params: Any, findings: list[Finding]) -> Dataset:
    """Return a TIN none of whose triangles collapses where a reader will see its vertices."""
    if dataset.kind != Tin.kind:
        return dataset
    tin = narrowed(dataset, Tin)
    rounded = seen(tin.vertices, params)
    slack = float(np.abs(rounded - tin.vertices).max(initial=0.0))
    return mended(tin, rounded, 2.0 * slack, "single precision", findings)


def _in_metres(
    dataset: Dataset, target: Format, units: tuple[Unit | None, Unit | None], findings: list[Finding]
) -> Dataset:
    """Return a dataset in metres, for a format whose standard knows nothing else.

    Raises
    ------
    CallError
        If another unit was asked for, or the data's is unknown.
    """
    if any(unit not in (None, Unit.METRE) for unit in units):
        raise CallError(f"{target.title} is in metres by its standard; no other unit can be asked for")
    frame = dataset.frame
    if frame.horizontal is None or (frame.vertical is None and dataset.has_lengths):
        option = "--from-units" if frame.horizontal is None else "--from-vertical-units"
        raise CallError(
            f"{target.title} is in metres by its standard, and the unit of {dataset.name} is unknown; "
            f"say it with {option} (m, ft, us-ft)"
        )
    other = [unit for unit in dict.fromkeys((frame.horizontal, frame.vertical)) if unit not in (None, Unit.METRE)]
    if not other or Unit.DEGREE in other:
        return dataset
    told = " and ".join(f"{unit.title} × {float(unit.metres):.12g}" for unit in other if unit)
    findings.append(note("in-metres", f"{target.title} is in metres: {dataset.name} was brought into them ({told})."))
    return in_units(dataset, Unit.METRE, Unit.METRE if dataset.has_lengths else None)


def _geographic(dataset: Dataset, findings: list[Finding]) -> Dataset:
    moved, said = geographic(dataset, Silent())
    findings += said
    findings.append(
        note("reprojected", f"{dataset.name} goes out in longitude and latitude of WGS 84, heights in metres.")
    )
    return moved


def _converted(
    dataset: Dataset,
    carried: str,
    units: tuple[Unit | None, Unit | None],
    target: Format,
    findings: list[Finding],
) -> Dataset:
    plan, height = units
    frame = dataset.frame
    if carried == "one":
        wanted = plan or frame.horizontal
        if height and wanted and height is not wanted:
            raise CallError(
                f"{target.title} has one unit for plan and height; {wanted.title} and {height.title} were asked for"
            )
        if wanted and frame.vertical and frame.vertical is not wanted:
            if height is None:
                text = f"{target.title} has one unit for plan and height: heights were brought from {frame.vertical.title} to {wanted.title}."
                findings.append(note("heights-follow", text))
            height = wanted
        elif wanted and frame.vertical is None and plan and plan is not frame.horizontal:
            raise CallError(
                f"the height unit of {dataset.name} is unknown, so heights cannot follow into {wanted.title}; say it with --from-vertical-units"
            )
    made = in_units(dataset, plan, height)
    told = [
        f"{what} from {old.title} to {new.title} (× {factor(old, new):.12g})"
        for what, old, new in (
            ("plan", frame.horizontal, made.frame.horizontal),
            ("heights", frame.vertical, made.frame.vertical),
        )
        if old and new and old is not new
    ]
    if told:
        findings.append(note("units-changed", f"{dataset.name} goes out in other units: {' and '.join(told)}."))
    return made


def in_units_asked(dataset: Dataset, units: tuple[Unit | None, Unit | None]) -> Dataset:
    """Return a dataset as `fits` sees it: in the units that were asked for where it can be brought there."""
    try:
        return in_units(dataset, *units) if dataset.located else dataset
    except CallError:
        return dataset


def _with_own_names(datasets: list[Dataset], findings: list[Finding]) -> list[Dataset]:
    taken: set[str] = set()
    out = []
    for each in datasets:
        name, number = each.name, 2
        while name in taken:
            name, number = f"{each.name} {number}", number + 1
        if name != each.name:
            findings.append(note("renamed", f"A second {each.name} was written as {name}."))
        taken.add(name)
        out.append(each.renamed(name) if name != each.name else each)
    return out
