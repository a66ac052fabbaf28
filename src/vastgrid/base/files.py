"""Writing that is all or nothing: a temporary file beside the target, renamed when it is whole."""

from __future__ import annotations

import errno
import hashlib
import os
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from vastgrid.base.errors import WriteError


def _why(error: OSError) -> str:
    if error.errno in (errno.EACCES, errno.EPERM, errno.EROFS):
        return "no permission to write there; choose another folder or ask for write access"
    if error.errno in (errno.ENOSPC, errno.EDQUOT, errno.EFBIG):
        return "the disk is full; free some space or choose another disk"
    if error.errno == errno.ENOENT:
        return "the folder does not exist"
    return error.strerror or str(error)


@contextmanager
def replacing(target: Path) -> Iterator[Path]:
    """Yield a temporary path beside `target`; rename it onto `target` when the block ends well.

    On any fault, cancel included, the temporary file is removed and `target` keeps what it held.

    Raises
    ------
    WriteError
        If the system refuses, with the reason in words.
    """
    target = Path(target)
    folder = target.parent
    try:
        if target.is_dir():
            raise IsADirectoryError(errno.EISDIR, "it is a folder")
        # The suffix is kept, since some libraries choose the format by it.
        handle, name = tempfile.mkstemp(prefix=f".{target.stem[:40]}-", suffix=target.suffix, dir=folder)
        os.close(handle)
    except OSError as error:
        raise WriteError(f"{target} was not written: {_why(error)}") from error
    temporary = Path(name)
    try:
        yield temporary
        with temporary.open("rb") as written:
            os.fsync(written.fileno())
        mode = target.stat().st_mode if target.exists() else 0o666 & ~_umask()
        temporary.chmod(mode)
        temporary.replace(target)
    except OSError as error:
        raise WriteError(f"{target} was not written: {_why(error)}. What was there before is untouched.") from error
    finally:
        for leftover in (temporary, temporary.with_name(temporary.name + ".aux.xml")):
            leftover.unlink(missing_ok=True)


def _umask() -> int:
    mask = os.umask(0)
    os.umask(mask)
    return mask


def write_text(target: Path, text: str) -> None:
    """Write a small text file, all or nothing."""
    with replacing(target) as temporary:
        temporary.write_text(text, encoding="utf-8")


def fingerprint(path: Path) -> str:
    """Return a digest that changes when the file does: its size and its bytes (the ends and samples of a large one)."""
    size = path.stat().st_size
    digest = hashlib.blake2b(str(size).encode(), digest_size=16)
    whole, piece = 64 << 20, 1 << 20
    with path.open("rb") as file:
        if size <= whole:
            while block := file.read(piece):
                digest.update(block)
        else:
            for k in range(32):
                file.seek(k * (size - piece) // 31)
                digest.update(file.read(piece))
            digest.update(str(path.stat().st_mtime_ns).encode())
    return digest.hexdigest()
