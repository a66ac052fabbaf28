"""The steps that the window and the command line share: read, bring into one frame, convert."""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from vastgrid import catalog
from vastgrid.base.errors import CallError, DataError, FormatError, ParamError, VastGridError
from vastgrid.base.findings import Finding, Remedy, note
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Length, Quantity, Unit, factor
from vastgrid.data.dataset import Dataset
from vastgrid.data.frame import Frame, crs_in_units, crs_name, height_system, is_geographic, same_place
from vastgrid.data.tin import Tin
from vastgrid.declarations.conversion import Conversion, Inputs, Result, listed
from vastgrid.declarations.fileformat import Format, ReadResult
from vastgrid.measures.difference import difference
from vastgrid.measures.evidence import contradictions, fits_only_turned, stray_places
from vastgrid.params import declare
from vastgrid.terrain.place.axes import east_north
from vastgrid.terrain.place.units import in_units


@dataclass(frozen=True, slots=True)
class Source:
    """A file that was read: its format, its datasets, what was noticed, and which lines could not be read.

    Where only a sample was read, `totals` has the counts of what the datasets stand for.
    """

    path: Path
    format: Format
    datasets: tuple[Dataset, ...]
    findings: tuple[Finding, ...]
    left_out: tuple[str, ...] = ()
    totals: tuple[dict[str, int], ...] = ()

    def counts(self) -> list[dict[str, int]]:
        """Return the counts of each dataset; of what they stand for, where they are only samples."""
        return list(self.totals) or [each.count() for each in self.datasets]


# Files from this size on are shown by a sample before they are read whole.
LARGE_FILE = 48 << 20


def read_file(
    path: Path,
    words: dict[str, str],
    progress: Progress,
    units: tuple[Unit | None, Unit | None] = (None, None),
    *,
    override: bool = False,
    kind: Format | None = None,
) -> Source:
    """Read a file of any known format.

    Parameters
    ----------
    kind : Format or None
        Its format, where that is known already.
    words : dict
        Reader options as words.
    units : pair of Unit or None
        Plan and height unit, for what the file leaves unknown.
    override : bool
        Believe these units also where the file says others: files contradict themselves.

    Raises
    ------
    FormatError, CallError
        If the file or an option is at fault.
    """
    kind = kind or catalog.recognise(path)
    params = declare.build(kind.read_params, words)
    if kind.read is None:
        raise FormatError(path, f"{kind.title} can be written but not read")
    try:
        result = kind.read(path, params, progress)
    except OSError as error:
        raise FormatError(path, f"it cannot be read: {error.strerror or error}") from error
    datasets, findings = [], list(result.findings)
    for each in (*_built(result, findings, progress), *_rebuilt(result, findings, progress)):
        declared, turned = east_north(_declared(each, units, findings, override=override))
        findings += [*turned, *contradictions(declared)]
        datasets.append(declared)
    # What makes everything else look wrong is told first.
    first = [finding for each in datasets for finding in stray_places(each)]
    return Source(path, kind, tuple(datasets), (*first, *findings), left_out=result.left_out)


def turned_findings(source: Source, words: dict[str, str], others: Sequence[Dataset]) -> list[Finding]:
    """Return where a file fits the data beside it only with easting and northing taken for each other, and the remedy."""
    found = []
    for each in source.datasets:
        if not fits_only_turned(each, others):
            continue
        text = (
            f"{each.name} lies far from the other data, but among it once easting and northing are taken for each other"
        )
        remedy = None
        if source.format.turned is not None:
            names = {field.name for field in declare.fields(source.format.read_params)}
            params = declare.build(source.format.read_params, {k: v for k, v in words.items() if k in names})
            more = source.format.turned(source.path, params)
            remedy = Remedy("words", "Take easting and northing for each other", more)
        found.append(Finding("easting-northing-turned", text + ".", remedy=remedy))
    return found


def peek_file(path: Path, words: dict[str, str], progress: Progress) -> Source | None:
    """Read a sample of a large file, for a picture in a second or two; None where its format has no such way.

    Raises
    ------
    FormatError, CallError
        If the file or an option is at fault.
    """
    kind = catalog.recognise(path)
    if kind.peek is None or path.stat().st_size < LARGE_FILE:
        return None
    result = kind.peek(path, declare.build(kind.read_params, words), progress)
    return Source(path, kind, result.datasets, result.findings, totals=result.totals)


def _tin_of(parts: Sequence[Dataset], progress: Progress) -> tuple[Tin, str]:
    """Return the TIN of a surface's source data as the data itself says it is to be built, and how, as a sentence."""
    conversion = catalog.builder()
    params = conversion.settle(parts, conversion.params())
    tin = conversion.run(parts, params, progress).dataset
    assert isinstance(tin, Tin)
    return tin, declare.plain(conversion.sentence(params, [each.name for each in parts]))


def _built(result: ReadResult, findings: list[Finding], progress: Progress) -> list[Dataset]:
    """Return what was read, surfaces built where the file has only what they are built from."""
    surfaces: dict[int, Dataset] = {}
    gone: set[int] = set()
    for name, parts in result.unbuilt:
        try:
            tin, sentence = _tin_of([result.datasets[k] for k in parts], progress)
        except VastGridError as error:
            findings.append(
                Finding("not-built", f"{name} has no faces and cannot be built from its source data: {error}.")
            )
            continue
        surfaces[parts[0]] = tin.renamed(name)
        gone |= set(parts)
        findings.append(
            note("built-from-source", f"{name} has no faces; it was built from its source data: {sentence}")
        )
    return [surfaces.get(k, each) for k, each in enumerate(result.datasets) if k not in gone or k in surfaces]


def _rebuilt(result: ReadResult, findings: list[Finding], progress: Progress) -> list[Dataset]:
    """Return surfaces built anew from the data that a file says they were built from, with how far they differ."""
    made: list[Dataset] = []
    for own, sources in result.rebuilt:
        faces = result.datasets[own]
        assert isinstance(faces, Tin)
        try:
            tin, _ = _tin_of([result.datasets[k] for k in sources], progress)
            loss = difference(faces, tin, progress)
        except VastGridError as error:
            findings.append(Finding("not-rebuilt", f"{faces.name} cannot be built from its source data: {error}."))
            continue
        made.append(tin.renamed(f"{faces.name} rebuilt"))
        text = f"{faces.name} built anew from its source data differs from its faces by {loss.sentence()}."
        findings.append(Finding("definitions-differ", text, at=loss.at))
    return made


def said_units(dataset: Dataset, units: tuple[Unit | None, Unit | None], *, override: bool) -> Dataset:
    """Return a dataset in the units that were said for it: what it leaves unknown, or, overriding it, all of them."""
    frame = _said_frame(dataset.frame, units, override=override)
    return dataset if frame == dataset.frame else dataset.in_frame(frame)


def _said_frame(own: Frame, units: tuple[Unit | None, Unit | None], *, override: bool) -> Frame:
    frame = own.filled(*units)
    if not override:
        return frame
    plan, height = units[0] or frame.horizontal, units[1] or frame.vertical
    crs = frame.crs
    if plan is not frame.horizontal and plan is not None:
        # The same projection, with its coordinates in the unit that was said.
        crs = crs_in_units(crs, plan, height)
    return Frame(crs, plan, height)


def declared_frame(
    dataset: Dataset, units: tuple[Unit | None, Unit | None], findings: list[Finding], *, override: bool
) -> Frame:
    """Return the frame of a dataset with the units that were said for it.

    Raises
    ------
    CallError
        If it says others itself, and these do not override them.
    """
    frame = dataset.frame
    if units[1] is not None and not dataset.has_lengths:
        raise CallError(
            f"{dataset.name} holds no heights, so --from-vertical-units does not fit it; say it of other files by FILE=UNIT"
        )
    for said, have, what, option in (
        (units[0], frame.horizontal, "plan", "--from-units"),
        (units[1], frame.vertical, "height", "--from-vertical-units"),
    ):
        if said and have and said is not have:
            told = f"{dataset.name} says its own {what} unit ({have.title})"
            if not override:
                raise CallError(
                    f"{told}, and {said.title} was given; --override-units makes {said.title} count, "
                    f"and {option} FILE=UNIT says a unit of one file alone"
                )
            findings.append(note("unit-already-known", f"{told}; {said.title} was given and counts instead, as asked."))
    return _said_frame(frame, units, override=override)


def _declared(
    dataset: Dataset, units: tuple[Unit | None, Unit | None], findings: list[Finding], *, override: bool
) -> Dataset:
    frame = declared_frame(dataset, units, findings, override=override)
    return dataset if frame == dataset.frame else dataset.in_frame(frame)


def in_one_frame(datasets: Sequence[Dataset], findings: list[Finding]) -> list[Dataset]:
    """Bring datasets into the units of the first that knows them; units that are still unknown follow, and it is said.

    Raises
    ------
    DataError
        If they are in different coordinate reference systems and places.
    """
    if len(datasets) < 2:
        return list(datasets)
    located = [each for each in datasets if each.located]
    plan = next((each.frame.horizontal for each in located if each.frame.horizontal), None)
    height = next((each.frame.vertical for each in located if each.frame.vertical), None)
    crs = next((each.frame.crs for each in located if each.frame.crs), None)
    out = []
    for each in datasets:
        if not each.located:
            out.append(each)
            continue
        frame = each.frame
        _same_reference(each, crs, datasets)
        if each.has_lengths:
            findings += other_heights(each.name, frame.crs, datasets[0].name, crs)
        for unit, have, what, option in (
            (plan, frame.horizontal, "plan", "--from-units"),
            (height, frame.vertical, "height", "--from-vertical-units"),
        ):
            if unit and not have and (what == "plan" or each.has_lengths):
                text = f"The {what} unit of {each.name} is unknown; it was taken to be {unit.title}, as in the other data. If that is wrong, say so ({option})."
                findings.append(Finding("unit-taken", text))
            elif unit and have is not unit and have:
                findings.append(note("unit-brought", f"{each.name}: {what} brought from {have.title} to {unit.title}."))
        own = height if each.has_lengths else None
        moved = in_units(each.in_frame(frame.filled(plan, own)), plan, own)
        out.append(moved.in_frame(Frame(crs, plan, own)))
    return out


def other_heights(name: str, own: str | None, other: str, crs: str | None) -> list[Finding]:
    """Say that heights of two datasets are of different height systems, where both say theirs."""
    mine, theirs = height_system(own), height_system(crs)
    if not mine or not theirs or mine == theirs:
        return []
    text = f"Heights of {name} are in {mine}, those of {other} in {theirs}: they are compared directly, and may differ by decimetres."
    return [Finding("height-systems-differ", text)]


def _same_reference(dataset: Dataset, crs: str | None, others: Sequence[Dataset]) -> None:
    own = dataset.frame.crs
    if not own or not crs or own == crs or same_place(own, crs):
        return
    raise DataError(
        f"{dataset.name} is in {crs_name(own)}, {others[0].name} in {crs_name(crs)}; bring them into one system first"
    )


def with_known_units(inputs: Sequence[Dataset], params: Any, findings: list[Finding]) -> tuple[list[Dataset], Any]:
    """Bring parameters into the frame of the data, and let a length with a unit say that of data that has none.

    Raises
    ------
    CallError
        If that would make plan and height differ in unit without anyone having said so, or a place was drawn elsewhere.
    """
    out = list(inputs)
    for field in declare.fields(type(params)):
        value = getattr(params, field.attribute)
        if value is None or not out:
            continue
        frame = out[0].frame
        try:
            brought = field.how.brought(value, field.param.quantity, frame)
        except CallError as error:
            raise ParamError(field.name, str(error)) from error
        if brought is not value and brought != value:
            params = dataclasses.replace(params, **{field.attribute: brought})
        unit = getattr(value, "unit", None)
        if unit is None:
            continue
        height = field.param.quantity in (Quantity.Z_LENGTH, Quantity.VALUE)
        known = frame.vertical if height else frame.horizontal
        if known is not None:
            findings += _other_foot(field.name, value, known)
            continue
        other = frame.horizontal if height else frame.vertical
        what, option = ("height", "--from-vertical-units") if height else ("plan", "--from-units")
        if other is not None and other is not unit:
            raise CallError(
                f"{field.name} is given in {unit.title}, but the {what} unit of {out[0].name} is unknown and the other unit is {other.title}; say it with {option}"
            )
        text = f"The {what} unit of {out[0].name} is unknown; since {field.name} is given in {unit.title}, it was taken to be that. If that is wrong, say so ({option})."
        findings.append(Finding("unit-taken", text))
        filled = frame.filled(None, unit) if height else frame.filled(unit, None)
        out = [each.in_frame(filled) for each in out]
    return out, params


def _other_foot(name: str, length: Any, known: Unit) -> list[Finding]:
    """Point out a length in one foot for data in the other: 50 ft are 49.9999 US survey feet."""
    feet = (Unit.FOOT, Unit.US_FOOT)
    if not isinstance(length, Length) or length.unit is None or length.unit is known:
        return []
    if length.unit not in feet or known not in feet:
        return []
    text = (
        f"{name} is given in {length.unit.title}, and the data is in {known.title}: {length.value:g} {length.unit.value} are "
        f"{length.value * factor(length.unit, known):.10g} {known.value}. If the data's own feet are meant, say {name}={length.value:g}{known.value}."
    )
    return [Finding("other-foot", text)]


def check_usable(conversion: Conversion, inputs: Sequence[Dataset], said: Sequence[str] = ()) -> Inputs:
    """Return inputs in their roles, or refuse those that a conversion cannot use; see `roles_of`."""
    pairs = zip(roles_of(conversion, inputs, said), inputs, strict=True)
    return Inputs.of_pairs(sorted(pairs, key=lambda pair: conversion.place_of(pair[0])))


def roles_of(conversion: Conversion, inputs: Sequence[Dataset], said: Sequence[str] = ()) -> list[str]:
    """Return the role of each input, or refuse inputs that a conversion cannot use.

    Parameters
    ----------
    said : sequence of str
        Roles that were said, in the order of the inputs; empty where none was.

    Raises
    ------
    CallError
        If they are of the wrong kind, too few or too many.
    """
    roles = conversion.assigned(inputs, said)
    if roles is not None:
        return roles
    able = [any(conversion.can_use(each, one.role) for one in conversion.inputs) for each in inputs]
    wrong = next((each for each, fits in zip(inputs, able, strict=True) if not fits), None)
    if wrong is not None and wrong.located and not wrong.has_heights:
        raise CallError(
            f"{conversion.id} needs heights; {wrong.name} holds {getattr(wrong, 'holds', lambda: 'none')()}"
        )
    if wrong is not None and isinstance(wrong, conversion.takes):
        raise CallError(f"{conversion.id} cannot use {wrong.name}: {conversion.help[0].lower()}{conversion.help[1:]}")
    if wrong is not None or not inputs:
        what = f"{wrong.name} ({wrong.title})" if wrong is not None else "nothing"
        raise CallError(f"{conversion.id} can use {conversion.wants()}, not {what}")
    if not conversion.single:
        names = listed([each.name for each in inputs])
        raise CallError(f"{conversion.id} needs {conversion.wants()}; {names} cannot be all of that")
    raise CallError(f"{conversion.id} uses {conversion.number()}, not {len(inputs)}")


def in_frame_of(conversion: Conversion, inputs: Inputs, findings: list[Finding]) -> Inputs:
    """Bring the inputs of a conversion into the frame of the role that gives it.

    Raises
    ------
    DataError
        If they are in different coordinate reference systems and places.
    """
    role = conversion.frame_of or conversion.main.role
    order = sorted(range(len(inputs)), key=lambda k: (not inputs[k].located, inputs.roles[k] != role))
    brought = in_one_frame([inputs[k] for k in order if inputs[k].located], findings)
    out = list(inputs)
    for k, dataset in zip(order, brought, strict=False):
        out[k] = dataset
    return inputs.with_datasets(out)


def settled(conversion: Conversion, inputs: Inputs, params: Any) -> Any:
    """Return parameters with nothing left open, as they would be for these inputs.

    Raises
    ------
    VastGridError
        If they cannot be for these inputs.
    """
    known = in_frame_of(conversion, inputs, [])
    datasets, params = with_known_units(known, params, [])
    return conversion.settle(known.with_datasets(datasets), params)


# With so much in all, a step is made for its preview as it would be for good.
LIGHT = 150_000


def lightly(conversion: Conversion, inputs: Inputs, params: Any, progress: Progress) -> Dataset | None:
    """Return what a step would make, to be drawn over the plan while its sentence is edited.

    A conversion that says how its preview is made is asked; any other is run, where its inputs are few.

    Parameters
    ----------
    inputs, params
        In one frame, with nothing left open.

    Returns
    -------
    Dataset or None
        None where it would take long, or would not lie in the plan.
    """
    if conversion.preview is not None:
        return conversion.preview(inputs, params, progress)
    if conversion.own_frame or sum(_size(each) for each in inputs) > LIGHT:
        return None
    made = conversion.run(inputs, params, progress).dataset
    return made if made.located else None


def _size(dataset: Dataset) -> int:
    counts = dataset.count()
    return counts["rows"] * counts["columns"] if "rows" in counts else max(counts.values(), default=0)


def convert(
    conversion: Conversion, inputs: Sequence[Dataset], params: Any, progress: Progress, name: str = ""
) -> tuple[Result, Any]:
    """Run a conversion on datasets of any frame; return its result and the parameters with nothing left open.

    Raises
    ------
    CallError
        If it cannot use these kinds or this many datasets.
    """
    given = check_usable(conversion, inputs, inputs.roles if isinstance(inputs, Inputs) else ())
    findings: list[Finding] = []
    given = in_frame_of(conversion, given, findings)
    datasets, params = with_known_units(given, params, findings)
    given = given.with_datasets(datasets)
    if given and is_geographic(given[0].frame):
        findings.append(
            Finding(
                "degrees",
                "Coordinates are degrees: distances and triangles are distorted; reproject to a grid for real work.",
            )
        )
    params = conversion.settle(given, params)
    result = conversion.run(given, params, progress)
    named = name or conversion.name(given, params) or conversion.title
    dataset = result.dataset.renamed(named)
    return dataclasses.replace(result, dataset=dataset, findings=(*findings, *result.findings)), params
