"""A run that is kept as a job: the window opens it, with every step and its history."""

from __future__ import annotations

import json
from pathlib import Path

from vastgrid.base.errors import CallError
from vastgrid.job.history import History
from vastgrid.job.lineage import Graph
from vastgrid.job.store import Store, Writer


def new_store(folder: Path) -> Store:
    """Return the store of a job that is yet to be.

    Raises
    ------
    CallError
        If there is something in the folder.
    """
    try:
        if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
            raise CallError(f"{folder} is not empty; a job needs a new folder")
    except OSError as error:
        raise CallError(f"{folder} cannot be looked into: {error.strerror}") from error
    return Store(folder)


def keep_job(folder: Path, name: str, graph: Graph, label: str) -> None:
    """Write a job's file.

    Raises
    ------
    WriteError
        If the system refuses.
    """
    Writer(folder).write(name, History().then(graph, label), json.dumps({}))
