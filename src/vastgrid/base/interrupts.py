"""Being told to stop: Ctrl+C and SIGTERM end a run with one line and nothing half-written, whatever it is doing."""

from __future__ import annotations

import os
import signal
import sys
import threading
from types import FrameType

# So long may the work take to see that it should stop; then the process ends without it.
GRACE = 1.5

stop = threading.Event()
"""Set once the run should stop; work looks at it when it reports."""

_ended = threading.Event()
_telling = threading.Lock()
_told: list[int] = []
_installed: list[int] = []


def install() -> None:
    """Let SIGINT and SIGTERM stop the run. Called before anything else, and only by the program's own entry.

    A Python handler runs between two steps of Python; compiled code may take minutes for one. So a thread waits for
    the signal as well, and ends the process where the work does not see it in time.
    """
    if _installed or threading.current_thread() is not threading.main_thread():
        return
    out, into = os.pipe()
    os.set_blocking(into, False)
    _installed.append(out)
    signal.set_wakeup_fd(into, warn_on_full_buffer=False)
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, _pressed)
    # What came while Python was starting has waited until now.
    signal.pthread_sigmask(signal.SIG_UNBLOCK, (signal.SIGINT, signal.SIGTERM))
    threading.Thread(target=_watch, args=(out,), daemon=True, name="vastgrid-interrupts").start()


def exit_code() -> int:
    """Return the exit code of a run that was stopped: 128 and the number of the signal, as shells count."""
    return 128 + (_told[0] if _told else int(signal.SIGINT))


def ended() -> bool:
    """Say that the run stopped by itself; return whether it is for the run to tell, not told already."""
    _ended.set()
    return not _installed or _telling.acquire(blocking=False)


def what_was_written() -> str:
    """Return the line that a stopped run ends with."""
    from vastgrid.base.files import written

    done = ", ".join(path.name for path in written)
    return f"stopped; {done} had been written, nothing else was" if done else "stopped; nothing was written"


def _pressed(number: int, _frame: FrameType | None) -> None:
    if not _told:
        _told.append(number)
    stop.set()


def _watch(out: int) -> None:
    while True:
        number = os.read(out, 1)[0]
        if number in (signal.SIGINT, signal.SIGTERM):
            break
    if not _told:
        _told.append(number)
    stop.set()
    if _ended.wait(GRACE) or not _telling.acquire(blocking=False):
        return
    from vastgrid.base.files import remove_unfinished

    line = f"vastgrid: {what_was_written()}\n"
    remove_unfinished()
    if sys.stderr is not None:
        clear = "\r\x1b[K" if sys.stderr.isatty() else ""
        os.write(2, f"{clear}{line}".encode())
    os._exit(exit_code())
