"""Reading LandXML as a stream."""

from __future__ import annotations

import mmap
import xml.parsers.expat as expat
from dataclasses import dataclass
from enum import Enum
from pathlib import Path
from typing import Annotated, Any

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.errors import FormatError
from vastgrid.base.findings import Finding, Severity, count, left_out, note
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Length, Quantity
from vastgrid.formats.landxml._collect import Collector, Surface, numbers_in
from vastgrid.formats.landxml._records import survey
from vastgrid.kernels.xmlruns import read_run
from vastgrid.params.declare import Param
from vastgrid.terrain.assemble import oriented_tin
from vastgrid.terrain.dataset import Dataset, Floats
from vastgrid.terrain.fileformat import ReadResult
from vastgrid.terrain.frame import Frame
from vastgrid.terrain.linework import from_lines
from vastgrid.terrain.pointset import PointSet
from vastgrid.terrain.tin import Tin

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
    findings = [
        left_out("not-whole", f"{number} {what} were left out.") for what, number in collector.faults.items() if number
    ]
    if collector.others:
        kinds = ", ".join(f"{number} {name}" for name, number in collector.others.items())
        findings.append(left_out("elements-left-out", f"Elements that are not read here were left out: {kinds}."))
    frame, scale = collector.frame(findings)
    pairs: list[tuple[int, tuple[int, ...]]] = []
    datasets = _datasets(path, collector, params, frame, scale, findings, pairs)
    if not datasets:
        raise FormatError(path, "the file holds no surface with faces or source data, no points and no alignments")
    progress.report(1.0)
    return ReadResult(tuple(datasets), tuple(findings), rebuilt=tuple(pairs))


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
        raise FormatError(path, f"its text cannot be decoded: {error}") from error
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
) -> list[Dataset]:
    found: list[Dataset] = []
    for surface in collector.surfaces:
        name = surface.name or path.stem
        points = np.concatenate([np.zeros((0, 3)), *surface.points]) * scale
        tin = None
        if surface.faces and (params.take is not Take.SOURCE or not (surface.points or surface.lines)):
            tin = _tin(name, frame, surface, points, scale, findings)
            if tin is not None:
                found.append(tin)
        if params.take is Take.FACES and tin is not None:
            if surface.points or surface.lines:
                text = f"{name} also holds the data it was built from, which need not give the same ground (take=both)."
                findings.append(note("two-definitions", text))
            continue
        extra = " source data" if tin is not None else ""
        if len(points):
            found.append(PointSet(name=f"{name}{extra}", frame=frame, xyz=points))
        lines = [line * scale for line in surface.lines if len(line) > 1]
        roles = [role for role, line in zip(surface.roles, surface.lines, strict=True) if len(line) > 1]
        if lines:
            found.append(from_lines(f"{name} lines", frame, lines, roles))
        if tin is not None and found[-1] is not tin:
            own = found.index(tin)
            pairs.append((own, tuple(range(own + 1, len(found)))))
    if collector.cogo:
        found += _cogo(path, collector, frame, scale, findings)
    chord = params.chord.in_unit(frame.horizontal, "chord")
    name = path.stem if not found else f"{path.stem} records"
    records = survey(name, frame, collector.records, scale, chord, findings)
    return [*found, records] if records is not None else found


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
    known = _numbered(ids, faces)
    del ids
    if not known.all():
        missing = count(int((~known).sum()), "face")
        findings.append(left_out("unknown-points", f"{missing} of {name} name points that are not there; left out."))
    if hidden.any():
        text = (
            f"{count(int(hidden.sum()), 'face')} of {name} are marked invisible; they are no ground and were left out."
        )
        findings.append(left_out("invisible-faces", text, Severity.NOTE))
    keep = known & ~hidden
    triangles = (faces if keep.all() else faces[keep]).astype(np.int32, copy=False)
    del faces
    if len(triangles) == 0:
        return None
    tin, said = oriented_tin(name, frame, vertices, triangles)
    findings += said
    breaks = [
        line * scale for line, role in zip(surface.lines, surface.roles, strict=True) if role.startswith("Breakline")
    ]
    rings = [line * scale for line, role in zip(surface.lines, surface.roles, strict=True) if role == "Boundary outer"]
    return Tin(
        name=name,
        frame=frame,
        vertices=tin.vertices,
        triangles=tin.triangles,
        neighbours=tin.neighbours,
        source_points=points,
        break_vertices=np.concatenate([np.zeros((0, 3)), *breaks]),
        break_offsets=np.concatenate(([0], np.cumsum([len(line) for line in breaks], dtype=np.int64))),
        limit=rings[0] if rings else np.zeros((0, 3)),
    )


def _cogo(path: Path, collector: Collector, frame: Frame, scale: float, findings: list[Finding]) -> list[Dataset]:
    rows, names, codes, notes = [], [], [], []
    for name, code, desc, text in collector.cogo:
        values = numbers_in(text)
        if values is not None and len(values) >= 2:
            rows.append((values[1], values[0], values[2] if len(values) > 2 else np.nan))
            names.append(name.encode())
            codes.append(code.encode())
            notes.append(desc.encode())
    if len(rows) < len(collector.cogo):
        findings.append(
            left_out("not-whole", f"{len(collector.cogo) - len(rows)} CgPoints without coordinates left out.")
        )
    if not rows:
        return []
    attributes = {"point": np.array(names), "code": np.array(codes)}
    if any(notes):
        attributes["description"] = np.array(notes)
    name = path.stem if not collector.surfaces else f"{path.stem} points"
    return [PointSet(name=name, frame=frame, xyz=np.array(rows) * scale, attributes=attributes)]
