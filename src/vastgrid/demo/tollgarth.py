"""The demo job: files as a quarry's survey would bring them, and a job made from them. Invented, seeded, made once."""

from __future__ import annotations

import os
import shutil
from pathlib import Path

import numpy as np

from vastgrid import catalog
from vastgrid.base.progress import Progress, Silent
from vastgrid.base.quantities import Unit
from vastgrid.demo import ground
from vastgrid.demo.ground import ORIGIN, SIZE, Floats
from vastgrid.formats.dxf import DxfWriteParams
from vastgrid.job.lineage import Node
from vastgrid.session.session import Session
from vastgrid.terrain.frame import Frame, local_crs
from vastgrid.terrain.linework import from_lines

EDITION = 4
CLOUD_POINTS = 420_000


def data_folder() -> Path:
    """Return the user's data folder for this application."""
    base = os.environ.get("XDG_DATA_HOME") or str(Path.home() / ".local" / "share")
    return Path(base) / "vastgrid"


def demo_folder() -> Path:
    """Return where the demo's files and job are."""
    return data_folder() / f"tollgarth-{EDITION}"


def ready_job(folder: Path) -> Path | None:
    """Return the demo job's folder if it was made before."""
    job = folder / "Tollgarth restoration"
    return job if (job / "ready").exists() else None


def prepare(folder: Path, progress: Progress) -> Path:
    """Return the demo job's folder, making files and job if they are not there yet."""
    made = ready_job(folder)
    if made is not None:
        return made
    job = folder / "Tollgarth restoration"
    shutil.rmtree(folder, ignore_errors=True)
    write_files(folder / "received", progress.part(0.0, 0.3))
    make_job(folder, job, progress.part(0.3, 1.0))
    (job / "ready").touch()
    return job


def write_files(folder: Path, progress: Progress) -> None:
    """Write the files that the quarry's survey received."""
    folder.mkdir(parents=True, exist_ok=True)
    rng = np.random.default_rng(20_261_124)
    _write_days(folder, rng)
    progress.report(0.2, "surveying Tollgarth Quarry")
    _write_edges(folder)
    write_cloud(folder / "pit-scan.laz", rng)
    progress.report(1.0, "surveying Tollgarth Quarry")


def _scatter(rng: np.random.Generator, count: int, low: tuple[float, float], high: tuple[float, float]) -> Floats:
    return rng.uniform(low, high, (count, 2))


def _measured(rng: np.random.Generator, xy: Floats, *, later: bool = False) -> Floats:
    z = ground.height(xy[:, 0], xy[:, 1], later=later) + rng.normal(0.0, 0.012, len(xy))
    return np.column_stack((xy + ORIGIN, z))


def _write_days(folder: Path, rng: np.random.Generator) -> None:
    west = _scatter(rng, 2600, (8.0, 8.0), (300.0, 432.0))
    rows = [
        f"{1000 + k},{e:.3f},{n:.3f},{z:.3f},{'GL' if k % 9 else 'CL'}"
        for k, (e, n, z) in enumerate(_measured(rng, west).tolist())
    ]
    (folder / "day1.csv").write_text("\n".join(["Point,Easting [m],Northing [m],Elevation [m],Code", *rows]) + "\n")
    east = _scatter(rng, 2900, (290.0, 8.0), (SIZE[0] - 6.0, 432.0))
    rows = [f"{n:.3f}\t{e:.3f}\t{z:.3f}\tGL{4000 + k}" for k, (e, n, z) in enumerate(_measured(rng, east).tolist())]
    head = ["# Tollgarth Quarry, second field day", "Northing (m)\tEasting (m)\tHeight (m)\tPoint"]
    (folder / "day2.txt").write_text("\n".join([*head, *rows]) + "\n")
    piles = _scatter(rng, 900, (515.0, 250.0), (612.0, 362.0))
    rows = [
        f"SP;2026-09-30;{z:.3f};{e:.3f};{n:.3f}".replace(".", ",")
        for e, n, z in _measured(rng, piles, later=True).tolist()
    ]
    head = ["Code;Date;Elevation [m];Easting [m];Northing [m]"]
    (folder / "day3-stockpiles-again.csv").write_text("\n".join([*head, *rows]) + "\n")


def _write_edges(folder: Path) -> None:
    lines = ground.edges()
    shifted = [line + np.array((*ORIGIN, 0.0)) for _, line in lines]
    frame = Frame(None, Unit.METRE, Unit.METRE)
    work = from_lines("edges", frame, shifted, [layer for layer, _ in lines])
    write = catalog.format_named("dxf").write
    assert write is not None
    write([work], folder / "edges.dxf", DxfWriteParams(), Silent())


def write_cloud(path: Path, rng: np.random.Generator, points: int = CLOUD_POINTS) -> None:
    """A scan of the pit: mostly ground, with bushes on the hillside, water, and a few stray returns."""
    import laspy
    import pyproj

    xy = _scatter(rng, points, (60.0, 40.0), (560.0, 400.0))
    z = ground.height(xy[:, 0], xy[:, 1]) + rng.normal(0.0, 0.02, points)
    classes = np.full(points, 2, np.uint8)
    off = np.hypot(xy[:, 0] - ground.CENTRE[0], (xy[:, 1] - ground.CENTRE[1]) * 1.3)
    bushes = (off > 175.0) & (rng.random(points) < 0.4) & (np.sin(xy[:, 0] / 17.0) * np.cos(xy[:, 1] / 13.0) > 0.1)
    z[bushes] += rng.gamma(2.0, 1.1, int(bushes.sum()))
    classes[bushes] = 5
    water = np.hypot(xy[:, 0] - ground.POND[0], xy[:, 1] - ground.POND[1]) < ground.POND[2]
    classes[water] = 9
    stray = rng.random(points) < 0.0004
    z[stray] -= rng.uniform(3.0, 9.0, int(stray.sum()))
    classes[stray] = 7
    header = laspy.LasHeader(point_format=6, version="1.4")
    header.scales = np.array([0.001, 0.001, 0.001])
    header.offsets = np.array([*ORIGIN, 0.0])
    header.add_crs(pyproj.CRS.from_wkt(local_crs(Unit.METRE, Unit.METRE)))
    cloud = laspy.LasData(header)
    order = np.lexsort((xy[:, 1], np.floor(xy[:, 0] / 40.0)))
    cloud.x, cloud.y, cloud.z = xy[order, 0] + ORIGIN[0], xy[order, 1] + ORIGIN[1], z[order]
    cloud.classification = classes[order]
    cloud.intensity = np.clip(9000.0 + 120.0 * (z[order] - 200.0) + rng.normal(0, 900, points), 0, 65535).astype(
        np.uint16
    )
    cloud.gps_time = np.sort(rng.uniform(0.0, 1800.0, points))
    cloud.write(str(path))


def make_job(folder: Path, job: Path, progress: Progress) -> None:
    """Bring the files in, build the ground, contours and heights, and deliver two files."""
    session = Session(job)
    session.name = "Tollgarth restoration"
    received = folder / "received"
    names: dict[str, str] = {}
    files: tuple[tuple[str, dict[str, str], str], ...] = (
        ("day1.csv", {}, "Day 1"),
        ("day2.txt", {}, "Day 2"),
        ("pit-scan.laz", {"classes": "2,9"}, "Pit scan, ground"),
        ("edges.dxf", {}, "Edges"),
        ("day3-stockpiles-again.csv", {}, "Day 3, stockpiles"),
    )
    for k, (file, words, name) in enumerate(files):
        part = progress.part(0.06 * k, 0.06 * (k + 1))
        source = session.read(received / file, words, (None, None), part)
        nodes = session.take_in(source, words, (None, None), part)
        session.accept(nodes, f"import {file}")
        session.rename(nodes[0].id, name)
        names[name] = nodes[0].id

    def made(operation: str, inputs: list[str], words: dict[str, str], name: str, share: tuple[float, float]) -> str:
        node = session.plan(operation, inputs, words)
        return _accept(session, node, name, progress.part(*share))

    survey = [names[name] for name in ("Day 1", "Day 2", "Pit scan, ground", "Edges")]
    words = {"boundary": "SITE_LIMIT", "max_edge": "60m", "heights": "mean"}
    tin = made("tin", survey, words, "Existing ground", (0.3, 0.55))
    contours = made("contours", [tin], {"interval": "1m", "index": "5"}, "Contours 1 m", (0.55, 0.7))
    grid = made("grid", [tin], {"cell": "1m"}, "Heights 1 m", (0.7, 0.8))
    target = folder / "delivered"
    target.mkdir(exist_ok=True)
    for operation, node, file, share in (
        ("landxml", tin, "existing-ground.xml", (0.8, 0.93)),
        ("dxf", contours, "contours.dxf", (0.93, 1.0)),
    ):
        delivery = session.plan_delivery(operation, [node], {}, target / file, (None, None))
        _accept(session, delivery, file, progress.part(*share))
    for node in (grid, *(node for name, node in names.items() if name != "Edges")):
        session.show(node, shown=False)


def _accept(session: Session, node: Node, name: str, progress: Progress) -> str:
    graph = session.graph.with_node(node).changed(node.id, name=name)
    session.change(session.remake(graph, [node.id], progress), f"make {name}")
    return node.id
