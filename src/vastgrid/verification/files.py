"""Cases of file formats: each there and back, and read by another library where one knows it."""

from __future__ import annotations

import tempfile
from collections.abc import Callable
from pathlib import Path

import numpy as np

from vastgrid import catalog
from vastgrid.data.areas import Areas as AreasData
from vastgrid.data.linework import Linework as LineworkData
from vastgrid.declarations.fileformat import Format
from vastgrid.library.data import Data
from vastgrid.library.files import read, write
from vastgrid.library.surfaces import Grid, Tin
from vastgrid.library.vectors import Areas, Linework, PointSet
from vastgrid.verification.cases import Figures, case
from vastgrid.verification.shapes import plane_points

Pair = tuple[Figures, Figures]
_BACK = "what was sent is what has to come back; our own reader"
_PLACE = np.array((500_000.0, 5_300_000.0, 0.0))


def _moved(points: PointSet) -> PointSet:
    return PointSet.from_arrays(points.xyz + _PLACE, unit="m", vertical_unit="m", crs="EPSG:32632", name="ground")


def _example(kind: Format) -> Data:
    """Return data of the first kind that a format is for."""
    points = _moved(plane_points(step=20.0))
    for each in kind.carries.kinds:
        if each.kind == "points":
            return points
        if each.kind == "tin":
            return points.tin()  # type: ignore[no-any-return]
        if each.kind == "grid":
            return points.tin().grid(cell=10.0)  # type: ignore[no-any-return]
        if each is LineworkData:
            return Linework.from_arrays([points.xyz[:4], points.xyz[6:9]], "m", "m", "EPSG:32632", name="lines")
        if each is AreasData:
            return _areas()
    return points.tin()  # type: ignore[no-any-return]


def _areas() -> Areas:
    import shapely

    shapes = [shapely.box(500_000, 5_300_000, 500_050, 5_300_040), shapely.box(500_100, 5_300_000, 500_120, 5_300_040)]
    return Areas.from_geometries(shapes, {"no": [1, 2]}, unit="m", crs="EPSG:32632", name="plots")


def _there_and_back(kind: Format) -> Callable[[], Pair]:
    def run() -> Pair:
        data = _example(kind)
        with tempfile.TemporaryDirectory() as folder:
            made = write(Path(folder) / f"a{kind.suffixes[0]}", data)
        assert made.size > 0
        return [0.0, 0.0], [made.largest_height_difference or 0.0, made.largest_plan_difference or 0.0]

    return run


for _kind in catalog.FORMATS:
    if _kind.write is not None:
        _step = 1e-3 if _kind.carries.single or _kind.carries.geographic else 5.1e-4
        case(
            f"{_kind.id}.there_and_back",
            f"{_kind.title}: written, read back and compared, place by place.",
            _BACK,
            _step,
            "m",
        )(_there_and_back(_kind))


def _written(name: str, data: Data, look: Callable[[Path], Figures]) -> Figures:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / name
        write(path, data)
        return look(path)


def _raster(name: str) -> Pair:
    import rasterio

    grid = _moved(plane_points()).tin().grid(cell=5.0)

    def look(path: Path) -> Figures:
        with rasterio.open(path) as file:
            own = file.read(1, masked=True).astype(np.float64).filled(np.nan)
            return [file.transform.c, file.transform.f, *own.ravel().tolist()]

    return [grid.transform.c, grid.transform.f, *grid.heights.ravel()], _written(name, grid, look)


@case("geotiff.rasterio", "A GeoTIFF's heights and corner, read by another library.", "rasterio (GDAL)", 1e-5, "m")
def _() -> Pair:
    return _raster("a.tif")


@case(
    "asciigrid.rasterio", "An ASCII grid's heights and corner, read by another library.", "rasterio (GDAL)", 5.1e-4, "m"
)
def _() -> Pair:
    return _raster("a.asc")


@case("bil.rasterio", "A BIL raster's heights and corner, read by another library.", "rasterio (GDAL)", 1e-5, "m")
def _() -> Pair:
    return _raster("a.bil")


def _gis(name: str) -> Pair:
    import pyogrio
    import shapely

    areas = _areas()

    def look(path: Path) -> Figures:
        shapes = shapely.from_wkb(pyogrio.raw.read(path)[2])
        return [*sorted(shapely.area(shapes).tolist()), *shapely.total_bounds(shapes).tolist()]

    bounds = shapely.total_bounds(areas.geometries).tolist()
    return [*sorted(areas.plan_sizes.tolist()), *bounds], _written(name, areas, look)


@case("geopackage.pyogrio", "Areas of a GeoPackage, read by another library.", "pyogrio and GEOS", 1e-9, "m², m")
def _() -> Pair:
    return _gis("a.gpkg")


@case("shapefile.pyogrio", "Areas of a shapefile, read by another library.", "pyogrio and GEOS", 1e-9, "m², m")
def _() -> Pair:
    return _gis("a.shp")


@case("flatgeobuf.pyogrio", "Areas of a FlatGeobuf, read by another library.", "pyogrio and GEOS", 1e-9, "m², m")
def _() -> Pair:
    return _gis("a.fgb")


@case("las.laspy", "Points of a LAZ file, read by another library.", "laspy", 5.1e-4, "m")
def _() -> Pair:
    import laspy

    points = _moved(plane_points())
    return points.xyz.ravel(), _written("a.laz", points, lambda path: np.asarray(laspy.read(path).xyz).ravel())


@case("dxf.ezdxf", "Vertices of faces of a drawing, read by another library.", "ezdxf", 5.1e-4, "m")
def _() -> Pair:
    import ezdxf

    tin = _moved(plane_points(step=25.0)).tin()

    def look(path: Path) -> Figures:
        faces = ezdxf.readfile(path).modelspace().query("3DFACE")
        corners = np.array([[tuple(corner) for corner in face.wcs_vertices()[:3]] for face in faces])
        return np.sort(corners.reshape(-1, 3), axis=0).ravel()

    corners = tin.vertices[tin.triangles].reshape(-1, 3)
    return np.sort(corners, axis=0).ravel(), _written("a.dxf", tin, look)


def _mesh(name: str) -> Pair:
    import trimesh

    tin: Tin = plane_points(step=25.0).tin()

    def look(path: Path) -> Figures:
        own = trimesh.load(path, force="mesh")
        return [float(own.area), *np.sort(own.extents).tolist()]

    own = tin.to_trimesh()
    return [float(own.area), *np.sort(own.extents).tolist()], _written(name, tin, look)


@case("stl.trimesh", "Surface and size of an STL, read by another library.", "trimesh", 0.01, "m², m")
def _() -> Pair:
    return _mesh("a.stl")


@case("ply.trimesh", "Surface and size of a PLY, read by another library.", "trimesh", 0.01, "m², m")
def _() -> Pair:
    return _mesh("a.ply")


@case("obj.trimesh", "Surface and size of an OBJ, read by another library.", "trimesh", 0.01, "m², m")
def _() -> Pair:
    return _mesh("a.obj")


@case("off.trimesh", "Surface and size of an OFF, read by another library.", "trimesh", 0.01, "m², m")
def _() -> Pair:
    return _mesh("a.off")


@case("glb.trimesh", "Surface and size of a glTF scene, read by another library.", "trimesh", 0.05, "m², m")
def _() -> Pair:
    return _mesh("a.glb")


@case("3mf.trimesh", "Sides of a 3MF, read by another library.", "trimesh", 0.05, "m")
def _() -> Pair:
    import trimesh

    tin: Tin = plane_points(step=25.0).tin()

    def look(path: Path) -> Figures:
        return [float(side) for side in np.sort(trimesh.load(path, force="mesh").extents)]

    return np.sort(tin.to_trimesh().extents), _written("a.3mf", tin, look)


@case("copc.laspy", "Points of an ordered cloud, read by another library.", "laspy", 5.1e-4, "m")
def _() -> Pair:
    import laspy

    points = _moved(plane_points())
    order = np.lexsort(points.xyz.T)

    def look(path: Path) -> Figures:
        xyz = np.asarray(laspy.read(path).xyz)
        return xyz[np.lexsort(np.round(xyz, 3).T)].ravel()

    return points.xyz[order].ravel(), _written("a.copc.laz", points, look)


_RFC = """{"type": "Polygon", "coordinates": [
[[100.0, 0.0], [101.0, 0.0], [101.0, 1.0], [100.0, 1.0], [100.0, 0.0]],
[[100.8, 0.8], [100.8, 0.2], [100.2, 0.2], [100.2, 0.8], [100.8, 0.8]]]}"""


@case(
    "geojson.example",
    "The standard's own polygon with a hole, read.",
    "RFC 7946, appendix A.3 (from memory)",
    1e-12,
    "square degrees",
)
def _() -> Pair:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "a.geojson"
        path.write_text(_RFC)
        own = read(path)
    return [1.0 - 0.6 * 0.6, 2.0], [*own.plan_sizes, own.count["rings"]]


@case(
    "geojson.rule", "Outer rings of a GeoJSON run counter-clockwise, holes clockwise.", "RFC 7946, 3.1.6", 0.0, "rings"
)
def _() -> Pair:
    import json

    import shapely

    hole = shapely.box(500_010, 5_300_010, 500_020, 5_300_020)
    areas = Areas.from_geometries(
        [shapely.box(500_000, 5_300_000, 500_050, 5_300_040) - hole], unit="m", crs="EPSG:32632"
    )

    def look(path: Path) -> Figures:
        geometry = json.loads(path.read_text())["features"][0]["geometry"]
        rings = geometry["coordinates"][0] if geometry["type"] == "MultiPolygon" else geometry["coordinates"]
        return [float(shapely.LinearRing([place[:2] for place in ring]).is_ccw) for ring in rings]

    return [1.0, 0.0], _written("a.geojson", areas, look)


@case("raster.rasterio", "A raster of another library's format, read.", "rasterio (GDAL), driver HFA", 1e-9, "m")
def _() -> Pair:
    import rasterio

    heights = np.arange(12.0).reshape(3, 4) / 7.0
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "a.img"
        place = rasterio.Affine(2.0, 0.0, 10.0, 0.0, -2.0, 60.0)
        with rasterio.open(
            path, "w", driver="HFA", width=4, height=3, count=1, dtype="float64", transform=place
        ) as file:
            file.write(heights, 1)
        own: Grid = read(path, unit="m", vertical_unit="m")
        return heights.ravel(), own.heights.ravel()


@case(
    "pcd.ascii",
    "Points of a PCD in text, read.",
    "the PCD format's own description, version 0.7 (from memory)",
    0.0,
    "m",
)
def _() -> Pair:
    head = "VERSION .7\nFIELDS x y z\nSIZE 8 8 8\nTYPE F F F\nCOUNT 1 1 1\nWIDTH 2\nHEIGHT 1\nVIEWPOINT 0 0 0 1 0 0 0\nPOINTS 2\nDATA ascii\n"
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "a.pcd"
        path.write_text(head + "1.5 2.25 3.125\n4 5 6\n")
        own = read(path, unit="m", vertical_unit="m")
    return [1.5, 2.25, 3.125, 4.0, 5.0, 6.0], own.xyz.ravel()


@case(
    "text.digits",
    "Seventeen digits of a text file are the doubles nearest to them.",
    "IEEE 754, Python's own reading of the same digits",
    0.0,
)
def _() -> Pair:
    words = ["431234.12345678901", "887654.98765432109", "123.45678901234567"]
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "a.csv"
        path.write_text("E,N,Z\n" + "\n".join([",".join(words)] * 3) + "\n")
        own = read(path, unit="m", vertical_unit="m")
    return [float(word) for word in words], own.xyz[0]


@case(
    "crs.geographic",
    "What goes into KML comes back at the same place through longitude and latitude.",
    "PROJ, inverse of itself",
    1e-3,
    "m",
    covers="kml reproject",
)
def _() -> Pair:
    points = _moved(plane_points(step=50.0))
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "a.kml"
        write(path, points)
        own = read(path).reproject(crs="EPSG:32632")
    return points.xyz[:, :2].ravel(), own.xyz[:, :2].ravel()
