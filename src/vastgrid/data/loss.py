"""What a step or a file costs vertically: the figure that every conversion and every written file has to show."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from vastgrid.base.quantities import Unit, unit_word
from vastgrid.base.words import gap_words, place_words


@dataclass(frozen=True, slots=True)
class Loss:
    """Vertical difference of two surfaces over their common ground (second minus first).

    Attributes
    ----------
    largest : float
        Largest absolute difference found: on the lattice, at every vertex of both and, between TINs, wherever their
        edges cross, which makes it exact.
    rmse, mean, p95 : float
        Root mean square, mean (signed) and 95th percentile of the absolute difference, over an even lattice of about
        a million places.
    at : tuple of float
        Easting and northing of the largest.
    area : float
        Plan area in common, by the lattice.
    share : float
        That area as a share of the first surface's own.
    unit, plan_unit : Unit or None
        Unit of the differences; unit of the place, whose square is the area's.
    """

    largest: float
    rmse: float
    mean: float
    p95: float
    at: tuple[float, float]
    area: float
    share: float
    unit: Unit | None
    plan_unit: Unit | None

    def to_json(self) -> dict[str, Any]:
        """Return the figures by the names the command line uses."""
        return {
            "max": self.largest,
            "rmse": self.rmse,
            "p95": self.p95,
            "mean": self.mean,
            "at": list(self.at),
            "area": self.area,
            "unit": self.unit.value if self.unit else None,
            "plan_unit": self.plan_unit.value if self.plan_unit else None,
            "share": self.share,
        }

    @staticmethod
    def from_json(values: dict[str, Any]) -> Loss:
        """Return the loss that `to_json` gave."""
        unit, plan = (Unit(values[name]) if values[name] else None for name in ("unit", "plan_unit"))
        at = (float(values["at"][0]), float(values["at"][1]))
        return Loss(
            values["max"],
            values["rmse"],
            values["mean"],
            values["p95"],
            at,
            values["area"],
            values["share"],
            unit,
            plan,
        )

    def sentence(self) -> str:
        """Return “0.61 m at most (at E 1, N 2), 0.11 m RMSE, 0.25 m for 95 %”."""
        unit = unit_word(self.unit)
        place = f"{place_words(self.at[0], self.at[1])}"
        text = f"{gap_words(self.largest)}{unit} at most (at {place}), {gap_words(self.rmse)}{unit} RMSE, {gap_words(self.p95)}{unit} for 95 %"
        return text if self.share > 0.995 else f"{text}, over {self.share:.0%} of the ground"
