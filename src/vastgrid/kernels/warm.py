"""Compiles every kernel once, so that the first real use does not wait. Run at set-up and in the background."""

from __future__ import annotations

import numpy as np

from vastgrid.base.progress import Silent
from vastgrid.kernels import (
    clouds,
    isolines,
    locate,
    raster,
    shade,
    tags,
    textrows,
    topology,
    triangulate,
    vertexwise,
    xmlruns,
)


def warm() -> None:
    """Run each kernel on a handful of points."""
    rng = np.random.default_rng(1)
    xyz = rng.random((60, 3)) * 100.0
    group, first = topology.group_places(xyz[:, 0].copy(), xyz[:, 1].copy(), 0.001)
    topology.heights_of_places(group, xyz[:, 2].copy(), len(first), 0)
    made = triangulate.triangulate(xyz[:, :2], np.array([[0, 1]]), Silent())
    vertices = np.column_stack((made.xy, np.resize(xyz[:, 2], len(made.xy))))
    for writeable in (True, False):
        # Datasets hold read-only arrays, which are another type to the compiler.
        triangles, points = made.triangles.copy(), vertices.copy()
        neighbours = topology.neighbours_of(triangles)
        for array in (triangles, points, neighbours):
            array.flags.writeable = writeable
        isolines.isolines(points, triangles, neighbours, np.array([40.0, 60.0]))
        index = locate.buckets(points, triangles)
        locate.heights_at(xyz[:, :2].copy(), points, triangles, index)
        locate.cuts_along(xyz[:2, :2], points, triangles, index)
        locate.largest_edge_gap(triangles[:, :2].copy(), points, points, triangles, index)
        heights = raster.raster_heights(points, triangles, (0.0, 100.0), (5.0, 5.0), (20, 20))
        topology.wind(points, triangles.copy())
        topology.plan_areas(points, triangles)
        topology.regions(neighbours, made.constrained)
        image, colours = np.zeros((20, 20, 4), np.uint8), np.zeros((256, 3), np.uint8)
        light = shade.hillshade(heights, 5.0, 5.0, 315.0, 45.0)
        shade.tint(heights, light, colours, 0.0, 100.0, image, 1.0)
        shade.slope_aspect(heights, 5.0, 5.0)
        raster.raster_faces(points, triangles, (0.0, 100.0), (5.0, 5.0), (20, 20), points[: len(triangles), 2].copy())
        offsets = np.array([0, 30, 60])
        offsets.flags.writeable = colours.flags.writeable = writeable
        shade.draw_lines(image, points, offsets, 0.0, 100.0, 5.0, colours[0], 0.5, 1.5)
        shade.draw_coloured_lines(image, points, offsets, 0.0, 100.0, 5.0, colours, 0.5, 1.5)
        chosen = made.constrained.copy()
        chosen.flags.writeable = writeable
        shade.draw_edges(image, points, triangles, chosen, 0.0, 100.0, 5.0, colours[0], 0.5, 1.0, 4.0)
        shade.draw_dots(image, points, 0.0, 100.0, 5.0, np.zeros((len(points), 3), np.uint8), 0.5, 1)
        vertexwise.around(points, triangles)
        vertexwise.groups(neighbours, np.ones(len(triangles), np.bool_))
        shade.draw_points(image, points, 0.0, 100.0, 5.0, colours, 0.0, 100.0, 0.5, 1)
    raster.bilinear(heights, np.array([3.0]), np.array([3.0]))
    raster.lattice_triangles(heights)
    topology.inside_polygon(xyz[:, 0].copy(), xyz[:, 1].copy(), np.ascontiguousarray(xyz[:4, :2]))
    list(textrows.RowTemplate("{} {} {}\n", (0, 3, textrows.HEX)).blocks((np.arange(3), xyz[:3, 0], np.arange(3))))
    data = np.frombuffer(b"1,2\n", np.uint8)
    _, places, _, _ = textrows.split_fields(
        data, textrows.line_starts(data), 0, 44, 34, 35, np.array([0]), np.array([True]), False, False
    )
    textrows.gather_text(data, places[:, 0], 4)
    found = tags.scan_tags(data)
    tags.tag_numbers(data, *found[:3])
    tags.tag_hashes(data, found[1], found[2])
    stored = np.zeros(3, np.dtype([("X", "i4"), ("Y", "i4"), ("Z", "i4"), ("rest", "u1", 9)]))
    clouds.place_points(stored["X"], stored["Y"], stored["Z"], np.full(3, 0.01), np.zeros(3), np.zeros((3, 3)))
    xmlruns.read_run(data, 0, 80, 3, np.zeros((1, 3)), np.zeros(1, np.int64), np.zeros(1, np.bool_))


if __name__ == "__main__":
    warm()
