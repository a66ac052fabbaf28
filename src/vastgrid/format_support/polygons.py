"""Polygons of files as areas, whatever the format: mended by one rule, or refused with the file and the place."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.errors import DataError, FormatError
from vastgrid.base.findings import Finding, count, note
from vastgrid.data.areas import Areas, from_shapes
from vastgrid.data.frame import Frame
from vastgrid.terrain.areas.mending import sound


def areas_of(
    path: Path,
    shapes: NDArray[Any],
    called: Callable[[int], str],
    findings: list[Finding],
    *,
    name: str,
    frame: Frame,
    layer: NDArray[Any],
    layers: Sequence[str],
    attributes: dict[str, NDArray[Any]],
) -> tuple[Areas, NDArray[np.int64]]:
    """Return polygons as areas, and which of those given each is: see `terrain.areas.mending.sound`.

    Parameters
    ----------
    shapes : (k,) of shapely Polygon or MultiPolygon
        None empty.
    called : callable
        Number of a shape → what it is called in messages.
    layer : (k,) of int
        Index of each into `layers`.
    attributes : dict of (k,) array
        Of each.

    Raises
    ------
    FormatError
        If nobody can say which ground one means.
    """
    try:
        kept, which = sound(shapes, called, findings)
    except DataError as error:
        raise FormatError(path, str(error)) from error
    used, number = np.unique(layer[which], return_inverse=True) if len(layers) > 1 else (np.zeros(1, int), layer[which])
    made, repeated = from_shapes(
        kept,
        name=name,
        frame=frame,
        layer=number.astype(np.int32),
        layers=tuple(layers[k] for k in used.tolist()) or ("",),
        attributes={key: values[which] for key, values in attributes.items()},
    ).without_repeated()
    if repeated:
        text = f"{count(repeated, 'vertex', 'vertices')} of areas of {name} on the one before: dropped."
        findings.append(note("area-repeated", text))
    return made, which
