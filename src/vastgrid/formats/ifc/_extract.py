"""Taking faces out of an IFC model; runs in a process of its own, since a damaged file can crash the library.

Each line on standard input asks for one file and is answered by one line; after a while without one it ends.
"""

from __future__ import annotations

import json
import re
import select
import sys
from collections import Counter
from pathlib import Path
from typing import Any

import numpy as np

from vastgrid.base.findings import Finding, note
from vastgrid.base.words import place_words
from vastgrid.data.dataset import Floats
from vastgrid.terrain.tin.assemble import fans

IDLE = 20.0
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
    conversion = conversions[0]
    east, north = float(conversion.XAxisAbscissa or 1.0), float(conversion.XAxisOrdinate or 0.0)
    length = float(np.hypot(east, north)) or 1.0
    cos, sin, size = east / length, north / length, float(conversion.Scale or 1.0)
    unit = _map_unit(conversion)
    # Scale leads from the project's unit to the map's; coordinates are metres here already.
    factor = size * unit / scale
    origin = np.array([conversion.Eastings, conversion.Northings, conversion.OrthogonalHeight], float) * unit

    def placed(xyz: Floats) -> Floats:
        turned = np.column_stack((cos * xyz[:, 0] - sin * xyz[:, 1], sin * xyz[:, 0] + cos * xyz[:, 1], xyz[:, 2]))
        return turned * (factor if conversion.Scale else 1.0) + origin

    findings.append(
        note("placed-on-map", f"Placed on the map at {place_words(origin[0], origin[1])}, as the model says.")
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


def extract(path: Path, target: Path) -> None:
    """Write the faces of a model's sites and geographic elements, in metres, to an .npz file with what was noticed."""
    import ifcopenshell
    import ifcopenshell.util.placement
    import ifcopenshell.util.unit

    findings: list[Finding] = []
    model: Any = ifcopenshell.open(str(path))
    scale = float(ifcopenshell.util.unit.calculate_unit_scale(model))
    place = _map(model, scale, findings)
    arrays: dict[str, Any] = {}
    names: list[str] = []
    left: Counter[str] = Counter()
    for kind in _GROUND:
        for thing in _of(model, kind):
            matrix = np.eye(4)
            if thing.ObjectPlacement is not None:
                matrix = np.asarray(ifcopenshell.util.placement.get_local_placement(thing.ObjectPlacement), float)
            for points, triangles in _faces(thing, left):
                xyz = (points @ matrix[:3, :3].T + matrix[:3, 3]) * scale
                arrays[f"v{len(names)}"], arrays[f"t{len(names)}"] = place(xyz), triangles
                names.append(str(thing.Name or kind.removeprefix("Ifc")))
    codes = [re.search(r"EPSG[:\s]*(\d+)", str(own.Name or ""), re.IGNORECASE) for own in _of(model, "IfcProjectedCRS")]
    about = {
        "names": names,
        "left": dict(left),
        "epsg": next((code[1] for code in codes if code), ""),
        "findings": [finding.to_json() for finding in findings],
    }
    np.savez(target, about=np.array(json.dumps(about)), **arrays)


def validate(path: Path) -> str:
    """Return what the library's validation says against a model, a line each, at most ten."""
    import ifcopenshell
    import ifcopenshell.validate

    log = ifcopenshell.validate.json_logger()
    ifcopenshell.validate.validate(ifcopenshell.open(str(path)), log)
    told = [" ".join(str(each.get("message", each)).split())[:200] for each in log.statements]
    return "\n".join(told[:10])


def main() -> None:
    """Answer requests until there are no more."""
    while select.select([sys.stdin], [], [], IDLE)[0]:
        line = sys.stdin.readline()
        if not line:
            return
        path, target = json.loads(line)
        try:
            if target:
                extract(Path(path), Path(target))
            answer = {"error": "" if target else validate(Path(path))}
        except BaseException as error:  # noqa: BLE001 - whatever the library raises is the answer
            answer = {"error": " ".join(str(error).split())[:200] or type(error).__name__}
        sys.stdout.write(json.dumps(answer) + "\n")
        sys.stdout.flush()


if __name__ == "__main__":
    main()
