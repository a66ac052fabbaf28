"""Output formats compared: one surface as contours, grid and TIN, each three ways, with what each holds, weighs and costs."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from vastgrid import catalog
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import unit_word
from vastgrid.base.words import gap_words, size_words, spaced
from vastgrid.data.dataset import Dataset
from vastgrid.data.grid import Grid
from vastgrid.data.kinds import kind_of
from vastgrid.data.loss import Loss
from vastgrid.data.tin import Tin
from vastgrid.declarations.conversion import Conversion
from vastgrid.execution.steps import check_usable, convert, settled
from vastgrid.params import declare

# Of the five ways in which a conversion is tried, those in the middle.
EACH = 3


@dataclass(frozen=True, slots=True)
class Way:
    """One form in which a surface can be sent.

    Attributes
    ----------
    conversion : Conversion or None
        What makes it; None for the surface as it is.
    words : dict
        How.
    """

    conversion: Conversion | None
    words: dict[str, str]

    @property
    def form(self) -> str:
        """Its word: contours, grid, tin, raw."""
        return self.conversion.form if self.conversion else "raw"

    @property
    def asked(self) -> str:
        """How it is made, in words."""
        return ", ".join(self.words.values())


@dataclass(frozen=True, slots=True)
class Form:
    """What one way gives."""

    way: Way
    dataset: Dataset
    loss: Loss | None

    @property
    def counted(self) -> tuple[str, int]:
        """What is counted of it, and how many there are."""
        kind, counts = kind_of(self.dataset), self.dataset.count()
        if kind.counted == "rows":
            return "cells", counts["rows"] * counts["columns"]
        return kind.counted, counts[kind.counted]

    def bytes(self) -> dict[str, int]:
        """Return about how large it is in each format that can hold it, the most usual first."""
        able = [each for each in catalog.FORMATS if each.write and isinstance(self.dataset, each.carries.kinds)]
        able.sort(key=lambda each: -each.usual)
        return {each.id: round(each.weigh(self.dataset)) for each in able}

    def to_json(self) -> dict[str, Any]:
        """Return the figures by the names the command line uses."""
        return {
            "form": self.way.form,
            "asked": " ".join(f"{name}={word}" for name, word in self.way.words.items()),
            "count": self.counted[1],
            "counted": self.counted[0],
            "bytes": self.bytes(),
            "max": self.loss.largest if self.loss else None,
            "rmse": self.loss.rmse if self.loss else None,
        }


def ways(surface: Tin | Grid) -> list[Way]:
    """Return the ways in which a surface can be sent: as it is, then each form three ways, the finest first."""
    found = [Way(None, {})]
    for conversion in catalog.CONVERSIONS:
        if not conversion.form or not conversion.can_use(surface):
            continue
        given = check_usable(conversion, [surface])
        tries = conversion.tries(given, settled(conversion, given, conversion.params()))
        first = max((len(tries) - EACH) // 2, 0)
        found += [Way(conversion, words) for words in tries[first : first + EACH]]
    return found


def form_of(way: Way, surface: Tin | Grid, progress: Progress) -> Form:
    """Make a surface in one of its forms, and measure what it costs."""
    if way.conversion is None:
        nothing = Loss(0.0, 0.0, 0.0, 0.0, (0.0, 0.0), 0.0, 1.0, surface.frame.vertical, surface.frame.horizontal)
        return Form(way, surface, nothing)
    result, _ = convert(way.conversion, [surface], declare.build(way.conversion.params, way.words), progress)
    return Form(way, result.dataset, result.loss)


def forms(surface: Tin | Grid, progress: Progress, told: Callable[[Form], None] = lambda form: None) -> list[Form]:
    """Return a surface in every form; `told` hears of each as it is made."""
    own = ways(surface)
    made = []
    for k, way in enumerate(own):
        made.append(form_of(way, surface, progress.part(k / len(own), (k + 1) / len(own))))
        told(made[-1])
    return made


def table(made: list[Form]) -> list[list[str]]:
    """Return the forms as rows of texts, a heading first."""
    rows = [["form", "asked", "holds", "size", "largest loss", "RMSE"]]
    for each in made:
        name, number = each.counted
        size = ", ".join(f"{size_words(value)} {ident}" for ident, value in list(each.bytes().items())[:2])
        unit = unit_word(each.dataset.frame.vertical)
        loss = (
            [f"{gap_words(each.loss.largest)}{unit}", f"{gap_words(each.loss.rmse)}{unit}"] if each.loss else ["", ""]
        )
        rows.append([each.way.form, each.way.asked or "as it is", f"{spaced(number)} {name}", size, *loss])
    return rows
