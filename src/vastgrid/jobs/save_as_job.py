"""A run that is kept as a job: the window opens it, with every step and its history."""

from __future__ import annotations

import atexit
import json
import shutil
from pathlib import Path

from vastgrid.base.errors import CallError
from vastgrid.jobs.absent_plugins import plugins_of
from vastgrid.lineage.claim import MARK, Claim
from vastgrid.lineage.graph import Graph
from vastgrid.lineage.history import History
from vastgrid.lineage.store import JOB_FILE, Store, Writer


class NewJob(Store):
    """The store of a job that is yet to be, claimed until it is kept or let go: nobody else makes one there meanwhile.

    Raises
    ------
    CallError
        If there is something in the folder, or somebody is making a job there.
    """

    def __init__(self, folder: Path) -> None:
        self._was_there = folder.exists()
        _check_empty(folder)
        self._claim: Claim | None = Claim(folder)
        try:
            # Somebody may have made one while we waited to look.
            _check_empty(folder)
        except CallError:
            self._claim.release()
            raise
        super().__init__(folder)
        atexit.register(self.unclaim)

    def unclaim(self) -> None:
        """Let others have the folder; where no job was kept in it, what was made for it goes."""
        if self._claim is None:
            return
        if not (self.folder / JOB_FILE).exists():
            shutil.rmtree(self.folder, ignore_errors=True)
            if self._was_there:
                self.folder.mkdir(exist_ok=True)
        self._claim.release()
        self._claim = None
        atexit.unregister(self.unclaim)


def _check_empty(folder: Path) -> None:
    try:
        if folder.is_file():
            raise CallError(f"{folder} is a file; a job needs a new folder")
        if folder.exists() and any(each.name != MARK for each in folder.iterdir()):
            raise CallError(f"{folder} is not empty; a job needs a new folder")
    except OSError as error:
        raise CallError(f"{folder} cannot be looked into: {error.strerror}") from error


def keep_job(folder: Path, name: str, graph: Graph, label: str) -> None:
    """Write a job's file.

    Raises
    ------
    WriteError
        If the system refuses.
    """
    used = plugins_of(graph)
    Writer(folder).write(name, History().then(graph, label), json.dumps({"plugins": used} if used else {}))
