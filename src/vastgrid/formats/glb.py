"""glTF 2.0 scenes in one binary file (GLB)."""

from __future__ import annotations

import json
import struct
from pathlib import Path

from vastgrid.base.errors import FormatError
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Unit
from vastgrid.data.frame import Frame
from vastgrid.data.mesh import Mesh
from vastgrid.declarations.fileformat import Carries, Format, ReadResult
from vastgrid.families.meshfile import MeshReadParamsY, read_by_library


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
    return ReadResult(tuple(each.in_frame(metres) for each in result.datasets), result.findings)


def sniff(head: bytes, path: Path) -> int:  # noqa: D103
    return 100 if head[:4] == b"glTF" else 0


FORMAT = Format(
    id="glb",
    title="glTF scene (GLB)",
    suffixes=(".glb",),
    sniff=sniff,
    carries=Carries(kinds=(Mesh,), units="both"),
    read=read,
    read_params=MeshReadParamsY,
)
