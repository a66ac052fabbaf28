"""Edits made by hand: a log of readable lines, replayed by coordinates on whatever the surface is now.

Each line is what a person would write: ``set E,N Z``, ``cut E,N E,N``, ``raise D inside E,N E,N E,N``. A line that begins
with “off” stays in the log and does nothing.
"""

from __future__ import annotations

import hashlib
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from vastgrid.base.errors import CallError
from vastgrid.base.findings import Finding, count
from vastgrid.base.quantities import Length, parse_length, unit_word
from vastgrid.data.dataset import Floats
from vastgrid.data.tin import Tin
from vastgrid.kernels.planar import NOWHERE, ON_VERTEX, clear_edge, find_edge
from vastgrid.params.kinds import Kind, register
from vastgrid.shaping.working import BREAK, SHOWN, Working, usual_near

# A place that lies this close to a vertex, in metres, is the vertex itself.
SAME = 0.001
# Rounds in which heights are evened out.
ROUNDS = 3

Places = tuple[tuple[float, float], ...]


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
        on = sum(not entry.startswith(OFF) for entry in self.entries)
        if not self.entries:
            return "no edit"
        return (
            count(on, "edit")
            if on == len(self.entries)
            else f"{count(on, 'edit')} (and {len(self.entries) - on} switched off)"
        )

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


OFF = "off "


@dataclass(frozen=True, slots=True)
class Edit:
    """One edit as it was read.

    Attributes
    ----------
    word : str
        Which kind.
    places : tuple of (float, float)
        Easting and northing of each place.
    heights : tuple of float or None
        Height at each place, where some are given.
    value : Length or None
        A height, or how much.
    inside : tuple of (float, float)
        The ring inside which it counts.
    """

    word: str
    places: Places = ()
    heights: tuple[float | None, ...] = ()
    value: Length | None = None
    inside: Places = ()

    @property
    def at(self) -> tuple[float, float]:
        """The place that leads to it: its only one, or the middle of its extent."""
        own = self.places or self.inside
        east, north = [e for e, _ in own], [n for _, n in own]
        if len(own) <= 2 and self.word == "move":
            return own[0]
        return (min(east) + max(east)) / 2.0, (min(north) + max(north)) / 2.0

    def line(self) -> str:
        """Return the line that is read back as this."""
        words = [self.word]
        if self.word in ("raise", "level", "even"):
            words.append(_length(self.value))
        if self.word == "move":
            words += [_pair(self.places[0]), "to", _pair(self.places[1])]
        else:
            heights = self.heights or (None,) * len(self.places)
            words += [_pair(p) + ("" if z is None else f",{z!r}") for p, z in zip(self.places, heights, strict=True)]
        if self.word in ("set", "add") and self.value is not None:
            words.append(_length(self.value))
        if self.inside:
            words += ["inside", *(_pair(p) for p in self.inside)]
        return " ".join(words)


def _pair(place: tuple[float, float]) -> str:
    return f"{place[0]!r},{place[1]!r}"


def _length(value: Length | None) -> str:
    return "" if value is None else f"{value.value!r}{value.unit.value if value.unit else ''}"


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
    """

    word: str
    form: str
    read: Callable[[Sequence[str]], Edit]
    said: Callable[[Edit, str], str]
    apply: Callable[[Working, Edit], str]


# ------------------------------------------------------------------------------------------------ reading lines


def _place(word: str) -> tuple[float, float]:
    east, north = (float(part) for part in word.split(","))
    if not (np.isfinite(east) and np.isfinite(north)):
        raise ValueError(word)
    return east, north


def _ring(words: Sequence[str]) -> Places:
    ring = tuple(_place(word) for word in words)
    if len(ring) > 3 and ring[0] == ring[-1]:
        ring = ring[:-1]
    if len(ring) < 3:
        raise CallError("an area needs three corners")
    return ring


def _line_or_inside(word: str) -> Callable[[Sequence[str]], Edit]:
    def read(words: Sequence[str]) -> Edit:
        if words and words[0] == "inside":
            return Edit(word, inside=_ring(words[1:]))
        places = tuple(_place(each) for each in words)
        if not places:
            raise ValueError("no place")
        return Edit(word, places)

    return read


def _one_place(word: str) -> Callable[[Sequence[str]], Edit]:
    def read(words: Sequence[str]) -> Edit:
        (place,) = words
        return Edit(word, (_place(place),))

    return read


def _place_and_height(word: str, *, open_: bool = False) -> Callable[[Sequence[str]], Edit]:
    def read(words: Sequence[str]) -> Edit:
        if open_ and len(words) == 1:
            return Edit(word, (_place(words[0]),))
        place, height = words
        return Edit(word, (_place(place),), value=parse_length(height))

    return read


def _move(words: Sequence[str]) -> Edit:
    first, to, last = words
    if to != "to":
        raise ValueError(to)
    return Edit("move", (_place(first), _place(last)))


def _value_inside(word: str) -> Callable[[Sequence[str]], Edit]:
    def read(words: Sequence[str]) -> Edit:
        if words[1] != "inside":
            raise ValueError(words[1])
        return Edit(word, value=parse_length(words[0]), inside=_ring(words[2:]))

    return read


def _triple(word: str) -> tuple[float, float, float | None]:
    parts = [float(part) for part in word.split(",")]
    if len(parts) not in (2, 3) or not all(np.isfinite(parts)):
        raise ValueError(word)
    return parts[0], parts[1], parts[2] if len(parts) == 3 else None


def _drawn(words: Sequence[str]) -> Edit:
    rows = [_triple(word) for word in words]
    if len(rows) < 2:
        raise CallError("a line needs two places")
    return Edit("line", tuple((e, n) for e, n, _ in rows), tuple(z for *_, z in rows))


def _plane(words: Sequence[str]) -> Edit:
    at = list(words).index("inside")
    rows = [_triple(word) for word in words[:at]]
    if len(rows) != 3 or any(z is None for *_, z in rows):
        raise CallError("a plane needs three places with heights")
    edit = Edit("plane", tuple((e, n) for e, n, _ in rows), tuple(z for *_, z in rows), inside=_ring(words[at + 1 :]))
    (ax, ay), (bx, by), (cx, cy) = edit.places
    if abs((bx - ax) * (cy - ay) - (by - ay) * (cx - ax)) < 1e-9:
        raise CallError("the three places of a plane lie on one straight line")
    return edit


# ------------------------------------------------------------------------------------------------ making them


def _no_vertex(edit: Edit) -> str:
    east, north = edit.places[0]
    return f"there is no vertex at E {east:.3f}, N {north:.3f}"


def _cut(work: Working, edit: Edit) -> str:
    return "" if work.take_out(_meant(work, edit)) else "there is no ground there"


def _restore(work: Working, edit: Edit) -> str:
    return "" if work.bring_back(_meant(work, edit)) else "there is nothing to bring back there"


def _meant(work: Working, edit: Edit) -> Any:
    if edit.inside:
        return work.within(_closed(edit.inside))
    places = np.array(edit.places if len(edit.places) > 1 else edit.places * 2)
    return work.crossed_by(places)


def _closed(ring: Places) -> Floats:
    return np.array([*ring, ring[0]])


def _swap(work: Working, edit: Edit) -> str:
    found = work.edge_at(*edit.places[0])
    if found is None:
        return f"there is no edge at E {edit.places[0][0]:.3f}, N {edit.places[0][1]:.3f}"
    return work.swap(*found)


def _add(work: Working, edit: Edit) -> str:
    east, north = edit.places[0]
    t, what, k = work.locate(east, north)
    if what == NOWHERE or work.height_at(east, north) is None:
        return "there is no ground there"
    same = work.vertex_at(east, north)
    if what == ON_VERTEX or (same is not None and np.hypot(*(work.xyz[same, :2] - (east, north))) <= _same(work)):
        return "there is a vertex already"
    height = work.height_at(east, north)
    assert height is not None
    z = edit.value.in_unit(work.tin.frame.vertical, "height") if edit.value is not None else height
    work.put(work.new_vertex(east, north, z), t, what, k)
    work.built_from_too([(east, north, z)])
    return ""


def _same(work: Working) -> float:
    return usual_near(work.tin, SAME)


def _remove(work: Working, edit: Edit) -> str:
    vertex = work.vertex_at(*edit.places[0])
    if vertex is None:
        return _no_vertex(edit)
    work.open()
    place = (float(work.xyz[vertex, 0]), float(work.xyz[vertex, 1]))
    why = work.lift(vertex)
    if not why:
        work.followed(place, None)
    return why


def _move_vertex(work: Working, edit: Edit) -> str:
    vertex = work.vertex_at(*edit.places[0])
    if vertex is None:
        return _no_vertex(edit)
    work.open()
    east, north = edit.places[1]
    before = work.xyz[vertex].copy()
    x, y = work.local(east, north)
    stays = True
    for t in work._around(vertex).tolist():
        corner = [int(v) for v in work.tri[t]]
        at = corner.index(vertex)
        a, b = corner[(at + 1) % 3], corner[(at + 2) % 3]
        (ax, ay), (bx, by) = work.xy[a], work.xy[b]
        stays = stays and (bx - ax) * (y - ay) - (by - ay) * (x - ax) > 0.0
    if stays:
        work.xyz[vertex, :2] = east, north
        work.xy[vertex] = x, y
        work.legalise(vertex)
        work._structure = True
    else:
        kept = work.edges_kept_at(vertex)
        if any(bits & 4 for _, bits in kept):
            return "it lies at the rim, and would leave the ground around it"
        t, what, _ = work.locate(east, north)
        if what in (NOWHERE, ON_VERTEX) or work.part[t] != SHOWN:
            return "there is no ground where it should go" if what != ON_VERTEX else "there is a vertex already"
        why = work.lift(vertex)
        if why:
            return why
        t, what, k = work.locate(east, north)
        new = work.new_vertex(east, north, float(before[2]))
        work.put(new, t, what, k)
        for other, bits in kept:
            if bits & BREAK:
                work.keep(other, new, BREAK)
    work.followed((float(before[0]), float(before[1])), (east, north, float(before[2])))
    return ""


def _set(work: Working, edit: Edit) -> str:
    vertex = work.vertex_at(*edit.places[0])
    if vertex is None:
        return _no_vertex(edit)
    assert edit.value is not None
    work.set_heights(np.array([vertex]), np.array([edit.value.in_unit(work.tin.frame.vertical, "height")]))
    return ""


def _inside(work: Working, edit: Edit, heights: Callable[[Floats], Floats]) -> str:
    own = work.ground_vertices(_closed(edit.inside))
    if len(own) == 0:
        return "there is no vertex inside"
    work.set_heights(own, heights(work.xyz[own]))
    return ""


def _amount(work: Working, edit: Edit) -> float:
    assert edit.value is not None
    return edit.value.in_unit(work.tin.frame.vertical, edit.word)


def _raise(work: Working, edit: Edit) -> str:
    return _inside(work, edit, lambda xyz: xyz[:, 2] + _amount(work, edit))


def _level(work: Working, edit: Edit) -> str:
    return _inside(work, edit, lambda xyz: np.full(len(xyz), _amount(work, edit)))


def _to_plane(work: Working, edit: Edit) -> str:
    rows = np.array([(*place, z) for place, z in zip(edit.places, edit.heights, strict=True)], np.float64)
    first = rows[0]
    slopes = np.linalg.solve(rows[1:, :2] - first[:2], rows[1:, 2] - first[2])
    return _inside(work, edit, lambda xyz: first[2] + (xyz[:, :2] - first[:2]) @ slopes)


def _even(work: Working, edit: Edit) -> str:
    """Move each vertex towards the plane through its neighbours, at most as far as is said."""
    most = _amount(work, edit)
    own = work.ground_vertices(_closed(edit.inside))
    if len(own) == 0:
        return "there is no vertex inside"
    work.open()
    rings = [work.neighbours_of(int(v)) for v in own]
    before = work.xyz[own, 2].copy()
    for _ in range(ROUNDS):
        wanted = np.array([_plane_at(work.xyz[v], work.xyz[ring]) for v, ring in zip(own.tolist(), rings, strict=True)])
        work.xyz[own, 2] = np.clip(wanted, before - most, before + most)
    work.set_heights(own, work.xyz[own, 2].copy())
    return ""


def _plane_at(place: Floats, around: Floats) -> float:
    """Return the height at a place of the plane that fits its neighbours best."""
    if len(around) < 4:
        return float(around[:, 2].mean()) if len(around) else float(place[2])
    rows = np.column_stack((around[:, :2] - place[:2], np.ones(len(around))))
    return float(np.linalg.lstsq(rows, around[:, 2], rcond=None)[0][2])


def _line(work: Working, edit: Edit) -> str:
    """Put the places in as vertices, and edges that stay between them."""
    work.open()
    heights = list(edit.heights) or [None] * len(edit.places)
    places = np.array(edit.places)
    if not (work.part[work.crossed_by(places)] == SHOWN).any():
        return "there is no ground along it"
    drawn = []
    for (east, north), given in zip(edit.places, heights, strict=True):
        here = work.height_at(east, north)
        drawn.append((east, north, here if given is None else given))
    known = [k for k, (*_, z) in enumerate(drawn) if z is not None]
    if not known:
        return "no height is known along it"
    for k, (east, north, z) in enumerate(drawn):
        if z is None:
            near = min(known, key=lambda other: abs(other - k))
            drawn[k] = (east, north, drawn[near][2])
    way: list[int] = []
    for east, north, z in drawn:
        assert z is not None
        vertex = _vertex_for(work, east, north, z)
        if not way:
            way.append(vertex)
        elif vertex != way[-1]:
            way += work.keep(way[-1], vertex, BREAK)[1:]
    work.built_from_too([], work.xyz[way].copy())
    return ""


def _vertex_for(work: Working, east: float, north: float, z: float) -> int:
    """Return the vertex at a place, with the height that is drawn, or a new one."""
    t, what, k = work.locate(east, north)
    if what == NOWHERE:
        raise CallError("it leads far away from the ground")
    corners = work.tri[t]
    away = np.hypot(work.xyz[corners, 0] - east, work.xyz[corners, 1] - north)
    nearest = int(away.argmin())
    if away[nearest] <= _same(work):
        vertex = int(corners[nearest])
        work.set_heights(np.array([vertex]), np.array([z]))
        return vertex
    vertex = work.new_vertex(east, north, z)
    work.put(vertex, t, what, k)
    return vertex


def _release(work: Working, edit: Edit) -> str:
    """Take a breakline off, as far as it goes without meeting another; its vertices stay."""
    found = work.edge_at(*edit.places[0])
    if found is None or not work.flag[found[0], found[1]] & BREAK:
        return f"there is no breakline at E {edit.places[0][0]:.3f}, N {edit.places[0][1]:.3f}"
    t, k = found
    ends = [int(work.tri[t, k]), int(work.tri[t, (k + 1) % 3])]
    chain = [tuple(ends)]
    for here, before in (tuple(ends), tuple(reversed(ends))):
        last, came = here, before
        for _ in range(1_000_000):
            others = [v for v, bits in work.edges_kept_at(last) if bits & BREAK and v != came]
            if len(others) != 1 or tuple(sorted((last, others[0]))) in {tuple(sorted(pair)) for pair in chain[-3:]}:
                break
            chain.append((last, others[0]))
            last, came = others[0], last
            if last in ends:
                break
    touched = set()
    for a, b in chain:
        t, k = find_edge(work.tri, work.nbr, work.at, a, b)
        if t >= 0:
            clear_edge(work.tri, work.nbr, work.flag, t, k, BREAK)
            touched |= {a, b}
    for vertex in sorted(touched):
        work.legalise(vertex)
    work._structure = True
    return ""


# ------------------------------------------------------------------------------------------------ saying them


def _at(place: tuple[float, float]) -> str:
    return f"E {place[0]:.3f}, N {place[1]:.3f}"


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


KINDS: tuple[EditKind, ...] = (
    EditKind("cut", "cut E,N E,N", _line_or_inside("cut"), lambda e, u: f"triangles taken out {_where(e)}", _cut),
    EditKind(
        "restore", "restore E,N E,N", _line_or_inside("restore"), lambda e, u: f"triangles brought back {_where(e)}", _restore
    ),
    EditKind("swap", "swap E,N", _one_place("swap"), lambda e, u: f"edge {_where(e)} swapped", _swap),
    EditKind(
        "add", "add E,N Z", _place_and_height("add", open_=True),
        lambda e, u: f"vertex added {_where(e)} with {_measure(e.value, u)}", _add,
    ),
    EditKind("remove", "remove E,N", _one_place("remove"), lambda e, u: f"vertex {_where(e)} removed", _remove),
    EditKind(
        "move", "move E,N to E,N", _move,
        lambda e, u: f"vertex at {_at(e.places[0])} moved to {_at(e.places[1])}", _move_vertex,
    ),
    EditKind(
        "set", "set E,N Z", _place_and_height("set"), lambda e, u: f"vertex {_where(e)} set to {_measure(e.value, u)}", _set
    ),
    EditKind("raise", "raise D inside E,N E,N E,N", _value_inside("raise"), _raised, _raise),
    EditKind(
        "level", "level Z inside E,N E,N E,N", _value_inside("level"),
        lambda e, u: f"ground set to {_measure(e.value, u)} {_where(e)}", _level,
    ),
    EditKind(
        "plane", "plane E,N,Z E,N,Z E,N,Z inside E,N E,N E,N", _plane,
        lambda e, u: f"ground set to a plane through three places {_where(e)}", _to_plane,
    ),
    EditKind(
        "even", "even D inside E,N E,N E,N", _value_inside("even"),
        lambda e, u: f"ground evened out by up to {_measure(e.value, u)} {_where(e)}", _even,
    ),
    EditKind("line", "line E,N,Z E,N,Z", _drawn, lambda e, u: f"breakline drawn {_where(e)}", _line),
    EditKind(
        "release", "release E,N", _one_place("release"), lambda e, u: f"breakline {_where(e)} taken off", _release
    ),
)  # fmt: skip
_BY_WORD = {each.word: each for each in KINDS}
_NUMBER = r"([+-]?\d+(?:\.\d*)?(?:[eE][+-]?\d+)?)"
# As jobs of an earlier version have it.
_EARLIER = re.compile(rf"set height at E {_NUMBER} N {_NUMBER} to (.+)", re.IGNORECASE)


def read_edit(line: str) -> tuple[EditKind, Edit]:
    """Return an edit from its line, switched off or not.

    Raises
    ------
    CallError
        If it is none.
    """
    own = line.removeprefix(OFF)
    earlier = _EARLIER.fullmatch(own)
    if earlier:
        own = f"set {earlier[1]},{earlier[2]} {earlier[3].replace(' ', '')}"
    word, *words = re.sub(r"\s*,\s*", ",", own).split()
    kind = _BY_WORD.get(word.lower())
    if kind is None:
        known = "; ".join(each.form for each in KINDS)
        raise CallError(f"“{own}” is no edit; edits are: {known}")
    try:
        return kind, kind.read(words)
    except CallError as error:
        raise CallError(f"“{own}”: {error}; it is written {kind.form}") from error
    except (ValueError, IndexError) as error:
        raise CallError(f"“{own}” cannot be read; it is written {kind.form}") from error


def _parse(_: Any, word: str) -> EditLog:
    lines = []
    for number, line in enumerate(re.split(r"[\n;]", word), 1):
        own = " ".join(line.split("#")[0].split())
        if own:
            try:
                edit = read_edit(own)[1].line()
            except CallError as error:
                raise CallError(f"line {number}: {error}") from error
            lines.append(OFF + edit if own.startswith(OFF) else edit)
    return EditLog(tuple(lines))


register(EditLog, Kind(_parse, lambda log: "\n".join(log.entries), str, "lines", large=True))


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
        if kind.word == "restore":
            # From the surface as it is kept, so that it does not matter how many edits came in one go.
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


def shown(line: str, word: str = "") -> str:
    """Return an entry as people read it: a sentence without its full stop.

    Parameters
    ----------
    word : str
        Unit of heights that have none of their own, as it follows a number.
    """
    kind, edit = read_edit(line)
    return kind.said(edit, word)


def set_height_line(east: float, north: float, height: Length) -> str:
    """Return the entry that gives a vertex another height."""
    return Edit("set", ((east, north),), value=height).line()


def nearest_vertex(vertices: Floats, east: float, north: float) -> int:
    """Return the vertex nearest to a place in plan; all are looked at, 20 ms for two million."""
    return int(((vertices[:, 0] - east) ** 2 + (vertices[:, 1] - north) ** 2).argmin())
