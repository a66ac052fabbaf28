"""What is said of files beside their names: reading options and units, of all or of one."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import TypeVar

from vastgrid.base.errors import CallError
from vastgrid.base.words import instead, shortly
from vastgrid.declarations.conversion import listed
from vastgrid.declarations.fileformat import Format
from vastgrid.execution.executor import Units
from vastgrid.params import declare

T = TypeVar("T")


@dataclass(frozen=True, slots=True)
class Options:
    """Reading options in words: of every input whose format has them, or of one file by its name."""

    every: dict[str, str] = field(default_factory=dict)
    of_file: dict[str, dict[str, str]] = field(default_factory=dict)

    def of(self, path: Path, kind: Format) -> dict[str, str]:
        """Return the options for a file of a format.

        Raises
        ------
        CallError
            If one was said of this file and its format has no such option.
        """
        names = {each.name for each in declare.fields(kind.read_params)}
        named = _named(self.of_file, path, {})
        for name in named:
            if name not in names:
                raise CallError(
                    f"{kind.title} ({shortly(path.name)}) has no reading option “{shortly(name)}”; {instead(name, sorted(names))}"
                )
        return {**{key: word for key, word in self.every.items() if key in names}, **named}

    def check(self, paths: Sequence[Path]) -> None:
        """Refuse options said of a file that is not there.

        Raises
        ------
        CallError
            With the names that there are.
        """
        _check_names(self.of_file, paths, "reading options")


def _named(of_file: dict[str, T], path: Path, otherwise: T) -> T:
    """Return what was said of a file, by its path as it was written or by its name."""
    return of_file.get(str(path), of_file.get(path.name, otherwise))


def _check_names(named: Iterable[str], paths: Sequence[Path], what: str) -> None:
    names = {word for path in paths for word in (str(path), path.name)}
    for name in named:
        if name not in names:
            inputs = listed([path.name for path in paths])
            raise CallError(f"{what} are said of “{name}”, which is not an input; inputs are {inputs}")


@dataclass(frozen=True, slots=True)
class Said:
    """Units that were said of inputs: of all that do not say theirs, or of one file by its name.

    Attributes
    ----------
    every : pair of Unit or None
        Plan and height unit.
    of_file : dict
        Pairs by file name, or by path as it was written.
    """

    every: Units = (None, None)
    of_file: dict[str, Units] = field(default_factory=dict)

    def of(self, path: Path) -> Units:
        """Return what was said of a file."""
        named = _named(self.of_file, path, (None, None))
        return named[0] or self.every[0], named[1] or self.every[1]

    def check(self, paths: Sequence[Path]) -> None:
        """Refuse units said of a file that is not there.

        Raises
        ------
        CallError
            With the names that there are.
        """
        _check_names(self.of_file, paths, "units")
