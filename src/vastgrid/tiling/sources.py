"""Many files as one: what their headers tell, how they fit together, and their data on any ground."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from vastgrid import catalog
from vastgrid.base.errors import CallError, DataError, FormatError
from vastgrid.base.findings import Finding, count, note
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import square_word
from vastgrid.base.words import spaced
from vastgrid.data.dataset import Dataset
from vastgrid.data.frame import Frame, crs_name, height_system, same_place, turned_axes
from vastgrid.data.grid import Grid
from vastgrid.data.outline import Box, CellOutline, PointOutline, Window, joined
from vastgrid.data.pointset import PointSet
from vastgrid.declarations.fileformat import Format
from vastgrid.params import declare

# Cells of two rasters lie on one lattice where they are off by less than this share of a cell.
OFF = 1e-3
# So many files that do not belong to data lie in a folder unmentioned by name.
NAMED = 5
# Suffixes that reports and lists of anything have.
ANY_TEXT = {".csv", ".txt", ".tsv", ".dat", ".pts", ".pnt"}


@dataclass(frozen=True, slots=True)
class SourceFile:
    """One file of a source.

    Attributes
    ----------
    path : str
        Where it is, in full.
    format : str
        Id of its format.
    words : dict
        Its reading options.
    outline : PointOutline or CellOutline
        What its header tells.
    columns : tuple of str
        Names of its points' attributes.
    size, changed : int
        Bytes, and when it was last changed, in nanoseconds.
    """

    path: str
    format: str
    words: dict[str, str]
    outline: PointOutline | CellOutline
    columns: tuple[str, ...]
    size: int
    changed: int

    @property
    def name(self) -> str:
        """Its name without folders."""
        return Path(self.path).name

    def part(self, which: tuple[int, int] | Window, columns: Sequence[str] | None) -> Dataset:
        """Return a part of it: points by number, or a window of cells.

        Raises
        ------
        VastGridError
            If it cannot be read there.
        """
        kind = catalog.format_named(self.format)
        assert kind.part is not None
        try:
            found = kind.part(Path(self.path), declare.build(kind.read_params, self.words), which, columns)
        except OSError as error:
            raise FormatError(self.path, f"it cannot be read: {error.strerror or error}") from error
        return found.in_frame(self.outline.frame)


@dataclass(frozen=True, slots=True)
class Files:
    """Files that are one cloud, or one grid.

    Attributes
    ----------
    files : tuple of SourceFile
        In the order in which they count.
    outline : PointOutline or CellOutline
        Of all together.
    """

    files: tuple[SourceFile, ...]
    outline: PointOutline | CellOutline

    @property
    def columns(self) -> tuple[str, ...]:
        """Attributes that the points of every file have."""
        common = set(self.files[0].columns).intersection(*(each.columns for each in self.files[1:]))
        return tuple(name for name in self.files[0].columns if name in common)

    def readable_grid(self, box: Box) -> tuple[Grid, list[str]]:
        """Return the cells that cover a box, and what could not be read; of several files the first with a height counts.

        Raises
        ------
        DataError
            If no cell lies there.
        """
        whole = self.outline
        assert isinstance(whole, CellOutline)
        window = whole.window(box)
        heights = np.full((window.rows, window.columns), np.nan)
        inner, faults = whole.box(window), []
        for each in self.files:
            own = each.outline
            assert isinstance(own, CellOutline)
            if not own.box().meets(inner):
                continue
            top, left = round((whole.north - own.north) / whole.dy), round((own.west - whole.west) / whole.dx)
            rows = _common(window.top, window.rows, top, own.rows)
            columns = _common(window.left, window.columns, left, own.columns)
            if not rows or not columns:
                continue
            try:
                part = each.part(Window(rows.start - top, columns.start - left, len(rows), len(columns)), ())
            except FormatError as error:
                faults.append(str(error))
                continue
            assert isinstance(part, Grid)
            into = heights[
                rows.start - window.top : rows.stop - window.top,
                columns.start - window.left : columns.stop - window.left,
            ]
            missing = np.isnan(into)
            into[missing] = part.heights[missing]
        return whole.grid(window, heights), faults


def _common(first: int, number: int, other: int, more: int) -> range:
    """Return what two stretches of whole numbers have in common."""
    return range(max(first, other), min(first + number, other + more))


@dataclass(slots=True)
class Looked:
    """What looking at headers gave: the files that can be read, and what was noticed."""

    files: list[SourceFile] = field(default_factory=list)
    findings: list[Finding] = field(default_factory=list)


def _whole_suffixes() -> tuple[str, ...]:
    """Return the suffixes of rasters and clouds that cannot be read in parts; those of any text may be something else."""
    kinds = ({Grid}, {PointSet})
    whole = [each for each in catalog.FORMATS if each.head is None and set(each.carries.kinds) in kinds and each.read]
    return tuple({suffix for each in whole for suffix in each.suffixes} - ANY_TEXT)


def files_in(paths: Iterable[Path], findings: list[Finding]) -> list[Path]:
    """Return files, folders replaced by the files in them that can be read in parts, by name.

    Raises
    ------
    CallError
        If a folder holds none, or terrain that cannot be read in parts beside them: part of the ground would be missing.
    """
    suffixes = {suffix for each in catalog.FORMATS if each.head is not None for suffix in each.suffixes}
    found: list[Path] = []
    for path in paths:
        if not path.is_dir():
            found.append(path)
            continue
        inside = sorted(each for each in path.iterdir() if each.is_file() and not each.name.startswith("."))
        able = [each for each in inside if each.name.lower().endswith(tuple(suffixes))]
        if not able:
            raise CallError(f"{path}: none of its files ends in {', '.join(sorted(suffixes))}")
        known = set(able)
        rest = [each.name for each in inside if each not in known]
        lost = [each for each in rest if each.lower().endswith(_whole_suffixes())]
        if lost:
            names = ", ".join(lost[:NAMED]) + (" …" if len(lost) > NAMED else "")
            raise CallError(
                f"{path.name} also holds {count(len(lost), 'file')} of terrain that can only be read whole ({names}), whose ground"
                " would be missing; bring them to GeoTIFF or LAS first, move them, or name the files that count"
            )
        if rest:
            names = ", ".join(rest[:NAMED]) + (" …" if len(rest) > NAMED else "")
            findings.append(note("not-data", f"{count(len(rest), 'file')} in {path.name} passed over: {names}."))
        found += able
    return found


def look(
    paths: Sequence[Path],
    words_of: Callable[[Path, Format], dict[str, str]],
    framed: Callable[[Path, Dataset, list[Finding]], Frame],
    progress: Progress,
) -> Looked:
    """Look at the headers of files; what cannot be read is a finding.

    Parameters
    ----------
    words_of : callable
        Path, format → reading options of a file.
    framed : callable
        Path, outline as data, findings → the frame in which a file is to be read.

    Raises
    ------
    CallError
        If a file is of a format that cannot be read in parts, or none is left.
    """
    looked = Looked()
    told: set[str] = set()
    for k, path in enumerate(paths):
        try:
            looked.files.append(_one(path, words_of, framed, looked.findings, told))
        except FormatError as error:
            if len(paths) == 1:
                raise
            text = f"Left out: {error}. Its ground is missing, or less densely covered."
            looked.findings.append(Finding("file-left-out", text))
        if k % 16 == 0:
            progress.report(k / len(paths), f"looking at {path.name}")
    if not looked.files:
        raise DataError(f"none of {count(len(paths), 'file')} can be read: {looked.findings[-1].text}")
    return looked


def _one(
    path: Path,
    words_of: Callable[[Path, Format], dict[str, str]],
    framed: Callable[[Path, Dataset, list[Finding]], Frame],
    findings: list[Finding],
    told: set[str],
) -> SourceFile:
    kind = catalog.recognise(path)
    if kind.head is None:
        able = ", ".join(each.title for each in catalog.FORMATS if each.head is not None)
        raise CallError(f"{path.name} ({kind.title}) cannot be read in parts; {able} can")
    words = words_of(path, kind)
    try:
        head = kind.head(path, declare.build(kind.read_params, words))
        axes = turned_axes(head.outline.frame.crs)
        if axes:
            # Nothing is wrong with the file: left out like a damaged one, its ground would be missing.
            raise CallError(
                f"{path.name}: the axes of its system point {' and '.join(axes)}, so it cannot be read in parts; bring it into a "
                "system with eastings and northings first, or work on files without it"
            )
        state = path.stat()
    except OSError as error:
        raise FormatError(path, f"it cannot be read: {error.strerror or error}") from error
    for each in head.findings:
        # A thousand files of one survey say the same.
        if each.code not in told:
            told.add(each.code)
            findings.append(dataclasses.replace(each, text=f"{path.name}: {each.text}"))
    frame = framed(path, head.outline.dataset(), findings)
    outline = dataclasses.replace(head.outline, frame=frame)
    return SourceFile(str(path.resolve()), kind.id, words, outline, head.columns, state.st_size, state.st_mtime_ns)


def together(files: Sequence[SourceFile], name: str, findings: list[Finding]) -> Files:
    """Return files as one cloud or one grid.

    Raises
    ------
    CallError
        If they are not of one kind, one system and units, or rasters do not share a lattice.
    """
    kinds = {type(each.outline) for each in files}
    if len(kinds) > 1:
        raise CallError("clouds and rasters cannot be one; give them in two calls")
    own = in_one_frame(files, findings)
    if kinds == {PointOutline}:
        clouds = [each.outline for each in own if isinstance(each.outline, PointOutline)]
        whole: PointOutline | CellOutline = joined(clouds, name)
        _about_boxes([each.outline.box() for each in own], [each.name for each in own], whole.frame, findings)
        _about_columns(own, findings)
    else:
        whole = _lattice(own, name)
        _about_boxes([each.outline.box() for each in own], [each.name for each in own], whole.frame, findings)
    return Files(tuple(own), whole)


def in_one_frame(files: Sequence[SourceFile], findings: list[Finding]) -> list[SourceFile]:
    """Return files, those that do not say their system or units taken to be in those of the others.

    Raises
    ------
    CallError
        If they say different ones.
    """
    frames = [each.outline.frame for each in files]
    crs = next((frame.crs for frame in frames if frame.crs), None)
    plan = next((frame.horizontal for frame in frames if frame.horizontal), None)
    height = next((frame.vertical for frame in frames if frame.vertical), None)
    silent = 0
    for each, frame in zip(files, frames, strict=True):
        for mine, theirs, what in (
            (frame.horizontal, plan, "plan unit"),
            (frame.vertical, height, "height unit"),
        ):
            if mine and theirs and mine is not theirs:
                raise CallError(
                    f"{each.name} has another {what} ({mine.title}) than {files[0].name} ({theirs.title}); convert it first"
                )
        if frame.crs and crs and frame.crs != crs and not same_place(frame.crs, crs):
            raise CallError(
                f"{each.name} is in {crs_name(frame.crs)}, others in {crs_name(crs)}; bring them into one system first"
            )
        own, other = height_system(frame.crs), height_system(crs)
        if own and other and own != other:
            raise CallError(
                f"heights of {each.name} are in {own}, those of others in {other}; bring them into one system first"
            )
        silent += (frame.crs, frame.horizontal, frame.vertical) != (crs, plan, height)
    if silent:
        text = f"{count(silent, 'file')} of {len(files)} do not say all of it: all are taken to be in {Frame(crs, plan, height).describe()}."
        findings.append(Finding("unit-taken", text))
    frame = Frame(crs, plan, height)
    return [dataclasses.replace(each, outline=dataclasses.replace(each.outline, frame=frame)) for each in files]


def _lattice(files: Sequence[SourceFile], name: str) -> CellOutline:
    cells = [each.outline for each in files if isinstance(each.outline, CellOutline)]
    first = cells[0]
    for each, own in zip(files, cells, strict=True):
        same = abs(own.dx / first.dx - 1.0) * own.columns < OFF and abs(own.dy / first.dy - 1.0) * own.rows < OFF
        across, down = (own.west - first.west) / first.dx, (first.north - own.north) / first.dy
        if not same or abs(across - round(across)) > OFF or abs(down - round(down)) > OFF:
            raise CallError(
                f"the cells of {each.name} do not lie on those of {files[0].name}; --via mosaic brings them onto one lattice"
            )
        if own.quantity != first.quantity:
            raise CallError(f"{each.name} holds {own.quantity}, {files[0].name} holds {first.quantity}")
    west = first.west + min(round((cell.west - first.west) / first.dx) for cell in cells) * first.dx
    north = first.north - min(round((first.north - cell.north) / first.dy) for cell in cells) * first.dy
    columns = max(round((cell.west - west) / first.dx) + cell.columns for cell in cells)
    rows = max(round((north - cell.north) / first.dy) + cell.rows for cell in cells)
    return dataclasses.replace(first, name=name, west=west, north=north, rows=rows, columns=columns)


def _about_columns(files: Sequence[SourceFile], findings: list[Finding]) -> None:
    some = sorted({name for each in files for name in each.columns})
    gone = [name for name in some if not all(name in each.columns for each in files)]
    if gone:
        text = f"Not every file has {', '.join(gone)}: of the points of all, it is left out."
        findings.append(Finding("attributes-differ", text))


def _about_boxes(boxes: Sequence[Box], names: Sequence[str], frame: Frame, findings: list[Finding]) -> None:
    """Say where files overlap by more than their rims, and where the ground between them has none."""
    import shapely

    if len(boxes) < 2:
        return
    west, south, east, north = np.array([(b.west, b.south, b.east, b.north) for b in boxes]).T
    shapes = shapely.box(west, south, east, north)
    areas = shapely.area(shapes)
    tree = shapely.STRtree(shapes)
    first, second = tree.query(shapes, predicate="intersects")
    once = first < second
    first, second = first[once], second[once]
    left, right = np.maximum(west[first], west[second]), np.minimum(east[first], east[second])
    bottom, top = np.maximum(south[first], south[second]), np.minimum(north[first], north[second])
    shared = np.maximum(right - left, 0.0) * np.maximum(top - bottom, 0.0)
    smaller = np.maximum(np.minimum(areas[first], areas[second]), 1e-300)
    square = square_word(frame.horizontal)
    over = np.flatnonzero(shared > 0.02 * smaller)
    if len(over):
        worst = over[np.argmax(shared[over] / smaller[over])]
        a, b = names[first[worst]], names[second[worst]]
        text = (
            f"{count(len(over), 'pair')} of files overlap by their headers, most {a} and {b}: {spaced(shared[worst])}{square}, "
            f"{shared[worst] / smaller[worst]:.0%} of the smaller. Points there count twice if they were written twice."
        )
        middle = (float(left[worst] + right[worst]) / 2.0, float(bottom[worst] + top[worst]) / 2.0)
        findings.append(Finding("files-overlap", text, at=middle))
    # Files end at their outermost points: a rim of a hundredth of their size is no gap.
    width = 0.005 * float(np.median(np.sqrt(np.maximum(areas, 0.0))))
    all_of_them = shapely.union_all(shapely.buffer(shapes, width, join_style="mitre"))
    holes = [ring for part in shapely.get_parts(all_of_them) for ring in part.interiors]
    parts = len(shapely.get_parts(all_of_them))
    if holes:
        own = shapely.polygons(holes)
        most = int(np.argmax(shapely.area(own)))
        text = f"{count(len(holes), 'gap')} among the files, the largest of {spaced(shapely.area(own[most]))}{square}."
        middle = shapely.centroid(own[most])
        findings.append(Finding("files-gap", text, at=(float(middle.x), float(middle.y))))
    if parts > 1:
        findings.append(Finding("files-apart", f"The files lie in {parts} groups with no ground in common."))
