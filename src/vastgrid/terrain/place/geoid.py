"""Heights of the geoid above the ellipsoid, from a grid file, interpolated by PROJ."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np

from vastgrid.base.errors import CallError, DataError
from vastgrid.data.dataset import Floats
from vastgrid.data.frame import Frame


def undulations(path: str, frame: Frame) -> Callable[[Floats], Floats]:
    """Return what gives the height of the geoid, in metres, at places of a frame; NaN outside the grid.

    Parameters
    ----------
    path : str
        A grid as PROJ's vertical grid shift reads it: GTX, or GeoTIFF (PROJ, “vgridshift”).

    Raises
    ------
    CallError
        If there is no such file, or the reference system of the data is unknown.
    DataError
        If PROJ cannot read it.
    """
    import pyproj

    file = Path(path).expanduser()
    if not file.is_file():
        raise CallError(f"there is no geoid grid {path}")
    if frame.crs is None:
        raise CallError(
            "a geoid grid is in longitude and latitude, and the reference system of the data is unknown; assign it "
            "before, with --via system crs=EPSG:…"
        )
    own = pyproj.CRS.from_user_input(frame.crs)
    flat = (own.sub_crs_list[0] if own.is_compound else own).to_2d()
    flat = flat.source_crs.to_2d() if flat.is_bound and flat.source_crs is not None else flat
    degrees = pyproj.Transformer.from_crs(flat, flat.geodetic_crs, always_xy=True)
    # A blank or a comma in a name would end it for PROJ.
    name = str(file.resolve())
    quoted = f'"{name}"' if " " in name else name
    try:
        shift = pyproj.Transformer.from_pipeline(
            f"+proj=pipeline +step +proj=unitconvert +xy_in=deg +xy_out=rad +step +proj=vgridshift +grids={quoted} +multiplier=1 "
            "+step +proj=unitconvert +xy_in=rad +xy_out=deg"
        )
    except pyproj.exceptions.ProjError as error:
        raise DataError(f"{file.name} cannot be used as a geoid grid: {error}") from error

    def heights(xyz: Floats) -> Floats:
        east, north = degrees.transform(xyz[:, 0], xyz[:, 1])
        _, _, up = shift.transform(east, north, np.zeros(len(xyz)), errcheck=False)
        up = np.asarray(up, np.float64)
        return np.where(np.isfinite(up), up, np.nan)

    return heights
