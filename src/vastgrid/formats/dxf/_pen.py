"""What all entities of a drawing share: editions, handles, encodings, layers and colours."""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence
from dataclasses import dataclass, field
from enum import Enum
from typing import Any, BinaryIO

import numpy as np
from numpy.typing import NDArray

from vastgrid.format_support.origin import NOWHERE, Place
from vastgrid.kernels.text.textrows import HEX, RowTemplate


class Version(Enum):
    """Edition of the DXF reference."""

    R12 = "R12"
    R2000 = "R2000"
    R2004 = "R2004"
    R2007 = "R2007"
    R2010 = "R2010"
    R2013 = "R2013"
    R2018 = "R2018"

    @property
    def old(self) -> bool:
        """Whether entities have neither handles nor classes of their own, and polylines no light form."""
        return self is Version.R12

    @property
    def true_colours(self) -> bool:
        """Whether it knows colours beside the 255 of the index (group code 420)."""
        return self not in (Version.R12, Version.R2000)

    @property
    def unicode(self) -> bool:
        """Whether text is UTF-8; before, it is in a code page, and other letters are escapes."""
        return self not in (Version.R12, Version.R2000, Version.R2004)


@dataclass(slots=True)
class Pen:
    """Writes entities of one edition, numbering handles.

    Attributes
    ----------
    file : file
        Where they go.
    version : Version
        The edition.
    decimals : int
        Decimals of every coordinate.
    owner : str
        Handle of the block that owns the entities.
    handle : int
        The next free handle.
    shift : (E, N, Z)
        What is taken from every coordinate.
    """

    file: BinaryIO
    version: Version
    decimals: int
    owner: str
    handle: int
    shift: Place = NOWHERE
    # Colour of single entities, by group codes; empty for that of the layer.
    colour: str = field(default="")

    @property
    def old(self) -> bool:
        """Whether the edition has no handles."""
        return self.version.old

    def coloured(self, colour: str) -> Pen:
        """Return the same pen with a colour for what it writes; handles go on from here."""
        return dataclasses.replace(self, colour=colour)

    def head(self, kind: str, layer: str, sub: str) -> tuple[str, tuple[int, ...]]:
        """Return the beginning of an entity's template, and the decimals of its slots."""
        text = "".join(letter for letter in layer if letter not in "{}")
        if self.old:
            return f"0\n{kind}\n8\n{text}\n{self.colour}", ()
        begin = f"0\n{kind}\n5\n{{}}\n330\n{self.owner}\n100\nAcDbEntity\n8\n{text}\n{self.colour}"
        return begin + (f"100\n{sub}\n" if sub else ""), (HEX,)

    def handles(self, number: int) -> list[NDArray[Any]]:
        """Return the column of handles, where the edition has them."""
        if self.old:
            return []
        index = np.arange(self.handle, self.handle + number)
        self.handle += number
        return [index]

    def one(self) -> str:
        """Return the handle of a single entity, as its template wants it; nothing where the edition has none."""
        text = f"{self.handle:X}"
        self.handle += 1
        return text

    def moved(self, xyz: NDArray[np.float64]) -> NDArray[np.float64]:
        """Return coordinates told from the shift, (n, 2) or (n, 3)."""
        return xyz if self.shift == NOWHERE else xyz - np.array(self.shift)[: xyz.shape[1]]

    def template(self, text: str, decimals: Sequence[int]) -> RowTemplate:
        """Return a template of rows in the edition's encoding."""
        return RowTemplate(self.text(text), decimals)

    def text(self, text: str) -> bytes:
        """Return text in the edition's encoding."""
        return encoded(text, self.version)


def encoded(text: str, version: Version) -> bytes:
    """Return text as an edition keeps it: UTF-8, or a code page with escapes for what it does not have."""
    if version.unicode:
        return text.encode("utf-8", "replace")
    out = []
    for letter in text:
        try:
            out.append(letter.encode("cp1252"))
        except UnicodeEncodeError:
            code = ord(letter)
            out.append(f"\\U+{code:04X}".encode() if code < 0x10000 else b"?")
    return b"".join(out)
