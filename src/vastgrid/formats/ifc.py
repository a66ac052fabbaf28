"""IFC: the terrain of a building model, with its georeference."""

from __future__ import annotations

import re
from collections import Counter
from pathlib import Path
from typing import Any

import numpy as np

from vastgrid.base.errors import FormatError, library_faults
from vastgrid.base.findings import Finding, note
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Unit
from vastgrid.terrain.assemble import fans
from vastgrid.terrain.dataset import Floats
from vastgrid.terrain.fileformat import Carries, Format, NoParams, ReadResult
from vastgrid.terrain.frame import Frame, frame_of_crs
from vastgrid.terrain.mesh import Mesh
from vastgrid.terrain.meshfile import Part, Up, surfaces

_GROUND = (
    "IfcSite",
    "IfcGeographicElement",
    "IfcCivilElement",
    "IfcEarthworksElement",
    "IfcGeoslice",
    "IfcGeotechnicalStratum",
    "IfcBuildingElementProxy",
    "IfcCourse",
    "IfcPavement",
)


def read(path: Path, params: NoParams, progress: Progress) -> ReadResult:
    """Read triangulated faces of sites and geographic elements; in metres, on the map where a conversion is given.

    Raises
    ------
    FormatError
        If it is not a whole IFC file, or has no such faces.
    """
    _check_whole(path)
    findings: list[Finding] = []
    with library_faults(path, "reading the building model"):
        import ifcopenshell
        import ifcopenshell.util.placement
        import ifcopenshell.util.unit

        model: Any = ifcopenshell.open(str(path))
        progress.report(0.4, f"reading {path.name}")
        scale = float(ifcopenshell.util.unit.calculate_unit_scale(model))
        place = _map(model, scale, findings)
        parts: list[Part] = []
        left: Counter[str] = Counter()
        for kind in _GROUND:
            for thing in _of(model, kind):
                matrix = np.eye(4)
                if thing.ObjectPlacement is not None:
                    matrix = np.asarray(ifcopenshell.util.placement.get_local_placement(thing.ObjectPlacement), float)
                name = thing.Name or kind.removeprefix("Ifc")
                for faces in _faces(thing, left):
                    xyz = (faces[0] @ matrix[:3, :3].T + matrix[:3, 3]) * scale
                    parts.append((str(name), place(xyz), faces[1]))
        frame = _frame(model, findings)
    progress.report(0.7, f"reading {path.name}")
    if left:
        kinds = ", ".join(f"{number} {kind}" for kind, number in left.items())
        findings.append(Finding("geometry-left-out", f"Geometry that is not made of faces was left out: {kinds}."))
    if not parts:
        more = f" ({findings[-1].text})" if left else ""
        raise FormatError(path, f"there is no site or geographic element with faces in the model{more}")
    result = surfaces(path, parts, Up.Z, frame)
    return ReadResult(result.datasets, (*result.findings, *findings))


def _check_whole(path: Path) -> None:
    """A STEP file (ISO 10303-21) ends with its end mark; the library would wait for more."""
    with path.open("rb") as file:
        head = file.read(4096)
        file.seek(max(path.stat().st_size - 4096, 0))
        tail = file.read()
    if b"ISO-10303-21" not in head:
        raise FormatError(path, "it does not begin like an IFC file (ISO-10303-21)")
    if b"END-ISO-10303-21" not in tail:
        raise FormatError(path, "the file is cut off: its end mark is missing")


def _of(model: Any, kind: str) -> list[Any]:
    try:
        return list(model.by_type(kind, include_subtypes=False))
    except RuntimeError:
        return []  # this version of the schema does not know the class


def _faces(thing: Any, left: Counter[str]) -> list[tuple[Floats, np.ndarray]]:
    found = []
    representation = thing.Representation
    waiting = [item for shape in (representation.Representations if representation else ()) for item in shape.Items]
    seen = 0
    while waiting:
        item = waiting.pop()
        seen += 1
        if seen > 100_000:
            raise ValueError("representations lead in a circle")
        if item.is_a("IfcTriangulatedFaceSet"):
            points = np.array(item.Coordinates.CoordList, np.float64).reshape(-1, 3)
            found.append((points, np.array(item.CoordIndex, np.int32).reshape(-1, 3) - 1))
        elif item.is_a("IfcPolygonalFaceSet"):
            points = np.array(item.Coordinates.CoordList, np.float64).reshape(-1, 3)
            rings = [face.CoordIndex for face in item.Faces]
            flat = np.array([corner for ring in rings for corner in ring], np.int64) - 1
            found.append((points, fans(flat, np.array([len(ring) for ring in rings], np.int64))))
        elif item.is_a("IfcMappedItem"):
            waiting += list(item.MappingSource.MappedRepresentation.Items)
        elif item.is_a("IfcShellBasedSurfaceModel"):
            found.append(_loops([face for shell in item.SbsmBoundary for face in shell.CfsFaces]))
        elif item.is_a("IfcFaceBasedSurfaceModel"):
            found.append(_loops([face for part in item.FbsmFaces for face in part.CfsFaces]))
        elif item.is_a("IfcFacetedBrep"):
            found.append(_loops(list(item.Outer.CfsFaces)))
        else:
            left[item.is_a()] += 1
    return found


def _loops(faces: list[Any]) -> tuple[Floats, np.ndarray]:
    rings = [face.Bounds[0].Bound.Polygon for face in faces if face.Bounds[0].Bound.is_a("IfcPolyLoop")]
    points = np.array([point.Coordinates for ring in rings for point in ring], np.float64).reshape(-1, 3)
    return points, fans(np.arange(len(points)), np.array([len(ring) for ring in rings], np.int64))


def _map(model: Any, scale: float, findings: list[Finding]) -> Any:
    """Return what brings local metres onto the map: turned, scaled and moved as IfcMapConversion says."""
    conversions = _of(model, "IfcMapConversion")
    if not conversions:
        findings.append(Finding("no-place", "The model has no map conversion: its coordinates are local to it."))
        return lambda xyz: xyz
    own = conversions[0]
    east, north = float(own.XAxisAbscissa or 1.0), float(own.XAxisOrdinate or 0.0)
    length = float(np.hypot(east, north)) or 1.0
    cos, sin, size = east / length, north / length, float(own.Scale or 1.0)
    unit = _map_unit(own)
    # Scale leads from the project's unit to the map's; coordinates are metres here already.
    factor = size * unit / scale
    origin = np.array([own.Eastings, own.Northings, own.OrthogonalHeight], float) * unit

    def placed(xyz: Floats) -> Floats:
        turned = np.column_stack((cos * xyz[:, 0] - sin * xyz[:, 1], sin * xyz[:, 0] + cos * xyz[:, 1], xyz[:, 2]))
        return turned * (factor if own.Scale else 1.0) + origin

    findings.append(
        note("placed-on-map", f"Placed on the map at E {origin[0]:.3f}, N {origin[1]:.3f}, as the model says.")
    )
    return placed


def _map_unit(conversion: Any) -> float:
    import ifcopenshell.util.unit

    unit = getattr(conversion.TargetCRS, "MapUnit", None)
    if unit is None:
        return float(ifcopenshell.util.unit.calculate_unit_scale(conversion.file))
    if unit.is_a("IfcConversionBasedUnit"):
        return float(unit.ConversionFactor.ValueComponent.wrappedValue)
    return float(ifcopenshell.util.unit.get_prefix_multiplier(unit.Prefix)) if unit.Prefix else 1.0


def _frame(model: Any, findings: list[Finding]) -> Frame:
    metres = Frame(None, Unit.METRE, Unit.METRE)
    for own in _of(model, "IfcProjectedCRS"):
        code = re.search(r"EPSG[:\s]*(\d+)", str(own.Name or ""), re.IGNORECASE)
        if not code:
            continue
        try:
            frame = frame_of_crs(f"EPSG:{code[1]}")
        except ValueError as error:
            findings.append(Finding("crs-unreadable", f"The model's CRS cannot be used: {error}."))
            continue
        if frame.horizontal is not Unit.METRE:
            findings.append(Finding("crs-not-metric", "The model's CRS is not in metres; coordinates here are."))
            return metres
        return Frame(frame.crs, Unit.METRE, Unit.METRE)
    return metres


def sniff(head: bytes, path: Path) -> int:  # noqa: D103
    if b"ISO-10303-21" not in head[:4096]:
        return 0
    return 100 if re.search(rb"FILE_SCHEMA\s*\(\s*\(\s*'IFC", head) else (70 if path.suffix.lower() == ".ifc" else 0)


FORMAT = Format(
    id="ifc",
    title="IFC model",
    suffixes=(".ifc",),
    sniff=sniff,
    carries=Carries(kinds=(Mesh,), several=True, units="both", crs=True),
    read=read,
)
