"""What formats of meshes share: the upward axis, parts made into TINs or meshes, and pieces that go out as files."""

from __future__ import annotations

import dataclasses
import io
from collections.abc import Sequence
from dataclasses import dataclass
from enum import Enum
from pathlib import Path
from typing import Annotated, Any

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.errors import FormatError, library_faults
from vastgrid.base.findings import Finding, note
from vastgrid.base.progress import Progress
from vastgrid.data.dataset import Dataset, Floats
from vastgrid.data.frame import UNKNOWN, Frame
from vastgrid.data.kinds import narrowed, of_kind
from vastgrid.data.mesh import Mesh
from vastgrid.data.tin import Tin
from vastgrid.declarations.fileformat import PlannedFile, ReadResult
from vastgrid.format_support.origin import NOWHERE, Place, heard
from vastgrid.params.declare import Param
from vastgrid.terrain.tin.assemble import merged, surface_from_faces

Part = tuple[str, Floats, NDArray[np.int32]]


class Up(Enum):
    """Which axis of the file points upwards."""

    Z = "z"
    Y = "y"


@dataclass(frozen=True)
class MeshReadParams:
    """How the file's axes are understood."""

    up: Annotated[Up, Param("Upward axis", "z: x is east, y north, z up; y: x is east, y up, z south.")] = Up.Z


@dataclass(frozen=True)
class MeshReadParamsY:
    """How the file's axes are understood, for formats whose standard has y upwards."""

    up: Annotated[Up, Param("Upward axis", "y: x is east, y up, z south (the standard); z: x east, y north, z up.")] = (
        Up.Y
    )


def faces_of(dataset: Dataset) -> tuple[Floats, NDArray[np.int32]]:
    """Return the vertices and triangles of a TIN or a mesh."""
    surface = narrowed(dataset, Tin) if dataset.kind == Tin.kind else narrowed(dataset, Mesh)
    return surface.vertices, surface.triangles


def in_pieces(datasets: Sequence[Dataset], stem: str, ending: str) -> tuple[PlannedFile, ...]:
    """Return a file for each piece of a mesh that is in pieces: NAME-1, NAME-2; nothing where one file will do."""
    meshes = of_kind(datasets, Mesh)
    if not meshes or not len(meshes[0].part):
        return ()
    pieces = meshes[0].pieces()
    return tuple(PlannedFile(f"{stem}-{k + 1}{ending}", (piece,)) for k, piece in enumerate(pieces))


def as_told(result: ReadResult, words: bytes) -> ReadResult:
    """Return what was read of a file, moved and in the unit as the file's own words say."""
    place, frame = heard(words)
    found = result
    if place != NOWHERE:
        found = moved(found, place)
    if frame.horizontal is not None:
        found = dataclasses.replace(found, datasets=tuple(each.in_frame(frame) for each in found.datasets))
    return found


def moved(result: ReadResult, place: Place) -> ReadResult:
    """Return what was read with coordinates that are told from a place brought to full size."""
    datasets = tuple(
        (Tin if each.kind == Tin.kind else Mesh)(
            name=each.name, frame=each.frame, vertices=vertices + place, triangles=triangles
        )
        for each in result.datasets
        for vertices, triangles in [faces_of(each)]
    )
    text = f"Coordinates are relative to E {place[0]:.10g}, N {place[1]:.10g}, Z {place[2]:.10g}, as the file says."
    return dataclasses.replace(result, datasets=datasets, findings=(*result.findings, note("local-origin", text)))


# A larger file takes the library long; what our reader found in it is compared all the same.
_AUDITED = 60_000_000


def audit(path: Path) -> tuple[str, ...] | None:
    """Return what the mesh library finds wrong with a file; None where it is too large to wait for."""
    if path.stat().st_size > _AUDITED:
        return None
    import trimesh

    try:
        loaded: Any = trimesh.load(path, process=False)
        scene = loaded if isinstance(loaded, trimesh.Scene) else trimesh.Scene(loaded)
        meshes = [each for each in scene.geometry.values() if isinstance(each, trimesh.Trimesh | trimesh.PointCloud)]
    except Exception as error:  # noqa: BLE001 - whatever it raises, it cannot read the file
        return (f"it cannot be read: {' '.join(str(error).split())[:120]}",)
    if not meshes:
        return ("there is no mesh in it",)
    if not all(np.isfinite(np.asarray(each.vertices)).all() for each in meshes):
        return ("coordinates are not finite",)
    return ()


def upright(vertices: Floats, up: Up) -> Floats:
    """Return file coordinates as easting, northing, elevation."""
    if up is Up.Y:
        return np.column_stack((vertices[:, 0], -vertices[:, 2], vertices[:, 1]))
    return vertices


def surfaces(path: Path, parts: list[Part], up: Up, frame: Frame = UNKNOWN) -> ReadResult:
    """Return parts of a file as TINs, or as meshes where they overhang.

    Raises
    ------
    FormatError
        If no part has a face, or coordinates are not finite.
    """
    found: list[Dataset] = []
    findings: list[Finding] = []
    for name, vertices, triangles in parts:
        if len(triangles) == 0:
            continue
        if triangles.min() < 0 or triangles.max() >= len(vertices):
            raise FormatError(path, f"{name}: faces name corners that are not there; the file is damaged or cut off")
        corners, faces = merged(upright(np.asarray(vertices, np.float64), up), triangles)
        if not np.isfinite(corners).all() or np.abs(corners).max() > 1e12:
            raise FormatError(path, f"{name}: coordinates are not finite numbers; the file is damaged")
        surface, said = surface_from_faces(name, frame, corners, faces)
        if np.ptp(corners[:, 2]) > 2.0 * np.ptp(corners[:, 1]):
            other = "y" if up is Up.Z else "z"
            text = f"{name} is much higher than it is wide: perhaps {other} points upwards in this file (up={other})."
            said.append(Finding("axis-doubtful", text))
        found.append(surface)
        findings += said
    if not found:
        raise FormatError(path, "there is no face in the file")
    return ReadResult(tuple(found), tuple(findings))


def read_by_library(path: Path, data: bytes, kind: str, up: Up, progress: Progress) -> ReadResult:
    """Read a mesh by trimesh, its parts joined.

    Raises
    ------
    FormatError
        If the library cannot read it.
    """
    import trimesh

    progress.report(0.1, f"reading {path.name}")
    with library_faults(path, "reading the mesh"):
        loaded: Any = trimesh.load(io.BytesIO(data), file_type=kind, process=False)
        meshes = loaded.dump() if isinstance(loaded, trimesh.Scene) else [loaded]
        parts: list[Part] = []
        for k, mesh in enumerate(meshes):
            if not isinstance(mesh, trimesh.Trimesh):
                continue
            text = str(mesh.metadata.get("name") or "")
            name = path.stem if len(meshes) == 1 else text or f"{path.stem} {k + 1}"
            parts.append((name, np.asarray(mesh.vertices, np.float64), np.asarray(mesh.faces, np.int32)))
    progress.report(0.7, f"reading {path.name}")
    return surfaces(path, parts, up)
