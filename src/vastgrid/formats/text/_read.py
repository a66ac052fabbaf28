"""Reading delimited text: points, lattices, trajectories and photo positions."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.disk_arrays import large_array, release
from vastgrid.base.errors import FormatError, ParamError
from vastgrid.base.findings import Finding, Severity, count, either, left_out, note
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Unit, unit_word
from vastgrid.base.words import spaced
from vastgrid.data.attributes import numbers_of_texts
from vastgrid.data.classes import CLOUD_NUMBERS
from vastgrid.data.dataset import Dataset, Floats
from vastgrid.data.frame import Frame, frame_of_crs
from vastgrid.data.pointset import PointSet
from vastgrid.data.survey import Record, survey_of
from vastgrid.declarations.fileformat import ReadResult
from vastgrid.format_support.columns import longest_text, shortened
from vastgrid.formats.text._heads import COORDINATES, feet_unsaid
from vastgrid.formats.text._layout import (
    FIXED,
    Form,
    Layout,
    TextReadParams,
    detect,
    looks_numeric,
    parse_angle,
    prepared,
    split_line,
)
from vastgrid.kernels.text.textrows import gather_text, line_starts, lines_with, split_fields
from vastgrid.terrain.cells.regular import grid_of

BLOCK = 1_000_000
TOLD = 5
KEPT_BAD = 100_000


@dataclass(slots=True)
class _Rows:
    """What the lines gave: numbers by column, text by column, and the lines that could not be read."""

    numbers: Floats
    texts: list[list[NDArray[Any]]]
    good: int = 0
    cut: int = 0
    bad: int = 0
    left_out: list[str] | None = None
    first_bad: tuple[int, str] | None = None


def read(path: Path, params: TextReadParams, progress: Progress) -> ReadResult:
    """Read points; see `FORMAT`.

    Raises
    ------
    FormatError
        If no line, or fewer than half of the lines, hold a point.
    ParamError
        If the column roles make no sense.
    """
    data, findings = prepared(path, params)
    layout = detect(path, data, params)
    progress.report(0.05, f"reading {path.name}")
    raw = np.frombuffer(data, np.uint8)
    starts = line_starts(raw)
    wanted = [(k, role) for k, role in enumerate(layout.roles) if role != "ignore"]
    rows = _rows(path, data, raw, starts, layout, params, wanted, progress)
    findings += _passed(data, starts, layout)
    findings += _bad_lines(path, rows, layout)
    findings += _longer(raw, starts, layout)
    if rows.cut:
        findings.append(left_out("text-cut", f"{count(rows.cut, 'text')} cut for want of room: they are very long."))
    findings += _commented(data, starts, layout, params)
    if feet_unsaid(layout.header):
        text = "The heads speak of feet, but not of which: international (ft) or US survey feet (us-ft). Say it (--from-units)."
        findings.append(Finding("unit-ambiguous", text))
    if layout.guessed:
        findings.append(Finding("columns-guessed", layout.guessed, Severity.WARNING))
    at = {role: k for k, (_, role) in enumerate(wanted)}
    geographic = "longitude" in at and "easting" not in at
    plan = ("longitude", "latitude") if geographic else ("easting", "northing")
    xyz = np.ascontiguousarray(rows.numbers[: rows.good, [at[plan[0]], at[plan[1]], at["elevation"]]])
    attributes = {role: _joined(rows.texts[k]) for k, (_, role) in enumerate(wanted) if rows.texts[k]}
    # What clouds call by these names is numbers; anything else keeps its spelling.
    known = {name: numbers_of_texts(values) for name, values in attributes.items() if name.lower() in CLOUD_NUMBERS}
    attributes |= {name: values for name, values in known.items() if values is not None}
    progress.report(0.95, f"reading {path.name}")
    frame = Frame(None, *layout.units)
    if geographic:
        if (np.abs(xyz[:, 1]) > 90.0).any() or (np.abs(xyz[:, 0]) > 360.0).any():
            raise ParamError("columns", "latitudes go beyond 90° or longitudes beyond 360°; these are not degrees")
        frame = Frame(frame_of_crs("EPSG:4326").crs, Unit.DEGREE, layout.units[1])
    points = PointSet(name=path.stem, frame=frame, xyz=xyz, attributes=attributes)
    made = _formed(points, params.form, findings)
    return ReadResult((made,), tuple(findings), left_out=tuple(rows.left_out or ()))


def _rows(
    path: Path,
    data: bytes,
    raw: NDArray[np.uint8],
    starts: NDArray[np.int64],
    layout: Layout,
    params: TextReadParams,
    wanted: list[tuple[int, str]],
    progress: Progress,
) -> _Rows:
    index = np.array([k for k, _ in wanted])
    numeric = np.array([role in COORDINATES and k not in layout.angles for k, role in wanted])
    merge = layout.roles[-1] in ("description", "code")
    mark = params.comment.encode()[0] if params.comment else 0
    lines = len(starts) - 1
    out = _Rows(large_array((max(lines - layout.first, 0), len(wanted)), np.float64), [[] for _ in wanted])
    for begin in range(layout.first, lines, BLOCK):
        own = starts[begin : begin + BLOCK + 1]
        numbers, places, status = split_fields(
            raw,
            own,
            0,
            layout.delimiter[0],
            0 if layout.delimiter == FIXED else 34,
            mark,
            index,
            numeric,
            layout.comma,
            merge,
        )
        for k, (column, _) in enumerate(wanted):
            if column in layout.angles:
                _read_angles(raw, numbers, places, status, k)
        keep = status == 0
        bad = np.flatnonzero(status > 1)
        _remember(out, data, own, begin, bad, status, [role for _, role in wanted])
        good = int(keep.sum())
        out.numbers[out.good : out.good + good] = numbers[keep]
        out.good += good
        for k, (column, role) in enumerate(wanted):
            if role not in COORDINATES and column not in layout.angles:
                out.texts[k].append(_text_column(raw, places[keep, k]))
                out.cut += int((np.diff(places[keep, k])[:, 0] > out.texts[k][-1].dtype.itemsize).sum())
        release(out.numbers)
        progress.report(0.05 + 0.85 * min(begin + BLOCK, lines) / lines, f"reading {path.name}")
    return out


def _remember(
    out: _Rows,
    data: bytes,
    starts: NDArray[np.int64],
    begin: int,
    bad: NDArray[np.int64],
    status: NDArray[np.int8],
    roles: list[str],
) -> None:
    """Keep the lines that could not be read, with number and reason."""
    out.bad += len(bad)
    if out.left_out is None:
        out.left_out = []
    for row in bad[: max(KEPT_BAD - len(out.left_out), 0)].tolist():
        text = data[starts[row] : starts[row + 1]].decode("utf-8", "replace").strip("\r\n")
        short = text.strip()[:60]
        what = "too few columns" if status[row] == 2 else f"the {roles[status[row] - 3]} is not a finite number"
        out.left_out.append(f"line {begin + row + 1}\t{what}\t{text}")
        if out.first_bad is None:
            out.first_bad = (begin + row, f"{what}: “{short}”")


def _passed(data: bytes, starts: NDArray[np.int64], layout: Layout) -> list[Finding]:
    """Say which lines were taken for a heading, lest a point is among them."""
    if not layout.passed:
        return []
    some = [data[starts[k] : starts[k + 1]].decode("utf-8", "replace").strip()[:40] for k in layout.passed[:3]]
    told = "; ".join(f"line {k + 1} “{text}”" for k, text in zip(layout.passed, some, strict=False))
    more = f" and {len(layout.passed) - 3} more" if len(layout.passed) > 3 else ""
    cells = [split_line(data[starts[k] : starts[k + 1]], layout.delimiter) for k in layout.passed]
    looks = any(len(row) == len(layout.roles) and any(looks_numeric(cell) for cell in row) for row in cells)
    text = f"Passed over before the first point: {told}{more}."
    return [left_out("lines-passed-over", text, Severity.WARNING if looks else Severity.NOTE)]


def _longer(raw: NDArray[np.uint8], starts: NDArray[np.int64], layout: Layout) -> list[Finding]:
    """Say how many lines have more columns than the others: what stands behind them is not read."""
    if layout.roles[-1] in ("description", "code") or layout.delimiter == b" ":
        return []
    # Empty columns at a line's end hold nothing that could be missed.
    longer = layout.first + lines_with(raw, starts[layout.first :], layout.delimiter[0], len(layout.roles))
    rows = [row for row in longer[:100_000].tolist() if _extra(raw[starts[row] : starts[row + 1]].tobytes(), layout)]
    if not rows:
        return []
    first = rows[0] + 1
    number = count(len(rows), "line has", "lines have")
    text = f"{number} more columns than the {len(layout.roles)} of the others (first line {first}); what stands behind is left out."
    return [left_out("longer-lines", text)]


def _extra(line: bytes, layout: Layout) -> bool:
    return any(split_line(line, layout.delimiter)[len(layout.roles) :])


def _commented(data: bytes, starts: NDArray[np.int64], layout: Layout, params: TextReadParams) -> list[Finding]:
    """Say where a line among the points begins with the comment mark and holds a point behind it, such as “#REF!,2,3”."""
    mark = params.comment.encode()[:1]
    if not mark:
        return []
    raw = np.frombuffer(data, np.uint8)
    begin = starts[layout.first : -1]
    rows = layout.first + np.flatnonzero(raw[np.minimum(begin, len(raw) - 1)] == mark[0])
    points = []
    for row in rows[:10_000].tolist():
        cells = split_line(data[starts[row] : starts[row + 1]], layout.delimiter)
        if len(cells) == len(layout.roles) and sum(looks_numeric(cell) for cell in cells) >= 2:
            points.append(row + 1)
    if not points:
        return []
    some = ", ".join(map(str, points[:5]))
    text = f"{count(len(points), 'line')} among the points {either(len(points), 'begins', 'begin')} with the comment mark “{params.comment}” but {either(len(points), 'looks', 'look')} like a point (line {some}); left out."
    return [left_out("commented-points", text)]


def _joined(parts: list[NDArray[Any]]) -> NDArray[Any]:
    return np.concatenate(parts) if len(parts) > 1 else parts[0]


def _read_angles(
    raw: NDArray[np.uint8],
    numbers: Floats,
    places: NDArray[np.int64],
    status: NDArray[np.int8],
    column: int,
) -> None:
    """Read a column of degrees, minutes and seconds."""
    good = np.flatnonzero(status == 0)
    texts = _text_column(raw, places[good, column])
    # Equal texts are read once: a lattice's rows repeat them.
    different, inverse = np.unique(texts, return_inverse=True)
    values = np.array([parse_angle(text.decode("utf-8", "replace")) for text in different.tolist()])
    numbers[good, column] = values[inverse.ravel()] if len(good) else 0.0
    status[good[~np.isfinite(numbers[good, column])]] = 3 + column


def _bad_lines(path: Path, rows: _Rows, layout: Layout) -> list[Finding]:
    if rows.bad and rows.good <= rows.bad and rows.first_bad:
        line, told = rows.first_bad
        why = f"{told}; {rows.bad} of {rows.bad + rows.good} lines cannot be read: check delimiter, columns, first line"
        raise FormatError(path, why, line=line + 1)
    if rows.good == 0:
        raise FormatError(path, "no line holds a point")
    if not rows.bad or rows.left_out is None:
        return []
    told = "; ".join(_short(text) for text in rows.left_out[:TOLD])
    more = f"; and {rows.bad - TOLD} more" if rows.bad > TOLD else ""
    return [
        left_out("bad-lines", f"{count(rows.bad, 'line')} left out of {spaced(rows.bad + rows.good)}: {told}{more}.")
    ]


def _short(entry: str) -> str:
    line, what, text = entry.split("\t", 2)
    return f"{line}, {what}: “{text.strip()[:60]}”"


def _formed(points: PointSet, form: Form, findings: list[Finding]) -> Dataset:
    if form is Form.TRAJECTORY:
        exact = {name: [_plain(value) for value in values.tolist()] for name, values in points.attributes.items()}
        return survey_of(points.name, points.frame, [Record("trajectory", points.name, points.xyz, exact)])
    if form is Form.PHOTOS:
        names = points.attributes.get("file", points.attributes.get("point"))
        records = []
        for k, place in enumerate(points.xyz):
            exact = {name: _plain(values[k]) for name, values in points.attributes.items()}
            own = str(_plain(names[k])) if names is not None else f"photo {k + 1}"
            records.append(Record("photo position", own, place[None], exact))
        return survey_of(points.name, points.frame, records)
    lattice = grid_of(points)
    if form is Form.GRID:
        if lattice is None:
            raise ParamError("form", f"the points of {points.name} are not on a regular grid along east and north")
        return lattice.grid
    if lattice is not None:
        size = f"{lattice.grid.dx:g} × {lattice.grid.dy:g}{unit_word(points.frame.horizontal)}"
        text = f"The points are on a regular grid of {size}; form=grid reads them as a grid."
        findings.append(note("regular-lattice", text))
    return points


def _plain(value: Any) -> Any:
    return value.decode("utf-8", "replace") if isinstance(value, bytes) else value


def _text_column(raw: NDArray[np.uint8], places: NDArray[np.int64]) -> NDArray[Any]:
    # Long texts are kept whole as far as there is room for a column of them.
    most = longest_text(len(places))
    width = int(np.clip((places[:, 1] - places[:, 0]).max(initial=1), 1, most))
    column = np.ascontiguousarray(gather_text(raw, np.ascontiguousarray(places), width)).view(f"S{width}").ravel()
    for row in np.flatnonzero(places[:, 1] - places[:, 0] > width).tolist():
        column[row] = shortened(raw[places[row, 0] : places[row, 1]].tobytes().lstrip(), width)
    begin = places[:, 0]
    quoted = np.flatnonzero((begin > 0) & (raw[np.maximum(begin - 1, 0)] == 34)) if len(raw) else begin[:0]
    for row in quoted[np.char.find(column[quoted], b'""') >= 0].tolist() if len(quoted) else ():
        column[row] = column[row].replace(b'""', b'"')
    return column
