"""What looking costs: frames of plan and 3D view, sections, readouts, and memory beyond the data."""

from __future__ import annotations

import dataclasses
import os
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
from shared import FOLDER, make_tin, row

from vastgrid.data.frame import Frame
from vastgrid.data.pointset import PointSet
from vastgrid.data.tin import Tin
from vastgrid.kernels.lines.isolines import isolines

TRIANGLES, POINTS = 2_000_000, 20_000_000


def ground() -> Tin:
    """2 M triangles."""
    return make_tin(TRIANGLES)


def cloud(tin: Tin) -> PointSet:
    """20 M classified points over them, in order."""
    from vastgrid.base.progress import Silent
    from vastgrid.lineage import cloudindex
    from vastgrid.lineage.cloudindex import build

    rng = np.random.default_rng(5)
    low, high = tin.vertices.min(axis=0), tin.vertices.max(axis=0)
    xyz = rng.random((POINTS, 3)) * (high - low) + low
    classes = rng.integers(2, 6, POINTS).astype(np.uint8)
    made = PointSet(name="cloud", frame=Frame(None, None, None), xyz=xyz, attributes={"classification": classes})
    cloudindex.ready[made.content] = build(made, Path(FOLDER) / "index", Silent())
    return made


def contours(tin: Tin, vertices: int):
    """Contours of about so many vertices."""
    from vastgrid.conversions.lines.contours import levels_between
    from vastgrid.data.linework import Contours

    pair = (float(tin.vertices[:, 2].min()), float(tin.vertices[:, 2].max()))
    count = 40.0
    while True:
        levels, number = levels_between(*pair, 0.0, (pair[1] - pair[0]) / count)
        plan, offsets, which, _ = isolines(tin.vertices, tin.triangles, tin.edges_across, levels)
        if len(plan) >= vertices or count > 1000:
            index = number[which] % 5 == 0
            return Contours(name="c", plan=plan, offsets=offsets, levels=levels[which], index=index, interval=5.0)
        count *= vertices / max(len(plan), 1) * 1.05


def application():
    """The one application object."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from PyQt6.QtWidgets import QApplication

    from vastgrid.qt.widgets import theme

    app = QApplication.instance() or QApplication(["bench"])
    theme.load_fonts()
    return app


def bench_plan() -> None:
    """Frames of the plan while it is panned and zoomed, and the readout of heights."""
    app = application()
    from PyQt6.QtTest import QTest

    from vastgrid.qt.views.plan_view import PlanView
    from vastgrid.qt.widgets import theme
    from vastgrid.styling.colouring import plain

    tin = ground()
    points, lines = cloud(tin), contours(tin, 500_000)
    view = PlanView(theme.LIGHT)
    view.resize(1000, 700)
    view.show()
    view.show_items([plain(tin), plain(points), plain(lines)])
    while not view.settled():
        QTest.qWait(50)
    middle = view.rect().center().toPointF()
    view.zoom(1.5, middle)
    kinds: dict[str, list[float]] = {"panning": [], "zooming": [], "turning": []}
    for k in range(240):
        begun = time.perf_counter()
        kind = list(kinds)[k // 80]
        if kind == "panning":
            view.pan(7.0 * (1 if k % 80 < 40 else -1), 4.0 * (1 if k % 40 < 20 else -1))
        elif kind == "zooming":
            view.zoom(1.05 if k % 40 < 20 else 1 / 1.05, middle)
        else:
            view.turn_to(view.view.turn + 3.0)
        view.repaint()
        app.processEvents()
        kinds[kind].append(time.perf_counter() - begun)
    for kind, frames in kinds.items():
        median, worst = 1000 * float(np.median(frames)), 1000 * max(frames)
        what = f"plan frame while {kind}, 2 M triangles + 20 M points + {len(lines.plan) // 1000} k contour vertices"
        row(what, f"{median:.1f} ms median, {worst:.0f} ms worst", "≤ 33 ms median", good=median <= 33)
    begun = time.perf_counter()
    for k in range(200):
        view.readout(view.view.east + k, view.view.north)
    each = 1000 * (time.perf_counter() - begun) / 200
    row("elevation readout over all of it", f"{each:.2f} ms", "≤ 5 ms", good=each <= 5)
    begun = time.perf_counter()
    for k in range(50):
        view.caught(view.rect().center().toPointF() + type(middle)(k, 0))
    each = 1000 * (time.perf_counter() - begun) / 50
    row("catching what is near, over all of it", f"{each:.1f} ms", "≤ 33 ms", good=each <= 33)
    view.close_painter()
    view.close()


def bench_space() -> None:
    """Frames of the 3D view while it turns, and the full picture after."""
    application()
    from vastgrid.qt.views.space_view import clouds
    from vastgrid.styling.camera import Camera
    from vastgrid.styling.colouring import plain
    from vastgrid.styling.scene import Scene, fitted, shoot

    tin = ground()
    for what, data in (("2 M triangles", tin), ("20 M points", cloud(tin))):
        item = plain(data)
        pair = data.extent().elevation
        assert pair is not None
        scene = Scene((item,), pair, clouds=clouds)
        camera = dataclasses.replace(fitted((item,), Camera()), pitch=40.0)
        shoot(scene, camera, 1000, 700, coarse=True)
        shoot(scene, camera, 1000, 700, coarse=False, smooth=True)
        frames, full = [], []
        for k in range(30):
            camera = dataclasses.replace(camera, heading=(camera.heading + 6.0) % 360.0)
            begun = time.perf_counter()
            shoot(scene, camera, 1000, 700, coarse=True)
            frames.append(time.perf_counter() - begun)
            if k % 6 == 0:
                begun = time.perf_counter()
                shoot(scene, camera, 1000, 700, coarse=False, smooth=True)
                full.append(time.perf_counter() - begun)
        moving, still = 1000 * float(np.median(frames)), float(np.median(full))
        row(f"3D frame while moving, {what}", f"{moving:.0f} ms median", "≤ 100 ms", good=moving <= 100)
        row(f"3D picture with all detail, {what}", f"{still:.2f} s", "≤ 1.5 s", good=still <= 1.5)


def bench_section() -> None:
    """A section through 2 M triangles."""
    from vastgrid.measures.heights import bucket_index
    from vastgrid.measures.section import cut

    tin = ground()
    bucket_index(tin)
    low, high = tin.vertices.min(axis=0)[:2], tin.vertices.max(axis=0)[:2]
    times = []
    for k in range(12):
        line = np.array([low, high])
        line[:, 1] += (150.0 * k, -120.0 * k)
        begun = time.perf_counter()
        (profile,) = cut([tin], line, 1.0)
        times.append(time.perf_counter() - begun)
    own = 1000 * float(np.median(times))
    row(f"section through 2 M triangles, {len(profile.along)} places", f"{own:.0f} ms", "≤ 50 ms", good=own <= 50)


_MEMORY = """
import sys, time, dataclasses
sys.path.insert(0, sys.argv[1])
import looking
import numpy as np
def now():
    return next(int(l.split()[1]) for l in open("/proc/self/status") if l.startswith("RssAnon")) / 1e3
app = looking.application()
tin = looking.ground()
points = looking.cloud(tin)
lines = looking.contours(tin, 500_000)
from PyQt6.QtTest import QTest
from vastgrid.qt.widgets import theme
from vastgrid.qt.views.plan_view import PlanView
from vastgrid.qt.views.space_view import SpaceView
from vastgrid.styling.colouring import plain
import gc
gc.collect()
before = now()
plan, space = PlanView(theme.LIGHT), SpaceView(theme.LIGHT)
most = 0.0
for view in (plan, space):
    view.resize(1000, 700)
    view.show()
    view.show_items([plain(tin), plain(points), plain(lines)])
for k in range(40):
    plan.pan(30, 10)
    space._turn(space.camera, 5.0, 0.0)
    for _ in range(6):
        QTest.qWait(20)
        most = max(most, now())
while not (plan.settled() and space.settled()):
    QTest.qWait(20)
    most = max(most, now())
print(most - before)
plan.close_painter(); space.close_painter()
"""


def bench_memory() -> None:
    """What plan and 3D view need beyond the data."""
    done = subprocess.run(
        [sys.executable, "-c", _MEMORY, str(Path(__file__).parent)],
        check=True,
        capture_output=True,
        text=True,
        env={**os.environ, "QT_QPA_PLATFORM": "offscreen"},
    )
    own = float(done.stdout.split()[-1])
    row("plan and 3D view of all that: memory beyond the data, at most", f"{own:.0f} MB", "≤ 600 MB", good=own <= 600)
