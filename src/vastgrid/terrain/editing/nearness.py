"""How near a place has to be to what it means."""

from __future__ import annotations

from vastgrid.base.quantities import DEGREE, Unit
from vastgrid.data.tin import Tin

# A place means a vertex or an edge that lies no farther away than this, in metres, unless said otherwise.
NEAR = 0.05
# A crossing so close to a vertex, in metres, is that vertex.
CLOSE = 1e-4


def usual_near(tin: Tin, metres: float = NEAR) -> float:
    """Return how far a place may lie from what it means, in the unit of plan."""
    unit = tin.frame.horizontal
    if unit is Unit.DEGREE:
        return metres / DEGREE
    return metres / float(unit.metres) if unit else metres
