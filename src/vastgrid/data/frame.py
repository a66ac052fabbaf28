"""The frame of a dataset: coordinate reference system and units, each of which may be unknown."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import lru_cache
from typing import Any

from vastgrid.base.errors import CallError
from vastgrid.base.quantities import DEGREE, Unit


@dataclass(frozen=True, slots=True)
class Frame:
    """Where coordinates are and what they are measured in.

    Attributes
    ----------
    crs : str or None
        Coordinate reference system as WKT; None where unknown or a plain local grid.
    horizontal, vertical : Unit or None
        Units of easting and northing, and of elevation; None where unknown.
    """

    crs: str | None = None
    horizontal: Unit | None = None
    vertical: Unit | None = None

    def describe(self) -> str:
        """Return “metre / metre · NAD83 / Oregon Lambert”, with “unknown” where it is."""
        units = " / ".join("unknown" if unit is None else unit.title for unit in (self.horizontal, self.vertical))
        return f"{units} · {crs_name(self.crs) or 'no CRS'}"

    def filled(self, horizontal: Unit | None, vertical: Unit | None) -> Frame:
        """Return the frame with its unknown units set; known ones stay."""
        return replace(self, horizontal=self.horizontal or horizontal, vertical=self.vertical or vertical)


UNKNOWN = Frame()


@lru_cache(maxsize=64)
def crs_name(crs: str | None) -> str | None:
    """Return the name a CRS has, and None for none."""
    if not crs:
        return None
    try:
        import pyproj

        return str(pyproj.CRS.from_user_input(crs).name)
    except Exception:  # noqa: BLE001 - a CRS that PROJ cannot read still has to be shown
        return crs[:60]


@lru_cache(maxsize=256)
def same_place(one: str, other: str) -> bool:
    """Say whether two systems put the same coordinates in the same place: one projection of one datum, whatever its heights."""
    import pyproj

    first, second = pyproj.CRS.from_user_input(one), pyproj.CRS.from_user_input(other)
    if first.equals(second, ignore_axis_order=True):
        return True
    # The same projection under a vertical axis, or with axes in another unit, is the same place.
    return bool(_core(first) == _core(second))


@lru_cache(maxsize=256)
def height_system(crs: str | None) -> str:
    """Return the name of the vertical part of a system; empty where it has none."""
    if not crs:
        return ""
    import pyproj

    try:
        own = pyproj.CRS.from_user_input(crs)
    except pyproj.exceptions.CRSError:
        return ""
    return next((str(each.name) for each in own.sub_crs_list if each.is_vertical), "")


def _core(crs: Any) -> Any:
    flat = crs.sub_crs_list[0] if crs.is_compound else crs
    base = flat.geodetic_crs
    # The same datum is a frame in one edition of the register and an ensemble of its realisations in another.
    datum = base.datum.name.removesuffix(" ensemble") if base.datum else ""
    ellipsoid = (base.ellipsoid.semi_major_metre, base.ellipsoid.inverse_flattening) if base.ellipsoid else None
    operation = flat.coordinate_operation
    return (datum, ellipsoid, operation.to_json_dict() if operation else None)


def unit_of(name: str, metres: float) -> Unit | None:
    """Return the unit of a name and a factor; None where they are none of ours, or contradict each other plainly."""
    if "degree" in name.lower():
        return Unit.DEGREE
    for unit in (Unit.METRE, Unit.FOOT, Unit.US_FOOT, Unit.MILLIMETRE, Unit.INCH):
        # The two feet differ by 2e-6: the tolerance has to be far below that.
        if abs(metres / float(unit.metres) - 1.0) < 2e-8:
            # A “foot” of one metre contradicts itself, so the unit is unknown.
            is_foot = any(word in name.lower() for word in ("foot", "feet", "ft"))
            return None if is_foot and unit not in (Unit.FOOT, Unit.US_FOOT) else unit
    return None


@lru_cache(maxsize=64)
def frame_of_crs(crs: str) -> Frame:
    """Return the frame that a CRS declares; a vertical unit only where it has a vertical axis.

    Raises
    ------
    ValueError
        If PROJ cannot read the CRS.
    """
    import pyproj

    try:
        parsed = pyproj.CRS.from_user_input(crs)
    except pyproj.exceptions.CRSError as error:
        raise ValueError("the coordinate reference system cannot be read") from error
    axes = parsed.axis_info
    local = parsed.sub_crs_list[0] if parsed.is_compound else parsed
    plan = next((axis for axis in axes if axis.direction not in ("up", "down")), None)
    height = next((axis for axis in axes if axis.direction in ("up", "down")), None)
    plain = parsed.is_compound and parsed.sub_crs_list[1].name.replace("_", " ") == _HEIGHT
    return Frame(
        # A local (engineering) grid says nothing but its units.
        None if local.is_engineering else (local if plain else parsed).to_wkt(),
        unit_of(plan.unit_name, plan.unit_conversion_factor) if plan else None,
        unit_of(height.unit_name, height.unit_conversion_factor) if height else None,
    )


@lru_cache(maxsize=64)
def turned_axes(crs: str | None) -> tuple[str, str] | None:
    """Return the directions of a system's plan axes where one points west or south; None where both do not.

    Of a system about a pole both axes point alike, and eastings and northings they are all the same.
    """
    if not crs:
        return None
    import pyproj

    try:
        axes = pyproj.CRS.from_user_input(crs).axis_info
    except pyproj.exceptions.CRSError:
        return None
    plan = [axis.direction for axis in axes if axis.direction not in ("up", "down")][:2]
    if len(plan) < 2 or plan[0] == plan[1] or not {"west", "south"} & set(plan):
        return None
    return plan[0], plan[1]


def frame_said(crs: str) -> Frame:
    """Return the frame of a CRS that somebody wrote.

    Raises
    ------
    CallError
        If there is no such CRS, or it has no eastings and northings.
    """
    axes = turned_axes(crs)
    if axes:
        raise CallError(
            f"{crs_name(crs)} has axes that point {' and '.join(axes)}; choose a system with eastings and northings"
        )
    try:
        return frame_of_crs(crs)
    except ValueError as error:
        raise CallError(
            f"“{crs}” is not a coordinate reference system that is known; write a code such as EPSG:25832, or WKT"
        ) from error


def is_geographic(frame: Frame) -> bool:
    """Say whether the coordinates are degrees."""
    return frame.horizontal is Unit.DEGREE


def need_lengths(name: str, frame: Frame, what: str) -> None:
    """Refuse data in degrees for what needs lengths: “slopes need”, “an offset needs”.

    Raises
    ------
    CallError
        If the frame is in degrees: a degree of longitude is no length.
    """
    if is_geographic(frame):
        raise CallError(f"{name} is in degrees, and {what} lengths: bring it onto a grid first (reproject)")


@lru_cache(maxsize=64)
def crs_in_units(crs: str | None, horizontal: Unit, vertical: Unit | None) -> str | None:
    """Return the same CRS with its axes in other units, or None where that cannot be said.

    The projection's own parameters keep their units (they carry them), so only the axes change; the authority's
    code no longer applies and is dropped.
    """
    if crs is None:
        return None
    import pyproj

    try:
        parsed = pyproj.CRS.from_user_input(crs)
        described = parsed.to_json_dict()
        changed = _with_axis_units(described, horizontal, vertical)
        return str(pyproj.CRS.from_json_dict(described).to_wkt()) if changed else str(parsed.to_wkt())
    except pyproj.exceptions.CRSError:
        return None


def _with_axis_units(node: dict[str, Any], horizontal: Unit, vertical: Unit | None) -> bool:
    changed = False
    for part in node.get("components", []):
        changed |= _with_axis_units(part, horizontal, vertical)
    if "source_crs" in node:
        changed |= _with_axis_units(node["source_crs"], horizontal, vertical)
    for axis in node.get("coordinate_system", {}).get("axis", []):
        unit = vertical if axis["direction"] in ("up", "down") else horizontal
        if unit is None or axis.get("unit") == "degree":
            continue
        wanted = "metre" if unit is Unit.METRE else _proj_unit(unit)
        if axis.get("unit") != wanted:
            axis["unit"] = wanted
            changed = True
    if changed:
        node.pop("id", None)
        if "(" not in node.get("name", "") or "axes in" not in node["name"]:
            node["name"] = f"{node.get('name', 'CRS')} (axes in {horizontal.title})"
    return changed


def _proj_unit(unit: Unit) -> dict[str, Any]:
    name = {Unit.FOOT: "foot", Unit.US_FOOT: "US survey foot"}.get(unit, unit.title)
    return {"type": "LinearUnit", "name": name, "conversion_factor": float(unit.metres)}


@lru_cache(maxsize=16)
def local_crs(horizontal: Unit, vertical: Unit | None = None) -> str:
    """Return an engineering CRS (a local grid) in WKT1, which rasters and clouds can carry to keep their units."""
    plan = (
        f'LOCAL_CS["Local grid",LOCAL_DATUM["Local datum",0],UNIT["{_LOCAL_UNIT[horizontal]}",'
        f'{float(horizontal.metres)!r}],AXIS["Easting",EAST],AXIS["Northing",NORTH]]'
    )
    if vertical is None:
        return plan
    return (
        f'COMPD_CS["Local grid and height",{plan},VERT_CS["Local height",VERT_DATUM["Local level",2005],'
        f'UNIT["{_LOCAL_UNIT[vertical]}",{float(vertical.metres)!r}],AXIS["Up",UP]]]'
    )


def wkt_of(frame: Frame) -> str | None:
    """Return the text by which a file tells a frame's system and units, a local grid's too; None where nothing is known."""
    if frame.crs is not None:
        return with_heights_in(frame.crs, frame.vertical)
    if frame.horizontal is None or frame.horizontal is Unit.DEGREE:
        return None
    return local_crs(frame.horizontal, frame.vertical)


# The vertical part of a system that has none of its own but whose heights have a unit; it says nothing else.
_HEIGHT = "Local height"


@lru_cache(maxsize=64)
def with_heights_in(crs: str, vertical: Unit | None) -> str:
    """Return a CRS that also says the unit of heights; the CRS itself where it does, or where that is unknown."""
    import pyproj

    parsed = pyproj.CRS.from_user_input(crs)
    if vertical is None or vertical is Unit.DEGREE or len(parsed.axis_info) != 2:
        return crs
    word = _LOCAL_UNIT[vertical]
    up = (
        f'VERTCRS["{_HEIGHT}",VDATUM["Local level"],CS[vertical,1],AXIS["gravity-related height (H)",up],'
        f'LENGTHUNIT["{word}",{float(vertical.metres)!r}]]'
    )
    return f'COMPOUNDCRS["{parsed.name} + height",{parsed.to_wkt()},{up}]'


_LOCAL_UNIT = {
    Unit.METRE: "metre",
    Unit.MILLIMETRE: "millimetre",
    Unit.INCH: "inch",
    Unit.FOOT: "foot",
    Unit.US_FOOT: "US survey foot",
}


@lru_cache(maxsize=64)
def epsg_code(crs: str) -> int | None:
    """Return the CRS's EPSG code where it has one and nothing about it was changed."""
    import pyproj

    try:
        authority = pyproj.CRS.from_user_input(crs).to_authority("EPSG", min_confidence=100)
    except pyproj.exceptions.CRSError:
        return None
    return int(authority[1]) if authority else None


def ratio_of(frame: Frame) -> float:
    """Return how many height units a plan unit has; 1 where that is unknown.

    A degree counts as one of latitude: enough for light and slopes, too little for lengths.
    """
    plan, height = frame.horizontal, frame.vertical
    if plan is Unit.DEGREE:
        return DEGREE / float(height.metres if height else 1)
    if plan and height and plan is not height:
        return float(plan.metres / height.metres)
    return 1.0
