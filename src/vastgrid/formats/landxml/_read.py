"""Reading LandXML as a stream."""

from __future__ import annotations

import dataclasses
import mmap
import xml.parsers.expat as expat
from dataclasses import dataclass
from enum import Enum
from pathlib import Path
from typing import Annotated, Any

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.errors import CallError, FormatError
from vastgrid.base.findings import Finding, Severity, count, either, left_out, note
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Length, Quantity
from vastgrid.data.dataset import Dataset, Floats
from vastgrid.data.frame import Frame
from vastgrid.data.line_roles import (
    BOUNDARY,
    BOUNDARY_ROLES,
    BREAKLINE,
    BREAKLINE_KINDS,
    CONTOUR,
    STANDARD,
    TRIM,
    UNTRIMMED,
)
from vastgrid.data.linework import from_lines
from vastgrid.data.pointset import PointSet
from vastgrid.data.tin import Tin
from vastgrid.declarations.fileformat import ReadResult
from vastgrid.format_support.columns import text_column
from vastgrid.formats.landxml._collect import WHOLE, Collector, Surface
from vastgrid.formats.landxml._records import survey
from vastgrid.kernels.text.xmlruns import read_run
from vastgrid.params.declare import Param
from vastgrid.terrain.tin.assemble import oriented_tin

BLOCK = 1 << 20
RUN = 400_000


class Take(Enum):
    """Which of a surface's two definitions is read."""

    FACES = "faces"
    SOURCE = "source"
    BOTH = "both"


@dataclass(frozen=True)
class LandXmlReadParams:
    """What is taken from the file."""

    take: Annotated[
        Take,
        Param("Definition", "faces: the published triangles (source data where there are none); source; or both."),
    ] = Take.FACES
    chord: Annotated[
        Length,
        Param(
            "Chord tolerance",
            "Largest distance of a chord from the curve or spiral it stands for.",
            Quantity.XY_LENGTH,
            above=0,
        ),
    ] = Length(0.01)


def read(path: Path, params: LandXmlReadParams, progress: Progress) -> ReadResult:
    """Read surfaces and points.

    Raises
    ------
    FormatError
        If it is not well-formed LandXML, declares a document type (refused: entities), or holds no terrain.
    """
    if path.stat().st_size == 0:
        raise FormatError(path, "the file is empty")
    collector = Collector(path)
    with path.open("rb") as file, mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ) as data:
        _parse(path, data, collector, progress)
    collector.finish()
    findings = [
        left_out("not-whole", f"{count(number, *what.split('|'))}: left out.")
        for what, number in collector.faults.items()
        if number
    ]
    if collector.twice and collector.referred:
        some = ", ".join(dict.fromkeys(collector.twice[:5]))
        text = f"{count(len(collector.twice), 'point name')} {either(len(collector.twice), 'is', 'are')} given twice with other coordinates ({some}); where a point is meant by its name, the first counts."
        findings.append(Finding("name-given-twice", text))
    if collector.others:
        kinds = ", ".join(f"{number} {name}" for name, number in collector.others.items())
        findings.append(left_out("elements-left-out", f"Elements that are not read here were left out: {kinds}."))
    if collector.unused:
        kinds = ", ".join(f"{number} {name}" for name, number in list(collector.unused.items())[:12])
        more = f" and {len(collector.unused) - 12} more kinds" if len(collector.unused) > 12 else ""
        text = f"Attributes that have no place here were left out: {kinds}{more}."
        findings.append(left_out("attributes-left-out", text, Severity.NOTE))
    frame, scale = collector.frame(findings)
    pairs: list[tuple[int, tuple[int, ...]]] = []
    alone: list[tuple[str, tuple[int, ...]]] = []
    datasets = _datasets(path, collector, params, frame, scale, findings, pairs, alone)
    if not datasets:
        why = " ".join(finding.text for finding in findings)
        if collector.surfaces:
            names = ", ".join(each.name or "without a name" for each in collector.surfaces[:5])
            kinds = (
                f"the file holds {count(len(collector.surfaces), 'surface')} ({names}), but nothing of it can be used"
            )
            raise FormatError(path, f"{kinds}: {why or 'there are no faces, points or lines in it'}".rstrip("."))
        what = "the file holds no surface, no points and no alignments"
        raise FormatError(path, f"{what}: {why}".rstrip(".: "))
    progress.report(1.0)
    return ReadResult(tuple(datasets), tuple(findings), rebuilt=tuple(pairs), unbuilt=tuple(alone))


def _parse(path: Path, data: mmap.mmap, collector: Collector, progress: Progress) -> None:
    parser = expat.ParserCreate()
    parser.buffer_text = True
    parser.StartElementHandler = collector.start
    parser.EndElementHandler = collector.end
    parser.CharacterDataHandler = collector.text.append

    def refuse(*_: Any) -> None:
        raise FormatError(path, "it declares a document type; such files are refused, since entities can do harm")

    parser.StartDoctypeDeclHandler = refuse
    view = memoryview(data)
    raw = np.frombuffer(data, np.uint8)
    at, size = 0, len(data)
    try:
        while at < size:
            stop = _next_stop(data, at, size)
            parser.Parse(view[at:stop], False)
            at = stop
            if collector.run and data[at - 1 : at] == b">" and data[at - 2 : at - 1] != b"/":
                at = _read_runs(data, raw, at, collector, progress)
            # What was read is not needed again: its pages go back to the system.
            data.madvise(mmap.MADV_DONTNEED, 0, at // mmap.PAGESIZE * mmap.PAGESIZE or mmap.PAGESIZE)
            progress.report(at / size, f"reading {path.name}")
        parser.Parse(b"", True)
    except expat.ExpatError as error:
        line, why = error.lineno, expat.errors.messages[error.code]
        # Elements read past the parser are lines that it did not count.
        exact = "" if not collector.surfaces or not collector.surfaces[-1].numbers else " or after"
        raise FormatError(path, f"this is not well-formed XML from here on{exact}: {why}", line=line) from error
    except (LookupError, ValueError) as error:
        # The parser asks Python for encodings that it does not know itself.
        raise FormatError(path, "its text is in no known encoding, or not in the one that it names") from error
    finally:
        del raw
        view.release()


def _next_stop(data: mmap.mmap, at: int, size: int) -> int:
    """Return where the next start tag of a run of points or faces ends, or where a block does."""
    stop = min(at + BLOCK, size)
    for name in (b"<Pnts", b"<Faces"):
        found = data.find(name, at, stop)
        if found >= 0:
            end = data.find(b">", found, found + 4096)
            if end >= 0:
                stop = min(stop, end + 1)
    # A start tag cut in two by the block's end is found from the next block's beginning.
    if stop == at + BLOCK:
        last = data.rfind(b"<", at, stop)
        if last > at and stop - last < 4096:
            return last
    return stop


def _read_runs(data: mmap.mmap, raw: NDArray[np.uint8], at: int, collector: Collector, progress: Progress) -> int:
    surface, points = collector.surfaces[-1] if collector.surfaces else None, collector.stack[-1] == "Pnts"
    if surface is None:
        return at
    while True:
        numbers = np.zeros((RUN, 3))
        ids, flags = np.zeros(RUN, np.int64), np.zeros(RUN, np.bool_)
        number, at = read_run(raw, at, ord("P" if points else "F"), 3, numbers, ids, flags)
        data.madvise(mmap.MADV_DONTNEED, 0, int(at) // mmap.PAGESIZE * mmap.PAGESIZE or mmap.PAGESIZE)
        if number and points:
            surface.numbers.append(numbers[:number].copy())
            surface.ids.append(ids[:number].copy())
        elif number:
            largest = numbers[:number].max()
            surface.faces.append(numbers[:number].astype(np.int32 if largest < 2**31 else np.int64))
            surface.hidden.append(flags[:number].copy())
        progress.report(at / len(raw))
        if number < RUN:
            return int(at)


def _datasets(
    path: Path,
    collector: Collector,
    params: LandXmlReadParams,
    frame: Frame,
    scale: float,
    findings: list[Finding],
    pairs: list[tuple[int, tuple[int, ...]]],
    alone: list[tuple[str, tuple[int, ...]]],
) -> list[Dataset]:
    found: list[Dataset] = []
    for surface in collector.surfaces:
        name = surface.name or path.stem
        if params.take is Take.SOURCE and not (surface.points or surface.lines):
            raise CallError(f"take=source: {name} has no source data in {path.name}, only its faces")
        points = np.concatenate([np.zeros((0, 3)), *surface.points]) * scale
        tin = None
        if surface.faces and params.take is not Take.SOURCE:
            tin = _tin(name, frame, surface, points, scale, findings)
            if tin is not None:
                found.append(tin)
        if params.take is Take.FACES and tin is not None:
            if surface.points or surface.lines:
                text = f"{name} also holds the data it was built from, which need not give the same ground (take=both)."
                findings.append(note("two-definitions", text))
            continue
        extra = " source data" if tin is not None else ""
        begin = len(found)
        if len(points):
            found.append(PointSet(name=f"{name}{extra}", frame=frame, xyz=points))
        lines = [line * scale for line in surface.lines if len(line) > 1]
        roles = [role for role, line in zip(surface.roles, surface.lines, strict=True) if len(line) > 1]
        if lines:
            work = from_lines(f"{name} lines", frame, lines, roles)
            kinds = [
                role.removeprefix("Boundary ").removesuffix(WHOLE) if role.startswith("Boundary") else ""
                for role in roles
            ]
            said: dict[str, NDArray[Any]] = {}
            if any(kinds):
                said[BOUNDARY] = np.array([kind.encode() if kind in BOUNDARY_ROLES else b"" for kind in kinds])
            breaks = [_breakline_kind(role) for role in roles]
            if any(breaks):
                said[BREAKLINE] = np.array([kind.encode() for kind in breaks])
            if any(role.endswith(WHOLE) for role in roles):
                said[TRIM] = np.array([UNTRIMMED.encode() if role.endswith(WHOLE) else b"" for role in roles])
            found.append(dataclasses.replace(work, attributes=said))
        if tin is None and params.take is not Take.SOURCE and len(points) > 2:
            # All that is known of this surface is what to build it from.
            alone.append((name, tuple(range(begin, len(found)))))
        if tin is not None and found[-1] is not tin:
            own = found.index(tin)
            pairs.append((own, tuple(range(own + 1, len(found)))))
    if collector.cogo:
        found += _cogo(path, collector, frame, scale, findings)
    chord = params.chord.in_unit(frame.horizontal, "chord")
    name = path.stem if not found else f"{path.stem} records"
    records = survey(name, frame, collector.records, scale, chord, findings)
    return [*found, records] if records is not None else found


def _breakline_kind(role: str) -> str:
    """Return which kind of line a role of the collector is; empty for boundaries."""
    if role == "Contour":
        return CONTOUR
    kind = role.removeprefix("Breakline ")
    return kind if role.startswith("Breakline") and kind in BREAKLINE_KINDS else ""


def _gathered(blocks: list[NDArray[Any]]) -> NDArray[Any]:
    """Return blocks as one array, each let go as soon as it is copied: large files leave no room for two copies."""
    kind = np.result_type(*{block.dtype for block in blocks})
    out = np.zeros((sum(len(block) for block in blocks), *blocks[0].shape[1:]), kind)
    at = 0
    blocks.reverse()
    while blocks:
        block = blocks.pop()
        out[at : at + len(block)] = block
        at += len(block)
    return out


def _numbered(ids: NDArray[np.int64], faces: NDArray[Any]) -> NDArray[np.bool_]:
    """Turn ids in faces into places of points, in place; return which faces name only points that are there."""
    known = np.ones(len(faces), np.bool_)
    plain = bool((ids == np.arange(1, len(ids) + 1)).all())
    order = np.zeros(0, np.int64) if plain else np.argsort(ids, kind="stable")
    ordered = ids if plain else ids[order]
    for start in range(0, len(faces), RUN):
        part = faces[start : start + RUN]
        if plain:
            known[start : start + RUN] = ((part >= 1) & (part <= len(ids))).all(axis=1)
            part -= 1
        else:
            place = np.clip(np.searchsorted(ordered, part), 0, len(ids) - 1)
            known[start : start + RUN] = (ordered[place] == part).all(axis=1)
            part[:] = order[place]
    return known


def _unplaced(vertices: Floats, faces: NDArray[Any], keep: NDArray[np.bool_]) -> int:
    """Take faces with a corner without coordinates or height out of those kept, and return how many they were."""
    if all(np.isfinite(vertices[:, k]).all() for k in range(3)):
        return 0
    lost = np.asarray(~np.isfinite(vertices).all(axis=1))
    rows = np.flatnonzero(keep)
    rows = rows[lost[faces[rows]].any(axis=1)]
    keep[rows] = False
    return len(rows)


def _with_ids(name: str, ids: NDArray[np.int64], vertices: Floats, findings: list[Finding]) -> NDArray[np.int64]:
    """Return the points' ids: in their order where the file gives none; one given twice is told, and the first counts."""
    missing = ids <= 0
    if missing.all():
        findings.append(
            Finding("no-ids", f"The points of {name} have no ids; they were numbered in their order, from 1.")
        )
        return np.arange(1, len(ids) + 1)
    if missing.any():
        text = f"{count(int(missing.sum()), 'point')} of {name} {either(missing.sum(), 'has', 'have')} no id, so no face can name it; left out."
        findings.append(left_out("no-ids", text))
    if (ids[1:] > ids[:-1]).all():
        # As nearly every file has them.
        return ids
    order = np.argsort(ids, kind="stable")
    again = np.flatnonzero((np.diff(ids[order]) == 0) & (ids[order][1:] > 0))
    one, other = vertices[order[again]], vertices[order[again + 1]]
    different = again[((one != other) & ~(np.isnan(one) & np.isnan(other))).any(axis=1)] if len(again) else again
    if len(different):
        some = ", ".join(str(ids[order[k]]) for k in different[:5].tolist())
        at = vertices[order[different[0]]]
        text = f"{count(len(different), 'point id')} of {name} {either(len(different), 'is', 'are')} given twice with other coordinates ({some}); the first counts."
        findings.append(Finding("id-given-twice", text, at=(float(at[0]), float(at[1]))))
    return ids


def _tin(
    name: str, frame: Frame, surface: Surface, points: Floats, scale: float, findings: list[Finding]
) -> Tin | None:
    if not surface.numbers:
        findings.append(left_out("faces-without-points", f"{name} has faces but no points; they were left out."))
        return None
    # The standard's order is northing, easting, elevation.
    vertices = _gathered(surface.numbers)
    vertices[:, :2] = vertices[:, 1::-1].copy()
    if scale != 1.0:
        vertices *= scale
    ids, faces, hidden = _gathered(surface.ids), _gathered(surface.faces), _gathered(surface.hidden)
    ids = _with_ids(name, ids, vertices, findings)
    known = _numbered(ids, faces)
    del ids
    if not known.all():
        missing = count(int((~known).sum()), "face")
        findings.append(left_out("unknown-points", f"{missing} of {name} name points that are not there; left out."))
    if hidden.any():
        text = f"{count(int(hidden.sum()), 'face')} of {name} {either(hidden.sum(), 'is', 'are')} marked invisible; that is not ground and was left out."
        findings.append(left_out("invisible-faces", text, Severity.NOTE))
    keep = known & ~hidden
    del known, hidden
    unplaced = _unplaced(vertices, faces, keep)
    if unplaced:
        missing = count(unplaced, "face")
        findings.append(
            left_out("unknown-points", f"{missing} of {name} use points without coordinates or height; left out.")
        )
    triangles = (faces if keep.all() else faces[keep]).astype(np.int32, copy=False)
    del faces, keep
    if len(triangles) == 0:
        return None
    tin, said = oriented_tin(name, frame, vertices, triangles)
    findings += said
    own_lines = [
        (_breakline_kind(role) or STANDARD, line * scale)
        for line, role in zip(surface.lines, surface.roles, strict=True)
        if not role.startswith("Boundary")
    ]
    breaks, kinds = [line for _, line in own_lines], tuple(kind for kind, _ in own_lines)
    roles = [role.removeprefix("Boundary ").removesuffix(WHOLE) for role in surface.roles]
    limits = [(role, line * scale) for role, line in zip(roles, surface.lines, strict=True) if role in BOUNDARY_ROLES]
    whole = tuple(own.endswith(WHOLE) for role, own in zip(roles, surface.roles, strict=True) if role in BOUNDARY_ROLES)
    return Tin(
        name=name,
        frame=frame,
        vertices=tin.vertices,
        triangles=tin.triangles,
        neighbours=tin.neighbours,
        source_points=points,
        break_vertices=np.concatenate([np.zeros((0, 3)), *breaks]),
        break_offsets=np.concatenate(([0], np.cumsum([len(line) for line in breaks], dtype=np.int64))),
        break_kinds=kinds if set(kinds) - {STANDARD} else (),
        limit=np.concatenate([np.zeros((0, 3)), *(line for _, line in limits)]),
        limit_offsets=np.concatenate(([0], np.cumsum([len(line) for _, line in limits], dtype=np.int64))),
        limit_roles=tuple(role for role, _ in limits),
        limit_whole=whole if any(whole) else (),
    )


# What is called otherwise here than in the standard; whatever else the standard or a sender says keeps its name.
_CALLED = {"name": "point", "code": "code", "desc": "description"}


def _cogo(path: Path, collector: Collector, frame: Frame, scale: float, findings: list[Finding]) -> list[Dataset]:
    lost = sum(not place for _, place in collector.cogo)
    if lost:
        findings.append(left_out("not-whole", f"{count(lost, 'CgPoint')} without coordinates left out."))
    groups = [
        [own for own, k in zip(collector.cogo, collector.groups, strict=True) if k == group and own[1]]
        for group in sorted(set(collector.groups))
    ]
    groups = [group for group in groups if group]
    plain = path.stem if not collector.surfaces else f"{path.stem} points"
    found: list[Dataset] = []
    for k, group in enumerate(groups):
        # Several lists of points are several datasets, each with the name that the file gives it.
        given = [name for name in collector.group_names if name]
        name = given[k] if len(given) == len(groups) else plain
        every = dict.fromkeys(key for own, _ in group for key in own if key not in ("pntRef", *_CALLED))
        attributes = {}
        for key, ours in (*_CALLED.items(), *((key, key) for key in every)):
            values, cut = text_column([own.get(key, "") for own, _ in group])
            if cut:
                findings.append(left_out("text-cut", f"{count(cut, 'text')} of {ours} cut for want of room."))
            if ours != "description" or any(values.tolist()):
                attributes[ours] = values
        rows = [(place[0], place[1], place[2] if len(place) > 2 else np.nan) for *_, place in group]
        found.append(PointSet(name=name, frame=frame, xyz=np.array(rows) * scale, attributes=attributes))
    return found
