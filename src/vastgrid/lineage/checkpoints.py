"""What was made for the beginning of a parameter that grows: the next entry does not begin from nothing."""

from __future__ import annotations

import hashlib
import json
from dataclasses import dataclass
from typing import Any, Protocol

from vastgrid.base.errors import VastGridError
from vastgrid.data.dataset import Dataset
from vastgrid.declarations.conversion import Conversion, Inputs
from vastgrid.params import declare

# Every so many entries a result is kept for good; those between are let go once there is a newer one.
EVERY = 64


class Growing(Protocol):
    """A value that grows at its end."""

    def __len__(self) -> int:
        """Return the number of entries."""

    def prefix(self, number: int) -> str:
        """Return a digest of the first entries."""

    def rest(self, number: int) -> Any:
        """Return the value without the first entries."""


class Getting(Protocol):
    """Where results are kept."""

    def get(self, digest: str) -> Dataset:
        """Return a dataset, or raise."""


@dataclass(frozen=True, slots=True)
class _Mark:
    number: int
    digest: str
    findings: tuple[Any, ...]
    figures: dict[str, Any]


class Checkpoints:
    """Results by what they were made from and the digest of the beginning that they were made for."""

    def __init__(self) -> None:
        self._known: dict[tuple[str, str], _Mark] = {}

    def base(self, conversion: Conversion, inputs: Inputs, params: Any) -> str:
        """Return a digest of everything but the value that grows."""
        words = {name: text for name, text in declare.to_words(params).items() if name != conversion.resumes}
        what = [conversion.id, conversion.version, words, [(each.content, repr(each.frame)) for each in inputs]]
        return hashlib.blake2b(json.dumps(what).encode(), digest_size=12).hexdigest()

    def nearest(self, base: str, whole: Growing, store: Getting) -> tuple[int, str, tuple[Any, ...], dict[str, Any]]:
        """Return the longest beginning something is kept for: its number of entries, the digest, what was noticed, and counted."""
        for number in range(len(whole), 0, -1):
            mark = self._known.get((base, whole.prefix(number)))
            if mark is None:
                continue
            try:
                store.get(mark.digest)
            except VastGridError:
                del self._known[base, whole.prefix(number)]
                continue
            return number, mark.digest, mark.findings, mark.figures
        return 0, "", (), {}

    def remember(
        self, base: str, whole: Growing, digest: str, findings: tuple[Any, ...], figures: dict[str, Any]
    ) -> None:
        """Remember a result."""
        self._known[base, whole.prefix(len(whole))] = _Mark(len(whole), digest, findings, figures)

    def lasting(self) -> set[str]:
        """Return the results that are kept for good."""
        return {mark.digest for mark in self._known.values() if mark.number % EVERY == 0}
