"""Numbers as people read them."""

from __future__ import annotations


def spaced(value: float, decimals: int = 0) -> str:
    """Return “12 345.67”, thousands set apart by a thin no-break space."""
    return f"{value:,.{decimals}f}".replace(",", "\u202f")


def area_words(area: float) -> str:
    """Return an area to three or four figures, thousands set apart."""
    return spaced(round(area)) if area >= 1000.0 else f"{area:.4g}"
