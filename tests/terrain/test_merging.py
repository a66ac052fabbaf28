"""Surfaces laid over each other, clipped and joined: shared edges, no gap, no overlap, steps kept or blended."""

import numpy as np
import pytest
import shapely

from builders import METRES, ORIGIN, ground, scattered, sound
from vastgrid import catalog
from vastgrid.base.errors import CallError
from vastgrid.base.progress import Silent
from vastgrid.conversions.surfaces import tin as building
from vastgrid.data.grid import Grid
from vastgrid.data.linework import from_lines
from vastgrid.data.pointset import PointSet
from vastgrid.data.tin import Tin
from vastgrid.declarations.conversion import Inputs
from vastgrid.execution.steps import convert
from vastgrid.measures.heights import heights
from vastgrid.params import declare
from vastgrid.terrain.tin.merging import outline

E, N = ORIGIN


def pad(z=240.0, size=40.0, at=(60.0, 50.0), slope=0.0):
    rng = np.random.default_rng(4)
    inner = rng.random((60, 2)) * size
    corners = np.array([(0, 0), (size, 0), (size, size), (0, size)], float)
    xy = np.concatenate((corners, inner)) + at + ORIGIN
    points = PointSet(name="Pad", frame=METRES, xyz=np.column_stack((xy, z + slope * (xy[:, 0] - E))))
    return building.run([points], building.TinParams(), Silent()).dataset.renamed("Pad")


def made(name, inputs, **words):
    conversion = catalog.conversion_named(name)
    result, params = convert(conversion, inputs, declare.build(conversion.params, words), Silent())
    roles = conversion.assigned(inputs)
    names = [(role, each.name) for role, each in zip(roles, inputs, strict=True)]
    return result, declare.plain(conversion.sentence(params, names))


def at(tin, *places):
    return heights(tin, np.array(places, float) + ORIGIN)


def test_a_pad_replaces_the_ground_and_its_step_stays_a_wall():
    old, new = ground(2500), pad()
    result, _ = made("merge", [old, new])
    tin = result.dataset
    assert sound(tin) == pytest.approx(outline(old).area, rel=1e-9), "no gap, no overlap, nothing beyond"
    assert np.allclose(at(tin, (80, 70), (61, 51)), 240.0)
    outside = [(59.9, 70.0), (80.0, 91.0), (20.0, 20.0)]
    assert np.allclose(at(tin, *outside), at(old, *outside), atol=1e-9), "the ground beside is as it was"
    assert result.figures["seam"] > 0 and "leans by 0.01 m" in " ".join(f.text for f in result.findings)
    assert result.findings[0].at is not None


def test_a_seam_is_blended_over_the_width_that_is_said():
    old, new = ground(2500), pad()
    tin = made("merge", [old, new], seam="6m")[0].dataset
    assert sound(tin) == pytest.approx(outline(old).area, rel=1e-9)
    beside = at(tin, (57.0, 70.0))[0]
    assert min(at(old, (57.0, 70.0))[0], 240.0) - 3 < beside < max(at(old, (57.0, 70.0))[0], 240.0) + 3
    assert np.allclose(at(tin, (53.5, 70.0)), at(old, (53.5, 70.0)), atol=1e-9)
    assert np.allclose(at(tin, (75.0, 70.0)), 240.0)


def test_the_lower_and_the_higher_of_two_with_their_crossing_line_as_edges():
    flat = ground(900, height=lambda x, y: 230.0 + 0 * x)
    slope = ground(700, seed=3, size=(150.0, 120.0), height=lambda x, y: 230.0 + 0.1 * (x - 70.0))
    low, high = (made("merge", [flat, slope], keep=keep)[0].dataset for keep in ("lowest", "highest"))
    for tin, choose in ((low, np.minimum), (high, np.maximum)):
        assert sound(tin) == pytest.approx(outline(flat).union(outline(slope)).area, rel=1e-9)
        places = np.random.default_rng(1).uniform((5, 5), (140, 110), (400, 2))
        # A handbreadth beside the wall at its rim the two are what they are.
        wanted = choose(at(flat, *places), at(slope, *places))
        assert np.nanmax(np.abs(at(tin, *places) - wanted)) < 1e-5
    line = low.vertices[np.abs(low.vertices[:, 0] - E - 70.0) < 1e-5]
    assert len(line) > 5 and np.allclose(line[:, 2], 230.0, atol=1e-5), "the crossing line is one of edges"


def test_neighbouring_tiles_are_joined_and_a_gap_is_closed_where_that_is_said():
    whole = ground(2000)
    box = from_lines(
        "half",
        METRES,
        [
            np.array(
                [(E - 9, N - 9, 0), (E + 100, N - 9, 0), (E + 100, N + 200, 0), (E - 9, N + 200, 0), (E - 9, N - 9, 0)],
                float,
            )
        ],
        ["L"],
    )
    west, east = (made("clip", [whole, box], side=side)[0].dataset for side in ("inside", "outside"))
    joined = made("merge", [west, east])[0]
    assert sound(joined.dataset) == pytest.approx(sound(whole), rel=1e-9) and joined.figures["seam"] == 0
    apart = Tin(name="apart", frame=METRES, vertices=east.vertices + (0.5, 0.0, 0.0), triangles=east.triangles)
    closed = made("merge", [west, apart], gap="1m")[0].dataset
    assert sound(closed) > sound(west) + sound(apart) + 50.0
    assert np.isfinite(at(closed, (100.25, 70.0))).all()


def test_pasted_inside_a_drawn_boundary_only():
    old, new = ground(2500), pad()
    ring = [
        np.array(
            [(E + 65, N + 55, 0), (E + 85, N + 55, 0), (E + 85, N + 75, 0), (E + 65, N + 75, 0), (E + 65, N + 55, 0)],
            float,
        )
    ]
    tin = made("merge", [old, new, from_lines("limit", METRES, ring, ["L"])])[0].dataset
    assert sound(tin) == pytest.approx(outline(old).area, rel=1e-9)
    assert np.allclose(at(tin, (75, 65)), 240.0) and np.allclose(at(tin, (62, 52)), at(old, (62, 52)))
    drawn = made("merge", [old, new], area=f"{E + 65},{N + 55},{E + 85},{N + 75}")[0].dataset
    assert np.allclose(at(drawn, (75, 65), (62, 52)), at(tin, (75, 65), (62, 52)))


def test_what_is_clipped_ends_exactly_at_the_line():
    tin = ground(1500)
    ring = np.array([(E + 20, N + 30, 0), (E + 120.5, N + 25, 0), (E + 90, N + 110, 0), (E + 20, N + 30, 0)], float)
    hole = np.array([(E + 60, N + 40, 0), (E + 80, N + 40, 0), (E + 70, N + 60, 0), (E + 60, N + 40, 0)], float)
    lines = from_lines("rings", METRES, [ring, hole], ["L", "L"])
    area = shapely.Polygon(ring[:, :2], [hole[:, :2]])
    inside, outside = (made("clip", [lines, tin], side=side)[0].dataset for side in ("inside", "outside"))
    assert sound(inside) == pytest.approx(area.area, rel=1e-9)
    assert sound(inside) + sound(outside) == pytest.approx(sound(tin), rel=1e-9)
    middle = np.array([(70.0, 80.0), (50.0, 38.0)])
    assert np.allclose(at(inside, *middle), at(tin, *middle), atol=1e-9)


def test_points_grids_and_lines_are_clipped():
    points = scattered(3000)
    ring = from_lines(
        "ring",
        METRES,
        [
            np.array(
                [
                    (E + 20, N + 20, 0),
                    (E + 80, N + 20, 0),
                    (E + 80, N + 80, 0),
                    (E + 20, N + 80, 0),
                    (E + 20, N + 20, 0),
                ],
                float,
            )
        ],
        ["L"],
    )
    kept, said = made("clip", [points, ring])
    xy = points.xyz[:, :2] - ORIGIN
    assert len(kept.dataset.xyz) == ((xy >= 20) & (xy <= 80)).all(axis=1).sum() and said == "Points inside ring."
    grid = Grid(
        name="g", frame=METRES, heights=np.arange(10_000.0).reshape(100, 100), west=E, north=N + 100, dx=1.0, dy=1.0
    )
    cut = made("clip", [grid, ring])[0].dataset
    assert cut.heights.shape == (60, 60) and cut.west == E + 20 and np.isfinite(cut.heights).all()
    around = made("clip", [grid, ring], side="outside")[0].dataset
    assert np.isfinite(around.heights).sum() == 10_000 - 3600
    course = np.array([(E, N + 50, 0), (E + 50, N + 50, 5), (E + 100, N + 50, 10)], float)
    line = made("clip", [from_lines("c", METRES, [course], ["A"]), ring])[0].dataset
    assert line.vertices.tolist() == [[E + 20, N + 50, 2.0], [E + 50, N + 50, 5.0], [E + 80, N + 50, 8.0]]
    parts = made("clip", [from_lines("c", METRES, [course], ["A"]), ring], side="outside")[0].dataset
    assert len(parts) == 2 and parts.layers == ("A",)


def test_without_a_closed_line_there_is_nothing_to_clip_to():
    open_ = from_lines("o", METRES, [np.array([(E, N, 0), (E + 9, N, 0)], float)], ["A"])
    with pytest.raises(CallError):
        made("clip", [ground(50), open_])
    with pytest.raises(CallError, match="areas or closed lines"):
        made("clip", [ground(50)])


def test_where_the_seam_would_lie_is_shown_before():
    conversion = catalog.conversion_named("merge")
    old, new = ground(900), pad()
    given = Inputs.of_pairs([("ground", old), ("over", new)])

    def rims(**words):
        params = conversion.settle(given, declare.build(conversion.params, words))
        shown = conversion.preview(given, params, Silent())
        return [shapely.Polygon(shown.line(k)[:, :2]).area for k in range(len(shown))]

    assert rims() == pytest.approx([40.0 * 40.0])
    assert rims(seam="2m") == pytest.approx([40.0 * 40.0, 44.0 * 44.0])
    drawn = f"{E + 50} {N + 40}, {E + 80} {N + 40}, {E + 80} {N + 200}, {E + 50} {N + 200}"
    assert rims(area=drawn) == pytest.approx([20.0 * 40.0])
