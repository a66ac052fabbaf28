"""Survey records: alignments, parcels, plan features, trajectories and photo positions, with their geometry drawn."""

from __future__ import annotations

import dataclasses
import json
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, ClassVar, Self

import numpy as np
from numpy.typing import NDArray

from vastgrid.data.dataset import Dataset, Floats, frozen
from vastgrid.data.frame import Frame

ROLES = ("alignment", "parcel", "plan feature", "trajectory", "photo position")
# What the numbers of a record measure, by their key; all others are kept as they are.
_PLAN = {"radius", "radius_start", "radius_end", "length", "length_in", "length_out", "station", "station_ahead"}
_HEIGHT = {"elevation"}
_PLACES = {"start", "end", "centre", "pi", "points", "point"}


@dataclass(frozen=True)
class Record:
    """One record.

    Attributes
    ----------
    role : str
        One of `ROLES`.
    name : str
        Its own name.
    line : (m, 3) float64
        Its geometry as drawn: curves and spirals as chords; elevation NaN where there is none.
    exact : dict
        What the source said, as plain values: geometry elements, stations, profile.
    """

    role: str
    name: str
    line: Floats
    exact: dict[str, Any]


@dataclass(frozen=True, eq=False, kw_only=True)
class Survey(Dataset):
    """Records of a survey.

    Attributes
    ----------
    vertices : (n, 3) float64
        The drawn geometry of all records one after another.
    offsets : (k + 1,) int64
        Record i is drawn as ``vertices[offsets[i]:offsets[i + 1]]``.
    roles, names : tuple of str
        Of each record.
    exact : tuple of str
        Of each record what the source said, as JSON.
    """

    kind: ClassVar[str] = "survey"
    title: ClassVar[str] = "survey records"
    vertices: Floats
    offsets: NDArray[np.int64]
    roles: tuple[str, ...]
    names: tuple[str, ...]
    exact: tuple[str, ...]

    def __post_init__(self) -> None:
        object.__setattr__(self, "vertices", frozen(self.vertices, np.float64, (-1, 3), "vertices"))
        object.__setattr__(self, "offsets", frozen(self.offsets, np.int64, (-1,), "offsets"))
        for name in ("roles", "names", "exact"):
            object.__setattr__(self, name, tuple(getattr(self, name)))
            if len(getattr(self, name)) != len(self.offsets) - 1:
                raise ValueError(f"{name} has another length than the records")

    def __len__(self) -> int:
        return len(self.offsets) - 1

    def count(self) -> dict[str, int]:
        """Return the numbers of records and of drawn vertices."""
        return {"records": len(self), "vertices": len(self.vertices)}

    def courses(self) -> tuple[Floats, NDArray[np.int64]]:
        """Return its records' lines in plan."""
        return self.vertices, self.offsets

    def coordinates(self) -> Floats:
        """Return every drawn vertex."""
        return self.vertices

    def records(self) -> list[Record]:
        """Return the records one by one."""
        return [
            Record(role, name, self.vertices[self.offsets[k] : self.offsets[k + 1]], json.loads(self.exact[k]))
            for k, (role, name) in enumerate(zip(self.roles, self.names, strict=True))
        ]

    def with_coordinates(self, plan: float, height: float, frame: Frame) -> Self:
        """Return the records scaled into another frame, radii, stations and profiles included."""
        exact = tuple(json.dumps(_scaled(json.loads(text), plan, height)) for text in self.exact)
        return dataclasses.replace(self, vertices=self.vertices * (plan, plan, height), exact=exact, frame=frame)


def survey_of(name: str, frame: Frame, records: Sequence[Record]) -> Survey:
    """Return records as a dataset."""
    lengths = [len(record.line) for record in records]
    return Survey(
        name=name,
        frame=frame,
        vertices=np.concatenate([np.zeros((0, 3)), *(record.line for record in records)]),
        offsets=np.concatenate(([0], np.cumsum(lengths, dtype=np.int64))),
        roles=tuple(record.role for record in records),
        names=tuple(record.name for record in records),
        exact=tuple(json.dumps(record.exact) for record in records),
    )


def _scaled(value: Any, plan: float, height: float, key: str = "") -> Any:
    if isinstance(value, dict):
        return {name: _scaled(part, plan, height, name) for name, part in value.items()}
    if isinstance(value, list):
        if key in _PLACES and value and isinstance(value[0], int | float):
            return [part * (height if k == 2 else plan) for k, part in enumerate(value)]
        return [_scaled(part, plan, height, key) for part in value]
    if isinstance(value, bool) or not isinstance(value, int | float):
        return value
    factor = {"area": plan * plan}.get(key, plan if key in _PLAN else height if key in _HEIGHT else 1.0)
    return value * factor
