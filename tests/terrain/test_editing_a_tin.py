"""Edits triangle by triangle: whatever is done, the surface stays one, and a log gives the same however it is replayed."""

import numpy as np
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from builders import METRES, ORIGIN, ground, scattered, sound
from vastgrid.base.errors import CallError
from vastgrid.base.progress import Silent
from vastgrid.conversions.surfaces import tin as building
from vastgrid.data.pointset import PointSet
from vastgrid.data.tin import areas
from vastgrid.kernels.triangles.predicates import turn
from vastgrid.terrain.editing.edits import EditLog, read_edit, replayed
from vastgrid.terrain.editing.working import usual_near

E, N = ORIGIN


def lattice(side=15, step=2.0):
    """Points at one height in straight rows at large coordinates: every circle holds four, every row is collinear."""
    xy = np.stack(np.meshgrid(np.arange(side) * step, np.arange(side) * step), -1).reshape(-1, 2)
    points = PointSet(name="Rows", frame=METRES, xyz=np.column_stack((xy + ORIGIN, np.zeros(len(xy)) + 5.0)))
    return building.run([points], building.settle([points], building.TinParams()), Silent()).dataset


def edited(tin, *lines):
    return replayed(tin, EditLog(tuple(read_edit(line)[1].line() for line in lines)))


def place(draw):
    return f"{E + draw(st.floats(-3, 60)):.3f},{N + draw(st.floats(-3, 60)):.3f}"


@st.composite
def entries(draw):
    word = draw(
        st.sampled_from(
            ["cut", "restore", "add", "line", "raise", "even", "inside", "level", "swap", "remove", "move", "set"]
        )
    )
    if word in ("cut", "restore"):
        return f"{word} {place(draw)} {place(draw)}"
    if word == "inside":
        return f"cut inside {place(draw)} {place(draw)} {place(draw)}"
    if word == "line":
        heights = draw(st.booleans())
        return "line " + " ".join(place(draw) + (",7.5" if heights else "") for _ in range(draw(st.integers(2, 4))))
    if word in ("raise", "even", "level"):
        return f"{word} 0.5 inside {place(draw)} {place(draw)} {place(draw)}"
    if word == "add":
        return f"add {place(draw)} {draw(st.floats(0, 9)):.3f}"
    # What means a vertex or an edge takes one by its number once the surface is known.
    return (word, draw(st.integers(0, 10_000)), draw(st.floats(-2, 2)), draw(st.floats(-2, 2)))


def resolved(entry, tin):
    if isinstance(entry, str):
        return entry
    word, number, dx, dy = entry
    east, north = tin.vertices[number % len(tin.vertices), :2].tolist()
    if word == "swap":
        east, north = tin.vertices[tin.triangles[number % len(tin.triangles), :2], :2].mean(axis=0).tolist()
        return f"swap {east!r},{north!r}"
    tail = {"remove": "", "set": " 3.25", "move": f" to {east + dx!r},{north + dy!r}"}[word]
    return f"{word} {east!r},{north!r}{tail}"


@settings(max_examples=30, deadline=None)
@given(st.lists(entries(), min_size=1, max_size=12), st.booleans())
@example([("move", 83, -1.0, 0.0), ("move", 83, 0.0, -1.0)], True)
def test_whatever_is_done_the_surface_stays_one(steps, in_rows):
    first = lattice() if in_rows else ground(300, size=(55.0, 55.0))
    tin, log = first, []
    for step in steps:
        line = read_edit(resolved(step, tin))[1].line()
        before = tin
        done = replayed(tin, EditLog((line,)))
        log.append(line)
        tin = done.tin
        if len(tin.triangles) == 0:
            return
        area = sound(tin)
        if line.split()[0] in ("add", "line", "swap", "set", "raise", "even", "level") and not done.findings:
            assert area == pytest.approx(float(areas(before).sum()), abs=1e-6), "such edits neither add nor take ground"
        if done.findings and not done.made:
            assert done.tin.content == before.content, "an edit that does not apply changes nothing"
    assert replayed(first, EditLog(tuple(log))).tin.content == tin.content, "as a whole as one by one"
    assert replayed(first, EditLog(tuple(log))).tin.digest == replayed(first, EditLog(tuple(log))).tin.digest


def test_vertices_that_nobody_touched_are_the_same_to_the_last_bit():
    tin = ground(500)
    done = edited(
        tin,
        f"add {E + 50.0},{N + 50.0} 240",
        f"cut {E + 80.0},{N + 80.0} {E + 90.0},{N + 85.0}",
        f"line {E + 20},{N + 20},231 {E + 60},{N + 30},232",
    )
    assert not done.findings
    old = {tuple(vertex) for vertex in tin.vertices.tolist()}
    new = {tuple(vertex) for vertex in done.tin.vertices.tolist()}
    gone = old - new
    assert all(np.hypot(e - E - 85, n - N - 82) < 25 for e, n, _ in gone), "only vertices beside what was cut"


def test_what_was_cut_comes_back_as_it_was():
    tin = ground(400)
    cut = edited(tin, f"cut {E + 30.0},{N + 30.0} {E + 90.0},{N + 70.0}").tin
    assert len(cut.triangles) < len(tin.triangles) and len(cut.spare) > 0
    back = edited(cut, f"restore {E + 30.0},{N + 30.0} {E + 90.0},{N + 70.0}").tin
    assert sound(back) == pytest.approx(sound(tin), abs=1e-9) and len(back.spare) == 0

    def corners(own):
        return {tuple(sorted(map(tuple, triangle))) for triangle in own.corners().tolist()}

    assert corners(back) == corners(tin)


def test_long_triangles_left_out_can_be_brought_back():
    tin = building.run([scattered(200)], building.TinParams(max_edge=building.Length(12.0)), Silent()).dataset
    whole = building.run([scattered(200)], building.TinParams(), Silent()).dataset
    ring = " ".join(f"{E + x},{N + y}" for x, y in ((-9, -9), (209, -9), (209, 159), (-9, 159)))
    back = edited(tin, f"restore inside {ring}").tin
    assert sound(back) == pytest.approx(sound(whole), abs=1e-6)


def test_a_swapped_edge_stays_when_something_is_added_beside_it():
    tin = lattice(6)
    east, north = E + 5.0, N + 5.0
    once = edited(tin, f"swap {east},{north}").tin
    assert len(once.held) == 1
    ends = {tuple(place) for place in once.vertices[once.held[0], :2].tolist()}
    later = edited(once, f"add {E + 5.5},{N + 4.8} 6", f"add {E + 4.7},{N + 5.4} 6").tin
    pairs = {frozenset(map(tuple, later.vertices[pair, :2].tolist())) for pair in later.held}
    assert frozenset(ends) in pairs


def test_a_breakline_is_drawn_crosses_another_and_is_taken_off():
    tin = lattice()
    one = edited(tin, f"line {E + 3.3},{N + 3.1},8 {E + 21.7},{N + 20.9},9").tin
    two = edited(one, f"line {E + 3.5},{N + 20.5},2 {E + 22.1},{N + 4.2},3").tin
    sound(two)
    crossing = two.vertices[(two.vertices[:, 2] > 2.0) & (two.vertices[:, 2] < 3.0)]
    assert len(crossing) >= 1, "where they cross the line drawn last counts"
    assert two.constrained.sum() > one.constrained.sum() > 0
    off = edited(two, f"release {E + 3.5 + 1e-9},{N + 20.5}").tin
    assert off.constrained.sum() < two.constrained.sum()


def test_edits_that_do_not_apply_say_why_and_where():
    done = edited(
        ground(200),
        "set 1,2 5",
        f"add {E - 500},{N} 3",
        "swap 1,2",
        f"raise 1 inside {E - 9},{N - 9} {E - 8},{N - 9} {E - 8},{N - 8}",
        f"cut {E - 9},{N - 9} {E - 8},{N - 9}",
    )
    assert (done.made, done.missed) == (0, 5)
    told = [finding.text for finding in done.findings]
    assert "no vertex at E 1.000, N 2.000" in told[0] and "no ground there" in told[1] and "no vertex inside" in told[3]
    assert done.findings[1].at == (E - 500.0, N)


def test_a_line_switched_off_stays_in_the_log():
    tin = ground(200)
    east, north = tin.vertices[5, :2].tolist()
    log = EditLog((f"off set {east!r},{north!r} 1.0", f"set {east!r},{north!r} 2.0"))
    assert replayed(tin, log).tin.vertices[5, 2] == 2.0 and str(log) == "1 edit (and 1 switched off)"
    assert EditLog.shown(log.entries[1], " m") == f"vertex at E {east:.3f}, N {north:.3f} set to 2.000 m"


@pytest.mark.parametrize(
    "line",
    [
        "set 1,2",
        "raise inside 1,1 2,2 3,3",
        "move 1,1 2,2",
        "dig 1,1",
        "cut",
        "line 1,1",
        "plane 1,1,1 2,2,2 3,3,3 inside 0,0 1,0 1,1",
    ],
)
def test_what_is_no_edit_is_refused_with_how_it_is_written(line):
    with pytest.raises(CallError, match=r"it is written|edits are|is not an edit; there are cut"):
        read_edit(line)


def test_ground_is_set_to_a_plane_and_evened_out():
    tin = ground(400)
    ring = f"{E + 40},{N + 40} {E + 90},{N + 40} {E + 90},{N + 90} {E + 40},{N + 90}"
    flat = edited(tin, f"plane {E},{N},230 {E + 100},{N},240 {E},{N + 100},230 inside {ring}").tin
    own = (
        (flat.vertices[:, 0] > E + 40)
        & (flat.vertices[:, 0] < E + 90)
        & (flat.vertices[:, 1] > N + 40)
        & (flat.vertices[:, 1] < N + 90)
    )
    assert own.sum() > 10 and np.allclose(flat.vertices[own, 2], 230.0 + (flat.vertices[own, 0] - E) * 0.1, atol=1e-9)
    rng = np.random.default_rng(1)
    rough = ground(400, height=lambda x, y: 0.05 * x + rng.normal(0, 0.1, len(x)))
    even = edited(rough, f"even 0.3 inside {ring}").tin
    own = (
        (even.vertices[:, 0] > E + 45)
        & (even.vertices[:, 0] < E + 85)
        & (even.vertices[:, 1] > N + 45)
        & (even.vertices[:, 1] < N + 85)
    )
    left = (even.vertices[own, 2] - 0.05 * (even.vertices[own, 0] - E)).std()
    assert left < 0.05 and np.abs(even.vertices[:, 2] - rough.vertices[:, 2]).max() <= 0.3 + 1e-12


def test_a_degree_is_near_by_metres():
    from vastgrid.base.quantities import Unit
    from vastgrid.data.frame import Frame

    tin = ground(50)
    assert usual_near(tin) == 0.05 and usual_near(tin.in_frame(Frame(None, Unit.DEGREE, Unit.METRE))) < 1e-6


def test_the_side_of_a_line_is_exact():
    """Shewchuk 1997, figure 1: places a rounding apart beside a diagonal, against exact fractions."""
    from fractions import Fraction

    step = 2.0**-53
    for i in range(0, 64, 7):
        for j in range(0, 64, 5):
            x, y = 0.5 + i * step, 0.5 + j * step
            a, b = Fraction(x) - 24, Fraction(y) - 24
            exact = (Fraction(12) - 24) * b - (Fraction(12) - 24) * a
            assert np.sign(turn(12.0, 12.0, x, y, 24.0, 24.0)) == np.sign(exact) or exact == 0 == turn(
                12.0, 12.0, x, y, 24.0, 24.0
            )
