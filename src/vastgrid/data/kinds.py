"""What is said of each kind of data; asked instead of asking a dataset which kind it is."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import TypeVar

from vastgrid.base.findings import count
from vastgrid.base.words import spaced
from vastgrid.data.areas import Areas
from vastgrid.data.dataset import Dataset
from vastgrid.data.grid import Grid
from vastgrid.data.linework import Contours, Linework
from vastgrid.data.mesh import Mesh
from vastgrid.data.pointset import PointSet
from vastgrid.data.survey import Survey
from vastgrid.data.table import Table
from vastgrid.data.tin import Tin


@dataclass(frozen=True, slots=True)
class KindOfData:
    """One kind of data.

    Attributes
    ----------
    type : type
        Its class.
    counted : str
        What of it is counted where one figure has to do: a name that `Dataset.count` gives.
    word : str
        What stands before that count on a card; empty where the count says it all.
    rank : int
        Where it usually lies among what is drawn, the lowest first.
    drawn : bool
        Whether the views can show it.
    covers : bool
        Whether it covers ground: faces or cells.
    lines : bool
        Whether it is drawn as lines.
    ground : bool
        Whether it is ground, for the columns of the lineage.
    group : str
        Under which word what makes it is offered.
    """

    type: type[Dataset]
    counted: str
    word: str = ""
    rank: int = 4
    drawn: bool = True
    covers: bool = False
    lines: bool = False
    ground: bool = False
    group: str = ""

    @property
    def id(self) -> str:
        """Its word in files and on the command line."""
        return self.type.kind

    def in_a_word(self, counts: dict[str, int]) -> str:
        """Return “TIN · 1 240 triangles” from a dataset's counts."""
        if self.counted == "rows":
            return f"{self.word} · {spaced(counts['columns'])} × {spaced(counts['rows'])}"
        told = count(counts[self.counted], _SINGULAR[self.counted], self.counted)
        return f"{self.word} · {told}" if self.word else told


_SINGULAR = {
    "points": "point",
    "lines": "line",
    "triangles": "triangle",
    "records": "record",
    "entries": "entry",
    "areas": "area",
}
KINDS: tuple[KindOfData, ...] = (
    KindOfData(PointSet, "points", rank=3, group="Points"),
    KindOfData(Linework, "lines", lines=True, group="Lines"),
    KindOfData(Contours, "lines", "contours", lines=True, group="Lines"),
    KindOfData(Tin, "triangles", "TIN", rank=1, ground=True, covers=True, group="Ground"),
    KindOfData(Grid, "rows", "grid", rank=0, covers=True, group="Grids"),
    KindOfData(Mesh, "triangles", "mesh", rank=1, covers=True, group="Solids"),
    KindOfData(Areas, "areas", rank=2, lines=True, group="Areas"),
    KindOfData(Survey, "records", "survey", lines=True),
    KindOfData(Table, "entries", "table", drawn=False),
)
KIND_CLASSES: dict[str, type[Dataset]] = {each.id: each.type for each in KINDS}
_BY_ID = {each.id: each for each in KINDS}


_Some = TypeVar("_Some", bound=Dataset)


def kind_of(dataset: Dataset) -> KindOfData:
    """Return what is said of a dataset's kind."""
    return _BY_ID[dataset.kind]


def narrowed(dataset: Dataset, kind: type[_Some]) -> _Some:
    """Return a dataset that is known to be of a kind.

    Raises
    ------
    TypeError
        If it is of another.
    """
    if not isinstance(dataset, kind):
        raise TypeError(f"{dataset.title} where {kind.title} was expected")
    return dataset


def of_kind(datasets: Iterable[Dataset], kind: type[_Some]) -> list[_Some]:
    """Return the datasets of a kind."""
    return [each for each in datasets if isinstance(each, kind)]


def kind_named(name: str) -> KindOfData | None:
    """Return what is said of a kind, by its word; None where there is none of that name."""
    return _BY_ID.get(name)
