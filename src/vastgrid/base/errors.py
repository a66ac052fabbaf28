"""The errors a user can meet. Each carries what is needed to act on it; its text is written where it is raised."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path


class VastGridError(Exception):
    """Anything that stops a task and that the user should read."""


class CallError(VastGridError):
    """What was asked for makes no sense, whatever the data: a wrong name, a missing unit, a bad number."""


class ParamError(CallError):
    """A parameter has a value it cannot have.

    Attributes
    ----------
    name : str
        The parameter's name as typed on the command line.
    """

    def __init__(self, name: str, why: str) -> None:
        super().__init__(f"{name}: {why}")
        self.name = name


class DataError(VastGridError):
    """The data cannot be used for what was asked."""


class FormatError(DataError):
    """A file is not what it should be.

    Attributes
    ----------
    path : Path
        The file at fault.
    line : int or None
        1-based line number, where the format has lines.
    """

    def __init__(self, path: Path | str, why: str, *, line: int | None = None) -> None:
        self.path = Path(path)
        self.line = line
        name = self.path.name or str(self.path)
        where = name if line is None else f"{name}, line {line}"
        super().__init__(f"{where}: {why}")


class WriteError(VastGridError):
    """A file could not be written; nothing was left behind and nothing was overwritten."""


class Cancelled(Exception):  # noqa: N818 - a cancel is the user's wish, not an error
    """The user asked a running task to stop."""


# Libraries write for programmers. What of it helps a surveyor is said in our own words; the rest stays with the cause
# of the error, for whoever looks there.
_MEANINGS = (
    (("no space left", "disk quota", "enospc"), "the disk is full; free some space or choose another disk"),
    (("permission denied", "read-only file system"), "the system does not allow it; ask for access"),
    (("recursion",), "its parts contain each other without end"),
    (
        ("unexpected end", "truncat", "eof", "end of file", "not enough bytes", "too short", "buffer"),
        "it ends too early",
    ),
    (("decompress", "zlib", "deflate", "lzw", "zstd", "inflate"), "its packed data is damaged"),
    (("checksum", "crc"), "its checksum is wrong"),
    (("codec", "decode", "utf-8", "unicode"), "its text is in no known encoding"),
    (("not supported", "unsupported", "unknown compression"), "it uses a variant that cannot be read here"),
)


def meaning(error: BaseException) -> str:
    """Return what an error of a library means, in words for the user."""
    text = str(error).lower()
    for words, said in _MEANINGS:
        if any(word in text for word in words):
            return said
    return "it is damaged, or not what its name says"


@contextmanager
def library_faults(path: Path | str, doing: str) -> Iterator[None]:
    """Turn whatever a file library raises on a bad file into a `FormatError`.

    Libraries that parse foreign bytes raise almost anything, Rust panics (a BaseException) included, so this is
    one of the few places that may catch so widely; our own errors, cancels and exits pass.
    """
    try:
        yield
    except (VastGridError, Cancelled, KeyboardInterrupt, SystemExit, GeneratorExit):
        raise
    except MemoryError as error:
        raise FormatError(path, f"{doing} asked for more memory than there is; the file may be damaged") from error
    except BaseException as error:
        raise FormatError(path, f"{doing} failed: {meaning(error)}") from error
