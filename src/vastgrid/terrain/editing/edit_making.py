"""What each kind of edit does to a TIN that is being edited; each says why it does not apply, or nothing."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from vastgrid.base.errors import CallError
from vastgrid.base.words import place_words
from vastgrid.data.dataset import Floats
from vastgrid.kernels.triangles.planar import NOWHERE, ON_VERTEX, clear_edge, find_edge
from vastgrid.terrain.editing.bits import BREAK, SHOWN
from vastgrid.terrain.editing.edit_lines import Edit, Places
from vastgrid.terrain.editing.lifting import lift
from vastgrid.terrain.editing.nearness import usual_near
from vastgrid.terrain.editing.working import Working

# A place that lies this close to a vertex, in metres, is the vertex itself.
SAME = 0.001
# Rounds in which heights are evened out.
ROUNDS = 3


def _no_vertex(edit: Edit) -> str:
    east, north = edit.places[0]
    return f"there is no vertex at {place_words(east, north)}"


def cut(work: Working, edit: Edit) -> str:
    """Take triangles out."""
    return "" if work.take_out(_meant(work, edit)) else "there is no ground there"


def restore(work: Working, edit: Edit) -> str:
    """Bring triangles back."""
    return "" if work.bring_back(_meant(work, edit)) else "there is nothing to restore there"


def _meant(work: Working, edit: Edit) -> Any:
    if edit.inside:
        return work.within(_closed(edit.inside))
    places = np.array(edit.places if len(edit.places) > 1 else edit.places * 2)
    return work.crossed_by(places)


def _closed(ring: Places) -> Floats:
    return np.array([*ring, ring[0]])


def swap(work: Working, edit: Edit) -> str:
    """Swap an edge."""
    found = work.edge_at(*edit.places[0])
    if found is None:
        return f"there is no edge at {place_words(edit.places[0][0], edit.places[0][1])}"
    return work.swap(*found)


def add(work: Working, edit: Edit) -> str:
    """Add a vertex."""
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
    work.built_from.add([(east, north, z)])
    return ""


def _same(work: Working) -> float:
    return usual_near(work.tin, SAME)


def remove(work: Working, edit: Edit) -> str:
    """Take a vertex out."""
    vertex = work.vertex_at(*edit.places[0])
    if vertex is None:
        return _no_vertex(edit)
    work.open()
    place = (float(work.xyz[vertex, 0]), float(work.xyz[vertex, 1]))
    why = lift(work, vertex)
    if not why:
        work.built_from.move(place, None)
    return why


def move(work: Working, edit: Edit) -> str:
    """Move a vertex in plan."""
    vertex = work.vertex_at(*edit.places[0])
    if vertex is None:
        return _no_vertex(edit)
    work.open()
    east, north = edit.places[1]
    before = work.xyz[vertex].copy()
    x, y = work.local(east, north)
    stays = True
    for t in work.around(vertex).tolist():
        corner = [int(v) for v in work.tri[t]]
        at = corner.index(vertex)
        a, b = corner[(at + 1) % 3], corner[(at + 2) % 3]
        (ax, ay), (bx, by) = work.xy[a], work.xy[b]
        stays = stays and (bx - ax) * (y - ay) - (by - ay) * (x - ax) > 0.0
    if stays:
        work.xyz[vertex, :2] = east, north
        work.xy[vertex] = x, y
        work.legalise(vertex)
        work.structure = True
    else:
        kept = work.edges_kept_at(vertex)
        if any(bits & 4 for _, bits in kept):
            return "it lies at the rim, and would leave the ground around it"
        t, what, _ = work.locate(east, north)
        if what in (NOWHERE, ON_VERTEX) or work.part[t] != SHOWN:
            return "there is no ground where it should go" if what != ON_VERTEX else "there is a vertex already"
        why = lift(work, vertex)
        if why:
            return why
        t, what, k = work.locate(east, north)
        new = work.new_vertex(east, north, float(before[2]))
        work.put(new, t, what, k)
        for other, bits in kept:
            if bits & BREAK:
                work.keep(other, new, BREAK)
    work.built_from.move((float(before[0]), float(before[1])), (east, north, float(before[2])))
    return ""


def set_height(work: Working, edit: Edit) -> str:
    """Give a vertex another height."""
    vertex = work.vertex_at(*edit.places[0])
    if vertex is None:
        return _no_vertex(edit)
    assert edit.value is not None
    work.set_heights(np.array([vertex]), np.array([edit.value.in_unit(work.tin.frame.vertical, "height")]))
    return ""


def _inside(work: Working, edit: Edit, heights: Callable[[Floats], Floats]) -> str:
    vertices = work.ground_vertices(_closed(edit.inside))
    if len(vertices) == 0:
        return "there is no vertex inside"
    work.set_heights(vertices, heights(work.xyz[vertices]))
    return ""


def _amount(work: Working, edit: Edit) -> float:
    assert edit.value is not None
    return edit.value.in_unit(work.tin.frame.vertical, edit.word)


def raise_by(work: Working, edit: Edit) -> str:
    """Raise or lower ground."""
    return _inside(work, edit, lambda xyz: xyz[:, 2] + _amount(work, edit))


def level(work: Working, edit: Edit) -> str:
    """Set ground to one height."""
    return _inside(work, edit, lambda xyz: np.full(len(xyz), _amount(work, edit)))


def to_plane(work: Working, edit: Edit) -> str:
    """Set ground to a plane."""
    rows = np.array([(*place, z) for place, z in zip(edit.places, edit.heights, strict=True)], np.float64)
    first = rows[0]
    slopes = np.linalg.solve(rows[1:, :2] - first[:2], rows[1:, 2] - first[2])
    return _inside(work, edit, lambda xyz: first[2] + (xyz[:, :2] - first[:2]) @ slopes)


def even(work: Working, edit: Edit) -> str:
    """Move each vertex towards the plane through its neighbours, at most as far as is said."""
    most = _amount(work, edit)
    vertices = work.ground_vertices(_closed(edit.inside))
    if len(vertices) == 0:
        return "there is no vertex inside"
    work.open()
    rings = [work.neighbours_of(int(v)) for v in vertices]
    before = work.xyz[vertices, 2].copy()
    for _ in range(ROUNDS):
        wanted = np.array(
            [_plane_at(work.xyz[v], work.xyz[ring]) for v, ring in zip(vertices.tolist(), rings, strict=True)]
        )
        work.xyz[vertices, 2] = np.clip(wanted, before - most, before + most)
    work.set_heights(vertices, work.xyz[vertices, 2].copy())
    return ""


def _plane_at(place: Floats, around: Floats) -> float:
    """Return the height at a place of the plane that fits its neighbours best."""
    if len(around) < 4:
        return float(around[:, 2].mean()) if len(around) else float(place[2])
    rows = np.column_stack((around[:, :2] - place[:2], np.ones(len(around))))
    return float(np.linalg.lstsq(rows, around[:, 2], rcond=None)[0][2])


def draw(work: Working, edit: Edit) -> str:
    """Put the places in as vertices, and edges that stay between them."""
    work.open()
    heights = list(edit.heights) or [None] * len(edit.places)
    places = np.array(edit.places)
    if not any(_on_ground(work, places[k : k + 2]) for k in range(len(places) - 1)):
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
    work.built_from.add([], work.xyz[way].copy())
    return ""


def _on_ground(work: Working, leg: Floats) -> bool:
    """Return whether a leg of a line leads through ground, or along edges of it, where it passes through no triangle."""
    crossed = work.crossed_by(leg)
    if len(crossed):
        return bool((work.part[crossed] == SHOWN).any())
    return all(work.height_at(float(east), float(north)) is not None for east, north in leg[:, :2])


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


def release(work: Working, edit: Edit) -> str:
    """Take a breakline off, as far as it goes without meeting another; its vertices stay."""
    found = work.breakline_at(*edit.places[0])
    if found is None:
        return f"there is no breakline at {place_words(edit.places[0][0], edit.places[0][1])}"
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
    work.structure = True
    return ""
