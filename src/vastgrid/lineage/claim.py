"""Who has a job open: two windows on one job would write over each other."""

from __future__ import annotations

import datetime
import fcntl
import json
import os
import socket
from pathlib import Path
from typing import IO

from vastgrid.base.errors import CallError

MARK = ".open"


class JobInUseError(CallError):
    """The job is open elsewhere."""


class Claim:
    """A claim on a job, held until it is let go or the process ends, however it ends.

    Parameters
    ----------
    folder : Path
        The job's folder; made if need be.

    Raises
    ------
    JobInUseError
        If somebody else has it open; the text says who and since when.
    """

    def __init__(self, folder: Path) -> None:
        self._file: IO[str] | None = None
        try:
            folder.mkdir(parents=True, exist_ok=True)
            # Opened for reading and writing without cutting it short: what another window wrote there is told.
            file = os.fdopen(os.open(folder / MARK, os.O_RDWR | os.O_CREAT, 0o644), "r+", encoding="utf-8")
        except OSError:
            # A folder that cannot be written to is not written to by anybody.
            return
        try:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            told = _who(file)
            file.close()
            raise JobInUseError(
                f"{folder.name} is open in another window{told}; go on there, or open a copy of it"
            ) from None
        except OSError:
            # Some shares know no locks; there nobody can be told of.
            file.close()
            return
        self._file = file
        now = datetime.datetime.now().isoformat(timespec="seconds")
        try:
            file.seek(0)
            file.truncate()
            json.dump({"process": os.getpid(), "machine": socket.gethostname(), "since": now}, file)
            file.flush()
        except OSError:
            # Who it is stays unsaid where the disk is full; the lock holds all the same.
            return

    def release(self) -> None:
        """Give the claim up."""
        if self._file is not None:
            self._file.close()
            self._file = None


def _who(file: IO[str]) -> str:
    try:
        own = json.load(file)
        return f" (since {own['since'].replace('T', ' ')}, process {int(own['process'])} on {own['machine']})"
    except (OSError, ValueError, KeyError, TypeError, AttributeError):
        return ""
