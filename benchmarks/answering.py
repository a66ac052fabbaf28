"""The budgets of answers and of jobs: what lies between two surfaces, check points, opening a job of many cards."""

from __future__ import annotations

import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import shapely
from shared import FOLDER, best, make_tin, peak, row

from vastgrid.base.progress import Silent
from vastgrid.base.quantities import Unit
from vastgrid.conversions.answers import accuracy
from vastgrid.data.frame import Frame
from vastgrid.data.pointset import PointSet
from vastgrid.data.tin import Tin
from vastgrid.declarations.conversion import Inputs
from vastgrid.jobs.session import Session
from vastgrid.measures.earthwork import between, common_pieces
from vastgrid.terrain.tin.overlaying import difference_tin

METRES = Frame(None, Unit.METRE, Unit.METRE)
NONE = np.zeros(0)


def pair(triangles: int) -> tuple[Tin, Tin]:
    """Two surfaces over the same ground whose vertices have nothing in common."""
    one = make_tin(triangles).in_frame(METRES)
    turned = one.vertices * (-1.0, 1.0, 1.0)
    turned[:, 0] += one.vertices[:, 0].min() + one.vertices[:, 0].max()
    turned[:, 2] += np.sin(turned[:, 1] / 40.0)
    return one, Tin(name="other", frame=METRES, vertices=turned, triangles=one.triangles[:, ::-1])


def bench_overlay() -> None:
    """Cut and fill of 1 M against 1 M triangles, exact; per pair of triangles against shapely's overlay of some of them."""
    few = pair(20_000)
    parts, _ = common_pieces(*few, lambda plan, _: len(plan), Silent())
    faces = [shapely.polygons(each.corners()[:, :, :2]) for each in few]
    tree = shapely.STRtree(faces[1])
    left, right = tree.query(faces[0][:2000], predicate="intersects")
    theirs = best(lambda: shapely.area(shapely.intersection(faces[0][left], faces[1][right])).sum(), 1) / len(left)
    one, two = pair(1_000_000)
    ours = best(lambda: between(one, two, None, NONE, Silent()), 1)
    # As many pairs touch as shapely was given for each triangle.
    pairs = len(left) / 2000 * len(one.triangles)
    ratio = theirs / (ours / pairs)
    row(
        "cut and fill, 1 M against 1 M triangles, exact",
        f"{ours:.1f} s, per pair {ratio:.0f} × faster; {sum(parts)} pieces of 20 000 triangles",
        "≤ 15 s and ≥ 50 × shapely's overlay",
        good=ours <= 15.0 and ratio >= 50.0,
    )


def bench_overlay_memory() -> None:
    """The same and the difference as a surface, in a process of its own whose memory is looked at."""
    code = f"import sys; sys.path.insert(0, {str(Path(__file__).parent)!r}); import answering; answering.measured()"
    told = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout.split()
    seconds, volumes, whole, triangles = float(told[0]), float(told[1]), float(told[2]), int(told[3])
    row(
        "memory of cut and fill, 1 M against 1 M triangles",
        f"{volumes:.2f} GB; with the difference as a TIN of {triangles} triangles {whole:.2f} GB, {seconds:.1f} s",
        "≤ 2 GB, ≤ 15 s",
        good=max(volumes, whole) <= 2.0 and seconds <= 15.0,
    )


def measured() -> None:
    """Print seconds, memory of volumes, memory with the difference, and its triangles."""
    one, two = pair(1_000_000)
    between(one, two, None, NONE, Silent())
    volumes = peak()
    begun = time.perf_counter()
    made = difference_tin(one, two, "difference", Silent())
    seconds = time.perf_counter() - begun
    whole = peak()
    print(seconds, volumes, whole, len(made.triangles))


def bench_accuracy() -> None:
    """100 000 check points against a million triangles, against SciPy's linear interpolation of as many."""
    from scipy.interpolate import LinearNDInterpolator

    tin = make_tin(1_000_000).in_frame(METRES)
    rng = np.random.default_rng(2)
    low, high = tin.vertices[:, :2].min(axis=0), tin.vertices[:, :2].max(axis=0)
    xy = rng.uniform(low, high, (100_000, 2))
    points = PointSet(name="checks", frame=METRES, xyz=np.column_stack((xy, np.full(len(xy), 230.0))))
    inputs = Inputs.of_pairs((("surface", tin), ("points", points)))
    ours = best(lambda: accuracy.run(inputs, accuracy.AccuracyParams(), Silent()))
    local = tin.vertices - (*low, 0.0)
    begun = time.perf_counter()
    LinearNDInterpolator(local[:, :2], local[:, 2])(xy - low)
    theirs = time.perf_counter() - begun
    row(
        "accuracy by 100 000 check points, 1 M triangles",
        f"{ours:.2f} s, {theirs / ours:.0f} × faster",
        "≤ 1 s; ≥ 1 × SciPy's interpolation",
        good=ours <= 1.0 and theirs >= ours,
    )


def bench_job() -> None:
    """Opening a job of 200 cards with a history of as many steps."""
    folder = FOLDER / "job of 200"
    rows = "".join(f"{x + (y % 3) / 10},{y},{(x * y) % 7}\n" for x in range(0, 90, 10) for y in range(0, 90, 10))
    (FOLDER / "a.csv").write_text("E [m],N [m],Z [m]\n" + rows)
    session = Session(folder)
    session.sources.bring_in(FOLDER / "a.csv")
    points = next(iter(session.graph.cards))
    node = session.plan("tin", [points], {})
    session.change(session.remake(session.graph.with_node(node), [node.id], Silent()), "make")
    while len(session.graph.cards) < 200:
        own = session.plan("contours", [node.id], {"interval": f"{len(session.graph.cards) / 100 + 0.5}m"})
        session.change(session.remake(session.graph.with_node(own), [own.id], Silent()), "make")
    session.close()

    def opened() -> None:
        again = Session(folder)
        assert len(again.graph.cards) == 200
        assert all(again.graph.state(card).value == "made" for card in again.graph.cards)

    ours = best(opened)
    row("opening a job of 200 cards and 200 steps", f"{ours:.2f} s", "≤ 1 s", good=ours <= 1.0)
