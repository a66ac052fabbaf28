"""Cases of points and clouds."""

from __future__ import annotations

import numpy as np

from vastgrid.library.calls import function
from vastgrid.library.vectors import PointSet
from vastgrid.verification.cases import Figures, case
from vastgrid.verification.shapes import CLOSED, plane, plane_grid

Pair = tuple[Figures, Figures]


@case("points.cells", "The middles of cells come out as points, heights untouched.", CLOSED, 0.0, "m")
def _() -> Pair:
    grid = plane_grid(0.1, 0.2)
    return sorted(grid.heights.ravel().tolist()), sorted(grid.points().xyz[:, 2].tolist())


@case("lattice.plane", "Points every 10 m over a plane lie on it.", CLOSED, 1e-9, "m")
def _() -> Pair:
    own = plane(0.1, 0.05).lattice(spacing="10 m")
    return 20.0 + own.xyz[:, :2] @ (0.1, 0.05), own.xyz[:, 2]


@case("scatter.plane", "Random points on a plane lie on it, as many as were asked.", CLOSED, 1e-9, "m")
def _() -> Pair:
    own = plane(0.1, 0.05).scatter(number=500)
    return [500.0, *(20.0 + own.xyz[:, :2] @ (0.1, 0.05))], [len(own.xyz), *own.xyz[:, 2]]


@case("thin.lowest", "Of each cell the lowest point stays.", "NumPy's minimum over the same cells", 0.0, "m")
def _() -> Pair:
    xyz = np.random.default_rng(4).random((3000, 3)) * (50.0, 50.0, 9.0)
    own = PointSet.from_arrays(xyz, unit="m", vertical_unit="m").thin(spacing=5.0, keep="lowest")
    lowest = np.full(400, np.inf)
    cell = np.floor(xyz[:, 1] / 5.0).astype(int) * 20 + np.floor(xyz[:, 0] / 5.0).astype(int)
    np.minimum.at(lowest, cell, xyz[:, 2])
    return sorted(lowest[np.isfinite(lowest)].tolist()), sorted(own.xyz[:, 2].tolist())


@case("noise.far", "Points far above an even cloud are noise, and no others.", CLOSED, 0.0, "points")
def _() -> Pair:
    rng = np.random.default_rng(8)
    near = rng.random((2000, 3)) * (50.0, 50.0, 0.3)
    far = np.array([(10.0, 10.0, 60.0), (40.0, 5.0, 90.0), (25.0, 30.0, -70.0)])
    cloud = PointSet.from_arrays(np.concatenate((near, far)), unit="m", vertical_unit="m")
    classes = cloud.noise().attributes["classification"]
    return 3, int(np.isin(classes[-3:], (7, 18)).sum())


@case(
    "ground.blocks", "Of level ground with blocks on it, the ground is found and no block.", CLOSED, 0.02, "share wrong"
)
def _() -> Pair:
    rng = np.random.default_rng(9)
    xy = rng.random((12_000, 2)) * 100.0
    block = ((xy[:, 0] % 50.0) > 30.0) & ((xy[:, 1] % 50.0) > 30.0)
    z = np.where(block, 8.0, 0.0) + rng.normal(0.0, 0.01, len(xy))
    own = PointSet.from_arrays(np.column_stack((xy, z)), unit="m", vertical_unit="m").ground(preset="built")
    return 0.0, float(((own.attributes["classification"] == 2) == block).mean())


@case("clean.delete", "Deleting inside an area takes out the points in it.", CLOSED, 0.0, "points")
def _() -> Pair:
    points = plane_grid(0.0, 0.0, cell=1.0, number=20).points()
    own = points.clean(log="delete inside 0,0 10,0 10,10 0,10")
    return 300, len(own.xyz)


@case("structures.boxes", "Boxes of 2 m on points, 5 m tall, have 20 m³ each.", CLOSED, 1e-9, "m³")
def _() -> Pair:
    xyz = np.array([(10.0, 10.0, 0.0), (30.0, 20.0, 0.0), (50.0, 40.0, 0.0)])
    points = PointSet.from_arrays(xyz, unit="m", vertical_unit="m", attributes={"tall": [5.0, 5.0, 5.0]})
    own = function("structures")(points=points, height="tall", shape="box", size="2 m")
    return 60.0, abs(own.to_trimesh().volume)
