"""How lengths on the grid of a projected system compare with lengths on the ground, at a place."""

from __future__ import annotations

import math
from dataclasses import dataclass

from vastgrid.base.quantities import Unit, factor
from vastgrid.data.dataset import Dataset


@dataclass(frozen=True, slots=True)
class GridFactors:
    """What holds at the middle of some data.

    Attributes
    ----------
    scale : float
        Point scale factor k: a length on the grid divided by that on the ellipsoid.
    convergence : float
        Degrees from grid north to true north, positive where grid north lies east of true north.
    combined : float or None
        k · R / (R + h) with the Gaussian radius R = √(M·N) and the mean height h: a length on the grid divided by that on
        the ground. None without heights of a known unit.
    """

    scale: float
    convergence: float
    combined: float | None


def grid_factors(dataset: Dataset) -> GridFactors | None:
    """Return the factors at the middle of some data; None where it is not in a projected system, or outside its use.

    Source: point scale and convergence by PROJ (`proj_factors`); radii of curvature M and N of the ellipsoid, closed form.
    Heights are taken as heights above the ellipsoid: 30 m of geoid change the factor by 5 in a million.
    """
    frame, extent = dataset.frame, dataset.extent()
    if frame.crs is None or frame.horizontal in (None, Unit.DEGREE) or not extent.east or not extent.north:
        return None
    import pyproj

    crs = pyproj.CRS.from_user_input(frame.crs)
    flat = (crs.sub_crs_list[0] if crs.is_compound else crs).to_2d()
    flat = flat.source_crs.to_2d() if flat.is_bound and flat.source_crs is not None else flat
    if not flat.is_projected:
        return None
    east, north = sum(extent.east) / 2.0, sum(extent.north) / 2.0
    try:
        degrees = pyproj.Transformer.from_crs(flat, flat.geodetic_crs, always_xy=True)
        lon, lat = degrees.transform(east, north)
        found = pyproj.Proj(flat).get_factors(lon, lat, errcheck=True)
    except pyproj.exceptions.ProjError:
        return None
    if not all(map(math.isfinite, (lon, lat, found.meridional_scale, found.meridian_convergence))):
        return None
    combined = None
    if extent.elevation and frame.vertical is not None and dataset.has_heights:
        height = sum(extent.elevation) / 2.0 * factor(frame.vertical, Unit.METRE)
        ellipsoid = flat.ellipsoid
        assert ellipsoid is not None
        radius = gaussian_radius(ellipsoid.semi_major_metre, ellipsoid.inverse_flattening, lat)
        combined = found.meridional_scale * radius / (radius + height)
    return GridFactors(found.meridional_scale, found.meridian_convergence, combined)


def gaussian_radius(semi_major: float, inverse_flattening: float, latitude: float) -> float:
    """Return √(M·N), the Gaussian mean radius of curvature at a latitude in degrees, in the unit of the semi-major axis.

    M = a(1 − e²) / (1 − e² sin²φ)^(3/2), N = a / √(1 − e² sin²φ), so √(M·N) = a √(1 − e²) / (1 − e² sin²φ).
    """
    flattening = 1.0 / inverse_flattening if inverse_flattening else 0.0
    square = flattening * (2.0 - flattening)
    return semi_major * math.sqrt(1.0 - square) / (1.0 - square * math.sin(math.radians(latitude)) ** 2)
