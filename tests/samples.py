"""A file of every readable format, made by a library or by hand, never by our own writers where another way exists."""

from __future__ import annotations

import shutil
from pathlib import Path

import numpy as np

from builders import DATA, HANDMADE

SIDE = 12


def lattice() -> tuple[np.ndarray, np.ndarray]:
    """A rolling height field: vertices (n, 3) and triangles (m, 3)."""
    x, y = np.meshgrid(np.arange(SIDE) * 5.0, np.arange(SIDE) * 4.0)
    z = 100.0 + 3.0 * np.sin(x / 20.0) + 2.0 * np.cos(y / 15.0)
    number = np.arange(SIDE * SIDE).reshape(SIDE, SIDE)
    a, b, c, d = number[:-1, :-1], number[:-1, 1:], number[1:, 1:], number[1:, :-1]
    first = np.column_stack((a.ravel(), b.ravel(), c.ravel()))
    second = np.column_stack((a.ravel(), c.ravel(), d.ravel()))
    return np.column_stack((x.ravel(), y.ravel(), z.ravel())), np.concatenate((first, second))


def mesh(path: Path, **options: object) -> Path:
    """The height field by trimesh."""
    import trimesh

    trimesh.Trimesh(*lattice(), process=False).export(path, **options)
    return path


def e57(path: Path, scans: int = 2) -> Path:
    """Scans with poses by pye57."""
    import pye57

    vertices = lattice()[0]
    file = pye57.E57(str(path), mode="w")
    for k in range(scans):
        data = {
            "cartesianX": vertices[:, 0],
            "cartesianY": vertices[:, 1],
            "cartesianZ": vertices[:, 2],
            "intensity": np.linspace(0.0, 1.0, len(vertices)),
            "colorRed": np.full(len(vertices), 10, np.uint8),
            "colorGreen": np.full(len(vertices), 20, np.uint8),
            "colorBlue": np.full(len(vertices), 30, np.uint8),
        }
        turn = np.array([np.cos(k * 0.3), 0.0, 0.0, np.sin(k * 0.3)])
        file.write_scan_raw(data, name=f"station {k}", rotation=turn, translation=np.array([1000.0 * k, 2000.0, 50.0]))
    file.close()
    return path


def variable_chunks(path: Path) -> Path:
    """A LAZ whose chunks vary in size and that begins with a COPC record, as COPC files do (copc.io, version 1.0)."""
    import laspy
    import lazrs
    from laspy.vlrs.known import LasZipVlr
    from laspy.vlrs.vlr import VLR

    header = laspy.LasHeader(point_format=6, version="1.4")
    header.scales, header.offsets = np.full(3, 0.001), np.array([431_000.0, 887_000.0, 0.0])
    rng = np.random.default_rng(1)
    points = laspy.ScaleAwarePointRecord.zeros(5000, header=header)
    points.x, points.y = 431_000.0 + rng.random(5000) * 100.0, 887_000.0 + rng.random(5000) * 80.0
    points.z = 200.0 + rng.random(5000) * 9.0
    points.classification = rng.integers(1, 6, 5000)
    header.grow(points)
    packing = lazrs.LazVlr.new_for_compression(6, 0, True)
    header.vlrs.append(VLR("copc", 1, "copc info", bytes(160)))
    header.vlrs.append(LasZipVlr(packing.record_data()))
    header.are_points_compressed = True
    with path.open("wb") as file:
        header.write_to(file)
        packer = lazrs.LasZipCompressor(file, packing)
        at = 0
        for size in (1200, 300, 2500, 1000):
            packer.compress_many(np.frombuffer(points.array[at : at + size].tobytes(), np.uint8))
            packer.finish_current_chunk()
            at += size
        packer.done()
    return path


def vector(path: Path, driver: str) -> Path:
    """Flat contours whose height stands in an attribute, by pyogrio; one stands at an odd height."""
    import pyogrio
    import shapely

    lines = [
        shapely.LineString(np.column_stack((np.linspace(5e5, 5e5 + 100.0, 20), np.full(20, 5.4e6 + 10.0 * k))))
        for k in range(12)
    ]
    levels = 200.0 + np.arange(12.0)
    levels[5] = 204.3
    names = np.array([f"Blatt {k % 2}" for k in range(12)], dtype=object)
    pyogrio.raw.write(
        path,
        shapely.to_wkb(np.array(lines)),
        [levels, names],
        ["ELEV", "SHEET"],
        driver=driver,
        geometry_type="LineString",
        crs="EPSG:32632",
    )
    return path


def raster(path: Path, driver: str, transform: object = None, **options: object) -> Path:
    """The height field's heights as a raster, by rasterio."""
    import rasterio

    heights = lattice()[0][:, 2].reshape(SIDE, SIDE).astype(np.float32)
    heights[2, 3] = -9999.0
    place = transform or rasterio.Affine(10.0, 0.0, 5e5, 0.0, -10.0, 5.4e6)
    with rasterio.open(
        path,
        "w",
        driver=driver,
        width=SIDE,
        height=SIDE,
        count=1,
        dtype="float32",
        nodata=-9999.0,
        crs="EPSG:32632",
        transform=place,
        **options,
    ) as file:
        file.write(heights, 1)
    return path


def drawing(path: Path, version: str = "R2010", form: str = "asc") -> Path:
    """A drawing with everything that terrain can hide in, by ezdxf."""
    import ezdxf

    document = ezdxf.new(version, setup=True)
    document.header["$INSUNITS"] = 6
    model = document.modelspace()
    for name, colour in (("KERB", 3), ("SPOT", 1), ("CONT", 5), ("FRAME", 8), ("SITE_LIMIT", 2)):
        document.layers.add(name, color=colour)
    tree = document.blocks.new("TREE")
    tree.add_point((0, 0, 0))
    tree.add_line((0, 0, 0), (1, 0, 1))
    clump = document.blocks.new("CLUMP")
    clump.add_blockref("TREE", (5, 0, 0), dxfattribs={"rotation": 90, "xscale": 2, "yscale": 2, "zscale": 2})
    model.add_blockref("CLUMP", (100, 200, 50), dxfattribs={"rotation": 90, "layer": "KERB"})
    model.add_arc((0, 0, 10), 50, 0, 90, dxfattribs={"layer": "KERB"})
    for k in range(12):
        place = {"insert": (k * 10, 5), "layer": "SPOT"}
        model.add_text(f"{231.4 + k:.2f}", dxfattribs=place)
    for k in range(8):
        if version == "R12":
            model.add_polyline3d(
                [(0, k * 10, 200 + k / 2), (100, k * 10 + 3, 200 + k / 2)], dxfattribs={"layer": "CONT"}
            )
        else:
            own = {"elevation": 200 + k * 0.5, "layer": "CONT"}
            model.add_lwpolyline([(0, k * 10), (100, k * 10 + 3)], dxfattribs=own)
            if k == 0:
                model.add_spline([(0, 0, 1), (10, 5, 2), (20, 0, 3)], dxfattribs={"layer": "KERB"})
                grown = model.add_mesh(dxfattribs={"layer": "GROUND"})
                with grown.edit_data() as data:
                    data.vertices = [(0, 0, 0), (10, 0, 1), (10, 10, 2), (0, 10, 1)]
                    data.faces = [[0, 1, 2, 3]]
    model.add_3dface([(0, 0, 5), (10, 0, 5), (10, 10, 6), (0, 10, 6)], dxfattribs={"layer": "FACES"})
    document.saveas(path, fmt=form)
    return path


def sample(own: str, folder: Path) -> Path:
    """Return a file of a format, by the format's id."""
    made = {
        "asciigrid": lambda: raster(folder / "a.asc", "AAIGrid"),
        "bil": lambda: raster(folder / "a.bil", "EHdr"),
        "cityjson": lambda: HANDMADE / "relief.city.json",
        "dxf": lambda: drawing(folder / "a.dxf"),
        "e57": lambda: e57(folder / "a.e57"),
        "flatgeobuf": lambda: vector(folder / "a.fgb", "FlatGeobuf"),
        "floatgrid": lambda: _floats(folder / "a.flt"),
        "geojson": lambda: HANDMADE / "contours.geojson",
        "geopackage": lambda: vector(folder / "a.gpkg", "GPKG"),
        "geotiff": lambda: raster(folder / "a.tif", "GTiff"),
        "glb": lambda: mesh(folder / "a.glb"),
        "gpx": lambda: HANDMADE / "places.gpx",
        "ifc": lambda: HANDMADE / "site.ifc",
        "kml": lambda: HANDMADE / "places.kml",
        "landxml": lambda: HANDMADE / "road.xml",
        "copc": lambda: variable_chunks(folder / "a.copc.laz"),
        "las": lambda: DATA / "simple.laz",
        "obj": lambda: HANDMADE / "step.obj",
        "off": lambda: HANDMADE / "slab.off",
        "pcd": lambda: DATA / "binary_compressed.pcd",
        "ply": lambda: mesh(folder / "a.ply"),
        "raster": lambda: raster(folder / "a.img", "HFA"),
        "scene": lambda: _scene(folder / "a.html"),
        "shapefile": lambda: vector(folder / "a.shp", "ESRI Shapefile"),
        "stl": lambda: mesh(folder / "a.stl"),
        "text": lambda: _text(folder / "a.csv"),
        "3mf": lambda: mesh(folder / "a.3mf"),
    }[own]()
    if made.parent != folder:
        made = Path(shutil.copy(made, folder / made.name))
    return made


def _scene(path: Path) -> Path:
    """The height field as a page: nobody else makes such."""
    from vastgrid.base.progress import Silent
    from vastgrid.data.tin import Tin
    from vastgrid.formats import webscene

    vertices, triangles = lattice()
    webscene.write(
        [Tin(name="ground", vertices=vertices, triangles=triangles)], path, webscene.SceneWriteParams(), Silent()
    )
    return path


def _floats(path: Path) -> Path:
    """The height field as a float raster: bytes and a header, by hand."""
    lattice()[0][:, 2].reshape(SIDE, SIDE).astype(">f4").tofile(path)
    head = f"ncols {SIDE}\nnrows {SIDE}\nxllcenter 500005\nyllcenter 5399505\ncellsize 10\nNODATA_value -9999\n"
    path.with_suffix(".hdr").write_text(head + "byteorder MSBFIRST\n")
    return path


def _text(path: Path) -> Path:
    rows = [f"{k},{5.4e6 + y:.3f},{5e5 + x:.3f},{z:.3f},GL" for k, (x, y, z) in enumerate(lattice()[0].tolist())]
    path.write_text("\n".join(["Point,Northing [m],Easting [m],Elevation [m],Code", *rows]) + "\n")
    return path
