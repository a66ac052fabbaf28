"""Reading LandXML as a stream."""

from __future__ import annotations

import mmap
import xml.parsers.expat as expat
from collections import Counter
from dataclasses import dataclass, field
from enum import Enum
from pathlib import Path
from typing import Annotated, Any

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.errors import FormatError
from vastgrid.base.findings import Finding, count, note
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Length, Quantity, Unit
from vastgrid.formats.landxml._records import RecordCollector, survey
from vastgrid.kernels.xmlruns import read_run
from vastgrid.params.declare import Param
from vastgrid.terrain.assemble import oriented_tin
from vastgrid.terrain.dataset import Dataset, Floats
from vastgrid.terrain.fileformat import ReadResult
from vastgrid.terrain.frame import Frame, frame_of_crs
from vastgrid.terrain.linework import from_lines
from vastgrid.terrain.pointset import PointSet
from vastgrid.terrain.tin import Tin

BLOCK = 1 << 20
RUN = 400_000
DEEPEST = 200


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


@dataclass(slots=True)
class Surface:
    """One surface as it is collected."""

    name: str
    numbers: list[Floats] = field(default_factory=list)
    ids: list[NDArray[np.int64]] = field(default_factory=list)
    faces: list[NDArray[np.int64]] = field(default_factory=list)
    hidden: list[NDArray[np.bool_]] = field(default_factory=list)
    points: list[Floats] = field(default_factory=list)
    lines: list[Floats] = field(default_factory=list)
    roles: list[str] = field(default_factory=list)


_UNITS = {
    "meter": Unit.METRE,
    "millimeter": Unit.MILLIMETRE,
    "foot": Unit.FOOT,
    "ussurveyfoot": Unit.US_FOOT,
    "inch": Unit.INCH,
}
# Units of the standard that are no unit of ours are brought to one that is.
_SCALED = {"centimeter": (Unit.METRE, 0.01), "kilometer": (Unit.METRE, 1000.0), "mile": (Unit.FOOT, 5280.0)}
# Every element that is read, or tells of the file only; another is counted as left out, with all it holds, once.
_NAMES = (
    "LandXML Units Metric Imperial CoordinateSystem Project Application Author FeatureDictionary "
    "CgPoints CgPoint Surfaces Surface Definition Pnts P Faces F SourceData DataPoints Breaklines Breakline "
    "Boundaries Boundary Contours Contour Chains Chain PntList2D PntList3D "
    "Alignments Alignment CoordGeom Line Curve Spiral IrregularLine Start End Center PI StaEquation "
    "Profile ProfAlign PVI ParaCurve UnsymParaCurve CircCurve Parcels Parcel PlanFeatures PlanFeature"
)
_KNOWN = frozenset(_NAMES.split())


class Collector:
    """Receives the parser's events and keeps what terrain they tell of."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self.stack: list[str] = []
        self.attributes: list[dict[str, str]] = []
        self.text: list[str] = []
        self.surfaces: list[Surface] = []
        self.cogo: list[tuple[str, str, str, str]] = []
        self.places: dict[str, list[float]] = {}
        self.records = RecordCollector()
        self.linear = self.elevation = ""
        self.crs: dict[str, str] = {}
        self.others: Counter[str] = Counter()
        self._left_at = 0  # depth of the counted element that we are inside of
        self.faults: Counter[str] = Counter()
        self.run: str = ""
        self._loose: list[tuple[int, str]] = []
        self._loose_faces: list[tuple[str, bool]] = []
        self._names: dict[str, str] = {}

    # -- events

    def start(self, name: str, attributes: dict[str, str]) -> None:
        """An element begins."""
        local = self._names.get(name)
        if local is None:
            local = self._names[name] = name.rsplit(":", 1)[-1]
        self.stack.append(local)
        self.attributes.append(attributes)
        self.text.clear()
        self.run = name if local in ("Pnts", "Faces") and local == name else ""
        if local in ("P", "F"):
            return
        if len(self.stack) > DEEPEST:
            raise FormatError(self.path, "elements are nested too deeply for a LandXML file")
        if len(self.stack) == 1 and local != "LandXML":
            raise FormatError(self.path, f"the root element is “{local}”, not LandXML")
        if local == "Surface":
            self.surfaces.append(Surface(attributes.get("name", "")))
        elif local in ("Metric", "Imperial"):
            self.linear, self.elevation = attributes.get("linearUnit", ""), attributes.get("elevationUnit", "")
        elif local == "CoordinateSystem":
            self.crs = attributes
        else:
            if local not in _KNOWN and not self._left_at:
                self.others[local] += 1
                self._left_at = len(self.stack)
            self.records.start(local, attributes)

    def end(self, _name: str) -> None:
        """An element ends; its text is complete."""
        local, attributes = self.stack.pop(), self.attributes.pop()
        if len(self.stack) < self._left_at:
            self._left_at = 0
        if local == "P" and self.surfaces:
            text = attributes.get("id", "")
            if text.isdigit() and len(text) < 19:
                self._loose.append((int(text), "".join(self.text)))
            else:
                self.faults["points without a number as id"] += 1
        elif local == "F" and self.surfaces:
            self._loose_faces.append(("".join(self.text), attributes.get("i") == "1"))
        elif local == "CgPoint":
            self._point(attributes, "".join(self.text))
        elif local in ("Pnts", "Faces", "Surface"):
            self.flush()
        elif local in ("PntList3D", "PntList2D") and self.records.own is None:
            self._list("".join(self.text), 3 if local == "PntList3D" else 2)
        elif self.records.own is not None:
            self.records.end(local, attributes, "".join(self.text), self.places)
        self.text.clear()
        self.run = ""

    def _point(self, attributes: dict[str, str], words: str) -> None:
        name = attributes.get("name", "")
        values = _numbers(words) if words.strip() else None
        if values is not None and len(values) >= 2:
            self.places[name] = [float(values[1]), float(values[0]), *values[2:3].tolist()]
        if words.strip():
            self.cogo.append((name, attributes.get("code", ""), attributes.get("desc", ""), words))
        elif attributes.get("pntRef") in self.places:
            self.places[name] = self.places[attributes["pntRef"]]

    def flush(self) -> None:
        """Turn points and faces that came one by one into arrays."""
        if self._loose and self.surfaces:
            rows, ids = [], []
            for own, text in self._loose:
                row = _numbers(text)
                if row is None or len(row) < 2:
                    self.faults["points that are not numbers"] += 1
                    continue
                rows.append((row[0], row[1], row[2] if len(row) > 2 else np.nan))
                ids.append(own)
            if rows:
                self.surfaces[-1].numbers.append(np.array(rows))
                self.surfaces[-1].ids.append(np.array(ids, np.int64))
        if self._loose_faces and self.surfaces:
            faces, hidden = [], []
            for text, invisible in self._loose_faces:
                row = _numbers(text)
                if row is None or len(row) not in (3, 4):
                    self.faults["faces without three points"] += 1
                    continue
                corners = row.astype(np.int64)
                faces.append(corners[:3])
                hidden.append(invisible)
                if len(row) == 4:
                    faces.append(corners[[0, 2, 3]])
                    hidden.append(invisible)
            if faces:
                self.surfaces[-1].faces.append(np.array(faces))
                self.surfaces[-1].hidden.append(np.array(hidden))
        self._loose.clear()
        self._loose_faces.clear()

    def _list(self, text: str, width: int) -> None:
        if not self.surfaces or "SourceData" not in self.stack:
            return
        values = _numbers(text)
        if values is None or len(values) % width:
            self.faults["point lists that are not whole"] += 1
            return
        rows = values.reshape(-1, width)
        surface, parent, attributes = self.surfaces[-1], self.stack[-1], self.attributes[-1]
        height = np.full(len(rows), np.nan)
        if width == 3:
            height = rows[:, 2]
        elif parent == "Contour":
            level = _numbers(attributes.get("elev", ""))
            height = np.full(len(rows), np.nan if level is None or len(level) != 1 else level[0])
        xyz = np.column_stack((rows[:, 1], rows[:, 0], height))
        if parent == "DataPoints":
            surface.points.append(xyz)
        elif parent in ("Breakline", "Boundary", "Contour", "Chain"):
            kind = attributes.get({"Breakline": "brkType", "Boundary": "bndType"}.get(parent, ""), "")
            surface.lines.append(xyz)
            surface.roles.append(f"{parent} {kind}".strip())

    # -- what came of it

    def frame(self, findings: list[Finding]) -> tuple[Frame, float]:
        """Return the frame, and what plan and height are to be multiplied by."""
        word = self.linear.lower()
        unit, scale = _SCALED.get(word, (_UNITS.get(word), 1.0))
        if unit is None:
            findings.append(Finding("unit-unknown", f"The file's linear unit (“{self.linear}”) is not known."))
        if scale != 1.0:
            findings.append(note("unit-scaled", f"Coordinates in {word} were brought to {unit.title if unit else ''}."))
        vertical = unit
        if self.elevation:
            feet = unit if unit in (Unit.FOOT, Unit.US_FOOT) else Unit.FOOT
            vertical = {"meter": Unit.METRE, "feet": feet}.get(self.elevation.lower(), unit)
        frame = Frame(None, unit, vertical)
        code = self.crs.get("epsgCode", "").strip().upper().removeprefix("EPSG:")
        for crs in (f"EPSG:{code}" if code.isdigit() else "", self.crs.get("ogcWktCode", "")):
            if not crs:
                continue
            try:
                declared = frame_of_crs(crs)
            except ValueError as error:
                findings.append(Finding("crs-unreadable", f"The file's CRS cannot be used: {error}."))
                continue
            if unit and declared.horizontal and declared.horizontal is not unit:
                text = f"The CRS is in {declared.horizontal.title}, the file says {unit.title}; the file's unit counts."
                findings.append(Finding("unit-contradiction", text))
            return Frame(declared.crs, unit, vertical), scale
        return frame, scale


def _numbers(text: str) -> Floats | None:
    words = text.split()
    try:
        values = np.array(words, np.float64)
    except ValueError:
        return None
    return values if np.isfinite(values).all() else None


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
        Finding("not-whole", f"{number} {what} were left out.") for what, number in collector.faults.items() if number
    ]
    if collector.others:
        kinds = ", ".join(f"{number} {name}" for name, number in collector.others.items())
        findings.append(Finding("elements-left-out", f"Elements that are not read here were left out: {kinds}."))
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
        findings.append(Finding("faces-without-points", f"{name} has faces but no points; they were left out."))
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
        findings.append(Finding("unknown-points", f"{missing} of {name} name points that are not there; left out."))
    if hidden.any():
        text = (
            f"{count(int(hidden.sum()), 'face')} of {name} are marked invisible; they are no ground and were left out."
        )
        findings.append(note("invisible-faces", text))
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
        values = _numbers(text)
        if values is not None and len(values) >= 2:
            rows.append((values[1], values[0], values[2] if len(values) > 2 else np.nan))
            names.append(name.encode())
            codes.append(code.encode())
            notes.append(desc.encode())
    if len(rows) < len(collector.cogo):
        findings.append(
            Finding("not-whole", f"{len(collector.cogo) - len(rows)} CgPoints without coordinates left out.")
        )
    if not rows:
        return []
    attributes = {"point": np.array(names), "code": np.array(codes)}
    if any(notes):
        attributes["description"] = np.array(notes)
    name = path.stem if not collector.surfaces else f"{path.stem} points"
    return [PointSet(name=name, frame=frame, xyz=np.array(rows) * scale, attributes=attributes)]
