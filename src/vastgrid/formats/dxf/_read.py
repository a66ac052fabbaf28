"""Reading what terrain a drawing holds."""

from __future__ import annotations

import dataclasses
import math
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from enum import Enum
from pathlib import Path
from typing import Annotated, Any

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.errors import DataError, FormatError
from vastgrid.base.findings import Finding, Severity, count, left_out, note
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Unit
from vastgrid.data.dataset import Dataset, Floats
from vastgrid.data.frame import Frame
from vastgrid.data.line_roles import BOUNDARY, BREAKLINE
from vastgrid.data.linework import Linework, from_lines
from vastgrid.data.pointset import PointSet
from vastgrid.declarations.fileformat import ReadResult
from vastgrid.format_support.origin import NOWHERE, heard
from vastgrid.format_support.polygons import areas_of
from vastgrid.formats.dxf._collect import collected
from vastgrid.formats.dxf._drawing import Drawing, text_height
from vastgrid.formats.dxf._tags import drawing_bytes, entities_of, header_of, tags_of
from vastgrid.formats.dxf.sorting import KINDS_OF_LINES, LIMITS, Becomes, Items, Rule, matched, parse_rules
from vastgrid.measures.levels import interval_finding
from vastgrid.params.declare import Param
from vastgrid.terrain.areas.nesting import assembled, enclosed
from vastgrid.terrain.tin.assemble import surface_from_faces, welded

# $INSUNITS by the DXF reference.
_UNITS = {1: Unit.INCH, 2: Unit.FOOT, 4: Unit.MILLIMETRE, 6: Unit.METRE, 21: Unit.US_FOOT}
# An arc that is measured in metres is drawn to a centimetre; a drawing without units to a hundredth of its unit.
_CHORD = 0.01


class Hidden(Enum):
    """What becomes of entities that a drawing does not show."""

    TAKE = "take"
    LEAVE = "leave"


@dataclass(frozen=True)
class DxfReadParams:
    """How a drawing is read."""

    rules: Annotated[
        str,
        Param(
            "Sorting rules",
            "What becomes what, such as: breaklines “Kerbs”: layer=KERB*; spot heights: type=text, z=100..300; left out: "
            "layer=FRAME. The first rule that fits counts.",
            absent="none: every entity as what it is",
            once=True,
        ),
    ] = ""
    accept_cut: Annotated[
        bool, Param("Accept a cut-off file", "Take the whole entities of a drawing that ends before its end mark.")
    ] = False
    recover: Annotated[bool, Param("Repair", "Repair a damaged drawing as far as possible.")] = False
    hidden: Annotated[
        Hidden, Param("Hidden entities", "What is on layers that are off or frozen: take, or leave out.")
    ] = Hidden.TAKE
    chord: Annotated[
        float,
        Param("Chord tolerance", "Largest distance of a chord from the arc it stands for, in drawing units.", above=0),
    ] = _CHORD


def read(path: Path, params: DxfReadParams, progress: Progress) -> ReadResult:
    """Read what terrain a drawing holds; see `FORMAT`.

    Raises
    ------
    FormatError
        If it is not DXF, or is cut off and that was not accepted.
    ParamError
        If a sorting rule cannot be read.
    """
    rules = parse_rules(params.rules)
    findings: list[Finding] = []
    drawing, frame = open_drawing(path, params, progress, findings)
    datasets = by_rules(path, drawing, rules, frame, findings) if rules else as_it_is(path, drawing, frame, findings)
    progress.report(0.95, f"reading {path.name}")
    if not datasets:
        kinds = "; ".join(finding.text for finding in findings) or "it is empty"
        raise FormatError(path, f"the drawing has no faces, lines, polylines or points in its model space ({kinds})")
    _check_units(datasets, frame, findings)
    return ReadResult(tuple(datasets), tuple(findings))


def open_drawing(
    path: Path, params: DxfReadParams, progress: Progress, findings: list[Finding]
) -> tuple[Drawing, Frame]:
    """Return everything in a drawing's model space, and its units.

    Raises
    ------
    FormatError
        If it is not DXF, or is cut off and that was not accepted.
    """
    data = drawing_bytes(path, recover=params.recover, findings=findings)
    progress.report(0.1, f"reading {path.name}")
    tags = tags_of(path, data, accept_cut=params.accept_cut)
    progress.report(0.4, f"reading {path.name}")
    header = header_of(tags)
    entities = entities_of(path, tags, params.accept_cut, header, findings)
    frame = _frame(header, findings)
    shown = np.ones(len(entities.first), np.bool_)
    shown[entities.owner[(entities.tags.codes == 67) & (entities.tags.numbers == 1)]] = False
    hidden = params.hidden is Hidden.TAKE
    drawing = collected(path, entities, tags, shown, params.chord, findings, progress.part(0.4, 0.8), hidden=hidden)
    progress.report(0.8, f"reading {path.name}")
    place, told = heard(bytes(data[:500]))
    if place != NOWHERE:
        drawing.move(np.array(place))
        text = (
            f"Coordinates are relative to E {place[0]:.10g}, N {place[1]:.10g}, Z {place[2]:.10g}, as the drawing says."
        )
        findings.append(note("local-origin", text))
    # An edition without units may still say them in words.
    return drawing, frame if frame.horizontal else told


def _frame(header: dict[str, tuple[bytes, float]], findings: list[Finding]) -> Frame:
    code = header.get("$INSUNITS", (b"", 0.0))[1]
    unit = _UNITS.get(int(code)) if math.isfinite(code) else None
    if unit is None and math.isfinite(code) and code != 0:
        findings.append(Finding("unit-not-used", f"The drawing's unit ($INSUNITS {code:g}) is not one used here."))
    return Frame(None, unit, unit)


def _check_units(datasets: Sequence[Dataset], frame: Frame, findings: list[Finding]) -> None:
    """Question a unit that makes no sense: a site a few feet wide was drawn in something else."""
    spans = [each.extent() for each in datasets]
    east = [e.east for e in spans if e.east]
    if frame.horizontal not in (Unit.INCH, Unit.MILLIMETRE) or not east:
        return
    width = max(pair[1] for pair in east) - min(pair[0] for pair in east)
    metres = width * float(frame.horizontal.metres)
    if metres < 60.0 and width > 20.0:
        text = (
            f"The drawing says its unit is the {frame.horizontal.title}, which makes it {metres:.2f} m wide; terrain is "
            f"seldom so small. Perhaps the number {width:.0f} means feet or metres: then say so when importing."
        )
        findings.append(Finding("unit-doubtful", text))


def as_it_is(path: Path, drawing: Drawing, frame: Frame, findings: list[Finding]) -> list[Dataset]:
    """Return faces layer by layer, lines, and points; texts are no terrain until a rule says so."""
    found: list[Dataset] = []
    places = drawing.points()
    bare = np.setdiff1d(np.arange(len(places)), np.array(sorted(drawing.texts), np.int64))
    triangles, owner = drawing.faces()
    hatched = any(rings for _, rings in drawing.hatches)
    several = (len(bare) > 0) + (len(drawing.lines) > 0) + (len(triangles) > 0) + hatched > 1
    layer = drawing.table("faces")[:, 1][owner]
    used, first = np.unique(layer, return_index=True)
    names = drawing.layers.all()
    for own in used[np.argsort(first)].tolist():
        name = names[own] if several or len(used) > 1 else path.stem
        found += _surface(name, frame, triangles[layer == own], findings)
    if drawing.lines:
        name = f"{path.stem} lines" if several else path.stem
        work = _linework(name, frame, drawing, np.arange(len(drawing.lines)))
        findings += interval_finding(work)
        found.append(work)
    if hatched:
        found += _areas(path, f"{path.stem} areas" if several else path.stem, frame, drawing, findings)
    if len(bare):
        found.append(_points(f"{path.stem} points" if several else path.stem, frame, drawing, bare))
    heights = sum(text_height(text) is not None for text in drawing.texts.values())
    if drawing.texts:
        some = f"; {heights} of them read as numbers" if heights else ""
        text = f"{count(len(drawing.texts), 'text')} left out{some} (rules=spot heights: type=text takes those)."
        findings.append(left_out("texts-left-out", text, Severity.WARNING if heights else Severity.NOTE))
    return found


def _areas(path: Path, name: str, frame: Frame, drawing: Drawing, findings: list[Finding]) -> list[Dataset]:
    """Return hatches as areas, their islands by the even-odd rule."""
    filled = [(layer, shape) for layer, rings in drawing.hatches if (shape := assembled(rings)) is not None]
    names = list(dict.fromkeys(layer for layer, _ in filled))
    areas, _ = areas_of(
        path,
        np.array([shape for _, shape in filled], object),
        lambda k: f"hatch {k + 1} on {filled[k][0]}",
        findings,
        name=name,
        frame=frame,
        layer=np.array([names.index(layer) for layer, _ in filled], np.int64),
        layers=names,
        attributes={},
    )
    return [areas] if len(areas) else []


def _surface(name: str, frame: Frame, corners: Floats, findings: list[Finding]) -> list[Dataset]:
    surface, said = surface_from_faces(name, frame, *welded(corners))
    findings += said
    return [surface]


def _linework(name: str, frame: Frame, drawing: Drawing, which: NDArray[np.int64]) -> Linework:
    names = drawing.layers.all()
    layers = [names[k] for k in drawing.table("lines")[which, 1].tolist()]
    return from_lines(name, frame, [drawing.lines[k] for k in which.tolist()], layers)


def _points(name: str, frame: Frame, drawing: Drawing, which: NDArray[np.int64]) -> PointSet:
    names = np.array([layer.encode() for layer in drawing.layers.all()])
    attributes: dict[str, NDArray[Any]] = {"layer": names[drawing.table("points")[which, 1]]}
    for key in ("point", "code", "description"):
        words = [drawing.said.get(k, {}).get(key, "").encode() for k in which.tolist()] if drawing.said else []
        if any(words):
            attributes[key] = np.array(words)
    return PointSet(name=name, frame=frame, xyz=drawing.points()[which], attributes=attributes)


def by_rules(
    path: Path, drawing: Drawing, rules: Sequence[Rule], frame: Frame, findings: list[Finding]
) -> list[Dataset]:
    """Return one dataset for each rule that something fits, and say how many fit which, and what fits none."""
    items = drawing.items()
    rule_of = matched(items, rules)
    found: list[Dataset] = []
    lines, faces = len(drawing.lines), drawing.count("faces")
    for k, rule in enumerate(rules):
        index = np.flatnonzero(rule_of == k)
        findings.append(note("rule-matches", f"{count(len(index), 'entity', 'entities')}: {rule.text()}."))
        if len(index) == 0 or rule.becomes is Becomes.NOTHING:
            continue
        name = rule.name or f"{path.stem} {rule.becomes.value}"
        on_lines, on_faces = index[index < lines], index[(index >= lines) & (index < lines + faces)] - lines
        on_points = index[index >= lines + faces] - lines - faces
        if rule.becomes is Becomes.FACES:
            if len(on_faces):
                triangles, owner = drawing.faces()
                found += _surface(name, frame, triangles[np.isin(owner, on_faces)], findings)
            _unfit(len(index) - len(on_faces), rule, findings)
        elif rule.becomes is Becomes.AREAS:
            if len(on_lines):
                found.append(_enclosed(path, _linework(name, frame, drawing, on_lines), findings))
            _unfit(len(index) - len(on_lines), rule, findings)
        elif rule.becomes is Becomes.POINTS:
            found += _spots(name, frame, drawing, on_lines, on_faces, on_points, findings)
        else:
            if len(on_lines):
                work = _linework(name, frame, drawing, on_lines)
                findings += interval_finding(work) if rule.becomes is Becomes.CONTOURS else []
                work = _with_role(work, rule.becomes)
                found.append(work)
            _unfit(len(index) - len(on_lines), rule, findings)
    _unmatched(items, rule_of, findings)
    if drawing.hatches:
        text = f"{count(len(drawing.hatches), 'hatch', 'hatches')} left out: rules sort lines, faces and points."
        findings.append(left_out("entities-left-out", text))
    return found


def _enclosed(path: Path, work: Linework, findings: list[Finding]) -> Dataset:
    try:
        return enclosed(work, 0.0, findings)
    except DataError as error:
        raise FormatError(path, str(error)) from error


def _with_role(work: Linework, becomes: Becomes) -> Linework:
    """Return lines that say of themselves what a rule says of them, by the words of the standard."""
    if becomes in LIMITS:
        # Only closed lines limit a surface.
        marks = np.where(work.closed(), LIMITS[becomes].encode(), b"")
        return dataclasses.replace(work, attributes={**work.attributes, BOUNDARY: marks})
    if becomes in KINDS_OF_LINES:
        marks = np.full(len(work), KINDS_OF_LINES[becomes].encode())
        return dataclasses.replace(work, attributes={**work.attributes, BREAKLINE: marks})
    return work


def _unfit(number: int, rule: Rule, findings: list[Finding]) -> None:
    if number:
        text = f"{count(number, 'entity', 'entities')} cannot become {rule.becomes.value}; left out ({rule.text()})."
        findings.append(left_out("cannot-become", text))


def _spots(
    name: str,
    frame: Frame,
    drawing: Drawing,
    on_lines: NDArray[np.int64],
    on_faces: NDArray[np.int64],
    on_points: NDArray[np.int64],
    findings: list[Finding],
) -> list[Dataset]:
    """Return places as spot heights: points, texts by the number they say, and every vertex of lines and faces."""
    names = drawing.layers.all()
    places, layer = drawing.points(), drawing.table("points")[:, 1]
    plain, bad = [], 0
    for k in on_points.tolist():
        place = places[k].copy()
        if k in drawing.texts:
            height = text_height(drawing.texts[k])
            if height is None:
                bad += 1
                continue
            place[2] = height
        plain.append((place, names[layer[k]], drawing.texts.get(k, "")))
    if bad:
        findings.append(left_out("no-height", f"{count(bad, 'text')} of {name} that say no elevation: left out."))
    of_lines, of_faces = drawing.table("lines")[:, 1], drawing.table("faces")[:, 1]
    for k in on_lines.tolist():
        plain += [(place, names[of_lines[k]], "") for place in drawing.lines[k]]
    if len(on_faces):
        triangles, owner = drawing.faces()
        mine = np.isin(owner, on_faces)
        for corners, k in zip(triangles[mine], owner[mine].tolist(), strict=True):
            plain += [(place, names[of_faces[k]], "") for place in corners]
    if not plain:
        return []
    attributes: dict[str, NDArray[Any]] = {"layer": np.array([layer.encode() for _, layer, _ in plain])}
    if any(text for _, _, text in plain):
        attributes["description"] = np.array([text.encode() for _, _, text in plain])
    return [PointSet(name=name, frame=frame, xyz=np.array([place for place, _, _ in plain]), attributes=attributes)]


def _unmatched(items: Items, rule_of: NDArray[np.int64], findings: list[Finding]) -> None:
    free = np.flatnonzero(rule_of < 0)
    if len(free) == 0:
        return
    kinds = Counter((items.types[items.type[k]], items.layers[items.layer[k]]) for k in free.tolist())
    some = ", ".join(f"{number} {kind} on {layer}" for (kind, layer), number in kinds.most_common(12))
    text = f"{count(len(free), 'entity fits', 'entities fit')} no rule and were left out: {some}."
    findings.append(left_out("no-rule", text))
