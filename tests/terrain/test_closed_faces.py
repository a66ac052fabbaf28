"""Faces stay closed: what conversions give has no slivers, and rounding to a file's precision opens no edge."""

from __future__ import annotations

import dataclasses

import numpy as np
import pytest
import shapely
from hypothesis import Phase, given, settings
from hypothesis import strategies as st

from builders import METRES
from vastgrid import catalog
from vastgrid.base.progress import Silent
from vastgrid.conversions.surfaces import tin as building
from vastgrid.data.linework import from_lines
from vastgrid.data.pointset import PointSet
from vastgrid.data.tin import Tin
from vastgrid.declarations.conversion import Inputs
from vastgrid.kernels.triangles.topology import plan_areas
from vastgrid.params import declare
from vastgrid.terrain.editing.edits import EditLog, read_edit, replayed
from vastgrid.terrain.tin.precision import at_decimals, mended

SIZE = 200.0


def surface(name: str, height, number: int, seed: int) -> Tin:
    """Return a square of random points: three decimals, corners and sides included."""
    rng = np.random.default_rng(seed)
    inner = np.round(rng.uniform(2, SIZE - 2, (number, 2)), 3)
    side = np.round(rng.uniform(2, SIZE - 2, 6), 3)
    rim = [*((v, 0) for v in side), *((v, SIZE) for v in side), *((0, v) for v in side), *((SIZE, v) for v in side)]
    xy = np.concatenate((inner, np.array(rim), [(0, 0), (SIZE, 0), (SIZE, SIZE), (0, SIZE)]))
    xyz = np.column_stack((xy + (1000.0, 5000.0), height(xy[:, 0], xy[:, 1])))
    points = PointSet(name=name, frame=METRES, xyz=xyz)
    made = building.run(Inputs.of_pairs([("points", points)]), building.TinParams(), Silent()).dataset
    assert isinstance(made, Tin)
    return made


def run(name: str, inputs, **words) -> Tin:
    conversion = catalog.conversion_named(name)
    own = Inputs.of_pairs(inputs)
    params = declare.build(conversion.params, words)
    params = conversion.settle(own, params) if conversion.settle else params
    made = conversion.run(own, params, Silent()).dataset
    assert isinstance(made, Tin)
    return made


def results(seed: int) -> dict[str, Tin]:
    """Return what every conversion that makes new corners gives of two surfaces."""
    rng = np.random.default_rng(seed)
    steep, long, turn = rng.uniform(0.1, 0.6), rng.uniform(6, 30), rng.uniform(0, 3)
    cone = surface("Cone", lambda x, y: 30 - steep * np.hypot(x - 90, y - 110), 400, seed)
    wavy = surface("Wavy", lambda x, y: 12 + 2 * np.sin(x / long + turn) * np.cos(y / long), 500, seed + 1)
    pad = np.array([(60, 60), (130, 70), (120, 140), (55, 120), (60, 60)], float) + (1000.0, 5000.0)
    ring = from_lines("Pad", METRES, [np.column_stack((pad, np.full(5, 14.0)))], ["PAD"])
    cross = [
        np.column_stack((1000.0 + rng.uniform(5, 195, 3), 5000.0 + rng.uniform(5, 195, 3), rng.uniform(8, 16, 3)))
        for _ in range(4)
    ]
    lines = from_lines("Edges", METRES, cross, ["EDGE"] * 4)
    points = PointSet(name="Shots", frame=METRES, xyz=wavy.vertices)
    return {
        "upper": run("merge", [("ground", wavy), ("over", cone)], keep="highest"),
        "lower": run("merge", [("ground", wavy), ("over", cone)], keep="lowest"),
        "difference": run("difference", [("base", wavy), ("top", cone)], **{"as": "tin"}),
        "daylight": run("daylight", [("line", ring), ("surface", wavy)], gives="ground"),
        "clip": run("clip", [("data", wavy), ("limit", ring)]),
        "simplify": run("simplify", [("surface", wavy)], tolerance="0.2m"),
        "crossing": run("tin", [("points", points), ("lines", lines)]),
        "edits": edited(wavy, rng),
    }


def edited(tin: Tin, rng: np.random.Generator) -> Tin:
    """Return a TIN after edits by hand at random: vertices added, moved and removed, lines that cross, ground cut out."""

    def place(digits: int = 9) -> str:
        east, north = (rng.uniform(5, SIZE - 5, 2).round(digits) + (1000.0, 5000.0)).tolist()
        return f"{east!r},{north!r}"

    lines = [f"line {place()},9.5 {place()},11.5 {place()},10.0" for _ in range(4)]
    lines += [f"line {place()} {place()}" for _ in range(3)]
    lines += [f"add {place(k % 4)} {rng.uniform(8, 14):.4f}" for k in range(12)]
    lines += [f"cut inside {place()} {place()} {place()}", f"raise 0.37 inside {place()} {place()} {place()}"]
    for k in range(12):
        east, north = tin.vertices[rng.integers(len(tin.vertices)), :2].tolist()
        dx, dy = rng.uniform(-3, 3, 2).tolist()
        lines.append(
            f"remove {east!r},{north!r}" if k % 3 else f"move {east!r},{north!r} to {east + dx!r},{north + dy!r}"
        )
    lines = [lines[k] for k in rng.permutation(len(lines))]
    return replayed(tin, EditLog(tuple(read_edit(line)[1].line() for line in lines))).tin


def welded(tin: Tin, decimals: int | None) -> tuple[float, int]:
    """Return the length of the edges with one face and the number of those with three, corners told by place."""
    places = tin.vertices if decimals is None else np.round(tin.vertices, decimals)
    _, own = np.unique(places, axis=0, return_inverse=True)
    faces = own.reshape(-1)[tin.triangles]
    edges = np.sort(np.concatenate((faces[:, [0, 1]], faces[:, [1, 2]], faces[:, [2, 0]])), axis=1)
    edges, number = np.unique(edges, axis=0, return_counts=True)
    xy = np.zeros((own.max() + 1, 2))
    xy[own.reshape(-1)] = places[:, :2]
    free = xy[edges[number == 1]]
    return float(np.hypot(*(free[:, 1] - free[:, 0]).T).sum()), int((number > 2).sum())


def rim(tin: Tin) -> float:
    """Return the length of a TIN's rim by another library: the boundary of its triangles' union."""
    faces = shapely.polygons(tin.vertices[tin.triangles][:, :, :2])
    return float(shapely.union_all(faces).boundary.length)


# A seed has no simpler one: shrinking would only take time.
KEEN = settings(max_examples=6, deadline=None, phases=(Phase.explicit, Phase.reuse, Phase.generate))


@KEEN
@given(st.integers(0, 10_000))
def test_results_are_closed_in_memory_and_at_every_precision(seed):
    for name, tin in results(seed).items():
        free, thrice = welded(tin, None)
        assert free == pytest.approx(rim(tin), rel=1e-4), name
        assert thrice == 0, name
        area = plan_areas(tin.vertices, tin.triangles).sum()
        for decimals in (4, 3, 2):
            made = at_decimals(tin, decimals, [])
            step = 10.0**-decimals
            own = plan_areas(np.round(made.vertices, decimals), made.triangles)
            assert own.min() > 0, (name, decimals)
            after, thrice = welded(made, decimals)
            assert after <= free + 4 * step * len(tin.triangles) ** 0.5, (name, decimals, after, free)
            assert thrice == 0, (name, decimals)
            assert own.sum() == pytest.approx(area, abs=2 * step * free), (name, decimals)


@KEEN
@given(st.integers(0, 10_000))
def test_faces_stay_closed_in_single_precision(seed):
    for name, tin in results(seed).items():
        seen = tin.vertices.astype(np.float32).astype(np.float64)
        slack = 2 * float(np.abs(seen - tin.vertices).max())
        made = mended(tin, seen, slack, "single precision", [])
        own = made.vertices.astype(np.float32).astype(np.float64)
        assert plan_areas(own, made.triangles).min() > 0, name
        free, thrice = welded(dataclasses.replace(made, vertices=own), None)
        assert free <= welded(tin, None)[0] + 0.05, name
        assert thrice == 0, name


def test_no_sliver_is_left_along_the_line_where_two_surfaces_meet():
    for name, tin in results(3).items():
        corners = tin.vertices[tin.triangles][:, :, :2]
        longest = np.hypot(*np.moveaxis(corners - np.roll(corners, -1, axis=1), 2, 0)).max(axis=1)
        high = 2 * plan_areas(tin.vertices, tin.triangles) / longest
        assert high.min() > 1e-7, (name, high.min())
