"""A dataset of every kind."""

from __future__ import annotations

import itertools

import numpy as np
import shapely

from builders import METRES, ground, scattered
from vastgrid.base.progress import Silent
from vastgrid.conversions.grids import grid
from vastgrid.conversions.lines import contours
from vastgrid.data.areas import from_shapes
from vastgrid.data.dataset import Dataset
from vastgrid.data.linework import from_lines
from vastgrid.data.mesh import Mesh
from vastgrid.data.survey import Record, survey_of
from vastgrid.params import declare

# What has to be said of a conversion that nothing would be asked of otherwise.
NEEDED = {"choose": {"by": "layer", "named": "PLOTS"}, "move": {"by": "10,20,0.5"}, "heights": {"add": "0.35"}}


def asked_of(conversion):
    """Return the parameters with which a conversion can be tried: its defaults, and what it needs."""
    return declare.build(conversion.params, NEEDED.get(conversion.id, {}))


def examples() -> dict[str, Dataset]:
    """Return them by name."""
    tin = ground(400)
    road = np.array([(1.0, 2.0, 3.0), (11.0, 2.0, 3.0)])
    straight = {"kind": "line", "start": [1.0, 2.0, 3.0], "end": [11.0, 2.0, 3.0]}
    plot = np.array([(2.0, 4.0, 3.0), (8.0, 4.0, 3.0), (8.0, 9.0, 3.0), (2.0, 4.0, 3.0)])
    sides = [{"kind": "line", "start": a, "end": b} for a, b in itertools.pairwise(plot.tolist())]
    return {
        "tin": tin,
        "points": scattered(300),
        "grid": grid.run([tin], grid.settle([tin], grid.GridParams()), Silent()).dataset,
        "contours": contours.run([tin], contours.settle([tin], contours.ContourParams()), Silent()).dataset,
        "lines": from_lines(
            "edges",
            METRES,
            [np.array([(1, 2, 3), (4, 5, 6.0)]), np.array([(1, 9, 3), (4, 9, 3), (4, 11, 3), (1, 9, 3.0)])],
            ["KERB", "LEVEL"],
        ),
        "areas": from_shapes(
            [shapely.box(2, 2, 9, 9).difference(shapely.box(4, 4, 6, 6)), shapely.box(12, 2, 15, 9)],
            name="plots",
            frame=METRES,
            layer=np.array([0, 1], np.int32),
            layers=("PLOTS", "PONDS"),
            attributes={"name": np.array([b"One", b"Two"])},
        ),
        "mesh": Mesh(name="box", frame=METRES, vertices=np.eye(3) * 9.0, triangles=np.array([(0, 1, 2)])),
        "survey": survey_of(
            "records",
            METRES,
            [
                Record("alignment", "CL", road, {"geometry": [straight]}),
                Record("parcel", "P1", plot, {"geometry": sides}),
            ],
        ),
    }
