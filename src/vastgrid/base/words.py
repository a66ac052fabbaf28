"""Numbers as people read them, and the steps they like."""

from __future__ import annotations

import difflib
import math
from collections.abc import Iterable


def spaced(value: float, decimals: int = 0) -> str:
    """Return “12 345.67”, thousands set apart by a thin no-break space; nothing, and what rounds to it, has no sign."""
    # The z takes the sign off a negative zero (PEP 682).
    return f"{value:z,.{decimals}f}".replace(",", "\u202f")


def size_words(size: float) -> str:
    """Return a number of bytes as “1.25 GB”, “3.4 MB” or “12.0 kB”."""
    if size >= 1e9:
        return f"{size / 1e9:.2f} GB"
    return f"{size / 1e6:.1f} MB" if size >= 1e5 else f"{size / 1e3:.1f} kB"


def gap_words(value: float, decimals: int = 3) -> str:
    """Return how far something differs: “0.918”, “< 0.001” where that would round to nothing, “0.000” for nothing at all."""
    step = 10.0**-decimals
    return f"< {step:.{decimals}f}" if 0.0 < abs(value) < step / 2.0 else f"{value:.{decimals}f}"


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


# A message that names what there is says no more of it than fits in a line.
_MOST_LISTED = 110
_MOST_NEAR = 3


def shortly(word: str) -> str:
    """Return a word that somebody typed, cut where it is too long for a message."""
    return word if len(word) <= 40 else f"{word[:39]}…"


def nearest(word: str, known: Iterable[str]) -> list[str]:
    """Return the few of some names that are spelled most like a word, the nearest first."""
    names = list(dict.fromkeys(known))
    small = word.lower()
    by_small: dict[str, str] = {}
    for name in names:
        by_small.setdefault(name.lower(), name)
    inside = [name for name in by_small if len(small) > 2 and (small in name or name in small) and len(name) > 2]
    close = difflib.get_close_matches(small, list(by_small), n=_MOST_NEAR, cutoff=0.6)
    return [by_small[name] for name in dict.fromkeys((*close, *sorted(inside, key=len)))][:_MOST_NEAR]


def instead(word: str, known: Iterable[str]) -> str:
    """Return what is to be said after a name that is not known: the nearest ones, or what there is as far as it fits."""
    names = [shortly(name) for name in dict.fromkeys(known)]
    near = nearest(word, names)
    if near:
        return f"did you mean {' or '.join(near)}?"
    if not names:
        return "there is none"
    told: list[str] = []
    size = 0
    for name in names:
        size += len(name) + 2
        if size > _MOST_LISTED and told:
            break
        told.append(name)
    more = len(names) - len(told)
    return f"there {'is' if len(names) == 1 else 'are'} {', '.join(told)}" + (f" and {more} more" if more else "")


def place_words(east: float, north: float) -> str:
    """Return “E 431.250, N 887.500”, with six decimals where the numbers can be degrees."""
    on_globe = abs(east) <= 360.0 and abs(north) <= 90.0 and (round(east, 3), round(north, 3)) != (east, north)
    digits = 6 if on_globe else 3
    return f"E {east:.{digits}f}, N {north:.{digits}f}"
