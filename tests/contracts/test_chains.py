"""Which steps a program puts in by itself, for everything that comes in and every format that goes out, and what each keeps."""

import dataclasses

import numpy as np
import pytest
import shapely

from examples import examples
from vastgrid import catalog
from vastgrid.base.progress import Silent
from vastgrid.data.line_roles import BOUNDARY, BREAKLINE, OUTER, VOID, WALL
from vastgrid.data.linework import from_lines
from vastgrid.data.tin import areas
from vastgrid.execution.steps import convert
from vastgrid.measures.heights import heights
from vastgrid.terrain.tin.merging import outline

WRITERS = [each for each in catalog.FORMATS if each.write and each.verify is None]
# All that are put in, with what each keeps. Whoever adds one says here what it keeps.
KEEPS = {
    ("tin", "grid"): "the ground at the centres of cells; the loss is measured",
    ("tin", "points"): "every vertex",
    ("points", "tin"): "every point",
    ("points", "tin", "grid"): "the ground between the points; the loss is measured",
    ("grid", "facets"): "every cell",
    ("grid", "points"): "every cell",
    ("contours", "tin"): "every vertex, lines as edges",
    ("contours", "tin", "grid"): "the ground between the lines; the loss is measured",
    ("contours", "points"): "every vertex",
    ("lines", "tin"): "every vertex, lines as edges",
    ("lines", "tin", "grid"): "the ground between the lines; the loss is measured",
    ("lines", "points"): "every vertex",
    ("areas", "records"): "each rim with its name and size, holes as plan features; other attributes are told",
    ("areas", "lines"): "every rim, with the holes' own",
    ("areas", "lines", "tin"): "every vertex that has a height, rims as edges",
    ("areas", "lines", "tin", "grid"): "the ground between the rims; the loss is measured",
    ("areas", "lines", "points"): "every vertex that has a height",
    ("mesh", "upper"): "its upper side; what lies below is said",
    ("mesh", "upper", "grid"): "its upper side at the centres of cells",
    ("mesh", "points"): "every vertex",
    ("survey", "courses"): "every line",
    ("survey", "courses", "tin"): "every vertex, lines as edges",
    ("survey", "courses", "tin", "grid"): "the ground between the lines",
    ("survey", "courses", "points"): "every vertex",
}


@pytest.mark.parametrize("target", WRITERS, ids=lambda each: each.id)
def test_no_chain_is_put_in_that_nobody_thought_about(target):
    for name, data in examples().items():
        steps = catalog.chain([data], target.carries.kinds, target.title)
        assert not steps or (name, *(each.id for each in steps)) in KEEPS


@pytest.mark.parametrize(
    "steps",
    [each for each in KEEPS if KEEPS[each].startswith("every") and each[0] not in ("survey", "areas")],
    ids=" > ".join,
)
def test_every_vertex_is_kept(steps):
    made = start = examples()[steps[0]]
    for own in steps[1:]:
        made = convert(catalog.conversion_named(own), [made], catalog.conversion_named(own).params(), Silent())[
            0
        ].dataset
    before, after = start.coordinates(), made.coordinates()
    known = before[np.isfinite(before).all(axis=1)]
    near = shapely.STRtree(shapely.points(after)).query_nearest(shapely.points(known), return_distance=True)[1]
    assert near.max() < 1e-9


def surface():
    """A surface by faces that says what it was built from: a wall, an outer boundary that is not its hull, a void."""
    tin = examples()["tin"]
    (west, east), (south, north) = tin.extent().east, tin.extent().north
    middle, half = np.array([(west + east) / 2, (south + north) / 2]), min(east - west, north - south) / 2

    def ring(size):
        corners = np.array([(-1, -1), (1, -1), (1, 1), (-1, 1), (-1, -1)]) * size * half + middle
        return np.column_stack((corners, np.full(5, np.nan)))

    limits = [ring(0.8), ring(0.2)]
    foot = np.array([(*middle - 0.5 * half, 10.0), (*middle + (-0.5 * half, 0.5 * half), 10.0)])
    wall = np.concatenate((foot, foot + (0, 0, 4.0)))
    return dataclasses.replace(
        tin,
        source_points=tin.vertices,
        break_vertices=wall,
        break_offsets=np.array([0, 2, 4]),
        break_kinds=(WALL, WALL),
        limit=np.concatenate(limits),
        limit_offsets=np.array([0, 5, 10]),
        limit_roles=(OUTER, VOID),
    ), 4.0 * half**2 * (0.64 - 0.04)


def test_a_surface_is_built_anew_from_what_it_says_it_was_built_from():
    tin, area = surface()
    builder = catalog.builder()
    result, params = convert(builder, [tin], builder.params(), Silent())
    assert areas(result.dataset).sum() == pytest.approx(area, rel=1e-9)
    assert (params.boundary, params.voids, params.walls) == ("outer", "void", "wall")
    # Both heights of the wall are there, and the loss is that against the surface which came in.
    assert {10.0, 14.0} <= set(result.dataset.vertices[:, 2].tolist())
    assert result.loss is not None and result.loss.largest > 1.0
    assert any(finding.code == "built-anew" for finding in result.findings)


def test_faces_without_source_keep_their_breaklines_and_their_rim():
    tin, area = surface()
    builder = catalog.builder()
    made = convert(builder, [tin], builder.params(), Silent())[0].dataset.without_source()
    again, params = convert(builder, [made], builder.params(), Silent())
    assert outline(again.dataset).symmetric_difference(outline(made)).area < 1e-6
    following = np.roll(made.triangles, -1, axis=1)
    middles = (made.vertices[made.triangles[made.constrained]] + made.vertices[following[made.constrained]]) / 2.0
    assert len(middles) and heights(again.dataset, middles[:, :2]) == pytest.approx(middles[:, 2], abs=1e-9)
    assert params.boundary == "outer" and areas(again.dataset).sum() == pytest.approx(area, rel=1e-9)
    # Two pieces apart have no one boundary: their rims are kept all the same.
    keep = np.abs(made.corners()[:, :, 0].mean(axis=1) - np.median(made.vertices[:, 0])) > 0.3 * np.ptp(
        made.vertices[:, 0]
    )
    apart = dataclasses.replace(
        made, triangles=made.triangles[keep], neighbours=None, constrained=made.constrained[keep]
    )
    both = convert(builder, [apart], builder.params(), Silent())[0].dataset
    assert areas(both).sum() == pytest.approx(areas(apart).sum(), rel=1e-9)


def test_points_come_before_surfaces_that_are_built_already():
    lines = from_lines("edges", examples()["tin"].frame, [np.array([(0, 0, 1), (9, 0, 2.0)])], ["EDGE"])
    assert BREAKLINE not in lines.attributes and BOUNDARY not in lines.attributes
    assert catalog.chain([examples()["points"], examples()["tin"]], catalog.builder().takes, "TIN") == ()
