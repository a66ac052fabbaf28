"""How good a surface is by independent check points, in the words of the published standards."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np

from vastgrid.data.dataset import Flags, Floats

# FGDC-STD-007.3-1998, 3.2.1: Accuracy(z) = 1.9600 · RMSE(z) where errors are normally distributed and free of bias.
NSSDA_95 = 1.9600
# FGDC-STD-007.3-1998, 3.2.2: at least 20 check points.
NSSDA_LEAST = 20
# ASPRS Positional Accuracy Standards, edition 2 (2023, revision 2024): at least 30.
ASPRS_LEAST = 30
# Of fewer residuals none can be told from the others.
FEWEST = 5
# The scale that makes the median absolute deviation that of a normal distribution.
_NORMAL = 1.4826


@dataclass(frozen=True, slots=True)
class Accuracy:
    """What residuals say, surface minus check point.

    Attributes
    ----------
    count : int
        How many there are.
    mean, std, rmse : float
        Mean, standard deviation with n - 1, root mean square (RMSEz).
    largest : float
        The largest in size, with its sign.
    at : int
        Which one that is.
    p95 : float
        95th percentile of the sizes, as ASPRS 2014 states vegetated vertical accuracy (VVA).
    nssda_95 : float
        Accuracy at 95 % by NSSDA: 1.9600 times RMSEz. ASPRS 2014 states non-vegetated vertical accuracy (NVA) so too.
    """

    count: int
    mean: float
    std: float
    rmse: float
    largest: float
    at: int
    p95: float

    @property
    def nssda_95(self) -> float:
        """Accuracy at 95 % by NSSDA."""
        return NSSDA_95 * self.rmse

    def with_survey(self, survey: float) -> float:
        """Return RMSEz with the error of the check points themselves, as ASPRS edition 2 (2023/2024) asks for.

        Parameters
        ----------
        survey : float
            RMSE of the survey of the check points, in the unit of the residuals.
        """
        return math.hypot(self.rmse, survey)

    def to_json(self) -> dict[str, Any]:
        """Return plain values."""
        return {
            "count": self.count,
            "mean": self.mean,
            "rmse": self.rmse,
            "std": self.std if math.isfinite(self.std) else None,
            "max": self.largest,
            "p95": self.p95,
            "nssda_95": self.nssda_95,
        }


def accuracy_of(residuals: Floats) -> Accuracy:
    """Return what residuals say, (n,) with n ≥ 1."""
    worst = int(np.abs(residuals).argmax())
    number = len(residuals)
    return Accuracy(
        count=number,
        mean=float(residuals.mean()),
        std=float(residuals.std(ddof=1)) if number > 1 else math.nan,
        rmse=math.sqrt(float(np.mean(residuals**2))),
        largest=float(residuals[worst]),
        at=worst,
        p95=float(np.quantile(np.abs(residuals), 0.95)),
    )


def blunders(residuals: Floats, factor: float, least: float) -> Flags:
    """Return which residuals lie farther from the median than so many deviations, (n,) bool; of fewer than five none does.

    The deviation is 1.4826 times the median absolute deviation, which a few blunders do not spoil (Rousseeuw and Croux 1993).

    Parameters
    ----------
    least : float
        Residuals up to this far from the median are none, however alike the others are.
    """
    if len(residuals) < FEWEST:
        return np.zeros(len(residuals), np.bool_)
    away = np.abs(residuals - np.median(residuals))
    return np.asarray(away > max(factor * _NORMAL * float(np.median(away)), least))
