"""Writing a scene: data, our script, the 3D library and its licence in one page."""

from __future__ import annotations

import base64
import dataclasses
import html
import json
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache
from importlib.resources import files
from pathlib import Path
from typing import Annotated, Any

import numpy as np
from numpy.typing import NDArray

from vastgrid import __version__
from vastgrid.base.findings import Finding, counted
from vastgrid.base.progress import Progress
from vastgrid.base.words import size_words
from vastgrid.data.areas import Areas
from vastgrid.data.dataset import Dataset, Floats
from vastgrid.data.frame import crs_name, ratio_of
from vastgrid.data.kinds import kind_of, narrowed
from vastgrid.data.linework import Contours, Linework
from vastgrid.data.mesh import Mesh
from vastgrid.data.pointset import PointSet
from vastgrid.data.survey import Survey
from vastgrid.data.tin import Tin
from vastgrid.format_support.meshfile import faces_of
from vastgrid.format_support.origin import near
from vastgrid.formats.webscene._fill import fill_of
from vastgrid.measures.heights import heights
from vastgrid.params.declare import Param
from vastgrid.styling import ramps


@dataclass(frozen=True)
class SceneWriteParams:
    """What stands on the page."""

    title: Annotated[str, Param("Title", "What stands at the top of the page.", absent="the name of the ground")] = ""
    note: Annotated[str, Param("Note", "A line for the receiver, under “About”.", absent="nothing")] = ""


# More than this opens slowly on an ordinary telephone.
_LARGE = 12_000_000
# More layers of areas than this are one layer of the page.
_LAYERS = 40
_PLAIN = "Contours"
_CONTOURS = {"Contours": "#b08d57", "Index contours": "#8a5a2b", "Supplementary contours": "#c9b37c"}


@lru_cache(maxsize=1)
def _parts() -> dict[str, str]:
    """Return the files that ship: page, style, script, and the library's."""
    here = files("vastgrid.formats.webscene")
    return {
        **{name: here.joinpath(name).read_text(encoding="utf-8") for name in ("page.html", "scene.css", "scene.js")},
        **{
            name: here.joinpath("three", name).read_text(encoding="utf-8")
            for name in ("three.module.min.js", "three.core.min.js", "OrbitControls.js", "LICENSE", "VERSION")
        },
    }


@lru_cache(maxsize=1)
def library_size() -> float:
    """Return the bytes that a page takes with nothing in it."""
    return sum(len(text) * (1.34 if name.endswith(".js") else 1.0) for name, text in _parts().items())


def seen(vertices: Floats, params: SceneWriteParams) -> Floats:
    """Return coordinates as the page holds them: single precision, told from a whole place near the data."""
    place = near(vertices)
    return (vertices - place).astype(np.float32).astype(np.float64) + place


def given(datasets: Sequence[Dataset], params: SceneWriteParams) -> list[Dataset]:
    """Return what is shown: contours parted at their labels and by what they are, areas by layer, records as lines."""
    out: list[Dataset] = []
    for each in datasets:
        if isinstance(each, Contours):
            shown = each.with_gaps()
            lines = shown.as_lines()
            groups = shown.groups()
            for name, mine in groups:
                title = each.name if len(groups) == 1 or name == _PLAIN else f"{each.name}: {name.lower()}"
                out.append(_as_one(lines.chosen(np.flatnonzero(mine)), title))
        elif isinstance(each, Survey):
            out.append(
                Linework(
                    name=each.name,
                    frame=each.frame,
                    vertices=each.vertices,
                    offsets=each.offsets,
                    layer=np.zeros(len(each), np.int32),
                    layers=(each.name,),
                )
            )
        elif isinstance(each, Areas):
            out += _by_layer(each)
        else:
            out.append(each)
    return out


def _by_layer(areas: Areas) -> list[Dataset]:
    """Return the areas of each layer as a dataset with a colour of its own; all as one where there are too many layers."""
    if len(areas.layers) > _LAYERS:
        return [dataclasses.replace(areas, layer=np.zeros(len(areas), np.int32), layers=(areas.name,), attributes={})]
    found: list[Dataset] = []
    for k, layer in enumerate(areas.layers):
        own = areas.chosen(np.flatnonzero(areas.layer == k))
        title = areas.name if len(areas.layers) == 1 or not layer else f"{areas.name}: {layer}"
        if len(own):
            one = np.zeros(len(own), np.int32)
            found.append(dataclasses.replace(own, name=title, layer=one, layers=(title,), attributes={}))
    return found


def _as_one(lines: Linework, name: str) -> Linework:
    return Linework(
        name=name,
        frame=lines.frame,
        vertices=lines.vertices,
        offsets=lines.offsets,
        layer=np.zeros(len(lines), np.int32),
        layers=(name,),
    )


def says(datasets: Sequence[Dataset], params: SceneWriteParams) -> tuple[Finding, ...]:
    """Return a warning where the page will be heavy."""
    heavy = sum(16 * sum(each.count().values()) for each in datasets if not isinstance(each, Survey))
    if heavy < _LARGE:
        return ()
    text = f"The page will have about {size_words(heavy)}, which opens slowly on small devices; fewer triangles (simplify) make it light."
    return (Finding("heavy-page", text),)


def write(datasets: Sequence[Dataset], path: Path, params: SceneWriteParams, progress: Progress) -> None:
    """Write the page; see `FORMAT`."""
    parts = _parts()
    every = np.concatenate([each.coordinates() for each in datasets])
    known = every[np.isfinite(every[:, 2]), 2]
    place = near(np.nan_to_num(every, nan=float(known.min()) if len(known) else 0.0))
    frame = datasets[0].frame
    ground = next((each for each in datasets if kind_of(each).covers), datasets[0])
    title = params.title or ground.name
    spans = [each.extent().elevation for each in datasets if isinstance(each, Tin)] or [
        each.extent().elevation for each in datasets
    ]
    pairs = [pair for pair in spans if pair]
    low, high = min((p[0] for p in pairs), default=0.0), max((p[1] for p in pairs), default=1.0)
    layers = []
    tins = [each for each in datasets if isinstance(each, Tin)]
    for k, each in enumerate(datasets):
        layers.append(_layer(each, place, k, tins, low))
        progress.report(0.7 * (k + 1) / len(datasets), f"writing {each.name}")
    units = [unit.value if unit else "" for unit in (frame.horizontal, frame.vertical)]
    about = [frame.describe(), f"{counted(len(layers), 'layers')}"]
    scene: dict[str, Any] = {
        "version": 1,
        "origin": list(place),
        "units": {"plan": units[0], "height": units[1]},
        "crs": frame.crs or "",
        "rise": 1.0 / ratio_of(frame),
        "heights": [low, high],
        "ramp": _ramp(),
        "about": " · ".join(about),
        "sources": [
            *([params.note] if params.note else []),
            f"Reference system: {crs_name(frame.crs) or 'none is known'}.",
            f"Coordinates are relative to E {place[0]:.10g}, N {place[1]:.10g}, Z {place[2]:.10g} in single precision.",
            f"Made by Vast Grid {__version__}. Drawn with three.js, MIT licence: {' '.join(parts['LICENSE'].split())}",
        ],
        "layers": layers,
    }
    words = {
        "GENERATOR": f"Vast Grid {__version__}",
        "TITLE": html.escape(title),
        "STYLE": parts["scene.css"],
        "DATA": json.dumps(scene, ensure_ascii=False, separators=(",", ":")).replace("</", "<\\/"),
        "IMPORTS": json.dumps({"imports": _imports(parts)}),
        "SCRIPT": parts["scene.js"],
    }
    page = parts["page.html"]
    with path.open("w", encoding="utf-8", newline="\n") as file:
        for piece in page.split("@@"):
            file.write(words.get(piece, piece))
    progress.report(1.0, f"writing {path.name}")


def _imports(parts: dict[str, str]) -> dict[str, str]:
    """Return the library's modules as data, under the names by which they are imported."""
    # A module that is data knows no folder, so its neighbour is named, not found beside it.
    module = parts["three.module.min.js"].replace("./three.core.min.js", "three-core")
    made = {"three": module, "three-core": parts["three.core.min.js"], "orbit": parts["OrbitControls.js"]}
    return {
        name: "data:text/javascript;base64," + base64.b64encode(text.encode()).decode() for name, text in made.items()
    }


def _ramp() -> list[str]:
    colours = ramps.elevation()
    return ["#" + colours[k].tobytes().hex() for k in np.linspace(0, len(colours) - 1, 17).astype(int).tolist()]


def _packed(values: NDArray[Any], kind: str) -> str:
    return base64.b64encode(np.ascontiguousarray(values, kind).tobytes()).decode()


def _on_ground(xyz: Floats, tins: Sequence[Tin], lowest: float) -> Floats:
    """Return places with those that have no height laid on the first ground below or above them."""
    out = np.array(xyz)
    for tin in tins:
        open_ = np.isnan(out[:, 2])
        if open_.any():
            out[open_, 2] = heights(tin, np.ascontiguousarray(out[open_, :2]))
    out[:, 2] = np.where(np.isnan(out[:, 2]), lowest, out[:, 2])
    return out


def _layer(
    dataset: Dataset, place: tuple[float, float, float], number: int, tins: Sequence[Tin], lowest: float
) -> dict[str, Any]:
    """Return a dataset as the page holds it; what has no height lies on the ground."""
    kind = kind_of(dataset)
    counts = dataset.count()
    colour = "#" + ramps.category(number).tobytes().hex()
    about: dict[str, Any] = {
        "name": dataset.name,
        "counted": counted(counts[kind.counted], kind.counted),
        "colour": colour,
    }
    if isinstance(dataset, Tin | Mesh):
        vertices, triangles = faces_of(dataset)
        about |= {"kind": "surface" if isinstance(dataset, Tin) else "mesh", "corners": _packed(triangles, "<u4")}
        return about | {"places": _packed(vertices - place, "<f4")}
    if isinstance(dataset, PointSet):
        xyz = _on_ground(dataset.xyz, tins, lowest)
        about |= {"kind": "points", "places": _packed(xyz - place, "<f4")}
        classes = dataset.attributes.get("classification")
        if classes is not None and classes.dtype.kind in "iu":
            about["colours"] = _packed(ramps.classes()[np.clip(classes, 0, 255)], "u1")
        return about
    if isinstance(dataset, Areas):
        known = np.isfinite(dataset.vertices[:, 2])
        xyz = _on_ground(dataset.vertices, tins, lowest)
        fill, corners = fill_of(dataset, tins, lowest)
        about |= {"kind": "areas", "places": _packed(xyz - place, "<f4"), "offsets": _packed(dataset.offsets, "<u4")}
        about |= {"parts": _packed(dataset.parts, "<u4"), "members": _packed(dataset.members, "<u4")}
        about |= {"fill": _packed(fill - place, "<f4"), "corners": _packed(corners, "<u4")}
        return about if known.all() else about | {"known": _packed(known, "u1")}
    lines = narrowed(dataset, Linework)
    named = [own for name, own in _CONTOURS.items() if dataset.name.lower().endswith(f": {name.lower()}")]
    about["colour"] = named[0] if named else _CONTOURS[_PLAIN] if "contour" in dataset.name.lower() else colour
    known = np.isfinite(lines.vertices[:, 2])
    xyz = _on_ground(lines.vertices, tins, lowest)
    about |= {"kind": "lines", "places": _packed(xyz - place, "<f4"), "offsets": _packed(lines.offsets, "<u4")}
    return about if known.all() else about | {"known": _packed(known, "u1")}
