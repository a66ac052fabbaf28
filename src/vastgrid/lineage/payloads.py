"""Values too long for the lineage: kept beside a job by their digest, and logs that only ever grow."""

from __future__ import annotations

import hashlib
import os
import re
from collections.abc import Sequence
from pathlib import Path

from vastgrid.base.errors import DataError, FormatError, WriteError
from vastgrid.base.files import make_folder, write_text

# Words longer than this are kept beside the job's file, so that a thousand steps of its history stay small.
LONG = 400
_KEPT = re.compile(r"payload:([0-9a-f]{32})")
_LOG = re.compile(r"log:([0-9a-f]+):(\d+)")


class Payloads:
    """Long words and logs of a job.

    Parameters
    ----------
    folder : Path or None
        Where they are kept; None for memory.
    """

    def __init__(self, folder: Path | None = None) -> None:
        self._folder = folder
        self._texts: dict[str, str] = {}
        self._logs: dict[str, list[str]] = {}

    # -- long words

    def kept(self, words: dict[str, str]) -> dict[str, str]:
        """Return words in which long ones are replaced by what stands for them.

        Raises
        ------
        WriteError
            If the system refuses.
        """
        return {name: self._keep(text) if len(text) > LONG else text for name, text in words.items()}

    def full(self, words: dict[str, str]) -> dict[str, str]:
        """Return words in full.

        Raises
        ------
        FormatError
            If one is gone.
        """
        return {name: self._full(text) for name, text in words.items()}

    def _keep(self, text: str) -> str:
        digest = hashlib.blake2b(text.encode(), digest_size=16).hexdigest()
        self._texts[digest] = text
        if self._folder is not None and not self._place(digest).exists():
            make_folder(self._place(digest).parent)
            write_text(self._place(digest), text)
        return f"payload:{digest}"

    def _full(self, text: str) -> str:
        if found := _KEPT.fullmatch(text):
            digest = found[1]
            if digest not in self._texts:
                try:
                    self._texts[digest] = self._place(digest).read_text(encoding="utf-8")
                except OSError as error:
                    raise FormatError(self._place(digest), "a value of the job is gone") from error
            return self._texts[digest]
        if found := _LOG.fullmatch(text):
            return "\n".join(effective(self.lines(found[1])[: int(found[2])]))
        return text

    def _place(self, digest: str) -> Path:
        return (self._folder or Path()) / "payloads" / f"{digest}.txt"

    # -- logs

    def lines(self, log: str) -> list[str]:
        """Return every line of a log, those that were taken back included."""
        if log not in self._logs:
            try:
                text = self._log(log).read_text(encoding="utf-8") if self._folder is not None else ""
            except OSError:
                text = ""
            # What a crash cut short was never said to be done.
            self._logs[log] = text.split("\n")[:-1]
        return self._logs[log]

    def appended(self, word: str, line: str) -> str:
        """Add a line to a log as it was at a word, and return the word of what it is now.

        Parameters
        ----------
        word : str
            What stood for the log so far: “log:ID:NUMBER”.
        line : str
            An entry, or one of the two marks “undo” and “redo”.

        Raises
        ------
        WriteError
            If the system refuses.
        """
        log, number = log_of(word)
        lines = self.lines(log)
        new = [f"back {number}"] if number < len(lines) else []
        new.append(" ".join(line.split()))
        if self._folder is not None:
            try:
                make_folder(self._log(log).parent)
                _append(self._log(log), "".join(f"{each}\n" for each in new))
            except OSError as error:
                raise WriteError(f"{self._log(log)} was not written: {error.strerror or error}") from error
        lines += new
        return f"log:{log}:{len(lines)}"

    def entries(self, word: str) -> list[str]:
        """Return the entries of a log that count at a word."""
        log, number = log_of(word)
        return effective(self.lines(log)[:number])

    def taken_back(self, word: str) -> int:
        """Return how many entries could be had again at a word."""
        log, number = log_of(word)
        return len(_replayed(self.lines(log)[:number])[1])

    def _log(self, log: str) -> Path:
        return (self._folder or Path()) / "edits" / f"{log}.log"


def is_reference(word: str) -> bool:
    """Return whether a word stands for something that is kept elsewhere."""
    return bool(_KEPT.fullmatch(word) or _LOG.fullmatch(word))


def log_of(word: str) -> tuple[str, int]:
    """Return the id of a log and how many of its lines count.

    Raises
    ------
    DataError
        If the word stands for no log.
    """
    found = _LOG.fullmatch(word)
    if not found:
        raise DataError(f"the job is damaged: “{word[:60]}” stands for no log of edits")
    return found[1], int(found[2])


def effective(lines: Sequence[str]) -> list[str]:
    """Return the entries that count after all lines of a log."""
    return _replayed(lines)[0]


def _replayed(lines: Sequence[str]) -> tuple[list[str], list[str]]:
    """Return the entries that count, and those that were taken back and could be had again, the next one last."""
    done: list[str] = []
    undone: list[str] = []
    past: list[tuple[tuple[str, ...], tuple[str, ...]]] = []
    jumps = any(line.startswith("back ") for line in lines)
    for line in lines:
        if jumps:
            past.append((tuple(done), tuple(undone)))
        if line == "undo" and done:
            undone.append(done.pop())
        elif line == "redo" and undone:
            done.append(undone.pop())
        elif found := re.fullmatch(r"back (\d+)", line):
            before = past[int(found[1])]
            done, undone = list(before[0]), list(before[1])
        elif line not in ("undo", "redo"):
            done.append(line)
            undone.clear()
    return done, undone


def _append(path: Path, text: str) -> None:
    """Add a text to a file, whole or not at all; what a crash once cut short there goes first."""
    # Without a buffer, which would be written once more when the file is closed.
    with path.open("ab+", buffering=0) as file:
        size = file.seek(0, os.SEEK_END)
        if size:
            file.seek(max(size - (1 << 20), 0))
            tail = file.read()
            # Without an end of its line it was never said to be done.
            size -= len(tail) - (tail.rfind(b"\n") + 1)
            file.truncate(size)
        try:
            left = memoryview(text.encode())
            while left:
                left = left[file.write(left) :]
            os.fsync(file.fileno())
        except OSError:
            file.truncate(size)
            raise
