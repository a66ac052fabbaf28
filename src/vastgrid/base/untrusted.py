"""Opening XML and archives from strangers: no entities, no network, bounded depth and size, nothing unpacked by name."""

from __future__ import annotations

import xml.parsers.expat as expat
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import IO, Any, Protocol

from vastgrid.base.errors import FormatError, meaning
from vastgrid.base.words import spaced

BLOCK = 1 << 20
DEEPEST = 200
# An archive may hold this much, and no member may swell by more than this.
LARGEST = 4 << 30
SWELL = 200


class Handler(Protocol):
    """What receives an XML file's events; names are local, without their namespace."""

    def start(self, name: str, attributes: dict[str, str]) -> None:
        """An element begins."""

    def end(self, name: str, text: str) -> None:
        """An element ends; `text` is what stood directly in it since its last child."""


def parse_xml(path: Path, stream: IO[bytes], handler: Handler, told: Callable[[int], None] = lambda _: None) -> None:
    """Parse XML as a stream.

    Parameters
    ----------
    path : Path
        Named in errors.
    told : callable
        Called with the number of bytes read so far.

    Raises
    ------
    FormatError
        If it is not well-formed, nested too deeply, or declares a document type (entities can do harm).
    """
    parser = expat.ParserCreate()
    parser.buffer_text = True
    depth = 0
    text: list[str] = []

    def start(name: str, attributes: dict[str, str]) -> None:
        nonlocal depth
        depth += 1
        if depth > DEEPEST:
            raise FormatError(path, f"elements are nested more than {DEEPEST} deep; no file of this kind is")
        text.clear()
        handler.start(name.rsplit(":", 1)[-1], attributes)

    def end(name: str) -> None:
        nonlocal depth
        depth -= 1
        handler.end(name.rsplit(":", 1)[-1], "".join(text))
        text.clear()

    def refuse(*_: Any) -> None:
        raise FormatError(path, "it declares a document type; such files are refused, since entities can do harm")

    parser.StartElementHandler, parser.EndElementHandler = start, end
    parser.CharacterDataHandler = text.append
    parser.StartDoctypeDeclHandler = refuse
    done = 0
    try:
        while block := stream.read(BLOCK):
            parser.Parse(block, False)
            done += len(block)
            told(done)
        parser.Parse(b"", True)
    except expat.ExpatError as error:
        why = expat.errors.messages[error.code]
        raise FormatError(path, f"this is not well-formed XML from here on: {why}", line=error.lineno) from error
    except (LookupError, ValueError) as error:
        # The parser asks Python for encodings that it does not know itself.
        raise FormatError(path, "its text is in no known encoding, or not in the one that it names") from error


def member_names(path: Path) -> list[str]:
    """Return the names in a ZIP archive, or none where it is not one."""
    try:
        with zipfile.ZipFile(path) as archive:
            return archive.namelist()
    except (OSError, ValueError, RuntimeError, zipfile.BadZipFile):
        return []


def read_member(path: Path, name: str) -> bytes:
    """Return one member of a ZIP archive, in memory.

    Raises
    ------
    FormatError
        If the archive is damaged, encrypted, or would swell beyond all measure.
    """
    try:
        with zipfile.ZipFile(path) as archive:
            about = archive.getinfo(name)
            if about.file_size > LARGEST or about.file_size > SWELL * max(about.compress_size, 1) + (1 << 20):
                size = spaced(about.file_size)
                raise FormatError(path, f"{name} would swell to {size} bytes; such archives are refused")
            with archive.open(about) as file:
                # The directory may lie about the size, so no more than announced is taken.
                data = file.read(about.file_size + 1)
            if len(data) > about.file_size:
                raise FormatError(path, f"{name} is larger than its archive says; such archives are refused")
            return data
    except (OSError, KeyError, ValueError, RuntimeError, EOFError, zipfile.BadZipFile) as error:
        raise FormatError(path, f"the archive is damaged: {meaning(error)}") from error
    except Exception as error:  # zlib.error and others of the decompressors
        if isinstance(error, FormatError):
            raise
        raise FormatError(path, f"the archive is damaged: {meaning(error)}") from error
