"""Cleaning points by hand: a log of readable lines, replayed on whatever the points are now."""

from __future__ import annotations

import dataclasses
import re
from dataclasses import dataclass

import numpy as np

from vastgrid.base.errors import CallError
from vastgrid.base.findings import Finding
from vastgrid.data.classes import CLASSES, class_words
from vastgrid.data.pointset import PointSet
from vastgrid.terrain.editing.logs import OFF, Log
from vastgrid.terrain.editing.picking import Picks, picked, read_picks, said_of, words_of

DELETE, KEEP, CLASS = "delete", "keep", "class"
FORMS = ("delete inside E,N E,N E,N", "keep inside E,N E,N E,N above Z below Z", "class 7 inside E,N E,N E,N")


@dataclass(frozen=True, slots=True)
class Cleaning:
    """One line of the log.

    Attributes
    ----------
    word : str
        “delete” takes the points out, “keep” all others, “class” gives them a class.
    picks : tuple
        Which points.
    code : int
        The class.
    """

    word: str
    picks: Picks
    code: int = 0

    def line(self) -> str:
        """Return the line that is read back as this."""
        return " ".join([self.word, *([str(self.code)] if self.word == CLASS else []), words_of(self.picks)])


def read_cleaning(line: str) -> Cleaning:
    """Return an entry from its line, switched off or not.

    Raises
    ------
    CallError
        If it is none.
    """
    own = line.removeprefix(OFF)
    word, *words = re.sub(r"\s*,\s*", ",", own).split() or [""]
    word = word.lower()
    try:
        if word in (DELETE, KEEP):
            return Cleaning(word, read_picks([each.lower() for each in words]))
        if word == CLASS:
            code = int(words[0])
            if not 0 <= code <= 255:
                raise CallError("classes are 0 to 255")
            return Cleaning(word, read_picks([each.lower() for each in words[1:]]), code)
    except CallError as error:
        raise CallError(f"“{own}”: {error}") from error
    except (ValueError, IndexError) as error:
        raise CallError(f"“{own}” cannot be read; such lines are: {'; '.join(FORMS)}") from error
    raise CallError(f"“{own}” is nothing that can be done to points; such lines are: {'; '.join(FORMS)}")


class CleaningLog(Log):
    """What was done to points by hand."""

    @classmethod
    def tidied(cls, line: str) -> str:
        """Return an entry as it is kept."""
        return read_cleaning(line).line()

    @classmethod
    def shown(cls, line: str, unit: str = "") -> str:
        """Return an entry as people read it."""
        cleaning = read_cleaning(line)
        where = said_of(cleaning.picks, unit)
        if cleaning.word == DELETE:
            return f"points deleted {where}"
        if cleaning.word == KEEP:
            return f"only the points kept {where}"
        return f"points made {class_words(cleaning.code)} {where}"

    @classmethod
    def place(cls, line: str) -> tuple[float, float]:
        """Return the place that an entry leads to."""
        return read_cleaning(line).picks[0][1].at


@dataclass(frozen=True, slots=True)
class Cleaned:
    """What a log made of points.

    Attributes
    ----------
    points : PointSet
        What is left, with its classes.
    findings : tuple of Finding
        Each entry that finds nothing, with its place.
    made, missed : int
        How many entries applied, and how many did not.
    dropped, classed : int
        How many points were taken out, and how often one was given another class.
    """

    points: PointSet
    findings: tuple[Finding, ...]
    made: int
    missed: int
    dropped: int
    classed: int


def cleaned(points: PointSet, log: CleaningLog) -> Cleaned:
    """Do what a log says; an entry that finds no point becomes a finding with its place, and the others still apply."""
    left = np.ones(len(points.xyz), np.bool_)
    classes = points.attributes.get(CLASSES)
    findings = []
    made = classed = 0
    for number, line in enumerate(log.entries, log.before + 1):
        if line.startswith(OFF):
            continue
        cleaning = read_cleaning(line)
        chosen, why = _chosen(points, cleaning.picks, classes)
        chosen &= left
        if chosen.any() and not (
            cleaning.word == CLASS or (left & ~chosen if cleaning.word == DELETE else chosen).any()
        ):
            chosen, why = np.zeros_like(chosen), "nothing would be left"
        if not chosen.any():
            text = f"Edit {number} ({CleaningLog.shown(line)}) does not apply: {why or 'there are no points'}."
            at = cleaning.picks[0][1].at
            findings.append(Finding("edit-not-applied", text, at=at if np.isfinite(at[0]) else None))
            continue
        made += 1
        if cleaning.word == DELETE:
            left &= ~chosen
        elif cleaning.word == KEEP:
            left &= chosen
        else:
            # Who has no classes yet was never classified (0).
            classes = np.zeros(len(left), np.uint8) if classes is None else np.array(classes)
            classed += int((classes[chosen] != cleaning.code).sum())
            classes[chosen] = cleaning.code
    attributes = points.attributes if classes is None else {**points.attributes, CLASSES: classes}
    result = dataclasses.replace(points, attributes=attributes)
    dropped = int(len(left) - left.sum())
    result = result.chosen(left) if dropped else result
    return Cleaned(result, tuple(findings), made, len(findings), dropped, classed)


def _chosen(points: PointSet, picks: Picks, classes: object) -> tuple[np.ndarray, str]:
    try:
        return picked(points, picks, classes), ""  # type: ignore[arg-type]
    except CallError as error:
        return np.zeros(len(points.xyz), np.bool_), str(error)
