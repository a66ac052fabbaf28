"""Attributes by name: every name keeps its spelling, and is found in any case."""

from __future__ import annotations

from typing import Any

from numpy.typing import NDArray


class Attributes(dict[str, NDArray[Any]]):
    """Columns under the names that their source gives them; asked for in another case, the first such one is meant."""

    def spelled(self, name: str) -> str | None:
        """Return a name as it is spelled here; None where there is none of it."""
        if super().__contains__(name):
            return name
        small = name.lower()
        return next((own for own in self if own.lower() == small), None)

    def __contains__(self, name: object) -> bool:
        return isinstance(name, str) and self.spelled(name) is not None

    def __missing__(self, name: str) -> NDArray[Any]:
        own = self.spelled(name)
        if own is None:
            raise KeyError(name)
        return self[own]

    def get(self, name: str, default: Any = None) -> Any:
        """Return a column, or something else where there is none of that name."""
        own = self.spelled(name)
        return default if own is None else self[own]
