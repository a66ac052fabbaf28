"""Writing KML and KMZ."""

from __future__ import annotations

import zipfile
from collections.abc import Sequence
from pathlib import Path
from typing import IO, Any

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.progress import Progress
from vastgrid.base.words import plain
from vastgrid.base.xmltext import escape
from vastgrid.data.areas import Areas
from vastgrid.data.dataset import Dataset, Floats
from vastgrid.data.kinds import narrowed
from vastgrid.data.linework import Contours
from vastgrid.data.pointset import PointSet
from vastgrid.formats.kml._data import Fields


def write(datasets: Sequence[Dataset], path: Path, params: object, progress: Progress) -> None:
    """Write points, lines and areas as placemarks, in folders, with their attributes as extended data; they are in degrees, as the delivery has seen to.

    A name that ends in .kmz gets the packed form.
    """
    if path.suffix.lower() != ".kmz":
        with path.open("wb") as file:
            _write_document(file, datasets, path.name, progress)
        return
    with (
        zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive,
        archive.open("doc.kml", "w", force_zip64=True) as file,
    ):
        _write_document(file, datasets, path.name, progress)


def _write_document(file: IO[bytes], datasets: Sequence[Dataset], name: str, progress: Progress) -> None:
    file.write(b'<?xml version="1.0" encoding="UTF-8"?>\n<kml xmlns="http://www.opengis.net/kml/2.2"><Document>\n')
    if len(datasets) == 1:
        file.write(f"<name>{escape(datasets[0].name)}</name>\n".encode())
    fields = []
    for k, each in enumerate(datasets):
        # A placemark is called by one of them.
        called = "point" if each.kind == PointSet.kind else "name"
        fields.append(Fields(k + 1, getattr(each, "attributes", {}), (called,)))
        file.write(fields[k].schema())
    for k, each in enumerate(datasets):
        part = progress.part(k / len(datasets), (k + 1) / len(datasets))
        if each.kind == PointSet.kind:
            _write_points(file, narrowed(each, PointSet), fields[k], part)
        elif each.kind == Areas.kind:
            _write_areas(file, narrowed(each, Areas), fields[k], part)
        else:
            _write_lines(file, each, fields[k], part)
    file.write(b"</Document></kml>\n")
    progress.report(1.0, f"writing {name}")


def _write_points(file: IO[bytes], points: PointSet, fields: Fields, progress: Progress) -> None:
    names = points.attributes.get("point")
    known = names.tolist() if names is not None else [b""] * len(points.xyz)
    said = fields.each(np.arange(len(points.xyz)))
    for k, ((lon, lat, height), name, more) in enumerate(zip(points.xyz.tolist(), known, said, strict=True)):
        text = plain(name)
        own = f"<name>{escape(text)}</name>" if text else ""
        z, mode = (f",{height:.4f}", "absolute") if np.isfinite(height) else ("", "clampToGround")
        file.write(
            f"<Placemark>{own}{more}<Point><altitudeMode>{mode}</altitudeMode>"
            f"<coordinates>{lon:.9f},{lat:.9f}{z}</coordinates></Point></Placemark>\n".encode()
        )
        if k % 10_000 == 0:
            progress.report(k / len(points.xyz), f"writing {points.name}")


def _write_lines(file: IO[bytes], dataset: Dataset, fields: Fields, progress: Progress) -> None:
    """Write a folder for each layer; a contour is named after its level."""
    lines = dataset.as_lines()
    levels = narrowed(dataset, Contours).levels.tolist() if dataset.kind == Contours.kind else []
    called = lines.attributes.get("name")
    rows: list[bytes] = []
    for line in range(len(lines)):
        rows.append(_coordinates(lines.line(line)))
        if line % 2_000 == 0:
            progress.report(0.8 * line / len(lines), f"writing {dataset.name}")
    for k, layer in enumerate(lines.layers):
        own = np.flatnonzero(lines.layer == k)
        if len(own) == 0:
            continue
        file.write(f"<Folder><name>{escape(layer or dataset.name)}</name>\n".encode())
        for line, more in zip(own.tolist(), fields.each(own), strict=True):
            name = f"<name>{levels[line]:.10g}</name>" if levels else _name(called, line)
            mode = "absolute" if np.isfinite(lines.line(line)[:, 2]).any() else "clampToGround"
            file.write(f"<Placemark>{name}{more}<LineString><altitudeMode>{mode}</altitudeMode><coordinates>".encode())
            file.write(rows[line])
            file.write(b"</coordinates></LineString></Placemark>\n")
        file.write(b"</Folder>\n")


def _coordinates(xyz: Floats) -> bytes:
    # A place without a height lies on the ground, which the standard says by leaving the height out.
    return " ".join(f"{e:.9f},{n:.9f}" + (f",{z:.4f}" if z == z else "") for e, n, z in xyz.tolist()).encode()


def _name(called: NDArray[Any] | None, k: int) -> str:
    text = "" if called is None else plain(called[k])
    return f"<name>{escape(text)}</name>" if text else ""


def _write_areas(file: IO[bytes], areas: Areas, fields: Fields, progress: Progress) -> None:
    """Write a folder for each layer; of a polygon first its rim, then its holes (OGC KML 2.2, 10.8)."""
    called = areas.attributes.get("name")
    ends = areas.offsets
    for k, layer in enumerate(areas.layers):
        values = np.flatnonzero(areas.layer == k)
        if len(values) == 0:
            continue
        file.write(f"<Folder><name>{escape(layer or areas.name)}</name>\n".encode())
        for done, (own, more) in enumerate(zip(values.tolist(), fields.each(values), strict=True)):
            file.write(f"<Placemark>{_name(called, own)}{more}<MultiGeometry>".encode())
            for part in range(int(areas.members[own]), int(areas.members[own + 1])):
                rings = range(int(areas.parts[part]), int(areas.parts[part + 1]))
                known = np.isfinite(areas.vertices[ends[rings[0]] : ends[rings[-1] + 1], 2]).any()
                mode = "absolute" if known else "clampToGround"
                file.write(f"<Polygon><altitudeMode>{mode}</altitudeMode>".encode())
                for ring in rings:
                    side = b"outerBoundaryIs" if ring == rings[0] else b"innerBoundaryIs"
                    file.write(b"<%s><LinearRing><coordinates>" % side)
                    file.write(_coordinates(areas.vertices[ends[ring] : ends[ring + 1]]))
                    file.write(b"</coordinates></LinearRing></%s>" % side)
                file.write(b"</Polygon>")
            file.write(b"</MultiGeometry></Placemark>\n")
            if done % 2_000 == 0:
                progress.report(done / len(values), f"writing {areas.name}")
        file.write(b"</Folder>\n")
