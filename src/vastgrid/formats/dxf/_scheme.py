"""Layers by purpose: a plain default, and whatever names and colours the user gives them."""

from __future__ import annotations

import fnmatch
import re
from collections.abc import Sequence
from dataclasses import dataclass

from vastgrid.base.errors import ParamError
from vastgrid.base.words import instead, shortly
from vastgrid.format_support.columns import different
from vastgrid.formats.dxf._pen import Version
from vastgrid.params.kinds import Styles


@dataclass(frozen=True, slots=True)
class Layer:
    """A layer: its name in the drawing, its colour by the index, and its true colour, -1 for that of the index."""

    name: str
    colour: int
    rgb: int = -1


# Purpose by purpose, the index colour and the true colour beside it (ours: paper browns for lines, green for faces).
_DEFAULT = {
    "TIN": (94, 0x5F7F4F),
    "CONTOUR": (44, 0xB08D57),
    "CONTOUR_INDEX": (36, 0x8A5A2B),
    "CONTOUR_SUPPLEMENTARY": (54, 0xC9B37C),
    "CONTOUR_LABEL": (36, 0x8A5A2B),
    "POINT": (8, 0x6B6B6B),
    "SPOT_HEIGHT": (8, 0x6B6B6B),
    "ALIGNMENT": (12, 0xA3263A),
    "PARCEL": (152, 0x2F5D8A),
    "PLAN_FEATURE": (112, 0x3B6E5A),
    "BAND": (8, 0x808080),
    "LEGEND": (7, 0x1F2D36),
}
_LINES = 30
COLUMNS = ("layer", "colour", "rgb")


def check_scheme(scheme: Styles) -> None:
    """Refuse a scheme that cannot be followed.

    Raises
    ------
    ParamError
        With the row at fault.
    """
    for name, values in scheme.rows:
        for key, value in values:
            if key not in COLUMNS:
                raise ParamError("layers", f"{shortly(name)}: there is no “{shortly(key)}”; {instead(key, COLUMNS)}")
            if key == "colour" and not (value.isdigit() and 1 <= int(value) <= 255):
                raise ParamError("layers", f"{name}: “{value}” is not a colour number from 1 to 255")
            if key == "rgb" and not re.fullmatch(r"#?[0-9A-Fa-f]{6}", value):
                raise ParamError("layers", f"{name}: “{value}” is not a colour such as #8A5A2B")


def layer_name(name: str, version: Version) -> str:
    """Return a layer name that the edition allows."""
    if version is Version.R12:
        name = re.sub(r"[^A-Z0-9$_-]", "_", name.upper().encode("ascii", "replace").decode())[:31]
    else:
        if not version.unicode:
            # Its escapes have room for 16 bits.
            name = re.sub(r"[^\0-\uffff]", "_", name)
        name = re.sub(r'[<>/\\":;?*|=`,{}\x00-\x1f]', "_", name)[:255]
    return name or "0"


# So many letters a layer's name has at most.
_LONGEST = {True: 31, False: 255}


def layer_names(wanted: Sequence[str], version: Version) -> dict[str, str]:
    """Return what layers are called in an edition; different ones stay different, as NAME and NAME_2."""
    called = {name: layer_name(name, version) for name in wanted}
    return different(called, _LONGEST[version is Version.R12])


def layer_of(purpose: str, scheme: Styles, usual: str = "") -> Layer:
    """Return the layer for a purpose, or for lines that have a layer of their own, its name as it was wished.

    Parameters
    ----------
    purpose : str
        Such as CONTOUR_INDEX; or the name that lines have.
    usual : str
        Purpose whose colours count where this one has none: “TIN” for “TIN Ground 2”.
    """
    colour, rgb = _DEFAULT.get(purpose, _DEFAULT.get(usual, (_LINES, -1)))
    own = _styled(scheme, purpose, usual)
    if "colour" in own:
        colour, rgb = int(own["colour"]), -1
    if "rgb" in own:
        rgb = int(own["rgb"].removeprefix("#"), 16)
        colour = int(own["colour"]) if "colour" in own else nearest(rgb)
    return Layer(own.get("layer", purpose), colour, rgb)


def _styled(scheme: Styles, purpose: str, usual: str) -> dict[str, str]:
    for name in (purpose, usual):
        for pattern, values in scheme.rows:
            if name and fnmatch.fnmatchcase(name.lower(), pattern.lower()):
                own = dict(values)
                if name == usual and name != purpose and "layer" in own:
                    # Several of one purpose keep apart: the layer's name takes the place of the purpose's.
                    own["layer"] = purpose.replace(usual, own["layer"], 1)
                return own
    return {}


def nearest(rgb: int) -> int:
    """Return the index colour that is nearest to a true colour, 1 to 255."""
    from ezdxf.colors import DXF_DEFAULT_COLORS

    want = _parts(rgb)
    found = [
        (sum((a - b) ** 2 for a, b in zip(_parts(own), want, strict=True)), k)
        for k, own in enumerate(DXF_DEFAULT_COLORS)
    ]
    return min(each for each in found if 1 <= each[1] <= 255)[1]


def _parts(rgb: int) -> tuple[int, int, int]:
    return rgb >> 16 & 255, rgb >> 8 & 255, rgb & 255
