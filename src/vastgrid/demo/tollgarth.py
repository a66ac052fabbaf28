"""The demo job: files as a quarry's survey would bring them, and a job made from them. Invented, seeded, made once."""

from __future__ import annotations

import dataclasses
import os
import shutil
import warnings
from pathlib import Path
from typing import Any

import numpy as np

from vastgrid import catalog
from vastgrid.base.files import replacing
from vastgrid.base.progress import Progress, Silent
from vastgrid.base.quantities import Unit
from vastgrid.data.frame import Frame, local_crs
from vastgrid.data.grid import Grid
from vastgrid.data.kinds import narrowed
from vastgrid.data.linework import from_lines
from vastgrid.data.pointset import PointSet
from vastgrid.data.survey import Record, Survey, survey_of
from vastgrid.data.tin import Tin
from vastgrid.demo import ground
from vastgrid.demo.ground import ORIGIN, SIZE, Floats
from vastgrid.formats.dxf import DxfWriteParams
from vastgrid.jobs.session import Session
from vastgrid.lineage.graph import Node
from vastgrid.terrain.lines.alignment import drawn

EDITION = 10
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
    write_files(folder / "received", progress.part(0.0, 0.25))
    write_next_month(folder / "next-month", progress.part(0.25, 0.3))
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
    progress.report(0.8, "surveying Tollgarth Quarry")
    _write_old_dem(folder / "surroundings-1998.tif")
    _write_old_plan(folder, rng)
    _write_design(folder / "design-finished.xml")
    _write_check_shots(folder / "day2-check-shots.csv", rng)
    progress.report(1.0, "surveying Tollgarth Quarry")


def write_next_month(folder: Path, progress: Progress) -> None:
    """Write the files of the survey a month later, under the same names: the stockpiles have been worked."""
    folder.mkdir(parents=True, exist_ok=True)
    rng = np.random.default_rng(20_261_224)
    _write_days(folder, rng, later=True)
    _write_edges(folder)
    write_cloud(folder / "pit-scan.laz", rng, CLOUD_POINTS // 4)
    for name in ("day3-stockpiles-again.csv", "day4-tip.csv"):
        (folder / name).unlink()
    progress.report(1.0, "surveying Tollgarth Quarry a month later")


def _write_check_shots(path: Path, rng: np.random.Generator) -> None:
    """Independent check points of day 2, on open ground and among bushes; one was taken with the rod not pulled out."""
    xy = _dry(_scatter(rng, 64, (300.0, 20.0), (600.0, 240.0)))[:52]
    measured = _measured(rng, xy)
    bushes = np.arange(len(xy)) % 3 == 0
    measured[bushes, 2] += rng.normal(-0.02, 0.012, int(bushes.sum()))
    measured[17, 2] += 0.5
    rows = [
        f"CHK{k + 1},{e:.3f},{n:.3f},{z:.3f},{'bushes' if bushes[k] else 'open'}"
        for k, (e, n, z) in enumerate(measured.tolist())
    ]
    path.write_text("\n".join(["Point,Easting [m],Northing [m],Elevation [m],Cover", *rows]) + "\n")


def _write_old_dem(path: Path) -> None:
    """An older DEM of the surroundings: cells of 5 m in plan, heights in international feet."""
    frame = Frame(local_crs(Unit.METRE), Unit.METRE, Unit.FOOT)
    west, north, size = ORIGIN[0] - 160.0, ORIGIN[1] + 600.0, 5.0
    east = west + (np.arange(192) + 0.5) * size - ORIGIN[0]
    up = north - (np.arange(152) + 0.5) * size - ORIGIN[1]
    x, y = np.meshgrid(east, up)
    metres = ground.height(x.ravel(), y.ravel()).reshape(x.shape)
    heights = np.round(metres / 0.3048 * 4.0) / 4.0
    grid = Grid(name="surroundings", frame=frame, heights=heights, west=west, north=north, dx=size, dy=size)
    kind = catalog.format_named("geotiff")
    assert kind.write is not None
    kind.write([grid], path, kind.write_params(), Silent())


def _write_old_plan(folder: Path, rng: np.random.Generator) -> None:
    """Contours traced from an old plan: flat lines whose height stands in an attribute; two were mistyped."""
    import pyogrio
    import shapely

    from vastgrid.kernels.lines.isolines import isolines
    from vastgrid.terrain.tin.surfaces import grid_tin

    x, y = np.meshgrid(np.arange(0.0, SIZE[0], 8.0), np.arange(SIZE[1], 0.0, -8.0))
    before = ground.hill(x.ravel(), y.ravel()).reshape(x.shape)
    lattice = Grid(name="", heights=before, west=ORIGIN[0] - 4, north=ORIGIN[1] + SIZE[1] + 4, dx=8.0, dy=8.0)
    tin = grid_tin(lattice)
    levels = np.arange(238.0, 264.0, 2.0)
    plan, offsets, which, _ = isolines(tin.vertices, tin.triangles, tin.edges_across, levels)
    lines = [plan[a:b] for a, b in zip(offsets[:-1].tolist(), offsets[1:].tolist(), strict=True)]
    heights = levels[which]
    heights[rng.choice(len(heights), 2, replace=False)] += (0.5, -1.3)
    shapes = shapely.to_wkb(np.array([shapely.LineString(line) for line in lines], dtype=object))
    names = np.array([f"sheet {1 + k % 3}" for k in range(len(lines))], dtype=object)
    with warnings.catch_warnings():
        # The plan's sheets carry no reference system, which the library remarks on.
        warnings.simplefilter("ignore", UserWarning)
        pyogrio.raw.write(
            folder / "old-plan-contours.gpkg",
            shapes,
            [heights, names],
            ["HEIGHT_M", "SHEET"],
            driver="GPKG",
            geometry_type="LineString",
            crs=None,
        )


def _write_design(path: Path) -> None:
    """The designer's finished surface, with both definitions: the faces have a ramp that the source data has not."""
    x, y = np.meshgrid(np.arange(230.0, 441.0, 10.0), np.arange(130.0, 301.0, 10.0))
    flat = np.column_stack((x.ravel(), y.ravel()))
    z = 212.0 + 0.02 * (flat[:, 0] - 230.0) + 4.0 * np.exp(-(((flat[:, 1] - 215.0) / 60.0) ** 2))
    points = PointSet(
        name="Finished surface",
        frame=Frame(None, Unit.METRE, Unit.METRE),
        xyz=np.column_stack((flat + ORIGIN, np.round(z, 3))),
    )
    kerb = np.array([(300.0, 160.0, 216.4), (340.0, 175.0, 217.2), (390.0, 180.0, 218.0)]) + np.array((*ORIGIN, 0.0))
    lines = from_lines("kerb", points.frame, [kerb], ["KERB"])
    made = catalog.conversion_named("tin")
    tin = narrowed(made.run([points, lines], made.params(), Silent()).dataset, Tin)
    vertices = tin.vertices.copy()
    near = np.hypot(vertices[:, 0] - ORIGIN[0] - 300.0, vertices[:, 1] - ORIGIN[1] - 160.0) < 12.0
    vertices[near, 2] -= 0.15
    ramped = dataclasses.replace(tin, name="Finished surface", vertices=vertices)
    kind = catalog.format_named("landxml")
    assert kind.write is not None
    with replacing(path) as temporary:
        kind.write([ramped, _access_road()], temporary, kind.write_params(), Silent())


def _access_road() -> Survey:
    """The designer's access road: straight, clothoid, circle, with a vertical curve."""
    radius, length = 120.0, 40.0
    start, corner = np.array((250.0, 150.0)) + ORIGIN, np.array((330.0, 150.0)) + ORIGIN
    spiral: dict[str, Any] = {
        "kind": "spiral",
        "spiral": "clothoid",
        "rot": "ccw",
        "length": length,
        "radius_start": 0.0,
        "radius_end": radius,
        "start": corner.tolist(),
        "pi": (corner + np.array((20.0, 0.0))).tolist(),
    }
    t = np.linspace(0.0, 1.0, 4001)
    heading = length * t**2 / (2.0 * radius)
    end = corner + length * np.array((np.trapezoid(np.cos(heading), t), np.trapezoid(np.sin(heading), t)))
    spiral["end"] = np.round(end, 4).tolist()
    turn = length / (2.0 * radius)
    centre = end + radius * np.array((-np.sin(turn), np.cos(turn)))
    last = turn + 0.6
    stop = centre + radius * np.array((np.sin(last), -np.cos(last)))
    curve = {
        "kind": "curve",
        "rot": "ccw",
        "radius": radius,
        "start": spiral["end"],
        "centre": np.round(centre, 4).tolist(),
        "end": np.round(stop, 4).tolist(),
    }
    straight = {"kind": "line", "start": start.tolist(), "end": corner.tolist()}
    exact = {
        "geometry": [straight, spiral, curve],
        "station": 0.0,
        "length": 80.0 + length + 0.6 * radius,
        "profile": [
            {"station": 0.0, "elevation": 216.0},
            {"station": 90.0, "elevation": 219.2, "kind": "parabola", "length": 60.0},
            {"station": 192.0, "elevation": 214.0},
        ],
    }
    line = drawn([straight, spiral, curve], 0.01, "Access road", [])
    frame = Frame(None, Unit.METRE, Unit.METRE)
    return survey_of("Access road", frame, [Record("alignment", "Access road", line, exact)])


def _scatter(rng: np.random.Generator, count: int, low: tuple[float, float], high: tuple[float, float]) -> Floats:
    return rng.uniform(low, high, (count, 2))


def _measured(rng: np.random.Generator, xy: Floats, *, later: bool = False) -> Floats:
    z = ground.height(xy[:, 0], xy[:, 1], later=later) + rng.normal(0.0, 0.012, len(xy))
    return np.column_stack((xy + ORIGIN, z))


def _dry(xy: Floats) -> Floats:
    return np.asarray(xy[~ground.under_water(xy[:, 0], xy[:, 1])])


def _write_days(folder: Path, rng: np.random.Generator, *, later: bool = False) -> None:
    """Write the field days. Faults to be found: a place with two heights on day 1, a wrong rod height on day 2, feet on day 4."""
    west = _dry(_scatter(rng, 2600, (8.0, 8.0), (300.0, 432.0)))
    rows = [
        f"{1000 + k},{e:.3f},{n:.3f},{z:.3f},{'GL' if k % 9 else 'CL'}"
        for k, (e, n, z) in enumerate(_measured(rng, west, later=later).tolist())
    ]
    again = rows[int(np.hypot(west[:, 0] - 38.0, west[:, 1] - 205.0).argmin())].split(",")
    rows.append(f"{1000 + len(rows)},{again[1]},{again[2]},{float(again[3]) + 0.42:.3f},GL")
    (folder / "day1.csv").write_text("\n".join(["Point,Easting [m],Northing [m],Elevation [m],Code", *rows]) + "\n")
    east = _dry(_scatter(rng, 2900, (290.0, 8.0), (SIZE[0] - 6.0, 432.0)))
    measured = _measured(rng, east, later=later)
    measured[int(np.hypot(east[:, 0] - 596.0, east[:, 1] - 186.0).argmin()), 2] += 6.0
    rows = [f"{n:.3f}\t{e:.3f}\t{z:.3f}\tGL{4000 + k}" for k, (e, n, z) in enumerate(measured.tolist())]
    head = ["# Tollgarth Quarry, second field day", "Northing (m)\tEasting (m)\tHeight (m)\tPoint"]
    (folder / "day2.txt").write_text("\n".join([*head, *rows]) + "\n")
    piles = _scatter(rng, 900, (515.0, 250.0), (612.0, 362.0))
    rows = [
        f"SP;2026-09-30;{z:.3f};{e:.3f};{n:.3f}".replace(".", ",")
        for e, n, z in _measured(rng, piles, later=True).tolist()
    ]
    head = ["Code;Date;Elevation [m];Easting [m];Northing [m]"]
    (folder / "day3-stockpiles-again.csv").write_text("\n".join([*head, *rows]) + "\n")
    tip = _scatter(rng, 420, (ground.TIP[0] - 55.0, ground.TIP[1] - 45.0), (ground.TIP[0] + 60.0, ground.TIP[1] + 40.0))
    rows = [
        f"{7000 + k},{e:.3f},{n:.3f},{z / 0.3048:.3f},TP" for k, (e, n, z) in enumerate(_measured(rng, tip).tolist())
    ]
    (folder / "day4-tip.csv").write_text("\n".join(["Point,Easting [m],Northing [m],Elevation [m],Code", *rows]) + "\n")


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
    # The water of the bay gives no return; as many others take their place.
    wet = ground.under_water(xy[:, 0], xy[:, 1])
    xy[wet] = _scatter(rng, int(wet.sum()), (60.0, 120.0), (560.0, 400.0))
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
        ("day4-tip.csv", {}, "Day 4, tip"),
        ("surroundings-1998.tif", {}, "Surroundings 1998"),
        ("old-plan-contours.gpkg", {"elevation": "HEIGHT_M"}, "Old plan"),
        ("design-finished.xml", {}, "Finished surface"),
        ("day2-check-shots.csv", {}, "Check shots"),
    )
    for k, (file, words, name) in enumerate(files):
        part = progress.part(0.3 * k / len(files), 0.3 * (k + 1) / len(files))
        # The plan's sheets say no unit; the quarry knows that they are metric.
        units = (Unit.METRE, Unit.METRE) if file.endswith(".gpkg") else (None, None)
        nodes = session.sources.bring_in(received / file, words, units, part)
        card = nodes[0].outputs[0].card
        session.rename(card, name)
        names[name] = card

    def made(operation: str, inputs: list[str], words: dict[str, str], name: str, share: tuple[float, float]) -> str:
        node = session.plan(operation, inputs, words)
        return _accept(session, node, name, progress.part(*share))

    survey = [names[name] for name in ("Day 1", "Day 2", "Pit scan, ground", "Edges")]
    words = {"boundary": "SITE_LIMIT", "max_edge": "60m", "heights": "mean"}
    tin = made("tin", survey, words, "Existing ground", (0.3, 0.53))
    pair = [tin, names["Finished surface"], names["Edges"]]
    made("volumes", pair, {"boundaries": "SITE_LIMIT"}, "Cut and fill", (0.53, 0.56))
    made("accuracy", [tin, names["Check shots"]], {"by": "Cover"}, "Ground against check shots", (0.56, 0.57))
    contours = made("contours", [tin], {"interval": "1m", "index": "5"}, "Contours 1 m", (0.57, 0.7))
    grid = made("grid", [tin], {"cell": "1m"}, "Heights 1 m", (0.7, 0.8))
    target = folder / "delivered"
    target.mkdir(exist_ok=True)
    for operation, node, file, share in (
        ("landxml", tin, "existing-ground.xml", (0.8, 0.93)),
        ("dxf", contours, "contours.dxf", (0.93, 1.0)),
    ):
        delivery = session.plan_delivery(operation, [node], {}, target / file, (None, None))
        _accept(session, delivery, file, progress.part(*share))
    hidden = [node for name, node in names.items() if name != "Edges"]
    hidden += [
        node.id
        for node in session.graph.cards.values()
        if node.operation == "landxml" and node.path.endswith("design-finished.xml")
    ]
    for node in (grid, *dict.fromkeys(hidden)):
        session.show(node, shown=False)
    made_findings = session.inspection.look(session.graph, session.named_dataset, progress.part(0.98, 1.0))
    session.inspection.take_in(session.graph, made_findings)
    session.save()


def _accept(session: Session, node: Node, name: str, progress: Progress) -> str:
    card = node.outputs[0].card
    graph = session.graph.with_node(node).changed(card, name=name)
    session.change(session.remake(graph, [card], progress), f"make {name}")
    return card
