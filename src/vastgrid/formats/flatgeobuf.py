"""FlatGeobuf files: points, lines and areas with attributes."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from vastgrid.base.progress import Progress
from vastgrid.data.dataset import Dataset
from vastgrid.declarations.fileformat import NoParams
from vastgrid.format_support.vectorfile import vector_format, write_vector


def sniff(head: bytes, path: Path) -> int:
    """The magic bytes stand first."""
    return 100 if head[:3] == b"fgb" and head[4:7] == b"fgb" else 0


def write(datasets: Sequence[Dataset], path: Path, params: NoParams, progress: Progress) -> None:
    """Write one dataset, its features in their order."""
    write_vector(datasets, path, progress, "FlatGeobuf")


FORMAT = vector_format("flatgeobuf", "FlatGeobuf", (".fgb",), sniff, "FlatGeobuf", write=write)
