"""Building a TIN from loose faces, as files give them."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.findings import Finding, count, note
from vastgrid.terrain.dataset import Floats
from vastgrid.terrain.frame import Frame
from vastgrid.terrain.tin import Tin


def tin_from_faces(name: str, frame: Frame, corners: Floats) -> tuple[Tin, list[Finding]]:
    """Return a TIN of triangles given by their corners' coordinates, (m, 3, 3); equal corners become one vertex."""
    flat = np.ascontiguousarray(corners.reshape(-1, 3))
    keys = flat.view([("x", "f8"), ("y", "f8"), ("z", "f8")]).ravel()
    _, first, number = np.unique(keys, return_index=True, return_inverse=True)
    # Vertices keep the order in which the file first names them.
    order = np.argsort(first, kind="stable")
    rank = np.zeros(len(order), np.int32)
    rank[order] = np.arange(len(order), dtype=np.int32)
    return oriented_tin(name, frame, flat[first[order]], rank[number.ravel()].reshape(-1, 3))


def oriented_tin(name: str, frame: Frame, vertices: Floats, triangles: NDArray[np.int32]) -> tuple[Tin, list[Finding]]:
    """Return a TIN with every triangle counter-clockwise in plan; vertical and empty ones are left out and counted."""
    findings: list[Finding] = []
    corner = vertices[triangles][:, :, :2] if len(triangles) else np.zeros((0, 3, 2))
    u, v = corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0]
    turn = u[:, 0] * v[:, 1] - u[:, 1] * v[:, 0]
    flat = turn == 0.0
    if flat.any():
        at = corner[int(np.flatnonzero(flat)[0]), 0]
        text = f"{count(int(flat.sum()), 'face')} of {len(flat)} have no area in plan (vertical or empty); left out."
        findings.append(Finding("vertical-faces", text, at=(float(at[0]), float(at[1]))))
        triangles, turn = triangles[~flat], turn[~flat]
    clockwise = turn < 0
    if clockwise.any():
        triangles = np.where(clockwise[:, None], triangles[:, ::-1], triangles)
        if 0.0 < clockwise.mean() < 1.0:
            text = (
                f"{count(int(clockwise.sum()), 'face')} of {len(clockwise)} were wound the other way and were turned."
            )
            findings.append(note("faces-turned", text))
    return Tin(name=name, frame=frame, vertices=vertices, triangles=triangles.astype(np.int32)), findings
