"""What is left of a crash: a report in a file, which the next start offers to show. Nothing is ever sent."""

from __future__ import annotations

import contextlib
import datetime
import faulthandler
import os
import platform
import traceback
from pathlib import Path
from types import TracebackType
from typing import IO

from vastgrid import __version__
from vastgrid.home import log
from vastgrid.home.state import state_folder

SEEN = ".seen"
_MOST = 20
_watching: list[IO[str]] = []


def folder() -> Path:
    """Return where reports are."""
    return state_folder() / "crashes"


def report(kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> Path | None:
    """Write a report of a fault in the program itself; return it, or None where it cannot be written."""
    text = "".join(traceback.format_exception(kind, error, trace))
    lines = [
        f"Vast Grid {__version__}, {datetime.datetime.now():%Y-%m-%d %H:%M:%S}",
        f"Python {platform.python_version()}, {platform.platform()}",
        "",
        text if os.environ.get("VASTGRID_LOG") == log.FULL else log.masked(text),
        "Before it happened:",
        *log.recent,
        "",
        "Numbers that could be coordinates are left out (#). This file was not sent anywhere.",
    ]
    own = folder() / f"crash-{datetime.datetime.now():%Y%m%d-%H%M%S-%f}.txt"
    try:
        own.parent.mkdir(parents=True, exist_ok=True)
        own.write_text("\n".join(lines), encoding="utf-8")
        for old in sorted(own.parent.glob("crash-*.txt"))[:-_MOST]:
            old.unlink(missing_ok=True)
    except OSError:
        return None
    return own


def watch() -> None:
    """Let faults of compiled code, which end the process at once, leave their trace as well."""
    with contextlib.suppress(OSError):
        folder().mkdir(parents=True, exist_ok=True)
        file = (folder() / f"running-{os.getpid()}.txt").open("w", encoding="utf-8")
        file.write(f"Vast Grid {__version__}, {datetime.datetime.now():%Y-%m-%d %H:%M:%S}, ended by the system:\n")
        file.flush()
        faulthandler.enable(file)
        _watching.append(file)


def unwatch() -> None:
    """End watching: this process ends as it should."""
    for file in _watching:
        faulthandler.disable()
        file.close()
        with contextlib.suppress(OSError):
            Path(file.name).unlink()
    _watching.clear()


def _ended(process: int) -> bool:
    try:
        os.kill(process, 0)
    except ProcessLookupError:
        return True
    except OSError:
        return False
    return False


def unseen() -> list[Path]:
    """Return the reports that nobody has been shown yet, the newest first; traces of processes that died become such."""
    with contextlib.suppress(OSError):
        for file in folder().glob("running-*.txt"):
            if not _ended(int(file.stem.partition("-")[2])):
                continue
            if len(file.read_text(encoding="utf-8", errors="replace").splitlines()) > 1:
                file.rename(folder() / f"crash-{file.stat().st_mtime_ns}.txt")
            else:
                # It was killed, which is no fault of its own.
                file.unlink()
        return sorted((p for p in folder().glob("crash-*.txt") if not _mark(p).exists()), reverse=True)
    return []


def _mark(path: Path) -> Path:
    return path.with_suffix(SEEN)


def seen(reports: list[Path]) -> None:
    """Remember that reports have been offered."""
    for path in reports:
        with contextlib.suppress(OSError):
            _mark(path).touch()
