"""How far one surface lies above another."""

from __future__ import annotations

from dataclasses import dataclass

from vastgrid.base.progress import Progress
from vastgrid.base.quantities import square_word, unit_word
from vastgrid.data.grid import Grid
from vastgrid.data.table import Table, figures_table
from vastgrid.data.tin import Tin
from vastgrid.declarations.conversion import Conversion, Input, Inputs, Output, Result
from vastgrid.measures.difference import difference


@dataclass(frozen=True)
class CompareParams:
    """Nothing to choose: every place that both have counts."""


def run(inputs: Inputs, params: CompareParams, progress: Progress) -> Result:
    """Measure the difference; see `CONVERSION`.

    Raises
    ------
    DataError
        If the two have no ground in common.
    """
    loss = difference(inputs[0], inputs[1], progress)  # type: ignore[arg-type]  # the declaration says so
    unit, area = unit_word(loss.unit).strip(), square_word(loss.plan_unit).strip()
    rows = [
        ("largest difference", loss.largest, unit),
        ("RMSE", loss.rmse, unit),
        ("95 % below", loss.p95, unit),
        ("mean, new above old", loss.mean, unit),
        ("area in common", loss.area, area),
        ("share of the old", 100.0 * loss.share, "%"),
    ]
    return Result(figures_table("Difference", rows), (), loss)


CONVERSION = Conversion(
    id="compare",
    version=1,
    title="Compare surfaces",
    also=("difference", "deviation", "check"),
    help="How far one surface lies above another where there are both: largest, RMSE, mean, 95 %.",
    inputs=(
        Input("old", (Tin, Grid), help="the surface that is measured from"),
        Input("new", (Tin, Grid), help="the surface that is measured"),
    ),
    outputs=(Output("figures", Table),),
    params=CompareParams,
    template="How far {new} lies above {old}, wherever there are both.",
    run=run,
    name=lambda inputs, params: f"{inputs[1].name} above {inputs[0].name}",
    loss_against="old",
    answers=True,
)
