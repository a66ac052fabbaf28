"""Reading a scene back: what is in it, as data."""

from __future__ import annotations

import base64
import json
import re
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.errors import FormatError
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import parse_unit
from vastgrid.data.areas import Areas
from vastgrid.data.dataset import Dataset, Floats
from vastgrid.data.frame import Frame, frame_of_crs
from vastgrid.data.linework import Linework
from vastgrid.data.mesh import Mesh
from vastgrid.data.pointset import PointSet
from vastgrid.data.tin import Tin
from vastgrid.declarations.fileformat import NoParams, ReadResult

MARK = b'<meta name="generator" content="Vast Grid'
_DATA = re.compile(rb'<script type="application/json" id="vastgrid-scene">(.*?)</script>', re.DOTALL)


def read(path: Path, params: NoParams, progress: Progress) -> ReadResult:
    """Read what a scene of ours holds: surfaces, bodies, lines and points.

    Raises
    ------
    FormatError
        If it is no scene of ours, or not whole.
    """
    progress.report(0.1, f"reading {path.name}")
    found = _DATA.search(path.read_bytes())
    if not found:
        raise FormatError(path, "there is no scene in the page; only pages that were made here can be read")
    try:
        scene: dict[str, Any] = json.loads(found[1])
        origin = np.array(scene["origin"], np.float64)
        frame = _frame(scene)
        datasets = [_dataset(path, layer, origin, frame) for layer in scene["layers"]]
    except (ValueError, KeyError, TypeError, IndexError) as error:
        raise FormatError(path, "the scene in the page is damaged") from error
    progress.report(1.0, f"reading {path.name}")
    if not datasets:
        raise FormatError(path, "the scene is empty")
    return ReadResult(tuple(datasets), ())


def _frame(scene: dict[str, Any]) -> Frame:
    units = [parse_unit(word) if word else None for word in (scene["units"]["plan"], scene["units"]["height"])]
    crs = frame_of_crs(scene["crs"]).crs if scene.get("crs") else None
    return Frame(crs, units[0], units[1])


def _numbers(text: str, kind: str) -> NDArray[Any]:
    return np.frombuffer(base64.b64decode(text, validate=True), kind)


def _dataset(path: Path, layer: dict[str, Any], origin: Floats, frame: Frame) -> Dataset:
    xyz = _numbers(layer["places"], "<f4").reshape(-1, 3).astype(np.float64) + origin
    name = str(layer["name"])
    if layer["kind"] == "points":
        return PointSet(name=name, frame=frame, xyz=xyz)
    if layer["kind"] == "lines":
        offsets = _ends(layer, "offsets")
        _open(layer, xyz)
        if len(offsets) < 2 or offsets[-1] != len(xyz):
            raise ValueError("lines that do not fit their places")
        return Linework(
            name=name,
            frame=frame,
            vertices=xyz,
            offsets=offsets,
            layer=np.zeros(len(offsets) - 1, np.int32),
            layers=(name,),
        )
    if layer["kind"] == "areas":
        return _areas(layer, name, xyz, frame)
    triangles = _numbers(layer["corners"], "<u4").reshape(-1, 3)
    if len(triangles) and int(triangles.max()) >= len(xyz):
        raise FormatError(path, f"{name} names corners that are not there; the page is damaged")
    kind = Tin if layer["kind"] == "surface" else Mesh
    return kind(name=name, frame=frame, vertices=xyz, triangles=triangles.astype(np.int32))


def _ends(layer: dict[str, Any], which: str) -> NDArray[np.int64]:
    return _numbers(layer[which], "<u4").astype(np.int64)


def _open(layer: dict[str, Any], xyz: Floats) -> None:
    """Take away the heights that lie on the ground because there are none."""
    if layer.get("known"):
        xyz[~_numbers(layer["known"], "u1").astype(np.bool_), 2] = np.nan


def _areas(layer: dict[str, Any], name: str, xyz: Floats, frame: Frame) -> Areas:
    _open(layer, xyz)
    members = _ends(layer, "members")
    return Areas(
        name=name,
        frame=frame,
        vertices=xyz,
        offsets=_ends(layer, "offsets"),
        parts=_ends(layer, "parts"),
        members=members,
        layer=np.zeros(len(members) - 1, np.int32),
        layers=(name,),
    )
