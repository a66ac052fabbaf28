"""Finding things by what was typed: any of their words, the beginnings of words, and words that were typed wrong."""

from __future__ import annotations

import difflib
import re
from collections.abc import Callable, Sequence
from typing import TypeVar

T = TypeVar("T")

# A word that is typed wrong is taken for one that is as like it as this.
_ALIKE = 0.78


def found(text: str, entries: Sequence[T], names: Callable[[T], Sequence[str]], rank: Callable[[T], int]) -> list[T]:
    """Return the entries that fit what was typed, the best first.

    Parameters
    ----------
    names : callable
        Gives the words that an entry goes by, its title first.
    rank : callable
        Which of entries that fit equally comes first: the one with the lowest.
    """
    words = text.lower().split()
    good = _ranked(words, entries, names, rank)
    if good:
        return good
    known = {word for each in entries for name in names(each) for word in name.lower().split() if len(word) > 3}
    meant = [(difflib.get_close_matches(word, known, 1, _ALIKE) or [word])[0] for word in words]
    return _ranked(meant, entries, names, rank) if meant != words else []


def _ranked(
    words: Sequence[str], entries: Sequence[T], names: Callable[[T], Sequence[str]], rank: Callable[[T], int]
) -> list[T]:
    scored = [
        # Of “Slope” and “Slope arrows” the shorter is meant by “slo”.
        (score, rank(each), len(names(each)[0]), each)
        for each in entries
        if (score := _score(words, names(each))) is not None
    ]
    return [each for *_, each in sorted(scored, key=lambda one: one[:3])]


def _score(words: Sequence[str], names: Sequence[str]) -> float | None:
    """Return how well what was typed fits any of some names: 0 for the name itself; None where it does not.

    Every word that was typed has to begin a word of the name, or stand within one from its third letter on.
    """
    best: float | None = None
    for place, name in enumerate(names):
        inside = name.lower()
        parts = [inside, *re.findall(r"[^\s(),/–-]+", inside)]
        if not words or not all(
            any(part.startswith(word) for part in parts) or (len(word) > 2 and word in inside) for word in words
        ):
            continue
        begins = all(any(part.startswith(word) for part in parts) for word in words)
        score = 0.0 if inside == " ".join(words) else 1.0 if inside.startswith(words[0]) else 2.0 if begins else 3.0
        score += 0.5 * min(place, 1)
        best = score if best is None else min(best, score)
    return best
