"""Clouds and rasters cut at awkward places, and what the whole gives, for tests of tiles."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import rasterio

from vastgrid import catalog
from vastgrid.base.progress import Silent
from vastgrid.base.quantities import Length
from vastgrid.data.frame import frame_of_crs
from vastgrid.data.pointset import PointSet
from vastgrid.declarations.conversion import Inputs
from vastgrid.execution.input_options import Options, Said
from vastgrid.execution.run_log import Account, Via
from vastgrid.execution.steps import read_file
from vastgrid.formats.las import LasWriteParams
from vastgrid.formats.las import write as write_las
from vastgrid.params import declare
from vastgrid.tiled.plans import TilingOptions
from vastgrid.tiled.run import run_tiled

FRAME = frame_of_crs("EPSG:25832+7837")


def cloud_files(folder: Path, number: int = 60_000) -> list[Path]:
    """Write a hilly cloud with trees as five LAZ files that are no squares, one inside the ground of others."""
    rng = np.random.default_rng(11)
    xy = rng.random((number, 2)) * (700.0, 430.0) + (512_003.37, 5_412_001.91)
    z = 200 + 20 * np.sin(xy[:, 0] / 90) + 15 * np.cos(xy[:, 1] / 70) + rng.normal(0, 0.03, number)
    tree = (rng.random(number) < 0.3) & (np.sin(xy[:, 0] / 17) * np.sin(xy[:, 1] / 13) > 0.3)
    z[tree] += rng.uniform(1, 12, int(tree.sum()))
    xyz = np.round(np.column_stack((xy, z)), 3)
    classes = np.where(tree, 5, 2).astype(np.uint8)
    u, v = xy[:, 0] - 512_003.37, xy[:, 1] - 5_412_001.91
    part = np.where(np.hypot(u - 350, v - 200) < 60, 4, (u + 0.4 * v > 420).astype(int) * 2 + (v - 0.2 * u > 150))
    paths = []
    folder.mkdir(exist_ok=True)
    for k in range(5):
        own = part == k
        cloud = PointSet(
            name=f"strip-{k}",
            frame=FRAME,
            xyz=xyz[own],
            attributes={"classification": classes[own], "intensity": (np.arange(own.sum()) % 900).astype(np.uint16)},
        )
        paths.append(folder / f"strip-{k}.laz")
        write_las([cloud], paths[-1], LasWriteParams(), Silent())
    return paths


def read(paths):
    """Return the first dataset of each file."""
    return [read_file(path, {}, Silent(), (None, None)).datasets[0] for path in paths]


def as_one(clouds):
    """Return clouds behind each other as one."""
    names = set.intersection(*(set(each.attributes) for each in clouds))
    attributes = {name: np.concatenate([each.attributes[name] for each in clouds]) for name in names}
    return PointSet(
        name="all", frame=clouds[0].frame, xyz=np.concatenate([each.xyz for each in clouds]), attributes=attributes
    )


def at_once(data, steps):
    """Return what a chain of conversions gives on the whole; the first may take several in their roles."""
    for name, words in steps:
        conversion = catalog.conversion_named(name)
        several = data if isinstance(data, list) else [data]
        roles = [each.role for each in conversion.inputs] if len(conversion.inputs) > 1 else []
        roles += [conversion.main.role] * (len(several) - len(roles))
        inputs = Inputs.of_pairs(zip(roles, several, strict=False))
        params = conversion.settle(inputs, declare.build(conversion.params, words))
        data = conversion.run(inputs, params, Silent()).dataset
    return data


def in_tiles(paths, steps, target, tile, **how):
    """Run a chain on tiles; return the run."""
    vias = [Via(catalog.conversion_named(name), words) for name, words in steps]
    asked = TilingOptions(
        tile if isinstance(tile, Length) else Length(tile), how.pop("workers", 0), how.pop("cluster", "")
    )
    progress = how.pop("progress", Silent())
    return run_tiled(
        paths,
        target,
        vias,
        read_words=Options(how.pop("read", {})),
        write_words=how.pop("write", {}),
        from_units=Said(),
        asked=asked,
        progress=progress,
        account=Account(tell=how.pop("tell", lambda text: None)),
        **how,
    )


def same_cells(one, other, most=0.0):
    """Say whether two grids are the same, to the last bit or to a rounding."""
    assert one.heights.shape == other.heights.shape
    assert (one.west, one.north, one.dx, one.dy) == (other.west, other.north, other.dx, other.dy)
    np.testing.assert_array_equal(np.isnan(one.heights), np.isnan(other.heights))
    return float(np.nanmax(np.abs(one.heights - other.heights))) <= most


def segments(contours):
    """Return every segment of contours with its level, direction and all."""
    inner = np.ones(len(contours.plan), bool)
    inner[contours.offsets[1:] - 1] = False
    start = np.flatnonzero(inner)
    line = np.searchsorted(contours.offsets, start, side="right") - 1
    rows = np.column_stack((contours.levels[line], contours.plan[start], contours.plan[start + 1]))
    return set(map(tuple, rows.tolist()))


def put(path, values, transform, nodata, crs="EPSG:26916"):
    """Write values as a GeoTIFF in tiles."""
    rows, columns = values.shape
    with rasterio.open(
        path, "w", driver="GTiff", width=columns, height=rows, count=1, dtype=values.dtype, crs=crs,
        transform=transform, nodata=nodata, tiled=True, blockxsize=128, blockysize=128,
    ) as file:  # fmt: skip
        file.write(values, 1)
