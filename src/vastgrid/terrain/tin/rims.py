"""The rim of a TIN: triangles with long edges or small angles left out, and the rim as a ring."""

from __future__ import annotations

import numpy as np

from vastgrid.base import late_shapely as shapely
from vastgrid.data.dataset import Flags, Floats
from vastgrid.data.tin import Tin, edge_lengths
from vastgrid.kernels.triangles.rims import worn_rim
from vastgrid.kernels.triangles.vertexwise import around
from vastgrid.terrain.tin.merging import outline

# Where the rim follows the density, its edges may be so many times as long as the distance of the points about it.
DENSITY = 6.0


def without_long_edges(tin: Tin, longest: float) -> Flags:
    """Return which triangles have no edge longer than allowed; edges on breaklines do not count."""
    assert tin.constrained is not None
    return np.asarray(~((edge_lengths(tin) > longest) & ~tin.constrained).any(axis=1))


def followed_density(tin: Tin) -> Floats:
    """Return how long a rim edge of each triangle may be, by how far apart the points about it lie, (m,)."""
    near = around(tin.vertices, tin.triangles)[:, 3]
    near = np.where(np.isfinite(near), near, np.inf)
    return np.asarray(DENSITY * np.median(near[tin.triangles], axis=1))


def look_changed(tin: Tin, longest: Floats | None, smallest: float) -> Flags:
    """Return which triangles are left when those at the rim go; see `worn_rim`.

    Parameters
    ----------
    longest : (m,) float64 or None
        Length that each triangle's rim edge may have.
    smallest : float
        Smallest angle of a triangle at the rim, in degrees; 0 for any.
    """
    assert tin.constrained is not None
    most = np.full(len(tin.triangles), np.inf) if longest is None else longest
    low = tin.vertices[:, :2].min(axis=0)
    xy = np.ascontiguousarray(tin.vertices[:, :2] - low)
    kept = worn_rim(xy, tin.triangles, tin.edges_across, tin.constrained, most, float(np.radians(smallest)))
    return np.asarray(kept)


def rim_ring(tin: Tin) -> Floats:
    """Return the outer rim of a TIN's largest piece, as a closed ring in plan, (n, 2); voids are not in it."""
    area = outline(tin)
    pieces = list(getattr(area, "geoms", [area]))
    largest = max(pieces, key=lambda piece: piece.area)
    return np.asarray(shapely.get_coordinates(largest.exterior), np.float64)
