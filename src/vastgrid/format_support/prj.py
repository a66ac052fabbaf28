"""The .prj file beside rasters, shapefiles and text: the system and the units of what the file itself cannot say."""

from __future__ import annotations

import re
from pathlib import Path

from vastgrid.base.errors import CallError
from vastgrid.base.quantities import Unit, parse_unit
from vastgrid.data.frame import Frame, frame_of_crs, wkt_of

ENDING = ".prj"
_LARGEST = 1 << 20


def write_beside(path: Path, frame: Frame) -> None:
    """Write the .prj of a file, where there is something to tell.

    A system without heights is told in the form that most readers know; one with heights in the older form of the
    open standard (OGC 01-009), which keeps them.
    """
    text = wkt_of(frame)
    if text is None:
        return
    import pyproj

    crs = pyproj.CRS.from_user_input(text)
    forms = ("WKT1_GDAL", "WKT2_2019") if crs.is_compound else ("WKT1_ESRI", "WKT1_GDAL", "WKT2_2019")
    for form in forms:
        try:
            told = crs.to_wkt(form)
        except pyproj.exceptions.CRSError:
            continue
        if told:
            path.with_suffix(ENDING).write_text(told, encoding="utf-8")
            return


def heights_beside(path: Path) -> Unit | None:
    """Return the unit of heights that the .prj beside a file tells, which libraries pass over in some forms."""
    found = re.search(r'VERT_?C(?:S|RS)\[.*UNIT\["([^"]+)",\s*([\d.eE+-]+)', _text(path), re.DOTALL)
    if not found:
        return None
    return next((unit for unit in Unit if unit is not Unit.DEGREE and _near(unit, found[2])), None) or _named(found[1])


def _near(unit: Unit, metres: str) -> bool:
    try:
        return abs(float(metres) / float(unit.metres) - 1.0) < 2e-8
    except ValueError:
        return False


def _named(word: str) -> Unit | None:
    try:
        return parse_unit(word)
    except CallError:
        return None


def frame_beside(path: Path) -> Frame:
    """Return the frame that the .prj beside a file tells; an unknown one where there is none, or it cannot be read."""
    text = _text(path)
    if not text.strip():
        return Frame()
    try:
        frame = frame_of_crs(text)
    except ValueError:
        return Frame()
    return frame if frame.vertical else Frame(frame.crs, frame.horizontal, heights_beside(path))


def _text(path: Path) -> str:
    beside = path.with_suffix(ENDING)
    try:
        if not beside.is_file() or beside.stat().st_size > _LARGEST:
            return ""
        return beside.read_text(encoding="utf-8", errors="replace")
    except OSError:
        return ""
