"""The budgets of the library: what importing it and calling it costs."""

from __future__ import annotations

import subprocess
import sys

import numpy as np
from shared import best, row

import vastgrid as vg
from vastgrid import catalog
from vastgrid.base.progress import Silent
from vastgrid.declarations.conversion import Inputs
from vastgrid.library.data import dataset_of
from vastgrid.params import declare

_CALLS = 200


def bench_import() -> None:
    """Importing the library, beside a start of Python that imports nothing."""

    def started(code: str) -> float:
        return best(lambda: subprocess.run([sys.executable, "-c", code], check=True), 5)

    own = started("import vastgrid") - started("pass")
    row("import vastgrid", f"{own * 1000:.0f} ms", "≤ 150 ms", good=own <= 0.15)


def bench_calls() -> None:
    """A call of the library, beside the step that it makes, on few points: what is left is the call."""
    xyz = np.random.default_rng(1).random((1000, 3)) * 100.0
    points = vg.PointSet.from_arrays(xyz, unit="m", vertical_unit="m")
    conversion = catalog.conversion_named("move")
    inputs = Inputs.of_pairs([(conversion.main.role, dataset_of(points))])
    params = conversion.settle(inputs, declare.build(conversion.params, {"by": "1,2,3"}))

    def calls() -> None:
        for _ in range(_CALLS):
            points.move(by=(1, 2, 3))

    def steps() -> None:
        for _ in range(_CALLS):
            conversion.run(inputs, params, Silent())

    calls()
    over = (best(calls, 3) - best(steps, 3)) / _CALLS
    row("a call of the library over its kernel", f"{over * 1000:.2f} ms", "≤ 1 ms", good=over <= 0.001)
