"""Sheets of ground, areas, and conversions run on them, for tests of volumes and accuracy."""

from __future__ import annotations

import numpy as np
import shapely

from builders import METRES, ORIGIN
from vastgrid import catalog
from vastgrid.base.progress import Silent
from vastgrid.data.linework import from_lines
from vastgrid.data.tin import Tin
from vastgrid.declarations.conversion import Inputs
from vastgrid.execution.steps import convert
from vastgrid.params import declare


def sheet(z, size=100.0, steps=8, frame=METRES, name="sheet"):
    at = np.linspace(0.0, size, steps + 1)
    x, y = np.meshgrid(at, at)
    number = np.arange((steps + 1) ** 2).reshape(steps + 1, steps + 1)
    a, b, c, d = number[:-1, :-1].ravel(), number[:-1, 1:].ravel(), number[1:, 1:].ravel(), number[1:, :-1].ravel()
    triangles = np.concatenate((np.column_stack((a, b, c)), np.column_stack((a, c, d))))
    vertices = np.column_stack((x.ravel() + ORIGIN[0], y.ravel() + ORIGIN[1], z(x.ravel(), y.ravel())))
    return Tin(name=name, frame=frame, vertices=vertices, triangles=triangles.astype(np.int32))


def ring(west, south, east, north):
    xy = shapely.get_coordinates(shapely.box(west, south, east, north)) + ORIGIN
    return np.column_stack((xy, np.full(len(xy), np.nan)))


def rings(*boxes, layers=None, frame=METRES):
    return from_lines("areas", frame, [ring(*own) for own in boxes], layers or ["LIMIT"] * len(boxes))


def made(operation, pairs, **words):
    conversion = catalog.conversion_named(operation)
    inputs = Inputs.of_pairs(pairs)
    return convert(conversion, inputs, declare.build(conversion.params, words), Silent())[0]


FLAT = sheet(lambda x, y: 0.0 * x + 200.0, name="before")
TILTED = sheet(lambda x, y: x / 10.0 + 195.0, steps=11, name="after")
