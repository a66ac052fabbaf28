"""How large areas are: in plan where it has a length for a unit, on the ellipsoid where it is degrees."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from vastgrid.base.quantities import Unit
from vastgrid.data.areas import Areas
from vastgrid.data.dataset import Floats


@dataclass(frozen=True, slots=True)
class Sizes:
    """Sizes and perimeters of areas.

    Attributes
    ----------
    areas : (k,) float64
        Holes taken out, in square units.
    perimeters : (k,) float64
        Of all rings.
    unit : Unit or None
        The unit that is squared; None where it is unknown.
    """

    areas: Floats
    perimeters: Floats
    unit: Unit | None


def sizes_of(areas: Areas) -> Sizes:
    """Return the size and perimeter of each area.

    In plan closed form; in degrees by PROJ's geodesic area on the ellipsoid of the system (Karney 2013, “Algorithms for
    geodesics”), in metres. Degrees of an unknown system are taken to be on WGS 84.
    """
    if areas.frame.horizontal is not Unit.DEGREE:
        return Sizes(areas.sizes(), areas.perimeters(), areas.frame.horizontal)
    import pyproj

    crs = pyproj.CRS.from_user_input(areas.frame.crs or "EPSG:4326")
    ellipsoid = crs.get_geod() or pyproj.Geod(ellps="WGS84")
    size, length = np.zeros(len(areas)), np.zeros(len(areas))
    hole, owner = areas.holes(), areas.area_of_ring()
    for k in range(areas.rings):
        ring = areas.vertices[areas.offsets[k] : areas.offsets[k + 1]]
        own, way = ellipsoid.polygon_area_perimeter(ring[:, 0], ring[:, 1])
        size[owner[k]] += -abs(own) if hole[k] else abs(own)
        length[owner[k]] += way
    return Sizes(size, length, Unit.METRE)
