"""GPX: tracks, routes and waypoints of satellite receivers."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from enum import Enum
from pathlib import Path
from typing import Annotated, BinaryIO

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.errors import FormatError
from vastgrid.base.findings import Finding, count, left_out, note
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Unit
from vastgrid.base.untrusted import parse_xml
from vastgrid.base.words import plain, spaced
from vastgrid.base.xmltext import escape
from vastgrid.data.dataset import Dataset
from vastgrid.data.frame import Frame, frame_of_crs
from vastgrid.data.kinds import narrowed
from vastgrid.data.linework import Contours, Linework, from_lines
from vastgrid.data.pointset import PointSet
from vastgrid.declarations.fileformat import Carries, Format, ReadResult, weighing
from vastgrid.kernels.text.decimals import number_of
from vastgrid.kernels.text.textrows import RowTemplate
from vastgrid.params.declare import Param


class Tracks(Enum):
    """What tracks and routes become."""

    POINTS = "points"
    LINES = "lines"
    BOTH = "both"
    APART = "apart"


@dataclass(frozen=True)
class GpxReadParams:
    """What is taken from the file."""

    tracks: Annotated[
        Tracks,
        Param(
            "Tracks",
            "points: their points; lines: their course; both; or apart: waypoints as points, the rest as lines.",
        ),
    ] = Tracks.POINTS


@dataclass(slots=True)
class _Content:
    """What was found so far."""

    path: Path
    points: list[tuple[float, float, float, bytes, bytes, bytes]] = field(default_factory=list)
    lines: list[list[tuple[float, float, float]]] = field(default_factory=list)
    layers: list[str] = field(default_factory=list)
    faults: int = 0
    own: dict[str, str] | None = None
    kind: str = ""
    track: str = ""
    beyond: set[str] = field(default_factory=set)
    _in_extensions: int = 0

    def start(self, name: str, attributes: dict[str, str]) -> None:
        """A point, a track's segment or a route begins."""
        if self._in_extensions:
            self.beyond.add(name)
        self._in_extensions += name == "extensions"
        if self.own is not None and name == "geoidheight":
            self.beyond.add(name)
        if name in ("wpt", "trkpt", "rtept"):
            self.own, self.kind = dict(attributes), name
        elif name in ("trkseg", "rte"):
            self.lines.append([])
            self.layers.append("route" if name == "rte" else self.track or "track")
        elif name == "trk":
            self.track = ""

    def end(self, name: str, text: str) -> None:
        """A point's detail or the point itself ends."""
        self._in_extensions -= name == "extensions"
        if self._in_extensions:
            return
        if self.own is None:
            if name == "name":
                self.track = text.strip()
                if self.lines and not self.lines[-1]:
                    self.layers[-1] = self.track or self.layers[-1]
        elif name == self.kind:
            self._keep(self.own)
            self.own = None
        else:
            self.own[name] = text.strip()

    def _keep(self, own: dict[str, str]) -> None:
        try:
            lat, lon = number_of(own["lat"]), number_of(own["lon"])
            height = number_of(own["ele"]) if own.get("ele") else np.nan
        except (KeyError, ValueError):
            self.faults += 1
            return
        if not (abs(lat) <= 90.0 and abs(lon) <= 360.0 and not np.isinf(height)):
            self.faults += 1
            return
        if self.kind != "wpt" and self.lines:
            self.lines[-1].append((lon, lat, height))
        name = own.get("name", "").encode()
        self.points.append((lon, lat, height, name, own.get("time", "").encode(), self.kind.encode()))


def read(path: Path, params: GpxReadParams, progress: Progress) -> ReadResult:
    """Read points in degrees of WGS 84, heights in metres (both by the GPX 1.1 schema).

    Raises
    ------
    FormatError
        If it is not well-formed, or holds no point.
    """
    content = _Content(path)
    size = max(path.stat().st_size, 1)
    with path.open("rb") as file:
        parse_xml(path, file, content, lambda done: progress.report(min(done / size, 1.0), f"reading {path.name}"))
    if not content.points:
        raise FormatError(path, "there is no waypoint, track point or route point in the file")
    findings = []
    if content.beyond:
        some = ", ".join(sorted(content.beyond)[:12])
        text = f"The file says more of its points, which is not read: {some}. Heights are taken as the standard has them: ele, in metres above sea level."
        findings.append(note("members-not-read", text))
    if content.faults:
        findings.append(left_out("not-whole", f"{count(content.faults, 'point')} without a good place left out."))
    frame = Frame(frame_of_crs("EPSG:4326").crs, Unit.DEGREE, Unit.METRE)
    xyz = np.array([row[:3] for row in content.points], np.float64)
    missing = int(np.isnan(xyz[:, 2]).sum())
    if missing:
        text = f"{count(missing, 'point')} of {spaced(len(xyz))} without a height; that stays so, and makes no ground."
        findings.append(Finding("no-height", text))
    found: list[Dataset] = []
    apart = params.tracks is Tracks.APART
    rows = [row for row in content.points if row[5] == b"wpt"] if apart else content.points
    only_lines = params.tracks is Tracks.LINES and any(len(line) > 1 for line in content.lines)
    if rows and not only_lines:
        xyz = np.array([row[:3] for row in rows], np.float64)
        attributes: dict[str, NDArray[np.bytes_]] = {
            name: np.array([row[k] for row in rows]) for name, k in (("point", 3), ("date", 4), ("code", 5))
        }
        attributes = {name: values for name, values in attributes.items() if (values != b"").any()}
        found.append(PointSet(name=path.stem, frame=frame, xyz=xyz, attributes=attributes))
    if params.tracks is not Tracks.POINTS:
        lines = [
            (np.array(line), layer) for line, layer in zip(content.lines, content.layers, strict=True) if len(line) > 1
        ]
        if lines:
            name = f"{path.stem} course" if found else path.stem
            found.append(from_lines(name, frame, [line for line, _ in lines], [layer for _, layer in lines]))
    return ReadResult(tuple(found), tuple(findings))


def write(datasets: Sequence[Dataset], path: Path, params: object, progress: Progress) -> None:
    """Write points as waypoints and lines as tracks; they are in degrees, as the delivery has seen to."""
    with path.open("wb") as file:
        file.write(b'<?xml version="1.0" encoding="UTF-8"?>\n')
        file.write(b'<gpx version="1.1" creator="Vast Grid" xmlns="http://www.topografix.com/GPX/1/1">\n')
        # By the schema all waypoints come before all tracks.
        for each in sorted(datasets, key=lambda each: each.kind != PointSet.kind):
            if each.kind == PointSet.kind:
                _write_waypoints(file, narrowed(each, PointSet), progress)
            else:
                _write_tracks(file, each, progress)
        file.write(b"</gpx>\n")
        progress.report(1.0)


def _write_tracks(file: BinaryIO, dataset: Dataset, progress: Progress) -> None:
    """Write each line as a track of one segment; a contour is named after its level."""
    lines = dataset.as_lines()
    levels = narrowed(dataset, Contours).levels.tolist() if dataset.kind == Contours.kind else []
    for line in range(len(lines)):
        name = f"{levels[line]:.10g}" if levels else lines.layers[int(lines.layer[line])]
        rows = [
            f'<trkpt lat="{n:.9f}" lon="{e:.9f}">' + (f"<ele>{z:.4f}</ele>" if z == z else "") + "</trkpt>\n"
            for e, n, z in lines.line(line).tolist()
        ]
        file.write(f"<trk><name>{escape(name)}</name><trkseg>\n{''.join(rows)}</trkseg></trk>\n".encode())
        if line % 2_000 == 0:
            progress.report(line / len(lines), f"writing {dataset.name}")


def _write_waypoints(file: BinaryIO, points: PointSet, progress: Progress) -> None:
    names = points.attributes.get("point")
    if names is None and np.isfinite(points.xyz[:, 2]).all():
        template = RowTemplate('<wpt lat="{}" lon="{}"><ele>{}</ele></wpt>\n', (9, 9, 4))
        for block in template.blocks([points.xyz[:, 1], points.xyz[:, 0], points.xyz[:, 2]]):
            file.write(block)
            progress.report(0.5, f"writing {points.name}")
    else:
        known = names if names is not None else np.zeros(len(points.xyz), "S1")
        for k, ((lon, lat, height), name) in enumerate(zip(points.xyz.tolist(), known.tolist(), strict=True)):
            ele = f"<ele>{height:.4f}</ele>" if np.isfinite(height) else ""
            text = plain(name)
            own = f"<name>{escape(text)}</name>" if text else ""
            file.write(f'<wpt lat="{lat:.9f}" lon="{lon:.9f}">{ele}{own}</wpt>\n'.encode())
            if k % 10_000 == 0:
                progress.report(k / len(points.xyz), f"writing {points.name}")


def sniff(head: bytes, path: Path) -> int:
    """The root element says it."""
    plain = head.replace(b"\0", b"")
    if b"<gpx" in plain[:8192]:
        return 100
    return 45 if path.suffix.lower() == ".gpx" and plain.lstrip().startswith(b"<") else 0


FORMAT = Format(
    id="gpx",
    title="GPX points",
    used_for="GIS",
    suffixes=(".gpx",),
    sniff=sniff,
    carries=Carries(
        kinds=(PointSet, Linework, Contours),
        several=True,
        geographic=True,
        units="both",
        crs=True,
        attributes=("point",),
        open_heights=True,
    ),
    weigh=weighing(points=70, vertices=72, lines=60),
    read=read,
    write=write,
    read_params=GpxReadParams,
    checking=lambda datasets, params: GpxReadParams(Tracks.APART),
)
