"""What is said of each kind of data; asked instead of asking a dataset which kind it is."""

from __future__ import annotations

from dataclasses import dataclass

from vastgrid.base.findings import count
from vastgrid.base.words import spaced
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
    ground : bool
        Whether it is ground, for the columns of the lineage.
    """

    type: type[Dataset]
    counted: str
    word: str = ""
    rank: int = 3
    drawn: bool = True
    ground: bool = False

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
}
KINDS: tuple[KindOfData, ...] = (
    KindOfData(PointSet, "points", rank=2),
    KindOfData(Linework, "lines"),
    KindOfData(Contours, "lines", "contours"),
    KindOfData(Tin, "triangles", "TIN", rank=1, ground=True),
    KindOfData(Grid, "rows", "grid", rank=0),
    KindOfData(Mesh, "triangles", "mesh", rank=1),
    KindOfData(Survey, "records", "survey"),
    KindOfData(Table, "entries", "table", drawn=False),
)
KIND_CLASSES: dict[str, type[Dataset]] = {each.id: each.type for each in KINDS}
_BY_ID = {each.id: each for each in KINDS}


def kind_named(name: str) -> KindOfData | None:
    """Return what is said of a kind, by its word; None where there is none of that name."""
    return _BY_ID.get(name)
