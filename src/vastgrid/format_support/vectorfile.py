"""Reading points, lines and areas of whatever vector format the vector library opens."""

from __future__ import annotations

import dataclasses
import logging
import warnings
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated, Any

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.errors import FormatError, ParamError, library_faults
from vastgrid.base.findings import Finding, Severity, count, left_out, note
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Unit
from vastgrid.base.words import instead, plain, shortly, spaced
from vastgrid.data.areas import Areas
from vastgrid.data.attributes import Attributes
from vastgrid.data.dataset import Dataset, Floats
from vastgrid.data.frame import Frame, frame_of_crs, wkt_of
from vastgrid.data.kinds import narrowed
from vastgrid.data.linework import Contours, Linework
from vastgrid.data.pointset import PointSet
from vastgrid.declarations.fileformat import Carries, Format, ReadResult, weighing
from vastgrid.format_support.columns import (
    EXACT,
    different,
    different_names,
    longest_text,
    text_column,
    without_large_unsigned,
)
from vastgrid.format_support.polygons import areas_of
from vastgrid.format_support.prj import heights_beside
from vastgrid.kernels.text.decimals import number_of
from vastgrid.measures.levels import interval_finding
from vastgrid.params.declare import Param

Exact = Callable[[Path, str, str], "list[int | None] | None"]
_HEIGHT_WORDS = ("elev", "height", "z", "contour", "alt", "level", "hoehe", "höhe", "cota", "hgt", "dtm", "rl")


@dataclass(frozen=True)
class VectorReadParams:
    """What is taken from the file."""

    elevation: Annotated[
        str,
        Param("Elevation from", "Attribute that holds heights.", absent="the geometry"),
    ] = ""
    layer: Annotated[str, Param("Layer", "Name of the layer to read.", absent="all")] = ""
    style: Annotated[
        str, Param("Layers by", "Attribute whose values become the lines' layers.", absent="the file's layer")
    ] = ""


def read_vector(
    path: Path, params: VectorReadParams, progress: Progress, driver: str, exact: Exact | None = None
) -> ReadResult:
    """Read every layer: points, lines and areas, each with its attributes.

    Parameters
    ----------
    driver : str
        The only one of the library's drivers that may open the file.
    exact : callable or None
        Path, layer, attribute → its whole numbers, where the library makes doubles of them; None where it is no such.

    Raises
    ------
    FormatError
        If the file is damaged or holds neither points nor lines.
    ParamError
        If there is no such layer or attribute.
    """
    import pyogrio

    logging.getLogger("pyogrio").setLevel(logging.ERROR)
    findings: list[Finding] = []
    datasets: list[Dataset] = []
    with library_faults(path, "reading the file"):
        names = [str(name) for name, kind in pyogrio.list_layers(path)]
    if not names:
        raise FormatError(path, "there is no layer in the file; it is damaged or cut off")
    wanted = [name for name in names if not params.layer or name == params.layer]
    if not wanted:
        raise ParamError("layer", f"there is no layer “{shortly(params.layer)}”; {instead(params.layer, names)}")
    seen: set[str] = set()
    for k, layer in enumerate(wanted):
        part = progress.part(k / len(wanted), (k + 1) / len(wanted))
        with library_faults(path, "reading the file"):
            info = pyogrio.read_info(path, layer=layer)
            if info["driver"] != driver:
                raise FormatError(path, f"it is a file of another kind ({info['driver']})")
            fields = [str(name) for name in info["fields"]]
            seen |= set(fields)
            meta, _, shapes, columns = pyogrio.raw.read(path, layer=layer, datetime_as_string=True)
            kept = _columns(path, layer, fields, columns, exact, findings)
        part.report(0.5, f"reading {path.name}")
        name = path.stem if len(names) == 1 else layer
        datasets += _layer(path, name, meta, shapes, kept, params, findings, part)
        part.report(1.0, f"reading {path.name}")
    for option in ("elevation", "style"):
        asked = getattr(params, option)
        if asked and asked.lower() not in {name.lower() for name in seen}:
            raise ParamError(option, f"no layer has an attribute “{shortly(asked)}”; {instead(asked, sorted(seen))}")
    if not datasets:
        said = "; ".join(finding.text for finding in findings)
        raise FormatError(path, f"there are no points, lines or areas in the file{f' ({said})' if said else ''}")
    return ReadResult(tuple(datasets), tuple(findings))


def _layer(
    path: Path,
    name: str,
    meta: dict[str, Any],
    shapes: Any,
    columns: dict[str, NDArray[Any]],
    params: VectorReadParams,
    findings: list[Finding],
    progress: Progress,
) -> list[Dataset]:
    import shapely

    if shapes is None or len(shapes) == 0:
        return []
    with library_faults(path, "reading the geometry"):
        geometry = shapely.from_wkb(shapes, on_invalid="ignore")
        missing = shapely.is_missing(geometry) | shapely.is_empty(geometry)
        if missing.any():
            text = f"{count(int(missing.sum()), 'feature')} of {spaced(len(geometry))} in {name} without geometry: left out."
            findings.append(left_out("no-geometry", text))
        parts, owner = geometry[~missing], np.arange(int((~missing).sum()))
        if (shapely.get_type_id(parts) >= 4).any():
            parts, owner = shapely.get_parts(parts, return_index=True)
        # A collection's parts may be collections again.
        while (shapely.get_type_id(parts) >= 4).any():
            parts, inner = shapely.get_parts(parts, return_index=True)
            owner = owner[inner]
        owner = np.flatnonzero(~missing)[owner]
        kinds = shapely.get_type_id(parts)
    frame = _frame(meta, findings)
    heights = _heights(columns, params, len(geometry), name, findings)
    style = columns.get(params.style) if params.style else None
    found: list[Dataset] = []
    points = kinds == 0
    several = sum(bool(own.any()) for own in (points, (kinds == 1) | (kinds == 2), kinds == 3)) > 1
    if points.any():
        xyz = _coordinates(parts[points])[0]
        if heights is not None:
            xyz[:, 2] = heights[owner[points]]
        attributes = {key: values[owner[points]] for key, values in columns.items()}
        found.append(PointSet(name=f"{name} points" if several else name, frame=frame, xyz=xyz, attributes=attributes))
    lines = (kinds == 1) | (kinds == 2)
    if lines.any():
        own = owner[lines]
        xyz, offsets = _coordinates(parts[lines])
        if heights is not None:
            xyz[:, 2] = np.repeat(heights[own], np.diff(offsets))
        layer, layers = _layers(own, style, name)
        attributes = {key: values[own] for key, values in columns.items()}
        work = Linework(
            name=f"{name} lines" if several else name,
            frame=frame,
            vertices=xyz,
            offsets=offsets,
            layer=layer,
            layers=layers,
            attributes=attributes,
        )
        findings += interval_finding(work)
        found.append(work)
    polygons = kinds == 3
    if polygons.any():
        progress.report(0.6, f"looking at the areas of {name}")
        called = f"{name} areas" if several else name
        found += _areas(path, called, frame, parts[polygons], owner[polygons], columns, heights, style, findings)
    _note_heights(found, columns, params, findings)
    return found


def _areas(
    path: Path,
    name: str,
    frame: Frame,
    parts: NDArray[Any],
    owner: NDArray[Any],
    columns: dict[str, NDArray[Any]],
    heights: Floats | None,
    style: NDArray[Any] | None,
    findings: list[Finding],
) -> list[Dataset]:
    """Return polygons as areas, those of one feature together; none where nothing is left."""
    import shapely

    own, number = np.unique(owner, return_inverse=True) if (np.diff(owner) <= 0).any() else (owner, None)
    layer, layers = _layers(own, style, name)
    areas, kept = areas_of(
        path,
        parts if number is None else shapely.multipolygons(parts, indices=number),
        lambda k: f"area {spaced(int(own[k]) + 1)} of {name}",
        findings,
        name=name,
        frame=frame,
        layer=layer,
        layers=layers,
        attributes={key: values[own] for key, values in columns.items()},
    )
    if heights is not None:
        each = np.repeat(areas.area_of_ring(), np.diff(areas.offsets))
        vertices = np.column_stack((areas.vertices[:, :2], heights[own[kept]][each]))
        areas = dataclasses.replace(areas, vertices=vertices)
    return [areas] if len(areas) else []


def _coordinates(parts: Any) -> tuple[Floats, NDArray[np.int64]]:
    import shapely

    xyz, index = shapely.get_coordinates(parts, include_z=True, return_index=True)
    sizes = np.bincount(index, minlength=len(parts))
    return np.ascontiguousarray(xyz), np.concatenate(([0], np.cumsum(sizes))).astype(np.int64)


def _layers(own: NDArray[Any], style: NDArray[Any] | None, name: str) -> tuple[NDArray[np.int32], tuple[str, ...]]:
    if style is None:
        return np.zeros(len(own), np.int32), (name,)
    texts = np.array([plain(value) for value in style[own].tolist()])
    names, number = np.unique(texts, return_inverse=True)
    return number.astype(np.int32), tuple(names.tolist())


def _columns(
    path: Path,
    layer: str,
    fields: list[str],
    columns: Sequence[NDArray[Any]],
    exact: Exact | None,
    findings: list[Finding],
) -> dict[str, NDArray[Any]]:
    """Return columns as numbers or bytes, which can be kept without pickling; whole numbers with all of their digits."""
    found = {}
    for name, values in zip(fields, columns, strict=True):
        kept = values
        if values.dtype.kind == "f" and values.dtype.itemsize == 8 and (np.abs(values) >= EXACT).any():
            # The library makes doubles of whole numbers where one is missing, or too long for it.
            whole = _digits(path, layer, name) or (exact(path, layer, name) if exact is not None else None)
            if whole is not None and len(whole) == len(values):
                kept = _whole(whole)
        if kept.dtype.kind not in "iufbS":
            kept, cut = text_column(kept.tolist())
            if cut:
                text = f"{count(cut, 'text')} of {name} with more than {longest_text(len(kept))} bytes cut for want of room."
                findings.append(left_out("text-cut", text))
        found[name] = kept
    return Attributes(found)


def _digits(path: Path, layer: str, name: str) -> list[int | None] | None:
    """Return a column of whole numbers, some of which are missing, as the library writes them; None for another one."""
    import pyogrio

    info = pyogrio.read_info(path, layer=layer)
    kinds = dict(zip(map(str, info["fields"]), info["ogr_types"], strict=True))
    if kinds.get(name) not in ("OFTInteger", "OFTInteger64"):
        return None
    quoted, table = (text.replace('"', '""') for text in (name, layer))
    query = f'SELECT CAST("{quoted}" AS character(40)) AS v FROM "{table}"'
    (texts,) = pyogrio.raw.read(path, sql=query, sql_dialect="OGRSQL", read_geometry=False)[3]
    return [None if text is None else int(text) for text in texts.tolist()]


def _whole(values: list[int | None]) -> NDArray[Any]:
    if all(value is not None and -(2**63) <= value < 2**63 for value in values):
        return np.array(values, np.int64)
    return text_column(values)[0]


def _frame(meta: dict[str, Any], findings: list[Finding]) -> Frame:
    if not meta.get("crs"):
        return Frame()
    try:
        return frame_of_crs(str(meta["crs"]))
    except ValueError:
        findings.append(Finding("crs-unreadable", "The coordinate reference system cannot be read."))
        return Frame()


def _heights(
    columns: dict[str, NDArray[Any]], params: VectorReadParams, number: int, name: str, findings: list[Finding]
) -> Floats | None:
    if not params.elevation or params.elevation not in columns:
        return None
    values = columns[params.elevation]
    heights = np.full(number, np.nan)
    if values.dtype.kind in "iuf":
        heights[:] = values
    else:
        for k, value in enumerate(values.tolist()):
            try:
                heights[k] = number_of(plain(value).replace(",", "."))
            except ValueError:
                continue
    heights[~np.isfinite(heights)] = np.nan
    bad = int(np.isnan(heights).sum())
    if bad:
        text = f"{count(bad, 'feature')} of {spaced(number)} in {name} without a number as {params.elevation}, and so without a height."
        findings.append(Finding("no-height", text))
    return heights


def _note_heights(
    found: list[Dataset], columns: dict[str, NDArray[Any]], params: VectorReadParams, findings: list[Finding]
) -> None:
    """Say where heights are missing, and which attribute may hold them; it is never taken unasked."""
    if params.elevation or not found:
        return
    z = np.concatenate([each.coordinates()[:, 2] for each in found])
    if np.isfinite(z).any() and (z[np.isfinite(z)] != 0.0).any():
        return
    able = [key for key, values in columns.items() if values.dtype.kind in "iuf" or _mostly_numbers(values)]
    likely = [key for key in able if any(key.lower().startswith(word) for word in _HEIGHT_WORDS)]
    hint = f"perhaps {' or '.join(likely or able)} holds them (elevation=…)" if able else "no attribute holds numbers"
    # Areas have none as a rule.
    severity = Severity.NOTE if all(each.kind == Areas.kind for each in found) else Severity.WARNING
    findings.append(Finding("no-height", f"The geometry of {found[0].name} has no heights; {hint}.", severity))
    if any(each.frame.horizontal is Unit.DEGREE for each in found):
        findings.append(note("degrees", "Coordinates are degrees."))


def _mostly_numbers(values: NDArray[Any]) -> bool:
    texts = [text.replace(",", ".") for value in values[:200].tolist() if (text := plain(value))]
    good = 0
    for text in texts:
        try:
            number_of(text)
        except ValueError:
            continue
        good += 1
    return bool(texts) and good >= 0.9 * len(texts)


@dataclass(frozen=True, slots=True)
class Features:
    """A dataset as features: shapes as well-known binary, attributes by name, and what they are."""

    name: str
    shapes: NDArray[Any]
    columns: dict[str, NDArray[Any]]
    kind: str


def features_of(dataset: Dataset, *, own_heights: bool) -> Features:
    """Return a dataset as features.

    Parameters
    ----------
    own_heights : bool
        Whether a shape can have places without a height; where not, lines that have none go out in plan.
    """
    import shapely

    if dataset.kind == PointSet.kind:
        points = narrowed(dataset, PointSet)
        flat = bool(np.isnan(points.xyz[:, 2]).all()) and not own_heights
        shapes = shapely.to_wkb(shapely.points(points.xyz[:, :2] if flat else points.xyz))
        return Features(points.name, shapes, dict(points.attributes), "Point" if flat else "Point Z")
    if dataset.kind == Areas.kind:
        return _as_polygons(narrowed(dataset, Areas), own_heights=own_heights)
    columns: dict[str, NDArray[Any]]
    if dataset.kind == Contours.kind:
        contours = narrowed(dataset, Contours)
        lines = contours.as_lines()
        columns = {"elevation": contours.levels, "kind": np.zeros(len(lines), "S16")}
        for name, mine in contours.groups():
            columns["kind"][mine] = name.lower().removesuffix("s").encode()
    else:
        lines = dataset.as_lines()
        columns = {"layer": np.array([name.encode() for name in lines.layers] or [b""])[lines.layer]}
        columns |= lines.attributes
    flat = bool(lines.without_heights().all()) and not own_heights
    part = np.repeat(np.arange(len(lines)), np.diff(lines.offsets))
    # A line of one place is none to the library; written twice it lies where it lay.
    single = np.flatnonzero(np.diff(lines.offsets) == 1)
    order = np.sort(np.concatenate((np.arange(len(part)), lines.offsets[single])))
    places = lines.vertices[order, : 2 if flat else 3]
    if not own_heights and not flat:
        # The delivery has said which lines that concerns.
        places = np.nan_to_num(places)
    shapes = shapely.linestrings(places, indices=part[order])
    return Features(dataset.name, shapely.to_wkb(shapes), columns, "LineString" if flat else "LineString Z")


def _as_polygons(areas: Areas, *, own_heights: bool) -> Features:
    """Return areas as polygons, or as multipolygons where any has several parts."""
    flat = bool(areas.without_heights().all())
    if not (flat or own_heights):
        # The delivery has said which areas that concerns.
        areas = dataclasses.replace(areas, vertices=np.nan_to_num(areas.vertices))
    single = areas.pieces == len(areas)
    binary = areas.binary(plan=flat, single=single)
    columns = dict(areas.attributes)
    if areas.layers not in ((areas.name,), ("",)) and "layer" not in columns:
        columns = {"layer": np.array([name.encode() for name in areas.layers])[areas.layer], **columns}
    kind = ("Polygon" if single else "MultiPolygon") + ("" if flat else " Z")
    return Features(areas.name, binary, columns, kind)


def write_vector(
    datasets: Sequence[Dataset],
    path: Path,
    progress: Progress,
    driver: str,
    *,
    called: Callable[[Sequence[str]], dict[str, str]] = different_names,
    own_heights: bool = True,
    layers: bool = False,
    digits: int | None = None,
) -> None:
    """Write points, lines and contours as features with all attributes.

    Parameters
    ----------
    driver : str
        The library's driver.
    called : callable
        Names of attributes → what each is called in the file.
    own_heights : bool
        Whether a shape can have places without a height.
    layers : bool
        Whether each dataset is a layer of its own in the file.
    digits : int or None
        Decimals of coordinates, where the format is text.
    """
    import pyogrio

    logging.getLogger("pyogrio").setLevel(logging.ERROR)
    # With an index the library changes the order of features.
    options = {"SPATIAL_INDEX": "NO"} if driver == "FlatGeobuf" else {}
    tables = list(different({f"{k} {each.name}": each.name for k, each in enumerate(datasets)}).values())
    for k, each in enumerate(datasets):
        own = features_of(each, own_heights=own_heights)
        names = called(beside_layer(list(own.columns)))
        names = {name: names[name] for name in own.columns}
        fields = [_as_field(values) for values in own.columns.values()]
        with library_faults(path, f"writing {each.name}"), warnings.catch_warnings():
            warnings.simplefilter("ignore")
            path.unlink(missing_ok=True) if k == 0 else None
            pyogrio.raw.write(
                path,
                own.shapes if digits is None else _rounded(own.shapes, digits),
                fields,
                np.array(list(names.values()), dtype=object),
                layer=tables[k] if layers else None,
                driver=driver,
                geometry_type=own.kind,
                crs=wkt_of(each.frame),
                append=k > 0,
                encoding="UTF-8",
                layer_options=options,
            )
        progress.report((k + 1) / len(datasets), f"writing {path.name}")


def _rounded(shapes: NDArray[Any], digits: int) -> NDArray[Any]:
    """Return shapes with rounded coordinates; the library's own rounding empties lines that are shorter than a step."""
    import shapely

    geometry = shapely.from_wkb(shapes)
    spatial = bool(shapely.has_z(geometry).all())
    near = shapely.transform(geometry, lambda places: np.round(places, digits), include_z=spatial)
    return np.asarray(shapely.to_wkb(near))


def _as_field(values: NDArray[Any]) -> NDArray[Any]:
    """Return a column as the library takes it: numbers, or texts."""
    if values.ndim > 1:
        return np.array([" ".join(map(str, row)) for row in values.tolist()], dtype=object)
    if values.dtype.kind in "SO" or values.dtype.kind == "U":
        texts = [each.decode("utf-8", "replace") if isinstance(each, bytes) else str(each) for each in values.tolist()]
        return np.array(texts, dtype=object)
    if values.dtype.kind == "f" and values.dtype.itemsize == 2:
        return values.astype(np.float32)
    small = {"i1": np.int16, "u1": np.int16, "u2": np.int32, "u4": np.int64, "u8": np.int64}
    return values.astype(small.get(values.dtype.str[1:], values.dtype))


def names_in(path: Path) -> dict[str, list[str]]:
    """Return the names of layers and attributes, by the option they can be chosen for.

    Raises
    ------
    FormatError
        If the file is damaged.
    """
    import pyogrio

    with library_faults(path, "reading the file"), warnings.catch_warnings():
        warnings.simplefilter("ignore")
        layers = [str(name) for name, _ in pyogrio.list_layers(path)]
        fields = [str(f) for layer in layers for f in pyogrio.read_info(path, layer=layer)["fields"]]
    unique = list(dict.fromkeys(fields))
    return {"elevation": unique, "style": unique, "layer": layers}


def beside_layer(names: Sequence[str]) -> list[str]:
    """Return the names of columns that lines have, their layer first."""
    return list(names) if "layer" in names else ["layer", *names]


def _spelled(names: Sequence[str], _params: object) -> dict[str, str]:
    return different_names(beside_layer(names))


def vector_format(
    text: str,
    title: str,
    suffixes: tuple[str, ...],
    sniff: Callable[[bytes, Path], int],
    driver: str,
    check: Callable[[Path, Any], tuple[Finding, ...]] = lambda path, params: (),
    read_params: type[VectorReadParams] = VectorReadParams,
    exact: Exact | None = None,
    **more: Any,
) -> Format:
    """Return the declaration of a format that one driver of the vector library reads.

    Parameters
    ----------
    check : callable
        Path and reading options → what there is to say; refuses a file before the library sees it.
    exact : callable or None
        As `read_vector`.
    read_params : type
        The reading options, where the format has more than all have.
    **more
        Whatever else the format declares, how it is written above all.
    """

    def read(path: Path, params: VectorReadParams, progress: Progress) -> ReadResult:
        said = check(path, params)
        # Measures beside heights are none of terrain's business; the library would remark on them.
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            result = read_vector(path, params, progress, driver, exact)
        unit = heights_beside(path)
        # A system whose heights the library passes over still says their unit.
        datasets = tuple(
            each.in_frame(dataclasses.replace(each.frame, vertical=unit)) if unit and not each.frame.vertical else each
            for each in result.datasets
        )
        return dataclasses.replace(result, datasets=datasets, findings=(*said, *result.findings))

    usual = Carries(
        kinds=(Areas, PointSet, Linework, Contours), units="both", crs=True, attributes=True, open_heights=True
    )
    declared: dict[str, Any] = {
        "carries": usual,
        "weigh": weigh,
        "column": without_large_unsigned,
        "renamed": _spelled,
        **more,
    }
    return Format(
        id=text,
        title=title,
        used_for="GIS",
        suffixes=suffixes,
        sniff=sniff,
        read=read,
        read_params=read_params,
        suggest=names_in,
        **declared,
    )


def weigh(dataset: Dataset) -> float:
    """Return about how many bytes a dataset takes as features: places, and what is said of them."""
    said = sum(values.dtype.itemsize for values in getattr(dataset, "attributes", {}).values())
    each = dataset.count()
    number = each.get("points") or each.get("lines") or each.get("areas", 0)
    # Areas lie in plan as a rule.
    own = weighing(vertices=17, areas=60) if "areas" in each else weighing(points=85, vertices=24, lines=150)
    return own(dataset) + float(said * number)
