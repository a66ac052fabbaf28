"""Cases of reference systems, heights, units and control points."""

from __future__ import annotations

import math
import struct
import tempfile
from pathlib import Path
from typing import Any

import numpy as np

from vastgrid.library.calls import function
from vastgrid.library.files import read
from vastgrid.library.values import Length
from vastgrid.library.vectors import PointSet
from vastgrid.verification.cases import Figures, case
from vastgrid.verification.shapes import CLOSED, plane, plane_points

Pair = tuple[Figures, Figures]
_GN = "IOGP Guidance Note 7-2, worked example of {} (from memory)"


def _projected(base: str, target: str, latitude: float, longitude: float) -> list[float]:
    points = PointSet.from_arrays([[longitude, latitude, 0.0]], unit="deg", crs=base)
    return points.reproject(crs=target).xyz[0, :2].tolist()  # type: ignore[no-any-return]


def _dms(degrees: float, minutes: float, seconds: float) -> float:
    return degrees + minutes / 60.0 + seconds / 3600.0


@case(
    "reproject.transverse_mercator",
    "OSGB36 50°30′ N 0°30′ E on the British National Grid.",
    _GN.format("Transverse Mercator"),
    0.01,
    "m",
)
def _() -> Pair:
    return [577_274.99, 69_740.50], _projected("EPSG:4277", "EPSG:27700", 50.5, 0.5)


@case(
    "reproject.lambert_conic",
    "NAD27 28°30′ N 96° W on Texas South Central, in US survey feet.",
    _GN.format("Lambert Conic Conformal (2SP)"),
    0.05,
    "us-ft",
)
def _() -> Pair:
    return [2_963_503.91, 254_759.80], _projected("EPSG:4267", "EPSG:32040", 28.5, -96.0)


@case(
    "reproject.oblique_stereographic",
    "Amersfoort 53° N 6° E on RD New.",
    _GN.format("Oblique Stereographic"),
    0.01,
    "m",
)
def _() -> Pair:
    return [196_105.283, 557_057.739], _projected("EPSG:4289", "EPSG:28992", 53.0, 6.0)


@case("reproject.mercator", "Makassar 3° S 120° E on NEIEZ.", _GN.format("Mercator (variant A)"), 0.01, "m")
def _() -> Pair:
    return [5_009_726.58, 569_150.82], _projected("EPSG:4257", "EPSG:3002", -3.0, 120.0)


@case(
    "reproject.web_mercator",
    "WGS 84 24°22′54.433″ N 100°20′ W on Popular Visualisation Mercator.",
    _GN.format("Popular Visualisation Pseudo-Mercator"),
    0.01,
    "m",
)
def _() -> Pair:
    there = _projected("EPSG:4326", "EPSG:3857", _dms(24, 22, 54.433), -_dms(100, 20, 0.0))
    return [-11_169_055.58, 2_800_000.00], there


@case("system.declared", "Declaring a system moves nothing.", CLOSED, 0.0, "m")
def _() -> Pair:
    points = plane_points()
    return points.xyz.ravel(), points.system(crs="EPSG:32632").xyz.ravel()


@case(
    "units.international_foot",
    "An international foot is 0.3048 m.",
    "International yard and pound agreement, 1959",
    0.0,
    "m",
    covers="units",
)
def _() -> Pair:
    return 0.3048, plane(0.1, 0.0, 0.0).contours(interval=Length(1, "ft")).interval


@case("units.survey_foot", "A US survey foot is 1200/3937 m.", "Mendenhall Order, 1893", 1e-16, "m", covers="units")
def _() -> Pair:
    return 1200.0 / 3937.0, plane(0.1, 0.0, 0.0).contours(interval=Length(1, "us-ft")).interval


@case(
    "units.written",
    "One metre written in feet and read back in metres.",
    "International yard and pound agreement, 1959",
    1e-4,
    "m",
    covers="units",
)
def _() -> Pair:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "a.xml"
        plane().write(path, unit="ft", vertical_unit="ft")
        own = read(path)
    return [100.0, 35.0], [own.extent.east[1] * 0.3048, own.extent.elevation[1] * 0.3048]


@case(
    "units.inch_millimetre",
    "An inch is 25.4 mm.",
    "International yard and pound agreement, 1959",
    1e-15,
    "m",
    covers="units",
)
def _() -> Pair:
    own = plane(0.1, 0.0, 0.0)
    inch, mm = (own.contours(interval=Length(n, u), highest="0.5 m").interval for n, u in ((10, "in"), (254, "mm")))
    return [0.254, 0.254], [inch, mm]


@case("move.turned", "A quarter turn and a shift, in closed form.", CLOSED, 1e-12, "m")
def _() -> Pair:
    own = PointSet.from_arrays([[10.0, 0.0, 5.0]], unit="m", vertical_unit="m").move(turn=90, about="0,0", by=(1, 2, 3))
    return [1.0, 12.0, 8.0], own.xyz[0]


@case("heights.factor", "Feet of height to metres, and a shift.", CLOSED, 1e-12, "m")
def _() -> Pair:
    own = function("heights")(
        PointSet.from_arrays([[0.0, 0.0, 100.0]], unit="m", vertical_unit="m"), times=0.3048, add=1.5
    )
    return 100.0 * 0.3048 + 1.5, own.xyz[0, 2]


@case(
    "heights.geoid",
    "Ellipsoidal heights less a geoid that is a plane in latitude and longitude.",
    "Bilinear interpolation, exact on a plane; grid in the GTX format (NOAA, from memory)",
    1e-4,
    "m",
)
def _() -> Pair:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "plane.gtx"
        latitude, longitude = np.meshgrid(45.0 + np.arange(5.0), 7.0 + np.arange(6.0), indexing="ij")
        head = struct.pack(">ddddii", 45.0, 7.0, 1.0, 1.0, 5, 6)
        path.write_bytes(head + (40.0 + 0.5 * (latitude - 45) + 0.25 * (longitude - 7)).astype(">f4").tobytes())
        points = PointSet.from_arrays([[8.3, 46.7, 500.0], [10.9, 48.1, 300.0]], unit="deg", crs="EPSG:4326")
        own = function("heights")(points, geoid=str(path), to="orthometric")
    return [500 - (40 + 0.85 + 0.325), 300 - (40 + 1.55 + 0.975)], own.xyz[:, 2]


_BOOK = "Ghilani, Adjustment Computations, example 18.1 (from memory)"


def _fit() -> dict[str, Any]:
    local = np.array([(121.622, -128.066, 0), (141.228, 187.718, 0), (175.802, 135.728, 0)])
    known = np.array([(1049422.40, 51089.20, 0), (1049413.95, 49659.30, 0), (1049244.95, 49884.95, 0)])
    one, other = (PointSet.from_arrays(xyz, unit="m", vertical_unit="m") for xyz in (local, known))
    return dict(function("fit")(data=one, from_=one, to=other, heights="none").figures)


@case("fit.parameters", "Scale and rotation of a conformal transformation of three control points.", _BOOK, 2e-5)
def _() -> Pair:
    own = _fit()
    return [4.51962, _dms(183, 13, 5.0)], [own["scale"], own["rotation_degrees"] % 360.0]


@case("fit.shift", "Its translations.", _BOOK, 6e-4, "m")
def _() -> Pair:
    return [1_050_003.715, 50_542.131], _fit()["shift"][:2]


@case("fit.residuals", "Its residuals, to the millimetre.", _BOOK, 5e-4, "m")
def _() -> Pair:
    rows = _fit()["residuals"]
    return [0.004, -0.029, 0.101, -0.077, -0.105, 0.106], [row[axis] for row in rows for axis in ("east", "north")]


@case(
    "fit.standard_error",
    "Standard error of four observations above two.",
    "√(vᵀv / r), closed form from the book's residuals",
    1e-3,
    "m",
)
def _() -> Pair:
    book = np.array([0.004, -0.029, 0.101, -0.077, -0.105, 0.106])
    return math.sqrt(float(book @ book) / 2.0), _fit()["standard_error"]
