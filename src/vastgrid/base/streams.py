"""Standard output and error as they are: closed, full, or of a terminal that has few letters."""

from __future__ import annotations

import codecs
import io
import os
import sys
from typing import IO, TYPE_CHECKING

if TYPE_CHECKING:
    from collections.abc import Iterable

# What stands for signs that a terminal lacks; others become a question mark.
_PLAIN = {
    "·": "-", "–": "-", "—": "-", "−": "-", "“": '"', "”": '"', "‘": "'", "’": "'", "…": "...", "×": "x", "²": "2",
    "³": "3", "°": " deg", "±": "+-", "→": "->", "\u202f": " ", "\u00a0": " ", "\u2009": " ", "≤": "<=", "≥": ">=",
}  # fmt: skip


class LostWordsError(Exception):
    """What a command had to say could not be written out."""


class _Out(io.TextIOBase):
    """Standard output whose failing is told from that of files; or which is silent about it."""

    def __init__(self, stream: IO[str], *, silent: bool) -> None:
        self._stream = stream
        self._silent = silent

    @property
    def encoding(self) -> str:  # type: ignore[override]
        """Return how letters become bytes."""
        return str(self._stream.encoding)  # type: ignore[attr-defined]

    @property
    def buffer(self) -> IO[bytes]:
        """Return the stream of bytes."""
        return self._stream.buffer  # type: ignore[attr-defined, no-any-return]

    def write(self, text: str, /) -> int:
        """Write, and raise `LostWordsError` where that fails."""
        try:
            return self._stream.write(text)
        except BrokenPipeError:
            raise
        except OSError as error:
            self._fail(error)
        return len(text)

    def writelines(self, lines: Iterable[str], /) -> None:  # type: ignore[override]
        """Write several."""
        for line in lines:
            self.write(line)

    def flush(self) -> None:
        """Let what is held go out."""
        try:
            self._stream.flush()
        except BrokenPipeError:
            raise
        except OSError as error:
            self._fail(error)

    def isatty(self) -> bool:
        """Say whether a person reads along."""
        return self._stream.isatty()

    def fileno(self) -> int:
        """Return the number of the file that is written to."""
        return self._stream.fileno()

    def close(self) -> None:
        """Close what is written to."""
        self._stream.close()

    def _fail(self, error: OSError) -> None:
        # What is still held would fail once more when the process ends.
        nowhere = os.open(os.devnull, os.O_WRONLY)
        os.dup2(nowhere, self._stream.fileno())
        os.close(nowhere)
        if not self._silent:
            raise LostWordsError(error.strerror or str(error)) from error


def install() -> None:
    """Let standard output and error be used whatever they are.

    A closed one swallows what is written to it. A full error stream does so too; a full output raises `LostWordsError`.
    Signs that the terminal has no letters for are written plainly.
    """
    codecs.register_error("plain", _plainly)
    for name, silent in (("stdout", False), ("stderr", True)):
        stream = getattr(sys, name)
        if stream is None:
            stream = open(os.devnull, "w", encoding="utf-8")  # noqa: SIM115, PTH123
        if isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors="plain")
        setattr(sys, name, _Out(stream, silent=silent))


def _plainly(error: UnicodeError) -> tuple[str, int]:
    if not isinstance(error, UnicodeEncodeError):
        raise error
    return "".join(_PLAIN.get(sign, "?") for sign in error.object[error.start : error.end]), error.end
