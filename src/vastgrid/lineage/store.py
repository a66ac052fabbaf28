"""A job on disk: a folder with the lineage as JSON and every result as plain arrays, all written atomically."""

from __future__ import annotations

import json
import shutil
import threading
from collections import deque
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.arrays import load_array
from vastgrid.base.disk_arrays import LARGE, pieces
from vastgrid.base.errors import FormatError, WriteError
from vastgrid.base.files import write_text
from vastgrid.base.quantities import Unit
from vastgrid.data.dataset import Dataset, Extent
from vastgrid.data.frame import Frame
from vastgrid.data.kinds import KIND_CLASSES
from vastgrid.lineage.claim import MARK
from vastgrid.lineage.graph import Graph, Node, node_of, node_values
from vastgrid.lineage.history import History
from vastgrid.lineage.payloads import Payloads

JOB_FILE = "job.json"
VERSION = 3


class Store:
    """The arrays of a job, by the digest of their content.

    Parameters
    ----------
    folder : Path
        The job's folder.
    """

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.payloads = Payloads(folder)
        self._open: dict[str, Dataset] = {}
        # What was put last may not be in a graph yet.
        self.latest: deque[str] = deque(maxlen=4)

    def put(self, dataset: Dataset) -> str:
        """Keep a dataset; return its digest."""
        digest = dataset.digest
        self.latest.append(digest)
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
            made = KIND_CLASSES[about["kind"]](**values, **about["scalars"], frame=frame)
            made.known_content(about["content"])
            if "extent" in about:
                made.known_extent(Extent.from_json(about["extent"]))
            return made
        except (OSError, ValueError, KeyError, TypeError) as error:
            raise FormatError(folder, "this result of the job is gone or damaged; make it again") from error

    def sweep(self, needed: set[str], before: float) -> int:
        """Remove results that nothing refers to any more, if they are older than a time; return how many."""
        gone = 0
        for each in (self.folder / "data").glob("*"):
            try:
                # What is being put here now is younger.
                if (
                    each.name.lstrip(".") not in needed
                    and each.name not in self._open
                    and each.stat().st_mtime < before
                ):
                    shutil.rmtree(each, ignore_errors=True)
                    gone += 1
            except OSError:
                continue
        return gone

    def release(self, digest: str) -> None:
        """Remove a result that nothing refers to."""
        self._open.pop(digest, None)
        shutil.rmtree(self.folder / "data" / digest, ignore_errors=True)

    def forget_open(self) -> None:
        """Let go of datasets in memory; they are mapped from disk again when needed."""
        self._open.clear()


class Memory:
    """The datasets of a run that has no job: the same as a store, for as long as the run lasts."""

    def __init__(self) -> None:
        self.payloads = Payloads()
        self._kept: dict[str, Dataset] = {}

    def put(self, dataset: Dataset) -> str:
        """Keep a dataset; return what stands for it. Nothing is read for it, as a digest would."""
        mark = f"memory {len(self._kept)}"
        self._kept[mark] = dataset
        return mark

    def get(self, digest: str) -> Dataset:
        """Return a dataset."""
        return self._kept[digest]


def _write_array(path: Path, array: NDArray[Any]) -> None:
    """Write an array as .npy, piece by piece, so that one kept in a file never fills memory."""
    with path.open("wb") as file:
        header = np.lib.format.header_data_from_array_1_0(np.ascontiguousarray(array[:0]) if array.ndim else array)
        np.lib.format.write_array_header_1_0(file, {**header, "shape": array.shape, "fortran_order": False})
        for piece in pieces(array):
            file.write(np.ascontiguousarray(piece).data)


class Writer:
    """Writes a job's file; each node is turned into text once, however many graphs hold it."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        # Kept with the node itself, so that its number cannot be another one's.
        self._texts: dict[int, tuple[Node, str]] = {}

    def write(self, name: str, history: History, settings: str) -> None:
        """Write the job's file, all or nothing.

        Parameters
        ----------
        settings : str
            The job's settings as JSON.

        Raises
        ------
        WriteError
            If the system refuses.
        """
        numbers: dict[int, int] = {}
        same: dict[str, int] = {}
        lines: list[str] = []
        graphs = []
        texts: dict[int, tuple[Node, str]] = {}
        for graph in history.graphs:
            own = []
            for node in graph.nodes.values():
                key = id(node)
                if key not in numbers:
                    texts[key] = known = self._texts.get(key) or (node, _node_text(node))
                    number = same.setdefault(known[1], len(lines))
                    if number == len(lines):
                        lines.append(known[1])
                    numbers[key] = number
                own.append(numbers[key])
            graphs.append(own)
        self._texts = texts
        head = {"format": "vastgrid job", "version": VERSION, "name": name}
        tail = {"graphs": graphs, "labels": list(history.labels), "at": history.at}
        nodes = ",\n".join(lines)
        text = (
            f'{json.dumps(head, ensure_ascii=False)[:-1]},\n"settings": {settings},\n"nodes": [\n{nodes}\n],\n'
            f"{json.dumps(tail, ensure_ascii=False)[1:]}\n"
        )
        try:
            self.folder.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise WriteError(
                f"the job's folder {self.folder} cannot be made; choose another place for the job"
            ) from error
        write_text(self.folder / JOB_FILE, text)


def _node_text(node: Node) -> str:
    return json.dumps(node_values(node), sort_keys=True, ensure_ascii=False)


# A burst of changes, such as a slider's, is written once; a crash costs no more than this.
GATHER = 0.4
# What the system refused to write is tried again after so many seconds.
AGAIN = 5.0


class Keeper:
    """Keeps a job on disk: at once, or gathered and off the calling thread.

    Parameters
    ----------
    folder : Path
        The job's folder.
    """

    def __init__(self, folder: Path) -> None:
        self._writer = Writer(folder)
        self._lock = threading.Condition()
        self._writing = threading.Lock()
        self._next: tuple[str, History, str] | None = None
        self._failed: Callable[[str], None] | None = None
        self._thread: threading.Thread | None = None
        self._ending = False

    def behind(self, failed: Callable[[str], None]) -> None:
        """From now on write off the calling thread; `failed` is called there with what went wrong."""
        self._failed = failed
        if self._thread is None:
            self._thread = threading.Thread(target=self._run, daemon=True, name="vastgrid-keeper")
            self._thread.start()

    def keep(self, name: str, history: History, settings: dict[str, Any]) -> None:
        """Write the job as it is now, or soon.

        Raises
        ------
        WriteError
            If it is written at once and the system refuses.
        """
        # Settings can be changed in place, so they are told as they are now; everything else never changes.
        now = (name, history, json.dumps(settings, ensure_ascii=False))
        if self._thread is None:
            with self._writing:
                self._writer.write(*now)
            return
        with self._lock:
            self._next = now
            self._lock.notify()

    def flush(self) -> None:
        """Write at once whatever waits.

        Raises
        ------
        WriteError
            If the system refuses.
        """
        with self._writing:
            with self._lock:
                now, self._next = self._next, None
            if now is None:
                return
            try:
                self._writer.write(*now)
            except WriteError:
                with self._lock:
                    # It still waits, unless something newer does.
                    self._next = self._next or now
                raise

    def close(self) -> None:
        """Write whatever waits, and end the thread.

        Raises
        ------
        WriteError
            If the system refuses.
        """
        with self._lock:
            self._ending = True
            self._lock.notify()
        if self._thread is not None:
            self._thread.join()
            self._thread = None
        self._ending = False
        self.flush()

    def _run(self) -> None:
        refused = False
        while True:
            with self._lock:
                self._lock.wait_for(lambda: self._next is not None or self._ending)
                if self._ending:
                    return
                self._lock.wait_for(lambda: self._ending, GATHER)
            try:
                self.flush()
            except WriteError as error:
                if self._failed is not None and not refused:
                    self._failed(f"{error}. The job goes on in memory, and is written as soon as that can be done")
                refused = True
                with self._lock:
                    self._lock.wait_for(lambda: self._ending, AGAIN)
            else:
                if refused and self._failed is not None:
                    self._failed("the job is written again; nothing is lost")
                refused = False


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
        if values["format"] != "vastgrid job" or values["version"] > VERSION:
            raise FormatError(path, "this job was made by a newer version, or is not a job")
        if values["version"] < VERSION:
            raise FormatError(
                path,
                f"this job is of format {values['version']}, from before the first release; this program reads format {VERSION}. "
                "Import the files it was made from into a new job",
            )
        known = [node_of(node) for node in values["nodes"]]
        graphs = tuple(Graph({known[k].id: known[k] for k in numbers}) for numbers in values["graphs"])
        history = History(graphs, tuple(values["labels"]), int(values["at"]))
        _ = history.graph
        if not all(isinstance(label, str) for label in history.labels):
            raise ValueError("a label is not text")
        for graph in graphs:
            cards = {output.card for node in graph.nodes.values() for output in node.outputs}
            if not {use.card for node in graph.nodes.values() for use in node.uses} <= cards:
                raise ValueError("a step uses what is not there")
        return str(values["name"]), history, dict(values.get("settings", {}))
    except FileNotFoundError as error:
        raise FormatError(folder, "there is no job in this folder") from error
    except (OSError, ValueError, KeyError, TypeError, IndexError, AttributeError, RecursionError) as error:
        raise FormatError(path, "the job cannot be read; its file is damaged") from error


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
        shutil.copytree(folder, temporary, ignore=shutil.ignore_patterns(MARK))
        if target.exists():
            target.rmdir()
        temporary.replace(target)
    except OSError as error:
        shutil.rmtree(temporary, ignore_errors=True)
        raise WriteError(f"the job was not copied to {target}: {error.strerror or error}") from error
