"""What is in data or in a file, as a tree: the same before writing, and of any file that is read."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from functools import singledispatch
from typing import Any

import numpy as np

from vastgrid.base.findings import counted
from vastgrid.base.words import plain, spaced
from vastgrid.data.areas import Areas
from vastgrid.data.dataset import Dataset
from vastgrid.data.grid import Grid
from vastgrid.data.kinds import kind_of
from vastgrid.data.linework import Contours, Linework
from vastgrid.data.mesh import Mesh
from vastgrid.data.pointset import PointSet
from vastgrid.data.survey import Survey
from vastgrid.data.table import Table
from vastgrid.data.tin import Tin

# So many layers or classes are named one by one.
_MOST = 400


@dataclass(frozen=True, slots=True)
class Item:
    """A branch of the tree: its name, its kind in a word, how many there are, what is in it, and what is counted."""

    name: str
    kind: str
    count: int
    items: tuple[Item, ...] = ()
    of: str = ""

    def words(self) -> str:
        """Return “13 859 triangles”."""
        what = self.of or self.kind
        return counted(self.count, what) if what.endswith(("s", "vertices")) else f"{spaced(self.count)} {what}"

    def to_json(self) -> dict[str, Any]:
        """Return plain values."""
        return {
            "name": self.name,
            "kind": self.kind,
            "count": self.count,
            "items": [item.to_json() for item in self.items],
        }

    def lines(self, depth: int = 0) -> Iterable[str]:
        """Yield the branch as indented lines."""
        told = self.words() if self.kind in (self.of, "") or not self.of else f"{self.kind}, {self.words()}"
        yield f"{'  ' * depth}{self.name}: {told}"
        for item in self.items:
            yield from item.lines(depth + 1)


def outline(datasets: Sequence[Dataset]) -> tuple[Item, ...]:
    """Return the tree of datasets."""
    return tuple(_item(each) for each in datasets)


def _item(dataset: Dataset) -> Item:
    counts = dataset.count()
    number = counts["rows"] * counts["columns"] if "columns" in counts and "rows" in counts else 0
    kind = kind_of(dataset)
    what = "cells" if number else kind.counted
    return Item(dataset.name, dataset.kind, number or counts[kind.counted], _inside(dataset), what)


@singledispatch
def _inside(dataset: Dataset) -> tuple[Item, ...]:
    """Return what is in a dataset of some kind."""
    return ()


def _some(*parts: tuple[str, str, int]) -> tuple[Item, ...]:
    return tuple(Item(name, kind, count) for name, kind, count in parts if count)


@_inside.register
def _in_tin(tin: Tin) -> tuple[Item, ...]:
    corners = len(tin.vertices) if len(tin.triangles) else 0
    faces = _some(("faces", "triangles", len(tin.triangles)), ("corners", "vertices", corners))
    source = _some(
        ("points", "points", len(tin.source_points)), ("breaklines", "lines", len(tin.break_offsets) - 1)
    ) + tuple(Item(f"boundary, {role}", "lines", 1) for role, _ in tin.limits())
    both = (
        Item("definition", "surface", len(tin.triangles), faces, "triangles"),
        Item("source data", "source", sum(each.count for each in source), source, "pieces"),
    )
    return tuple(each for each in both if each.items)


@_inside.register
def _in_mesh(mesh: Mesh) -> tuple[Item, ...]:
    return _some(("faces", "triangles", len(mesh.triangles)), ("corners", "vertices", len(mesh.vertices)))


@_inside.register
def _in_contours(contours: Contours) -> tuple[Item, ...]:
    groups = tuple(Item(name, "lines", int(mine.sum())) for name, mine in contours.groups())
    labels = len(contours.labels.get("level", ())) if contours.labels else 0
    return (*groups, *_some(("Labels", "texts", labels)))


@_inside.register(Linework)
@_inside.register(Areas)
def _in_lines(lines: Linework | Areas) -> tuple[Item, ...]:
    number = np.bincount(lines.layer, minlength=len(lines.layers)).tolist()
    layers = [
        Item(name or "(no layer)", lines.kind, own) for name, own in zip(lines.layers, number, strict=True) if own
    ]
    return (*layers[:_MOST], *_attributes(lines.attributes))


@_inside.register
def _in_points(points: PointSet) -> tuple[Item, ...]:
    found = []
    classes = points.attributes.get("classification")
    if classes is not None and classes.dtype.kind in "iu":
        different, numbers = np.unique(classes, return_counts=True)
        own = [Item(f"class {v}", "points", n) for v, n in zip(different.tolist(), numbers.tolist(), strict=True)]
        found.append(Item("classes", "classes", len(own), tuple(own)))
    for name, title in (("layer", "layers"), ("code", "codes")):
        values = points.attributes.get(name)
        if values is not None and len(values):
            told = Counter(plain(each) for each in values.tolist())
            own = [Item(text or "(none)", "points", n) for text, n in told.most_common(_MOST)]
            found.append(Item(title, title, len(told), tuple(own)))
    return (*found, *_attributes(points.attributes))


def _attributes(attributes: dict[str, Any]) -> tuple[Item, ...]:
    if not attributes:
        return ()
    own = tuple(Item(name, "values", len(values)) for name, values in attributes.items())
    return (Item("attributes", "attributes", len(own), own),)


@_inside.register
def _in_grid(grid: Grid) -> tuple[Item, ...]:
    known = int(np.isfinite(grid.heights).sum())
    return _some(
        (grid.quantity if not grid.has_heights else "heights", "cells", known),
        ("without a value", "cells", grid.heights.size - known),
    )


@_inside.register
def _in_survey(survey: Survey) -> tuple[Item, ...]:
    roles = dict.fromkeys(survey.roles)
    return tuple(
        Item(
            role,
            "records",
            survey.roles.count(role),
            tuple(
                Item(name, "record", 1)
                for name, own in list(zip(survey.names, survey.roles, strict=True))[:_MOST]
                if own == role
            ),
        )
        for role in roles
    )


@_inside.register
def _in_table(table: Table) -> tuple[Item, ...]:
    return tuple(Item(name, "column", table.count()["entries"]) for name in table.columns)
