"""Areas and volumes on the ground instead of on the grid of a projected system: one parameter and one factor for all."""

from __future__ import annotations

from typing import Annotated

from vastgrid.base.errors import CallError
from vastgrid.base.findings import Finding, note
from vastgrid.data.dataset import Dataset
from vastgrid.measures.grid_ground import grid_factors
from vastgrid.params.declare import Param

OnGround = Annotated[
    bool,
    Param(
        "On the ground",
        "yes: areas and volumes on the ground instead of on the grid, by the combined factor at the middle.",
        said=(("yes", "as ground quantities"), ("no", "as grid quantities")),
    ),
]


def to_ground(dataset: Dataset, findings: list[Finding], *, wanted: bool) -> float:
    """Return what areas and volumes on the grid are multiplied with: 1 / (combined factor)², or 1 where that is not wanted.

    Raises
    ------
    CallError
        If the combined factor is not known: the system is not projected, or there are no heights of a known unit.
    """
    if not wanted:
        return 1.0
    own = grid_factors(dataset)
    if own is None:
        raise CallError(
            f"ground=yes: {dataset.name} is in no projected reference system, so its grid is the ground; assign one (system) or leave "
            "it out"
        )
    if own.combined is None:
        raise CallError(f"ground=yes: {dataset.name} has no heights of a known unit, and the combined factor needs one")
    times = 1.0 / own.combined**2
    text = (
        f"Areas and volumes are ground quantities: those on the grid times {times:.8f}, the combined factor at the middle being "
        f"{own.combined:.8f}."
    )
    findings.append(note("on-ground", text))
    return times
