"""Cases of volumes, stages, stockpiles and accuracy."""

from __future__ import annotations

import numpy as np

from vastgrid.library.calls import function
from vastgrid.library.surfaces import Tin
from vastgrid.library.vectors import PointSet
from vastgrid.verification.cases import Figures, case
from vastgrid.verification.shapes import CLOSED, frustum, frustum_volume, plane, square, square_line

Pair = tuple[Figures, Figures]
_FRUSTUM = "Frustum of a pyramid, h/3 · (A₁ + A₂ + √(A₁·A₂)), closed form"


def _cut_fill(base: Tin, top: Tin, **more: object) -> list[float]:
    own = function("volumes")(base=base, top=top, **more).figures
    return [own["cut"], own["fill"]]


@case("volumes.frustum", "Fill of a frustum on level ground.", _FRUSTUM, 1e-6, "m³")
def _() -> Pair:
    return [0.0, frustum_volume()], _cut_fill(plane(0.0, 0.0, 0.0), frustum())


@case("volumes.pit", "Cut of a pit in level ground.", _FRUSTUM, 1e-6, "m³")
def _() -> Pair:
    return [frustum_volume(), 0.0], _cut_fill(plane(0.0, 0.0, 0.0), frustum(height=-10.0))


@case(
    "volumes.crossing", "Two planes that cross: a wedge of cut and a wedge of fill, ½·½·b·h·l each.", CLOSED, 1e-6, "m³"
)
def _() -> Pair:
    half = 0.5 * 50.0 * 5.0 * 100.0
    return [half, half], _cut_fill(plane(0.0, 0.0, 5.0), plane(0.1, 0.0, 0.0))


@case("volumes.inside", "Fill inside an area with a hole counts the hole out.", CLOSED, 1e-6, "m³")
def _() -> Pair:
    import shapely

    from vastgrid.library.vectors import Areas

    ring = shapely.box(10, 10, 60, 60).difference(shapely.box(20, 20, 40, 40))
    inside = Areas.from_geometries([ring], unit="m")
    return [0.0, (2500.0 - 400.0) * 2.0], _cut_fill(plane(0.0, 0.0, 0.0), plane(0.0, 0.0, 2.0), inside=inside)


@case("volumes.cells", "The cross-check by cells agrees with the prisms on a plane.", CLOSED, 1e-6, "m³")
def _() -> Pair:
    own = function("volumes")(base=plane(0.0, 0.0, 0.0), top=plane(0.0, 0.0, 2.0), cell="1 m").figures["methods"]
    return [20_000.0] * 2, [own[0]["fill"], own[1]["fill"]]


@case(
    "volumes.end_areas",
    "Average end areas of a prism are exact: (A₁ + A₂)/2 · L.",
    "Average end area method of earthwork handbooks, a prism in closed form",
    1e-6,
    "m³",
)
def _() -> Pair:
    own = function("volumes")(base=plane(0.0, 0.0, 0.0), top=plane(0.0, 0.02, 1.0), sections="10 m").figures["methods"]
    return (100.0 * 1.0 + 100.0 * 3.0) / 2.0 * 100.0, own[2]["fill"]


@case("stages.pit", "What a pit holds, level by level.", _FRUSTUM, 1e-6, "m³")
def _() -> Pair:
    own = function("stages")(surface=frustum(height=-10.0), inside=square_line(20.0, 80.0), levels=[-5.0, 0.0])
    holds = [
        row
        for row in own.rows
        if any(abs(float(value) + 5.0) < 1e-9 for value in row.values() if isinstance(value, float))
    ]
    volume = next(value for key, value in holds[-1].items() if "volume" in key)
    return frustum_volume(40.0, 20.0, 5.0), volume


@case("pile.frustum", "A stockpile above the base through its rim.", _FRUSTUM, 1e-6, "m³")
def _() -> Pair:
    own = function("pile")(surface=frustum(), inside=square(20, 80), base="rim")
    numbers = [value for value in own.rows[-1].values() if isinstance(value, float)]
    return frustum_volume(), min(numbers, key=lambda value: abs(value - frustum_volume()))


@case("between.months", "Between three surveys 2 m, 3 m and 1 m were filled.", CLOSED, 1e-6, "m³")
def _() -> Pair:
    stages = [plane(0.0, 0.0, level, name=f"month {k}") for k, level in enumerate((0.0, 2.0, 3.0))]
    own = function("between")(*stages)
    fills = [float(row["fill"]) for row in own.rows]
    return [20_000.0, 30_000.0, 10_000.0], fills


@case(
    "daylight.platform",
    "A platform of 20 m, 10 m above level ground, with sides of 2 : 1, is a frustum.",
    _FRUSTUM,
    1e-6,
    "m³",
)
def _() -> Pair:
    ground = plane(0.0, 0.0, 0.0)
    made = function("daylight")(
        line=square_line(40.0, 60.0, 10.0), surface=ground, fill="2", cut="2", gives="ground", corners="square"
    )
    return frustum_volume(), function("volumes")(base=ground, top=made).figures["fill"]


@case("compare.planes", "Two planes 0.25 m apart.", CLOSED, 1e-9, "m")
def _() -> Pair:
    own = function("compare")(old=plane(), new=plane(c=20.25))
    assert own.loss is not None
    return [0.25, 0.25, 0.25], [own.loss.largest, own.loss.rmse, own.loss.mean]


_SHOTS = np.array([0.05, -0.02, 0.01, -0.04, 0.03, 0.00, -0.01, 0.02, 0.04, -0.03] * 2)


def _accuracy() -> dict[str, float]:
    xy = np.random.default_rng(2).random((20, 2)) * 80.0 + 10.0
    z = 20.0 + xy @ (0.1, 0.05) - _SHOTS
    points = PointSet.from_arrays(np.column_stack((xy, z)), unit="m", vertical_unit="m")
    own = function("accuracy")(surface=plane(), points=points).figures
    found: dict[str, float] = {}
    for each in (own, *(value for value in own.values() if isinstance(value, dict))):
        found |= {key: value for key, value in each.items() if isinstance(value, int | float)}
    return found


@case("accuracy.rmse", "RMSEz of twenty check points.", "FGDC-STD-007.3-1998, 3-A.1: √(Σd²/n)", 1e-12, "m")
def _() -> Pair:
    return float(np.sqrt((_SHOTS**2).mean())), _accuracy()["rmse"]


@case(
    "accuracy.nssda",
    "Vertical accuracy at 95 % of twenty check points.",
    "FGDC-STD-007.3-1998, 3-A.2: 1.9600 · RMSEz",
    1e-9,
    "m",
)
def _() -> Pair:
    return 1.96 * float(np.sqrt((_SHOTS**2).mean())), _accuracy()["nssda_95"]
