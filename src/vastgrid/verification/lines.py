"""Cases of contours, lines and areas."""

from __future__ import annotations

import math

import numpy as np

from vastgrid.data.survey import Record, survey_of
from vastgrid.library.calls import function
from vastgrid.library.kinds import dataset_of, wrapped
from vastgrid.library.vectors import Contours, Linework
from vastgrid.verification.cases import Figures, case
from vastgrid.verification.shapes import CLOSED, frustum, plane, square, square_line

Pair = tuple[Figures, Figures]


@case("contours.plane", "Contours of a plane of 10 % at 0.5 m lie 5 m apart.", CLOSED, 1e-9, "m")
def _() -> Pair:
    own = plane(0.1, 0.0, 0.0).contours(interval="0.5 m", base=0)
    return own.levels * 10.0, [line[0, 0] for line in own]


@case(
    "contours.frustum",
    "The contour half way up a frustum encloses the square between foot and crown.",
    "Interpolation along edges, closed form",
    1e-9,
    "m",
)
def _() -> Pair:
    (line,) = list(frustum().contours(levels=[5.0]))
    return 4 * 40.0, np.hypot(*np.diff(line[:, :2], axis=0).T).sum()


@case(
    "labels.levels", "Every contour of a plane that can be labelled has its level as its label.", CLOSED, 0.0, "labels"
)
def _() -> Pair:
    own = plane(0.1, 0.0, 0.0).contours(interval="1 m").labels(only="all", height=2)
    assert isinstance(own, Contours)
    return sorted(set(own.levels.tolist())), sorted(set(own.label_levels.tolist()))


@case("ticks.pit", "Ticks of a pit's contour point into it, each as long as was asked.", CLOSED, 1e-9, "m")
def _() -> Pair:
    own = frustum(height=-10.0).contours(levels=[-5.0]).ticks(length="2 m", spacing="10 m")
    sizes = [math.hypot(*(line[-1] - line[0])[:2]) for line in own]
    return [2.0] * len(sizes), sizes


@case("arrows.downhill", "Arrows on a plane that falls to the west point west.", CLOSED, 1e-9, "°")
def _() -> Pair:
    own = plane(0.1, 0.0, 0.0).arrows(spacing="20 m")
    ways = [line[1] - line[0] for line in own]
    bearings = [math.degrees(math.atan2(way[0], way[1])) % 360.0 for way in ways]
    return [270.0] * len(bearings), bearings


@case("levels.lines", "Level lines become contours of their height.", CLOSED, 0.0, "m")
def _() -> Pair:
    lines = Linework.from_arrays([[(0, k, 2.0 * k), (9, k, 2.0 * k)] for k in range(5)], "m", "m")
    return [0.0, 2.0, 4.0, 6.0, 8.0], sorted(lines.levels().levels.tolist())


@case("offset.square", "A square offset outwards by 3 m is larger by 6 m on each side.", CLOSED, 1e-9, "m")
def _() -> Pair:
    own = square_line(0.0, 10.0, 5.0).offset(by=3.0, corners="square")
    return [16.0, 16.0], [np.ptp(own.vertices[:, 0]), np.ptp(own.vertices[:, 1])]


@case("lay.plane", "Lines laid on a plane have its heights.", CLOSED, 1e-9, "m")
def _() -> Pair:
    own = function("lay")(lines=square_line(10.0, 60.0), surface=plane(0.1, 0.05))
    return 20.0 + own.vertices[:, :2] @ (0.1, 0.05), own.vertices[:, 2]


@case("along.square", "Points every 5 m along 200 m.", CLOSED, 1e-9, "m")
def _() -> Pair:
    own = function("along")(lines=square_line(10.0, 60.0, 0.0), surface=plane(), spacing="5 m")
    steps = np.hypot(*np.diff(own.xyz[:, :2], axis=0).T)
    return [5.0] * len(steps), steps


@case("no_change.planes", "Two planes of 10 %, one rising, one falling, meet half way.", CLOSED, 1e-9, "m")
def _() -> Pair:
    own = function("no_change")(first=plane(0.1, 0.0, 0.0), second=plane(-0.1, 0.0, 10.0))
    return [50.0] * len(own.vertices), own.vertices[:, 0]


@case(
    "areas.nested",
    "Closed lines to areas: one inside another is a hole.",
    "OGC 06-103r4, 6.1.11, closed form",
    1e-9,
    "m²",
)
def _() -> Pair:
    rings = [square_line(0.0, 10.0), square_line(2.0, 5.0)]
    own = Linework.from_arrays([next(iter(ring)) for ring in rings], "m", "m").areas()
    return 100.0 - 9.0, own.plan_sizes


@case("lines.rims", "The rims of areas are as long as their sides.", CLOSED, 1e-9, "m")
def _() -> Pair:
    own = square(0, 25).lines()
    return 100.0, np.hypot(*np.diff(own.vertices[:, :2], axis=0).T).sum()


@case("sizes.square", "Area and perimeter of a square.", CLOSED, 1e-9, "m², m")
def _() -> Pair:
    own = square(0, 25).sizes().figures
    return [625.0, 100.0], [own["area"], own["perimeter"]]


def _survey() -> object:
    ring = np.array([(0.0, 0.0), (30.0, 0.0), (30.0, 20.0), (0.0, 20.0), (0.0, 0.0)])
    line = np.column_stack((ring, np.full(5, np.nan)))
    frame = dataset_of(square(0, 1)).frame
    return survey_of("plots", frame, [Record("parcel", "P1", line, {"geometry": [], "area": 600.0})])


@case("parcels.area", "A parcel has the area that it states.", CLOSED, 1e-9, "m²")
def _() -> Pair:
    own = wrapped(_survey()).parcels()  # type: ignore[arg-type]
    return own.attributes["stated_area"], own.plan_sizes


@case("courses.length", "The course of a parcel is as long as its sides.", CLOSED, 1e-9, "m")
def _() -> Pair:
    own = wrapped(_survey()).courses()  # type: ignore[arg-type]
    return 100.0, np.hypot(*np.diff(own.vertices[:, :2], axis=0).T).sum()


@case("choose.place", "Of two areas the one at a place stays.", CLOSED, 1e-9, "m²")
def _() -> Pair:
    import shapely

    from vastgrid.library.vectors import Areas

    both = Areas.from_geometries([shapely.box(0, 0, 10, 10), shapely.box(20, 0, 25, 10)], {"no": ["a", "b"]}, unit="m")
    return [50.0, 100.0], [*both.choose(at="22 5").plan_sizes, *both.choose(by="no", named="b", side="out").plan_sizes]


@case("records.area", "Areas become parcels of their size, and come back.", CLOSED, 1e-9, "m²")
def _() -> Pair:
    own = square(0, 25)
    return own.plan_sizes, own.records().parcels().attributes["stated_area"]
