"""What the readers of point clouds share: what may be left out on the way in, each with its count, and upward axes."""

from __future__ import annotations

import math
import re
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.errors import FormatError, ParamError
from vastgrid.base.findings import Finding, Severity, count, left_out
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Length, Quantity
from vastgrid.base.words import spaced
from vastgrid.data.dataset import Floats
from vastgrid.data.pointset import PointSet
from vastgrid.format_support.meshfile import Up, upright
from vastgrid.kernels.cells.clouds import thinned
from vastgrid.kernels.triangles.topology import inside_polygon
from vastgrid.params.declare import Param

NEAREST_BLOCK = 500_000


@dataclass(frozen=True)
class CloudReadParams:
    """What is taken from a cloud; everything, unless asked otherwise."""

    classes: Annotated[
        str,
        Param("Classes", "Classes to keep, such as 2 or 2,9 (2 is ground, by the LAS standard).", absent="all"),
    ] = ""
    crop: Annotated[
        str,
        Param(
            "Crop",
            "Area to keep: a box as west,south,east,north, or a polygon as E N, E N, E N.",
            absent="nothing",
            once=True,
        ),
    ] = ""
    reach: Annotated[
        Length | None,
        Param(
            "Farthest from scanner",
            "Points farther from their scanner in space are left out.",
            Quantity.XY_LENGTH,
            above=0,
            absent="any distance",
        ),
    ] = None
    scanner: Annotated[
        str,
        Param("Scanner", "Where the scanner stood, as E,N,Z, where the file does not say.", absent="as in the file"),
    ] = ""
    intensity: Annotated[
        str, Param("Intensity", "Range of intensity to keep, such as 200-5000 or 200-.", absent="any")
    ] = ""
    outliers: Annotated[
        float | None,
        Param(
            "Stray points",
            "Points are left out whose mean distance to their neighbours lies this many standard deviations above the mean.",
            above=0,
            absent="kept",
        ),
    ] = None
    neighbours: Annotated[
        int, Param("Neighbours", "How many neighbours decide whether a point is stray.", least=1, most=100)
    ] = 8
    thin: Annotated[
        Length | None,
        Param(
            "Thin to",
            "No two points stay closer in space than this.",
            Quantity.XY_LENGTH,
            above=0,
            absent="every point",
        ),
    ] = None
    up: Annotated[Up, Param("Upward axis", "z: x is east, y north, z up; y: x is east, y up, z south.")] = Up.Z


def filtered(
    path: Path, cloud: PointSet, params: CloudReadParams, progress: Progress, scanner: Floats | None = None
) -> tuple[PointSet, list[Finding]]:
    """Return a cloud without what was asked to be left out, and a finding for each with its count.

    Parameters
    ----------
    scanner : (3,) or (n, 3) float64 or None
        Where the scanner stood, for all or for each point.

    Raises
    ------
    ParamError
        If an option cannot be read, or names what the cloud does not have.
    FormatError
        If nothing is left.
    """
    findings: list[Finding] = []
    if params.up is Up.Y:
        cloud = PointSet(name=cloud.name, frame=cloud.frame, xyz=upright(cloud.xyz, Up.Y), attributes=cloud.attributes)
        scanner = None if scanner is None else upright(np.atleast_2d(scanner), Up.Y)
    total = len(cloud.xyz)
    keep = np.ones(total, np.bool_)
    for test in (_classes, _crop, _reach, _intensity):
        chosen = test(path, cloud, params, scanner)
        if chosen is not None:
            _tell(keep, keep & chosen[0], total, chosen[1], findings)
            keep &= chosen[0]
        progress.report(0.2)
    if params.outliers is not None and keep.sum() > params.neighbours:
        index = np.flatnonzero(keep)
        stray = index[_stray(cloud.xyz[index], params.outliers, params.neighbours, progress.part(0.2, 0.8))]
        after = keep.copy()
        after[stray] = False
        _tell(keep, after, total, f"stray (over {params.outliers:g} standard deviations)", findings)
        keep = after
    if params.thin is not None:
        spacing = params.thin.in_unit(cloud.frame.horizontal, "thin")
        index = np.flatnonzero(keep)
        after = np.zeros(total, np.bool_)
        after[index[thinned(np.ascontiguousarray(cloud.xyz[index]), spacing)]] = True
        _tell(keep, after, total, f"thinned to {params.thin}", findings)
        keep = after
    progress.report(1.0)
    if not keep.any():
        raise FormatError(path, f"nothing is left of {count(total, 'point')}: {'; '.join(f.text for f in findings)}")
    return (cloud if keep.all() else cloud.chosen(keep)), findings


def chosen(path: Path, cloud: PointSet, params: CloudReadParams) -> NDArray[np.bool_]:
    """Return which points stay by what each says itself, (n,) bool; perhaps none.

    Raises
    ------
    ParamError
        If an option cannot be read, or names what the cloud does not have.
    """
    if params.up is not Up.Z:
        raise ParamError("up", "a cloud read in parts has to have z up; convert the files by themselves first")
    keep = np.ones(len(cloud.xyz), np.bool_)
    for test in (_of_classes, _crop, _reach, _intensity):
        found = test(path, cloud, params, None)
        if found is not None:
            keep &= found[0]
    return keep


def _tell(before: NDArray[np.bool_], after: NDArray[np.bool_], total: int, why: str, findings: list[Finding]) -> None:
    gone = int(before.sum() - after.sum())
    findings.append(
        left_out(
            "points-dropped",
            f"{spaced(gone)} of {spaced(total)} points dropped ({gone / max(total, 1):.1%}): {why}.",
            Severity.NOTE,
        )
    )


Chosen = tuple[NDArray[np.bool_], str] | None


def _classes(path: Path, cloud: PointSet, params: CloudReadParams, _scanner: Floats | None) -> Chosen:
    if not params.classes.strip():
        return None
    found = _of_classes(path, cloud, params, _scanner)
    assert found is not None
    if not found[0].any():
        there = ", ".join(str(k) for k in np.unique(cloud.attributes["classification"]).tolist())
        wanted = ", ".join(map(str, parse_classes(params.classes)))
        raise FormatError(path, f"no point is of class {wanted}; the file has {there}")
    return found


def _of_classes(path: Path, cloud: PointSet, params: CloudReadParams, _scanner: Floats | None) -> Chosen:
    if not params.classes.strip():
        return None
    wanted = parse_classes(params.classes)
    if "classification" not in cloud.attributes:
        raise ParamError("classes", f"the points of {path.name} have no class")
    keep = np.isin(cloud.attributes["classification"], wanted)
    return keep, f"not of class {', '.join(map(str, wanted))}"


def _crop(_path: Path, cloud: PointSet, params: CloudReadParams, _scanner: Floats | None) -> Chosen:
    if not params.crop.strip():
        return None
    ring = parse_area(params.crop)
    x, y = np.ascontiguousarray(cloud.xyz[:, 0]), np.ascontiguousarray(cloud.xyz[:, 1])
    return inside_polygon(x, y, ring), "outside the cropped area"


def _reach(path: Path, cloud: PointSet, params: CloudReadParams, scanner: Floats | None) -> Chosen:
    if params.reach is None:
        return None
    if params.scanner.strip():
        scanner = np.array(_numbers("scanner", params.scanner, 3))
    if scanner is None:
        raise ParamError("reach", f"{path.name} does not say where the scanner stood; give scanner=E,N,Z")
    far = params.reach.in_unit(cloud.frame.horizontal, "reach")
    return ((cloud.xyz - scanner) ** 2).sum(axis=1) <= far * far, f"farther than {params.reach} from the scanner"


def _intensity(path: Path, cloud: PointSet, params: CloudReadParams, _scanner: Floats | None) -> Chosen:
    if not params.intensity.strip():
        return None
    found = re.fullmatch(r"\s*([\d.eE+]*)\s*[-…]\s*([\d.eE+]*)\s*", params.intensity)
    try:
        low, high = (float(found[k]) if found and found[k] else end for k, end in ((1, -math.inf), (2, math.inf)))
    except ValueError:
        found = None
    if not found or not (found[1] or found[2]):
        raise ParamError("intensity", f"“{params.intensity}” is not a range such as 200-5000 or 200-")
    if "intensity" not in cloud.attributes:
        raise ParamError("intensity", f"the points of {path.name} have no intensity")
    values = cloud.attributes["intensity"]
    return (values >= low) & (values <= high), f"intensity outside {params.intensity.strip()}"


def _stray(xyz: Floats, times: float, neighbours: int, progress: Progress) -> NDArray[np.int64]:
    """Return the points whose mean distance to their nearest neighbours is far above the mean of all."""
    from scipy.spatial import cKDTree

    local = xyz - xyz.mean(axis=0)
    tree = cKDTree(local)
    mean = np.zeros(len(local))
    for start in range(0, len(local), NEAREST_BLOCK):
        part = local[start : start + NEAREST_BLOCK]
        distance = tree.query(part, neighbours + 1, workers=-1)[0]
        mean[start : start + len(part)] = distance[:, 1:].mean(axis=1)
        progress.report((start + len(part)) / len(local), "looking for stray points")
    return np.flatnonzero(mean > mean.mean() + times * mean.std())


def parse_classes(text: str) -> list[int]:
    """Read “2,9”.

    Raises
    ------
    ParamError
        If it is not whole numbers from 0 to 255 separated by commas.
    """
    words = [word.strip() for word in text.split(",") if word.strip()]
    if not all(re.fullmatch(r"\d{1,3}", word) and int(word) < 256 for word in words):
        raise ParamError("classes", f"“{text}” is not a list of classes such as 2 or 2,9")
    return [int(word) for word in words]


def parse_area(text: str) -> Floats:
    """Read “W,S,E,N” or “E N, E N, E N” as a closed ring of at least three corners, (n, 2), the first repeated.

    Raises
    ------
    ParamError
        If it is neither.
    """
    pairs = [part.split() for part in text.split(",") if part.strip()]
    if len(pairs) == 4 and all(len(pair) == 1 for pair in pairs):
        west, south, east, north = _numbers("crop", text, 4)
        if not (west < east and south < north):
            raise ParamError("crop", f"“{text}” is not a box: west has to be less than east, south less than north")
        return np.array([(west, south), (east, south), (east, north), (west, north), (west, south)])
    if len(pairs) >= 3 and all(len(pair) == 2 for pair in pairs):
        ring = np.array(_numbers("crop", " ".join(" ".join(pair) for pair in pairs), 2 * len(pairs))).reshape(-1, 2)
        return ring if (ring[0] == ring[-1]).all() else np.vstack((ring, ring[:1]))
    raise ParamError("crop", f"“{text}” is neither west,south,east,north nor corners as E N, E N, E N")


def _numbers(name: str, text: str, count: int) -> list[float]:
    try:
        values = [float(word) for word in re.split(r"[,\s]+", text.strip())]
    except ValueError:
        values = []
    if len(values) != count or not all(math.isfinite(value) for value in values):
        raise ParamError(name, f"“{text}” is not {count} numbers")
    return values
