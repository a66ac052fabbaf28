"""Alignments, parcels and plan features of LandXML: in as survey records, and out again."""

from __future__ import annotations

import math
import re
from typing import Any, BinaryIO

import numpy as np

from vastgrid.base.findings import Finding, count, left_out, note
from vastgrid.base.xmltext import quoteattr
from vastgrid.data.frame import Frame
from vastgrid.data.survey import Record, Survey, survey_of
from vastgrid.kernels.text.decimals import number_of, read_words
from vastgrid.terrain.lines.alignment import drawn, with_profile

# What can be an attribute's name without a namespace of its own.
_NAME = re.compile(r"[A-Za-z_][\w.-]*")
ROLES = {"Alignment": "alignment", "Parcel": "parcel", "PlanFeature": "plan feature"}
_ELEMENTS = {"Line": "line", "Curve": "curve", "Spiral": "spiral", "IrregularLine": "course"}
_PLACES = {"Start": "start", "End": "end", "Center": "centre", "PI": "pi"}
_PVIS = {"PVI": "", "ParaCurve": "parabola", "UnsymParaCurve": "two parabolas", "CircCurve": "circle"}


def number(text: str | None) -> float | None:
    """Return a finite number, or None; “INF” stands for none."""
    try:
        return number_of(text or "")
    except ValueError:
        return None


class RecordCollector:
    """Receives the events inside alignments, parcels and plan features."""

    def __init__(self) -> None:
        self.records: list[dict[str, Any]] = []
        self.own: dict[str, Any] | None = None
        self.element: dict[str, Any] | None = None
        self.faults: list[str] = []
        self._depth = 0
        self._in_ground = False

    def start(self, name: str, attributes: dict[str, str]) -> None:
        """An element begins."""
        if self.own is None:
            if name in ROLES:
                self.own = {"role": ROLES[name], "name": attributes.get("name", ""), "geometry": [], "about": {}}
                self._about(attributes)
                self._depth = 1
            return
        self._depth += 1
        if name in _ELEMENTS and self.element is None:
            self.element = {"kind": _ELEMENTS[name], **self._numbers(name, attributes)}
            if about := _kept(attributes, _USED[name]):
                self.element["about"] = about
        elif name == "Profile":
            self.own.setdefault("profile_about", []).append(dict(attributes))
        elif name == "ProfAlign":
            profile: dict[str, Any] = {"name": attributes.get("name", ""), "pvis": []}
            if about := _kept(attributes, {"name"}):
                profile["about"] = about
            self.own.setdefault("profiles", []).append(profile)
        elif name == "ProfSurf":
            self._in_ground = True
            self.own.setdefault("ground_profiles", []).append({"about": dict(attributes), "points": []})
        elif name == "StaEquation":
            pair = number(attributes.get("staBack")), number(attributes.get("staAhead"))
            if None not in pair:
                self.own.setdefault("equations", []).append({"station": pair[0], "station_ahead": pair[1]})

    def _about(self, attributes: dict[str, str]) -> None:
        assert self.own is not None
        self.own["about"] = _kept(attributes, {"name", "staStart", "length", "area"})
        for key, ours in (("staStart", "station"), ("length", "length"), ("area", "area")):
            value = number(attributes.get(key))
            if value is not None:
                self.own[ours] = value

    def _numbers(self, name: str, attributes: dict[str, str]) -> dict[str, Any]:
        found: dict[str, Any] = {}
        if name in ("Curve", "Spiral"):
            found["rot"] = "cw" if attributes.get("rot", "").lower() == "cw" else "ccw"
        for key, ours in (("radius", "radius"), ("length", "length")):
            if (value := number(attributes.get(key))) is not None:
                found[ours] = value
        if name == "Spiral":
            found["spiral"] = attributes.get("spiType", "clothoid")
            found["radius_start"] = number(attributes.get("radiusStart")) or 0.0
            found["radius_end"] = number(attributes.get("radiusEnd")) or 0.0
        return found

    def end(self, name: str, attributes: dict[str, str], text: str, places: dict[str, list[float]]) -> None:
        """An element ends.

        Parameters
        ----------
        places : dict
            Coordinates of the points that have names, for elements that only refer to them.
        """
        if self.own is None:
            return
        self._depth -= 1
        if self._depth == 0:
            self.records.append(self.own)
            self.own = self.element = None
        elif name in _ELEMENTS and self.element is not None:
            self._keep(name)
        elif name in _PLACES:
            place = _place(text)
            if place is None and attributes.get("pntRef"):
                # Perhaps the point comes later in the file; its list is filled then.
                place = places.setdefault(attributes["pntRef"], [])
            if place is None:
                return
            if self.element is not None:
                self.element[_PLACES[name]] = place
            elif name == "Center":
                self.own["centre"] = place
        elif name in ("PntList2D", "PntList3D"):
            self._list(name, text)
        elif name == "ProfSurf":
            self._in_ground = False
        elif name == "Chain" and self.element is None:
            course = [places.setdefault(word, []) for word in text.split()]
            if len(course) > 1:
                self.own["geometry"].append({"kind": "course", "points": course})
        elif name in _PVIS and self.own.get("profiles"):
            self._intersection(name, attributes, text)

    def _list(self, name: str, text: str) -> None:
        assert self.own is not None
        values, width = _values(text) or [], 3 if name == "PntList3D" else 2
        rows = [values[k : k + width] for k in range(0, len(values), width)]
        whole = bool(values) and len(values) % width == 0
        if self._in_ground and width == 2:
            # Stations and elevations (LandXML 1.2, ProfSurf).
            if whole:
                places = [{"station": station, "elevation": elevation} for station, elevation in rows]
                self.own["ground_profiles"][-1]["points"].append(places)
            else:
                self.faults.append("ground profile that is not pairs of station and elevation")
        elif self.element is not None and whole:
            self.element["points"] = [[row[1], row[0], *row[2:]] for row in rows]

    def _intersection(self, name: str, attributes: dict[str, str], text: str) -> None:
        assert self.own is not None
        values = _values(text)
        if not values or len(values) < 2:
            self.faults.append("vertical intersections without station and elevation")
            return
        pvi: dict[str, Any] = {"station": values[0], "elevation": values[1]}
        if _PVIS[name]:
            pvi["kind"] = _PVIS[name]
        for key, ours in (
            ("length", "length"),
            ("lengthIn", "length_in"),
            ("lengthOut", "length_out"),
            ("radius", "radius"),
        ):
            if (value := number(attributes.get(key))) is not None:
                pvi[ours] = value
        self.own["profiles"][-1]["pvis"].append(pvi)

    def _keep(self, name: str) -> None:
        assert self.own is not None
        assert self.element is not None
        element, self.element = self.element, None
        needed = {"line": ("start", "end"), "curve": ("start", "end", "centre"), "spiral": ("start", "end", "length")}
        if element["kind"] == "course" and "points" not in element and {"start", "end"} <= set(element):
            element["points"] = [element["start"], element["end"]]
        missing = [key for key in needed.get(element["kind"], ("points",)) if key not in element]
        if missing:
            self.faults.append(f"{name} without {', '.join(missing)}")
        else:
            self.own["geometry"].append(element)


# Of elements of geometry: what is read by name, and what follows from where they lie.
_DERIVED = {
    *("delta", "chord", "external", "midOrd", "secant", "tangent", "dirStart", "dirEnd", "dir", "theta"),
    *("totalX", "totalY", "tanShort", "tanLong", "constant", "arcLength"),
}
_USED = {
    "Line": {"length"},
    "IrregularLine": {"length"},
    "Curve": {"rot", "radius", "length", "crvType"},
    "Spiral": {"rot", "length", "radiusStart", "radiusEnd", "spiType"},
}


def _kept(attributes: dict[str, str], used: set[str]) -> dict[str, str]:
    """Return attributes that come and go as they are."""
    return {key: text for key, text in attributes.items() if key not in used and key not in _DERIVED and text}


def _values(text: str) -> list[float] | None:
    values, at = read_words(text.encode())
    return values.tolist() if at < 0 else None


def _place(text: str) -> list[float] | None:
    values = _values(text)
    # The standard's order is northing, easting, elevation.
    return [values[1], values[0], *values[2:3]] if values and len(values) >= 2 else None


def survey(
    name: str, frame: Frame, collector: RecordCollector, scale: float, chord: float, findings: list[Finding]
) -> Survey | None:
    """Return what was collected as survey records, drawn; None where there is nothing."""
    records = []
    for record in collector.records:
        exact = {key: value for key, value in record.items() if key not in ("role", "name")}
        exact["geometry"] = [each for each in record["geometry"] if _placed(each, collector.faults)]
        if not exact.get("centre", True):
            del exact["centre"]
        _first_profile(record["name"], exact, findings)
        line = drawn(exact["geometry"], chord / scale, record["name"], findings)
        if exact.get("profile") and len(line) > 1:
            line = with_profile(line, exact.get("station", 0.0), exact["profile"], chord / scale)
        if len(line) == 0 and exact.get("centre"):
            place = exact["centre"]
            line = np.array([[place[0], place[1], place[2] if len(place) > 2 else math.nan]])
        if len(line) == 0:
            text = f"{record['role'].capitalize()} {record['name']} has no geometry; it was left out."
            findings.append(left_out("no-geometry", text))
            continue
        records.append(Record(record["role"], record["name"], line, exact))
    for fault in sorted(set(collector.faults)):
        findings.append(left_out("not-whole", f"{count(collector.faults.count(fault), 'element')} left out: {fault}."))
    if not records:
        return None
    made = survey_of(name, frame, records)
    return made if scale == 1.0 else made.with_coordinates(scale, scale, frame)


def _placed(element: dict[str, Any], faults: list[str]) -> bool:
    """Say whether every point that an element names was in the file."""
    if all(value for key, value in element.items() if key in _PLACES.values()) and all(element.get("points", [True])):
        return True
    faults.append("geometry that names points which are not there")
    return False


def _first_profile(name: str, exact: dict[str, Any], findings: list[Finding]) -> None:
    """Let the first profile give the heights; others are kept beside it."""
    profiles = [each for each in exact.pop("profiles", []) if each["pvis"]]
    if not profiles:
        return
    exact["profile"], exact["profile_name"] = profiles[0]["pvis"], profiles[0]["name"]
    if profiles[0].get("about"):
        exact["profile_words"] = profiles[0]["about"]
    if len(profiles) > 1:
        exact["more_profiles"] = profiles[1:]
        others = ", ".join(each["name"] or "unnamed" for each in profiles[1:])
        text = f"Alignment {name} has {len(profiles)} design profiles; its heights follow the first ({profiles[0]['name'] or 'unnamed'}), {others} kept beside it."
        findings.append(note("several-profiles", text))


# ---------------------------------------------------------------------------------------------------------- writing


def write_records(file: BinaryIO, dataset: Survey, decimals: int) -> None:
    """Write records of the three kinds that the standard has, each kind in its own collection."""
    records = dataset.records()
    for role, outer, inner in (
        ("parcel", "Parcels", "Parcel"),
        ("alignment", "Alignments", "Alignment"),
        ("plan feature", "PlanFeatures", "PlanFeature"),
    ):
        chosen = [record for record in records if record.role == role]
        if not chosen:
            continue
        file.write(f"<{outer} name={quoteattr(dataset.name)}>\n".encode())
        for k, record in enumerate(chosen):
            _write_record(file, inner, record, record.name or f"{inner} {k + 1}", decimals)
        file.write(f"</{outer}>\n".encode())


def _write_record(file: BinaryIO, tag: str, record: Record, name: str, decimals: int) -> None:
    exact = record.exact
    elements = exact.get("geometry") or [{"kind": "course", "points": _points(record)}]
    attributes = f" name={quoteattr(name)}"
    attributes += _written(exact.get("about") or {})
    if tag == "Alignment":
        length = exact.get("length", float(np.hypot(*np.diff(record.line[:, :2], axis=0).T).sum()))
        attributes += f' length="{length:.{decimals}f}" staStart="{exact.get("station", 0.0):.{decimals}f}"'
    elif tag == "Parcel" and "area" in exact:
        attributes += f' area="{exact["area"]:.{decimals}f}"'
    file.write(f"<{tag}{attributes}>\n".encode())
    if tag == "Parcel" and "centre" in exact:
        file.write(f"<Center>{_nez(exact['centre'], decimals)}</Center>\n".encode())
    file.write(b"<CoordGeom>\n")
    for element in elements:
        file.write(_element(element, decimals).encode())
    file.write(b"</CoordGeom>\n")
    for equation in exact.get("equations", []):
        back, ahead = equation["station"], equation["station_ahead"]
        text = f'<StaEquation staInternal="{back:.{decimals}f}" staBack="{back:.{decimals}f}" '
        file.write(f'{text}staAhead="{ahead:.{decimals}f}"/>\n'.encode())
    grounds = exact.get("ground_profiles", [])
    if exact.get("profile") or grounds:
        about = {"name": name, **(exact.get("profile_about") or [{}])[0]}
        file.write(f"<Profile{_written(about)}>\n".encode())
        for ground in grounds:
            file.write(f"<ProfSurf{_written(ground['about'])}>\n".encode())
            for rows in ground["points"]:
                text = " ".join(f"{row['station']:.{decimals}f} {row['elevation']:.{decimals}f}" for row in rows)
                file.write(f"<PntList2D>{text}</PntList2D>\n".encode())
            file.write(b"</ProfSurf>\n")
        first = {"name": exact.get("profile_name") or name, "pvis": exact.get("profile", [])}
        first["about"] = exact.get("profile_words", {})
        for profile in (first, *exact.get("more_profiles", [])):
            if not profile["pvis"]:
                continue
            head = _written({"name": profile["name"] or name, **profile.get("about", {})})
            file.write(f"<ProfAlign{head}>\n".encode())
            for pvi in profile["pvis"]:
                file.write(_pvi(pvi, decimals).encode())
            file.write(b"</ProfAlign>\n")
        file.write(b"</Profile>\n")
    file.write(f"</{tag}>\n".encode())


def _written(about: dict[str, Any]) -> str:
    return "".join(f" {key}={quoteattr(str(value))}" for key, value in about.items() if _NAME.fullmatch(key))


def _points(record: Record) -> list[list[float]]:
    return [[float(v) for v in place if math.isfinite(v)] for place in record.line]


def _nez(place: list[float], decimals: int) -> str:
    return " ".join(f"{value:.{decimals}f}" for value in (place[1], place[0], *place[2:3]))


def _element(element: dict[str, Any], decimals: int) -> str:
    kind = element["kind"]
    if kind == "course":
        points = element["points"]
        flat = any(len(place) < 3 for place in points)
        rows = " ".join(_nez(place[:2] if flat else place, decimals) for place in points)
        ends = f"<Start>{_nez(points[0], decimals)}</Start><End>{_nez(points[-1], decimals)}</End>"
        tag = "PntList2D" if flat else "PntList3D"
        return f"<IrregularLine{_written(element.get('about') or {})}>{ends}<{tag}>{rows}</{tag}></IrregularLine>\n"
    tag = {own: name for name, own in _ELEMENTS.items()}[kind]
    attributes = f' rot="{element["rot"]}"' if "rot" in element else ""
    if kind == "curve":
        start, centre = element["start"], element["centre"]
        radius = element.get("radius", math.hypot(start[0] - centre[0], start[1] - centre[1]))
        attributes += f' crvType="arc" radius="{radius:.{decimals}f}"'
    elif kind == "spiral":
        radii = [f"{r:.{decimals}f}" if r else "INF" for r in (element["radius_start"], element["radius_end"])]
        attributes += f' spiType="{element["spiral"]}" radiusStart="{radii[0]}" radiusEnd="{radii[1]}"'
    if "length" in element:
        attributes += f' length="{element["length"]:.{decimals}f}"'
    attributes += _written(element.get("about") or {})
    order = {"line": ("start", "end"), "curve": ("start", "centre", "end", "pi"), "spiral": ("start", "pi", "end")}
    tags = {own: name for name, own in _PLACES.items()}
    places = "".join(
        f"<{tags[key]}>{_nez(element[key], decimals)}</{tags[key]}>" for key in order[kind] if key in element
    )
    return f"<{tag}{attributes}>{places}</{tag}>\n"


def _pvi(pvi: dict[str, Any], decimals: int) -> str:
    tag = {own: name for name, own in _PVIS.items()}[pvi.get("kind", "")]
    keys = (("length", "length"), ("length_in", "lengthIn"), ("length_out", "lengthOut"), ("radius", "radius"))
    attributes = "".join(f' {theirs}="{pvi[ours]:.{decimals}f}"' for ours, theirs in keys if ours in pvi)
    return f"<{tag}{attributes}>{pvi['station']:.{decimals}f} {pvi['elevation']:.{decimals}f}</{tag}>\n"
