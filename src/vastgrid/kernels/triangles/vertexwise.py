"""What lies around each vertex of a TIN: its neighbours' heights and distances; and groups of triangles."""

from __future__ import annotations

import numba
import numpy as np
from numpy.typing import NDArray

from vastgrid.kernels.triangles.topology import regions


@numba.njit(cache=True, nogil=True)
def around(vertices, triangles):
    """Return what each vertex' neighbours are like, (n, 4) float64: lowest, highest, shortest and second shortest edge.

    Heights are infinite, and edges too, where a vertex has no neighbour; edges are measured in plan.
    """
    n = vertices.shape[0]
    out = np.full((n, 4), np.inf)
    out[:, 1] = -np.inf
    nearest = np.full(n, -1, np.int64)
    for t in range(triangles.shape[0]):
        for k in range(3):
            a, b = triangles[t, k], triangles[t, (k + 1) % 3]
            dx, dy = vertices[a, 0] - vertices[b, 0], vertices[a, 1] - vertices[b, 1]
            length = np.sqrt(dx * dx + dy * dy)
            for one, other in ((a, b), (b, a)):
                z = vertices[other, 2]
                out[one, 0] = min(out[one, 0], z)
                out[one, 1] = max(out[one, 1], z)
                # An inner edge is met twice; the same neighbour is not its own second.
                if length < out[one, 2]:
                    if nearest[one] != other:
                        out[one, 3] = out[one, 2]
                    out[one, 2] = length
                    nearest[one] = other
                elif length < out[one, 3] and nearest[one] != other:
                    out[one, 3] = length
    return out


def groups(neighbours: NDArray[np.int32], chosen: NDArray[np.bool_]) -> NDArray[np.int32]:
    """Return the number of the connected group each chosen triangle belongs to, (m,) int32; -1 for all others."""
    across = np.where(neighbours >= 0, chosen[neighbours], False)
    region = regions(neighbours, ~(chosen[:, None] & across))
    out = np.full(len(neighbours), -1, np.int32)
    out[chosen] = np.unique(region[chosen], return_inverse=True)[1].ravel()
    return out
