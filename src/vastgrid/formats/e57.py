"""E57 scans: poses, several scans in one file, all fields."""

from __future__ import annotations

import dataclasses
import re
import struct
import uuid
from collections.abc import Sequence
from dataclasses import dataclass
from enum import Enum
from pathlib import Path
from typing import Annotated, Any

import numpy as np
from numpy.typing import NDArray

from vastgrid import __version__
from vastgrid.base.errors import FormatError, library_faults
from vastgrid.base.findings import Finding, count, left_out, note
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Unit
from vastgrid.base.words import spaced
from vastgrid.data.dataset import Dataset, Floats
from vastgrid.data.frame import Frame, frame_of_crs
from vastgrid.data.kinds import of_kind
from vastgrid.data.pointset import PointSet
from vastgrid.declarations.fileformat import Carries, Format, ReadResult, weighing
from vastgrid.format_support.cloudfile import CloudReadParams, filtered
from vastgrid.format_support.columns import EXACT, AsHeld, Column, as_numbers, different, whole_beyond
from vastgrid.params.declare import Param

# Names of the standard (ASTM E2807) and ours; the others keep theirs.
_NAMES = {
    "colorRed": "red",
    "colorGreen": "green",
    "colorBlue": "blue",
    "timeStamp": "gps_time",
    "returnIndex": "return_number",
    "returnCount": "number_of_returns",
}
_PLACES = ("cartesianX", "cartesianY", "cartesianZ", "sphericalRange", "sphericalAzimuth", "sphericalElevation")


def read(path: Path, params: CloudReadParams, progress: Progress) -> ReadResult:
    """Read every scan, brought into the file's own system by its pose; lengths are metres by the standard.

    Raises
    ------
    FormatError
        If the file is damaged; pages are checked by their checksums.
    """
    from pye57 import libe57

    size = path.stat().st_size
    if size < 48:
        raise FormatError(path, f"the file is cut off: {size} bytes are less than a header")
    with path.open("rb") as file:
        # The header's physical length stands behind name and versions (ASTM E2807, 7.3.1).
        said = struct.unpack("<Q", file.read(24)[16:])[0]
    if said != size:
        what = "is cut off" if said > size else "holds more than its header says"
        raise FormatError(path, f"the file {what}: its header speaks of {spaced(said)} bytes, {spaced(size)} are there")
    found: list[Dataset] = []
    findings: list[Finding] = []
    with library_faults(path, "reading the scans"):
        # The library's own opener would remove a file that it cannot open; this one only reads.
        image = libe57.ImageFile(str(path), "r")
        try:
            root = image.root()
            scans: Any = root["data3D"] if root.isDefined("data3D") else None
            count = scans.childCount() if scans is not None else 0
            frame = _frame(root, findings)
            for k in range(count):
                part = progress.part(k / count, (k + 1) / count)
                part.report(0.0, f"reading scan {k + 1} of {count}")
                name = path.stem if count == 1 else f"{path.stem} scan {k + 1}"
                scan = scans[k]
                if scan.isDefined("name") and (text := str(scan["name"].value()).strip()):
                    name = text
                made = _scan(path, image, scan, name, frame, size, findings)
                if made is None:
                    findings.append(left_out("empty-scan", f"{name} has no valid points; it was left out."))
                    continue
                cloud, scanner = made
                kept, said = filtered(path, cloud, params, part.part(0.6, 1.0), scanner)
                findings += said
                found.append(kept)
        finally:
            image.close()
    if not found:
        raise FormatError(path, "there is no scan with points in the file")
    return ReadResult(tuple(found), tuple(findings))


def _frame(root: Any, findings: list[Finding]) -> Frame:
    metres = Frame(None, Unit.METRE, Unit.METRE)
    if not root.isDefined("coordinateMetadata"):
        return metres
    text = str(root["coordinateMetadata"].value()).strip()
    if not text:
        return metres
    try:
        return Frame(frame_of_crs(text).crs, Unit.METRE, Unit.METRE)
    except ValueError:
        findings.append(Finding("crs-unreadable", "The file's coordinate system cannot be used."))
        return metres


def _scan(
    path: Path, image: Any, scan: Any, name: str, frame: Frame, size: int, findings: list[Finding]
) -> tuple[PointSet, Floats] | None:
    from pye57 import libe57

    points = scan["points"]
    total = int(points.childCount())
    prototype = libe57.StructureNode(points.prototype())
    names = [prototype.get(k).elementName() for k in range(prototype.childCount())]
    # Bits are packed, yet no scanner's point takes less than a bit.
    if total > 8 * size:
        raise FormatError(path, f"{name} speaks of {count(total, 'point')}, which do not fit in {count(size, 'byte')}")
    if total == 0:
        return None
    columns = {field: np.zeros(total, _buffer_of(prototype.get(k))) for k, field in enumerate(names)}
    buffers = libe57.VectorSourceDestBuffer()
    for field, values in columns.items():
        buffers.append(libe57.SourceDestBuffer(image, field, values, total, True, True))
    reader = points.reader(buffers)
    got = int(reader.read())
    reader.close()
    if got < total:
        raise FormatError(path, f"{name} is cut off: {count(total, 'point')} announced, {count(got, 'point')} there")
    valid = np.ones(total, np.bool_)
    for field in ("cartesianInvalidState", "sphericalInvalidState"):
        if field in columns:
            valid &= columns.pop(field) == 0
    xyz = _places(path, columns)
    valid &= np.isfinite(xyz).all(axis=1)
    if not valid.all():
        gone = int((~valid).sum())
        findings.append(
            left_out("invalid-points", f"{count(gone, 'point')} of {spaced(total)} of {name} marked invalid: left out.")
        )
    if not valid.any():
        return None
    rotation, origin = _pose(scan)
    placed = xyz[valid] @ rotation.T + origin
    attributes = {
        _NAMES.get(field, field.removeprefix(f"{_OURS}:")): _narrow(values[valid])
        for field, values in columns.items()
        if field not in _PLACES
    }
    return PointSet(name=name, frame=frame, xyz=placed, attributes=attributes), origin


def _buffer_of(node: Any) -> type[np.generic]:
    """Return the type that holds a field: whole numbers beyond 2^53 are no doubles."""
    from pye57 import libe57

    if node.type() != libe57.NodeType.E57_INTEGER:
        return np.float64
    whole = libe57.IntegerNode(node)
    return np.int64 if max(abs(whole.minimum()), abs(whole.maximum())) > EXACT else np.float64


def _places(path: Path, columns: dict[str, NDArray[Any]]) -> Floats:
    if all(field in columns for field in _PLACES[:3]):
        return np.column_stack([columns[field] for field in _PLACES[:3]])
    if all(field in columns for field in _PLACES[3:]):
        reach, azimuth, elevation = (columns[field] for field in _PLACES[3:])
        flat = reach * np.cos(elevation)
        return np.column_stack((flat * np.cos(azimuth), flat * np.sin(azimuth), reach * np.sin(elevation)))
    raise FormatError(path, f"the points have no coordinates; there are {', '.join(columns)}")


def _pose(scan: Any) -> tuple[Floats, Floats]:
    """Return rotation matrix and translation; without a pose, none of either."""
    rotation, origin = np.eye(3), np.zeros(3)
    if not scan.isDefined("pose"):
        return rotation, origin
    pose = scan["pose"]
    if pose.isDefined("rotation"):
        node = pose["rotation"]
        w, x, y, z = (float(node[axis].value()) for axis in "wxyz")
        length = float(np.sqrt(w * w + x * x + y * y + z * z)) or 1.0
        w, x, y, z = w / length, x / length, y / length, z / length
        rotation = np.array(
            [
                [1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w)],
                [2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w)],
                [2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y)],
            ]
        )
    if pose.isDefined("translation"):
        node = pose["translation"]
        origin = np.array([float(node[axis].value()) for axis in "xyz"])
    return rotation, origin


def _narrow(values: NDArray[Any]) -> NDArray[Any]:
    """Return whole numbers as the smallest type that holds them, and others as they are."""
    if values.dtype.kind != "i" and (not np.isfinite(values).all() or (values != np.rint(values)).any()):
        return values
    low, high = values.min(), values.max()
    for kind in (np.uint8, np.uint16, np.int32):
        if np.iinfo(kind).min <= low and high <= np.iinfo(kind).max:
            return values.astype(kind)
    return values


class ColourBits(Enum):
    """How fine colours are."""

    EIGHT = "8"
    SIXTEEN = "16"


@dataclass(frozen=True)
class E57WriteParams:
    """How the scans are written."""

    colours: Annotated[
        ColourBits, Param("Bits of colours", "8: every reader takes them; 16: the finest that clouds hold.")
    ] = ColourBits.EIGHT


_COLOURS = ("red", "green", "blue")
# 255 of 8 bits is 65535 of 16.
_FINE = 257


def _fine(points: PointSet) -> bool:
    """Say whether colours of points need more than 8 bits."""
    columns = [points.attributes[name] for name in _COLOURS if name in points.attributes]
    return any(len(each) and each.dtype.kind in "iu" and int(each.max()) > 255 for each in columns)


def given(datasets: Sequence[Dataset], params: E57WriteParams) -> Sequence[Dataset]:
    """Return clouds with colours of 8 bits, where 16 were not asked for."""
    found: list[Dataset] = []
    for each in datasets:
        if params.colours is ColourBits.EIGHT and isinstance(each, PointSet) and _fine(each):
            coarse = {
                name: ((values.astype(np.int64) + _FINE // 2) // _FINE).astype(np.uint8) if name in _COLOURS else values
                for name, values in each.attributes.items()
            }
            each = dataclasses.replace(each, attributes=coarse)
        found.append(each)
    return found


def says(datasets: Sequence[Dataset], params: E57WriteParams) -> tuple[Finding, ...]:
    """Say whose colours are made coarser."""
    if params.colours is ColourBits.SIXTEEN:
        return ()
    names = [each.name for each in datasets if isinstance(each, PointSet) and _fine(each)]
    text = "goes out with colours of 8 bits, which every reader takes; colours=16 keeps all of them."
    return tuple(note("colours-coarser", f"{name} {text}") for name in names)


def column(_name: str, values: Column, _params: E57WriteParams) -> AsHeld:
    """Leave out whole numbers that the library hands on as doubles."""
    if whole_beyond(values, EXACT):
        return values[:0], "whole numbers beyond 2^53, which cannot be written exactly, left out"
    return as_numbers(values)


_OURS = "vg"
_WORD_OF = {own: word for word, own in _NAMES.items()}
_STANDARD = {*_WORD_OF.values(), "intensity", "rowIndex", "columnIndex"}
_CHUNK = 500_000


def write(datasets: Sequence[Dataset], path: Path, params: E57WriteParams, progress: Progress) -> None:
    """Write each cloud as a scan: places of double precision, told from the scan's pose; all attributes that are numbers.

    Attributes that the standard (ASTM E2807) has no field for go into an extension of ours.
    """
    from pye57 import libe57

    with library_faults(path, "writing the scans"):
        image = libe57.ImageFile(str(path), "w")
        try:
            image.extensionsAdd("", libe57.E57_V1_0_URI)
            image.extensionsAdd(_OURS, "urn:vastgrid:attributes:1")
            root = image.root()
            root.set("formatName", libe57.StringNode(image, "ASTM E57 3D Imaging Data File"))
            root.set("guid", libe57.StringNode(image, f"{{{uuid.uuid4()}}}"))
            root.set("versionMajor", libe57.IntegerNode(image, libe57.E57_FORMAT_MAJOR))
            root.set("versionMinor", libe57.IntegerNode(image, libe57.E57_FORMAT_MINOR))
            root.set("e57LibraryVersion", libe57.StringNode(image, libe57.E57_LIBRARY_ID))
            crs = next((each.frame.crs for each in datasets if each.frame.crs), None)
            root.set("coordinateMetadata", libe57.StringNode(image, crs or ""))
            scans = libe57.VectorNode(image, True)
            root.set("data3D", scans)
            root.set("images2D", libe57.VectorNode(image, True))
            for k, points in enumerate(of_kind(datasets, PointSet)):
                part = progress.part(k / len(datasets), (k + 1) / len(datasets))
                _write_scan(image, scans, points, part)
        finally:
            # Whatever happens: the library ends the process where a file is left open.
            image.close()


def audit(path: Path) -> tuple[str, ...]:
    """Return what the scans' headers say otherwise than their points: the bounds of the places (ASTM E2807, 8.4.4)."""
    from pye57 import libe57

    wrong = []
    with library_faults(path, "looking at the scans' headers"):
        image = libe57.ImageFile(str(path), "r")
        try:
            scans = image.root()["data3D"]
            for k in range(scans.childCount()):
                scan = scans[k]
                said = scan["cartesianBounds"]
                ends = np.array([[said[f"{axis}{end}"].value() for axis in "xyz"] for end in ("Minimum", "Maximum")])
                own = _ends(image, scan["points"])
                if own is not None and (np.abs(ends - own) > 1e-9 + 1e-12 * np.abs(own)).any():
                    wrong.append(f"the bounds of {scan['name'].value()} are not those of its points")
        finally:
            image.close()
    return tuple(wrong)


def _ends(image: Any, points: Any) -> Floats | None:
    """Return the least and the largest places of a scan before its pose, (2, 3); None where it has no points."""
    from pye57 import libe57

    size = min(_CHUNK, int(points.childCount()))
    if not size:
        return None
    places = [np.zeros(size) for _ in "XYZ"]
    buffers = libe57.VectorSourceDestBuffer()
    for axis, array in zip("XYZ", places, strict=True):
        buffers.append(libe57.SourceDestBuffer(image, f"cartesian{axis}", array, size, True, True))
    reader = points.reader(buffers)
    low, high = np.full(3, np.inf), np.full(3, -np.inf)
    while got := int(reader.read()):
        low = np.minimum(low, [each[:got].min() for each in places])
        high = np.maximum(high, [each[:got].max() for each in places])
    reader.close()
    return np.array([low, high])


def _write_scan(image: Any, scans: Any, points: PointSet, progress: Progress) -> None:
    from pye57 import libe57

    def structure(parent: Any, name: str, values: dict[str, float]) -> None:
        node = libe57.StructureNode(image)
        parent.set(name, node)
        for key, value in values.items():
            node.set(key, libe57.FloatNode(image, float(value)))

    low, high = points.xyz.min(axis=0), points.xyz.max(axis=0)
    origin = np.floor(low)
    # Bounds are told as the points are, before the pose (ASTM E2807, 8.4.4).
    low, high = low - origin, high - origin
    scan = libe57.StructureNode(image)
    scan.set("guid", libe57.StringNode(image, f"{{{uuid.uuid4()}}}"))
    scan.set("name", libe57.StringNode(image, points.name))
    scan.set("description", libe57.StringNode(image, f"Vast Grid {__version__}"))
    bounds = {
        f"{axis}{end}": value[k] for k, axis in enumerate("xyz") for end, value in (("Minimum", low), ("Maximum", high))
    }
    structure(scan, "cartesianBounds", bounds)
    pose = libe57.StructureNode(image)
    scan.set("pose", pose)
    structure(pose, "rotation", {"w": 1.0, "x": 0.0, "y": 0.0, "z": 0.0})
    structure(pose, "translation", dict(zip("xyz", origin.tolist(), strict=True)))
    columns = {
        name: values for name, values in points.attributes.items() if values.dtype.kind in "iufb" and values.ndim == 1
    }
    prototype = libe57.StructureNode(image)
    for axis in "XYZ":
        prototype.set(f"cartesian{axis}", libe57.FloatNode(image, 0.0, libe57.E57_DOUBLE))
    fields = _fields(list(columns))
    for name, values in columns.items():
        first, last = values.min(initial=0), values.max(initial=0)
        if values.dtype.kind == "f":
            prototype.set(fields[name], libe57.FloatNode(image, 0.0, libe57.E57_DOUBLE))
        else:
            prototype.set(fields[name], libe57.IntegerNode(image, 0, min(int(first), 0), max(int(last), 0)))
    _limits(image, scan, columns)
    size = min(_CHUNK, len(points.xyz))
    held = {f"cartesian{axis}": np.zeros(size) for axis in "XYZ"} | {field: np.zeros(size) for field in fields.values()}
    buffers = libe57.VectorSourceDestBuffer()
    for field, array in held.items():
        buffers.append(libe57.SourceDestBuffer(image, field, array, size, True, True))
    rows = libe57.CompressedVectorNode(image, prototype, libe57.VectorNode(image, True))
    scan.set("points", rows)
    scans.append(scan)
    writer = rows.writer(buffers)
    try:
        for start in range(0, len(points.xyz), size):
            stop = min(start + size, len(points.xyz))
            for k, axis in enumerate("XYZ"):
                held[f"cartesian{axis}"][: stop - start] = points.xyz[start:stop, k] - origin[k]
            for name, values in columns.items():
                held[fields[name]][: stop - start] = values[start:stop]
            writer.write(stop - start)
            progress.report(stop / len(points.xyz), f"writing {points.name}")
    finally:
        writer.close()


def _fields(names: Sequence[str]) -> dict[str, str]:
    """Return the standard's word for each attribute, or one of our extension's, all different."""
    standard = {name: _WORD_OF.get(name, name) for name in names}
    plain = _plain_names([name for name in names if standard[name] not in _STANDARD])
    return {name: f"{_OURS}:{plain[name]}" if name in plain else word for name, word in standard.items()}


def _plain_names(names: Sequence[str]) -> dict[str, str]:
    return different({name: _plain_name(name) for name in names})


def _plain_name(name: str) -> str:
    """Return a name as an element can have it: letters, digits and underscores, not a digit first."""
    plain = re.sub(r"\W", "_", name, flags=re.ASCII)
    return plain if plain[:1].isalpha() or plain[:1] == "_" else f"_{plain}"


def renamed(names: Sequence[str], params: E57WriteParams) -> dict[str, str]:
    """Return what attributes are called when the file is read."""
    plain = _plain_names([name for name in names if _WORD_OF.get(name, name) not in _STANDARD])
    return {name: plain.get(name, name) for name in names}


def _limits(image: Any, scan: Any, columns: dict[str, NDArray[Any]]) -> None:
    """Say the range of colours and intensity, by which readers scale them."""
    from pye57 import libe57

    if "intensity" in columns:
        node = libe57.StructureNode(image)
        scan.set("intensityLimits", node)
        values = columns["intensity"]
        for end, value in (("Minimum", values.min()), ("Maximum", values.max())):
            node.set(f"intensity{end}", libe57.FloatNode(image, float(value)))
    if all(name in columns for name in ("red", "green", "blue")):
        node = libe57.StructureNode(image)
        scan.set("colorLimits", node)
        most = max(int(columns[name].max()) for name in ("red", "green", "blue"))
        for name in ("Red", "Green", "Blue"):
            node.set(f"color{name}Minimum", libe57.IntegerNode(image, 0))
            node.set(f"color{name}Maximum", libe57.IntegerNode(image, 255 if most < 256 else 65535))


def sniff(head: bytes, path: Path) -> int:  # noqa: D103
    return 100 if head.startswith(b"ASTM-E57") else 0


FORMAT = Format(
    id="e57",
    title="E57 scans",
    used_for="point clouds",
    suffixes=(".e57",),
    sniff=sniff,
    carries=Carries(kinds=(PointSet,), several=True, units="both", crs=True, attributes="numbers", metres=True),
    read=read,
    write=write,
    weigh=weighing(points=30),
    renamed=renamed,
    write_params=E57WriteParams,
    given=given,
    says=says,
    column=column,
    audit=audit,
    read_params=CloudReadParams,
)
