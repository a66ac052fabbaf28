"""The colours of values: the same in the plan, the 3D view, pictures and legends, and safe for colour-blind eyes."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

Colours = NDArray[np.uint8]

# Okabe & Ito, “Color Universal Design” (2008), without black and the yellow that paper swallows; then darker kin.
CATEGORIES = (
    "#E69F00", "#56B4E9", "#009E73", "#0072B2", "#D55E00", "#CC79A7", "#8C6D1F", "#7A7A7A", "#3B6E5A", "#5B4A8A",
)  # fmt: skip

_CLASS_COLOURS = {
    0: "#9A9A9A", 1: "#7F7F7F", 2: "#A5723A", 3: "#9BC184", 4: "#4F9D5B", 5: "#1F6B3A", 6: "#C0392B", 7: "#D55E9A",
    8: "#E69F00", 9: "#2E86C1", 10: "#5B4A8A", 11: "#404A50", 12: "#B7A9CC", 17: "#8E5A2B", 18: "#CC3399",
}  # fmt: skip


def rgb(colour: str) -> Colours:
    """Return “#RRGGBB” as (3,) uint8."""
    return np.frombuffer(bytes.fromhex(colour.removeprefix("#")), np.uint8)


def _from_map(name: str, low: float = 0.0, high: float = 1.0, count: int = 256, paper: float = 0.0) -> Colours:
    from cmap import Colormap

    made = np.asarray(Colormap(name)(np.linspace(low, high, count)))[:, :3]
    out = np.ascontiguousarray((255 * ((1.0 - paper) * made + paper)).astype(np.uint8))
    out.flags.writeable = False
    return out


@lru_cache(maxsize=2)
def elevation(count: int = 256) -> Colours:
    """Return the elevation colours, (n, 3): low red to high pale, even in lightness."""
    # The dark end would swallow contours and shadow, so it is left out and the rest is lightened towards paper.
    return _from_map("crameri:lajolla", 0.22, 1.0, count, 0.38)


@lru_cache(maxsize=1)
def steepness() -> Colours:
    """Return the colours of slope, flat pale to steep dark."""
    return _from_map("crameri:tokyo", 1.0, 0.12)


@lru_cache(maxsize=1)
def bearing() -> Colours:
    """Return the colours of aspect, which close: 360° is 0°."""
    return _from_map("crameri:romaO")


@lru_cache(maxsize=1)
def difference() -> Colours:
    """Return the colours of a difference: below blue, none pale, above brown."""
    return _from_map("crameri:vik", 0.06, 0.94)


@lru_cache(maxsize=1)
def strength() -> Colours:
    """Return the colours of an intensity, dark to light."""
    made = np.repeat(np.linspace(25, 245, 256).astype(np.uint8)[:, None], 3, axis=1)
    return np.ascontiguousarray(made)


def category(number: int) -> Colours:
    """Return the colour of the n-th of several things without an order."""
    return rgb(CATEGORIES[number % len(CATEGORIES)])


@lru_cache(maxsize=1)
def classes() -> Colours:
    """Return the colours of the point classes 0 … 255, (256, 3)."""
    return np.array([rgb(_CLASS_COLOURS.get(k, CATEGORIES[k % len(CATEGORIES)])) for k in range(256)])
