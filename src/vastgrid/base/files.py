"""Writing that is all or nothing: a temporary file beside the target, renamed when it is whole."""

from __future__ import annotations

import errno
import filecmp
import hashlib
import json
import os
import re
import shutil
import socket
import tempfile
import time
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path

from vastgrid.base.errors import CallError, VastGridError, WriteError
from vastgrid.base.words import size_words

# Temporary files that are being written now: whoever ends the process at once takes them away first.
_unfinished: set[Path] = set()
written: list[Path] = []
"""What this process has put in its place, in order."""


def remove_unfinished() -> None:
    """Remove every temporary file of this process; for an end that runs no `finally`."""
    for each in list(_unfinished):
        shutil.rmtree(each, ignore_errors=True)


def _prefix() -> str:
    """Return how names of temporary files begin: hidden, and saying which process on which machine writes them."""
    host = hashlib.blake2b(socket.gethostname().encode(), digest_size=4).hexdigest()
    return f".vastgrid-{host}-{os.getpid()}-"


_OURS = re.compile(r"\.vastgrid-([0-9a-f]{8})-(\d+)-")
# Nobody writes for longer; a machine that cannot be asked whether it still does is believed until then.
_FORGOTTEN = 86_400.0


def sweep(folder: Path) -> None:
    """Remove temporary files that a process left which was killed: nothing could run in it any more to do so."""
    own = _OURS.match(_prefix())
    with suppress(OSError):
        for each in folder.glob(".vastgrid-*"):
            found = _OURS.match(each.name)
            if not found or not own:
                continue
            with suppress(OSError):
                old = time.time() - each.stat().st_mtime > _FORGOTTEN
                if old if found[1] != own[1] else not _alive(int(found[2])):
                    _take_back(each)
                    shutil.rmtree(each) if each.is_dir() else each.unlink()


def _alive(process: int) -> bool:
    try:
        os.kill(process, 0)
    except ProcessLookupError:
        return False
    except OSError:
        return True
    return True


def need_room(target: Path, size: float) -> None:
    """Refuse to write what the disk has no room for.

    Raises
    ------
    WriteError
        With how much is needed and how much there is.
    """
    try:
        free = shutil.disk_usage(Path(os.path.realpath(target)).parent).free
    except OSError:
        # What is wrong with the folder is said when the file is made.
        return
    if size > free:
        raise WriteError(
            f"{target} was not written: it needs about {size_words(size)}, and the disk has {size_words(free)} free; "
            "free some space or choose another disk"
        )


def _why(error: OSError) -> str:
    if error.errno in (errno.EACCES, errno.EPERM, errno.EROFS):
        return "no permission to write there; choose another folder or ask for write access"
    if error.errno in (errno.ENOSPC, errno.EDQUOT, errno.EFBIG):
        return "the disk is full; free some space or choose another disk"
    if error.errno == errno.ENOENT:
        return "the folder does not exist"
    if error.errno == errno.ENOTDIR:
        return "a part of its path is a file, not a folder"
    if error.errno == errno.EISDIR:
        return "there is a folder of that name"
    if error.errno == errno.ENAMETOOLONG:
        return "its name is longer than the file system allows"
    if error.errno == errno.ELOOP:
        return "its links lead in a circle"
    return "the system refused" + (f" ({error.strerror.lower()})" if error.strerror else "")


@contextmanager
def replacing(target: Path) -> Iterator[Path]:
    """Yield a temporary path beside `target`; rename it onto `target` when the block ends well.

    A link keeps being one: the file it leads to is replaced. On any fault, cancel included, the temporary file is
    removed and `target` keeps what it held.

    Raises
    ------
    WriteError
        If the system refuses, with the reason in words.
    """
    with beside(target) as (temporary, place):
        yield temporary
        place(target)


@contextmanager
def beside(target: Path) -> Iterator[tuple[Path, Callable[[Path], None]]]:
    """Yield a temporary path beside `target`, and a function that gives it its name: `target`, or another beside it.

    What was given no name is removed at the end.

    Raises
    ------
    WriteError
        If the system refuses, with the reason in words.
    """
    target = Path(target)
    try:
        real = Path(os.path.realpath(target))
        if real.is_dir():
            raise IsADirectoryError(errno.EISDIR, "it is a folder")
        # In a folder of its own it has the name that it is to get: some libraries write that into the file.
        sweep(real.parent)
        folder = Path(tempfile.mkdtemp(prefix=_prefix(), dir=real.parent))
    except OSError as error:
        raise WriteError(f"{target} was not written: {_why(error)}") from error
    temporary = folder / target.name
    _unfinished.add(folder)

    placed = False

    def place(named: Path) -> None:
        nonlocal placed
        end = Path(os.path.realpath(named))
        _whole(temporary, end)
        placed = _together is not None
        if _together is not None:
            _together.add(temporary, end, folder)
            return
        temporary.replace(end)
        written.append(named)

    try:
        temporary.touch()
        yield temporary, place
    except VastGridError as error:
        # Whoever reads the message knows the file by where it was to be.
        error.args = tuple(str(part).replace(str(temporary), str(target)) for part in error.args)
        raise
    except OSError as error:
        raise WriteError(f"{target} was not written: {_why(error)}. What was there before is untouched.") from error
    finally:
        if not placed:
            _gone(folder)


def _whole(temporary: Path, end: Path) -> None:
    """Bring a file onto the disk, with the rights that it is to have."""
    with temporary.open("rb") as whole:
        os.fsync(whole.fileno())
    temporary.chmod(end.stat().st_mode if end.exists() else 0o666 & ~_umask())


def _gone(folder: Path) -> None:
    shutil.rmtree(folder, ignore_errors=True)
    _unfinished.discard(folder)


class _Together:
    """Files that are whole and wait for their names."""

    def __init__(self) -> None:
        self.moves: list[tuple[Path, Path]] = []
        self.folders: list[Path] = []

    def add(self, temporary: Path, end: Path, folder: Path) -> None:
        """Let a file wait; one that says the same as another of its name may speak for both.

        Raises
        ------
        CallError
            If another file of the name says something else.
        """
        if folder not in self.folders:
            self.folders.append(folder)
        for other, there in self.moves:
            if there == end and not filecmp.cmp(other, temporary, shallow=False):
                raise CallError(f"two files of the set would be {end.name}; give one of them another name")
        self.moves = [pair for pair in self.moves if pair[1] != end]
        self.moves.append((temporary, end))


_together: _Together | None = None


@contextmanager
def all_or_none(folder: Path) -> Iterator[None]:
    """Let files that are written in the block get their names together at its end, or none of them.

    Parameters
    ----------
    folder : Path
        Where they go.

    Raises
    ------
    WriteError
        If the system refuses; what was there before is as it was.
    """
    global _together
    _together = waiting = _Together()
    try:
        yield
        try:
            _move_all(waiting.moves, Path(os.path.realpath(folder)))
        except OSError as error:
            raise WriteError(
                f"nothing was written to {folder}: {_why(error)}. What was there before is untouched."
            ) from error
    finally:
        _together = None
        for each in waiting.folders:
            _gone(each)


_PLAN = "plan.json"


def _move_all(moves: Sequence[tuple[Path, Path]], parent: Path) -> None:
    """Give files their names, all or none; who is killed meanwhile leaves a plan by which the next takes it back."""
    if not moves:
        return
    folder = Path(tempfile.mkdtemp(prefix=_prefix(), dir=parent))
    _unfinished.add(folder)
    plan = [
        (str(temporary), str(end), str(folder / f"before {k}") if os.path.lexists(end) else "")
        for k, (temporary, end) in enumerate(moves)
    ]
    try:
        for _, end in moves:
            if end.is_dir():
                raise IsADirectoryError(errno.EISDIR, "it is a folder")
        with (folder / _PLAN).open("w", encoding="utf-8") as file:
            json.dump(plan, file)
            file.flush()
            os.fsync(file.fileno())
        try:
            for new, there, before in plan:
                if before:
                    Path(there).replace(before)
                Path(new).replace(there)
        except BaseException:
            _take_back(folder)
            raise
        (folder / _PLAN).unlink()
        written.extend(end for _, end in moves)
    finally:
        _gone(folder)


def _take_back(folder: Path) -> None:
    """Undo what was done of a plan: what was there before gets its names back, what is new goes."""
    try:
        plan = json.loads((folder / _PLAN).read_text(encoding="utf-8"))
    except (OSError, ValueError):
        return
    for _, end, before in reversed(plan):
        with suppress(OSError):
            if not before:
                Path(end).unlink(missing_ok=True)
            elif os.path.lexists(before):
                Path(before).replace(end)


@contextmanager
def staged(target: Path) -> Iterator[tuple[Path, Callable[[Sequence[str]], None]]]:
    """Yield an empty folder beside `target`, and a function that moves files in it beside `target`, all or none.

    What was not moved is removed at the end; what the files would replace stays as it was on any fault.

    Raises
    ------
    WriteError
        If the system refuses, with the reason in words.
    """
    parent = Path(os.path.realpath(target)).parent
    try:
        sweep(parent)
        folder = Path(tempfile.mkdtemp(prefix=_prefix(), dir=parent))
    except OSError as error:
        raise WriteError(f"{target} was not written: {_why(error)}") from error

    placed = False

    def place(names: Sequence[str]) -> None:
        nonlocal placed
        for name in names:
            _whole(folder / name, parent / name)
        placed = _together is not None
        if _together is None:
            _move_all([(folder / name, parent / name) for name in names], parent)
            return
        for name in names:
            _together.add(folder / name, parent / name, folder)

    _unfinished.add(folder)
    try:
        yield folder, place
    except OSError as error:
        raise WriteError(f"{target} was not written: {_why(error)}. What was there before is untouched.") from error
    finally:
        if not placed:
            _gone(folder)


def same_file(one: Path, other: Path) -> bool:
    """Say whether two paths lead to one file, however they are spelled and linked; also where it is not there yet."""
    try:
        if one.exists() and other.exists() and one.samefile(other):
            return True
    except OSError:
        pass
    return os.path.realpath(one) == os.path.realpath(other)


def refuse_clashes(inputs: Sequence[Path], outputs: Mapping[str, Path]) -> None:
    """Refuse a run that would write over what it reads, or write two things into one file.

    Parameters
    ----------
    outputs : mapping
        Path by what it is for, as an error says it: “the result”, “--report”.

    Raises
    ------
    CallError
        With the two that are one file.
    """
    told = list(outputs.items())
    for k, (what, path) in enumerate(told):
        if path.is_dir():
            raise CallError(f"{what}: {path} is a folder; name a file in it")
        for each in inputs:
            if each.is_dir():
                if same_file(path.parent, each):
                    raise CallError(
                        f"{what}: {path} would lie in {each}, among the sources that are read from there; choose another folder"
                    )
                continue
            if same_file(path, each) or any(same_file(path, part) for part in companions(each)):
                also = "an input" if same_file(path, each) else f"a part of the input {each.name}"
                raise CallError(f"{what}: {path} is also {also}, which would be written over; choose another name")
        for other, beside_it in told[:k]:
            if same_file(path, beside_it):
                raise CallError(f"{what} and {other} are one file, {path}; choose another name for one of them")


def refuse_present(targets: Iterable[Path], folder: Path) -> None:
    """Refuse to write over files that are there, files that would come beside them included.

    Raises
    ------
    CallError
        With their names.
    """
    there = [path.name for target in targets for path in (target, *companions(target)) if path.exists()]
    if there:
        raise CallError(
            f"{', '.join(there)} {'is' if len(there) == 1 else 'are'} in {folder} already; --replace writes over, or choose another folder"
        )


def make_folder(folder: Path) -> None:
    """Make a folder if need be.

    Raises
    ------
    WriteError
        If the system refuses.
    """
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise WriteError(f"{folder} cannot be made: {error.strerror or error}") from error


def companions(path: Path) -> list[Path]:
    """Return the files beside one that share its name but for the ending, or add an ending to it: parts of it, perhaps."""
    try:
        near = [each for each in path.parent.iterdir() if each != path]
    except OSError:
        return []
    return [
        each
        for each in near
        if (each.stem == path.stem and path.suffix.lower() in _IN_PARTS and each.suffix.lower() in _PARTS)
        or each.name.startswith(path.name + ".")
    ]


# Files that come in several parts with one name: shapefiles, and rasters with a header or world file of their own.
_IN_PARTS = {".shp", ".bil", ".bip", ".bsq", ".flt", ".tif", ".tiff", ".img", ".asc", ".rst", ".sdat"}
_PARTS = {
    *(".dbf", ".shx", ".prj", ".cpg", ".qix", ".sbn", ".sbx", ".hdr", ".blw", ".stx", ".clr", ".rdc", ".sgrd"),
    *(".tfw", ".tifw", ".wld", ".ovr", ".aux"),
}


def _umask() -> int:
    mask = os.umask(0)
    os.umask(mask)
    return mask


def write_bytes(target: Path, content: bytes) -> None:
    """Write a small file, all or nothing."""
    with replacing(target) as temporary:
        temporary.write_bytes(content)


def write_text(target: Path, text: str) -> None:
    """Write a small text file, all or nothing."""
    with replacing(target) as temporary:
        temporary.write_text(text, encoding="utf-8", errors="replace")


def read_text(path: Path) -> str:
    """Return what a text file of a user's says.

    Raises
    ------
    CallError
        If it cannot be read, or is no text.
    """
    try:
        return path.read_text(encoding="utf-8-sig")
    except OSError as error:
        raise CallError(f"{path} cannot be read as text ({error.strerror or error})") from error
    except UnicodeDecodeError as error:
        raise CallError(f"{path} cannot be read as text (byte {error.start + 1} is not UTF-8)") from error


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
