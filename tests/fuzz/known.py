"""Files whose right answer is known by construction, written and damaged in ways whose effect is known.

A reader may give the right answer, or refuse the file; what it leaves out it has to count. A wrong answer that says
nothing is what this looks for. Each scenario gives a file and what has to come of it.
"""

from __future__ import annotations

import json
import struct
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np


@dataclass
class Expected:
    """What has to come of a file.

    Attributes
    ----------
    rows : (n, 3) array
        Points, or the corners of all triangles, in any order.
    lost : int
        How many things cannot come in, so that a finding has to say so.
    refused : bool
        Whether the file may be refused as a whole.
    options : dict
        Reading options in words.
    """

    rows: np.ndarray
    lost: int = 0
    refused: bool = False
    options: dict[str, str] = field(default_factory=dict)


HEADS = (
    ("Point", "Easting", "Northing", "Elevation"),
    ("P", "E", "N", "Z"),
    ("Pt", "X coordinate", "Y coordinate", "Elev m"),
    ("pt_id", "pt_east", "pt_north", "pt_elev"),
    ("Punkt", "Rechtswert", "Hochwert", "Höhe"),
    ("Nr", "Ost", "Nord", "Hoehe"),
    ("Matricule", "Est", "Nord", "Altitude"),
    ("Punto", "Este", "Norte", "Cota"),
    ("Punto", "Est", "Nord", "Quota"),
)
MARKS = ((",", "."), (".", ","), ("'", "."), (" ", ","), ("’", "."))
NO_NUMBERS = ("x", "nan", "", "1e999", "12..5", "--3", "1,2,3x", "#REF!", "inf")


def _grouped(text: str, mark: str) -> str:
    whole, _, rest = text.partition(".")
    sign, digits = (whole[0], whole[1:]) if whole[:1] in "+-" else ("", whole)
    parts = []
    while digits:
        parts.insert(0, digits[-3:])
        digits = digits[:-3]
    return sign + mark.join(parts) + ("." + rest if rest else "")


def text(path: Path, rng: np.random.Generator) -> Expected:
    """Delimited points: any delimiter, decimal mark, thousands, heads, encoding and line end; some lines are no points."""
    count = int(rng.integers(12, 60))
    xyz = np.column_stack(
        (431_000 + rng.random(count) * 900, 5_887_000 + rng.random(count) * 900, 1100 + rng.random(count) * 90)
    ).round(3)
    delimiter = str(rng.choice([";", "\t", "|", ","]))
    thousands, decimal = MARKS[int(rng.integers(0, len(MARKS)))] if rng.random() < 0.5 else ("", ".")
    if not thousands and rng.random() < 0.4 and delimiter != ",":
        decimal = ","
    quoted = delimiter == "," and thousands != ""
    if quoted:
        thousands, decimal = ",", "."
    heads = list(HEADS[int(rng.integers(0, len(HEADS)))])
    order = list(rng.permutation(4)) if rng.random() < 0.5 else [0, 1, 2, 3]
    if rng.random() < 0.2:
        heads.append("Rod height")
        order.insert(int(rng.integers(0, 5)), 4)
    bad = set(rng.choice(count, int(rng.integers(1, 4)), replace=False).tolist()) if rng.random() < 0.5 else set()
    lines = []
    for k, row in enumerate(xyz):
        values = [f"{value:.3f}" for value in row]
        if thousands:
            values = [_grouped(value, "\0") for value in values]
        values = [value.replace(".", decimal).replace("\0", thousands) for value in values]
        if k in bad:
            choices = [each for each in NO_NUMBERS if delimiter not in each]
            values[int(rng.integers(0, 3))] = str(rng.choice(choices))
        fields = [str(k + 1), *values, "1" + decimal + "8"]
        if quoted:
            fields = [f'"{each}"' for each in fields]
        lines.append(delimiter.join(fields[at] for at in order))
    head = delimiter.join(heads[at] for at in order)
    where = rng.random()
    first = [head] if where < 0.7 else [f"# {head}"]
    end = str(rng.choice(["\n", "\r\n"]))
    content = end.join([*first, *lines]) + (end if rng.random() < 0.7 else "")
    encoding = str(rng.choice(["utf-8", "utf-8-sig", "cp1252", "utf-16"]))
    path.write_bytes(content.encode(encoding))
    keep = [k for k in range(count) if k not in bad]
    return Expected(xyz[keep], lost=len(bad))


def _tags(*pairs: object) -> str:
    return "".join(f"{pair}\n" for pair in pairs)


def drawing(path: Path, rng: np.random.Generator) -> Expected:
    """Points and faces of a drawing; some have coordinates that are no numbers, some stand on frozen layers."""
    lines = [_tags(0, "SECTION", 2, "TABLES", 0, "TABLE", 2, "LAYER")]
    for name, flag, colour in (("A", 0, 7), ("OFF", 0, -7), ("ICE", 1, 7)):
        lines.append(_tags(0, "LAYER", 2, name, 70, flag, 62, colour, 6, "CONTINUOUS"))
    lines.append(_tags(0, "ENDTAB", 0, "ENDSEC", 0, "SECTION", 2, "ENTITIES"))
    leave = rng.random() < 0.5
    kept, lost = [], 0
    for _ in range(int(rng.integers(10, 40))):
        row = (431_000 + rng.random() * 900, 887_000 + rng.random() * 900, 200 + rng.random() * 90)
        row = [round(value, 3) for value in row]
        words = [f"{value:.3f}" for value in row]
        layer = str(rng.choice(["A", "A", "A", "OFF", "ICE"]))
        wrong = rng.random() < 0.15
        if wrong:
            words[int(rng.integers(0, 3))] = str(rng.choice(["431000,12", "nan", "xyz", "", "1e400"]))
        lines.append(_tags(0, "POINT", 8, layer, 10, words[0], 20, words[1], 30, words[2]))
        hidden = layer != "A" and leave
        if not wrong and not hidden:
            kept.append(row)
        lost += wrong or hidden
    lines.append(_tags(0, "ENDSEC", 0, "EOF"))
    path.write_text("".join(lines))
    return Expected(np.array(kept).reshape(-1, 3), lost, refused=not kept, options={"hidden": "leave"} if leave else {})


def surface(path: Path, rng: np.random.Generator) -> Expected:
    """A LandXML surface: ids in any order, points without a height or given twice, faces that name what is not there."""
    side = int(rng.integers(3, 7))
    x, y = np.meshgrid(np.arange(side) * 10.0, np.arange(side) * 10.0)
    xyz = np.column_stack((x.ravel() + 431_000, y.ravel() + 887_000, 200 + rng.random(side * side) * 9)).round(3)
    number = np.arange(side * side).reshape(side, side)
    a, b, c, d = (part.ravel() for part in (number[:-1, :-1], number[:-1, 1:], number[1:, 1:], number[1:, :-1]))
    faces = np.concatenate((np.column_stack((a, b, c)), np.column_stack((a, c, d))))
    ids = rng.permutation(5 * side * side)[: side * side] + 1
    broken = set(rng.choice(len(xyz), 1).tolist()) if rng.random() < 0.4 else set()
    points = []
    for k in rng.permutation(len(xyz)).tolist():
        row = [f"{xyz[k, 1]:.3f}", f"{xyz[k, 0]:.3f}", f"{xyz[k, 2]:.3f}"]
        if k in broken:
            row[int(rng.integers(0, 3))] = str(rng.choice(["NaN", "", "12,5", "abc"]))
        joined = str(rng.choice([" ", "\n ", "  "])).join(row)
        mark = "<!-- surveyed -->" if rng.random() < 0.05 else ""
        points.append(f'<P id="{ids[k]}">{joined}</P>{mark}')
        if rng.random() < 0.05:
            # Given once more, the same: nothing is lost.
            points.append(f'<P id="{ids[k]}">{joined}</P>')
    good = [face for face in faces.tolist() if not broken & set(face)]
    words = [f"<F>{' '.join(str(ids[k]) for k in face)}</F>" for face in faces.tolist()]
    strangers = int(rng.integers(0, 3))
    words += [f"<F>{ids[0]} {ids[1]} 999999</F>"] * strangers
    body = f"<Pnts>{''.join(points)}</Pnts><Faces>{''.join(words)}</Faces>"
    path.write_text(
        '<?xml version="1.0"?><LandXML xmlns="http://www.landxml.org/schema/LandXML-1.2" version="1.2"><Units><Metric '
        'linearUnit="meter"/></Units><Surfaces><Surface name="S"><Definition surfType="TIN">'
        f"{body}</Definition></Surface></Surfaces></LandXML>"
    )
    corners = xyz[np.array(good, int).reshape(-1, 3)].reshape(-1, 3)
    return Expected(corners, len(faces) - len(good) + strangers, refused=not good)


def ascii_grid(path: Path, rng: np.random.Generator) -> Expected:
    """A grid of text: corners or centres, with and without a value for no height, cut off or with too many rows."""
    rows, columns = int(rng.integers(2, 9)), int(rng.integers(2, 9))
    cell, west, south = float(rng.choice([0.5, 1.0, 2.5])), 431_000.0, 887_000.0
    heights = (200 + rng.random((rows, columns)) * 50).round(3)
    gaps = rng.random((rows, columns)) < 0.2
    gaps.ravel()[0] = False
    marks = [str(rng.choice(["corner", "center"])) for _ in "xy"]
    nodata = str(rng.choice(["-9999", "-32768", "0.5", ""]))
    value = nodata or "-9999"
    head = f"ncols {columns}\nnrows {rows}\nxll{marks[0]} {west}\nYLL{marks[1].upper()} {south}\ncellsize {cell}\n"
    head += f"NODATA_value {nodata}\n" if nodata else ""
    words = np.where(gaps, value, heights.astype(str))
    lines = [" ".join(row) for row in words.tolist()]
    wrong = rng.random()
    if wrong < 0.15:
        lines.append(lines[-1])
    elif wrong < 0.3:
        lines[-1] = lines[-1].rsplit(" ", 1)[0]
    path.write_text(head + "\n".join(lines) + "\n")
    if marks[0] == "center":
        west -= cell / 2
    if marks[1] == "center":
        south -= cell / 2
    row, column = np.nonzero(~gaps)
    east, north = west + (column + 0.5) * cell, south + (rows - row - 0.5) * cell
    made = np.column_stack((east, north, heights[row, column]))
    return Expected(made, refused=wrong < 0.3) if wrong >= 0.3 else Expected(np.zeros((0, 3)), refused=True)


def shapes(path: Path, rng: np.random.Generator) -> Expected:
    """Points of a shapefile, written by hand (ESRI Shapefile Technical Description, 1998), perhaps cut off."""
    count = int(rng.integers(5, 30))
    xyz = np.column_stack((431_000 + rng.random((count, 2)) * 900, 200 + rng.random(count) * 50)).round(3)
    records, index = b"", b""
    for k, (x, y, z) in enumerate(xyz.tolist()):
        content = struct.pack("<idddd", 11, x, y, z, 0.0)
        index += struct.pack(">ii", (100 + len(records)) // 2, len(content) // 2)
        records += struct.pack(">ii", k + 1, len(content) // 2) + content
    low, high = xyz.min(axis=0), xyz.max(axis=0)

    def head(size: int) -> bytes:
        box = struct.pack("<8d", low[0], low[1], high[0], high[1], low[2], high[2], 0.0, 0.0)
        return struct.pack(">i5ii", 9994, 0, 0, 0, 0, 0, (100 + size) // 2) + struct.pack("<ii", 1000, 11) + box

    whole = head(len(records)) + records
    cut = rng.random() < 0.4
    kept = count
    if cut:
        size = int(rng.integers(101, len(whole)))
        kept = (size - 100) // 44
        whole = whole[:size]
    path.write_bytes(whole)
    path.with_suffix(".shx").write_bytes(head(len(index)) + index)
    take = cut and rng.random() < 0.5
    return Expected(
        xyz[:kept], count - kept, refused=(cut and not take) or not kept, options={"accept_cut": "yes"} if take else {}
    )


def cloud(path: Path, rng: np.random.Generator) -> Expected:
    """A cloud written by laspy in any edition, with marked points left out or not; perhaps cut off or its count raised."""
    import laspy

    version, form = [("1.2", 0), ("1.2", 3), ("1.3", 1), ("1.4", 6), ("1.4", 7)][int(rng.integers(0, 5))]
    header = laspy.LasHeader(point_format=form, version=version)
    header.scales = [float(rng.choice([0.001, 0.01]))] * 3
    header.offsets = [431_000.0, 887_000.0, 0.0] if rng.random() < 0.8 else [0.0, 0.0, 0.0]
    count = int(rng.integers(5, 80))
    xyz = np.column_stack(
        (431_000 + rng.random(count) * 900, 887_000 + rng.random(count) * 900, 200 + rng.random(count) * 9)
    )
    data = laspy.LasData(header)
    data.x, data.y, data.z = xyz.T
    written = np.column_stack((data.x, data.y, data.z))
    marked = {name: rng.random(count) < 0.2 for name in ("withheld", "synthetic")}
    for name, flags in marked.items():
        setattr(data, name, flags.astype(np.uint8))
    data.write(path)
    without = str(rng.choice(["none", "withheld", "synthetic", "both"]))
    gone = np.zeros(count, bool)
    for name, flags in marked.items():
        gone |= flags & (without in (name, "both"))
    wrong = rng.random()
    if wrong < 0.3:
        whole = bytearray(path.read_bytes())
        if wrong < 0.2:
            del whole[-int(rng.integers(1, 20 * count)) :]
        else:
            # More points are declared than there are (LAS 1.2 and 1.4, public header block, ASPRS).
            place = (247, "<Q") if version == "1.4" else (107, "<I")
            struct.pack_into(place[1], whole, place[0], count + 7)
        path.write_bytes(whole)
    kept = written[~gone]
    refused = wrong < 0.3 or not len(kept)
    return Expected(kept[:0] if wrong < 0.3 else kept, int(gone.sum()), refused, {"without": without})


def raster(path: Path, rng: np.random.Generator) -> Expected:
    """A GeoTIFF written by rasterio: any type, value for no height, band, place of the heights, tiled and packed or not."""
    import rasterio

    rows, columns = int(rng.integers(3, 40)), int(rng.integers(3, 40))
    kind = str(rng.choice(["int16", "int32", "float32", "float64"]))
    heights = 200 + rng.random((rows, columns)) * 50
    heights = (heights.round() if kind.startswith("int") else heights.round(3)).astype(kind)
    gaps = rng.random((rows, columns)) < 0.2
    gaps.ravel()[:3] = False
    value = float(rng.choice([-9999.0, -32768.0, 0.0, 255.0]))
    heights[heights == value] += 1
    declared = rng.random() < 0.7
    bands, own = int(rng.integers(1, 4)), 1
    if bands > 1:
        own = int(rng.integers(1, bands + 1))
    values = rng.integers(0, 9, (bands, rows, columns)).astype(kind)
    values[own - 1] = np.where(gaps, np.array(value, kind), heights)
    west, north = 431_000.0 + int(rng.integers(0, 9)), 887_000.0
    dx, dy = float(rng.choice([0.5, 1.0, 30.0])), float(rng.choice([0.5, 1.0, 30.0]))
    point = rng.random() < 0.3
    options = {"tiled": True, "blockxsize": 16, "blockysize": 16} if rng.random() < 0.5 else {}
    packed = str(rng.choice(["none", "deflate", "lzw"]))
    with rasterio.open(
        path,
        "w",
        driver="GTiff",
        count=bands,
        height=rows,
        width=columns,
        dtype=kind,
        compress=packed,
        photometric="minisblack",
        crs="EPSG:25832",
        transform=rasterio.Affine(dx, 0, west, 0, -dy, north),
        nodata=value if declared else None,
        **options,
    ) as file:
        file.write(values)
        if point:
            file.update_tags(AREA_OR_POINT="Point")
    row, column = np.nonzero(~gaps)
    with rasterio.open(path) as file:
        east, north_of = rasterio.transform.xy(file.transform, row, column)
    made = np.column_stack((east, north_of, heights[row, column].astype(float)))
    words = {} if declared else {"nodata": f"{value:g}"}
    return Expected(made, options=words | ({"band": str(own)} if bands > 1 else {}))


def lines(path: Path, rng: np.random.Generator) -> Expected:
    """Lines of GeoJSON (RFC 7946) in every shape; some have no place, some a height on a few of their vertices only."""
    features, kept, lost = [], [], 0
    for _ in range(int(rng.integers(4, 20))):
        row = np.column_stack((15 + rng.random((4, 2)) * 0.01, 200 + rng.random(4) * 9)).round(7)
        course = row.tolist()
        shape = str(rng.choice(["LineString", "MultiLineString", "Polygon", "None", "Empty"]))
        if shape == "LineString":
            geometry = {"type": shape, "coordinates": course}
        elif shape == "MultiLineString":
            geometry = {"type": shape, "coordinates": [course[:2], course[2:]]}
        elif shape == "Polygon":
            # One that crosses itself is mended, which its own tests look at.
            away = row[:, :2] - row[:, :2].mean(axis=0)
            course = row[np.argsort(np.arctan2(away[:, 1], away[:, 0]))].tolist()
            course = [*course, course[0]]
            geometry = {"type": shape, "coordinates": [course]}
        else:
            geometry = None if shape == "None" else {"type": "LineString", "coordinates": []}
            course, lost = [], lost + 1
        kept += course
        features.append({"type": "Feature", "properties": {"name": "a"}, "geometry": geometry})
    path.write_text(json.dumps({"type": "FeatureCollection", "features": features}))
    return Expected(np.array(kept).reshape(-1, 3), lost, refused=not kept)


SCENARIOS: dict[str, tuple[str, str, Callable[[Path, np.random.Generator], Expected]]] = {
    "text": ("text", "points.csv", text),
    "drawing": ("dxf", "drawing.dxf", drawing),
    "surface": ("landxml", "surface.xml", surface),
    "grid": ("asciigrid", "grid.asc", ascii_grid),
    "shapes": ("shapefile", "shapes.shp", shapes),
    "cloud": ("las", "cloud.las", cloud),
    "raster": ("geotiff", "raster.tif", raster),
    "lines": ("geojson", "lines.geojson", lines),
}


def check(name: str, seed: int, folder: Path) -> None:
    """Make one file, read it, and compare.

    Raises
    ------
    AssertionError
        If the answer is wrong, or something is missing and nothing says so.
    """
    from vastgrid import catalog
    from vastgrid.base.errors import VastGridError
    from vastgrid.base.progress import Silent
    from vastgrid.data.grid import Grid
    from vastgrid.data.tin import Tin
    from vastgrid.params import declare

    own, file, make = SCENARIOS[name]
    kind = catalog.format_named(own)
    path = folder / file
    expected = make(path, np.random.default_rng(seed))
    assert catalog.recognise(path) is kind, f"taken for {catalog.recognise(path).title}"
    try:
        made = kind.read(path, declare.build(kind.read_params, expected.options), Silent())
    except VastGridError as error:
        if not expected.refused:
            raise AssertionError(f"refused: {error}") from error
        return
    assert not expected.refused or len(expected.rows), "what has to be refused came in"
    found = []
    for each in made.datasets:
        if isinstance(each, Tin):
            found.append(each.vertices[each.triangles].reshape(-1, 3))
        else:
            found.append(each.coordinates())
            assert isinstance(each, Grid) or np.isfinite(each.coordinates()).all()
    rows = np.concatenate([np.zeros((0, 3)), *found])
    wanted = expected.rows
    assert rows.shape == wanted.shape, f"{len(rows)} of {len(wanted)}: {[f.text for f in made.findings]}"
    order = [np.lexsort(np.round(each, 4).T) for each in (rows, wanted)]
    gap = np.abs(rows[order[0]] - wanted[order[1]]).max(initial=0.0)
    assert gap < 1e-6, f"differs by {gap}"
    if expected.lost:
        assert any(finding.drops for finding in made.findings), "something is missing, and nothing says so"
