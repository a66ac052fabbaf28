"""What a LandXML file holds, gathered from the parser's events."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.errors import FormatError
from vastgrid.base.findings import Finding, note
from vastgrid.base.quantities import Unit
from vastgrid.data.dataset import Floats
from vastgrid.data.frame import Frame, frame_of_crs
from vastgrid.formats.landxml._records import RecordCollector
from vastgrid.kernels.text.decimals import read_words

DEEPEST = 200


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
    # Points that only name another point: which rows of which block, and the name.
    refs: list[tuple[int, int, str]] = field(default_factory=list)


# What is put after a boundary's role where triangles stay whole at it.
WHOLE = " untrimmed"
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
    "Profile ProfAlign ProfSurf PVI ParaCurve UnsymParaCurve CircCurve Parcels Parcel PlanFeatures PlanFeature"
)
_KNOWN = frozenset(_NAMES.split())
# Attributes that are read, or follow from what is read, of elements whose others are neither kept nor used: those are counted.
_USED = {
    **dict.fromkeys(("CgPoints", "Surfaces", "Surface", "Alignments", "Parcels", "PlanFeatures"), frozenset({"name"})),
    **dict.fromkeys(
        ("Pnts", "Faces", "SourceData", "DataPoints", "Breaklines", "Boundaries", "Contours", "Chains"), frozenset()
    ),
    "CoordinateSystem": {"epsgCode", "ogcWktCode"},
    "Definition": {"surfType", "area2DSurf", "area3DSurf", "elevMax", "elevMin"},
    "Breakline": {"brkType"},
    "Boundary": {"bndType", "edgeTrim", "area"},
    "Contour": {"elev"},
    "StaEquation": {"staBack", "staAhead", "staInternal"},
    **dict.fromkeys(
        ("PVI", "ParaCurve", "UnsymParaCurve", "CircCurve"), frozenset({"length", "lengthIn", "lengthOut", "radius"})
    ),
    **dict.fromkeys(("Start", "End", "Center", "PI"), frozenset({"pntRef"})),
}


class Collector:
    """Receives the parser's events and keeps what terrain they tell of."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self.stack: list[str] = []
        self.attributes: list[dict[str, str]] = []
        self.text: list[str] = []
        self.surfaces: list[Surface] = []
        self.cogo: list[tuple[dict[str, str], list[float]]] = []
        # Filled as points come; who names a point before it comes holds the same list, which is filled later.
        self.places: dict[str, list[float]] = {}
        self.twice: list[str] = []
        self.aliases: list[tuple[str, str]] = []
        self.groups: list[int] = []
        self.group_names: list[str] = []
        self._group = -1
        self.records = RecordCollector()
        self.linear = self.elevation = ""
        self.crs: dict[str, str] = {}
        self.others: Counter[str] = Counter()
        # Attributes that are neither used nor kept, as “desc of Surface”.
        self.unused: Counter[str] = Counter()
        self._left_at = 0  # depth of the counted element that we are inside of
        # What could not be read, in the singular and the plural.
        self.faults: Counter[str] = Counter()
        self.run: str = ""
        self._loose: list[tuple[int, str, str]] = []
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
        known = _USED.get(local)
        if known is not None and not self._left_at and len(attributes) > 0:
            for key in attributes:
                if key not in known and not key.startswith(("xmlns", "xsi:", "xml:")):
                    self.unused[f"{key} of {local}"] += 1
        if len(self.stack) > DEEPEST:
            raise FormatError(self.path, "elements are nested too deeply for a LandXML file")
        if len(self.stack) == 1 and local != "LandXML":
            raise FormatError(self.path, f"the root element is “{local}”, not LandXML")
        if local == "Surface":
            self.surfaces.append(Surface(attributes.get("name", "")))
        elif local in ("Metric", "Imperial"):
            self.linear, self.elevation = attributes.get("linearUnit", ""), attributes.get("elevationUnit", "")
        elif local == "CgPoints":
            self._group = len(self.group_names)
            self.group_names.append(attributes.get("name", ""))
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
            text = attributes.get("id", "").strip()
            ref = attributes.get("pntRef", "")
            if text == "":
                self._loose.append((0, "".join(self.text), ref))
            elif text.isdigit() and 0 < len(text) < 19 and int(text) > 0:
                self._loose.append((int(text), "".join(self.text), ref))
            else:
                self.faults["point without a number as id|points without a number as id"] += 1
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
        values = numbers_in(words) if words.strip() else None
        own: list[float] = []
        if values is not None and len(values) >= 2:
            own = [float(values[1]), float(values[0]), *values[2:3].tolist()]
        elif not words.strip() and attributes.get("pntRef"):
            # Another name of a point that stands elsewhere.
            self.aliases.append((name, attributes["pntRef"]))
            return
        self.groups.append(self._group)
        self.cogo.append((attributes, own))
        if own and name:
            known = self.places.setdefault(name, [])
            if known and known != own:
                self.twice.append(name)
            known[:] = known or own

    def flush(self) -> None:
        """Turn points and faces that came one by one into arrays."""
        if self._loose and self.surfaces:
            rows: list[tuple[float, float, float]] = []
            ids: list[int] = []
            block = len(self.surfaces[-1].numbers)
            for own, text, ref in self._loose:
                row = numbers_in(text)
                if ref and not text.strip():
                    self.surfaces[-1].refs.append((block, len(rows), ref))
                    row = np.full(3, np.nan)
                if row is None or len(row) < 2:
                    self.faults["point that is not numbers|points that are not numbers"] += 1
                    continue
                rows.append((row[0], row[1], row[2] if len(row) > 2 else np.nan))
                ids.append(own)
            if rows:
                self.surfaces[-1].numbers.append(np.array(rows))
                self.surfaces[-1].ids.append(np.array(ids, np.int64))
        if self._loose_faces and self.surfaces:
            faces, hidden = [], []
            for text, invisible in self._loose_faces:
                row = numbers_in(text)
                if row is None or len(row) not in (3, 4):
                    self.faults["face without three points|faces without three points"] += 1
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
        values = numbers_in(text)
        if values is None or len(values) % width:
            self.faults["point list that is not whole|point lists that are not whole"] += 1
            return
        rows = values.reshape(-1, width)
        surface, parent, attributes = self.surfaces[-1], self.stack[-1], self.attributes[-1]
        height = np.full(len(rows), np.nan)
        if width == 3:
            height = rows[:, 2]
        elif parent == "Contour":
            level = numbers_in(attributes.get("elev", ""))
            height = np.full(len(rows), np.nan if level is None or len(level) != 1 else level[0])
        xyz = np.column_stack((rows[:, 1], rows[:, 0], height))
        if parent == "DataPoints":
            surface.points.append(xyz)
        elif parent in ("Breakline", "Boundary", "Contour", "Chain"):
            kind = attributes.get({"Breakline": "brkType", "Boundary": "bndType"}.get(parent, ""), "")
            whole = parent == "Boundary" and attributes.get("edgeTrim", "").lower() == "false"
            surface.lines.append(xyz)
            surface.roles.append(f"{parent} {kind}".strip() + (WHOLE if whole else ""))

    # -- what came of it

    @property
    def referred(self) -> bool:
        """Whether anything in the file means a point by its name."""
        named = sum(bool(place) for _, place in self.cogo)
        return bool(self.aliases) or any(surface.refs for surface in self.surfaces) or len(self.places) > named

    def finish(self) -> None:
        """Give points that only name another one its place, wherever in the file that one stood."""
        for name, other in self.aliases:
            known = self.places.setdefault(name, [])
            known[:] = known or self.places.get(other, [])
        for surface in self.surfaces:
            for block, row, name in surface.refs:
                place = self.places.get(name)
                if place:
                    surface.numbers[block][row] = (place[1], place[0], place[2] if len(place) > 2 else np.nan)
                else:
                    self.faults[
                        "point that names a point which is not there|points that name a point which is not there"
                    ] += 1

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
            feet = unit if unit in (Unit.FOOT, Unit.US_FOOT) else None
            words = {"meter": Unit.METRE, "feet": feet, "foot": Unit.FOOT, "ussurveyfoot": Unit.US_FOOT}
            vertical = words.get(self.elevation.lower())
            if vertical is None:
                why = (
                    "says “feet”, and not which"
                    if self.elevation.lower() == "feet"
                    else f"is “{self.elevation}”, which is not known"
                )
                text = (
                    f"The file's elevationUnit {why}; the unit of heights is unknown (--from-vertical-units says it)."
                )
                findings.append(Finding("unit-ambiguous" if "which" in why else "unit-unknown", text))
        frame = Frame(None, unit, vertical)
        code = self.crs.get("epsgCode", "").strip().upper().removeprefix("EPSG:")
        for crs in (f"EPSG:{code}" if code.isdigit() else "", self.crs.get("ogcWktCode", "")):
            if not crs:
                continue
            try:
                declared = frame_of_crs(crs)
            except ValueError:
                findings.append(Finding("crs-unreadable", "The file's CRS cannot be used."))
                continue
            if unit and declared.horizontal and declared.horizontal is not unit:
                text = f"The CRS is in {declared.horizontal.title}, the file says {unit.title}; the file's unit counts."
                findings.append(Finding("unit-contradiction", text))
            return Frame(declared.crs, unit, vertical), scale
        return frame, scale


def numbers_in(text: str) -> Floats | None:
    """Return the numbers of a text, or None if one is none or not finite."""
    values, at = read_words(text.encode())
    return values if at < 0 else None
