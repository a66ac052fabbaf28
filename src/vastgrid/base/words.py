"""Numbers as people read them, and the steps they like."""

from __future__ import annotations

import math


def spaced(value: float, decimals: int = 0) -> str:
    """Return “12 345.67”, thousands set apart by a thin no-break space."""
    return f"{value:,.{decimals}f}".replace(",", "\u202f")


def area_words(area: float) -> str:
    """Return an area to three or four figures, thousands set apart."""
    return spaced(round(area)) if area >= 1000.0 else f"{area:.4g}"


# People count in these times a power of ten.
STEPS = (1.0, 2.0, 5.0)


def step_below(value: float) -> float:
    """Return the largest of 1, 2 or 5 × 10ⁿ that is no larger than a positive value."""
    power = 10.0 ** math.floor(math.log10(value * 1.001))
    return float(f"{max(step for step in STEPS if step * power <= value * 1.001) * power:.6g}")


def step_above(value: float, steps: tuple[float, ...] = STEPS) -> float:
    """Return the smallest of 1, 2 or 5 × 10ⁿ, or of other steps, that is no smaller than a positive value."""
    power = 10.0 ** math.floor(math.log10(value))
    return float(f"{next(step for step in (*steps, 10.0) if step * power >= value * 0.999) * power:.6g}")


def step_near(value: float) -> float:
    """Return the nearest of 1, 2 or 5 × 10ⁿ by ratio."""
    power = 10.0 ** math.floor(math.log10(value))
    return float(f"{min((*STEPS, 10.0), key=lambda step: abs(math.log(value / power / step))) * power:.6g}")


def plain(value: object) -> str:
    """Return an entry of an attribute as text: bytes are UTF-8, as everywhere in data."""
    if isinstance(value, bool):
        return "true" if value else "false"
    return value.decode("utf-8", "replace") if isinstance(value, bytes) else str(value)
