"""A lattice of points over an area, with elevations from a surface or from a service."""

from __future__ import annotations

import dataclasses
import math
from collections.abc import Sequence
from dataclasses import dataclass
from enum import Enum
from typing import Annotated

import numpy as np

from vastgrid.base.errors import CallError, DataError, ParamError
from vastgrid.base.findings import Finding, count
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Length, Quantity, Unit, factor
from vastgrid.base.words import spaced
from vastgrid.data.dataset import Dataset, Floats
from vastgrid.data.frame import is_geographic
from vastgrid.data.grid import Grid
from vastgrid.data.linework import Contours, Linework
from vastgrid.data.places import WHERE, Area
from vastgrid.data.pointset import PointSet
from vastgrid.data.tin import Tin
from vastgrid.declarations.conversion import Conversion, Input, Output, Result
from vastgrid.kernels.triangles.topology import inside_polygon
from vastgrid.measures.heights import heights
from vastgrid.params.declare import Param
from vastgrid.services.elevation import elevations
from vastgrid.terrain.place.reproject import WGS84, passage

MOST = 5_000_000


class Elevations(Enum):
    """Where elevations come from."""

    SURFACE = "surface"
    SERVICE = "service"
    SIMULATED = "simulated"


@dataclass(frozen=True)
class LatticeParams:
    """Which points, and whose elevations."""

    spacing: Annotated[
        Length | None,
        Param("Spacing", "Distance of neighbouring points.", Quantity.XY_LENGTH, above=0, absent="automatic"),
    ] = None
    degrees: Annotated[
        float | None,
        Param(
            "Spacing in degrees", "Spacing in degrees of longitude and latitude instead.", above=0, absent="not used"
        ),
    ] = None
    area: Annotated[Area | None, WHERE] = None
    elevations: Annotated[
        Elevations,
        Param(
            "Elevations from",
            "surface: the dataset itself; service: an elevation service on this machine, by its address; simulated: "
            "invented heights, to try what a service gives.",
            said=(
                ("surface", "the surface"),
                ("service", "the service"),
                ("simulated", "a simulated service (invented heights)"),
            ),
        ),
    ] = Elevations.SURFACE
    service: Annotated[
        str,
        Param("Service", "Its address on this machine, such as http://127.0.0.1:8700.", absent="none"),
    ] = ""


def _ring(source: Dataset, params: LatticeParams) -> Floats:
    if params.area is not None:
        return params.area.in_frame(source.frame).ring()
    extent = source.extent()
    if not extent.east or not extent.north:
        raise DataError(f"{source.name} is empty, so there is no area")
    (west, east), (south, north) = extent.east, extent.north
    return np.array([(west, south), (east, south), (east, north), (west, north), (west, south)])


def settle(inputs: Sequence[Dataset], params: LatticeParams) -> LatticeParams:
    """Give an open spacing about ten thousand points."""
    if params.spacing is not None or params.degrees is not None:
        return params
    ring = _ring(inputs[0], params)
    width, height = np.ptp(ring, axis=0).tolist()
    size = math.sqrt(max(width * height, 1e-18) / 10_000)
    size = float(f"{size:.1g}")
    if is_geographic(inputs[0].frame):
        return dataclasses.replace(params, degrees=size)
    return dataclasses.replace(params, spacing=Length(size, inputs[0].frame.horizontal))


def run(inputs: Sequence[Dataset], params: LatticeParams, progress: Progress) -> Result:
    """Lay the lattice; see `CONVERSION`.

    Raises
    ------
    CallError
        If a spacing does not fit the data's units, or the CRS that a service needs is unknown.
    DataError
        If no point gets an elevation, or the service fails.
    """
    source = inputs[0]
    frame = source.frame
    places = _places(source, params)
    findings: list[Finding] = []
    simulated = params.elevations is Elevations.SIMULATED
    if params.elevations is not Elevations.SERVICE and params.service.strip():
        raise ParamError("service", "its address belongs to elevations=service; leave one of them out")
    if params.elevations is Elevations.SERVICE and not params.service.strip():
        raise ParamError(
            "service",
            "say the address of the elevation service (service=http://127.0.0.1:PORT), or elevations=simulated for "
            "invented heights",
        )
    if params.elevations is not Elevations.SURFACE:
        progress.report(0.05, "asking for elevations")
        degrees = places if is_geographic(frame) else _to_degrees(source, places)
        z = elevations(degrees, "" if simulated else params.service, progress.part(0.05, 1.0))
        if frame.vertical is not None and frame.vertical is not Unit.METRE:
            z = z * factor(Unit.METRE, frame.vertical)
        frame = frame.filled(None, Unit.METRE)
    elif isinstance(source, Tin | Grid):
        z = heights(source, places)
    else:
        raise CallError(f"{source.name} ({source.title}) is not a surface; elevations=service asks a service instead")
    known = np.isfinite(z)
    if not known.any():
        raise DataError("no point of the lattice got an elevation")
    if not known.all():
        gone = int((~known).sum())
        findings.append(Finding("no-height", f"{count(gone, 'point')} of {spaced(len(z))} got no elevation; left out."))
    progress.report(1.0)
    xyz = np.column_stack((places, z))[known]
    if not simulated:
        return Result(PointSet(name="Lattice", frame=frame, xyz=xyz), tuple(findings))
    text = "The heights are simulated: nobody measured them. Each point says so in its code."
    findings.append(Finding("simulated", text))
    codes = {"code": np.full(len(xyz), b"simulated")}
    return Result(PointSet(name="Simulated lattice", frame=frame, xyz=xyz, attributes=codes), tuple(findings))


def _places(source: Dataset, params: LatticeParams) -> Floats:
    ring = _ring(source, params)
    geographic = is_geographic(source.frame)
    if params.degrees is not None and not geographic:
        return _degree_lattice(source, ring, params.degrees)
    if params.degrees is not None:
        size = params.degrees
    elif geographic:
        raise CallError(f"{source.name} is in degrees: give the spacing in degrees, or reproject it first")
    else:
        assert params.spacing is not None
        size = params.spacing.in_unit(source.frame.horizontal, "spacing")
    return _inside(_lattice(ring, size), ring)


def _lattice(ring: Floats, size: float) -> Floats:
    (west, south), (east, north) = ring.min(axis=0).tolist(), ring.max(axis=0).tolist()
    # On whole multiples of the spacing, so that neighbouring areas fit.
    x = np.arange(math.ceil(west / size - 1e-9), math.floor(east / size + 1e-9) + 1) * size
    y = np.arange(math.ceil(south / size - 1e-9), math.floor(north / size + 1e-9) + 1) * size
    if len(x) * len(y) > MOST:
        raise CallError(f"a spacing of {size:g} gives {len(x) * len(y):,} points; at most {MOST:,} are laid")
    return np.column_stack([part.ravel() for part in np.meshgrid(x, y)])


def _inside(places: Floats, ring: Floats) -> Floats:
    # A point on the rim belongs to the area.
    middle = (ring.min(axis=0) + ring.max(axis=0)) / 2.0
    grown = middle + (ring - middle) * (1.0 + 1e-9)
    keep = inside_polygon(np.ascontiguousarray(places[:, 0]), np.ascontiguousarray(places[:, 1]), grown)
    if not keep.any():
        raise DataError("the area is smaller than the spacing: no point of the lattice lies in it")
    return np.asarray(places[keep])


def _to_degrees(source: Dataset, places: Floats) -> Floats:
    try:
        way = passage(source.frame, WGS84)
    except CallError as error:
        raise CallError(f"a service is asked by longitude and latitude: {error}") from error
    return np.column_stack(way.plan.transform(places[:, 0], places[:, 1]))


def _degree_lattice(source: Dataset, ring: Floats, size: float) -> Floats:
    """A lattice in degrees over an area on a grid, brought back onto the grid."""
    way = passage(source.frame, WGS84)
    rim = np.column_stack(way.plan.transform(ring[:, 0], ring[:, 1]))
    degrees = _lattice(rim, size)
    back = way.plan.transform(degrees[:, 0], degrees[:, 1], direction="INVERSE")
    return _inside(np.column_stack(back), ring)


_TAKES: tuple[type[Dataset], ...] = (Tin, Grid, PointSet, Linework, Contours)
CONVERSION = Conversion(
    id="lattice",
    version=1,
    title="Points on a lattice",
    also=("spot heights", "sample elevations", "grid of points"),
    help="Points at an even spacing over an area, with elevations from a surface or from an elevation service.",
    inputs=(Input("ground", _TAKES),),
    outputs=(Output("points", PointSet),),
    params=LatticeParams,
    template="Points[ every {spacing}| at {spacing=automatic spacing}] over[ {area} of| {area=the whole} of] {inputs}, elevations from {elevations}.",
    run=run,
    settle=settle,
    name=lambda inputs, params: "Simulated lattice" if params.elevations is Elevations.SIMULATED else "Lattice",
    kinds_as=lambda params: (Tin, Grid) if params.elevations is Elevations.SURFACE else _TAKES,
    ask=True,
)
