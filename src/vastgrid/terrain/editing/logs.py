"""Logs of what was done by hand: readable lines that only grow, can be switched off one by one, and are replayed."""

from __future__ import annotations

import hashlib
import re
from abc import ABC, abstractmethod
from dataclasses import dataclass, field
from typing import Any, Self

from vastgrid.base.errors import CallError
from vastgrid.base.findings import count
from vastgrid.params.kinds import Kind, register

# A line that begins so stays in the log and does nothing.
OFF = "off "


@dataclass(frozen=True)
class Log(ABC):
    """Entries in the order in which they were made, one line each; what a line can say is up to the kind of log.

    Attributes
    ----------
    before : int
        How many others were made before them; what is said of an entry counts from there.
    """

    entries: tuple[str, ...] = ()
    before: int = field(default=0, compare=False)

    def __len__(self) -> int:
        return len(self.entries)

    def __str__(self) -> str:
        on = sum(not entry.startswith(OFF) for entry in self.entries)
        if not self.entries:
            return "no edits"
        return (
            count(on, "edit")
            if on == len(self.entries)
            else f"{count(on, 'edit')} (and {len(self.entries) - on} switched off)"
        )

    def rest(self, number: int) -> Self:
        """Return the log without its first entries."""
        return type(self)(self.entries[number:], self.before + number)

    def prefix(self, number: int) -> str:
        """Return a digest of the first entries."""
        if "chain" not in self.__dict__:
            state = hashlib.blake2b(digest_size=12)
            chain = [state.hexdigest()]
            for entry in self.entries:
                state.update(f"{entry}\n".encode())
                chain.append(state.copy().hexdigest())
            self.__dict__["chain"] = chain
        made: str = self.__dict__["chain"][number]
        return made

    @classmethod
    @abstractmethod
    def tidied(cls, line: str) -> str:
        """Return an entry as it is kept, without the word that switches it off.

        Raises
        ------
        CallError
            If it is none.
        """

    @classmethod
    @abstractmethod
    def shown(cls, line: str, unit: str = "") -> str:
        """Return an entry, switched off or not, as people read it: a sentence without its full stop.

        Parameters
        ----------
        unit : str
            Unit of heights that have none of their own, as it follows a number.
        """

    @classmethod
    @abstractmethod
    def place(cls, line: str) -> tuple[float, float]:
        """Return easting and northing of the place that an entry leads to."""


def _parse(kind: type[Log], word: str) -> Log:
    lines = []
    for number, line in enumerate(re.split(r"[\n;]", word), 1):
        text = " ".join(line.split("#")[0].split())
        if text:
            try:
                entry = kind.tidied(text.removeprefix(OFF))
            except CallError as error:
                raise CallError(f"line {number}: {error}") from error
            lines.append(OFF + entry if text.startswith(OFF) else entry)
    return kind(tuple(lines))


def _text(log: Any) -> str:
    return "\n".join(log.entries)


register(Log, Kind(_parse, _text, str, "lines", large=True))
