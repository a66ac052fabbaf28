"""Ground told from what stands on it, and clouds thinned: against a scene whose ground is known."""

import numpy as np
import pytest

from builders import DATA, METRES, ORIGIN
from vastgrid import catalog
from vastgrid.base.errors import CallError
from vastgrid.base.progress import Silent
from vastgrid.base.quantities import Length, Unit
from vastgrid.conversions.points import ground as telling
from vastgrid.conversions.points import thin
from vastgrid.data.frame import Frame
from vastgrid.data.pointset import PointSet
from vastgrid.execution.steps import convert, read_file
from vastgrid.params import declare

E, N = ORIGIN


def hills(x, y):
    """Hillsides up to 30° steep."""
    return 18.0 * np.sin(x / 42.0) + 14.0 * np.cos(y / 37.0) + 0.05 * x


def scene(houses=0, trees=0, count=120_000, width=250.0, seed=3):
    """Points on hills, houses with level roofs, trees with returns from their crowns; and which are ground."""
    rng = np.random.default_rng(seed)
    x, y = rng.random((2, count)) * width
    z = hills(x, y)
    thing = np.zeros(count, np.bool_)
    for _ in range(houses):
        east, north = rng.uniform(20, width - 20, 2)
        half = rng.uniform(4, 9, 2)
        on = (np.abs(x - east) < half[0]) & (np.abs(y - north) < half[1])
        # A house stands on the highest ground beneath it.
        z[on] = hills(x[on], y[on]).max(initial=0.0) + rng.uniform(3.5, 8.0)
        thing |= on
    for _ in range(trees):
        east, north, reach = *rng.uniform(0, width, 2), rng.uniform(1.0, 3.5)
        on = ((x - east) ** 2 + (y - north) ** 2 < reach**2) & (rng.random(count) < 0.6) & ~thing
        z[on] = hills(x[on], y[on]) + rng.uniform(1.2, 9.0, int(on.sum()))
        thing |= on
    z += rng.normal(0.0, 0.03, count)
    points = PointSet(name="Scan", frame=METRES, xyz=np.column_stack((x + E, y + N, z)))
    return points, ~thing


@pytest.mark.parametrize(("preset", "houses", "trees"), [("open", 0, 0), ("wooded", 0, 250), ("built", 14, 60)])
def test_ground_is_kept_and_what_stands_on_it_is_not(preset, houses, trees):
    points, is_ground = scene(houses, trees)
    slope = np.degrees(np.arctan(np.hypot(18 / 42 + 0.05, 14 / 37)))
    assert slope > 29
    params = telling.settle([points], declare.build(telling.GroundParams, {"preset": preset}))
    result = telling.run([points], params, Silent())
    classes = result.dataset.attributes["classification"]
    assert (classes[is_ground] == 2).mean() >= 0.95
    if houses or trees:
        assert (classes[~is_ground] == 2).mean() <= 0.02
    assert len(classes) == len(points.xyz), "no point is dropped"
    assert result.figures["ground"] == (classes == 2).sum()


def test_against_the_classes_of_a_real_flight():
    """Airborne points over Autzen stadium: of those classified as ground nearly all are told so; feet, steep unit unknown."""
    (points,) = read_file(DATA / "autzen_trim.laz", {}, Silent()).datasets
    conversion = catalog.conversion_named("ground")
    result, params = convert(conversion, [points], declare.build(conversion.params, {"preset": "built"}), Silent())
    own, made = points.attributes["classification"], result.dataset.attributes["classification"]
    assert (made[own == 2] == 2).mean() > 0.95
    assert params.cell.unit is Unit.METRE and params.height.value == pytest.approx(0.3 / 0.3048, rel=0.01)
    told = " ".join(finding.text for finding in result.findings)
    assert "from unclassified (1) to ground (2)" in told


def test_stray_points_below_are_noise_and_old_noise_stays():
    points, _ = scene(count=40_000)
    xyz = points.xyz.copy()
    xyz[:40, 2] -= 7.0
    classes = np.zeros(len(xyz), np.uint8)
    classes[100:120] = 18
    own = PointSet(name="s", frame=METRES, xyz=xyz, attributes={"classification": classes})
    made = telling.run([own], telling.settle([own], telling.GroundParams()), Silent()).dataset.attributes[
        "classification"
    ]
    assert (made[:40] == 7).mean() > 0.9 and (made[100:120] == 18).all()


def test_degrees_are_refused():
    points, _ = scene(count=500)
    own = points.in_frame(Frame("EPSG:4326", Unit.DEGREE, Unit.METRE))
    with pytest.raises(CallError, match="reproject"):
        telling.run([own], telling.GroundParams(), Silent())


@pytest.mark.parametrize("keep", ["lowest", "highest", "central", "mean"])
def test_one_point_of_each_cell_counted_from_whole_multiples(keep):
    rng = np.random.default_rng(2)
    xyz = np.column_stack((rng.uniform(E - 7.3, E + 60, 5000), rng.uniform(N, N + 41.7, 5000), rng.normal(5, 2, 5000)))
    points = PointSet(name="p", frame=METRES, xyz=xyz, attributes={"code": np.arange(5000)})
    made = thin.run([points], thin.ThinParams(Length(3.0), thin.Keep(keep)), Silent()).dataset
    cell = np.floor(xyz[:, :2] / 3.0)
    cells = {tuple(each): np.flatnonzero((cell == each).all(axis=1)) for each in np.unique(cell, axis=0)}
    assert len(made.xyz) == len(cells)
    for where, own in zip(np.floor(made.xyz[:, :2] / 3.0), made.xyz, strict=True):
        group = xyz[cells[tuple(where)]]
        wanted = {
            "lowest": group[group[:, 2].argmin()],
            "highest": group[group[:, 2].argmax()],
            "central": group[((group[:, :2] - (where + 0.5) * 3.0) ** 2).sum(axis=1).argmin()],
            "mean": group.mean(axis=0),
        }[keep]
        assert np.allclose(own, wanted, atol=1e-9)
    if keep != "mean":
        assert np.array_equal(made.xyz, xyz[made.attributes["code"]]), "with their attributes, bit for bit"


def test_a_tin_of_the_ground_alone():
    points, _ = scene(houses=5, count=20_000)
    result = telling.run([points], telling.settle([points], telling.GroundParams()), Silent())
    from vastgrid.conversions.surfaces import tin as building

    params = building.settle([result.dataset], building.TinParams(classes="2"))
    made = building.run([result.dataset], params, Silent())
    assert len(made.dataset.vertices) <= result.figures["ground"] < len(points.xyz)
    with pytest.raises(CallError, match="no source has classified points"):
        building.run([points], building.TinParams(classes="2"), Silent())
