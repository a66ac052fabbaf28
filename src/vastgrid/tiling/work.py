"""What a tile is made of: a plan that every worker is given, and the work on one chunk and on one tile."""

from __future__ import annotations

import dataclasses
import functools
import hashlib
import json
import math
import os
import pickle
import resource
import time
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from vastgrid import catalog
from vastgrid.base.errors import DataError
from vastgrid.data.dataset import Dataset, Flags
from vastgrid.data.grid import Grid
from vastgrid.data.outline import (
    Box,
    CellOutline,
    EdgeOutline,
    LineOutline,
    Outline,
    PointOutline,
    SurfaceOutline,
    TotalOutline,
    Window,
)
from vastgrid.data.pointset import PointSet
from vastgrid.declarations.conversion import Conversion, Inputs
from vastgrid.declarations.tiles import Seen, Sums, TilePart
from vastgrid.format_support.rastertiles import write_tile
from vastgrid.params import declare
from vastgrid.tiling.buckets import Buckets, BucketStore, chunks, scatter
from vastgrid.tiling.sources import Files


@dataclass(frozen=True, slots=True)
class PlannedStep:
    """One conversion of a plan: its settled words, the outline of what it gives of the whole, what was seen of the data."""

    operation: str
    words: dict[str, str]
    whole: Outline
    halo: float
    seen: Seen = field(default_factory=dict)

    @property
    def conversion(self) -> Conversion:
        """What is declared of it."""
        return catalog.conversion_named(self.operation)


@dataclass(frozen=True, eq=False, slots=True)
class Extra:
    """Data of the first step that every tile has all of: boundaries.

    Attributes
    ----------
    role : str
    dataset : Dataset
    path, size, changed : str, int, int
        The file it is from.
    """

    role: str
    dataset: Dataset
    path: str
    size: int
    changed: int


@dataclass(frozen=True, slots=True)
class Plan:
    """Everything a worker has to know.

    Attributes
    ----------
    sources : tuple of (str, Files)
        What the first step is made from, each with its role.
    steps : tuple of PlannedStep
        One after another.
    tile : float
        Width of a tile, in the plan's unit of the result.
    folder : str
        Where chunks and tiles are kept, on a path that every worker reaches.
    precision : str
        Type in which cells are kept: that of the file they go into.
    extras : tuple of Extra
        What else the first step is made from.
    """

    sources: tuple[tuple[str, Files], ...]
    steps: tuple[PlannedStep, ...]
    tile: float
    folder: str = ""
    precision: str = "float64"
    extras: tuple[Extra, ...] = ()
    _known: dict[str, Any] = field(default_factory=dict, compare=False, repr=False)

    def digest(self) -> str:
        """Return a digest of all that makes the result, so that tiles are used again only for the very same."""
        state = hashlib.blake2b(digest_size=16)
        files = [
            (role, each.path, each.size, each.changed, each.format, sorted(each.words.items()))
            for role, own in self.sources
            for each in own.files
        ]
        beside = [(each.role, each.path, each.size, each.changed) for each in self.extras]
        steps = [(each.operation, each.conversion.version, sorted(each.words.items())) for each in self.steps]
        state.update(json.dumps([files, steps, self.tile, self.precision, beside], sort_keys=True).encode())
        state.update(repr([source.outline for _, source in self.sources]).encode())
        return state.hexdigest()

    @property
    def source(self) -> Files:
        """The main source."""
        return self.sources[0][1]

    @property
    def whole(self) -> Outline:
        """Outline of the result."""
        return self.steps[-1].whole if self.steps else self.source.outline

    @property
    def ground(self) -> Outline:
        """What tiles are counted on: the lattice that lines or triangles are made on, otherwise the result."""
        if isinstance(self.whole, LineOutline | EdgeOutline | TotalOutline):
            return self.whole.cells
        return self.whole.places if isinstance(self.whole, SurfaceOutline) else self.whole

    def columns(self) -> tuple[str, ...]:
        """Return the attributes of points that are needed: what the steps ask for, or all where points go on."""
        if "columns" not in self._known:
            self._known["columns"] = self._columns()
        return tuple(self._known["columns"])

    def _columns(self) -> tuple[str, ...]:
        have = self.source.columns
        if isinstance(self.whole, PointOutline):
            return have
        wanted: list[str] = []
        for step in self.steps:
            assert step.conversion.tiles is not None
            wanted += step.conversion.tiles.columns(declare.build(step.conversion.params, step.words))
            if not isinstance(step.whole, PointOutline):
                break
        return tuple(name for name in dict.fromkeys(wanted) if name in have)

    def wanted(self, points: PointSet) -> Flags | None:
        """Return which points the first step looks at; None for all."""
        if not self.steps:
            return None
        step = self.steps[0]
        assert step.conversion.tiles is not None
        return step.conversion.tiles.wanted(points, declare.build(step.conversion.params, step.words))

    def buckets(self) -> Buckets:
        """Return the buckets into which points are sorted."""
        return Buckets.over(self.source.outline.box(), self.tile / self.scale())

    def scale(self) -> float:
        """Return how many units of the result's plan one of the source's is: 1 where both lie in one system."""
        before, after = self.source.outline, self.ground
        if before.frame.crs == after.frame.crs:
            return 1.0
        one, other = before.box(), after.box()
        return math.sqrt(_area(other) / max(_area(one), 1e-300)) or 1.0

    def tiles(self) -> tuple[Window | Box, ...]:
        """Return the tiles, row by row from the north for cells, from the south for points."""
        if "tiles" not in self._known:
            self._known["tiles"] = tuple(self._tiles())
        return tuple(self._known["tiles"])

    def _tiles(self) -> list[Window | Box]:
        whole = self.ground
        if isinstance(whole, CellOutline):
            down, across = (max(round(self.tile / size), 1) for size in (whole.dy, whole.dx))
            return [
                Window(top, left, min(down, whole.rows - top), min(across, whole.columns - left))
                for top in range(0, whole.rows, down)
                for left in range(0, whole.columns, across)
            ]
        box, size = whole.box(), self.tile
        west, south = math.floor(box.west / size), math.floor(box.south / size)
        east, north = math.floor(box.east / size), math.floor(box.north / size)
        return [
            Box(x * size, y * size, (x + 1) * size, (y + 1) * size)
            for y in range(south, north + 1)
            for x in range(west, east + 1)
        ]

    def box(self, k: int) -> Box:
        """Return the ground of a tile."""
        tile = self.tiles()[k]
        if isinstance(tile, Box):
            return tile
        whole = self.ground
        assert isinstance(whole, CellOutline)
        return whole.box(tile)

    def outlines(self, step: int) -> tuple[Outline, ...]:
        """Return the outlines of what a step is made from."""
        return (self.steps[step - 1].whole,) if step else tuple(own.outline for _, own in self.sources)

    def before(self, step: int, box: Box) -> Box:
        """Return the ground of its inputs that is what a box is of the result of a step: the same if it moves nothing."""
        own = self.steps[step]
        tiling = own.conversion.tiles
        assert tiling is not None
        if tiling.ground is None:
            return box
        return tiling.ground(box, self.outlines(step)[0], declare.build(own.conversion.params, own.words))

    def box_after(self, step: int, k: int) -> Box:
        """Return the ground of a tile in the system of what a step gives; of step -1 that of the sources."""
        box = self.box(k)
        for later in reversed(range(step + 1, len(self.steps))):
            box = self.before(later, box)
        return box

    def source_box(self, k: int) -> Box:
        """Return the ground of a tile in the system of the sources."""
        return self.box_after(-1, k)

    def halo(self) -> float:
        """Return how far around a tile its inputs are looked at, as far as that can be said beforehand."""
        return sum(step.halo for step in self.steps)

    def chunks(self) -> list[tuple[int, int]]:
        """Return every chunk of every file that has points: number of the file, number of the chunk."""
        if not isinstance(self.source.outline, PointOutline):
            return []
        return [(k, n) for k, file in enumerate(self.source.files) for n in range(len(chunks(file)))]

    def path_of(self, k: int) -> Path:
        """Return where a tile's facts are; what it holds lies beside them."""
        return Path(self.folder) / "tiles" / f"{k:06d}.json"

    def chunk_path(self, file: int, number: int) -> Path:
        """Return the folder of a chunk."""
        return Path(self.folder) / "points" / f"{file:05d}-{number:04d}"


def _area(box: Box) -> float:
    return (box.east - box.west) * (box.north - box.south)


def peak(*, children: bool = False) -> int:
    """Return the most memory that this process has had, or one that it waited for, in bytes."""
    own = _highest()
    # What a child is told to have had at most begins with what its parent had when it was started.
    others = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss * 1024 if children else 0
    return max(own, others)


def _highest() -> int:
    try:
        lines = Path("/proc/self/status").read_text().splitlines()
        return next(int(line.split()[1]) for line in lines if line.startswith("VmHWM:")) * 1024
    except (OSError, StopIteration, ValueError):
        return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024


@dataclass(frozen=True, slots=True)
class PlanRef:
    """Where a plan is, and a digest of it: what is sent along with every task, however many files the plan has."""

    path: str
    digest: str


def plan_ref_of(plan: Plan) -> PlanRef:
    """Write a plan down for whoever works on it."""
    content = pickle.dumps(dataclasses.replace(plan, _known={}))
    path = Path(plan.folder) / "plan"
    _put(path, content)
    return PlanRef(str(path), hashlib.blake2b(content, digest_size=16).hexdigest())


@functools.lru_cache(maxsize=2)
def plan_of(plan_ref: PlanRef) -> Plan:
    """Return the plan of a ticket.

    Raises
    ------
    DataError
        If it is not the one that was written.
    """
    content = Path(plan_ref.path).read_bytes()
    # Only what this run wrote is unpickled.
    if hashlib.blake2b(content, digest_size=16).hexdigest() != plan_ref.digest:
        raise DataError(f"{plan_ref.path} was changed while it was worked on")
    plan: Plan = pickle.loads(content)
    return plan


def make_chunk(plan_ref: PlanRef, file: int, number: int) -> dict[str, Any]:
    """Unpack one chunk of a file; a file at fault is said, not raised, since one of a thousand stops nothing."""
    began = time.perf_counter()
    plan = plan_of(plan_ref)
    own = plan.source.files[file]
    into = plan.chunk_path(file, number)
    try:
        facts = scatter(own, chunks(own)[number], plan.buckets(), plan.columns(), into, plan.wanted)
    except DataError as error:
        return {"file": file, "number": number, "fault": str(error), "peak": peak(), "process": os.getpid()}
    took = time.perf_counter() - began
    return {**facts, "file": file, "number": number, "seconds": took, "peak": peak(), "process": os.getpid()}


def make_tile(plan_ref: PlanRef, k: int) -> dict[str, Any]:
    """Make one tile and keep it; what is there already is left as it is."""
    plan = plan_of(plan_ref)
    facts_path = plan.path_of(k)
    if facts_path.is_file():
        return {**json.loads(facts_path.read_text()), "kept": True}
    began = time.perf_counter()
    maker = _Maker(plan, plan.box(k))
    facts: dict[str, Any] = {"tile": k}
    try:
        made = maker.made(len(plan.steps) - 1, plan.box(k))
    except _Nothing:
        made = None
    facts["empty"] = not maker.sums if isinstance(plan.whole, TotalOutline) else made is None or _is_empty(made)
    facts["sums"] = {name: values.tolist() for name, values in maker.sums.items()}
    if made is not None:
        facts["bytes"] = _keep(made, facts_path, plan)
        facts["counts"] = made.count()
        facts["extent"] = made.extent().to_json()
        if isinstance(made, Grid) and plan.precision != "float64":
            facts["rounded"] = _rounded(made, plan.precision)
    facts["tallies"] = {str(step): tally.to_json() for step, tally in maker.tallies.items()}
    facts |= {"faults": maker.faults, "seconds": time.perf_counter() - began, "peak": peak(), "process": os.getpid()}
    _put(facts_path, json.dumps(facts).encode())
    return {**facts, "kept": False}


def make_look(plan_ref: PlanRef, step: int, k: int) -> dict[str, Any]:
    """Look at what a step is made from on the ground of a tile, and keep what was seen."""
    plan = plan_of(plan_ref)
    path = plan.path_of(k).with_suffix(f".look{step}.json")
    if path.is_file():
        return {**json.loads(path.read_text()), "kept": True}
    began = time.perf_counter()
    maker = _Maker(plan, plan.box(k))
    try:
        seen = maker.seen(step, plan.box_after(step, k))
    except _Nothing:
        seen = {}
    facts = {"seen": seen, "faults": maker.faults, "seconds": time.perf_counter() - began}
    facts |= {"peak": peak(), "process": os.getpid()}
    _put(path, json.dumps(facts).encode())
    return {**facts, "kept": False}


class _Nothing(Exception):  # noqa: N818 - no fault: there is no data on this ground
    pass


def _rounded(made: Grid, precision: str) -> float:
    """Return how much its values change at most by a precision."""
    gap = np.abs(made.heights - made.heights.astype(precision))
    return float(np.nanmax(gap, initial=0.0))


def _is_empty(made: Dataset) -> bool:
    if isinstance(made, Grid):
        return not bool(np.isfinite(made.heights).any())
    return sum(made.count().values()) == 0


def _put(path: Path, content: bytes) -> None:
    making = path.with_name(f"{path.name}.{os.getpid()}")
    making.write_bytes(content)
    making.replace(path)


def _keep(made: Dataset, facts: Path, plan: Plan) -> int:
    """Write what a tile holds beside its facts; return how many bytes."""
    path = tile_file(facts, made)
    making = path.with_name(f"{path.stem}.{os.getpid()}{path.suffix}")
    if isinstance(made, Grid):
        write_tile(made, making, plan.precision)
    else:
        np.savez(making, **{name.replace("/", "|"): values for name, values in made.arrays().items()})  # type: ignore[arg-type]
    size = making.stat().st_size
    making.replace(path)
    return size


def tile_file(facts: Path, made: Dataset | None = None) -> Path:
    """Return the file that holds a tile, beside its facts."""
    return facts.with_suffix(".tif" if made is None or isinstance(made, Grid) else ".npz")


def kept(facts: Path) -> dict[str, Any]:
    """Return the arrays of a tile."""
    with np.load(facts.with_suffix(".npz"), allow_pickle=False) as file:
        return {name.replace("|", "/"): file[name] for name in file.files}


@functools.lru_cache(maxsize=4)
def _index(folder: str) -> tuple[tuple[str, ...], Any]:
    with np.load(Path(folder) / "chunks.npz", allow_pickle=False) as file:
        return tuple(file["names"].tolist()), file["boxes"]


def write_index(plan: Plan, facts: Sequence[dict[str, Any]]) -> None:
    """Write down where the points of each chunk lie, for everybody who makes tiles."""
    own = sorted((each for each in facts if each.get("points")), key=lambda each: (each["file"], each["number"]))
    names = np.array([plan.chunk_path(each["file"], each["number"]).name for each in own], dtype="U32")
    boxes = np.array([(*each["low"], *each["high"]) for each in own], np.float64).reshape(-1, 4)
    making = Path(plan.folder) / f"chunks.{os.getpid()}.npz"
    np.savez(making, names=names, boxes=boxes)
    making.replace(Path(plan.folder) / "chunks.npz")
    _index.cache_clear()


class _Maker:
    """Makes what a plan's steps give on some ground."""

    def __init__(self, plan: Plan, core: Box) -> None:
        self._plan, self._core = plan, core
        self.tallies: dict[int, Any] = {}
        self.sums: Sums = {}
        self.faults: list[str] = []

    def made(self, step: int, box: Box) -> Dataset | None:
        """Return what a step gives on at least some ground; None where it gives sums alone."""
        if step < 0:
            # A place on the border of two tiles belongs to the eastern, or the northern one.
            return _cropped(self._read(self._plan.source, box), self._plan.source.outline, box)
        own = self._plan.steps[step]
        conversion = own.conversion
        tiling = conversion.tiles
        assert tiling is not None
        params = declare.build(conversion.params, own.words)
        piece = TilePart(box, self._plan.outlines(step), own.whole, own.seen)
        inputs = self._inputs(step, self._plan.before(step, box).grown(own.halo))
        made = None if tiling.run is None else tiling.run(inputs, params, piece)
        if step == len(self._plan.steps) - 1:
            # The tile's own ground alone: what is made around it is another tile's to tell.
            core = dataclasses.replace(piece, box=self._core)
            if tiling.tally is not None and made is not None:
                self.tallies[step] = tiling.tally(inputs[0], made, core, params)
            if tiling.sums is not None:
                self.sums = tiling.sums(inputs, made, params, core)
        return None if made is None else _cropped(made, own.whole, box)

    def seen(self, step: int, box: Box) -> Seen:
        """Return what looking at the inputs of a step shows on some ground."""
        own = self._plan.steps[step]
        tiling = own.conversion.tiles
        assert tiling is not None
        assert tiling.look is not None
        params = declare.build(own.conversion.params, own.words)
        return tiling.look(
            self._inputs(step, self._plan.before(step, box).grown(own.halo)),
            params,
            TilePart(box, self._plan.outlines(step), own.whole),
        )

    def _inputs(self, step: int, box: Box) -> Inputs:
        role = self._plan.steps[step].conversion.main.role
        if step:
            before = self.made(step - 1, box)
            assert before is not None
            return Inputs.of_pairs([(role, before)])
        pairs: list[tuple[str, Dataset]] = []
        for own, files in self._plan.sources:
            try:
                pairs.append((own, self._read(files, box)))
            except _Nothing:
                # Of many grids in one role some may have none of this ground.
                if sum(role == own for role, _ in self._plan.sources) == 1:
                    raise
        if not pairs:
            raise _Nothing
        return Inputs.of_pairs([*pairs, *((each.role, each.dataset) for each in self._plan.extras)])

    def _read(self, files: Files, box: Box) -> Dataset:
        if isinstance(files.outline, PointOutline):
            return self._points(files.outline, box)
        try:
            files.outline.window(box)
        except DataError:
            raise _Nothing from None
        found, faults = files.readable_grid(box)
        self.faults += faults
        return found

    def _points(self, outline: PointOutline, box: Box) -> PointSet:
        names, boxes = _index(self._plan.folder)
        points = str(Path(self._plan.folder) / "points")
        store = BucketStore(points, names, boxes, outline, self._plan.columns(), self._plan.buckets())
        return store.points(box)


def _cropped(made: Dataset, whole: Outline, box: Box) -> Dataset:
    """Return what of a result lies on some ground; of cells those that meet it, of points those that belong to it."""
    if isinstance(made, Grid):
        assert isinstance(whole, CellOutline)
        return whole.cut(made, whole.window(box))
    if isinstance(made, PointSet):
        x, y = made.xyz[:, 0], made.xyz[:, 1]
        keep = (x >= box.west) & (x < box.east) & (y >= box.south) & (y < box.north)
        return made if keep.all() else made.chosen(keep)
    return made
