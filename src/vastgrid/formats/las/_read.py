"""Reading LAS and LAZ point clouds."""

from __future__ import annotations

import struct
from collections.abc import Sequence
from dataclasses import dataclass
from enum import Enum
from pathlib import Path
from typing import Annotated, Any

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.disk_arrays import large_array, release
from vastgrid.base.errors import FormatError, ParamError, library_faults
from vastgrid.base.findings import Finding, Severity, count, either, left_out, longer_than_said, note
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Unit
from vastgrid.base.words import spaced
from vastgrid.data.dataset import Floats
from vastgrid.data.frame import Frame, frame_of_crs
from vastgrid.data.outline import PointOutline
from vastgrid.data.pointset import PointSet
from vastgrid.declarations.fileformat import Head, ReadResult
from vastgrid.format_support.cloudfile import CloudReadParams, chosen, filtered, parse_classes
from vastgrid.kernels.cells.clouds import place_points
from vastgrid.params.declare import Param

CHUNK = 500_000


class Marked(Enum):
    """Points by the marks that the LAS standard gives them."""

    NONE = "none"
    WITHHELD = "withheld"
    SYNTHETIC = "synthetic"
    BOTH = "both"


@dataclass(frozen=True)
class LasReadParams(CloudReadParams):
    """What is taken from the file; everything, unless asked otherwise."""

    without: Annotated[
        Marked,
        Param(
            "Leave out points marked",
            "withheld: not to be used, by the standard; synthetic: made from other data; both; or none.",
        ),
    ] = Marked.NONE


# Units by the EPSG codes that GeoTIFF keys name.
_KEY_UNITS = {9001: Unit.METRE, 9002: Unit.FOOT, 9003: Unit.US_FOOT}
# Flags and bit fields that laspy splits out of shared bytes; small and seldom set, so kept only where they are.
SELDOM = {
    "synthetic",
    "key_point",
    "withheld",
    "overlap",
    "scanner_channel",
    "scan_direction_flag",
    "edge_of_flight_line",
    "user_data",
}


def read(path: Path, params: LasReadParams, progress: Progress) -> ReadResult:
    """Read a cloud with all its attributes; see the package.

    Raises
    ------
    FormatError
        If the file is damaged or cut off.
    """
    import laspy  # here, not above: it takes a third of the time that the command line has to start

    parse_classes(params.classes)
    findings: list[Finding] = []
    _check_header(path)
    with library_faults(path, "reading the cloud"), laspy.open(path) as file:
        header = file.header
        total = int(header.point_count)
        _check_room(path, header, total)
        frame = _frame(header, findings)
        names = [name for name in header.point_format.dimension_names if name not in ("X", "Y", "Z")]
        xyz = large_array((total, 3), np.float64)
        low, high = np.full(3, np.inf), np.full(3, -np.inf)
        scales, offsets = np.asarray(header.scales, np.float64), np.asarray(header.offsets, np.float64)
        columns: dict[str, NDArray[Any]] = {}
        done = 0
        for points in file.chunk_iterator(CHUNK):
            stop = done + len(points)
            raw = points.array
            first, last = place_points(raw["X"], raw["Y"], raw["Z"], scales, offsets, xyz[done:stop])
            low, high = np.minimum(low, first), np.maximum(high, last)
            for name in names:
                part = np.asarray(points[name])
                if name not in columns:
                    columns[name] = large_array((total, *part.shape[1:]), part.dtype)
                columns[name][done:stop] = part
            done = stop
            for array in (xyz, *columns.values()):
                release(array)
            progress.report(0.9 * done / max(total, 1), f"reading {path.name}")
    if done < total:
        raise FormatError(
            path,
            f"the file is cut off: its header speaks of {count(total, 'point')}, {count(done, 'point')} can be read",
        )
    if total == 0:
        raise FormatError(path, "there are no points in the file")
    columns = {
        spelled(name, header): values for name, values in columns.items() if name not in SELDOM or values.max() > 0
    }
    cloud = PointSet(name=path.stem, frame=frame, xyz=xyz, attributes=columns)
    _check_extent(header, low, high, findings)
    _check_length(path, header, findings)
    _note_ground(cloud, params, findings)
    cloud = _without_marked(path, cloud, params.without, findings)
    cloud, said = filtered(path, cloud, params, progress.part(0.9, 1.0))
    return ReadResult((cloud,), (*findings, *said))


def peek(path: Path, params: LasReadParams, progress: Progress) -> ReadResult:
    """Read some of the points, from all over the file."""
    import laspy

    findings: list[Finding] = []
    _check_header(path)
    with library_faults(path, "reading the cloud"), laspy.open(path) as file:
        header = file.header
        total = int(header.point_count)
        _check_room(path, header, total)
        frame = _frame(header, findings)
        stretch = min(max(total // 40, 1), 25_000)
        parts = []
        # A cloud is written along its flight or scan; forty stretches show where it lies.
        for k in range(40 if total > 40 * stretch else 1):
            if k:
                file.seek(k * (total - stretch) // 39)
            points = file.read_points(stretch if total > 40 * stretch else total)
            parts.append((np.column_stack((points.x, points.y, points.z)), np.asarray(points.classification)))
            progress.report(k / 40, f"looking into {path.name}")
    xyz = np.concatenate([part for part, _ in parts])
    attributes = {"classification": np.concatenate([classes for _, classes in parts])}
    low, high = header.mins, header.maxs
    # The header's corners make the picture's frame the whole file's, unless they are plainly wrong.
    ends = np.array([low, high])
    wide = np.ptp(ends, axis=0) <= 4.0 * np.ptp(xyz, axis=0) + 1.0
    if np.isfinite(ends).all() and wide.all():
        classes = np.zeros(2, attributes["classification"].dtype)
        xyz = np.concatenate((xyz, ends))
        attributes["classification"] = np.concatenate((attributes["classification"], classes))
    cloud = PointSet(name=path.stem, frame=frame, xyz=xyz, attributes=attributes)
    return ReadResult((cloud,), tuple(findings), ({"points": total},))


def head(path: Path, params: LasReadParams) -> Head:
    """Return what the header tells.

    Raises
    ------
    FormatError
        If the file is damaged or cut off, or its header's extent makes no sense.
    """
    import laspy

    findings: list[Finding] = []
    _check_header(path)
    with library_faults(path, "reading the header"), laspy.open(path) as file:
        header = file.header
        total = int(header.point_count)
        _check_room(path, header, total)
        frame = _frame(header, findings)
        names = tuple(
            spelled(name, header) for name in header.point_format.dimension_names if name not in ("X", "Y", "Z")
        )
        low, high = ((float(ends[0]), float(ends[1]), float(ends[2])) for ends in (header.mins, header.maxs))
    if total == 0:
        raise FormatError(path, "there are no points in the file")
    if not np.isfinite([low, high]).all() or any(a > b for a, b in zip(low, high, strict=True)):
        raise FormatError(path, "the extent in its header makes no sense; read alone, the file shows its points")
    return Head(PointOutline(path.stem, frame, total, low, high), tuple(findings), names)


def part(path: Path, params: LasReadParams, which: tuple[int, int], columns: Sequence[str] | None) -> PointSet:
    """Return the points from one number to another, without those that were asked to be left out.

    Raises
    ------
    FormatError
        If the file is damaged or cut off there.
    ParamError
        If what was asked needs more than one point to decide.
    """
    import laspy

    if params.outliers is not None or params.thin is not None:
        name = "outliers" if params.outliers is not None else "thin"
        raise ParamError(name, "this looks at neighbours, which a part of a file does not have; leave it out")
    first, stop = which
    needed = None if columns is None else {*columns, *_deciding(params)}
    own = {} if needed is None else {"decompression_selection": _selected(needed)}
    # Several parts are read beside each other, so each unpacks by itself.
    with library_faults(path, "reading the cloud"), laspy.open(path, laz_backend=laspy.LazBackend.Lazrs, **own) as file:
        header = file.header
        if first:
            file.seek(first)
        points = file.read_points(stop - first)
        if len(points) < stop - first:
            raise FormatError(path, f"the file is cut off after {count(first + len(points), 'point')}")
        raw = points.array
        xyz = np.zeros((len(points), 3))
        scales, offsets = np.asarray(header.scales, np.float64), np.asarray(header.offsets, np.float64)
        place_points(raw["X"], raw["Y"], raw["Z"], scales, offsets, xyz)
        every = [name for name in header.point_format.dimension_names if name not in ("X", "Y", "Z")]
        values = {
            spelled(name, header): np.ascontiguousarray(points[name])
            for name in every
            if needed is None or spelled(name, header) in needed
        }
        frame = _frame(header, [])
    cloud = PointSet(name=path.stem, frame=frame, xyz=xyz, attributes=values)
    keep = chosen(path, cloud, params)
    for name in ("withheld", "synthetic"):
        if params.without in (Marked(name), Marked.BOTH):
            keep &= ~(np.asarray(values[name]) > 0)
    return cloud if keep.all() else cloud.chosen(keep)


def _selected(names: set[str]) -> Any:
    """Return what has to be unpacked: from point format 6 on fields are packed by themselves (LAS 1.4, LAZ 1.4)."""
    import laspy

    field = laspy.DecompressionSelection
    chosen = field.XY_RETURNS_CHANNEL | field.Z
    flags = {"synthetic", "key_point", "withheld", "overlap", "scan_direction_flag", "edge_of_flight_line"}
    of_names = {
        **dict.fromkeys(flags, field.FLAGS),
        **dict.fromkeys(_RGB, field.RGB),
        **{name: field[name.upper()] for name in ("classification", "intensity", "scan_angle", "user_data")},
        **{name: field[name.upper()] for name in ("point_source_id", TIME, "nir")},
        STANDARD_TIME: field.GPS_TIME,
        **dict.fromkeys(("return_number", "number_of_returns", "scanner_channel"), field.XY_RETURNS_CHANNEL),
    }
    for name in names:
        chosen |= of_names.get(name, field.ALL_EXTRA_BYTES | field.WAVEPACKET)
    return chosen


# GPS time within a week, and adjusted standard GPS time, which a bit of the header tells apart (LAS 1.4, 2.4).
TIME, STANDARD_TIME = "gps_time", "adjusted_gps_time"


def spelled(name: str, header: Any) -> str:
    """Return what a field is called here: times of two kinds are never taken for each other."""
    return STANDARD_TIME if name == TIME and int(header.global_encoding.gps_time_type) == 1 else name


_RGB = ("red", "green", "blue")


def _deciding(params: LasReadParams) -> list[str]:
    """Return the attributes by which points are left out."""
    names = {"classification": params.classes.strip(), "intensity": params.intensity.strip()}
    marked = {"withheld": params.without in (Marked.WITHHELD, Marked.BOTH)}
    marked["synthetic"] = params.without in (Marked.SYNTHETIC, Marked.BOTH)
    return [name for name, asked in (*names.items(), *marked.items()) if asked]


def _check_header(path: Path) -> None:
    """Refuse records that cannot fit the file: the library would read on for hours (offsets by the LAS 1.4 standard)."""
    size = path.stat().st_size
    with path.open("rb") as file:
        head = file.read(375)
    if len(head) < 227:
        raise FormatError(path, f"the file is cut off: {size} bytes are less than a header")
    own, data, records = struct.unpack_from("<HII", head, 94)
    later = struct.unpack_from("<QI", head, 235) if head[25] >= 4 and len(head) >= 247 else (0, 0)
    good = 227 <= own <= data <= size and records * 54 <= data - own
    if later[1]:
        good &= later[0] <= size and later[1] * 60 <= size - later[0]
    if not good:
        raise FormatError(path, "its header speaks of records that do not fit in the file; it is damaged or cut off")
    if head[104] & 0x80:
        _check_packing(path, own, data, size, head)


def _check_packing(path: Path, own: int, data: int, size: int, head: bytes) -> None:
    """Refuse a chunk table that cannot be: the library would ask for as much memory as it says.

    Layout by the LASzip specification: the record 22204, and at the points' beginning the place of the table, which
    begins with its version and the number of chunks.
    """
    with path.open("rb") as file:
        file.seek(own)
        records = file.read(data - own)
        file.seek(data)
        start = file.read(8)
        mark = records.find(b"laszip encoded")
        if mark < 2 or len(start) < 8 or mark + 16 + 36 + 34 > len(records):
            raise FormatError(path, "its packing is not described as the LAZ format does; it is damaged or cut off")
        chunk = struct.unpack_from("<I", records, mark + 52 + 12)[0]
        place = struct.unpack("<q", start)[0]
        if place == -1:
            # A file written as a stream has the place at its end.
            file.seek(size - 8)
            place = struct.unpack("<q", file.read(8))[0]
        file.seek(max(min(place, size), 0))
        begin = file.read(8)
    points = struct.unpack_from("<Q", head, 247)[0] if head[25] >= 4 and len(head) >= 255 else 0
    points = points or struct.unpack_from("<I", head, 107)[0]
    chunks = struct.unpack_from("<I", begin, 4)[0] if len(begin) == 8 else -1
    most = points + 1 if chunk == 0xFFFFFFFF else points // max(chunk, 1) + 2
    if not (data + 8 <= place <= size - 8 and 0 <= chunks <= min(most, size) and chunk > 0):
        raise FormatError(path, "its table of chunks does not fit in the file; it is damaged or cut off")
    length = struct.unpack_from("<H", records, mark + 18)[0]
    with library_faults(path, "reading the table of chunks"), path.open("rb") as file:
        import lazrs

        file.seek(data)
        table = lazrs.read_chunk_table(file, lazrs.LazVlr(records[mark + 52 : mark + 52 + length]))
        # A chunk may have room for more points than there are, yet not for beyond all measure more.
        swollen = any(number > max(points, 1_000_000) for number, _ in table)
        if sum(each for _, each in table) > size or swollen:
            raise FormatError(path, "its chunks are larger than the file; it is damaged or cut off")


def _check_room(path: Path, header: Any, total: int) -> None:
    """Refuse a header whose point count cannot fit the file, before memory is asked for."""
    size = path.stat().st_size
    # LAZ seldom packs a point into less than a byte; a bomb would claim far more.
    least = total * header.point_format.size if not header.are_points_compressed else total // 16
    if total < 0 or least > size:
        why = f"the file is cut off: its header speaks of {count(total, 'point')}, which do not fit in {count(size, 'byte')}"
        raise FormatError(path, why)


def _frame(header: Any, findings: list[Finding]) -> Frame:
    try:
        crs = header.parse_crs()
    except Exception:  # noqa: BLE001 - whatever PROJ and laspy raise on foreign records
        crs = None
        findings.append(Finding("crs-unreadable", "The coordinate reference system cannot be read."))
    frame = Frame() if crs is None else frame_of_crs(crs.to_wkt())
    return _with_keys(header, frame, findings)


def _with_keys(header: Any, frame: Frame, findings: list[Finding]) -> Frame:
    """Return a frame with the units that GeoTIFF keys declare beside a CRS that has none (3076 of plan, 4099 of heights)."""
    record = next((each for each in header.vlrs if getattr(each, "record_id", 0) == 34735), None)
    keys = {int(key.id): int(key.value_offset) for key in getattr(record, "geo_keys", ())} if record else {}
    for number, have, what in ((3076, frame.horizontal, "plan"), (4099, frame.vertical, "height")):
        unit = _KEY_UNITS.get(keys.get(number, 0))
        if unit is None or unit is have:
            continue
        if have is not None:
            text = f"The CRS says the {what} unit is the {have.title}, a GeoTIFF key ({number}) says {unit.title}; the CRS counts."
            findings.append(Finding("unit-contradiction", text))
            continue
        told = "the CRS does not say" if frame.crs else "there is no CRS"
        findings.append(note("unit-by-key", f"The {what} unit ({unit.title}) comes from a GeoTIFF key; {told}."))
        frame = frame.filled(unit, None) if what == "plan" else frame.filled(None, unit)
    return frame


def _check_length(path: Path, header: Any, findings: list[Finding]) -> None:
    """Say if there are more points behind those that the header counts."""
    if header.are_points_compressed or int(getattr(header, "number_of_evlrs", 0) or 0):
        return
    end = int(header.offset_to_point_data) + int(header.point_count) * int(header.point_format.size)
    with path.open("rb") as file:
        file.seek(end)
        rest = file.read(1 << 20).strip(b"\0")
    waves = int(getattr(header, "start_of_waveform_data_packet_record", 0) or 0)
    if len(rest) >= int(header.point_format.size) and not waves:
        findings.append(longer_than_said((path.stat().st_size - end) // int(header.point_format.size), "point"))


def _check_extent(header: Any, low: Floats, high: Floats, findings: list[Finding]) -> None:
    slack = np.maximum(np.abs(np.asarray(header.scales)) * 2.0, 1e-9 * np.abs(high))
    off = np.abs(low - header.mins) > slack
    off |= np.abs(high - header.maxs) > slack
    if off.any():
        axes = ", ".join(np.array(["easting", "northing", "elevation"])[off])
        text = f"The extent in the file's header does not fit its points ({axes}); the points count."
        with np.errstate(divide="ignore", invalid="ignore"):
            ratio = np.nanmedian(np.asarray(header.maxs)[off] / high[off])
        if 900.0 < ratio < 1100.0 or 9e-4 < ratio < 1.1e-3:
            more = "a thousand times larger" if ratio > 1.0 else "a thousand times smaller"
            text += f" The header's is {more}: perhaps one of them is in millimetres."
        findings.append(Finding("header-extent", text))


def _without_marked(path: Path, cloud: PointSet, without: Marked, findings: list[Finding]) -> PointSet:
    """Return a cloud without the marked points that were asked to go; say how many marked ones stay.

    Raises
    ------
    FormatError
        If nothing is left.
    """
    total = len(cloud.xyz)
    keep = np.ones(total, np.bool_)
    for name, why in (
        ("withheld", "which by the standard are not to be used"),
        ("synthetic", "which were not measured but made from other data"),
    ):
        if name not in cloud.attributes:
            continue
        marked = np.asarray(cloud.attributes[name]) > 0
        number = count(int(marked.sum()), "point")
        if without in (Marked(name), Marked.BOTH):
            keep &= ~marked
            text = f"{number} of {spaced(total)} marked {name} ({marked.mean():.1%}): left out, as asked."
            findings.append(left_out("points-dropped", text, Severity.NOTE))
        else:
            text = f"{number} of {spaced(total)} {either(marked.sum(), 'is', 'are')} marked {name}, {why}; without={name} leaves them out."
            findings.append(Finding(f"{name}-points", text))
    if not keep.any():
        raise FormatError(path, f"nothing is left of {count(total, 'point')}: all are marked {without.value}")
    return cloud if keep.all() else cloud.chosen(keep)


def _note_ground(cloud: PointSet, params: LasReadParams, findings: list[Finding]) -> None:
    classes = np.asarray(cloud.attributes["classification"])
    ground = int((classes == 2).sum())
    if not params.classes.strip() and 0 < ground < len(classes):
        text = f"All classes are used; {count(ground, 'point')} of {spaced(len(classes))} {either(ground, 'is', 'are')} ground (classes=2)."
        findings.append(note("all-classes", text))
