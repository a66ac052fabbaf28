"""CityJSON: TIN reliefs and other surfaces of a city model."""

from __future__ import annotations

import dataclasses
import json
import re
from collections.abc import Sequence
from dataclasses import dataclass
from enum import Enum
from pathlib import Path
from typing import Annotated, Any, BinaryIO

import numpy as np
from numpy.typing import NDArray

from vastgrid.base import late_shapely as shapely
from vastgrid.base.errors import FormatError
from vastgrid.base.findings import Finding, count, left_out
from vastgrid.base.progress import Progress
from vastgrid.data.areas import Areas
from vastgrid.data.dataset import Dataset, Floats
from vastgrid.data.frame import UNKNOWN, Frame, epsg_code, frame_of_crs
from vastgrid.data.mesh import Mesh
from vastgrid.data.tin import Tin
from vastgrid.declarations.conversion import listed
from vastgrid.declarations.fileformat import Carries, Format, ReadResult, rounding, weighing
from vastgrid.format_support.columns import text_column
from vastgrid.format_support.meshfile import Part, Up, faces_of, surfaces
from vastgrid.format_support.origin import NOWHERE, heard, told
from vastgrid.format_support.polygons import areas_of
from vastgrid.kernels.text.textrows import RowTemplate
from vastgrid.params.declare import Param
from vastgrid.terrain.tin.assemble import fans

# How deep the boundaries of each geometry type are nested above a surface's rings (CityJSON 2.0, 3).
_DEPTH = {"MultiSurface": 0, "CompositeSurface": 0, "Solid": 1, "MultiSolid": 2, "CompositeSolid": 2}


class Take(Enum):
    """What is taken of each object."""

    SURFACES = "surfaces"
    FOOTPRINTS = "footprints"


@dataclass(frozen=True)
class CityReadParams:
    """What is read."""

    take: Annotated[
        Take,
        Param(
            "Take",
            "surfaces: of every object at its highest level of detail; footprints: the ground surfaces of objects, or their outlines at level 0, as areas.",
        ),
    ] = Take.SURFACES


def read(path: Path, params: CityReadParams, progress: Progress) -> ReadResult:
    """Read the surfaces of every object at its highest level of detail, or their footprints; reliefs become TINs.

    Raises
    ------
    FormatError
        If it is not whole CityJSON, or holds no surface.
    """
    data = path.read_bytes()
    try:
        model = json.loads(data)
        if model.get("type") != "CityJSON":
            raise FormatError(path, f"its type is “{model.get('type')}”, not CityJSON")
        transform = model.get("transform") or {"scale": [1.0, 1.0, 1.0], "translate": [0.0, 0.0, 0.0]}
        raw = np.array(model["vertices"], np.float64).reshape(-1, 3)
        vertices = raw * np.array(transform["scale"], float) + np.array(transform["translate"], float)
        progress.report(0.4, f"reading {path.name}")
        findings: list[Finding] = []
        frame = _frame(model, findings)
        if params.take is Take.FOOTPRINTS:
            areas = _footprints(path, model["CityObjects"], vertices, frame, findings)
            return ReadResult((areas,), tuple(findings))
        parts, other = _parts(model["CityObjects"], vertices, findings)
    except (ValueError, TypeError, KeyError, AttributeError, IndexError, RecursionError) as error:
        raise FormatError(
            path, "this is not whole CityJSON: something that every model has is missing or of another kind"
        ) from error
    if other:
        kinds = ", ".join(f"{number} {kind}" for kind, number in other.items())
        findings.append(left_out("geometry-left-out", f"Geometries that are not surfaces were left out: {kinds}."))
    result = surfaces(path, parts, Up.Z, frame)
    return ReadResult(result.datasets, (*result.findings, *findings))


def _parts(objects: dict[str, Any], vertices: Any, findings: list[Finding]) -> tuple[list[Part], dict[str, int]]:
    parts: list[Part] = []
    other: dict[str, int] = {}
    holes = 0
    for own, thing in objects.items():
        geometries = thing.get("geometry") or []
        for geometry in geometries:
            if geometry["type"] not in _DEPTH:
                other[geometry["type"]] = other.get(geometry["type"], 0) + 1
        able = [g for g in geometries if g["type"] in _DEPTH]
        if not able:
            continue
        best = max(able, key=lambda g: str(g.get("lod", "0")))
        rings = best["boundaries"]
        for _ in range(_DEPTH[best["type"]]):
            rings = [inner for outer in rings for inner in outer]
        holes += sum(len(surface) > 1 for surface in rings)
        outer = [surface[0] for surface in rings if surface]
        flat = np.array([corner for ring in outer for corner in ring], np.int64)
        triangles = fans(flat, np.array([len(ring) for ring in outer], np.int64))
        name = str((thing.get("attributes") or {}).get("name") or own)
        parts.append(
            (name if thing.get("type") == "TINRelief" else f"{name} ({thing.get('type')})", vertices, triangles)
        )
    if holes:
        findings.append(Finding("holes-closed", f"{holes} surfaces have holes, which were closed."))
    return parts, other


def _footprints(path: Path, objects: dict[str, Any], vertices: Floats, frame: Frame, findings: list[Finding]) -> Areas:
    """Return the footprint of each object that has one, with its id, type and attributes."""
    shapes: list[Any] = []
    rows: list[dict[str, Any]] = []
    without = 0
    for own, thing in objects.items():
        rings = _ground_of(thing.get("geometry") or [])
        polygons = [shapely.Polygon(vertices[ring[0]], [vertices[hole] for hole in ring[1:]]) for ring in rings]
        polygons = [each for each in polygons if each.area > 0.0]
        if not polygons:
            without += bool(thing.get("geometry"))
            continue
        # The ground surfaces of one object are parts of one footprint, and lie beside each other.
        whole = shapely.union_all(np.array(polygons, object)) if len(polygons) > 1 else polygons[0]
        if whole.geom_type not in ("Polygon", "MultiPolygon"):
            whole = shapely.multipolygons(polygons)
        shapes.append(whole)
        simple = {k: v for k, v in (thing.get("attributes") or {}).items() if isinstance(v, str | int | float | bool)}
        rows.append({"id": own, "type": str(thing.get("type")), **simple})
    if without:
        text = f"{count(without, 'object')} without a ground surface, and without an outline at level 0: left out."
        findings.append(left_out("no-footprint", text))
    if not shapes:
        raise FormatError(path, "no object in it has a footprint: a ground surface, or an outline at level 0")
    names = list(dict.fromkeys(name for row in rows for name in row))
    columns = {name: _column([row.get(name) for row in rows]) for name in names}
    areas, _ = areas_of(
        path,
        np.array(shapes, object),
        lambda k: str(rows[k]["id"]),
        findings,
        name=path.stem,
        frame=frame,
        layer=np.zeros(len(shapes), np.int64),
        layers=("FOOTPRINT",),
        attributes=columns,
    )
    return areas


def _column(values: list[Any]) -> NDArray[Any]:
    if all(isinstance(value, int | float) and not isinstance(value, bool) for value in values):
        return np.array(values)
    if all(isinstance(value, int | float) or value is None for value in values):
        return np.array([np.nan if value is None else float(value) for value in values])
    return text_column(values)[0]


def _ground_of(geometries: list[Any]) -> list[list[list[int]]]:
    """Return the surfaces, each a list of rings, that are called ground (CityJSON 2.0, 3.3), or that are all of level 0."""
    able = sorted((g for g in geometries if g["type"] in _DEPTH), key=lambda g: str(g.get("lod", "0")), reverse=True)
    for geometry in able:
        kinds = [surface.get("type") for surface in (geometry.get("semantics") or {}).get("surfaces", [])]
        if "GroundSurface" not in kinds:
            continue
        surfaces, values = geometry["boundaries"], geometry["semantics"]["values"]
        for _ in range(_DEPTH[geometry["type"]]):
            values = [None] * len(surfaces) if values is None else values
            pairs = list(zip(surfaces, values, strict=True))
            values = [each for outer, own in pairs for each in (own if own is not None else [None] * len(outer))]
            surfaces = [inner for outer, _ in pairs for inner in outer]
        return [
            surface
            for surface, own in zip(surfaces, values, strict=True)
            if own is not None and kinds[own] == "GroundSurface"
        ]
    flat = [g for g in able if str(g.get("lod", "")).startswith("0") and _DEPTH[g["type"]] == 0]
    return list(flat[-1]["boundaries"]) if flat else []


def _frame(model: dict[str, Any], findings: list[Finding]) -> Frame:
    text = str((model.get("metadata") or {}).get("referenceSystem") or "")
    code = re.search(r"EPSG[/:]+(?:[\d.]+[/:]+)?(\d+)\s*$", text)
    if not code:
        return heard(json.dumps(model.get("metadata") or {}).encode())[1]
    try:
        frame = frame_of_crs(f"EPSG:{code[1]}")
        # A system in plan only: heights are in the unit that the model's own words tell, if they do.
        told = heard(json.dumps(model.get("metadata") or {}).encode())[1].vertical
        return frame if frame.vertical else dataclasses.replace(frame, vertical=told)
    except ValueError:
        findings.append(Finding("crs-unreadable", "The file's CRS cannot be used."))
        return UNKNOWN


@dataclass(frozen=True)
class CityWriteParams:
    """How the model is written."""

    decimals: Annotated[int, Param("Decimals", "Decimals of every coordinate.", least=0, most=9)] = 4


def write(datasets: Sequence[Dataset], path: Path, params: CityWriteParams, progress: Progress) -> None:
    """Write each surface as a TINRelief of composite surfaces (CityJSON 2.0, 2.3 and 3.2); the transform holds the origin."""
    parts = [(each, *faces_of(each)) for each in datasets]
    every = np.concatenate([vertices for _, vertices, _ in parts])
    place, step = np.floor(every.min(axis=0)), 10.0**-params.decimals
    low, high = every.min(axis=0), every.max(axis=0)
    frame = datasets[0].frame
    metadata: dict[str, Any] = {
        "title": f"{listed([each.name for each in datasets])}; {told(NOWHERE, frame.horizontal)}",
        "geographicalExtent": [*low.tolist(), *high.tolist()],
    }
    code = epsg_code(frame.crs) if frame.crs else None
    if code:
        metadata["referenceSystem"] = f"https://www.opengis.net/def/crs/EPSG/0/{code}"
    head = {
        "type": "CityJSON",
        "version": "2.0",
        "transform": {"scale": [step] * 3, "translate": place.tolist()},
        "metadata": metadata,
    }
    with path.open("wb") as file:
        file.write(json.dumps(head, ensure_ascii=False)[:-1].encode() + b',\n"CityObjects": {')
        first = 0
        for k, (each, vertices, triangles) in enumerate(parts):
            own = json.dumps(f"relief-{k + 1}")
            named = json.dumps({"name": each.name}, ensure_ascii=False)
            file.write(b"," * bool(k) + f'\n{own}: {{"type": "TINRelief", "attributes": {named}, '.encode())
            file.write(b'"geometry": [{"type": "CompositeSurface", "lod": "1", "boundaries": [\n')
            _joined(file, RowTemplate("[[{},{},{}]],\n", (0, 0, 0)), list((triangles.astype(np.int64) + first).T))
            file.write(b"]}]}")
            first += len(vertices)
            progress.report(0.5 * (k + 1) / len(parts), f"writing {path.name}")
        file.write(b'\n},\n"vertices": [\n')
        whole = np.rint((every - place) / step).astype(np.int64)
        _joined(file, RowTemplate("[{},{},{}],\n", (0, 0, 0)), list(whole.T))
        file.write(b"]}\n")
    progress.report(1.0, f"writing {path.name}")


def _joined(file: BinaryIO, template: RowTemplate, columns: list[Any]) -> None:
    """Write rows that end in a comma, the last without."""
    held = b""
    for block in template.blocks(columns):
        file.write(held)
        held = bytes(block)
    file.write(held[:-2] + b"\n")


def sniff(head: bytes, path: Path) -> int:
    """JSON that says its type early, or the suffix does."""
    if not head.lstrip(b"\xef\xbb\xbf \t\r\n").startswith(b"{"):
        return 0
    if re.search(rb'"type"\s*:\s*"CityJSON"', head):
        return 100
    return 60 if path.name.lower().endswith(".city.json") else 0


_CARRIES = Carries(kinds=(Tin, Mesh), several=True, units="one", crs="code", worded=True)
FORMAT = Format(
    id="cityjson",
    title="CityJSON",
    used_for="GIS",
    suffixes=(".city.json", ".cityjson"),
    sniff=sniff,
    carries=_CARRIES,
    carries_as=rounding(_CARRIES),
    read=read,
    read_params=CityReadParams,
    write=write,
    write_params=CityWriteParams,
    weigh=weighing(vertices=26, triangles=23),
)
