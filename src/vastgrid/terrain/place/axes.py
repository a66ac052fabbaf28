"""Data in systems whose axes point west and south, turned so that they point east and north."""

from __future__ import annotations

import dataclasses
from functools import lru_cache, singledispatch
from typing import Any

import numpy as np

from vastgrid.base.errors import DataError
from vastgrid.base.findings import Finding
from vastgrid.data.areas import Areas
from vastgrid.data.dataset import Dataset
from vastgrid.data.frame import Frame, crs_name, turned_axes
from vastgrid.data.grid import Grid
from vastgrid.data.linework import Contours, Linework
from vastgrid.data.mesh import Mesh
from vastgrid.data.pointset import PointSet
from vastgrid.data.tin import Tin

# The same projection with axes east and north, by EPSG codes of methods (EPSG guidance note 7-2).
_UPRIGHT = {9808: (9807, "Transverse Mercator"), 9819: (1041, "Krovak (North Orientated)")}


def east_north(dataset: Dataset) -> tuple[Dataset, list[Finding]]:
    """Return a dataset with eastings and northings, turned where its system counts westings and southings.

    Raises
    ------
    DataError
        If it counts so and cannot be turned.
    """
    axes = turned_axes(dataset.frame.crs)
    if axes is None or dataset.frame.crs is None:
        return dataset, []
    name = crs_name(dataset.frame.crs)
    crs = _upright(dataset.frame.crs, axes) if axes in (("west", "south"), ("south", "west")) else None
    frame = dataclasses.replace(dataset.frame, crs=crs)
    made = None if crs is None else _turned(dataset, axes == ("south", "west"), frame)
    if made is None:
        raise DataError(
            f"{dataset.name} is in {name}, whose axes point {' and '.join(axes)}: it cannot be taken as easting and northing; "
            "bring it into a system with eastings and northings first"
        )
    text = f"{dataset.name} is in {name}, whose axes point {' and '.join(axes)}; its coordinates were turned to point east and north (other signs), and so was the system."
    return made, [Finding("axes-turned", text)]


@singledispatch
def _turned(dataset: Dataset, swapped: bool, frame: Frame) -> Dataset | None:
    return None


@_turned.register(PointSet)
@_turned.register(Linework)
@_turned.register(Areas)
@_turned.register(Contours)
@_turned.register(Tin)
@_turned.register(Mesh)
def _of_places(dataset: Any, swapped: bool, frame: Frame) -> Dataset | None:
    if not swapped:
        turned: Dataset = dataset.with_coordinates(-1.0, 1.0, frame)
        return turned
    if isinstance(dataset, PointSet):
        return dataclasses.replace(dataset, xyz=dataset.xyz[:, [1, 0, 2]] * np.array((-1.0, -1.0, 1.0)), frame=frame)
    if isinstance(dataset, Areas):
        return dataset.with_places(dataset.vertices[:, [1, 0, 2]] * np.array((-1.0, -1.0, 1.0)), frame)
    if isinstance(dataset, Linework):
        vertices = dataset.vertices[:, [1, 0, 2]] * np.array((-1.0, -1.0, 1.0))
        return dataclasses.replace(dataset, vertices=vertices, frame=frame)
    return None


@_turned.register
def _of_grid(grid: Grid, swapped: bool, frame: Frame) -> Dataset | None:
    if swapped:
        return None
    return dataclasses.replace(
        grid,
        heights=grid.heights[::-1, ::-1],
        west=-(grid.west + grid.columns * grid.dx),
        north=-(grid.north - grid.rows * grid.dy),
        frame=frame,
    )


@lru_cache(maxsize=16)
def _upright(crs: str, axes: tuple[str, str]) -> str | None:
    """Return the same system with axes east and north; None where none is known that gives the same places."""
    import pyproj

    try:
        own = pyproj.CRS.from_user_input(crs)
        described = own.to_json_dict()
        for part in described.get("components", [described]):
            base = part.get("source_crs", part)
            if "conversion" not in base:
                continue
            conversion = base["conversion"]
            code, title = _UPRIGHT[conversion["method"]["id"]["code"]]
            conversion["method"] = {"name": title, "id": {"authority": "EPSG", "code": code}}
            conversion.pop("id", None)
            for each in conversion["parameters"]:
                if each["name"].startswith("False "):
                    each["value"] = -each["value"]
            unit = base["coordinate_system"]["axis"][0]["unit"]
            base["coordinate_system"]["axis"] = [
                {"name": "Easting", "abbreviation": "E", "direction": "east", "unit": unit},
                {"name": "Northing", "abbreviation": "N", "direction": "north", "unit": unit},
            ]
            base.pop("id", None)
            base["name"] += " (east, north)"
        described.pop("id", None)
        upright = pyproj.CRS.from_json_dict(described)
        flat = own.sub_crs_list[0] if own.is_compound else own
        area = flat.area_of_use or pyproj.CRS.from_epsg(flat.to_epsg(min_confidence=70) or 4326).area_of_use
        lon, lat = (area.west + area.east) / 2.0 + 0.1, (area.south + area.north) / 2.0 + 0.1
        places = [
            pyproj.Transformer.from_crs(flat.geodetic_crs, each, always_xy=True).transform(lon, lat)
            for each in (flat, upright.sub_crs_list[0] if upright.is_compound else upright)
        ]
    except (pyproj.exceptions.CRSError, pyproj.exceptions.ProjError, KeyError, TypeError, AttributeError):
        return None
    west, south = places[0] if axes[0] == "west" else places[0][::-1]
    return str(upright.to_wkt()) if max(abs(places[1][0] + west), abs(places[1][1] + south)) < 1e-6 else None
