"""Lines laid on a surface: their own vertices, and one wherever the surface bends below them."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.progress import Progress
from vastgrid.data.dataset import Floats
from vastgrid.data.grid import Grid
from vastgrid.data.tin import Tin
from vastgrid.measures.section import cut, lengths_along

# A crossing this close to a vertex, as a share of the line's length, is that vertex.
SAME = 2e-9


def laid_on(
    vertices: Floats, offsets: NDArray[np.int64], surface: Tin | Grid, progress: Progress
) -> tuple[Floats, NDArray[np.int64], NDArray[np.int64]]:
    """Return the parts of lines that lie over a surface, with its heights, and the line of each part.

    Places of the lines' own vertices stay as they are, bit for bit; parts end where the surface does.

    Returns
    -------
    vertices : (n, 3) float64
    offsets : (k + 1,) int64
    source : (k,) int64
    """
    parts: list[Floats] = []
    source: list[int] = []
    number = len(offsets) - 1
    for k in range(number):
        line = np.asarray(vertices[offsets[k] : offsets[k + 1], :2])
        step = np.hypot(*np.diff(line, axis=0).T)
        line = line[np.concatenate(([True], step > 0.0))]
        if len(line) < 2:
            continue
        found = cut([surface], line, 0.0)
        if found:
            own = _parts(found[0].along, found[0].z, line)
            parts += own
            source += [k] * len(own)
        if k % 256 == 0:
            progress.report(k / number, "laying lines on the surface")
    starts = np.cumsum([0, *(len(part) for part in parts)])
    return np.concatenate([np.zeros((0, 3)), *parts]), starts.astype(np.int64), np.array(source, np.int64)


def _parts(along: Floats, z: Floats, line: Floats) -> list[Floats]:
    total = lengths_along(line)
    places = np.column_stack([np.interp(along, total, line[:, axis]) for axis in (0, 1)])
    # Where the line itself has a vertex, that is the place.
    near = np.clip(np.searchsorted(total, along), 1, len(total) - 1)
    near = np.where(along - total[near - 1] < total[near] - along, near - 1, near)
    same = np.abs(total[near] - along) <= SAME * max(float(total[-1]), 1.0)
    places[same] = line[near[same]]
    good = np.isfinite(z)
    marks = np.flatnonzero(np.diff(np.concatenate(([False], good, [False])).astype(np.int8)))
    return [
        np.column_stack((places[start:stop], z[start:stop]))
        for start, stop in zip(marks[::2].tolist(), marks[1::2].tolist(), strict=True)
        if stop - start > 1
    ]
