"""Which contours are drawn: an own list of levels, limits, and no short ones; against contourpy on a real crater."""

import json

import contourpy
import numpy as np
import pytest

from builders import DATA, METRES
from vastgrid import catalog
from vastgrid.base.errors import ParamError
from vastgrid.base.progress import Silent
from vastgrid.data.grid import Grid
from vastgrid.execution.steps import convert
from vastgrid.params import declare

SAID = json.loads((DATA / "volcano.json").read_text())
HEIGHTS = np.array(SAID["values"], float).reshape(SAID["height"], SAID["width"])
CRATER = Grid(name="Crater", frame=METRES, heights=HEIGHTS, west=0.0, north=SAID["height"] * 10.0, dx=10.0, dy=10.0)


def made(**words):
    conversion = catalog.conversion_named("contours")
    result, params = convert(conversion, [CRATER], declare.build(conversion.params, words), Silent())
    return result, declare.plain(conversion.sentence(params, [("surface", "Crater")]))


def length(contours, level=None):
    legs = np.hypot(*np.diff(contours.plan, axis=0).T)
    legs[contours.offsets[1:-1] - 1] = 0.0
    own = np.repeat(contours.levels, np.diff(contours.offsets))[:-1]
    return float(legs[own == level].sum() if level is not None else legs.sum())


def test_an_own_list_is_drawn_where_contourpy_draws_it():
    levels = [100.5, 112.25, 133.7, 171.5]
    result, said = made(levels=",".join(map(str, levels)) + "m", index="2")
    contours = result.dataset
    assert sorted(set(contours.levels.tolist())) == levels and contours.interval == 0.0
    assert set(contours.levels[contours.index].tolist()) == {100.5, 133.7}, "every second, from the first of the list"
    theirs = contourpy.contour_generator(CRATER.eastings(), CRATER.northings(), HEIGHTS)
    for level in levels:
        drawn = sum(float(np.hypot(*np.diff(line, axis=0).T).sum()) for line in theirs.lines(level))
        assert length(contours, level) == pytest.approx(drawn, rel=0.02)
    assert (
        said == "Contours at 100.5, 112.25, 133.7, 171.5 m from Crater, every 2nd one an index contour, not smoothed."
    )


def test_levels_that_the_ground_does_not_reach_are_none():
    contours = made(levels="10, 150, 9000")[0].dataset
    assert set(contours.levels.tolist()) == {150.0}
    result = made(levels="10, 9000")[0]
    assert len(result.dataset) == 0 and "No contour crosses" in result.findings[0].text


def test_limits_take_nothing_else_away():
    every, some = made(interval="10m")[0].dataset, made(interval="10m", lowest="120m", highest="150m")
    assert sorted(set(some[0].dataset.levels.tolist())) == [120.0, 130.0, 140.0, 150.0]
    for level in (120.0, 150.0):
        assert length(some[0].dataset, level) == length(every, level)
    assert some[1] == (
        "Contours every 10 m from Crater, starting at 0 m, none below 120 m, none above 150 m, every 5th one an index contour, not smoothed."
    )


def test_short_lines_are_left_out_and_counted():
    every, (result, _) = made(interval="2.5m")[0].dataset, made(interval="2.5m", shortest="200m")
    lost = len(every) - len(result.dataset)
    assert lost > 0 and any(f"{lost} contours shorter than 200 m left out" in each.text for each in result.findings)
    size = [
        float(np.hypot(*np.diff(line, axis=0).T).sum())
        for line in np.split(result.dataset.plan, result.dataset.offsets[1:-1])
    ]
    assert min(size) >= 200.0
    assert length(every) - length(result.dataset) <= lost * 200.0


@pytest.mark.parametrize(
    ("words", "why"),
    [({"levels": "100,110", "interval": "5m"}, "either a list"), ({"levels": "100", "base": "1m"}, "either a list"),
     ({"interval": "5m", "lowest": "150m", "highest": "120m"}, "above the highest")],
)  # fmt: skip
def test_what_contradicts_itself_is_refused(words, why):
    with pytest.raises(ParamError, match=why):
        made(**words)
