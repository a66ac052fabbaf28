"""Cases of surfaces and grids."""

from __future__ import annotations

import math

import numpy as np

from vastgrid.library.calls import function
from vastgrid.library.surfaces import Grid, Mesh
from vastgrid.library.vectors import PointSet
from vastgrid.verification.cases import Figures, case
from vastgrid.verification.shapes import CLOSED, frustum, plane, plane_grid, plane_points, square

Pair = tuple[Figures, Figures]
_HORN = "Horn (1981), Hill shading and the reflectance map, Proc. IEEE 69(1), of a plane in closed form"


@case(
    "tin.euler",
    "Triangles of n points of which h lie on the hull are 2n − 2 − h.",
    "de Berg et al., Computational Geometry, theorem 9.1 (from memory)",
    0.0,
)
def _() -> Pair:
    xy = np.random.default_rng(5).random((500, 2)) * 100.0
    from scipy.spatial import ConvexHull

    own = PointSet.from_arrays(np.column_stack((xy, xy[:, 0])), unit="m", vertical_unit="m").tin()
    return 2 * 500 - 2 - len(ConvexHull(xy).vertices), own.count["triangles"]


@case(
    "tin.delaunay",
    "The edges of a triangulation are those of another library's.",
    "SciPy (Qhull), Delaunay triangulation of the same points",
    0.0,
    "edges",
)
def _() -> Pair:
    from scipy.spatial import Delaunay

    xy = np.random.default_rng(6).random((800, 2)) * 100.0
    own = PointSet.from_arrays(np.column_stack((xy, xy[:, 0])), unit="m", vertical_unit="m").tin()
    order = {tuple(place): k for k, place in enumerate(xy.tolist())}
    index = np.array([order[tuple(place)] for place in own.vertices[:, :2].tolist()])
    one = _edges(index[own.triangles])
    other = _edges(Delaunay(xy).simplices)
    return len(other), len(one & other) - len(one ^ other)


def _edges(triangles: np.ndarray) -> set[tuple[int, int]]:
    pairs = np.sort(np.concatenate([triangles[:, (0, 1)], triangles[:, (1, 2)], triangles[:, (2, 0)]]), axis=1)
    return set(map(tuple, pairs.tolist()))


@case("facets.plane", "A TIN through the cells of a grid on a plane stays on it.", CLOSED, 1e-9, "m")
def _() -> Pair:
    own = plane_grid(0.1, -0.2).facets()
    return 0.1 * own.vertices[:, 0] - 0.2 * own.vertices[:, 1], own.vertices[:, 2]


@case("upper.box", "The upper side of a box has the height of its top.", CLOSED, 0.0, "m")
def _() -> Pair:
    import trimesh

    box = trimesh.creation.box((4.0, 3.0, 2.0))
    own = Mesh.from_trimesh(box, unit="m").upper()
    return [1.0] * 4, sorted(own.vertices[:, 2].tolist())[-4:]


@case("grid.linear", "Heights between vertices of a TIN on a plane lie on it.", CLOSED, 1e-9, "m")
def _() -> Pair:
    own = plane(0.1, 0.05).grid(cell=1.0)
    east, north = np.meshgrid(own.x, own.y)
    return (20.0 + 0.1 * east + 0.05 * north).ravel(), own.heights.ravel()


@case(
    "grid.mean", "The mean of the points of a cell, against a plain sum.", "NumPy's sums over the same cells", 1e-9, "m"
)
def _() -> Pair:
    xyz = np.random.default_rng(3).random((4000, 3)) * (50.0, 50.0, 9.0)
    own = PointSet.from_arrays(xyz, unit="m", vertical_unit="m").grid(cell=5.0, method="mean")
    column = np.floor((xyz[:, 0] - own.transform.c) / 5.0).astype(int)
    row = np.floor((own.transform.f - xyz[:, 1]) / 5.0).astype(int)
    cell = row * own.heights.shape[1] + column
    size = np.bincount(cell, minlength=own.heights.size)
    total = np.bincount(cell, xyz[:, 2], minlength=own.heights.size)
    with np.errstate(invalid="ignore"):
        return total / size, own.heights.ravel()


@case("cells.lattice", "A lattice of points becomes a grid with the same heights.", CLOSED, 0.0, "m")
def _() -> Pair:
    points = plane_points()
    return sorted(points.xyz[:, 2].tolist()), sorted(points.cells().heights.ravel().tolist())


@case("slope.percent", "Slope of a plane with gradients 0.3 and 0.4 is 50 %.", _HORN, 1e-9, "%")
def _() -> Pair:
    own = plane_grid(0.3, 0.4).slope(as_="percent").heights
    return 50.0, own[5, 5]


@case("slope.degrees", "Slope of a plane with gradients 0.3 and 0.4 is atan 0.5.", _HORN, 1e-9, "°")
def _() -> Pair:
    return math.degrees(math.atan(0.5)), plane_grid(0.3, 0.4).slope(as_="degrees").heights[5, 5]


@case("aspect.plane", "A plane that rises to the north-west falls to 135° from north.", _HORN, 1e-9, "°")
def _() -> Pair:
    return 135.0, plane_grid(-0.2, 0.2).aspect().heights[5, 5]


@case("hillshade.level", "Level ground under a sun of 30° has half of the full light.", _HORN, 0.6, "of 255")
def _() -> Pair:
    return 255.0 * math.sin(math.radians(30.0)), plane_grid(0.0, 0.0).hillshade(altitude=30).heights[5, 5]


@case("bands.plane", "Bands of a plane are strips of equal area.", CLOSED, 1e-6, "m²")
def _() -> Pair:
    own = plane(0.1, 0.0, 0.0).bands(interval="2 m")
    return [2000.0] * 5, own.plan_sizes


@case("outline.square", "The outline of a TIN over a square is that square.", CLOSED, 1e-9, "m²")
def _() -> Pair:
    return 100.0 * 100.0, plane().outline().plan_sizes


@case("clip.square", "What is clipped of a TIN has the plan area of the square.", CLOSED, 1e-6, "m²")
def _() -> Pair:
    own = plane().clip(limit=square(20, 70))
    return 2500.0, own.outline().plan_sizes


@case("simplify.tolerance", "A surface that is simplified stays within its tolerance everywhere.", CLOSED, 0.0, "m")
def _() -> Pair:
    points = plane_points(0.0, 0.0, 0.0, 2.0).xyz.copy()
    points[:, 2] = np.sin(points[:, 0] / 9.0) + np.cos(points[:, 1] / 7.0)
    tin = PointSet.from_arrays(points, unit="m", vertical_unit="m").tin()
    made = tin.simplify(tolerance="0.1 m")
    assert made.loss is not None
    return 0.0, max(made.loss.largest - 0.1, 0.0)


@case("merge.square", "A surface laid over another raises it by its volume.", CLOSED, 1e-6, "m³")
def _() -> Pair:
    over = plane(0.0, 0.0, 3.0, name="over").clip(limit=square(20, 60))
    made = function("merge")(ground=plane(0.0, 0.0, 0.0), over=over, keep="over")
    own = function("volumes")(base=plane(0.0, 0.0, 0.0), top=made, inside=square(20.5, 59.5))
    return 39.0**2 * 3.0, own.figures["fill"]


@case("difference.planes", "One plane less another is a plane, to every vertex.", CLOSED, 1e-9, "m")
def _() -> Pair:
    own = function("difference")(base=plane(0.1, 0.0), top=plane(0.0, 0.1, 21.0))
    return 1.0 - 0.1 * own.vertices[:, 0] + 0.1 * own.vertices[:, 1], own.vertices[:, 2]


@case("mosaic.mean", "Two grids on one lattice give their mean where both are.", CLOSED, 1e-12, "m")
def _() -> Pair:
    own = function("mosaic")(plane_grid(0, 0, 1.0), plane_grid(0, 0, 4.0), overlap="mean")
    return [2.5] * own.heights.size, own.heights.ravel()


@case("align.plane", "A grid brought onto another lattice keeps its plane.", CLOSED, 1e-9, "m")
def _() -> Pair:
    like = Grid.from_arrays(np.zeros((10, 10)), (3.0, 0, 11.0, 0, -3.0, 47.0), "m", "m")
    own = function("align")(surface=plane_grid(0.1, -0.2), like=like)
    east, north = np.meshgrid(own.x, own.y)
    return (0.1 * east - 0.2 * north).ravel(), own.heights.ravel()


@case("edit.set", "A vertex set to a height by a line of a log, and no other.", CLOSED, 0.0, "m")
def _() -> Pair:
    tin = plane_points(0.0, 0.0, 1.0, 10.0).tin()
    own = tin.edit(log="set 50,50 3.5")
    return [3.5, 1.0], [own.vertices[:, 2].max(), own.vertices[:, 2].min()]


@case(
    "solid.plate",
    "A level surface printed at 1:100 on a base of 3 mm is a plate of known volume.",
    CLOSED,
    1e-6,
    "of it",
)
def _() -> Pair:
    own = plane(0.0, 0.0, 5.0, side=10.0).solid(scale=100, base=3.0, spacing=5.0)
    return 1.0, abs(own.to_trimesh().volume) / (100.0 * 100.0 * 3.0)


@case("frustum.area", "The slope of a frustum's sides, by its grid.", CLOSED, 1e-6, "%", covers="slope")
def _() -> Pair:
    own = frustum().grid(cell=1.0).slope(as_="percent")
    return 50.0, own.heights[50, 75]
