"""The role of areas that a result keeps to, the same wherever a conversion has one."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from vastgrid.base.findings import Finding
from vastgrid.data.areas import Areas
from vastgrid.data.dataset import Dataset
from vastgrid.declarations.conversion import Input
from vastgrid.terrain.tin.limits import has_rings, limited_area

LIMIT = Input(
    "limit",
    (Areas,),
    least=0,
    most=None,
    help="areas that it keeps to, their holes left out",
    fits=has_rings,
    limits=True,
)


def limit_of(inputs: Sequence[Dataset], findings: list[Finding]) -> Any | None:
    """Return the ground inside the areas among some inputs; None where there is none."""
    return limited_area([each for each in inputs if isinstance(each, Areas)], "limit", findings)
