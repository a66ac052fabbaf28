"""Points with attributes."""

from __future__ import annotations

import dataclasses
from dataclasses import dataclass, field
from typing import Any, ClassVar, Self

import numpy as np
from numpy.typing import NDArray

from vastgrid.data.attributes import Attributes
from vastgrid.data.dataset import Dataset, Floats, frozen, scaled
from vastgrid.data.frame import Frame


@dataclass(frozen=True, eq=False, kw_only=True)
class PointSet(Dataset):
    """Points.

    Attributes
    ----------
    xyz : (n, 3) float64
        Easting, northing, elevation in the frame's units.
    attributes : dict of (n, …) array
        Whatever else the source said of each point (code, classification, intensity …), under the source's names.
    """

    kind: ClassVar[str] = "points"
    title: ClassVar[str] = "points"
    xyz: Floats
    attributes: dict[str, NDArray[Any]] = field(default_factory=dict)

    def __post_init__(self) -> None:
        object.__setattr__(self, "xyz", frozen(self.xyz, np.float64, (-1, 3), "xyz"))
        object.__setattr__(self, "attributes", Attributes(self.attributes))
        for name, values in self.attributes.items():
            if len(values) != len(self.xyz):
                raise ValueError(f"attribute {name} has {len(values)} values for {len(self.xyz)} points")

    def count(self) -> dict[str, int]:
        """Return the number of points."""
        return {"points": len(self.xyz)}

    def coordinates(self) -> Floats:
        """Return the points."""
        return self.xyz

    def with_coordinates(self, plan: float, height: float, frame: Frame) -> Self:
        """Return the points scaled into another frame."""
        return dataclasses.replace(self, xyz=scaled(self.xyz, plan, height), frame=frame)

    def chosen(self, keep: NDArray[Any]) -> Self:
        """Return some of the points, by mask or index, with their attributes."""
        attributes = {name: values[keep] for name, values in self.attributes.items()}
        return dataclasses.replace(self, xyz=self.xyz[keep], attributes=attributes)
