"""Survey records and tables as a script has them, and every kind by its data."""

from __future__ import annotations

from collections.abc import Mapping
from types import MappingProxyType
from typing import Any

from numpy.typing import NDArray

from vastgrid.data.dataset import Dataset
from vastgrid.data.survey import Survey as SurveyData
from vastgrid.data.table import Table as TableData
from vastgrid.library.data import Data, Origin, as_text
from vastgrid.library.surfaces import Grid, Mesh, Tin
from vastgrid.library.vectors import Areas, Contours, Linework, PointSet


class Survey(Data):
    """Survey records: alignments, parcels, plan features, trajectories, photo positions."""

    __slots__ = ()
    _of = SurveyData

    @property
    def records(self) -> tuple[Any, ...]:
        """Each with `role`, `name`, `line` (its drawn course, (m, 3)) and `exact`, what the file says."""
        assert isinstance(self._dataset, SurveyData)
        return tuple(self._dataset.records())


class Table(Data):
    """A table: columns of one length."""

    __slots__ = ()
    _of = TableData

    @property
    def columns(self) -> Mapping[str, NDArray[Any]]:
        """Values by heading; texts are text."""
        return MappingProxyType({name: as_text(values) for name, values in self._own().columns.items()})

    @property
    def units(self) -> Mapping[str, str]:
        """Unit of each column, empty where it has none."""
        own = self._own()
        return MappingProxyType(dict(zip(own.columns, own.units or ("",) * len(own.columns), strict=True)))

    @property
    def rows(self) -> tuple[dict[str, Any], ...]:
        """Each row, by heading."""
        values = [column.tolist() for column in self.columns.values()]
        return tuple(dict(zip(self.columns, row, strict=True)) for row in zip(*values, strict=True))

    def _own(self) -> TableData:
        assert isinstance(self._dataset, TableData)
        return self._dataset


WRAPPERS: dict[str, type[Data]] = {
    each._of.kind: each for each in (PointSet, Linework, Contours, Areas, Tin, Mesh, Grid, Survey, Table)
}


def wrapped(dataset: Dataset, origin: Origin | None = None) -> Data:
    """Return a dataset as a script has it."""
    return WRAPPERS[dataset.kind](dataset, origin)


def dataset_of(data: Data) -> Dataset:
    """Return what the engine works on."""
    return data._dataset


def origin_of(data: Data) -> Origin:
    """Return where data comes from."""
    return data._origin
