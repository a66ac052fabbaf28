"""3MF: printable meshes in an archive."""

from __future__ import annotations

import re
import zipfile
from collections.abc import Sequence
from io import BytesIO
from pathlib import Path

import numpy as np

from vastgrid import __version__
from vastgrid.base.errors import CallError, FormatError
from vastgrid.base.findings import Finding
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Unit
from vastgrid.base.untrusted import member_names, parse_xml, read_member
from vastgrid.base.xmltext import quoteattr
from vastgrid.data.dataset import Dataset
from vastgrid.data.frame import Frame
from vastgrid.data.mesh import Mesh
from vastgrid.data.tin import Tin
from vastgrid.declarations.fileformat import Carries, Format, PlannedFile, ReadResult, rounding, weighing
from vastgrid.format_support.meshfile import MeshReadParams, Part, audit, faces_of, in_pieces, surfaces
from vastgrid.format_support.origin import FullOriginParams, told
from vastgrid.kernels.text.decimals import number_of
from vastgrid.kernels.text.textrows import RowTemplate

# Units and the order of a transform's twelve numbers by the 3MF core specification 1.3, 3.4 and 3.3.
_UNITS = {
    "micron": (Unit.MILLIMETRE, 0.001),
    "millimeter": (Unit.MILLIMETRE, 1.0),
    "centimeter": (Unit.MILLIMETRE, 10.0),
    "inch": (Unit.INCH, 1.0),
    "foot": (Unit.FOOT, 1.0),
    "meter": (Unit.METRE, 1.0),
}


class _Model:
    """Receives the model's XML."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self.unit = "millimeter"
        self.objects: dict[str, tuple[list[tuple[float, ...]], list[tuple[int, ...]]]] = {}
        self.parts: dict[str, list[tuple[str, str]]] = {}
        self.items: list[tuple[str, str]] = []
        self._own = ""

    def start(self, name: str, attributes: dict[str, str]) -> None:
        """Keep vertices, triangles, and where objects are placed."""
        try:
            if name == "model":
                self.unit = attributes.get("unit", "millimeter")
            elif name == "object":
                self._own = attributes["id"]
                self.objects[self._own] = ([], [])
            elif name == "vertex":
                self.objects[self._own][0].append(tuple(number_of(attributes[axis]) for axis in "xyz"))
            elif name == "triangle":
                self.objects[self._own][1].append(tuple(int(attributes[f"v{k}"]) for k in (1, 2, 3)))
            elif name == "component":
                self.parts.setdefault(self._own, []).append((attributes["objectid"], attributes.get("transform", "")))
            elif name == "item":
                self.items.append((attributes["objectid"], attributes.get("transform", "")))
        except (KeyError, ValueError) as error:
            raise FormatError(self.path, f"a {name} is not whole") from error

    def end(self, name: str, text: str) -> None:
        """Nothing stands in an element's text."""

    def placed(self, text: str, place: np.ndarray, depth: int = 0) -> list[Part]:
        """Return an object and its components, placed in the world."""
        if depth > 8 or text not in self.objects:
            raise FormatError(self.path, f"object {text} is not there, or contains itself")
        vertices, triangles = self.objects[text]
        found: list[Part] = []
        if triangles:
            xyz = np.array(vertices, np.float64).reshape(-1, 3)
            found.append((f"{self.path.stem} {text}", xyz @ place[:3] + place[3], np.array(triangles, np.int32)))
        for other, transform in self.parts.get(text, []):
            inner = _matrix(self.path, transform)
            both = np.vstack((inner[:3] @ place[:3], inner[3] @ place[:3] + place[3]))
            found += self.placed(other, both, depth + 1)
            if len(found) > 10_000:
                raise FormatError(self.path, "components repeat more than ten thousand times; the file is refused")
        return found


def _matrix(path: Path, text: str) -> np.ndarray:
    if not text.strip():
        return np.vstack((np.eye(3), np.zeros(3)))
    try:
        return np.array([number_of(word) for word in text.split()], np.float64).reshape(4, 3)
    except ValueError as error:
        raise FormatError(path, f"a transform is not twelve numbers: “{text[:60]}”") from error


def read(path: Path, params: MeshReadParams, progress: Progress) -> ReadResult:
    """Read the build's objects, placed by their transforms.

    Raises
    ------
    FormatError
        If the archive or the model is damaged.
    """
    name = next((each for each in member_names(path) if each.lower().endswith("3dmodel.model")), "")
    if not name:
        raise FormatError(path, "there is no 3D model in the archive")
    data = read_member(path, name)
    model = _Model(path)
    parse_xml(path, BytesIO(data), model, lambda done: progress.report(0.8 * done / len(data), f"reading {path.name}"))
    if model.unit not in _UNITS:
        raise FormatError(path, f"its unit “{model.unit}” is not one of the format's")
    unit, scale = _UNITS[model.unit]
    whole = np.vstack((np.eye(3), np.zeros(3)))
    items = model.items or [(own, "") for own in model.objects]
    parts = [
        part for own, transform in items for part in model.placed(own, _matrix(path, transform) if transform else whole)
    ]
    named = [(path.stem if len(parts) == 1 else own, vertices * scale, triangles) for own, vertices, triangles in parts]
    result = surfaces(path, named, params.up, Frame(None, unit, unit))
    said = [Finding("unit-scaled", f"Coordinates in {model.unit} were brought to {unit.title}.")] if scale != 1 else []
    return ReadResult(result.datasets, (*result.findings, *said))


# The format's words for units; it has none for the US survey foot.
_WORD_OF = {Unit.METRE: "meter", Unit.MILLIMETRE: "millimeter", Unit.INCH: "inch", Unit.FOOT: "foot"}
_TYPES = """<?xml version="1.0" encoding="UTF-8"?>
<Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types">\
<Default Extension="rels" ContentType="application/vnd.openxmlformats-package.relationships+xml"/>\
<Default Extension="model" ContentType="application/vnd.ms-package.3dmanufacturing-3dmodel+xml"/></Types>
"""
_RELATIONS = """<?xml version="1.0" encoding="UTF-8"?>
<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships">\
<Relationship Target="/3D/3dmodel.model" Id="rel0" \
Type="http://schemas.microsoft.com/3dmanufacturing/2013/01/3dmodel"/></Relationships>
"""


def fits(datasets: Sequence[Dataset], params: FullOriginParams) -> FullOriginParams:
    """Refuse units that the format has no word for.

    Raises
    ------
    CallError
        With the units it has.
    """
    for each in datasets:
        if each.frame.horizontal is not None and each.frame.horizontal not in (*_WORD_OF, Unit.DEGREE):
            raise CallError(
                f"3MF has no word for the {each.frame.horizontal.title} of {each.name}; "
                f"write it in another unit with --units ({', '.join(unit.value for unit in _WORD_OF)})"
            )
    return params


def write(datasets: Sequence[Dataset], path: Path, params: FullOriginParams, progress: Progress) -> None:
    """Write each surface as an object; an origin stands in the transform of its place in the build (core specification, 4.1.2)."""
    unit = datasets[0].frame.horizontal
    assert unit is not None
    place = params.origin.said
    at = f' transform="1 0 0 0 1 0 0 0 1 {place[0]!r} {place[1]!r} {place[2]!r}"' if any(place) else ""
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED, compresslevel=6) as archive:
        archive.writestr("[Content_Types].xml", _TYPES)
        archive.writestr("_rels/.rels", _RELATIONS)
        with archive.open("3D/3dmodel.model", "w", force_zip64=True) as file:
            file.write(
                f'<?xml version="1.0" encoding="UTF-8"?>\n<model unit="{_WORD_OF[unit]}" xml:lang="en" '
                'xmlns="http://schemas.microsoft.com/3dmanufacturing/core/2015/02">\n'
                f'<metadata name="Application">Vast Grid {__version__}</metadata>\n'
                f'<metadata name="Description">{told(place, unit)}</metadata>\n<resources>\n'.encode()
            )
            for k, each in enumerate(datasets):
                vertices, triangles = faces_of(each)
                name = quoteattr("".join(letter for letter in each.name if letter >= " "))
                file.write(f'<object id="{k + 1}" type="model" name={name}><mesh><vertices>\n'.encode())
                template = RowTemplate('<vertex x="{}" y="{}" z="{}"/>\n', (params.decimals,) * 3)
                for block in template.blocks(list((vertices - place).T)):
                    file.write(block)
                progress.report((k + 0.5) / len(datasets), f"writing {path.name}")
                file.write(b"</vertices><triangles>\n")
                template = RowTemplate('<triangle v1="{}" v2="{}" v3="{}"/>\n', (0, 0, 0))
                for block in template.blocks(list(triangles.T)):
                    file.write(block)
                file.write(b"</triangles></mesh></object>\n")
                progress.report((k + 1) / len(datasets), f"writing {path.name}")
            items = "".join(f'<item objectid="{k + 1}"{at}/>' for k in range(len(datasets)))
            file.write(f"</resources>\n<build>{items}</build>\n</model>\n".encode())


def plan(datasets: Sequence[Dataset], stem: str, params: FullOriginParams) -> tuple[PlannedFile, ...]:
    """Return a file for each piece."""
    return in_pieces(datasets, stem, ".3mf")


def sniff(head: bytes, path: Path) -> int:
    """An archive with a 3D model in it."""
    if not head.startswith(b"PK\3\4"):
        return 0
    return 100 if any(re.search(r"3dmodel\.model$", name, re.IGNORECASE) for name in member_names(path)) else 0


_CARRIES = Carries(kinds=(Tin, Mesh), several=True, units="one", unit_needed=True)
FORMAT = Format(
    id="3mf",
    title="3MF mesh",
    used_for="meshes and print",
    suffixes=(".3mf",),
    sniff=sniff,
    carries=_CARRIES,
    carries_as=rounding(_CARRIES),
    read=read,
    write=write,
    audit=audit,
    write_params=FullOriginParams,
    weigh=weighing(vertices=18, triangles=11),
    plan=plan,
    fits=fits,
    read_params=MeshReadParams,
)
