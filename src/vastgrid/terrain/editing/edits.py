"""Edits made by hand: a log of readable lines, replayed by coordinates on whatever the surface is now.

Each line is what a person would write: ``set E,N Z``, ``cut E,N E,N``, ``raise D inside E,N E,N E,N``. A line that begins
with “off” stays in the log and does nothing.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass

from vastgrid.base.errors import CallError
from vastgrid.base.findings import Finding, count
from vastgrid.base.quantities import Length, unit_word
from vastgrid.base.words import instead, place_words, shortly
from vastgrid.data.dataset import Floats
from vastgrid.data.tin import Tin
from vastgrid.terrain.editing import edit_lines as reading
from vastgrid.terrain.editing import edit_making as making
from vastgrid.terrain.editing.edit_lines import Edit
from vastgrid.terrain.editing.logs import OFF, Log
from vastgrid.terrain.editing.working import Working


class EditLog(Log):
    """Edits of a TIN."""

    @classmethod
    def tidied(cls, line: str) -> str:
        """Return an entry as it is kept."""
        return read_edit(line)[1].line()

    @classmethod
    def shown(cls, line: str, unit: str = "") -> str:
        """Return an entry as people read it."""
        kind, edit = read_edit(line)
        return kind.said(edit, unit)

    @classmethod
    def place(cls, line: str) -> tuple[float, float]:
        """Return the place that an entry leads to."""
        return read_edit(line)[1].at


@dataclass(frozen=True, slots=True)
class EditTool:
    """What a hand does to make an edit: places it shows, and what it is asked for.

    Attributes
    ----------
    text, group, tip : str
        A word or two; what it changes, “triangles”, “vertices”, “lines” or “heights”; and a sentence.
    gathers : str
        “one” place, “two”, a “line” or an “area”.
    means : str
        “vertex” or “edge” where the first place means the nearest one; empty for the place itself.
    asks : str
        “height” or “amount” where a number is needed, otherwise empty.
    edit : callable
        Places and number → the edit.
    """

    text: str
    group: str
    tip: str
    gathers: str
    edit: Callable[[reading.Places, Length | None], Edit]
    asks: str = ""
    means: str = ""


@dataclass(frozen=True, slots=True)
class EditKind:
    """One kind of edit.

    Attributes
    ----------
    word : str
        How its line begins.
    form : str
        How it is written, for messages.
    read : callable
        The words after the first → the edit; raises CallError or ValueError.
    said : callable
        Edit and the word of a unit → what it does, as people read it.
    apply : callable
        Working TIN and edit → why it does not apply, or empty.
    edit_tools : tuple of EditTool
        How it is made by hand.
    """

    word: str
    form: str
    read: Callable[[Sequence[str]], Edit]
    said: Callable[[Edit, str], str]
    apply: Callable[[Working, Edit], str]
    edit_tools: tuple[EditTool, ...] = ()


# ------------------------------------------------------------------------------------------------ saying them


def _at(place: tuple[float, float]) -> str:
    return f"{place_words(place[0], place[1])}"


def _where(edit: Edit) -> str:
    if edit.inside:
        return f"inside {count(len(edit.inside), 'corner')} about {_at(edit.at)}"
    if len(edit.places) == 1:
        return f"at {_at(edit.places[0])}"
    return f"along {count(len(edit.places), 'place')} from {_at(edit.places[0])}"


def _measure(value: Length | None, unit: str, sign: bool = False) -> str:
    if value is None:
        return "the ground's own height"
    number = f"{value.value:+.3f}" if sign else f"{value.value:.3f}"
    return f"{number}{' ' + value.unit.value if value.unit else unit}"


def _raised(edit: Edit, unit: str) -> str:
    assert edit.value is not None
    up = edit.value.value >= 0.0
    amount = Length(abs(edit.value.value), edit.value.unit)
    return f"ground {'raised' if up else 'lowered'} by {_measure(amount, unit)} {_where(edit)}"


def _places(word: str) -> Callable[[reading.Places, Length | None], Edit]:
    return lambda places, value: Edit(word, places, value=value)


def _inside(word: str) -> Callable[[reading.Places, Length | None], Edit]:
    return lambda places, value: Edit(word, value=value, inside=places)


_CUT = (
    EditTool(
        "delete triangles", "triangles", "Delete every triangle that a drawn line crosses.", "line", _places("cut")
    ),
    EditTool("delete inside", "triangles", "Delete the triangles inside a drawn area.", "area", _inside("cut")),
)
_RESTORE = (
    EditTool(
        "restore triangles",
        "triangles",
        "Restore every triangle that a drawn line crosses.",
        "line",
        _places("restore"),
    ),
    EditTool("restore inside", "triangles", "Restore the triangles inside a drawn area.", "area", _inside("restore")),
)
KINDS: tuple[EditKind, ...] = (
    EditKind("cut", "cut E,N E,N", reading.line_or_inside("cut"), lambda e, u: f"triangles taken out {_where(e)}", making.cut, _CUT),
    EditKind(
        "restore", "restore E,N E,N", reading.line_or_inside("restore"), lambda e, u: f"triangles brought back {_where(e)}",
        making.restore, _RESTORE,
    ),
    EditKind(
        "swap", "swap E,N", reading.one_place("swap"), lambda e, u: f"edge {_where(e)} swapped", making.swap,
        (EditTool("swap", "triangles", "Swap an edge with the other diagonal of its two triangles.", "one", _places("swap"), means="edge"),),
    ),
    EditKind(
        "add", "add E,N Z", reading.place_and_height("add", open_=True),
        lambda e, u: f"vertex added {_where(e)} with {_measure(e.value, u)}", making.add,
        (EditTool("add", "vertices", "Add a vertex.", "one", _places("add"), "height"),),
    ),
    EditKind(
        "move", "move E,N to E,N", reading.move,
        lambda e, u: f"vertex at {_at(e.places[0])} moved to {_at(e.places[1])}", making.move,
        (EditTool("move", "vertices", "Move a vertex: click it, then where it goes.", "two", _places("move"), means="vertex"),),
    ),
    EditKind(
        "remove", "remove E,N", reading.one_place("remove"), lambda e, u: f"vertex {_where(e)} removed", making.remove,
        (EditTool("remove", "vertices", "Remove a vertex and close the gap.", "one", _places("remove"), means="vertex"),),
    ),
    EditKind(
        "set", "set E,N Z", reading.place_and_height("set"), lambda e, u: f"vertex {_where(e)} set to {_measure(e.value, u)}",
        making.set_height, (EditTool("set height", "vertices", "Give a vertex another height.", "one", _places("set"), "height", means="vertex"),),
    ),
    EditKind(
        "raise", "raise D inside E,N E,N E,N", reading.value_inside("raise"), _raised, making.raise_by,
        (EditTool("raise", "heights", "Raise or lower the ground inside a drawn area.", "area", _inside("raise"), "amount"),),
    ),
    EditKind(
        "level", "level Z inside E,N E,N E,N", reading.value_inside("level"),
        lambda e, u: f"ground set to {_measure(e.value, u)} {_where(e)}", making.level,
        (EditTool("level", "heights", "Set the ground inside a drawn area to one height.", "area", _inside("level"), "height"),),
    ),
    EditKind(
        "plane", "plane E,N,Z E,N,Z E,N,Z inside E,N E,N E,N", reading.plane,
        lambda e, u: f"ground set to a plane through three places {_where(e)}", making.to_plane,
    ),
    EditKind(
        "even", "even D inside E,N E,N E,N", reading.value_inside("even"),
        lambda e, u: f"ground evened out by up to {_measure(e.value, u)} {_where(e)}", making.even,
        (EditTool("smooth", "heights", "Smooth noise inside a drawn area; no vertex moves by more than the amount given.", "area", _inside("even"), "amount"),),
    ),
    EditKind(
        "line", "line E,N,Z E,N,Z", reading.drawn, lambda e, u: f"breakline drawn {_where(e)}", making.draw,
        (EditTool("add breakline", "lines", "Draw a breakline on the surface.", "line", _places("line")),),
    ),
    EditKind(
        "release", "release E,N", reading.one_place("release"), lambda e, u: f"breakline {_where(e)} taken off", making.release,
        (EditTool("remove breakline", "lines", "Remove a breakline; its vertices stay.", "one", _places("release"), means="edge"),),
    ),
)  # fmt: skip
_BY_WORD = {each.word: each for each in KINDS}


def read_edit(line: str) -> tuple[EditKind, Edit]:
    """Return an edit from its line, switched off or not.

    Raises
    ------
    CallError
        If it is none.
    """
    own = line.removeprefix(OFF)
    word, *words = re.sub(r"\s*,\s*", ",", own).split()
    kind = _BY_WORD.get(word.lower())
    if kind is None:
        raise CallError(f"“{shortly(own)}” is not an edit; {instead(word, _BY_WORD)}")
    try:
        return kind, kind.read(words)
    except CallError as error:
        raise CallError(f"“{own}”: {error}; it is written {kind.form}") from error
    except (ValueError, IndexError) as error:
        raise CallError(f"“{own}” cannot be read; it is written {kind.form}") from error


@dataclass(frozen=True, slots=True)
class Replayed:
    """What replaying a log gave.

    Attributes
    ----------
    tin : Tin
        The edited surface.
    findings : tuple of Finding
        Each entry that does not apply, with its place.
    made, missed : int
        How many entries applied, and how many did not.
    """

    tin: Tin
    findings: tuple[Finding, ...]
    made: int
    missed: int


def replayed(tin: Tin, log: EditLog, near: float | None = None) -> Replayed:
    """Make edits on a TIN; one that does not apply becomes a finding with its place, and the others still do."""
    work = Working(tin, near)
    findings = []
    made = 0
    for number, line in enumerate(log.entries, log.before + 1):
        if line.startswith(OFF):
            continue
        kind, edit = read_edit(line)
        if kind.word == "restore" or (kind.word == "move" and work.moves_rim(*edit.places[0])):
            # From the surface as it is kept, so that it does not matter how many edits came in one go: the land around is
            # made anew each time, and what can be brought back, or where a rim can go, depends on it.
            work = Working(work.done(), near)
        why = _applied(work, kind, edit)
        if kind.word == "line" and work.led_through_land():
            work = Working(work.done(), near)
        if why:
            text = f"Edit {number} ({kind.said(edit, unit_word(tin.frame.vertical))}) does not apply: {why}."
            findings.append(Finding("edit-not-applied", text, at=edit.at))
        else:
            made += 1
    return Replayed(work.done(), tuple(findings), made, len(findings))


def _applied(work: Working, kind: EditKind, edit: Edit) -> str:
    try:
        return kind.apply(work, edit)
    except CallError as error:
        return str(error)


def set_height_line(east: float, north: float, height: Length) -> str:
    """Return the entry that gives a vertex another height."""
    return Edit("set", ((east, north),), value=height).line()


def nearest_vertex(vertices: Floats, east: float, north: float) -> int:
    """Return the vertex nearest to a place in plan; all are looked at, 20 ms for two million."""
    return int(((vertices[:, 0] - east) ** 2 + (vertices[:, 1] - north) ** 2).argmin())
