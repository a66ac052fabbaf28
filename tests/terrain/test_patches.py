"""A patch shows what an edit does to the whole surface."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from builders import ORIGIN, ground
from vastgrid.measures.changes import changes
from vastgrid.terrain.editing.edits import EditLog, read_edit, replayed
from vastgrid.terrain.editing.patches import patch

E, N = ORIGIN
GROUND = ground(1500)
WIDE = (E - 1e4, N - 1e4, E + 1e4, N + 1e4)
within = st.tuples(st.floats(30, 170), st.floats(30, 120)).map(lambda at: (E + round(at[0], 2), N + round(at[1], 2)))


def nearest(place):
    vertex = GROUND.vertices[np.hypot(*(GROUND.vertices[:, :2] - place).T).argmin()]
    return f"{float(vertex[0])!r},{float(vertex[1])!r}"


def lines(kind, a, b):
    return {
        "cut": f"cut {a[0]},{a[1]} {b[0]},{b[1]}",
        "remove": f"remove {nearest(a)}",
        "set": f"set {nearest(a)} 260",
        "add": f"add {a[0]},{a[1]} 240",
        "raise": f"raise 2 inside {a[0]},{a[1]} {a[0] + 12},{a[1]} {a[0] + 5},{a[1] + 9}",
        "line": f"line {a[0]},{a[1]} {b[0]},{b[1]}",
    }[kind]


@settings(deadline=None, max_examples=60)
@given(
    st.sampled_from(["cut", "remove", "set", "add", "raise", "line"]), within, st.floats(-14, 14), st.floats(-14, 14)
)
def test_a_patch_changes_as_the_whole_does(kind, place, dx, dy):
    line = lines(kind, place, (place[0] + dx, place[1] + dy))
    edit = read_edit(line)[1]
    own = np.array(edit.places or edit.inside)
    box = (*(own.min(axis=0) - 6.0), *(own.max(axis=0) + 6.0))
    part = patch(GROUND, box)
    assert len(part.triangles) < len(GROUND.triangles) / 2
    log = EditLog((line,))
    small, whole = changes(part, replayed(part, log).tin, WIDE), changes(GROUND, replayed(GROUND, log).tin, WIDE)
    assert len(small.gone) == len(whole.gone) and len(small.new) == len(whole.new)
    assert small.taken == pytest.approx(whole.taken, abs=1e-6)


def test_what_was_taken_out_comes_along_and_can_be_brought_back():
    cut = replayed(GROUND, EditLog((f"cut {E + 80},{N + 60} {E + 110},{N + 80}",))).tin
    part = patch(cut, (E + 75.0, N + 55.0, E + 115.0, N + 85.0))
    assert len(part.spare) == len(cut.spare) > 0
    back = replayed(part, EditLog((f"restore {E + 80},{N + 60} {E + 110},{N + 80}",)))
    assert back.made == 1 and len(back.tin.triangles) == len(part.triangles) + len(cut.spare)
    assert len(patch(cut, (E + 900.0, N, E + 901.0, N + 1.0)).triangles) == 0
