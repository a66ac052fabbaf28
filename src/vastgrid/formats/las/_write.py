"""Writing LAS and LAZ: the point format that the content needs, nothing thinned, scale and offset that lose nothing."""

from __future__ import annotations

import dataclasses
import struct
from collections.abc import Collection, Sequence
from dataclasses import dataclass
from enum import Enum
from pathlib import Path
from typing import Annotated, Any

import numpy as np
from numpy.typing import NDArray

from vastgrid import __version__
from vastgrid.base.disk_arrays import pieces
from vastgrid.base.errors import DataError, ParamError, library_faults
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Unit
from vastgrid.data.dataset import Dataset, Floats
from vastgrid.data.frame import Frame, epsg_code, wkt_of
from vastgrid.data.kinds import narrowed, of_kind
from vastgrid.data.pointset import PointSet
from vastgrid.format_support.columns import short_names
from vastgrid.formats.las._read import STANDARD_TIME, TIME
from vastgrid.params.declare import Param

CHUNK = 500_000


class Version(Enum):
    """Version of the standard."""

    OLD = "1.2"
    NEW = "1.4"


@dataclass(frozen=True)
class LasWriteParams:
    """How the cloud is written."""

    version: Annotated[
        Version | None, Param("Version", "1.2 for old readers; 1.4 holds everything.", absent="1.2 where it holds all")
    ] = None
    point_format: Annotated[
        int | None,
        Param("Point format", "Number of the point format, by the LAS standard.", least=0, most=10,
              absent="the least that holds all"),
    ] = None  # fmt: skip
    decimals: Annotated[
        int | None,
        Param(
            "Decimals",
            "Decimals of every coordinate; beside degrees, heights have no more than they need.",
            least=0,
            most=9,
            absent="as many as the coordinates have",
        ),
    ] = None


# What the point formats of the LAS 1.4 standard hold beside place, intensity, returns, class and source (tables 7 to 17).
_TIMES, _COLOURS, _NIR = (1, 3, 4, 5, 6, 7, 8, 9, 10), (2, 3, 5, 7, 8, 10), (8, 10)
_ABLE = (0, 1, 2, 3, 6, 7, 8)
_COLOUR_NAMES = ("red", "green", "blue")
# What readers call fields of one meaning, before and after version 1.4.
_RANK, _ANGLE = "scan_angle_rank", "scan_angle"
_RANK_STEP = 0.006


def _content(points: PointSet) -> dict[str, list[str]]:
    """Return what points have that not every point format holds, each with the attributes that need it."""
    there = points.attributes
    found: dict[str, list[str]] = {
        "times": [name for name in (TIME, STANDARD_TIME) if name in there],
        "colours": [name for name in _COLOUR_NAMES if name in there],
        "near infrared": [name for name in ("nir",) if name in there],
    }

    def beyond(name: str, most: int) -> bool:
        return (
            name in there and there[name].dtype.kind in "iu" and len(there[name]) > 0 and int(there[name].max()) > most
        )

    wide = [name for name, most in (("return_number", 7), ("number_of_returns", 7)) if beyond(name, most)]
    found["classes above 31"] = ["classification"] if beyond("classification", 31) else []
    found["more than seven returns"] = wide
    found["scanner channels and overlaps"] = [
        name for name in ("scanner_channel", "overlap") if name in there and np.asarray(there[name]).any()
    ]
    found["fine scan angles"] = [_ANGLE] if _ANGLE in there else []
    return {what: names for what, names in found.items() if names}


def _holds(number: int, what: str) -> bool:
    kinds = {"times": _TIMES, "colours": _COLOURS, "near infrared": _NIR}
    return number in kinds[what] if what in kinds else number >= 6


def fits(datasets: Sequence[Dataset], params: LasWriteParams) -> LasWriteParams:
    """Settle version, point format and decimals by the content.

    Raises
    ------
    ParamError
        If what was said cannot hold the content, with what would be lost.
    """
    clouds = of_kind(datasets, PointSet)
    if not clouds:
        return params
    points = clouds[0]
    content = _content(points)
    able = [k for k in _ABLE if all(_holds(k, what) for what in content)]
    number = params.point_format
    if number is not None:
        if number not in _ABLE:
            raise ParamError(
                "point_format",
                f"{number} is for waveforms, which are not kept; {', '.join(map(str, _ABLE))} can be written",
            )
        lost = [what for what in content if not _holds(number, what)]
        if lost:
            raise ParamError(
                "point_format",
                f"{number} would lose {' and '.join(lost)}; {_either(able)} {'hold' if len(able) > 1 else 'holds'} them",
            )
    version = params.version
    if version is Version.OLD:
        old = [k for k in able if k < 6]
        if number is not None and number >= 6:
            raise ParamError("version", f"1.2 has no point format {number}; leave version out, or write 1.4")
        if not old:
            lost = [what for what in content if not any(_holds(k, what) for k in range(4))]
            raise ParamError("version", f"1.2 would lose {' and '.join(lost)}; 1.4 holds them")
        able = old
        if not _by_keys(points.frame):
            raise ParamError(
                "version",
                f"1.2 tells units and systems by codes, and {points.frame.describe()} has none; 1.4 tells any",
            )
    if number is None:
        needs_text = version is Version.NEW or not _by_keys(points.frame)
        newer = [k for k in able if k >= 6]
        number = min(newer if needs_text and newer else able)
    if version is None:
        version = Version.NEW if number >= 6 or not _by_keys(points.frame) else Version.OLD
    decimals = _decimals(points, _plan_of(points)) if params.decimals is None else params.decimals
    _check_range(points, _plan_of(points), decimals)
    return dataclasses.replace(params, version=version, point_format=number, decimals=decimals)


def _either(numbers: list[int]) -> str:
    return " or ".join(map(str, numbers))


# Steps that whole numbers of 32 bits can count; and decimals where coordinates have no end of them: a millimetre at least.
_STEPS = 2.0**32 - 4
_MOST = 9
_ENDLESS = {False: (6, 3), True: (9, 7)}


def _plan_of(points: PointSet) -> slice:
    """Return which axes count in one step: all three, but heights in their own where plan is in degrees."""
    return slice(0, 2) if points.frame.horizontal is Unit.DEGREE else slice(0, 3)


def _steps(points: PointSet, decimals: int) -> Floats:
    """Return the step of each axis.

    Raises
    ------
    DataError
        If heights beside degrees lie too far apart for any.
    """
    heights = decimals if _plan_of(points).stop == 3 else min(_decimals(points, slice(2, 3)), decimals)
    return np.array([10.0**-decimals, 10.0**-decimals, 10.0**-heights])


def _decimals(points: PointSet, axes: slice) -> int:
    """Return how many decimals keep every coordinate of some axes as it came.

    Raises
    ------
    DataError
        If there are none that do, with the point that lies farthest from the others.
    """
    low, high = np.full(3, np.inf), np.full(3, -np.inf)
    for piece in pieces(points.xyz):
        low, high = np.fmin(low, np.fmin.reduce(piece)), np.fmax(high, np.fmax.reduce(piece))
    widest = float((high - low)[axes].max())
    needed = next((k for k in range(_MOST + 1) if _whole(points.xyz[:, axes], k)), None)
    most, least = _ENDLESS[axes.stop == 2]
    able = [k for k in (max(needed, 3), needed) if widest * 10.0**k < _STEPS] if needed is not None else []
    # Finer than a micrometre is what was worked out, not what was measured: it has as good as no end.
    if not able and (needed is None or needed > most):
        needed = least
        able = [k for k in range(most, least - 1, -1) if widest * 10.0**k < _STEPS]
    if not able:
        raise DataError(
            f"{_too_wide(points, axes, least if needed is None else needed)}; leave it out, or say decimals= to have all coordinates rounded"
        )
    return able[0]


def _whole(xyz: Floats, decimals: int) -> bool:
    """Say whether coordinates have no more decimals; what is left is the rounding of the numbers themselves."""
    step = 10.0**decimals

    def near(values: Floats) -> bool:
        scaled = values * step
        slack = np.minimum(np.maximum(1e-9 * step, 4.0 * np.spacing(np.abs(values)) * step), 0.05)
        # Places without a height are left out later.
        return bool(((np.abs(scaled - np.rint(scaled)) <= slack) | np.isnan(scaled)).all())

    return near(xyz[:1000]) and all(near(xyz[k : k + CHUNK]) for k in range(0, len(xyz), CHUNK))


def _too_wide(points: PointSet, axes: slice, decimals: int) -> str:
    """Say that points lie too far apart for steps of so many decimals, and which one lies farthest off."""
    away = np.abs(points.xyz - np.nanmedian(points.xyz, axis=0))[:, axes].max(axis=1)
    far = int(np.nanargmax(away))
    east, north, height = points.xyz[far].tolist()
    widest = _widest(points, axes)
    return (
        f"the points of {points.name} lie {widest:.10g} apart, which the format cannot count in steps of {10.0**-decimals:g}; "
        f"point {far + 1} (E {east:.10g}, N {north:.10g}, Z {height:.6g}) lies farthest from the others"
    )


def _widest(points: PointSet, axes: slice) -> float:
    extent = points.extent()
    pairs = [extent.east, extent.north, extent.elevation][axes]
    return max((pair[1] - pair[0] for pair in pairs if pair), default=0.0)


def _check_range(points: PointSet, axes: slice, decimals: int) -> None:
    if _widest(points, axes) * 10.0**decimals >= _STEPS:
        raise ParamError("decimals", f"{_too_wide(points, axes, decimals)}; ask for fewer decimals, or leave it out")


def _by_keys(frame: Frame) -> bool:
    """Say whether GeoTIFF keys can tell the frame: a system with a code of its own, or none; and units that have codes."""
    units = all(unit is None or unit in _UNIT_KEYS for unit in (frame.horizontal, frame.vertical))
    if frame.crs is None:
        return units
    code = epsg_code(frame.crs)
    import pyproj

    return units and code is not None and not pyproj.CRS.from_user_input(frame.crs).is_compound


# EPSG codes of units, as GeoTIFF keys name them.
_UNIT_KEYS = {Unit.METRE: 9001, Unit.FOOT: 9002, Unit.US_FOOT: 9003, Unit.DEGREE: 9102}


def _keys(frame: Frame) -> bytes:
    """Return a GeoTIFF key directory (OGC 19-008r4, 7.1) that tells a frame; empty where nothing is known."""
    degrees = frame.horizontal is Unit.DEGREE
    keys: list[tuple[int, int]] = []
    if frame.crs or frame.horizontal:
        keys += [(1024, 2 if degrees else 1), (1025, 1)]
    code = epsg_code(frame.crs) if frame.crs else None
    if degrees:
        keys.append((2048, code or 32767))
    elif frame.crs or frame.horizontal:
        keys.append((3072, code or 32767))
        if frame.horizontal:
            keys.append((3076, _UNIT_KEYS[frame.horizontal]))
    if frame.vertical:
        keys.append((4099, _UNIT_KEYS[frame.vertical]))
    if not keys:
        return b""
    return struct.pack("<4H", 1, 1, 0, len(keys)) + b"".join(
        struct.pack("<4H", key, 0, 1, value) for key, value in keys
    )


def _records(frame: Frame, header: Any) -> None:
    """Put what tells the frame into a header: keys up to point format 5, text after (LAS 1.4, 2.4)."""
    import laspy

    if header.point_format.id < 6 and _by_keys(frame):
        keys = _keys(frame)
        if keys:
            header.vlrs.append(laspy.VLR("LASF_Projection", 34735, "GeoTIFF keys", keys))
        return
    text = _old_text(frame)
    if text:
        header.vlrs.append(laspy.VLR("LASF_Projection", 2112, "OGC WKT", text.encode() + b"\0"))
        header.global_encoding.wkt = True


def _old_text(frame: Frame) -> str:
    """Return the frame as WKT 1, which the standard asks for; newer where it cannot be said in that."""
    text = wkt_of(frame)
    if text is None:
        return ""
    import pyproj

    crs = pyproj.CRS.from_user_input(text)
    try:
        return str(crs.to_wkt("WKT1_GDAL"))
    except pyproj.exceptions.CRSError:
        return str(crs.to_wkt())


def renamed(names: Sequence[str], params: LasWriteParams) -> dict[str, str]:
    """Return what attributes are called in the file; empty where their meaning has another measure there."""
    other = _RANK if (params.point_format or 0) >= 6 else _ANGLE
    called = short_names(names, 32)
    own = set(_point_format(params).standard_dimension_names) | {STANDARD_TIME}
    for name in names:
        if name.lower() in own and name.lower() not in names:
            called[name] = name.lower()
    return {name: "" if name == other else called[name] for name in names}


def _point_format(params: LasWriteParams) -> Any:
    import laspy

    return laspy.PointFormat(params.point_format or 0)


def write(datasets: Sequence[Dataset], path: Path, params: LasWriteParams, progress: Progress) -> None:
    """Write every point with every attribute that is a number.

    Raises
    ------
    DataError
        If an attribute has values that its field of the format cannot hold.
    """
    import laspy

    points = narrowed(datasets[0], PointSet)
    if params.point_format is None or params.decimals is None:
        params = fits(datasets, params)
    header = file_header(points, params)
    columns = content_of(points, header)
    with (
        library_faults(path, "writing the cloud"),
        path.open("wb") as file,
        laspy.LasWriter(file, header, do_compress=path.suffix.lower() == ".laz", closefd=False) as writer,
    ):
        total = len(points.xyz)
        for start in range(0, total, CHUNK):
            stop = min(start + CHUNK, total)
            writer.write_points(record_of(points, slice(start, stop), header, columns))
            progress.report(stop / total, f"writing {path.name}")


def file_header(points: PointSet, params: LasWriteParams) -> Any:
    """Return the header of a file for points, with settled options: steps, origin, system, and fields beyond the format's."""
    import laspy

    assert params.version is not None
    assert params.decimals is not None
    header = laspy.LasHeader(version=params.version.value, point_format=params.point_format)
    header.generating_software = f"Vast Grid {__version__}"
    header.scales = _steps(points, params.decimals)
    extent = points.extent()
    pairs = (extent.east, extent.north, extent.elevation)
    # Whole numbers count on both sides of the offset, where one side is not enough.
    wide = any(
        pair and (pair[1] - pair[0]) >= (2.0**31 - 2) * step for pair, step in zip(pairs, header.scales, strict=True)
    )
    header.offsets = np.array(
        [np.floor((pair[0] + pair[1]) / 2.0 if wide else pair[0]) if pair else 0.0 for pair in pairs]
    )
    if STANDARD_TIME in points.attributes and TIME not in points.attributes:
        header.global_encoding.gps_time_type = laspy.header.GpsTimeType.STANDARD
    _records(points.frame, header)
    members = set(header.point_format.dimension_names)
    for name, values in content_of(points, header).items():
        if name not in members:
            header.add_extra_dim(laspy.ExtraBytesParams(name=name, type=_extra_type(values)))
    return header


def content_of(points: PointSet, header: Any) -> dict[str, NDArray[Any]]:
    """Return what of points goes into a file, by the names of its fields."""
    members = set(header.point_format.standard_dimension_names)
    columns = {name: values for name, values in points.attributes.items() if values.dtype.kind in "iufb"}
    called = _extra_names([name for name in columns if _field(name, members, columns) not in members])
    return {called.get(name, _field(name, members, columns)): values for name, values in columns.items()}


def record_of(points: PointSet, which: slice | NDArray[np.int64], header: Any, columns: dict[str, NDArray[Any]]) -> Any:
    """Return some points as the library's record.

    Raises
    ------
    DataError
        If an attribute has values that its field of the format cannot hold.
    """
    import laspy

    xyz = points.xyz[which]
    record = laspy.ScaleAwarePointRecord.zeros(len(xyz), header=header)
    whole = np.rint((xyz - header.offsets) / header.scales)
    for k, axis in enumerate("XYZ"):
        record[axis] = whole[:, k].astype(np.int32)
    for name, values in columns.items():
        record[name] = _held(name, np.asarray(values[which]), record[name], header)
    return record


def _extra_names(names: Sequence[str]) -> dict[str, str]:
    """Return what extra attributes are called: at most 32 bytes each (LAS 1.4, table 24), all different."""
    return short_names(names, 32)


def _field(name: str, own: set[str], among: Collection[str] = ()) -> str:
    """Return the format's field for an attribute: scan angles have another one from point format 6 on, times share one."""
    if name == STANDARD_TIME and TIME not in among:
        return TIME
    if name not in own and name.lower() in own and name.lower() not in among:
        return name.lower()
    if name == _RANK and name not in own and _ANGLE in own:
        return _ANGLE
    return name


def _extra_type(values: NDArray[Any]) -> str:
    kind = "u1" if values.dtype.kind == "b" else values.dtype.str[1:]
    if values.dtype.kind == "f" and values.dtype.itemsize == 2:
        kind = "f4"
    return f"{values.shape[1]}{kind}" if values.ndim == 2 else kind


def _held(name: str, values: NDArray[Any], field: Any, header: Any) -> NDArray[Any]:
    """Return values as the format's field holds them.

    Raises
    ------
    DataError
        If one does not fit: it would come out as another number.
    """
    if name == _ANGLE and values.dtype.itemsize == 1:
        return np.rint(values / _RANK_STEP).astype(np.int16)
    if values.dtype.kind == "b":
        return values.astype(np.uint8)
    bits = header.point_format.dimension_by_name(name).num_bits
    kind = np.asarray(field).dtype
    if kind.kind in "iu" and name not in header.point_format.extra_dimension_names:
        if values.dtype.kind == "f" and (values != np.rint(values)).any():
            raise DataError(f"{name} of LAS is a whole number, and there are others among the points'")
        signed = kind.kind == "i"
        low, high = (-(2 ** (bits - 1)), 2 ** (bits - 1) - 1) if signed else (0, 2**bits - 1)
        if len(values) and (values.min() < low or values.max() > high):
            raise DataError(
                f"{name} of LAS holds {low} to {high}, and the points' go from {values.min():g} to {values.max():g}; "
                "scale the attribute, or call it otherwise to keep it as an extra one"
            )
    return values
