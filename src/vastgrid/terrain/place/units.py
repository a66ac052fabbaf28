"""Bringing a dataset into other units."""

from __future__ import annotations

from typing import TypeVar

from vastgrid.base.errors import CallError
from vastgrid.base.quantities import Unit, factor
from vastgrid.data.dataset import Dataset
from vastgrid.data.frame import Frame, crs_in_units

Kind = TypeVar("Kind", bound=Dataset)


def in_units(dataset: Kind, horizontal: Unit | None, vertical: Unit | None) -> Kind:
    """Return the dataset in other units; None leaves that unit as it is.

    The CRS follows: the same projection with its axes in the new unit.

    Raises
    ------
    CallError
        If the unit to convert from is unknown, or the coordinates are degrees.
    """
    frame = dataset.frame
    if vertical is not None and not dataset.has_lengths:
        raise CallError(
            f"{dataset.name} holds no heights but {getattr(dataset, 'quantity', 'something else')}, so no unit of heights "
            "can be asked for"
        )
    plan = _ratio(frame.horizontal, horizontal, dataset.name, "plan", "--from-units")
    height = _ratio(frame.vertical, vertical, dataset.name, "height", "--from-vertical-units")
    if plan == 1.0 and height == 1.0:
        return dataset
    to = Frame(None, horizontal or frame.horizontal, vertical or frame.vertical)
    crs = frame.crs if to.horizontal is None else crs_in_units(frame.crs, to.horizontal, to.vertical)
    return dataset.with_coordinates(plan, height, Frame(crs, to.horizontal, to.vertical))


def _ratio(have: Unit | None, want: Unit | None, name: str, what: str, option: str) -> float:
    if want is None or want is have:
        return 1.0
    if have is None:
        raise CallError(
            f"the {what} unit of {name} is unknown, so it cannot be turned into {want.title}; "
            f"say what it is with {option} (m, ft, us-ft …)"
        )
    if Unit.DEGREE in (have, want):
        raise CallError(
            f"{name} is in {have.title}s, and {want.title}s are wanted: degrees are angles, with no length to convert; bring it "
            "onto a grid first (reproject)"
        )
    return factor(have, want)
