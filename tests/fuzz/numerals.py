"""Decimal numbers in every spelling, in every text format that is read: each has to be the double that `float` gives.

A template puts numbers as heights into a file by hand; places are whole numbers, so that rows are found again whatever
order a reader gives them.
"""

from __future__ import annotations

import argparse
import random
import struct
import sys
import tempfile
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).parents[1]))


def numeral(rng: random.Random, *, plain: bool) -> str:
    """Return a number as somebody may write it.

    Parameters
    ----------
    plain : bool
        As the grammar of JSON has it: no plus sign, no bare point, no leading zeros, no exponent after D.
    """
    kind = rng.randrange(8)
    if kind == 0:
        text = repr(rng.uniform(-1e6, 1e6))
    elif kind == 1:
        text = repr(rng.uniform(0.1, 9.0) * 10.0 ** rng.randrange(-300, 10))
    elif kind == 2:
        # Half-way between two doubles, and just beside it.
        value = rng.uniform(1.0, 1e6)
        whole, power = struct.unpack("<q", struct.pack("<d", value))[0] & (2**52 - 1) | 2**52, 0
        whole, power = 2 * whole + 1, 34
        text = f"{whole >> power}.{''.join(str((whole & (2**power - 1)) * 10**k // 2**power % 10) for k in range(1, power + 1))}"
        text += rng.choice(("", "0", "1", "000000000000000000000000001"))
    elif kind == 3:
        text = f"{rng.randrange(10 ** rng.randrange(1, 11))}.{''.join(rng.choice('0123456789') for _ in range(rng.randrange(1, 60)))}"
    elif kind == 4:
        text = f"{rng.uniform(0, 1e6):.{rng.randrange(0, 30)}f}"
    elif kind == 5:
        text = f"{rng.random():.{rng.randrange(1, 25)}e}"
    elif kind == 6:
        text = f"{rng.randrange(10 ** rng.randrange(1, 30))}E-{rng.randrange(18, 40)}"
    else:
        text = "0." + "0" * rng.randrange(0, 40) + str(rng.randrange(1, 10**17))
    if plain:
        return text
    if rng.random() < 0.1 and "e" not in text.lower():
        text = "0" * rng.randrange(1, 30) + text.lstrip("-")
    if rng.random() < 0.1 and text.startswith("0."):
        text = text[1:]
    if rng.random() < 0.1 and text.isdigit():
        text += "."
    if rng.random() < 0.1:
        text = text.replace("e", "D").replace("E", "D")
    if rng.random() < 0.1 and not text.startswith("-"):
        text = "+" + text
    return text


def value_of(text: str) -> float:
    """Return what a number has to be."""
    return float(text.replace("D", "e"))


Template = Callable[[list[str]], "str | bytes"]


@dataclass(frozen=True)
class Spelled:
    """How one format writes heights of places in two rows, (k, 0) and (k, 1), as a surface, or as points."""

    name: str
    write: Template
    plain: bool = False
    surface: bool = False
    scale: float = 1.0


def _places(heights: list[str]) -> list[tuple[int, int, str]]:
    return [(k // 2, k % 2, z) for k, z in enumerate(heights)]


def _faces(number: int, first: int = 0) -> list[tuple[int, int, int]]:
    found = []
    for k in range(first, first + number - 2, 2):
        found += [(k, k + 2, k + 1), (k + 1, k + 2, k + 3)]
    return found


def _text(z: list[str]) -> str:
    return "easting,northing,elevation\n" + "".join(f"{x},{y},{h}\n" for x, y, h in _places(z))


def _blanks(z: list[str]) -> str:
    return "".join(f"{x} {y} {h}\n" for x, y, h in _places(z))


def _grid(z: list[str]) -> str:
    top, low = z[1::2], z[0::2]
    head = f"ncols {len(top)}\nnrows 2\nxllcenter 0\nyllcenter 0\ncellsize 1\nnodata_value -1e9\n"
    return f"{head}{' '.join(top)}\n{' '.join(low)}\n"


def _dxf(z: list[str]) -> str:
    points = "".join(f"0\nPOINT\n8\nA\n10\n{x}\n20\n{y}\n30\n{h}\n" for x, y, h in _places(z))
    return f"0\nSECTION\n2\nENTITIES\n{points}0\nENDSEC\n0\nEOF\n"


def _block(z: list[str]) -> str:
    points = "".join(f"0\nPOINT\n8\nA\n10\n{x}\n20\n{y}\n30\n{h}\n" for x, y, h in _places(z))
    head = "0\nSECTION\n2\nBLOCKS\n0\nBLOCK\n8\n0\n2\nB\n70\n0\n10\n0\n20\n0\n30\n0\n3\nB\n"
    insert = "0\nENDBLK\n8\n0\n0\nENDSEC\n0\nSECTION\n2\nENTITIES\n0\nINSERT\n8\n0\n2\nB\n10\n0\n20\n0\n30\n0.0\n"
    return f"{head}{points}{insert}0\nENDSEC\n0\nEOF\n"


def _polyline(z: list[str]) -> str:
    rows = "".join(f"0\nVERTEX\n8\nA\n10\n{x}\n20\n{y}\n30\n{h}\n70\n32\n" for x, y, h in _places(z))
    head = "0\nSECTION\n2\nENTITIES\n0\nPOLYLINE\n8\nA\n66\n1\n70\n8\n"
    return f"{head}{rows}0\nSEQEND\n0\nENDSEC\n0\nEOF\n"


_XML = '<?xml version="1.0"?><LandXML xmlns="http://www.landxml.org/schema/LandXML-1.2" version="1.2"><Units><Metric linearUnit="meter"/></Units>'


def _landxml(z: list[str]) -> str:
    points = "".join(f'<P id="{k + 1}">{y} {x} {h}</P>' for k, (x, y, h) in enumerate(_places(z)))
    faces = "".join(f"<F>{a + 1} {b + 1} {c + 1}</F>" for a, b, c in _faces(len(z)))
    body = f'<Surface name="S"><Definition surfType="TIN"><Pnts>{points}</Pnts><Faces>{faces}</Faces></Definition></Surface>'
    return f"{_XML}<Surfaces>{body}</Surfaces></LandXML>"


def _cogo(z: list[str]) -> str:
    points = "".join(f'<CgPoint name="{k}">{y} {x} {h}</CgPoint>' for k, (x, y, h) in enumerate(_places(z)))
    return f"{_XML}<CgPoints>{points}</CgPoints></LandXML>"


def _obj(z: list[str]) -> str:
    rows = "".join(f"v {x} {y} {h}\n" for x, y, h in _places(z))
    return rows + "".join(f"f {a + 1} {b + 1} {c + 1}\n" for a, b, c in _faces(len(z)))


def _off(z: list[str]) -> str:
    faces = _faces(len(z))
    rows = "".join(f"{x} {y} {h}\n" for x, y, h in _places(z))
    return f"OFF\n{len(z)} {len(faces)} 0\n{rows}" + "".join(f"3 {a} {b} {c}\n" for a, b, c in faces)


def _ply(z: list[str]) -> str:
    head = f"ply\nformat ascii 1.0\nelement vertex {len(z)}\nproperty double x\nproperty double y\nproperty double z\nend_header\n"
    return head + "".join(f"{x} {y} {h}\n" for x, y, h in _places(z))


def _pcd(z: list[str]) -> str:
    head = f"VERSION .7\nFIELDS x y z\nSIZE 8 8 8\nTYPE F F F\nCOUNT 1 1 1\nWIDTH {len(z)}\nHEIGHT 1\nPOINTS {len(z)}\nDATA ascii\n"
    return head + "".join(f"{x} {y} {h}\n" for x, y, h in _places(z))


def _stl(z: list[str]) -> str:
    at = _places(z)
    facets = []
    for corners in _faces(len(z)):
        rows = "".join(f"vertex {at[c][0]} {at[c][1]} {at[c][2]}\n" for c in corners)
        facets.append(f"facet normal 0 0 1\nouter loop\n{rows}endloop\nendfacet\n")
    return f"solid s\n{''.join(facets)}endsolid s\n"


def _kml(z: list[str]) -> str:
    rows = " ".join(f"{x}e-4,{y}e-4,{h}" for x, y, h in _places(z))
    line = f"<LineString><altitudeMode>absolute</altitudeMode><coordinates>{rows}</coordinates></LineString>"
    return f'<kml xmlns="http://www.opengis.net/kml/2.2"><Document><Placemark>{line}</Placemark></Document></kml>'


def _gpx(z: list[str]) -> str:
    rows = "".join(f'<wpt lat="{y}e-4" lon="{x}e-4"><ele>{h}</ele></wpt>' for x, y, h in _places(z))
    return f'<gpx version="1.1" creator="x" xmlns="http://www.topografix.com/GPX/1/1">{rows}</gpx>'


def _geojson(z: list[str]) -> str:
    rows = ",".join(
        f'{{"type":"Feature","properties":{{}},"geometry":{{"type":"Point","coordinates":[{x}e-4,{y}e-4,{h}]}}}}'
        for x, y, h in _places(z)
    )
    return f'{{"type":"FeatureCollection","features":[{rows}]}}'


def _threemf(z: list[str]) -> bytes:
    import io
    import zipfile

    rows = "".join(f'<vertex x="{x}" y="{y}" z="{h}"/>' for x, y, h in _places(z))
    faces = "".join(f'<triangle v1="{a}" v2="{b}" v3="{c}"/>' for a, b, c in _faces(len(z)))
    mesh = (
        f"<object id='1' type='model'><mesh><vertices>{rows}</vertices><triangles>{faces}</triangles></mesh></object>"
    )
    model = f'<model unit="meter" xmlns="http://schemas.microsoft.com/3dmanufacturing/core/2015/02"><resources>{mesh}</resources><build><item objectid="1"/></build></model>'
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as archive:
        archive.writestr("3D/3dmodel.model", model)
        archive.writestr("[Content_Types].xml", "<Types/>")
    return out.getvalue()


def _cityjson(z: list[str]) -> str:
    rows = ",".join(f"[{x},{y},{h}]" for x, y, h in _places(z))
    faces = ",".join(f"[[{a},{b},{c}]]" for a, b, c in _faces(len(z)))
    surface = f'{{"type":"CompositeSurface","lod":"1","boundaries":[{faces}]}}'
    objects = f'{{"ground":{{"type":"TINRelief","geometry":[{surface}]}}}}'
    return f'{{"type":"CityJSON","version":"1.0","CityObjects":{objects},"vertices":[{rows}]}}'


SPELLED = {
    ".csv": Spelled("text", _text),
    ".txt": Spelled("text", _blanks),
    ".asc": Spelled("asciigrid", _grid),
    ".dxf": Spelled("dxf", _dxf),
    ".block.dxf": Spelled("dxf", _block),
    ".line.dxf": Spelled("dxf", _polyline),
    ".xml": Spelled("landxml", _landxml, surface=True),
    ".points.xml": Spelled("landxml", _cogo),
    ".obj": Spelled("obj", _obj, surface=True),
    ".off": Spelled("off", _off, surface=True),
    ".ply": Spelled("ply", _ply),
    ".pcd": Spelled("pcd", _pcd),
    ".stl": Spelled("stl", _stl, surface=True),
    ".kml": Spelled("kml", _kml, scale=1e-4),
    ".gpx": Spelled("gpx", _gpx, plain=True, scale=1e-4),
    ".geojson": Spelled("geojson", _geojson, plain=True, scale=1e-4),
    ".3mf": Spelled("3mf", _threemf, surface=True),
    ".city.json": Spelled("cityjson", _cityjson, plain=True, surface=True),
}


def misread(ending: str, texts: list[str], folder: Path) -> Iterator[str]:
    """Write numbers into a file of a format, read it, and yield what came out otherwise."""
    from vastgrid import catalog
    from vastgrid.base.progress import Silent
    from vastgrid.data.grid import Grid

    spelled = SPELLED[ending]
    path = folder / f"n{ending}"
    made = spelled.write(texts)
    path.write_bytes(made if isinstance(made, bytes) else made.encode())
    kind = catalog.format_named(spelled.name)
    found: dict[tuple[int, int], float] = {}
    for each in kind.read(path, kind.read_params(), Silent()).datasets:
        if isinstance(each, Grid):
            for row in (0, 1):
                found |= {(k, 1 - row): z for k, z in enumerate(each.heights[row].tolist())}
            continue
        xyz = each.coordinates()
        keys = np.rint(xyz[:, :2] / spelled.scale).astype(int).tolist()
        found |= {(x, y): z for (x, y), z in zip(keys, xyz[:, 2].tolist(), strict=True)}
    for x, y, text in _places(texts):
        right = value_of(text)
        read = found.get((x, y))
        if read is None or read != right:
            yield f"{text}: {read!r}, not {right!r}"


def numbers(rng: random.Random, number: int, *, plain: bool) -> list[str]:
    """Return numbers of every spelling, not so large that no ground is."""
    return [numeral(rng, plain=plain) for _ in range(number)]


def main() -> int:
    """Read many numbers in every format; the exit code says whether all went well."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--times", type=int, default=10_000)
    parser.add_argument("--seed", type=int, default=0)
    options = parser.parse_args()
    wrong = 0
    with tempfile.TemporaryDirectory(prefix="vastgrid-numbers-") as folder:
        for ending, spelled in SPELLED.items():
            for block in range(0, options.times, 2000):
                rng = random.Random(f"{options.seed} {ending} {block}")
                for told in misread(
                    ending, numbers(rng, min(2000, options.times - block), plain=spelled.plain), Path(folder)
                ):
                    wrong += 1
                    sys.stdout.write(f"{ending}: {told}\n")
            sys.stdout.write(f"{ending}: {options.times} numbers\n")
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
