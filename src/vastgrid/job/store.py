"""A job on disk: a folder with the lineage as JSON and every result as plain arrays, all written atomically."""

from __future__ import annotations

import json
import shutil
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.arrays import load_array
from vastgrid.base.errors import FormatError, WriteError
from vastgrid.base.files import write_text
from vastgrid.base.quantities import Unit
from vastgrid.base.roomy import LARGE, pieces
from vastgrid.job.lineage import Graph, History
from vastgrid.terrain.dataset import Dataset, Extent
from vastgrid.terrain.frame import Frame
from vastgrid.terrain.grid import Grid
from vastgrid.terrain.linework import Contours, Linework
from vastgrid.terrain.mesh import Mesh
from vastgrid.terrain.pointset import PointSet
from vastgrid.terrain.survey import Survey
from vastgrid.terrain.tin import Tin

_KINDS: dict[str, type[Dataset]] = {kind.kind: kind for kind in (PointSet, Linework, Contours, Tin, Grid, Mesh, Survey)}
JOB_FILE = "job.json"


class Store:
    """The arrays of a job, by the digest of their content.

    Parameters
    ----------
    folder : Path
        The job's folder.
    """

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self._open: dict[str, Dataset] = {}

    def put(self, dataset: Dataset) -> str:
        """Keep a dataset; return its digest."""
        digest = dataset.digest
        self._open[digest] = dataset
        target = self.folder / "data" / digest
        if target.exists():
            return digest
        target.parent.mkdir(parents=True, exist_ok=True)
        temporary = target.with_name(f".{digest}")
        shutil.rmtree(temporary, ignore_errors=True)
        try:
            temporary.mkdir()
            names = {}
            for number, (name, array) in enumerate(dataset.arrays().items()):
                names[name] = f"{number}.npy"
                _write_array(temporary / names[name], array)
            frame = dataset.frame
            units = [unit.value if unit else None for unit in (frame.horizontal, frame.vertical)]
            about = {
                "kind": dataset.kind,
                "scalars": dataset.scalars(),
                "arrays": names,
                "crs": frame.crs,
                "units": units,
                "content": dataset.content,
                "extent": dataset.extent().to_json(),
            }
            (temporary / "about.json").write_text(json.dumps(about), encoding="utf-8")
            temporary.replace(target)
            if sum(array.nbytes for array in dataset.arrays().values()) > LARGE:
                # From here on the job's own files serve it; whatever it was read into is let go.
                self._open.pop(digest, None)
        except OSError as error:
            shutil.rmtree(temporary, ignore_errors=True)
            raise WriteError(f"the result cannot be kept in {self.folder}: {error.strerror or error}") from error
        return digest

    def get(self, digest: str) -> Dataset:
        """Return a dataset, its arrays mapped from disk.

        Raises
        ------
        FormatError
            If it is gone or damaged; it can be made again.
        """
        if digest not in self._open:
            self._open[digest] = self._load(digest)
        return self._open[digest]

    def _load(self, digest: str) -> Dataset:
        folder = self.folder / "data" / digest
        try:
            about = json.loads((folder / "about.json").read_text(encoding="utf-8"))
            values: dict[str, Any] = {}
            for name, file in about["arrays"].items():
                array = load_array(folder / Path(file).name, mapped=True)
                if "/" in name:
                    group, key = name.split("/", 1)
                    values.setdefault(group, {})[key] = array
                else:
                    values[name] = array
            horizontal, vertical = (Unit(word) if word else None for word in about["units"])
            frame = Frame(about["crs"], horizontal, vertical)
            made = _KINDS[about["kind"]](**values, **about["scalars"], frame=frame)
            made.known_content(about["content"])
            if "extent" in about:
                made.known_extent(Extent.from_json(about["extent"]))
            return made
        except (OSError, ValueError, KeyError, TypeError) as error:
            raise FormatError(folder, f"this result of the job is gone or damaged; make it again ({error})") from error

    def forget_open(self) -> None:
        """Let go of datasets in memory; they are mapped from disk again when needed."""
        self._open.clear()


def _write_array(path: Path, array: NDArray[Any]) -> None:
    """Write an array as .npy, piece by piece, so that one kept in a file never fills memory."""
    with path.open("wb") as file:
        header = np.lib.format.header_data_from_array_1_0(np.ascontiguousarray(array[:0]) if array.ndim else array)
        np.lib.format.write_array_header_1_0(file, {**header, "shape": array.shape, "fortran_order": False})
        for piece in pieces(array):
            file.write(np.ascontiguousarray(piece).data)


def save(folder: Path, name: str, history: History, settings: dict[str, Any]) -> None:
    """Write the job's file, all or nothing.

    Raises
    ------
    WriteError
        If the system refuses.
    """
    # Graphs share most of their nodes, so nodes are written once.
    table: dict[str, int] = {}
    nodes: list[dict[str, Any]] = []
    graphs = []
    for graph in history.graphs:
        numbers = []
        for node in graph.to_json():
            text = json.dumps(node, sort_keys=True)
            if text not in table:
                table[text] = len(nodes)
                nodes.append(node)
            numbers.append(table[text])
        graphs.append(numbers)
    values = {
        "format": "vastgrid job",
        "version": 1,
        "name": name,
        "settings": settings,
        "nodes": nodes,
        "graphs": graphs,
        "labels": list(history.labels),
        "at": history.at,
    }
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise WriteError(f"the job's folder {folder} cannot be made: {error.strerror}") from error
    write_text(folder / JOB_FILE, json.dumps(values, indent=1, ensure_ascii=False))


def load(folder: Path) -> tuple[str, History, dict[str, Any]]:
    """Return a job's name, history and settings.

    Raises
    ------
    FormatError
        If there is no job, or it is damaged.
    """
    path = folder / JOB_FILE
    try:
        values = json.loads(path.read_text(encoding="utf-8"))
        if values["format"] != "vastgrid job" or values["version"] > 1:
            raise FormatError(path, "this job was made by a newer version, or is no job")
        nodes = values["nodes"]
        graphs = tuple(Graph.from_json([nodes[k] for k in numbers]) for numbers in values["graphs"])
        history = History(graphs, tuple(values["labels"]), int(values["at"]))
        _ = history.graph
        return str(values["name"]), history, dict(values.get("settings", {}))
    except FileNotFoundError as error:
        raise FormatError(folder, "there is no job in this folder") from error
    except (OSError, ValueError, KeyError, TypeError, IndexError) as error:
        raise FormatError(path, f"the job cannot be read: {error}") from error


def copy(folder: Path, target: Path) -> None:
    """Copy a whole job to a new folder, all or nothing.

    Raises
    ------
    WriteError
        If the target exists and is not empty, or cannot be written.
    """
    if target.exists() and any(target.iterdir()):
        raise WriteError(f"{target} is not empty; choose a new folder")
    temporary = target.with_name(f".{target.name}.part")
    try:
        shutil.rmtree(temporary, ignore_errors=True)
        target.parent.mkdir(parents=True, exist_ok=True)
        shutil.copytree(folder, temporary)
        if target.exists():
            target.rmdir()
        temporary.replace(target)
    except OSError as error:
        shutil.rmtree(temporary, ignore_errors=True)
        raise WriteError(f"the job was not copied to {target}: {error.strerror or error}") from error
