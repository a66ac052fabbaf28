"""Reading KML and KMZ."""

from __future__ import annotations

import dataclasses
import re
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field
from enum import Enum
from io import BytesIO
from pathlib import Path
from typing import Annotated, Any

import numpy as np
from numpy.typing import NDArray

from vastgrid.base import late_shapely as shapely
from vastgrid.base.errors import FormatError, ParamError
from vastgrid.base.findings import Finding, Severity, count, either, left_out, note
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Unit
from vastgrid.base.untrusted import member_names, parse_xml, read_member
from vastgrid.base.words import instead, shortly, spaced
from vastgrid.data.dataset import Dataset, Floats
from vastgrid.data.frame import Frame, frame_of_crs
from vastgrid.data.linework import from_lines
from vastgrid.data.pointset import PointSet
from vastgrid.declarations.fileformat import ReadResult
from vastgrid.format_support.columns import text_column
from vastgrid.format_support.polygons import areas_of
from vastgrid.formats.kml._data import columns_of
from vastgrid.kernels.text.decimals import number_of, read_words
from vastgrid.measures.levels import interval_finding
from vastgrid.params.declare import Param


class HeightsTaken(Enum):
    """Which heights are elevations."""

    AUTO = "detect"
    ELEVATIONS = "elevations"


@dataclass(frozen=True)
class KmlReadParams:
    """What is taken from the file."""

    elevation: Annotated[
        str,
        Param("Elevation from", "Name of the extended data that holds heights.", absent="the coordinates"),
    ] = ""
    heights: Annotated[
        HeightsTaken,
        Param(
            "Heights",
            "detect: elevations, unless the file says that they are above the ground or not to be used; elevations: all of them.",
        ),
    ] = HeightsTaken.AUTO


@dataclass(slots=True)
class _Mark:
    """One placemark as it is collected."""

    name: str = ""
    data: dict[str, str] = field(default_factory=dict)
    shapes: list[_Shape] = field(default_factory=list)


@dataclass(slots=True)
class _Shape:
    """One list of coordinates: what it belongs to, and what the file says of its heights; of a polygon, which and whether a hole."""

    kind: str
    text: str
    mode: str = ""
    polygon: int = -1
    hole: bool = False


_GEOMETRIES = ("Point", "LineString", "LinearRing", "Polygon", "Track", "MultiTrack")


class _Content:
    """Receives the file's XML."""

    def __init__(self) -> None:
        self.stack: list[str] = []
        self.marks: list[tuple[str, _Mark]] = []
        self.folders: list[str] = []
        self.own: _Mark | None = None
        self.key = ""
        self.links = 0
        # Of extended data, the type of each name that a schema declares.
        self.types: dict[str, str] = {}
        # For each geometry that is open: how many shapes came before it, and its altitude mode.
        self._open: list[tuple[int, str]] = []
        self._polygons = 0

    def start(self, name: str, attributes: dict[str, str]) -> None:
        """A placemark, folder or datum begins."""
        self.stack.append(name)
        if name == "Placemark":
            self.own = _Mark()
        elif name in ("Folder", "Document"):
            self.folders.append("")
        elif name in ("Data", "SimpleData"):
            self.key = attributes.get("name", "")
        elif name == "SimpleField":
            self.types[attributes.get("name", "")] = attributes.get("type", "").rpartition(":")[2].lower()
        elif name == "NetworkLink":
            self.links += 1
        elif name in _GEOMETRIES and self.own is not None:
            self._open.append((len(self.own.shapes), ""))
            self._polygons += name == "Polygon"

    def end(self, name: str, text: str) -> None:
        """An element ends."""
        self.stack.pop()
        parent = self.stack[-1] if self.stack else ""
        if name == "Placemark" and self.own is not None:
            self.marks.append((next((f for f in reversed(self.folders) if f), ""), self.own))
            self.own = None
        elif name in ("Folder", "Document"):
            self.folders.pop()
        elif name == "name" and parent in ("Folder", "Document"):
            self.folders[-1] = text.strip()
        elif self.own is None:
            return
        elif name == "name" and parent == "Placemark":
            self.own.name = text.strip()
        elif name == "SimpleData" or (name == "value" and parent == "Data"):
            self.own.data[self.key] = text.strip()
        elif name == "coordinates":
            within = self._polygons if "Polygon" in self.stack else -1
            self.own.shapes.append(_Shape(parent, text, polygon=within, hole="innerBoundaryIs" in self.stack))
        elif name == "coord":
            self.own.shapes.append(_Shape("track", ",".join(text.split())))
        elif name == "altitudeMode" and self._open:
            self._open[-1] = (self._open[-1][0], text.strip())
        elif name in _GEOMETRIES and self._open:
            first, mode = self._open.pop()
            # A ring has the mode of its area, where it has none of its own.
            for shape in self.own.shapes[first:]:
                shape.mode = shape.mode or mode


def _tuples(text: str) -> Floats | None:
    rows = [word.split(",")[:3] for word in re.sub(r"\s*,\s*", ",", text).split()]
    rows = [row for row in rows if len(row) > 1]
    numbers, wrong = read_words(" ".join(word or "-" for row in rows for word in row).encode())
    if wrong >= 0:
        return None
    values = np.full((len(rows), 3), np.nan)
    values[np.arange(3) < np.array([len(row) for row in rows], np.int64)[:, None]] = numbers
    good = len(values) > 0 and np.isfinite(values[:, :2]).all() and (np.abs(values[:, 1]) <= 90.0).all()
    return values if good else None


@dataclass(slots=True)
class _Heights:
    """What the file says of its heights (OGC KML 2.2, 9.20: absolute is above sea level; clampToGround, the default, ignores them)."""

    params: KmlReadParams
    dropped: Counter[str] = field(default_factory=Counter)
    kept: Counter[str] = field(default_factory=Counter)

    def hear(self, mode: str, xyz: Floats) -> None:
        """Take away heights that are no elevations, and count them."""
        said = int((np.isfinite(xyz[:, 2]) & (xyz[:, 2] != 0.0)).sum())
        if mode == "absolute" or not np.isfinite(xyz[:, 2]).any():
            return
        if mode and self.params.heights is HeightsTaken.AUTO:
            self.dropped[mode] += said
            xyz[:, 2] = np.nan
        else:
            self.kept[mode] += said

    def findings(self) -> list[Finding]:
        """Say which heights were not taken, and which were though the file does not call them elevations."""
        found = []
        for mode, number in self.dropped.items():
            if number:
                what = "heights above the ground" if mode.startswith("relative") else "heights that are not to be used"
                text = f"{count(number, 'height')} with altitudeMode {mode}: {what}, not elevations: left out (heights=elevations takes them all the same)."
                found.append(left_out("heights-not-elevations", text))
        for mode, number in self.kept.items():
            if number:
                why = f"altitudeMode {mode}" if mode else "no altitudeMode, by which the standard ignores heights"
                text = f"{count(number, 'height')} {either(number, 'was', 'were')} taken as elevations above sea level; the file has {why}."
                found.append(Finding("heights-taken", text, Severity.WARNING if mode else Severity.NOTE))
        return found


def read(path: Path, params: KmlReadParams, progress: Progress) -> ReadResult:
    """Read placemarks in degrees of WGS 84, heights in metres (both by the KML 2.2 standard).

    Raises
    ------
    FormatError
        If it is not well-formed or holds no coordinates; a link to elsewhere is never followed.
    ParamError
        If no placemark has the extended data asked for.
    """
    data = _bytes(path)
    content = _Content()
    parse_xml(
        path, BytesIO(data), content, lambda done: progress.report(0.7 * done / len(data), f"reading {path.name}")
    )
    findings: list[Finding] = []
    if content.links:
        findings.append(Finding("links-not-followed", f"{count(content.links, 'link')} to other files not followed."))
    keys = sorted({key for _, mark in content.marks for key in mark.data})
    if params.elevation and params.elevation not in keys:
        raise ParamError(
            "elevation", f"no placemark has “{shortly(params.elevation)}”; {instead(params.elevation, keys)}"
        )
    heights = _Heights(params)
    shapes = _Shapes(content.types)
    for folder, mark in content.marks:
        shapes.take(folder, mark, params, heights)
    if shapes.faults:
        findings.append(
            left_out("not-whole", f"{count(shapes.faults, 'shape')} with coordinates that make no sense left out.")
        )
    if not (shapes.points or shapes.lines or shapes.polygons):
        raise FormatError(path, "there is no placemark with coordinates in the file")
    findings += heights.findings()
    found = _datasets(path, shapes, findings)
    if keys and not params.elevation and shapes.flat():
        text = f"Of the extended data ({', '.join(keys[:12])}) one may hold the heights (elevation=NAME)."
        findings.append(note("extended-data", text))
    progress.report(1.0)
    return ReadResult(tuple(found), tuple(findings))


@dataclass(slots=True)
class _Polygons:
    """What one placemark has of polygons: their rims and holes by number."""

    mark: _Mark
    folder: str
    rims: dict[int, Floats] = field(default_factory=dict)
    holes: dict[int, list[Floats]] = field(default_factory=dict)

    def take(self, shape: _Shape, xyz: Floats) -> None:
        """Take a ring; one that is open is closed, as the standard has it (OGC KML 2.2, 10.8)."""
        ring = xyz if (xyz[0, :2] == xyz[-1, :2]).all() else np.concatenate((xyz, xyz[:1]))
        if shape.hole:
            self.holes.setdefault(shape.polygon, []).append(ring)
        else:
            self.rims[shape.polygon] = ring

    def places(self) -> list[Floats]:
        """Return all rings."""
        return [*self.rims.values(), *(ring for own in self.holes.values() for ring in own)]

    def shape(self) -> Any:
        """Return them as one shape; flat where a ring begins without a height."""
        flat = any(np.isnan(ring[0, 2]) for ring in self.places())
        width = 2 if flat else 3
        made = []
        for number, rim in self.rims.items():
            holes = [ring[:, :width] for ring in self.holes.get(number, []) if len(ring) > 3]
            made.append(shapely.Polygon(rim[:, :width], holes))
        return shapely.multipolygons(made)


@dataclass(slots=True)
class _Shapes:
    """What the placemarks of a file show."""

    types: dict[str, str]
    points: list[tuple[Floats, _Mark]] = field(default_factory=list)
    lines: list[tuple[Floats, _Mark]] = field(default_factory=list)
    layers: list[str] = field(default_factory=list)
    polygons: list[_Polygons] = field(default_factory=list)
    faults: int = 0

    def take(self, folder: str, mark: _Mark, params: KmlReadParams, heights: _Heights) -> None:
        """Take what one placemark shows."""
        track: list[Floats] = []
        own = _Polygons(mark, folder)
        for one in mark.shapes:
            shape, xyz = one.kind, _tuples(one.text)
            if xyz is None:
                self.faults += 1
                continue
            heights.hear(one.mode, xyz)
            if params.elevation:
                try:
                    xyz[:, 2] = number_of(mark.data.get(params.elevation, "nan").replace(",", "."))
                except ValueError:
                    xyz[:, 2] = np.nan
            if shape == "Point" or (shape != "track" and len(xyz) == 1):
                self.points.append((xyz, mark))
            elif shape == "track":
                track.append(xyz)
            elif one.polygon >= 0 and len(xyz) > 2:
                own.take(one, xyz)
            else:
                self._line(xyz, mark, folder or ("area" if shape == "LinearRing" else "line"))
        if own.rims:
            self.polygons.append(own)
        if len(track) > 1:
            self._line(np.concatenate(track), mark, folder or "track")

    def _line(self, xyz: Floats, mark: _Mark, layer: str) -> None:
        self.lines.append((xyz, mark))
        self.layers.append(layer)

    def heights(self) -> Floats:
        """Return the heights of all places."""
        rings = (ring for own in self.polygons for ring in own.places())
        places = (*(xyz for xyz, _ in (*self.points, *self.lines)), *rings)
        return np.concatenate([xyz[:, 2] for xyz in places])

    def flat(self) -> bool:
        """Say whether no place has a height of its own."""
        own = self.heights()
        return bool((np.isnan(own) | (own == 0.0)).all())

    def attributes(self, marks: Sequence[_Mark], called: str, findings: list[Finding]) -> dict[str, NDArray[Any]]:
        """Return what placemarks say of themselves: their names under one name, and their extended data."""
        names = [mark.name for mark in marks]
        # Where a field of that name says the same, its spelling is kept.
        again = any(
            key.lower() == called and [mark.data.get(key, "") for mark in marks] == names
            for key in {key for mark in marks for key in mark.data}
        )
        own = {} if again or not any(names) else {called: text_column(names)[0]}
        return own | columns_of([mark.data for mark in marks], self.types, own, findings)


def _areas(path: Path, name: str, frame: Frame, shapes: _Shapes, findings: list[Finding]) -> list[Dataset]:
    polygons = shapes.polygons
    whole = np.array([each.shape() for each in polygons], object)
    folders = [each.folder or "area" for each in polygons]
    names = list(dict.fromkeys(folders))
    areas, _ = areas_of(
        path,
        whole,
        lambda k: polygons[k].mark.name or f"area {k + 1}",
        findings,
        name=name,
        frame=frame,
        layer=np.array([names.index(each) for each in folders]),
        layers=names,
        attributes=shapes.attributes([each.mark for each in polygons], "name", findings),
    )
    return [areas] if len(areas) else []


def _datasets(path: Path, shapes: _Shapes, findings: list[Finding]) -> list[Dataset]:
    points, lines, polygons = shapes.points, shapes.lines, shapes.polygons
    frame = Frame(frame_of_crs("EPSG:4326").crs, Unit.DEGREE, Unit.METRE)
    found: list[Dataset] = []
    several = sum(bool(each) for each in (points, lines, polygons)) > 1
    heights = shapes.heights()
    if np.isnan(heights).any() or (heights == 0.0).all():
        text = f"{spaced(int((np.isnan(heights) | (heights == 0)).sum()))} of {spaced(len(heights))} places without a height of their own (0 or none)."
        findings.append(Finding("no-height", text))
    if points:
        xyz = np.concatenate([xyz for xyz, _ in points])
        own = shapes.attributes([mark for _, mark in points], "point", findings)
        sizes = [len(each) for each, _ in points]
        attributes = {name: np.repeat(values, sizes) for name, values in own.items()}
        name = f"{path.stem} points" if several else path.stem
        found.append(PointSet(name=name, frame=frame, xyz=xyz, attributes=attributes))
    if lines:
        called = f"{path.stem} lines" if several else path.stem
        work = from_lines(called, frame, [xyz for xyz, _ in lines], shapes.layers)
        findings += interval_finding(work)
        attributes = shapes.attributes([mark for _, mark in lines], "name", findings)
        found.append(dataclasses.replace(work, attributes=attributes))
    if polygons:
        found += _areas(path, f"{path.stem} areas" if several else path.stem, frame, shapes, findings)
    return found


def _bytes(path: Path) -> bytes:
    with path.open("rb") as file:
        packed = file.read(4) == b"PK\3\4"
    if not packed:
        return path.read_bytes() or b" "
    names = [name for name in member_names(path) if name.lower().endswith(".kml")]
    if not names:
        raise FormatError(path, "there is no KML in the archive")
    # The standard: the first KML in the archive's root is the main one.
    return read_member(path, next((name for name in names if "/" not in name), names[0]))
