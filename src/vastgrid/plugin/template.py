"""A complete small plug-in, to begin from: a format, a conversion and a check, with their tests."""

from __future__ import annotations

import re
from pathlib import Path

from vastgrid.base.errors import CallError
from vastgrid.declarations.plugins import INTERFACE

_PROJECT = """[build-system]
requires = ["setuptools>=61"]
build-backend = "setuptools.build_meta"

[project]
name = "@NAME@"
version = "0.1.0"
description = "A plug-in of Vast Grid."
requires-python = ">=3.11"
dependencies = ["vastgrid"]

[project.entry-points."vastgrid.formats"]
@NAME@ = "@NAME@.spots:FORMAT"

[project.entry-points."vastgrid.conversions"]
@NAME@_fill = "@NAME@.water:CONVERSION"

[project.entry-points."vastgrid.checks"]
@NAME@-low = "@NAME@.low:CHECK"
"""

_README = """# @NAME@

A plug-in of Vast Grid: a file format (`.@NAME@`), a conversion (`--via @NAME@_fill level=230.5`) and a check.

    python -m vastgrid.plugin.check .      looks whether it keeps the contract
    python -m pytest                       runs its tests
    pip install .                          puts it in place; vastgrid doctor names it
"""

_INIT = '''"""A plug-in of Vast Grid."""
'''

_SPOTS = '''"""Spot heights as text: a first line, then easting, northing and height of each."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np

from vastgrid.plugin import (
    UNKNOWN, Carries, Dataset, Format, FormatError, NoParams, PointSet, Progress, ReadResult, narrowed, weighing,
)  # fmt: skip

INTERFACE = "@INTERFACE@"
_HEAD = "@NAME@ 1"


def sniff(head: bytes, path: Path) -> int:
    """Say how sure it is that a file is of this format."""
    return 95 if head.startswith(_HEAD.encode()) else 0


def read(path: Path, params: NoParams, progress: Progress) -> ReadResult:
    """Read the spots; the file says no unit, and so the data has none."""
    lines = path.read_text(encoding="utf-8", errors="replace").splitlines()
    if not lines or lines[0].strip() != _HEAD:
        raise FormatError(path, f"its first line is not “{_HEAD}”")
    rows = []
    for number, line in enumerate(lines[1:], 2):
        try:
            east, north, height = (float(word) for word in line.split())
        except ValueError:
            raise FormatError(path, f"“{line[:40]}” is not three numbers", line=number) from None
        rows.append((east, north, height))
    if not rows or not np.isfinite(rows).all():
        raise FormatError(path, "there is no spot in it, or one is not a finite number")
    progress.report(1.0, f"reading {path.name}")
    return ReadResult((PointSet(name=path.stem, frame=UNKNOWN, xyz=np.array(rows)),))


def write(datasets: Sequence[Dataset], path: Path, params: NoParams, progress: Progress) -> None:
    """Write the spots with all of their digits."""
    with path.open("w", encoding="utf-8") as file:
        file.write(f"{_HEAD}\\n")
        for east, north, height in narrowed(datasets[0], PointSet).xyz.tolist():
            file.write(f"{east!r} {north!r} {height!r}\\n")
    progress.report(1.0, f"writing {path.name}")


FORMAT = Format(
    id="@NAME@",
    title="Spots of @NAME@",
    used_for="survey and CAD",
    suffixes=(".@NAME@",),
    sniff=sniff,
    carries=Carries(kinds=(PointSet,)),
    read=read,
    write=write,
    weigh=weighing(points=50),
)
'''

_WATER = '''"""Points that lie below a level, lifted onto it: a pond that fills."""

from __future__ import annotations

import dataclasses
from dataclasses import dataclass
from typing import Annotated

from vastgrid.plugin import (
    Conversion, Input, Inputs, Length, Output, Param, ParamError, PointSet, Progress, Quantity, Result, count, narrowed,
    note,
)  # fmt: skip

INTERFACE = "@INTERFACE@"


@dataclass(frozen=True)
class FillParams:
    """How high."""

    level: Annotated[Length | None, Param("Level", "Height of the water.", Quantity.Z_LENGTH, absent="no level")] = None


def run(inputs: Inputs, params: FillParams, progress: Progress) -> Result:
    """Lift what is too low."""
    progress.report(0.1)
    if params.level is None:
        raise ParamError("level", "say how high the water stands, such as level=231.5m")
    points = narrowed(inputs[0], PointSet)
    level = params.level.in_unit(points.frame.vertical, "level")
    xyz = points.xyz.copy()
    wet = xyz[:, 2] < level
    xyz[wet, 2] = level
    progress.report(1.0)
    said = note("lifted", f"{count(int(wet.sum()), 'point')} of {len(xyz)} lay below {params.level}.")
    return Result(dataclasses.replace(points, xyz=xyz), (said,))


CONVERSION = Conversion(
    id="@NAME@_fill",
    version=1,
    title="Water up to a level",
    help="Points that lie below a level, lifted onto it.",
    inputs=(Input("points", (PointSet,)),),
    outputs=(Output("points", PointSet),),
    params=FillParams,
    template="{points} with water up to {level}.",
    run=run,
    ask=True,
)
'''

_LOW = '''"""Points below the lowest height that a site can have."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated

import numpy as np

from vastgrid.plugin import Check, Dataset, Finding, Length, Param, PointSet, Progress, Quantity, count, length_in

INTERFACE = "@INTERFACE@"


@dataclass(frozen=True)
class Params:
    """What is too low."""

    floor: Annotated[Length, Param("Lowest height", "No ground of the site lies below it.", Quantity.Z_LENGTH)] = Length(-430.0)


def run(data: Dataset, others: Sequence[Dataset], params: Params, progress: Progress) -> list[Finding]:
    """Return how many points are too low, and where the lowest one is."""
    xyz = data.coordinates()
    low = np.flatnonzero(xyz[:, 2] < length_in(params.floor, data.frame.vertical))
    if not len(low):
        return []
    east, north, height = xyz[low[np.argmin(xyz[low, 2])]].tolist()
    return [Finding(CHECK.id, f"{count(len(low), 'point')} below {params.floor}, the lowest at {height:.3f}.", at=(east, north))]


CHECK = Check(
    id="@NAME@-low",
    version=1,
    title="Below the site",
    help="No land lies lower than the shore of the Dead Sea; a sign or a decimal point is wrong there.",
    takes=(PointSet,),
    params=Params,
    run=run,
)
'''

_TEST = '''"""The plug-in keeps the contract, and does what it says."""

from pathlib import Path

import pytest
import vastgrid as vg
from @NAME@.water import CONVERSION

from vastgrid.plugin import Inputs, Length, PointSet, count
from vastgrid.plugin.check import check


def test_the_contract():
    looked = check(str(Path(__file__).parents[1]))
    assert not [each.line() for each in looked if each.wrong]


def test_water_lifts_what_lies_below():
    points = PointSet(name="points", xyz=[[0, 0, 1], [1, 0, 5]])
    params = CONVERSION.params(Length(3.0))

    class Silent:
        def report(self, share, text=""):
            """Nobody listens."""

    made = CONVERSION.run(Inputs.of_pairs([("points", points)]), params, Silent())
    assert made.dataset.xyz[:, 2].tolist() == [3.0, 5.0] and count(1, "point") in made.findings[0].text


def test_a_damaged_file_is_told(tmp_path):
    path = tmp_path / "a.@NAME@"
    path.write_text("@NAME@ 1\\n1 2 x\\n")
    from @NAME@.spots import FORMAT

    with pytest.raises(vg.FormatError, match="line 2"):
        FORMAT.read(path, FORMAT.read_params(), None)
'''


def write_plugin(name: str, into: Path) -> list[Path]:
    """Write a complete plug-in into a folder of its name; return its files.

    Raises
    ------
    CallError
        If the name is none that a Python package can have, or the folder is there already.
    """
    if not re.fullmatch(r"[a-z][a-z0-9_]*", name):
        raise CallError(f"“{name}” cannot be the name of a package: small letters, digits and _, a letter first")
    folder = into / name
    if folder.exists():
        raise CallError(f"{folder} is there already")
    files = {
        "pyproject.toml": _PROJECT,
        "README.md": _README,
        f"src/{name}/__init__.py": _INIT,
        f"src/{name}/spots.py": _SPOTS,
        f"src/{name}/water.py": _WATER,
        f"src/{name}/low.py": _LOW,
        "tests/test_plugin.py": _TEST,
    }
    made = []
    for place, text in files.items():
        path = folder / place
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text.replace("@INTERFACE@", INTERFACE).replace("@NAME@", name), encoding="utf-8")
        made.append(path)
    return made
