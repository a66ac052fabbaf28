"""Lines parted where they cross the edge of an area."""

from __future__ import annotations

from typing import Any

import numpy as np
import shapely
from numpy.typing import NDArray

from vastgrid.data.dataset import Floats


def parted_by(
    vertices: Floats, offsets: NDArray[np.int64], area: Any, inside: bool
) -> tuple[Floats, NDArray[np.int64], NDArray[np.int64]]:
    """Return the pieces of lines inside or outside an area, heights on the straight way, and the line of each piece.

    Vertices stay as they are, bit for bit.

    Parameters
    ----------
    vertices, offsets
        Lines one after another, (n, 3) and (k + 1,).
    area : shapely Polygon or MultiPolygon
    """
    edge = shapely.boundary(area)
    shapely.prepare(area)
    pieces: list[Floats] = []
    source: list[int] = []
    for k in range(len(offsets) - 1):
        line = vertices[offsets[k] : offsets[k + 1]]
        if len(line) < 2:
            continue
        for piece in _pieces(line, edge, area, inside):
            pieces.append(piece)
            source.append(k)
    joined = np.concatenate(pieces) if pieces else np.zeros((0, 3))
    sizes = np.array([len(piece) for piece in pieces], np.int64)
    return joined, np.concatenate(([0], np.cumsum(sizes))).astype(np.int64), np.array(source, np.int64)


def _pieces(line: Floats, edge: Any, area: Any, inside: bool) -> list[Floats]:
    """Return the pieces of one line on one side."""
    bounds = shapely.bounds(area)
    low, high = line[:, :2].min(axis=0), line[:, :2].max(axis=0)
    if (low > bounds[2:]).any() or (high < bounds[:2]).any():
        return [] if inside else [line]
    whole = _with_crossings(line, edge)
    middle = (whole[:-1, :2] + whole[1:, :2]) / 2.0
    keep = np.asarray(shapely.intersects_xy(area, middle[:, 0], middle[:, 1])) == inside
    starts = np.flatnonzero(keep & ~np.append(False, keep[:-1]))
    stops = np.flatnonzero(keep & ~np.append(keep[1:], False)) + 1
    found = [whole[a : b + 1] for a, b in zip(starts, stops, strict=True)]
    closed = len(line) > 3 and (line[0, :2] == line[-1, :2]).all()
    if closed and len(found) > 1 and keep[0] and keep[-1]:
        # The line begins in the middle of a piece.
        found = [np.concatenate((found[-1], found[0][1:])), *found[1:-1]]
    return found


def _with_crossings(line: Floats, edge: Any) -> Floats:
    """Return a line with a vertex wherever it crosses an edge."""
    legs = shapely.linestrings(np.stack((line[:-1, :2], line[1:, :2]), axis=1))
    shapely.prepare(edge)
    crossing = np.flatnonzero(shapely.intersects(legs, edge))
    if len(crossing) == 0:
        return line
    at: list[Floats] = []
    order: list[float] = []
    for k in crossing.tolist():
        met = shapely.get_coordinates(shapely.intersection(legs[k], edge))
        a, b = line[k], line[k + 1]
        along = b[:2] - a[:2]
        length = float(along @ along)
        for xy in met:
            share = float((xy - a[:2]) @ along) / length if length else 0.0
            if 1e-12 < share < 1.0 - 1e-12:
                at.append(np.array([*xy, a[2] + share * (b[2] - a[2])]))
                order.append(k + share)
    if not at:
        return line
    rows = np.concatenate((line, np.array(at)))
    places = np.concatenate((np.arange(len(line), dtype=np.float64), np.array(order)))
    return np.asarray(rows[np.argsort(places, kind="stable")])
