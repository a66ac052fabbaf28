"""Writing IFC terrain: triangulated faces in a site, placed on the map by a map conversion."""

from __future__ import annotations

import datetime
import uuid
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from enum import Enum
from pathlib import Path
from typing import Annotated, Any, BinaryIO

import numpy as np
from numpy.typing import NDArray

from vastgrid import __version__
from vastgrid.base.progress import Progress
from vastgrid.data.dataset import Dataset, Floats
from vastgrid.data.frame import Frame, crs_name, epsg_code
from vastgrid.data.kinds import of_kind
from vastgrid.data.tin import Tin
from vastgrid.format_support.meshfile import faces_of
from vastgrid.format_support.origin import AUTO, Origin, near
from vastgrid.kernels.text.textrows import RowTemplate
from vastgrid.params.declare import Param


class Schema(Enum):
    """Version of the schema."""

    IFC4 = "IFC4"
    IFC4X3 = "IFC4X3"


@dataclass(frozen=True)
class IfcWriteParams:
    """How the model is written."""

    schema: Annotated[
        Schema, Param("Schema", "IFC4 is read by most; IFC4X3 knows terrain as an irregular network with breaklines.")
    ] = Schema.IFC4
    origin: Annotated[
        Origin,
        Param(
            "Origin",
            "Local origin on the map, subtracted from the model's coordinates, as E,N,Z; none: full size; auto: near the data.",
        ),
    ] = AUTO
    decimals: Annotated[int, Param("Decimals", "Decimals of every coordinate.", least=0, most=9)] = 4


_DIGITS = "0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz_$"


def _id() -> str:
    """Return a new identifier in the form of the standard: 128 bits as 22 digits to the base 64."""
    number, out = uuid.uuid4().int, ""
    for _ in range(22):
        number, digit = divmod(number, 64)
        out = _DIGITS[digit] + out
    return out


def _text(text: str) -> str:
    """Return a string as ISO 10303-21 writes it: quotes doubled, letters beyond ASCII as hexadecimal."""
    out = []
    for letter in text:
        if letter == "'":
            out.append("''")
        elif letter == "\\":
            out.append("\\\\")
        elif " " <= letter <= "~":
            out.append(letter)
        else:
            code = letter.encode("utf-16-be").hex().upper()
            out.append(f"\\X2\\{code}\\X0\\")
    return "'" + "".join(out) + "'"


def write(datasets: Sequence[Dataset], path: Path, params: IfcWriteParams, progress: Progress) -> None:
    """Write each surface as a geographic element of terrain, in metres."""
    parts = [faces_of(each) for each in datasets]
    every = np.concatenate([vertices for vertices, _ in parts])
    place = near(every) if params.origin.auto else params.origin.said
    later = params.schema is Schema.IFC4X3
    with path.open("wb") as file:
        file.write(_head(path.name, "IFC4X3_ADD2" if later else "IFC4").encode())
        file.write("".join(f"{line}\n" for line in _frame(datasets[0].frame, place)).encode())
        number = _FIRST
        elements = []
        for k, (each, (vertices, triangles)) in enumerate(zip(datasets, parts, strict=True)):
            part = progress.part(k / len(parts), (k + 1) / len(parts))
            breaks = of_kind([each], Tin)[0].constrained if later and each.kind == Tin.kind else None
            number = _surface(file, number, each.name, vertices - place, triangles, params, breaks, part)
            elements.append(number - 1)
        listed = ",".join(f"#{each}" for each in elements)
        file.write(f"#{number}=IFCRELCONTAINEDINSPATIALSTRUCTURE('{_id()}',$,$,$,({listed}),#{_SITE});\n".encode())
        file.write(b"ENDSEC;\nEND-ISO-10303-21;\n")


_SITE, _CONTEXT, _BODY, _PLACEMENT, _FIRST = 14, 9, 10, 13, 20


def _head(name: str, schema: str) -> str:
    now = datetime.datetime.now().replace(microsecond=0).isoformat()
    return (
        "ISO-10303-21;\nHEADER;\nFILE_DESCRIPTION(('ViewDefinition [ReferenceView]'),'2;1');\n"
        f"FILE_NAME({_text(name)},'{now}',(''),(''),'Vast Grid {__version__}','Vast Grid {__version__}','');\n"
        f"FILE_SCHEMA(('{schema}'));\nENDSEC;\nDATA;\n"
    )


def _frame(frame: Frame, place: tuple[float, float, float]) -> Iterator[str]:
    """Yield project, units, context, map conversion and site."""
    code = epsg_code(frame.crs) if frame.crs else None
    name = f"EPSG:{code}" if code else crs_name(frame.crs) or "Local grid"
    yield "#1=IFCSIUNIT(*,.LENGTHUNIT.,$,.METRE.);"
    yield "#2=IFCSIUNIT(*,.AREAUNIT.,$,.SQUARE_METRE.);"
    yield "#3=IFCSIUNIT(*,.VOLUMEUNIT.,$,.CUBIC_METRE.);"
    yield "#4=IFCSIUNIT(*,.PLANEANGLEUNIT.,$,.RADIAN.);"
    yield "#5=IFCUNITASSIGNMENT((#1,#2,#3,#4));"
    yield "#6=IFCCARTESIANPOINT((0.,0.,0.));"
    yield "#7=IFCDIRECTION((0.,1.));"
    yield "#8=IFCAXIS2PLACEMENT3D(#6,$,$);"
    yield f"#{_CONTEXT}=IFCGEOMETRICREPRESENTATIONCONTEXT($,'Model',3,1.E-05,#8,#7);"
    yield f"#{_BODY}=IFCGEOMETRICREPRESENTATIONSUBCONTEXT('Body','Model',*,*,*,*,#{_CONTEXT},$,.MODEL_VIEW.,$);"
    yield f"#11=IFCPROJECTEDCRS({_text(name)},$,$,$,$,$,#1);"
    east, north, up = (_number(value) for value in place)
    yield f"#12=IFCMAPCONVERSION(#{_CONTEXT},#11,{east},{north},{up},1.,0.,1.);"
    yield f"#{_PLACEMENT}=IFCLOCALPLACEMENT($,#8);"
    yield f"#{_SITE}=IFCSITE('{_id()}',$,'Site',$,$,#{_PLACEMENT},$,$,.ELEMENT.,$,$,$,$,$);"
    yield f"#15=IFCPROJECT('{_id()}',$,'Terrain',$,$,$,$,(#{_CONTEXT}),#5);"
    yield f"#16=IFCRELAGGREGATES('{_id()}',$,$,$,#15,(#{_SITE}));"


def _number(value: float) -> str:
    """Return a real as the standard writes it: with a point."""
    text = repr(float(value))
    return text.upper().replace("E", ".E", 1) if "e" in text and "." not in text else text.upper()


def _surface(
    file: BinaryIO,
    number: int,
    name: str,
    vertices: Floats,
    triangles: NDArray[np.int32],
    params: IfcWriteParams,
    breaks: NDArray[np.bool_] | None,
    progress: Progress,
) -> int:
    """Write one surface; return the number that is free after it, its element being the one before."""
    # An attribute more since IFC4X1: tags of points.
    more = ",$" if params.schema is Schema.IFC4X3 else ""
    file.write(f"#{number}=IFCCARTESIANPOINTLIST3D((".encode())
    _joined(file, RowTemplate("({},{},{}),\n", (params.decimals,) * 3), list(vertices.T), params.decimals)
    file.write(f"){more});\n".encode())
    progress.report(0.5, f"writing {name}")
    kind = "IFCTRIANGULATEDFACESET" if breaks is None else "IFCTRIANGULATEDIRREGULARNETWORK"
    file.write(f"#{number + 1}={kind}(#{number},$,$,(".encode())
    _joined(file, RowTemplate("({},{},{}),\n", (0, 0, 0)), list((triangles + 1).T), 1)
    if breaks is None:
        file.write(b"),$);\n")
    else:
        # Edges 1, 2 and 3 that are breaklines are told by bits (IFC 4.3, IfcTriangulatedIrregularNetwork; from memory).
        flags = breaks @ np.array([1, 2, 4])
        file.write(b"),$,(")
        _joined(file, RowTemplate("{},", (0,)), [flags.astype(np.int64)], 1)
        file.write(b"));\n")
    file.write(
        f"#{number + 2}=IFCSHAPEREPRESENTATION(#{_BODY},'Body','Tessellation',(#{number + 1}));\n"
        f"#{number + 3}=IFCPRODUCTDEFINITIONSHAPE($,$,(#{number + 2}));\n"
        f"#{number + 4}=IFCLOCALPLACEMENT(#{_PLACEMENT},#8);\n"
        f"#{number + 5}=IFCGEOGRAPHICELEMENT('{_id()}',$,{_text(name)},$,$,#{number + 4},#{number + 3},$,.TERRAIN.);\n".encode()
    )
    progress.report(1.0, f"writing {name}")
    return number + 6


def _joined(file: BinaryIO, template: RowTemplate, columns: list[Any], decimals: int) -> None:
    """Write rows that end in a comma, the last without; a real without decimals still gets its point."""
    held = b""
    for block in template.blocks(columns):
        file.write(held)
        held = bytes(block)
    file.write(held.rstrip(b",\n"))
