"""Compiles every kernel once, so that the first real use does not wait. Run at set-up and in the background."""

from __future__ import annotations

import numpy as np

from vastgrid.base.progress import Silent
from vastgrid.kernels.cells import affine, cellstats, clouds, ground, raster, thinning
from vastgrid.kernels.drawing import fills, shade, space, strokes
from vastgrid.kernels.lines import chains, gridlines, isolines, joining, labels, loops, nearest, smoothing
from vastgrid.kernels.text import tags, textrows, xmlruns
from vastgrid.kernels.triangles import (
    below,
    crossings,
    flats,
    greedy,
    lifting,
    locate,
    natural,
    overlay,
    planar,
    rims,
    surroundings,
    ties,
    topology,
    triangulate,
    vertexwise,
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
        surroundings.touching(points, triangles, 0.0, 0.0, 1.0, 1.0)
        isolines.isolines(points, triangles, neighbours, np.array([40.0, 60.0]))
        index = locate.buckets(points, triangles)
        locate.heights_at(xyz[:, :2].copy(), points, triangles, index)
        locate.cuts_along(xyz[:2, :2], points, triangles, index)
        locate.largest_edge_gap(triangles[:, :2].copy(), points, points, triangles, index)
        heights = raster.raster_heights(points, triangles, (0.0, 100.0), (5.0, 5.0), (20, 20))
        topology.wind(points, triangles.copy())
        locate.touched_by(xyz[:2, :2], points, triangles, index)
        locate.triangles_at(xyz[:, :2].copy(), points, triangles, index)
        topology.plan_areas(points, triangles)
        topology.regions(neighbours, made.constrained)
        _warm_pictures(points, triangles, made.constrained, heights, writeable=writeable)
        vertexwise.around(points, triangles)
        vertexwise.groups(neighbours, np.ones(len(triangles), np.bool_))
        _warm_making(xyz, points, triangles, neighbours)
    for writeable in (True, False):
        heights.flags.writeable = writeable
        raster.bilinear(heights, np.array([3.0]), np.array([3.0]))
        raster.lattice_triangles(heights)
        gridlines.grid_isolines(heights, 0.0, 0.0, 1.0, 1.0, np.array([40.0, 60.0]), 0, 0)
    # A turned or thinned surface has new vertices and the old triangles.
    raster.raster_heights(np.zeros((3, 3)), triangles[:0], (0.0, 100.0), (5.0, 5.0), (2, 2))
    raster.gap_sizes(np.zeros(3), np.zeros(3))
    fixed = np.zeros((2, 2))
    fixed.flags.writeable = False
    for one in (np.zeros((2, 2)), fixed):
        raster.largest_gap(np.zeros((2, 2)), one)
    crossings.crossings(xyz[:30], xyz[30:])
    crossings.on_segments(xyz, xyz[:30], xyz[30:], 0.001)
    topology.mend_flat(
        vertices,
        made.triangles.copy(),
        topology.neighbours_of(made.triangles),
        made.constrained.copy(),
        0.001,
        0.0,
        True,
    )
    topology.inside_polygon(xyz[:, 0].copy(), xyz[:, 1].copy(), np.ascontiguousarray(xyz[:4, :2]))
    list(textrows.RowTemplate("{} {} {}\n", (0, 3, textrows.HEX)).blocks((np.arange(3), xyz[:3, 0], np.arange(3))))
    data = np.frombuffer(b"1,2\n", np.uint8)
    _, places, _ = textrows.split_fields(
        data, textrows.line_starts(data), 0, 44, 34, 35, np.array([0]), np.array([True]), False, False
    )
    textrows.gather_text(data, places[:, 0], 4)
    found = tags.scan_tags(data)
    tags.tag_numbers(data, *found[:3])
    tags.with_plain_exponents(data.copy(), *found[:3])
    tags.tag_hashes(data, found[1], found[2])
    stored = np.zeros(3, np.dtype([("X", "i4"), ("Y", "i4"), ("Z", "i4"), ("rest", "u1", 9)]))
    clouds.place_points(stored["X"], stored["Y"], stored["Z"], np.full(3, 0.01), np.zeros(3), np.zeros((3, 3)))
    xmlruns.read_run(data, 0, 80, 3, np.zeros((1, 3)), np.zeros(1, np.int64), np.zeros(1, np.bool_))
    _warm_shaping(xyz, made)


def _warm_pictures(points, triangles, constrained, heights, *, writeable):
    """Compile what draws; scales are read-only, the colours of single things never are."""
    image, colours = np.zeros((20, 20, 4), np.uint8), np.zeros((256, 3), np.uint8)
    scale = colours.copy()
    scale.flags.writeable = False
    light = shade.hillshade(heights, 5.0, 5.0, 315.0, 45.0)
    shade.tint(heights, light, scale, 0.0, 100.0, image, 1.0)
    shade.slope_aspect(heights, 5.0, 5.0)
    raster.raster_faces(points, triangles, (0.0, 100.0), (5.0, 5.0), (20, 20), points[: len(triangles), 2].copy())
    plan = points[:, :2].copy()
    chosen, offsets = constrained.copy(), np.array([0, 30, 60])
    plan.flags.writeable = chosen.flags.writeable = writeable
    ink = colours[0].copy()
    ink.flags.writeable = False
    every = np.zeros((0, 3), np.bool_)
    for fixed in (True, False):
        offsets = offsets.copy()
        offsets.flags.writeable = not fixed
        for places in (points, plan):
            place = (0.0, 100.0, 5.0)
            strokes.draw_lines(image, places, offsets, *place, colours[0], 0.5, 1.5)
            strokes.draw_coloured_lines(image, places, offsets, *place, colours, 0.5, 1.5)
            nearest.on_places(places, 0.0, 0.0, 9.0)
            nearest.on_lines(places, offsets, 0.0, 0.0, 9.0)
    area = [
        np.array([[0.0, 0.0, 0.0], [9.0, 0.0, 0.0], [0.0, 9.0, 0.0], [0.0, 0.0, 0.0]]),
        np.array([0, 4]),
        np.array([0, 1]),
    ]
    for array in area:
        array.flags.writeable = False
    tone = np.full((1, 3), 9, np.uint8)
    tone.flags.writeable = False
    fills.draw_areas(image, *area, 0.0, 100.0, 5.0, tone, 0.5)
    for flags in (chosen, every):
        strokes.draw_edges(image, points, triangles, flags, *place, ink, 0.5, 1.0, 4.0)
    strokes.draw_points(image, points, *place, scale, 0.0, 100.0, 0.5, 1)
    strokes.draw_points(image, points.astype(np.float32), *place, scale, 0.0, 100.0, 0.5, 1)
    strokes.draw_dots(image, points, *place, np.zeros((len(points), 3), np.uint8), 0.5, 1)
    _warm_space(image, points, triangles, scale)


def _warm_space(image, points, triangles, scale):
    eye, depth = np.zeros((len(points), 3), np.float32), np.zeros((20, 20), np.float32)
    space.project(points, np.zeros(3), np.eye(3, 4), 1.0, eye)
    values, light, cut, rows = points[:, 2].copy(), np.array((0.0, 0.0, 1.0, 0.7)), np.zeros(4), np.array((0, 20))
    for per_face in (False, True):
        own = np.zeros(len(triangles)) if per_face else values
        space.draw_faces(
            eye,
            points,
            triangles,
            own,
            per_face,
            scale,
            0.0,
            1.0,
            light,
            1.0,
            0.1,
            9.0,
            1.0,
            cut,
            image,
            depth,
            depth.copy(),
            rows,
        )
    colours = np.zeros((len(points), 3), np.uint8)
    space.draw_points(eye, colours, 0.1, 9.0, 1, 1.0, image, depth)
    space.draw_wires(eye, triangles, 0.1, 9.0, 3.0, 1.0, 1.0, 1.0, 0.5, image, depth)
    for fixed in (True, False):
        offsets = np.array((0, 2))
        offsets.flags.writeable = not fixed
        space.draw_lines(eye, offsets, colours, 0.1, 9.0, 1, 1.0, image, depth)


def _warm_shaping(xyz, made):
    """What hands, tables of tolerances, seams and the ground filter use."""
    count = len(made.triangles)
    z = np.resize(xyz[:, 2], len(made.xy))
    shown = np.ones(count, np.bool_)
    source = np.arange(len(made.xy))
    state = greedy.started(made.xy, z, made.triangles, made.neighbours, made.constrained, shown, source)
    places = np.concatenate((made.xy, made.xy[:30] + 1.5))
    cloud = greedy.Cloud(places, np.resize(z, len(places)), 1e-9)
    state.look_at_points(cloud, np.arange(len(made.xy), len(places)), 0.0)
    state.put_points(cloud, 0.0, 10**9)
    state.put_these(cloud, np.zeros(0, np.int64), 0.0)
    state.look_again(cloud, np.arange(3, dtype=np.int32), 0.0)
    state.keep_edges(np.array([[0, 1]]), 2)
    heights = np.resize(z, (8, 8)).copy()
    cells = np.array([(0.0, 0.0), (7.0, 0.0), (7.0, -7.0), (0.0, -7.0)])
    lattice = triangulate.triangulate(cells, np.zeros((0, 2), np.int64), Silent())
    corner = np.array([0, 7, 63, 56])
    flags = np.ones(len(lattice.triangles), np.bool_)
    grid = greedy.started(
        cells, heights.ravel()[corner], lattice.triangles, lattice.neighbours, lattice.constrained, flags, corner
    )
    grid.look_at_cells(heights, 0.0)
    grid.put_cells(heights, 0.0, 10**9)
    chains.straightened(made.xy, np.array([[0, 1], [1, 2]]), 1e-9)
    low, high = chains.boxes_of(made.xy, made.triangles, count)
    sums = chains.marked_tiles(low, high, np.arange(2), 0.0, 0.0, 10.0, 16)
    chains.on_tiles(low, high, sums, 0.0, 0.0, 10.0, 16)
    _warm_hands(made)
    xy = np.ascontiguousarray(made.xy)
    bits = made.constrained.astype(np.uint8)
    flat = flats.flat_triangles(z, made.triangles, 1e-9)
    flats.spine(xy, z, made.triangles, made.neighbours, bits, flat)
    rims.worn_rim(xy, made.triangles, made.neighbours, made.constrained, np.full(count, np.inf), 0.1)
    solid = np.column_stack((xy, z))
    index = locate.buckets(solid, made.triangles)
    overlay.level_with(solid, made.triangles, solid, made.triangles, index, xy.min(axis=0), xy.max(axis=0))
    _warm_overlay(solid, made.triangles)
    cell, number = thinning.cells_of(xyz, 20.0)
    thinning.chosen_of_cells(xyz, cell, number, 20.0, thinning.LOWEST)
    thinning.means_of_cells(xyz, cell, number)
    lowest = ground.lowest_of_cells(xyz, np.ones(len(xyz), np.bool_), 20.0, -5, 0, 5, 5)
    floor = ground.filled(np.where(lowest < 0, np.nan, xyz[lowest, 2]), -5, 0, 2)
    ground.at_middles(xyz, lowest, floor, 20.0, -5, 0)
    ground.above_ground(xyz, floor, 20.0, -5, 0)


def _warm_overlay(solid, triangles):
    """What volumes and differences use: triangles of datasets are read-only, places near the origin are not."""
    fixed = triangles.copy()
    fixed.flags.writeable = False
    index = overlay.packed(locate.buckets(solid, fixed))
    none = np.zeros((0, 2)), np.zeros((0, 3), np.int32), np.zeros(0, np.int64)
    part = np.zeros(len(triangles), np.int64)
    region = np.ascontiguousarray(solid[:, :2]), triangles.copy(), part
    for places in (none, region):
        overlay.prisms(solid, fixed, solid, fixed, index, *places, index, 1, np.zeros(1), 0.0, 0, 2)
    overlay.pieces(solid, fixed, solid, fixed, index, 0, 2)


def _warm_making(xyz, points, triangles, neighbours):
    """What grids, smoothed contours, labels and bands use."""
    natural.natural_heights(points, triangles, neighbours, (0.0, 100.0), (20.0, 20.0), (5, 5))
    below.area_below(np.sort(points[triangles, 2], axis=1), np.ones(len(triangles)), np.array([40.0]))
    number, value = np.zeros((5, 5), np.int64), np.full((5, 5), np.nan)
    own, heights = xyz.copy(), value.copy()
    own.flags.writeable = heights.flags.writeable = points.flags.writeable
    keep = np.zeros(0, np.bool_)
    cellstats.gather(own, keep, 0.0, 100.0, 20.0, 20.0, 0, 0, 5, 5, number, value, cellstats.MEAN)
    cellstats.put_by_cell(own, keep, 0.0, 100.0, 20.0, 20.0, 0, 0, 5, 5, 5, np.zeros(25, np.int64), np.zeros(100))
    raster.gaps_of_points(own, keep, heights, 0.0, 100.0, 20.0, 20.0, np.zeros(len(own), np.float32))
    sizes, box = np.zeros(9, np.int64), (0.0, 0.0, 100.0, 100.0)
    raster.gaps_in_box(own, keep, heights, 0.0, 100.0, 20.0, 20.0, *box, 1e-6, 1.01, sizes)
    for solid in (False, True):
        affine.through(own, np.zeros(3), np.eye(3), np.zeros(3), solid)
    order = clouds.sorted_by_bucket(own, 0.0, 0.0, 50.0, 1 << 24)[1]
    clouds.rows_in_box(own, order.astype(np.int32), sizes[:1], sizes[:1] + len(own), *box)
    corner = np.array([(0.0, 0.0), (1.0, 0.0), (0.0, 1.0)])
    one, none = np.array([(0, 1, 2)], np.int32), np.full((1, 3), -1, np.int32)
    ties.settle_ties(corner, one, none, np.zeros((1, 3), np.bool_))
    kept = one.copy()
    kept.flags.writeable = False
    for own_triangles in (one, kept):
        ties.circle_radii(corner, own_triangles)
    seams = np.zeros(0), np.zeros(0)
    joining.joined_lines(own[:, :2].copy(), np.array([0, 2, 4]), np.zeros(2, np.int64), seams)
    cellstats.joined(number, value, number.copy(), value.copy(), cellstats.MEAN)
    cellstats.medians(np.zeros(4), np.array([0, 2, 4]), np.zeros(2))
    cellstats.weighted(np.zeros(3), np.array([[0, 1]]), np.array([[1.0, 2.0]]))
    turn = np.linspace(0.0, 2.0 * np.pi, 25)
    ring = np.column_stack((np.cos(turn), np.sin(turn))) * 30.0
    ring[-1] = ring[0]
    offsets, closed = np.array([0, 25]), np.ones(1, np.bool_)
    plan, starts, _ = smoothing.densified(ring, offsets, 2.0)
    smoothing.mean_along(plan, starts, closed, 3.0)
    smoothing.lowered(np.ones(len(plan)), np.zeros(len(plan), np.bool_), starts, closed, 0.5, 3)
    smoothing.crossed(ring[:-1], ring[1:], ring[:2] + 1.0, ring[1:3] + 1.0)
    smoothing.swept(
        plan, plan + 0.1, starts, ring[:3].copy(), np.full(3, -1), np.array([0, 3]), -40.0, -40.0, 90.0, 1, 1
    )
    smoothing.weeded(plan, starts, closed, 0.1)
    around = np.array([0, 1, 2, 3])
    loops.loops(around, np.roll(around, -1), ring[:4, :2].copy())
    along = np.concatenate(([0.0], np.cumsum(np.hypot(*np.diff(ring, axis=0).T))))
    labels.placed_labels(
        ring, offsets, along, np.array([8.0]), 2.0, False, False, np.array([0]), np.array([20.0]), np.array([9.0]),
        np.zeros(1, np.bool_), np.zeros((0, 2)), np.zeros((0, 1), np.bool_), 1.0,
    )  # fmt: skip
    for fixed in (False, True):
        own = ring.copy()
        begin = offsets.copy()
        own.flags.writeable = begin.flags.writeable = not fixed
        labels.without_stretches(own, begin, along, np.array([0]), np.array([10.0]), np.array([20.0]))


def _warm_hands(made):
    """One change of each kind to a triangulation, in the types that hands use."""
    count, vertices = len(made.triangles), len(made.xy)
    room = count + 64
    xy = np.zeros((vertices + 16, 2))
    xy[:vertices] = made.xy
    tri, nbr = np.zeros((room, 3), np.int32), np.zeros((room, 3), np.int32)
    flag, part, at = np.zeros((room, 3), np.uint8), np.ones(room, np.uint8) * 3, np.zeros(len(xy), np.int32)
    tri[:count], nbr[:count] = made.triangles, made.neighbours
    size = np.array([vertices, count])
    planar.first_triangles(tri, count, at)
    ring, stack, gone, out = (
        np.zeros(4096, np.int32),
        np.zeros((4096, 2), np.int64),
        np.zeros(2, np.int64),
        np.zeros(3, np.int64),
    )
    middle = made.xy[made.triangles[count // 2]].mean(axis=0)
    x, y = float(middle[0]), float(middle[1])
    t, _, _ = planar.locate(xy, tri[:count], nbr, x, y, 0)
    xy[vertices] = middle
    planar.split_triangle(xy, tri, nbr, flag, part, at, size, t, vertices)
    planar.legalise_around(xy, tri, nbr, flag, part, at, vertices, stack, ring)
    planar.keep_edge(xy, tri, nbr, flag, part, at, vertices, int(tri[0, 0]), 1, out)
    found, k = planar.find_edge(tri, nbr, at, vertices, int(tri[at[vertices], 0]))
    planar.mark(tri, nbr, flag, max(found, 0), k, 1)
    planar.clear_edge(tri, nbr, flag, max(found, 0), k, 255)
    lifting.lift_out(xy, tri, nbr, flag, part, at, vertices, ring, gone)
    surroundings.crossed(xy, tri, nbr, x, y, x + 1.0, y + 1.0, t, ring, np.zeros(room, np.int32), 1)
    surroundings.holding(xy, tri, part, 1, x, y)
    ring_ = np.array([(x, y), (x + 9.0, y), (x, y + 9.0), (x, y)])
    surroundings.vertices_within(xy, vertices, tri, part, count, 3, ring_)
    surroundings.middles_within(xy, tri, part, count, 0, ring_)
    surroundings.drawn_on(tri, flag, part, count, 1, vertices, 1)
    surroundings.nearest_edge(xy, tri, nbr, t, x, y)
    surroundings.vertices_near(tri, nbr, t, ring)
    surroundings.settled(tri, nbr[:count], flag[:count], part, count, 3, np.arange(len(xy), dtype=np.int32))


if __name__ == "__main__":
    warm()
