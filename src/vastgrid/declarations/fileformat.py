"""What a file format declares: how it is recognised, what it can carry, and how it is read and written."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from functools import singledispatch
from pathlib import Path
from typing import Any, Literal, get_args

from numpy.typing import NDArray

from vastgrid.base.findings import Finding, Severity, note
from vastgrid.base.progress import Progress
from vastgrid.data.areas import Areas
from vastgrid.data.dataset import Dataset, Floats
from vastgrid.data.frame import crs_name, epsg_code
from vastgrid.data.grid import Grid
from vastgrid.data.line_roles import BOUNDARY, BREAKLINE
from vastgrid.data.linework import Contours, Linework
from vastgrid.data.outline import CellOutline, PointOutline
from vastgrid.data.pointset import PointSet
from vastgrid.data.survey import Survey, survey_of
from vastgrid.data.tin import Tin


@dataclass(frozen=True, slots=True)
class NoParams:
    """A format without options."""


@dataclass(frozen=True, slots=True)
class Carries:
    """What survives in a file of this format.

    Attributes
    ----------
    kinds : tuple of type
        Kinds of dataset it can hold.
    several : bool
        Whether one file can hold several datasets.
    units : {"none", "one", "plan", "both"}
        Whether it says its units: not at all, one for plan and height alike, of the plan only, or of each.
    unit_needed : bool
        Whether it cannot be written without a unit.
    crs, attributes, breaklines : bool
        Whether it holds a CRS (any, or those with an EPSG code), points' attributes (all, those that are numbers, or those named), and the breaklines a
        TIN was built from.
    faces : bool
        Whether it holds the triangles of a TIN that was built from something else, which it holds then.
    roles : tuple of str
        Which survey records it holds.
    geographic : bool
        Whether it holds longitude and latitude of WGS 84 and metres only; what goes out is reprojected.
    step : float
        Coordinates are written rounded to this, if to anything.
    quantity : bool
        Whether it says which quantity a grid holds, if not heights.
    open_heights : bool
        Whether a place may be without a height.
    labels : bool
        Whether it holds what is written along contours.
    metres : bool
        Whether its standard knows no other unit; what goes out is brought into metres.
    worded : bool
        Whether it says its unit in a comment only, which people can read and most programs pass over.
    single : bool
        Whether its numbers are of single precision.
    """

    kinds: tuple[type[Dataset], ...]
    several: bool = False
    units: Literal["none", "one", "plan", "both"] = "none"
    unit_needed: bool = False
    crs: bool | Literal["code"] = False
    attributes: bool | Literal["numbers"] | tuple[str, ...] = False
    breaklines: bool = False
    faces: bool = True
    roles: tuple[str, ...] = ()
    geographic: bool = False
    step: float = 0.0
    open_heights: bool = False
    quantity: bool = False
    labels: bool = False
    metres: bool = False
    worded: bool = False
    single: bool = False

    def attributes_held(self, attributes: Mapping[str, NDArray[Any]]) -> list[str]:
        """Return the names of those of some attributes that it holds."""
        if self.attributes == "numbers":
            return [name for name, values in attributes.items() if values.dtype.kind in "iufb"]
        if isinstance(self.attributes, bool):
            return list(attributes) if self.attributes else []
        return [name for name in attributes if name in self.attributes]


@dataclass(frozen=True, slots=True)
class ReadResult:
    """What a reader found: datasets, and what the user should know of the file.

    Attributes
    ----------
    totals : tuple of dict
        Where the datasets are only samples, the counts of what they stand for.
    left_out : tuple of str
        Lines that could not be read, each with number, reason and text parted by tabs.
    rebuilt : tuple of (int, tuple of int)
        Which datasets (the second numbers) a surface among them (the first) was built from, by the file's word.
    unbuilt : tuple of (str, tuple of int)
        Surfaces, by name, of which the file has only what they are built from: which datasets that is.
    """

    datasets: tuple[Dataset, ...]
    findings: tuple[Finding, ...] = ()
    totals: tuple[dict[str, int], ...] = ()
    left_out: tuple[str, ...] = ()
    rebuilt: tuple[tuple[int, tuple[int, ...]], ...] = ()
    unbuilt: tuple[tuple[str, tuple[int, ...]], ...] = ()


@dataclass(frozen=True, slots=True)
class Head:
    """What the header of a file tells: how much there is and where.

    Attributes
    ----------
    outline : PointOutline or CellOutline
        Of what it holds.
    findings : tuple of Finding
        What was noticed.
    columns : tuple of str
        Names of points' attributes.
    """

    outline: PointOutline | CellOutline
    findings: tuple[Finding, ...] = ()
    columns: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class PlannedFile:
    """One file of a set: its name, and the datasets that go into it."""

    name: str
    datasets: tuple[Dataset, ...]


# In this order formats are offered.
Use = Literal["survey and CAD", "GIS", "rasters", "point clouds", "meshes and print", "web and paper"]
USES: tuple[str, ...] = get_args(Use)

Read = Callable[[Path, Any, Progress], ReadResult]
Write = Callable[[Sequence[Dataset], Path, Any, Progress], None]


@dataclass(frozen=True, slots=True)
class Format:
    """One file format.

    Attributes
    ----------
    id, title : str
        Word for the command line; name for people.
    used_for : str
        What it is mostly used for, of `USES`: formats are offered under these words.
    suffixes : tuple of str
        File name endings, the usual one first.
    sniff : callable
        First bytes and path → how sure it is that the file is of this format, 0 to 100.
    carries : Carries
        What survives in it.
    read, write : callable or None
        The work; None where the format is only written, or only read.
    read_params, write_params : type
        Frozen dataclasses of declared parameters.
    carries_as : callable or None
        Write options → what survives, where that depends on them.
    peek : callable or None
        Reads a sample in a second or two, for a picture of a large file before it is read whole.
    suggest : callable or None
        Path → what can be chosen for reading options that name something in the file.
    turned : callable or None
        Path and reading options → the words that read it with easting and northing taken for each other.
    weigh : callable
        Dataset → about how many bytes it takes in a file.
    plan : callable or None
        Datasets, stem of the name that was asked for, write options → the files that are written; None, or no files, for
        one file of that name. A set is checked file by file, and comes into being as a whole or not at all.
    editor : str
        Which editor of its reading options the import window has, beside the form; empty for none.
    given : callable
        Datasets, write options → what is written of them, where the file shows them otherwise: contours with gaps for
        their labels.
    says : callable
        Datasets, write options → what the report says of the options.
    expected : callable
        Datasets, write options → codes of findings of reading back that say nothing new of this file.
    usual : int
        Of the formats that can hold what goes out, the one with the largest is proposed.
    also : tuple of str
        What else people call it, for the finder.
    seen : callable or None
        Coordinates, write options → where a reader will see them, where that is not a matter of decimals.
    audit : callable or None
        Path → what a library that is not ours says against the file, None where it was not asked; run after writing.
    verify : callable or None
        Path, datasets, write options → what is compared of a file that no reader gives back as data: what, as sent, as
        read, and whether they agree.
    checking : callable or None
        Datasets, write options → the reading options by which what was written is read back, where not the usual ones.
    renamed : callable
        Attributes' names, write options → what each is called in the file; empty where it is kept in another measure.
    column : callable
        Name and values of an attribute, write options → the values that go into the file, and what that does to them,
        for a sentence (“texts of more than 254 bytes are cut”); empty where they stay as they are. No values: left out.
    parts : tuple of str
        Endings of files with the same stem that belong to one of it; all get their names together.
    head : callable or None
        Path and reading options → what the header alone tells; None where a file can only be read as a whole.
    part : callable or None
        Path, reading options, which part, names of attributes (None for all) → that part: of a cloud the points from one
        number to another, of a grid a `Window` of its cells.
    seldom : tuple of str
        Attributes of points that are left out where none of them says anything.
    assemble : callable or None
        Outline of a grid, its tiles (window, raster of `rastertiles`), path, write options, progress → writes them as one
        file without ever holding it, reads it back and returns what was compared.
    precision_of : callable
        Write options → the type in which tiles are kept that go into such a file.
    fits : callable
        Datasets in the units in which they go out, write options → the options with what was left open settled;
        raises CallError where something was said that the file cannot hold.
    origin : str
        Distribution and version of the plug-in that it comes from; empty for ours.
    """

    id: str
    title: str
    used_for: Use
    suffixes: tuple[str, ...]
    sniff: Callable[[bytes, Path], int]
    carries: Carries
    read: Read | None = None
    write: Write | None = None
    read_params: type = NoParams
    write_params: type = NoParams
    carries_as: Callable[[Any], Carries] | None = None
    peek: Read | None = None
    suggest: Callable[[Path], dict[str, list[str]]] | None = None
    turned: Callable[[Path, Any], dict[str, str]] | None = None
    weigh: Callable[[Dataset], float] = lambda dataset: 0.0
    plan: Callable[[Sequence[Dataset], str, Any], tuple[PlannedFile, ...]] | None = None
    given: Callable[[Sequence[Dataset], Any], Sequence[Dataset]] = lambda datasets, params: datasets
    says: Callable[[Sequence[Dataset], Any], tuple[Finding, ...]] = lambda datasets, params: ()
    expected: Callable[[Sequence[Dataset], Any], set[str]] = lambda datasets, params: set()
    editor: str = ""
    usual: int = 0
    also: tuple[str, ...] = ()
    seen: Callable[[Floats, Any], Floats] | None = None
    renamed: Callable[[Sequence[str], Any], dict[str, str]] = lambda names, params: {name: name for name in names}
    column: Callable[[str, NDArray[Any], Any], tuple[NDArray[Any], str]] = lambda name, values, params: (values, "")
    parts: tuple[str, ...] = ()
    audit: Callable[[Path], tuple[str, ...] | None] | None = None
    verify: Callable[[Path, Sequence[Dataset], Any], list[tuple[str, str, str, bool]]] | None = None
    checking: Callable[[Sequence[Dataset], Any], Any] | None = None
    fits: Callable[[Sequence[Dataset], Any], Any] = lambda datasets, params: params
    head: Callable[[Path, Any], Head] | None = None
    part: Callable[[Path, Any, Any, Sequence[str] | None], Dataset] | None = None
    seldom: tuple[str, ...] = ()
    assemble: Callable[..., list[tuple[str, str, str, bool]]] | None = None
    precision_of: Callable[[Any], str] = lambda params: "float64"
    origin: str = ""

    def carries_with(self, params: Any) -> Carries:
        """Return what survives with these write options (an older version may hold less)."""
        return self.carries if self.carries_as is None else self.carries_as(params)


def rounding(carries: Carries) -> Callable[[Any], Carries]:
    """Return what survives with write options that name a number of decimals."""
    return lambda params: dataclasses.replace(carries, step=10.0**-params.decimals)


def weighing(**each: float) -> Callable[[Dataset], float]:
    """Return an estimate of size from what a dataset counts.

    `cells` of a grid are its rows times its columns; `file` is what a file takes with nothing in it.
    """

    def weigh(dataset: Dataset) -> float:
        counts = {"file": 1, **dataset.count()}
        if "rows" in counts:
            counts["cells"] = counts["rows"] * counts["columns"]
        return sum(size * counts.get(name, 0) for name, size in each.items())

    return weigh


def losses(dataset: Dataset, carries: Carries) -> tuple[Finding, ...]:
    """Return what a file of this format will not hold of a dataset: said before writing, and in the report."""
    found = []
    frame = dataset.frame
    if frame.crs and carries.crs == "code" and epsg_code(frame.crs) is None:
        found.append(note("crs-not-carried", f"The file tells systems by EPSG codes; {crs_name(frame.crs)} has none."))
    if frame.crs and not carries.crs:
        found.append(note("crs-not-carried", f"The file cannot say the CRS ({crs_name(frame.crs)})."))
    if carries.units == "none" and (frame.horizontal or frame.vertical):
        found.append(note("units-not-carried", "The file cannot say its units; tell the receiver: " + frame.describe()))
    if carries.worded and frame.horizontal:
        text = f"Only a comment in the file says its unit; tell the receiver: {frame.horizontal.title}."
        found.append(note("units-in-words", text))
    if carries.units == "plan" and frame.vertical:
        found.append(note("units-not-carried", f"The file cannot say that heights are in {frame.vertical.title}."))
    return (*found, *_own_losses(dataset, carries), *_unsaid_heights(dataset, carries))


@singledispatch
def _own_losses(dataset: Dataset, carries: Carries) -> tuple[Finding, ...]:
    """Return what a file will not hold of what only this kind of data has."""
    return ()


@_own_losses.register
def _of_grid(grid: Grid, carries: Carries) -> tuple[Finding, ...]:
    if grid.has_heights or carries.quantity:
        return ()
    text = f"The file cannot say that it holds {grid.holds()}; a receiver will take its values for heights."
    return (Finding("quantity-not-carried", text),)


@_own_losses.register
def _of_points(points: PointSet, carries: Carries) -> tuple[Finding, ...]:
    return _attributes_lost(points.attributes, carries)


@_own_losses.register
def _of_lines(lines: Linework, carries: Carries) -> tuple[Finding, ...]:
    # What a line is for is told by its layer, or by the element it stands in.
    own = {name: values for name, values in lines.attributes.items() if name not in (BOUNDARY, BREAKLINE)}
    return _attributes_lost(own, carries)


@_own_losses.register
def _of_areas(areas: Areas, carries: Carries) -> tuple[Finding, ...]:
    return _attributes_lost(areas.attributes, carries)


def _attributes_lost(attributes: Mapping[str, NDArray[Any]], carries: Carries) -> tuple[Finding, ...]:
    held = carries.attributes_held(attributes)
    names = ", ".join(name for name in attributes if name not in held)
    if not names:
        return ()
    if carries.attributes == "numbers":
        text = f"The file holds attributes that are numbers only; left out: {names}."
    else:
        some = isinstance(carries.attributes, tuple)
        text = f"The file holds {'coordinates and some attributes' if some else 'coordinates'} only; left out: {names}."
    return (Finding("attributes-not-carried", text),)


@_own_losses.register
def _of_tin(tin: Tin, carries: Carries) -> tuple[Finding, ...]:
    if not tin.has_heights and not carries.quantity:
        text = f"The file cannot say that it holds {tin.holds()}s; a receiver will take them for heights."
        return (Finding("quantity-not-carried", text),)
    if carries.breaklines or not len(tin.break_vertices):
        return ()
    return (note("breaklines-not-carried", "Breaklines are in the file only as edges of triangles."),)


@_own_losses.register
def _of_contours(contours: Contours, carries: Carries) -> tuple[Finding, ...]:
    if carries.labels or not contours.labels:
        return ()
    return (note("labels-not-carried", "The file holds no labels; the lines go out whole, each with its level."),)


@_own_losses.register
def _of_survey(survey: Survey, carries: Carries) -> tuple[Finding, ...]:
    gone = sorted(set(survey.roles) - set(carries.roles))
    if not gone:
        return ()
    number = sum(role in gone for role in survey.roles)
    text = f"The file cannot hold every kind of record; {number} left out: {', '.join(gone)}."
    return (Finding("records-not-carried", text),)


def _unsaid_heights(dataset: Dataset, carries: Carries) -> tuple[Finding, ...]:
    frame = dataset.frame
    if carries.units != "one" or not frame.horizontal or frame.vertical is not None:
        return ()
    if dataset.extent().elevation is None:
        return ()
    text = (
        f"The unit of the heights of {dataset.name} is unknown. The file has one unit for everything, so a "
        f"receiver will read them as {frame.horizontal.title}; if they are not, say so with --from-vertical-units."
    )
    return (Finding("vertical-unit-unknown", text, Severity.WARNING),)


@singledispatch
def as_carried(dataset: Dataset, carries: Carries) -> Dataset:
    """Return what of a dataset will be in a file of this format."""
    return dataset


@as_carried.register
def _tin_carried(tin: Tin, carries: Carries) -> Dataset:
    built = len(tin.source_points) or len(tin.break_vertices)
    if carries.breaklines and built and not carries.faces:
        return dataclasses.replace(tin, triangles=tin.triangles[:0], neighbours=None, constrained=None)
    if carries.breaklines:
        return tin
    return tin.without_source()


@as_carried.register
def _contours_carried(contours: Contours, carries: Carries) -> Dataset:
    return contours if carries.labels or not contours.labels else dataclasses.replace(contours, labels={})


@as_carried.register(PointSet)
@as_carried.register(Linework)
@as_carried.register(Areas)
def _attributes_carried(data: PointSet | Linework | Areas, carries: Carries) -> Dataset:
    held = {name: data.attributes[name] for name in carries.attributes_held(data.attributes)}
    return data if len(held) == len(data.attributes) else dataclasses.replace(data, attributes=held)


@as_carried.register
def _survey_carried(survey: Survey, carries: Carries) -> Dataset:
    if set(survey.roles) <= set(carries.roles):
        return survey
    return survey_of(survey.name, survey.frame, [each for each in survey.records() if each.role in carries.roles])
