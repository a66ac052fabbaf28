"""Writing a file, reading it back from disk, and comparing it with what was sent."""

from __future__ import annotations

import dataclasses
import time
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from vastgrid.base.errors import CallError, DataError, WriteError
from vastgrid.base.files import replacing
from vastgrid.base.findings import Finding, note
from vastgrid.base.progress import Progress, Silent
from vastgrid.base.quantities import Unit
from vastgrid.terrain.compare import difference
from vastgrid.terrain.dataset import Dataset, Extent, span
from vastgrid.terrain.fileformat import Carries, Format, losses
from vastgrid.terrain.grid import Grid
from vastgrid.terrain.linework import Contours, Linework
from vastgrid.terrain.pointset import PointSet
from vastgrid.terrain.reproject import geographic, utm_zone
from vastgrid.terrain.survey import Survey
from vastgrid.terrain.tin import Tin
from vastgrid.terrain.units import in_units


@dataclass(frozen=True, slots=True)
class Check:
    """One thing that was compared after reading back."""

    what: str
    sent: str
    read: str
    good: bool


@dataclass(frozen=True, slots=True)
class Delivery:
    """What was written, and what reading it back showed.

    Attributes
    ----------
    path : Path
        The file.
    format : str
        Id of its format.
    size : int
        Bytes.
    checks : tuple of Check
        Counts, extents, units.
    vertical, plan : float or None
        Largest difference of any height, and of any easting or northing; None where they cannot be paired.
    unit : str
        Unit of both, empty where unknown.
    findings : tuple of Finding
        What the file could not hold, and what reading it noticed.
    seconds : float
        Time for writing and reading.
    """

    path: Path
    format: str
    size: int
    checks: tuple[Check, ...]
    vertical: float | None
    plan: float | None
    unit: str
    findings: tuple[Finding, ...]
    seconds: float

    @property
    def good(self) -> bool:
        """Whether everything compared agrees."""
        return all(check.good for check in self.checks)

    def sentence(self) -> str:
        """Return the outcome in one sentence."""
        size = f"{self.size / 1e6:.1f} MB" if self.size >= 100_000 else f"{self.size / 1e3:.1f} kB"
        if self.vertical is None:
            gap = "heights could not be paired"
        else:
            unit = f" {self.unit}" if self.unit else ""
            gap = f"largest difference in height {self.vertical:.6f}{unit}, in plan {self.plan or 0.0:.6f}{unit}"
        bad = [check.what for check in self.checks if not check.good]
        state = f"but {', '.join(bad)} differ" if bad else "counts, extents and units agree"
        return f"{self.path.name}: {size} written and read back; {state}; {gap}."

    def to_json(self) -> dict[str, Any]:
        """Return plain values."""
        values = dataclasses.asdict(self)
        values["path"] = str(self.path)
        values["findings"] = [finding.to_json() for finding in self.findings]
        values["good"] = self.good
        return values

    @staticmethod
    def from_json(values: dict[str, Any]) -> Delivery:
        """Return the delivery that `to_json` gave."""
        own = {field.name: values[field.name] for field in dataclasses.fields(Delivery)}
        own["path"] = Path(own["path"])
        own["checks"] = tuple(Check(**check) for check in own["checks"])
        own["findings"] = tuple(Finding.from_json(finding) for finding in own["findings"])
        return Delivery(**own)


def prepared(
    datasets: Sequence[Dataset],
    target: Format,
    params: Any,
    units: tuple[Unit | None, Unit | None],
    findings: list[Finding],
) -> list[Dataset]:
    """Return what will be written: what the format can hold, in the units asked for; say what stays behind.

    Raises
    ------
    CallError
        If nothing can be written, or units are asked for that cannot be had.
    """
    carries = target.carries_with(params)
    able = [each for each in datasets if isinstance(each, carries.kinds)]
    for each in datasets:
        if each not in able:
            findings.append(
                Finding("kind-not-carried", f"{target.title} cannot hold {each.title}: {each.name} was left out.")
            )
    if not able:
        kinds = ", ".join(kind.title for kind in carries.kinds)
        raise CallError(f"{target.title} holds {kinds}; there is none to write")
    if len(able) > 1 and not carries.several:
        left = ", ".join(each.name for each in able[1:])
        findings.append(
            Finding("one-dataset", f"{target.title} holds one dataset: {able[0].name} was written, not {left}.")
        )
        able = able[:1]
    if carries.geographic:
        able = [_geographic(each, findings) for each in able]
        units = (None, None)
    for each in able:
        if (carries.unit_needed or carries.units == "one") and each.frame.horizontal is Unit.DEGREE:
            extent = each.extent()
            zone = utm_zone(sum(extent.east) / 2, sum(extent.north) / 2) if extent.east and extent.north else "…"
            raise CallError(
                f"{each.name} is in degrees; {target.title} needs coordinates on a grid, in a unit of length. "
                f"Bring it into one first: --via reproject crs={zone}"
            )
    out = [_converted(each, carries.units, units, target, findings) for each in able]
    for each in out:
        if carries.unit_needed and each.frame.horizontal is None:
            raise CallError(
                f"{target.title} has to say its unit, and that of {each.name} is unknown; say it with --from-units (m, ft, us-ft)"
            )
        findings += losses(each, carries)
    return _with_own_names(out, findings)


def _geographic(dataset: Dataset, findings: list[Finding]) -> Dataset:
    moved, said = geographic(dataset, Silent())
    findings += said
    findings.append(
        note("reprojected", f"{dataset.name} goes out in longitude and latitude of WGS 84, heights in metres.")
    )
    return moved


def _converted(
    dataset: Dataset,
    carried: str,
    units: tuple[Unit | None, Unit | None],
    target: Format,
    findings: list[Finding],
) -> Dataset:
    plan, height = units
    frame = dataset.frame
    if carried == "one":
        wanted = plan or frame.horizontal
        if height and wanted and height is not wanted:
            raise CallError(
                f"{target.title} has one unit for plan and height; {wanted.title} and {height.title} were asked for"
            )
        if wanted and frame.vertical and frame.vertical is not wanted:
            if height is None:
                text = f"{target.title} has one unit for plan and height: heights were brought from {frame.vertical.title} to {wanted.title}."
                findings.append(note("heights-follow", text))
            height = wanted
        elif wanted and frame.vertical is None and plan and plan is not frame.horizontal:
            raise CallError(
                f"the height unit of {dataset.name} is unknown, so heights cannot follow into {wanted.title}; say it with --from-vertical-units"
            )
    return in_units(dataset, plan, height)


def _with_own_names(datasets: list[Dataset], findings: list[Finding]) -> list[Dataset]:
    taken: set[str] = set()
    out = []
    for each in datasets:
        name, number = each.name, 2
        while name in taken:
            name, number = f"{each.name} {number}", number + 1
        if name != each.name:
            findings.append(note("renamed", f"A second {each.name} was written as {name}."))
        taken.add(name)
        out.append(each.renamed(name) if name != each.name else each)
    return out


def deliver(
    datasets: Sequence[Dataset],
    path: Path,
    target: Format,
    params: Any,
    progress: Progress,
    units: tuple[Unit | None, Unit | None] = (None, None),
) -> Delivery:
    """Write datasets to a file, read it back from disk and compare, all before the file gets its name.

    Raises
    ------
    CallError
        If the format cannot hold this, or units are missing.
    WriteError
        If the system refuses; nothing is left behind.
    """
    began = time.perf_counter()
    if target.write is None or target.read is None:
        raise CallError(f"{target.title} can be read but not written")
    findings: list[Finding] = []
    sent = prepared(datasets, target, params, units, findings)
    with replacing(path) as temporary:
        target.write(sent, temporary, params, progress.part(0.0, 0.6))
        size = temporary.stat().st_size
        try:
            back = target.read(temporary, target.read_params(), progress.part(0.6, 0.9))
        except DataError as error:
            raise WriteError(f"{path} was not written: what was written could not be read back ({error})") from error
        progress.report(0.9, "comparing")
        checks, vertical, plan = compare(sent, list(back.datasets), target, params, progress)
        findings += [finding for finding in back.findings if finding.code not in _EXPECTED]
    unit = sent[0].frame.vertical
    return Delivery(
        path=path,
        format=target.id,
        size=size,
        checks=tuple(checks),
        vertical=vertical,
        plan=plan,
        unit=unit.value if unit else "",
        findings=tuple(findings),
        seconds=time.perf_counter() - began,
    )


# Said of every file of the kind, so it says nothing about this one.
_EXPECTED = {"columns-guessed", "faces-turned"}


def compare(
    sent: Sequence[Dataset], back: list[Dataset], target: Format, params: Any, progress: Progress
) -> tuple[list[Check], float | None, float | None]:
    """Pair what was sent with what was read, and return the checks and the largest differences."""
    checks: list[Check] = []
    vertical: list[float] = []
    plan: list[float] = []
    paired = True
    carries = target.carries_with(params)
    for each in sent:
        found = _counterpart(each, back)
        label = f"{each.name}: " if len(sent) > 1 else ""
        if found is None:
            checks.append(Check(each.name, each.title, "nothing", False))
            paired = False
            continue
        gap = _gaps(each, found, carries, checks, label, progress)
        if gap is None:
            paired = False
        else:
            plan.append(gap[0])
            vertical.append(gap[1])
        _check_frame(each, found, carries, checks)
    return checks, max(vertical) if paired and vertical else None, max(plan) if paired and plan else None


def _counterpart(sent: Dataset, back: list[Dataset]) -> Dataset | None:
    """Return what was read that stands for what was sent; lines are pooled by files that know no contours."""
    kinds: tuple[type[Dataset], ...] = (Linework,) if isinstance(sent, Contours | Linework) else (type(sent),)
    able = [each for each in back if isinstance(each, kinds)]
    if not able and isinstance(sent, Contours):
        able = [each for each in back if isinstance(each, Contours)]
    if not able:
        return None
    same = [each for each in able if each.count() == sent.count()]
    named = [each for each in same if each.name.endswith(sent.name)]
    return (named or same or able)[0]


def _check_counts(sent: Dataset, read: Dataset, checks: list[Check], label: str) -> bool:
    names = {"triangles": "triangles", "points": "points", "lines": "lines", "rows": "rows", "columns": "columns"}
    good = True
    for name, value in sent.count().items():
        if name in names:
            other = read.count().get(name, 0)
            checks.append(Check(f"{label}{name}", str(value), str(other), value == other))
            good &= value == other
    return good


def _gaps(
    sent: Dataset, read: Dataset, carries: Carries, checks: list[Check], label: str, progress: Progress
) -> tuple[float, float] | None:
    """Return the largest difference in plan and in height, corner by corner; None where they cannot be paired."""
    if isinstance(sent, Survey) and isinstance(read, Survey):
        return _record_gaps(sent, read, carries, checks, label)
    same = _check_counts(sent, read, checks, label)
    _check_extent(_ground_extent(sent), _ground_extent(read), carries.step, checks, label)
    if not same:
        return None
    if isinstance(sent, Tin) and isinstance(read, Tin):
        gap = _largest(_turned(sent).reshape(-1, 3), _turned(read).reshape(-1, 3))
        # Corner order or merging may differ without the ground differing.
        return gap if gap[1] < 1.0 and gap[0] < 1.0 else (0.0, difference(sent, read, progress).largest)
    if isinstance(sent, Grid) and isinstance(read, Grid):
        if (np.isnan(sent.heights) != np.isnan(read.heights)).any():
            checks.append(Check(f"{label}cells without height", "as sent", "others", False))
            return None
        place = max(abs(sent.west - read.west), abs(sent.north - read.north))
        return place, float(np.nanmax(np.abs(sent.heights - read.heights), initial=0.0))
    if isinstance(sent, Contours | Linework) and isinstance(read, Linework | Contours):
        first = sent.as_lines() if isinstance(sent, Contours) else sent
        second = read.as_lines() if isinstance(read, Contours) else read
        return _line_gaps(first, second, sent.index if isinstance(sent, Contours) else sent.layer)
    assert isinstance(sent, PointSet)
    assert isinstance(read, PointSet)
    return _largest(sent.xyz, read.xyz)


def _record_gaps(
    sent: Survey, read: Survey, carries: Carries, checks: list[Check], label: str
) -> tuple[float, float] | None:
    """Compare records by role and name: every number of their geometry and profiles."""
    there = {(record.role, record.name): record for record in read.records()}
    own = [record for record in sent.records() if record.role in carries.roles]
    found = [(record, there.get((record.role, record.name))) for record in own]
    good = sum(other is not None for _, other in found)
    checks.append(Check(f"{label}records", str(len(own)), str(good), good == len(own)))
    largest = 0.0
    for record, other in found:
        if other is None:
            return None
        geometry = record.exact.get("geometry")
        parts = [(record.exact.get("profile", []), other.exact.get("profile", []))]
        parts.append(
            (geometry, other.exact.get("geometry")) if geometry else (record.line.tolist(), other.line.tolist())
        )
        for one, two in parts:
            first, second = _flattened(one), _flattened(two)
            if len(first) != len(second):
                checks.append(Check(f"{label}{record.name}", f"{len(first)} numbers", str(len(second)), False))
                return None
            largest = max([largest, *(abs(a - b) for a, b in zip(first, second, strict=True) if a == a and b == b)])
    return largest, largest


def _flattened(value: Any) -> list[float]:
    """Return every number in plain values, in a fixed order."""
    if isinstance(value, dict):
        return [number for key in sorted(value) for number in _flattened(value[key])]
    if isinstance(value, list):
        return [number for part in value for number in _flattened(part)]
    return [float(value)] if isinstance(value, int | float) else []


def _turned(tin: Tin) -> np.ndarray[Any, np.dtype[np.float64]]:
    """Return corners with each triangle begun at its westernmost, so that turned triangles agree."""
    corner = tin.corners()
    start = np.lexsort((corner[:, :, 1], corner[:, :, 0]), axis=1)[:, 0] if len(corner) else np.zeros(0, int)
    turn = (start[:, None] + np.arange(3)) % 3
    return np.take_along_axis(corner, turn[:, :, None], axis=1)


def _line_gaps(sent: Linework, read: Linework, layer: Any) -> tuple[float, float] | None:
    """Pair lines in their order, or grouped by layer as drawings are written; the pairing that fits best counts."""
    found = []
    for order in (np.arange(len(sent)), np.argsort(layer, kind="stable")):
        moved = sent.chosen(order)
        if np.array_equal(moved.offsets, read.offsets):
            found.append(_largest(moved.vertices, read.vertices))
    return min(found, default=None)


def _largest(sent: Any, read: Any) -> tuple[float, float]:
    if len(sent) == 0:
        return 0.0, 0.0
    known = np.isfinite(sent[:, 2])
    heights = np.abs(sent[known, 2] - read[known, 2])
    return float(np.abs(sent[:, :2] - read[:, :2]).max()), float(heights.max(initial=0.0))


def _ground_extent(dataset: Dataset) -> Extent:
    """Return a dataset's extent; of a TIN that of its triangles, since points of invisible faces are no ground."""
    if not isinstance(dataset, Tin):
        return dataset.extent()
    used = np.zeros(len(dataset.vertices), np.bool_)
    used[dataset.triangles.ravel()] = True
    xyz = dataset.vertices if used.all() else dataset.vertices[used]
    return Extent(span(xyz[:, 0]), span(xyz[:, 1]), span(xyz[:, 2]))


def _check_extent(sent: Extent, read: Extent, step: float, checks: list[Check], label: str) -> None:
    for name in ("east", "north", "elevation"):
        one, other = getattr(sent, name), getattr(read, name)
        if one is None:
            continue
        words = [f"{pair[0]:.3f} … {pair[1]:.3f}" if pair else "none" for pair in (one, other)]
        # Half of what coordinates are rounded to, and single precision of a raster's heights.
        slack = max(1e-3, 0.501 * step) + 1e-7 * max(abs(one[0]), abs(one[1]))
        good = other is not None and all(abs(a - b) <= slack for a, b in zip(one, other, strict=True))
        checks.append(Check(f"{label}{name}", words[0], words[1], good))


def _check_frame(sent: Dataset, read: Dataset, carries: Carries, checks: list[Check]) -> None:
    for what, one, other, carried in (
        ("plan unit", sent.frame.horizontal, read.frame.horizontal, carries.units != "none"),
        ("height unit", sent.frame.vertical, read.frame.vertical, carries.units in ("one", "both")),
    ):
        if carried and one is not None:
            checks.append(Check(what, one.title, other.title if other else "unknown", one is other))
