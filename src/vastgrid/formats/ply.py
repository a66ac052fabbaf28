"""PLY files: point clouds or meshes, text and binary, all properties."""

from __future__ import annotations

import dataclasses
import io
import re
from collections.abc import Sequence
from dataclasses import dataclass
from enum import Enum
from pathlib import Path
from typing import Annotated, Any

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.errors import FormatError
from vastgrid.base.findings import count, left_out, longer_than_said
from vastgrid.base.progress import Progress
from vastgrid.base.words import spaced
from vastgrid.data.dataset import Dataset
from vastgrid.data.kinds import narrowed
from vastgrid.data.mesh import Mesh
from vastgrid.data.pointset import PointSet
from vastgrid.data.tin import Tin
from vastgrid.declarations.fileformat import Carries, Format, PlannedFile, ReadResult, weighing
from vastgrid.format_support.cloudfile import CloudReadParams, filtered
from vastgrid.format_support.columns import EXACT, as_numbers, different, whole_beyond
from vastgrid.format_support.meshfile import as_told, audit, faces_of, in_pieces, surfaces
from vastgrid.format_support.origin import FULL, NONE, Origin, heard, told
from vastgrid.kernels.text.decimals import read_words
from vastgrid.params.declare import Param
from vastgrid.terrain.tin.assemble import fans

_TYPES = {
    **dict.fromkeys(("char", "int8"), "i1"),
    **dict.fromkeys(("uchar", "uint8"), "u1"),
    **dict.fromkeys(("short", "int16"), "i2"),
    **dict.fromkeys(("ushort", "uint16"), "u2"),
    **dict.fromkeys(("int", "int32"), "i4"),
    **dict.fromkeys(("uint", "uint32"), "u4"),
    **dict.fromkeys(("float", "float32"), "f4"),
    **dict.fromkeys(("double", "float64"), "f8"),
}


@dataclass(slots=True)
class _Element:
    name: str
    count: int
    properties: list[tuple[str, str, str]]
    """Name, type, and the type of the length where it is a list (else empty)."""

    @property
    def plain(self) -> bool:
        return not any(length for _, _, length in self.properties)


def _header(path: Path, data: bytes) -> tuple[list[_Element], str, int]:
    end = re.search(rb"^end_header[ \t]*\r?\n", data[: 1 << 20], re.MULTILINE)
    if not end:
        raise FormatError(path, "the file is cut off: its header does not end")
    elements: list[_Element] = []
    encoding = ""
    head = data[: end.start()]
    try:
        lines = head.decode().splitlines()
    except UnicodeDecodeError:
        lines = head.decode("latin-1").splitlines()
    for number, line in enumerate(lines, 1):
        words = line.split()
        try:
            if words[:1] == ["format"]:
                encoding = words[1]
            elif words[:1] == ["element"]:
                elements.append(_Element(words[1], int(words[2]), []))
            elif words[:2] == ["property", "list"]:
                elements[-1].properties.append((words[4], _TYPES[words[3]], _TYPES[words[2]]))
            elif words[:1] == ["property"]:
                elements[-1].properties.append((words[2], _TYPES[words[1]], ""))
        except (KeyError, ValueError, IndexError) as error:
            raise FormatError(path, f"its header is not whole here: “{line[:60]}”", line=number) from error
    if encoding not in ("ascii", "binary_little_endian", "binary_big_endian"):
        raise FormatError(path, f"it is stored as “{encoding}”, which the format does not know")
    if any(each.count < 0 or each.count > 8 * len(data) for each in elements):
        raise FormatError(path, f"its header speaks of more elements than fit in {len(data)} bytes")
    return elements, encoding, end.end()


def read(path: Path, params: CloudReadParams, progress: Progress) -> ReadResult:
    """Read points, or faces where there are any.

    Raises
    ------
    FormatError
        If the file is damaged or cut off.
    """
    data = path.read_bytes()
    elements, encoding, at = _header(path, data)
    vertices: dict[str, NDArray[Any]] = {}
    corners = sizes = np.zeros(0, np.int64)
    source = _Text(path, data[at:]) if encoding == "ascii" else _Binary(path, data, at, encoding)
    for element in elements:
        if element.plain:
            rows = source.rows(element)
            if element.name == "vertex":
                vertices = rows
        else:
            found = source.lists(element)
            if element.name == "face":
                corners, sizes = found
        progress.report(0.4, f"reading {path.name}")
    rest = source.rest()
    if not {"x", "y", "z"} <= set(vertices):
        raise FormatError(path, f"the vertices have no x, y and z; there are {', '.join(vertices) or 'none'}")
    xyz = np.column_stack([vertices[axis].astype(np.float64) for axis in "xyz"])
    if len(sizes) and (sizes >= 3).any():
        made = as_told(surfaces(path, [(path.stem, xyz, fans(corners, sizes))], params.up), data[:at])
        return dataclasses.replace(made, findings=(*made.findings, *([longer_than_said(rest)] if rest else [])))
    place, frame = heard(data[:at])
    xyz += place
    good = np.isfinite(xyz).all(axis=1) & (np.abs(xyz) < 1e12).all(axis=1)
    if not good.any():
        raise FormatError(path, "no point has finite coordinates")
    findings = [longer_than_said(rest)] if rest else []
    if not good.all():
        text = f"{count(int((~good).sum()), 'point')} of {spaced(len(xyz))} without finite coordinates: left out."
        findings.append(left_out("not-finite", text))
    attributes = {_name(name): values[good] for name, values in vertices.items() if name not in ("x", "y", "z")}
    cloud = PointSet(name=path.stem, frame=frame, xyz=xyz[good], attributes=attributes)
    cloud, said = filtered(path, cloud, params, progress.part(0.5, 1.0))
    return ReadResult((cloud,), (*findings, *said))


def _name(name: str) -> str:
    known = {"scalar_intensity": "intensity", "scalar_classification": "classification", "class": "classification"}
    return known.get(name.lower(), name)


class _Text:
    """The words of a text file, element after element."""

    def __init__(self, path: Path, body: bytes) -> None:
        self.path = path
        self.stream = io.BytesIO(body)

    def _lines(self, element: _Element) -> list[list[bytes]]:
        lines: list[list[bytes]] = []
        while len(lines) < element.count:
            line = self.stream.readline()
            if not line:
                why = f"the file is cut off: {element.count} of {element.name} are announced, {len(lines)} are there"
                raise FormatError(self.path, why)
            if words := line.split():
                lines.append(words)
        return lines

    def rest(self) -> int:
        """Return how many bytes are left that are no blanks."""
        return len(self.stream.read().strip())

    def rows(self, element: _Element) -> dict[str, NDArray[Any]]:
        lines = self._lines(element)
        width = len(element.properties)
        if any(len(words) < width for words in lines):
            raise FormatError(self.path, f"a row of {element.name} has fewer than {width} numbers")
        # A place that is no number at all is left out later, and counted.
        text = b"\n".join(b" ".join(words[:width]) for words in lines)
        values, wrong = read_words(text, void=True)
        if wrong >= 0:
            shown = text[wrong : wrong + 40].split()[0].decode("latin-1")
            row = text.count(b"\n", 0, wrong) + 1
            raise FormatError(self.path, f"something in {element.name} is not a number: “{shown}” in its row {row}")
        numbers = values.reshape(-1, width)
        with np.errstate(invalid="ignore", over="ignore"):
            return {n: numbers[:, k].astype(t) for k, (n, t, _) in enumerate(element.properties)}

    def lists(self, element: _Element) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
        corners: list[int] = []
        sizes = []
        try:
            for words in self._lines(element):
                place = 0
                for name, _, length in element.properties:
                    if not length:
                        place += 1
                        continue
                    size = int(words[place])
                    if name in ("vertex_indices", "vertex_index"):
                        own = [int(word) for word in words[place + 1 : place + 1 + size]]
                        if len(own) != size:
                            raise FormatError(self.path, "a face has fewer corners than it says")
                        corners += own
                        sizes.append(size)
                    place += 1 + size
        except (ValueError, IndexError) as error:
            raise FormatError(self.path, f"a row of {element.name} cannot be read") from error
        return np.array(corners, np.int64), np.array(sizes, np.int64)


class _Binary:
    """The bytes of a binary file, element after element."""

    def __init__(self, path: Path, data: bytes, at: int, encoding: str) -> None:
        self.path, self.data, self.at = path, data, at
        self.order = "<" if encoding == "binary_little_endian" else ">"

    def _take(self, layout: np.dtype[Any], count: int, what: str) -> NDArray[Any]:
        room = (len(self.data) - self.at) // max(layout.itemsize, 1)
        if room < count:
            raise FormatError(self.path, f"the file is cut off: {count} of {what} are announced, {room} are there")
        rows = np.frombuffer(self.data, layout, count, self.at)
        self.at += count * layout.itemsize
        return rows

    def rest(self) -> int:
        """Return how many bytes are left, but for what fills up a block."""
        return len(self.data[self.at :].strip(b"\0\r\n "))

    def rows(self, element: _Element) -> dict[str, NDArray[Any]]:
        names = [
            f"{name}_{k}" if k and name in [p[0] for p in element.properties[:k]] else name
            for k, (name, _, _) in enumerate(element.properties)
        ]
        layout = np.dtype([(name, self.order + own[1]) for name, own in zip(names, element.properties, strict=True)])
        rows = self._take(layout, element.count, element.name)
        return {name: rows[name].astype(rows[name].dtype.newbyteorder("=")) for name in layout.names or ()}

    def lists(self, element: _Element) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
        uniform = self._uniform(element)
        if uniform is not None:
            return uniform
        corners: list[NDArray[Any]] = []
        sizes = []
        for _ in range(element.count):
            for name, kind, length in element.properties:
                if not length:
                    self._take(np.dtype(self.order + kind), 1, element.name)
                    continue
                size = int(self._take(np.dtype(self.order + length), 1, element.name)[0])
                own = self._take(np.dtype(self.order + kind), max(size, 0), element.name)
                if name in ("vertex_indices", "vertex_index"):
                    corners.append(own)
                    sizes.append(size)
        flat = np.concatenate(corners) if corners else np.zeros(0)
        return flat.astype(np.int64), np.array(sizes, np.int64)

    def _uniform(self, element: _Element) -> tuple[NDArray[np.int64], NDArray[np.int64]] | None:
        """Read faces that all have as many corners as the first, as most files' do."""
        lists = [p for p in element.properties if p[2]]
        if len(lists) != 1 or element.count == 0 or lists[0][0] not in ("vertex_indices", "vertex_index"):
            return None
        before = self.at
        fields: list[Any] = []
        place = 0
        for name, kind, length in element.properties:
            if length:
                own = np.dtype(self.order + length)
                if before + place + own.itemsize > len(self.data):
                    return None
                size = int(np.frombuffer(self.data, own, 1, before + place)[0])
                if not 0 <= size < 1000:
                    return None
                fields += [("#", own), ("#corners", self.order + kind, (size,))]
            else:
                fields.append((name, self.order + kind))
                place += np.dtype(kind).itemsize
        layout = np.dtype(fields)
        if before + layout.itemsize * element.count > len(self.data):
            return None
        rows = np.frombuffer(self.data, layout, element.count, before)
        if (rows["#"] != rows["#"][0]).any():
            return None
        self.at += layout.itemsize * element.count
        return rows["#corners"].astype(np.int64).ravel(), rows["#"].astype(np.int64)


class Encoding(Enum):
    """How numbers are kept."""

    BINARY = "binary"
    TEXT = "text"


@dataclass(frozen=True)
class PlyWriteParams:
    """How the file is written."""

    encoding: Annotated[Encoding, Param("Numbers", "binary: small and exact; text: can be read by people.")] = (
        Encoding.BINARY
    )
    origin: Annotated[Origin, FULL] = NONE


_WORDS = {code: word for word, code in reversed(_TYPES.items())}


def write(datasets: Sequence[Dataset], path: Path, params: PlyWriteParams, progress: Progress) -> None:
    """Write points with their attributes, or vertices and faces; coordinates are of double precision."""
    dataset = datasets[0]
    place = params.origin.said
    if dataset.kind == PointSet.kind:
        points = narrowed(dataset, PointSet)
        xyz, columns = points.xyz, _columns(points)
        triangles = np.zeros((0, 3), np.int32)
    else:
        (xyz, triangles), columns = faces_of(dataset), {}
    text = params.encoding is Encoding.TEXT
    fields = [(axis, "<f8") for axis in "xyz"] + [
        (name, f"<{values.dtype.str[1:]}") for name, values in columns.items()
    ]
    head = [
        "ply",
        f"format {'ascii' if text else 'binary_little_endian'} 1.0",
        f"comment {told(place, dataset.frame.horizontal)}",
        f"element vertex {len(xyz)}",
        *(f"property {_WORDS[code[1:]]} {name}" for name, code in fields),
    ]
    if len(triangles):
        head += [f"element face {len(triangles)}", "property list uchar int vertex_indices"]
    step = 500_000
    with path.open("wb") as file:
        file.write("\n".join([*head, "end_header\n"]).encode())
        for start in range(0, len(xyz), step):
            stop = min(start + step, len(xyz))
            rows = np.zeros(stop - start, np.dtype(fields))
            for k, axis in enumerate("xyz"):
                rows[axis] = xyz[start:stop, k] - place[k]
            for name, values in columns.items():
                rows[name] = values[start:stop]
            if text:
                file.write("".join(" ".join(map(repr, row)) + "\n" for row in rows.tolist()).encode())
            else:
                file.write(rows.tobytes())
            progress.report(0.6 * stop / len(xyz), f"writing {path.name}")
        for start in range(0, len(triangles), step):
            part = triangles[start : start + step]
            faces = np.zeros(len(part), np.dtype([("size", "u1"), ("corner", "<i4", 3)]))
            faces["size"], faces["corner"] = 3, part
            if text:
                np.savetxt(file, np.column_stack((faces["size"], part)), fmt="%d")
            else:
                file.write(faces.tobytes())
            progress.report(0.6 + 0.4 * (start + len(part)) / len(triangles), f"writing {path.name}")


def column(_name: str, values: NDArray[Any], _params: PlyWriteParams) -> tuple[NDArray[Any], str]:
    """Leave out whole numbers that no type of the format holds."""
    if whole_beyond(values, EXACT):
        return values[:0], "whole numbers beyond 2^53, which the format has no type for, left out"
    return as_numbers(values)


def renamed(names: Sequence[str], params: PlyWriteParams) -> dict[str, str]:
    """Return what properties are called: words without blanks, none of them a coordinate's."""
    return different({name: _name("_".join(name.split())) for name in names}, taken="xyz")


def _columns(points: PointSet) -> dict[str, NDArray[Any]]:
    """Return attributes that are numbers, in types that the format has."""
    found = {}
    for name, values in points.attributes.items():
        if values.ndim != 1 or values.dtype.kind not in "iufb":
            continue
        kept = values.astype(np.uint8) if values.dtype.kind == "b" else values
        if kept.dtype.itemsize == 8 and kept.dtype.kind in "iu":
            # The format has no whole numbers of 64 bits; as double precision they are exact up to 2^53.
            kept = kept.astype(np.float64 if whole_beyond(kept, 2**31 - 1) else np.int32)
        if kept.dtype.itemsize == 2 and kept.dtype.kind == "f":
            kept = kept.astype(np.float32)
        found[name] = kept
    called = renamed(list(found), PlyWriteParams())
    return {called[name]: values for name, values in found.items()}


def plan(datasets: Sequence[Dataset], stem: str, params: PlyWriteParams) -> tuple[PlannedFile, ...]:
    """Return a file for each piece."""
    return in_pieces(datasets, stem, ".ply")


def sniff(head: bytes, path: Path) -> int:  # noqa: D103
    return 100 if re.match(rb"ply\r?\n", head) else 0


FORMAT = Format(
    id="ply",
    title="PLY points or mesh",
    used_for="meshes and print",
    suffixes=(".ply",),
    sniff=sniff,
    carries=Carries(kinds=(PointSet, Tin, Mesh), units="one", worded=True, attributes="numbers"),
    read=read,
    column=column,
    renamed=renamed,
    write=write,
    audit=audit,
    write_params=PlyWriteParams,
    weigh=weighing(points=24, vertices=24, triangles=13),
    plan=plan,
    read_params=CloudReadParams,
)
