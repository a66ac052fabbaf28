"""glTF 2.0 scenes in one binary file (GLB)."""

from __future__ import annotations

import json
import struct
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np

from vastgrid import __version__
from vastgrid.base.errors import FormatError
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Unit
from vastgrid.data.dataset import Dataset
from vastgrid.data.frame import Frame
from vastgrid.data.mesh import Mesh
from vastgrid.data.tin import Tin
from vastgrid.declarations.fileformat import Carries, Format, ReadResult, weighing
from vastgrid.format_support.meshfile import MeshReadParamsY, audit, faces_of, moved, read_by_library
from vastgrid.format_support.origin import NOWHERE, SingleOriginParams, chosen, heard, seen, told


def read(path: Path, params: MeshReadParamsY, progress: Progress) -> ReadResult:
    """Read every mesh of the scene, placed by its nodes; lengths are metres by the standard (glTF 2.0, 3.4).

    Raises
    ------
    FormatError
        If the file is cut off, or leads to other files, which are not opened.
    """
    data = path.read_bytes()
    if len(data) < 20 or data[:4] != b"glTF":
        raise FormatError(path, "it does not begin like a GLB file")
    _, version, length, size, kind = struct.unpack_from("<4sIIII", data)
    if version != 2:
        raise FormatError(path, f"it is glTF version {version}; only version 2 is read")
    if length > len(data) or kind != 0x4E4F534A or 20 + size > len(data):
        raise FormatError(path, f"the file is cut off: it speaks of {length} bytes, {len(data)} are there")
    try:
        scene = json.loads(data[20 : 20 + size])
        elsewhere = [b["uri"] for b in scene.get("buffers", []) if not b.get("uri", "data:").startswith("data:")]
    except (ValueError, AttributeError, TypeError, RecursionError) as error:
        raise FormatError(path, "its description is damaged") from error
    if elsewhere:
        raise FormatError(path, f"its content stands in another file ({elsewhere[0][:60]}), which is not opened")
    result = read_by_library(path, data, "glb", params.up, progress)
    metres = Frame(None, Unit.METRE, Unit.METRE)
    result = ReadResult(tuple(each.in_frame(metres) for each in result.datasets), result.findings)
    place = heard(data[20 : 20 + size])[0]
    return moved(result, place) if place != NOWHERE else result


# Numbers of the glTF 2.0 specification: element types, buffer targets, chunk types.
_FLOAT, _UINT = 5126, 5125
_VERTICES, _INDICES = 34962, 34963
_JSON, _BIN = 0x4E4F534A, 0x004E4942


def write(datasets: Sequence[Dataset], path: Path, params: SingleOriginParams, progress: Progress) -> None:
    """Write each surface as a node of one scene, y upwards and in metres by the standard (glTF 2.0, 3.4)."""
    parts = [(each.name, *faces_of(each)) for each in datasets]
    every = np.concatenate([vertices for _, vertices, _ in parts])
    place = chosen(params.origin, every, FORMAT.title)
    views: list[dict[str, Any]] = []
    accessors: list[dict[str, Any]] = []
    blocks: list[bytes] = []
    meshes, nodes = [], []
    at = 0
    for name, vertices, triangles in parts:
        local = (vertices - place).astype(np.float32)
        turned = np.ascontiguousarray(np.column_stack((local[:, 0], local[:, 2], -local[:, 1])))
        for array, kind, target in (
            (turned, _FLOAT, _VERTICES),
            (triangles.astype(np.uint32).ravel(), _UINT, _INDICES),
        ):
            block = array.tobytes()
            views.append({"buffer": 0, "byteOffset": at, "byteLength": len(block), "target": target})
            vector = array.ndim == 2
            one = {
                "bufferView": len(views) - 1,
                "componentType": kind,
                "count": len(array),
                "type": "VEC3" if vector else "SCALAR",
            }
            if vector:
                one |= {"min": array.min(axis=0).tolist(), "max": array.max(axis=0).tolist()}
            accessors.append(one)
            blocks.append(block)
            at += len(block)
        whole = {
            "attributes": {"POSITION": len(accessors) - 2},
            "indices": len(accessors) - 1,
            "material": 0,
            "mode": 4,
        }
        meshes.append({"name": name, "primitives": [whole]})
        nodes.append({"name": name, "mesh": len(meshes) - 1})
        progress.report(0.8 * len(nodes) / len(parts), f"writing {path.name}")
    scene = {
        "asset": {
            "version": "2.0",
            "generator": f"Vast Grid {__version__}",
            "extras": {"origin": list(place), "unit": "m", "told": told(place, Unit.METRE)},
        },
        "scene": 0,
        "scenes": [{"nodes": list(range(len(nodes)))}],
        "nodes": nodes,
        "meshes": meshes,
        "materials": [
            {
                "name": "ground",
                "doubleSided": True,
                "pbrMetallicRoughness": {"baseColorFactor": [0.62, 0.58, 0.47, 1.0], "metallicFactor": 0.0},
            }
        ],
        "accessors": accessors,
        "bufferViews": views,
        "buffers": [{"byteLength": at}],
    }
    text = json.dumps(scene, ensure_ascii=False, separators=(",", ":")).encode()
    text += b" " * (-len(text) % 4)
    with path.open("wb") as file:
        file.write(struct.pack("<4sIIII", b"glTF", 2, 28 + len(text) + at, len(text), _JSON))
        file.write(text)
        file.write(struct.pack("<II", at, _BIN))
        for block in blocks:
            file.write(block)
    progress.report(1.0, f"writing {path.name}")


def sniff(head: bytes, path: Path) -> int:  # noqa: D103
    return 100 if head[:4] == b"glTF" else 0


FORMAT = Format(
    id="glb",
    title="glTF scene (GLB)",
    used_for="meshes and print",
    suffixes=(".glb",),
    sniff=sniff,
    carries=Carries(kinds=(Tin, Mesh), several=True, units="both", metres=True, single=True),
    read=read,
    write=write,
    audit=audit,
    write_params=SingleOriginParams,
    weigh=weighing(vertices=12, triangles=12),
    seen=seen,
    read_params=MeshReadParamsY,
)
