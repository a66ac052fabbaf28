"""Classes of points: their names, and how many points of a cloud have each."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.errors import CallError
from vastgrid.data.dataset import Flags
from vastgrid.data.pointset import PointSet
from vastgrid.params.kinds import Kind, register

# The attribute in which points have their class.
CLASSES = "classification"
UNCLASSIFIED, GROUND, LOW_NOISE, HIGH_NOISE = 1, 2, 7, 18
NOISE = (LOW_NOISE, HIGH_NOISE)

# Standard point classes of LAS 1.4 (ASPRS, LAS Specification 1.4 R15, table 17).
CLASS_NAMES = {
    0: "never classified", 1: "unclassified", 2: "ground", 3: "low vegetation", 4: "medium vegetation",
    5: "high vegetation", 6: "building", 7: "low noise", 8: "model key point", 9: "water", 10: "rail", 11: "road surface",
    12: "overlap", 13: "wire guard", 14: "wire conductor", 15: "transmission tower", 16: "wire connector",
    17: "bridge deck", 18: "high noise", 19: "overhead structure", 20: "ignored ground", 21: "snow",
    22: "temporal exclusion",
}  # fmt: skip


# What LAS 1.4 gives points beside their coordinates (ASPRS, LAS Specification 1.4 R15, point data record formats): numbers.
CLOUD_NUMBERS = frozenset(
    [
        "intensity",
        "return_number",
        "number_of_returns",
        "scan_direction_flag",
        "edge_of_flight_line",
        "classification",
        "synthetic",
        "key_point",
        "withheld",
        "overlap",
        "scanner_channel",
        "scan_angle",
        "scan_angle_rank",
        "user_data",
        "point_source_id",
        "gps_time",
        "red",
        "green",
        "blue",
        "nir",
    ]
)


def class_counts(points: PointSet) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Return the classes that occur, and how many points each has."""
    counts = np.zeros(256, np.int64)
    values = points.attributes[CLASSES]
    for start in range(0, len(values), 4_000_000):
        counts += np.bincount(values[start : start + 4_000_000].astype(np.uint8), minlength=256)
    codes = np.flatnonzero(counts)
    return codes, counts[codes]


def class_words(code: int) -> str:
    """Return “ground (2)”, for sentences."""
    return f"{CLASS_NAMES.get(code, 'reserved' if code < 64 else 'own class')} ({code})"


def class_name(code: int) -> str:
    """Return “2 ground”."""
    return f"{code} {CLASS_NAMES.get(code, 'reserved' if code < 64 else 'own class')}"


@dataclass(frozen=True, slots=True)
class ClassList:
    """Some classes, as a parameter."""

    codes: tuple[int, ...]

    def __str__(self) -> str:
        return ", ".join(class_words(code) for code in self.codes)

    def of(self, points: PointSet) -> Flags:
        """Return which points have one of them, (n,) bool.

        Raises
        ------
        CallError
            If the points have no classes, or none has one of these.
        """
        chosen = self.among(points)
        if not chosen.any():
            known = ", ".join(str(code) for code in class_counts(points)[0].tolist())
            raise CallError(f"classes: no point of {points.name} is {self}; there are {known}")
        return chosen

    def among(self, points: PointSet) -> Flags:
        """Return which points have one of them, (n,) bool; perhaps none.

        Raises
        ------
        CallError
            If the points have no classes.
        """
        own = points.attributes.get(CLASSES)
        if own is None:
            raise CallError(f"classes: the points of {points.name} have no classes")
        keep = np.zeros(256, np.bool_)
        keep[list(self.codes)] = True
        return np.asarray(keep[own.astype(np.uint8)], np.bool_)


def _parse(_: Any, word: str) -> ClassList:
    parts = [part for part in re.split(r"[;,\s]+", word.strip()) if part]
    if not parts or not all(re.fullmatch(r"\d{1,3}", part) and int(part) < 256 for part in parts):
        raise CallError(f"“{word}” is not a list of classes; write numbers from 0 to 255, such as 2, 9")
    return ClassList(tuple(sorted({int(part) for part in parts})))


register(ClassList, Kind(_parse, lambda own: ",".join(str(code) for code in own.codes)))
