"""Fits kept in files, with the points they were made from, and read again."""

from __future__ import annotations

import json
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from vastgrid.base.errors import CallError, FormatError, ParamError
from vastgrid.base.files import replacing
from vastgrid.base.quantities import Unit, parse_unit
from vastgrid.data.dataset import Flags
from vastgrid.data.frame import Frame
from vastgrid.measures.fitting import Fit
from vastgrid.terrain.place.control_points import Pairs


@dataclass(frozen=True, slots=True)
class KeptFit:
    """A fit with all that is told of it: where it leads, the unit of what it is for, its points and which are blunders."""

    fit: Fit
    frame: Frame
    unit: Unit | None
    pairs: Pairs
    far: Flags
    called: str


_KIND = "fit of Vast Grid, version 1"


def keep_fit(path: Path, own: KeptFit) -> None:
    """Write a fit into a file."""
    rows = zip(own.pairs.names, own.pairs.local.tolist(), own.pairs.known.tolist(), own.far.tolist(), strict=True)
    frame = own.frame
    values = {
        "kind": _KIND,
        "called": own.called,
        "fit": own.fit.to_json(),
        "crs": frame.crs,
        "unit": frame.horizontal.value if frame.horizontal else None,
        "vertical_unit": frame.vertical.value if frame.vertical else None,
        "local_unit": own.unit.value if own.unit else None,
        "points": [
            {"name": name, "local": _plain_of(local), "known": _plain_of(known), "blunder": far}
            for name, local, known, far in rows
        ],
    }
    with replacing(path) as temporary:
        temporary.write_text(json.dumps(values, indent=1), encoding="utf-8")


def _plain_of(place: list[float]) -> list[float | None]:
    return [value if value == value else None for value in place]


def kept_fit(path: Path) -> KeptFit:
    """Return a fit that was kept.

    Raises
    ------
    ParamError
        If there is no such file.
    FormatError
        If it is none that was kept.
    """
    try:
        data = path.read_bytes()
    except OSError as error:
        raise ParamError("using", f"{path} cannot be read: {error.strerror}") from error
    try:
        values = json.loads(data[: 1 << 24])
        if values["kind"] != _KIND:
            raise ValueError("it is another kind of file")
        units = [parse_unit(values[name]) if values[name] else None for name in ("unit", "vertical_unit", "local_unit")]
        points = values["points"]
        places = [
            np.array([[np.nan if v is None else float(v) for v in point[side]] for point in points]).reshape(-1, 3)
            for side in ("local", "known")
        ]
        pairs = Pairs([str(point["name"]) for point in points], *places)
        far = np.array([bool(point["blunder"]) for point in points], np.bool_)
        frame = Frame(values["crs"], units[0], units[1])
        return KeptFit(Fit.from_json(values["fit"]), frame, units[2], pairs, far, str(values["called"]))
    except (ValueError, KeyError, TypeError, RecursionError, CallError) as error:
        raise FormatError(path, f"it is no fit that was kept ({str(error)[:80]}); make one with keep=FILE") from error
