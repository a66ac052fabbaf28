"""Edits of a TIN by hand, as a log of lines that people can read; each kind of edit is registered once."""

from __future__ import annotations

import dataclasses
import hashlib
import math
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from vastgrid.base.errors import CallError
from vastgrid.base.findings import Finding, count
from vastgrid.base.quantities import DEGREE, Length, Unit, parse_length, unit_word
from vastgrid.data.dataset import Floats
from vastgrid.data.tin import Tin
from vastgrid.params.kinds import Kind, register

# A place counts as the vertex's own up to this, in metres; what lies farther away is another vertex.
NEAR = 0.001
# So many vertices are found by looking at all of them: a tree of two million takes longer than that.
FEW = 24


@dataclass(frozen=True)
class EditLog:
    """Edits in the order in which they were made, one line each.

    Attributes
    ----------
    before : int
        How many others were made before them; what is said of an edit counts from there.
    """

    entries: tuple[str, ...] = ()
    before: int = field(default=0, compare=False)

    def __len__(self) -> int:
        return len(self.entries)

    def __str__(self) -> str:
        return count(len(self.entries), "edit") if self.entries else "no edit"

    def rest(self, number: int) -> EditLog:
        """Return the log without its first entries."""
        return EditLog(self.entries[number:], self.before + number)

    def prefix(self, number: int) -> str:
        """Return a digest of the first entries."""
        if "chain" not in self.__dict__:
            state = hashlib.blake2b(digest_size=12)
            chain = [state.hexdigest()]
            for entry in self.entries:
                state.update(f"{entry}\n".encode())
                chain.append(state.copy().hexdigest())
            self.__dict__["chain"] = chain
        made: str = self.__dict__["chain"][number]
        return made


class Working:
    """A TIN while it is being edited.

    Parameters
    ----------
    tin : Tin
        What is edited; it stays as it is.
    """

    def __init__(self, tin: Tin) -> None:
        self.tin = tin
        self.vertices: Floats = tin.vertices.copy()
        self._near = near(tin)
        self._tree: Any = None
        self._asked = 0
        self._moved: dict[tuple[float, float], float] = {}

    def vertex_at(self, east: float, north: float) -> int | None:
        """Return the vertex at a place, or None."""
        self._asked += 1
        if self._tree is None and self._asked <= FEW:
            number = nearest_vertex(self.vertices, east, north)
            far = math.hypot(self.vertices[number, 0] - east, self.vertices[number, 1] - north)
            return number if far <= self._near else None
        # Loaded when asked for: the window opens sooner without it.
        from scipy.spatial import cKDTree

        if self._tree is None:
            self._tree = cKDTree(self.vertices[:, :2])
        away, found = self._tree.query((east, north), distance_upper_bound=self._near)
        return int(found) if math.isfinite(away) else None

    def set_height(self, vertex: int, height: float) -> None:
        """Give a vertex another height."""
        self.vertices[vertex, 2] = height
        self._moved[float(self.vertices[vertex, 0]), float(self.vertices[vertex, 1])] = height

    def done(self) -> Tin:
        """Return the edited TIN; what it is built from has the new heights too."""
        if not self._moved:
            return self.tin
        return dataclasses.replace(
            self.tin,
            vertices=self.vertices,
            source_points=self._followed(self.tin.source_points),
            break_vertices=self._followed(self.tin.break_vertices),
        )

    def _followed(self, xyz: Floats) -> Floats:
        if len(xyz) == 0:
            return xyz
        from scipy.spatial import cKDTree

        out = xyz.copy()
        places = np.array(list(self._moved))
        heights = np.array(list(self._moved.values()))
        far, number = cKDTree(places).query(xyz[:, :2], distance_upper_bound=self._near)
        same = np.isfinite(far)
        out[same, 2] = heights[number[same]]
        return out


def nearest_vertex(vertices: Floats, east: float, north: float) -> int:
    """Return the vertex nearest to a place in plan; all are looked at, 20 ms for two million."""
    return int(((vertices[:, 0] - east) ** 2 + (vertices[:, 1] - north) ** 2).argmin())


def near(tin: Tin) -> float:
    """Return how far a place may lie from the vertex that it means, in the unit of plan."""
    unit = tin.frame.horizontal
    if unit is Unit.DEGREE:
        return NEAR / DEGREE
    return NEAR / float(unit.metres) if unit else NEAR


@dataclass(frozen=True, slots=True)
class EditKind:
    """One kind of edit.

    Attributes
    ----------
    pattern : str
        Regular expression of its line; its groups go to `apply`.
    usual : callable
        Groups → the line as it is kept; raises CallError.
    apply : callable
        Working TIN and groups → why it does not apply, or empty.
    """

    pattern: str
    usual: Callable[[Sequence[str]], str]
    apply: Callable[[Working, Sequence[str]], str]


_NUMBER = r"([+-]?\d+(?:\.\d*)?(?:[eE][+-]?\d+)?)"


def set_height_line(east: float, north: float, height: Length) -> str:
    """Return the entry that gives a vertex another height."""
    unit = height.unit.value if height.unit else ""
    return f"set height at E {east!r} N {north!r} to {height.value!r}{unit}"


def _set_height_usual(groups: Sequence[str]) -> str:
    return set_height_line(float(groups[0]), float(groups[1]), parse_length(groups[2]))


def _set_height(work: Working, groups: Sequence[str]) -> str:
    east, north = float(groups[0]), float(groups[1])
    vertex = work.vertex_at(east, north)
    if vertex is None:
        return f"there is no vertex at E {east:.3f}, N {north:.3f}"
    work.set_height(vertex, parse_length(groups[2]).in_unit(work.tin.frame.vertical, "height"))
    return ""


KINDS: tuple[EditKind, ...] = (
    EditKind(rf"set height at E {_NUMBER} N {_NUMBER} to (.+)", _set_height_usual, _set_height),
)


def _read(line: str) -> tuple[EditKind, tuple[str, ...]]:
    for each in KINDS:
        found = re.fullmatch(each.pattern, line, re.IGNORECASE)
        if found:
            return each, found.groups()
    raise CallError(f"“{line}” is no edit; an edit is, for example: set height at E 431200 N 887100 to 231.4m")


def _parse(_: Any, word: str) -> EditLog:
    lines = []
    for line in re.split(r"[\n;]", word):
        own = " ".join(line.split())
        if own:
            kind, groups = _read(own)
            lines.append(kind.usual(groups))
    return EditLog(tuple(lines))


register(EditLog, Kind(_parse, lambda log: "\n".join(log.entries), str, "lines", large=True))


def edited(tin: Tin, log: EditLog) -> tuple[Tin, list[Finding]]:
    """Return a TIN with edits made; one that does not apply becomes a finding with its place, and the others still do."""
    work = Working(tin)
    findings = []
    for number, line in enumerate(log.entries, log.before + 1):
        kind, groups = _read(line)
        why = kind.apply(work, groups)
        if why:
            at = (float(groups[0]), float(groups[1]))
            text = f"Edit {number} (“{shown(line, unit_word(tin.frame.vertical))}”) does not apply: {why}."
            findings.append(Finding("edit-not-applied", text, at=at))
    return work.done(), findings


def shown(line: str, word: str = "") -> str:
    """Return an entry as people read it: coordinates to the millimetre.

    Parameters
    ----------
    word : str
        Unit of heights that have none of their own, as it follows a number.
    """
    text = re.sub(r"(?<=[EN] )([+-]?\d+\.\d+)", lambda m: f"{float(m[1]):.3f}", line)
    return re.sub(
        r" to ([+-]?[\d.]+)([a-z-]*)$", lambda m: f" to {float(m[1]):.3f}{' ' + m[2] if m[2] else word}", text
    )
