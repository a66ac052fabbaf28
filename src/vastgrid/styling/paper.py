"""Sheets of paper: their sizes, what of them the plan has, and the scales that are usual."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

# Width and height of sheets in millimetres, upright (ISO 216).
PAPERS = {"A4": (210, 297), "A3": (297, 420), "A2": (420, 594), "A1": (594, 841), "A0": (841, 1189)}
MARGIN = 10.0
# The title block below the plan.
STRIP = 24.0
# Common practice (ISO 5455 has the round ones).
SCALES = (10, 20, 25, 50, 100, 200, 250, 500, 1000, 2000, 2500, 5000, 10_000, 20_000, 25_000, 50_000, 100_000, 250_000)


@dataclass(frozen=True)
class Sheet:
    """A sheet of paper with the plan on it.

    Attributes
    ----------
    paper : str
        One of `PAPERS`.
    wide : bool
        Whether it lies on its longer side.
    scale : int
        500 for 1:500.
    title : str
        What stands in the title block.
    note : str
        What stands below the title.
    """

    paper: str
    wide: bool
    scale: int
    title: str
    note: str = ""

    def size(self) -> tuple[float, float]:
        """Return width and height in millimetres."""
        width, height = PAPERS[self.paper]
        return (float(height), float(width)) if self.wide else (float(width), float(height))

    def plan_size(self) -> tuple[float, float]:
        """Return width and height of the plan on it, in millimetres."""
        width, height = self.size()
        return width - 2 * MARGIN, height - 2 * MARGIN - STRIP


def fitting_scale(width: float, height: float, plan: tuple[float, float]) -> int:
    """Return the largest usual scale at which so many metres fit on so many millimetres, with a little air."""
    needed = max(width / plan[0], height / plan[1]) * 1000.0 * 1.04
    return next((scale for scale in SCALES if scale >= needed), int(np.ceil(needed / 100_000.0) * 100_000))


def tick_step(scale: int, metres: float) -> float:
    """Return the round distance of grid ticks, about 60 mm apart on paper, in the unit of plan.

    Parameters
    ----------
    metres : float
        Length of that unit.
    """
    wanted = 0.06 * scale / metres
    base = 10.0 ** np.floor(np.log10(wanted))
    return float(next(k * base for k in (1.0, 2.0, 5.0, 10.0) if k * base >= wanted * 0.75))
