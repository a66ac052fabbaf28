"""Every conversion, every format and every check, and how to get from one kind of data to another."""

from __future__ import annotations

import importlib
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import TypeVar, overload

from vastgrid.base.errors import CallError, FormatError
from vastgrid.base.words import instead, nearest, shortly
from vastgrid.data.dataset import Dataset
from vastgrid.data.grid import Grid
from vastgrid.data.tin import Tin
from vastgrid.declarations import plugins
from vastgrid.declarations.check import Check
from vastgrid.declarations.conversion import Conversion
from vastgrid.declarations.fileformat import Format
from vastgrid.declarations.plugins import Place
from vastgrid.params import declare
from vastgrid.params.declare import Field

D = TypeVar("D", Check, Conversion, Format)


class Listed(Sequence[D]):
    """Declarations by their ids, each imported from its module when it is first asked for.

    Parameters
    ----------
    package : str
        Whose modules have them.
    attribute : str
        What a declaration is called in its module.
    items : str
        Places in order, each a module whose name is the id; where the id is another, ``id=module``, or ``id=module:ATTRIBUTE``.
    group : str
        Entry points by which other distributions add to them; none where empty.
    """

    def __init__(self, package: str, attribute: str, items: str, group: str = "") -> None:
        self._group = group
        self._strange: dict[str, Place] | None = None
        self._places: dict[str, tuple[str, str]] = {}
        for item in items.split():
            name, _, place = item.rpartition("=")
            module, _, other = place.partition(":")
            self._places[name or module.rpartition(".")[2]] = (f"{package}.{module}", other or attribute)
        self._loaded: dict[str, D] = {}

    def having(self, *items: D) -> Listed[D]:
        """Return the list with further declarations, or with others in place of those that have their ids."""
        longer: Listed[D] = Listed("", "", "", self._group)
        longer._places = {**self._places, **{item.id: ("", "") for item in items}}
        longer._loaded = {**self._loaded, **{item.id: item for item in items}}
        return longer

    def named(self, name: str) -> D | None:
        """Return the declaration of an id; None where there is none."""
        if name not in self._loaded:
            if name in self._places:
                module, attribute = self._places[name]
                self._loaded[name] = getattr(importlib.import_module(module), attribute)
            elif name in (strange := self._of_plugins()) and strange[name] not in plugins.faults:
                made = plugins.load(strange[name])
                if made is not None:
                    self._loaded[name] = made
        return self._loaded.get(name)

    def _of_plugins(self) -> dict[str, Place]:
        """Return what plug-ins add, by id; looked for once."""
        if self._strange is None:
            self._strange = plugins.of_group(self._group, tuple(self._places)) if self._group else {}
        return self._strange

    def stand_in(self, item: D) -> None:
        """Let a declaration be found by its id, though it is none of those that there are: a kept step speaks by it."""
        self._loaded.setdefault(item.id, item)

    @property
    def ids(self) -> tuple[str, ...]:
        """The ids, without importing anything."""
        return (*self._places, *self._of_plugins())

    def __len__(self) -> int:
        return len(tuple(iter(self)))

    @overload
    def __getitem__(self, which: int) -> D: ...
    @overload
    def __getitem__(self, which: slice) -> tuple[D, ...]: ...
    def __getitem__(self, which: int | slice) -> D | tuple[D, ...]:
        return tuple(self)[which]

    def __iter__(self) -> Iterator[D]:
        for name in self.ids:
            item = self.named(name)
            # What of a plug-in cannot be had is left out; doctor says why.
            if item is not None:
                yield item


CONVERSIONS: Listed[Conversion] = Listed(
    "vastgrid.conversions",
    "CONVERSION",
    """
    answers.accuracy grids.align points.along areas=lines.to_areas lines.arrows grids.aspect lines.bands answers.between
    cells=grids.points_to_grid points.clean whole.choose whole.clip answers.compare lines.contours courses=lines.records_to_lines
    surfaces.daylight surfaces.difference surfaces.edit facets=surfaces.grid_to_tin whole.fit grids.grid points.ground
    grids.hillshade whole.heights lines.labels points.lattice lines.lay lines.levels lines=lines.area_lines surfaces.merge grids.mosaic whole.move lines.no_change lines.parcels lines.records
    points.noise lines.offset whole.outline answers.pile points.points whole.reproject points.scatter surfaces.simplify grids.slope
    solids.solid answers.sizes answers.stages solids.structures whole.system points.thin lines.ticks surfaces.tin
    upper=surfaces.mesh_to_tin answers.volumes
    """,
    "vastgrid.conversions",
)
FORMATS: Listed[Format] = Listed(
    "vastgrid.formats",
    "FORMAT",
    """
    asciigrid bil cityjson copc=las:COPC dxf e57 flatgeobuf floatgrid geojson geopackage geotiff glb gpx ifc kml landxml
    las obj off pcd plan=plansheet ply raster shapefile stl text 3mf=threemf scene=webscene
    """,
    "vastgrid.formats",
)
# In the order in which findings are told.
CHECKS: Listed[Check] = Listed(
    "vastgrid.checks",
    "CHECK",
    """
    wrong-unit=wrong_unit spikes crossing-lines=crossing_lines two-heights-here=two_heights long-triangles=long_triangles
    zero-heights=zero_heights gaps flat-triangles=flat_triangles given-twice=given_twice name-twice=name_twice
    """,
    "vastgrid.checks",
)
# The conversion that builds a surface from source data as files describe it.
BUILDER = "tin"


def check_named(name: str) -> Check:
    """Return a check by its id.

    Raises
    ------
    CallError
        If there is none.
    """
    check = CHECKS.named(name)
    if check is not None:
        return check
    raise CallError(f"there is no check “{shortly(name)}”; {instead(name, (each.id for each in CHECKS))}")


def grows(operation: str) -> str:
    """Return the parameter of a conversion that is a log of what is done by hand; empty where there is none."""
    conversion = CONVERSIONS.named(operation)
    return conversion.resumes if conversion is not None else ""


def parameter_of(operation: str, kind: type) -> Field | None:
    """Return the parameter of a conversion that holds values of a kind; nothing where it has none."""
    conversion = CONVERSIONS.named(operation)
    fields = declare.fields(conversion.params) if conversion is not None else ()
    return next((field for field in fields if field.kind is kind), None)


def conversion_named(name: str) -> Conversion:
    """Return a conversion by its id.

    Raises
    ------
    CallError
        If there is none; the text lists those there are.
    """
    conversion = CONVERSIONS.named(name)
    if conversion is not None:
        return conversion
    raise CallError(f"there is no conversion “{shortly(name)}”; {_conversion_instead(name)}")


def _conversion_instead(name: str) -> str:
    """Return which conversions are spelled or described most like a name that is none."""
    ids = [each.id for each in CONVERSIONS]
    small = name.lower().replace("_", " ").strip()
    called = [each.id for each in CONVERSIONS if small in (name.lower() for name in (each.title, *each.also))]
    told = called or [
        each.id for each in CONVERSIONS if len(small) > 2 and small in f"{each.title} {each.help} {each.also}".lower()
    ]
    if not called and nearest(name, ids):
        return instead(name, ids)
    return f"did you mean {' or '.join(told[:3])}?" if told else f"{instead(name, ids)} (vastgrid conversions)"


def builder() -> Conversion:
    """Return the conversion that builds a surface from source data as files describe it."""
    return conversion_named(BUILDER)


def format_named(name: str) -> Format:
    """Return a format by its id.

    Raises
    ------
    CallError
        If there is none.
    """
    kind = FORMATS.named(name)
    if kind is not None:
        return kind
    raise CallError(f"there is no format “{shortly(name)}”; {instead(name, (each.id for each in FORMATS))}")


def format_of_target(path: Path) -> Format:
    """Return the format that a file's ending asks for.

    Raises
    ------
    CallError
        If no format that can be written has that ending.
    """
    name = path.name.lower()
    found = [(each, suffix) for each in FORMATS if each.write for suffix in each.suffixes if name.endswith(suffix)]
    if not found:
        known = [suffix for each in FORMATS if each.write for suffix in each.suffixes]
        ending = path.suffix.lower()
        near = instead(ending, known)
        raise CallError(
            f"“{shortly(path.name)}”: no format that can be written ends in “{shortly(ending)}”; {near} (vastgrid formats)"
        )
    # The longer ending says more; where two formats share one, the one that has it as its first means it.
    return min(found, key=lambda pair: (-len(pair[1]), pair[0].suffixes.index(pair[1])))[0]


def usual_format(kinds: Sequence[type[Dataset]]) -> Format:
    """Return the format that is proposed for datasets of these kinds together."""
    able = [each for each in FORMATS if each.write and all(issubclass(kind, each.carries.kinds) for kind in kinds)]
    return max(able or [each for each in FORMATS if each.write], key=lambda each: each.usual)


def recognise(path: Path) -> Format:
    """Return the format a file is of, by its content.

    Raises
    ------
    FormatError
        If it is not there, empty, or of no known format.
    """
    if not path.exists():
        raise FormatError(path, f"there is no such file in {path.parent.resolve()}")
    if path.is_dir():
        raise FormatError(path, "this is a folder; name the files in it")
    try:
        with path.open("rb") as file:
            head = file.read(65536)
    except OSError as error:
        raise FormatError(path, f"it cannot be opened: {error.strerror}") from error
    if not head:
        raise FormatError(path, "the file is empty")
    best = max((each for each in FORMATS if each.read), key=lambda each: each.sniff(head, path))
    if best.sniff(head, path) == 0:
        raise FormatError(path, "its content is of no known format (vastgrid formats lists those that can be read)")
    return best


def targets(datasets: Sequence[Dataset]) -> tuple[Conversion, ...]:
    """Return the conversions that can use these datasets together."""
    return tuple(each for each in CONVERSIONS if datasets and each.assigned(datasets) is not None)


def _what(dataset: Dataset) -> str:
    own = dataset if isinstance(dataset, Tin | Grid) else None
    return f"{dataset.title} of {own.holds()}" if own is not None and not own.has_heights else dataset.title


def _unasked(conversion: Conversion) -> tuple[type[Dataset], ...]:
    """Return the kinds that a conversion takes where nobody asks anything of it."""
    return conversion.takes_with(conversion.params())


def _unasked_of(conversion: Conversion, dataset: Dataset) -> bool:
    """Say whether a conversion may be put in for a dataset; a surface is not built anew unasked."""
    again = conversion.builds and isinstance(dataset, Tin)
    able = isinstance(dataset, _unasked(conversion)) and conversion.can_use(dataset) and not again
    return able and conversion.automatic_for(dataset)


def _first(kind: type[Dataset], wanted: tuple[type[Dataset], ...]) -> int:
    return next(k for k, each in enumerate(wanted) if issubclass(kind, each))


def chain(have: Sequence[Dataset], wanted: tuple[type[Dataset], ...], what: str) -> tuple[Conversion, ...]:
    """Return the fewest conversions that lead from datasets to one of some kinds; none where one is there already.

    Conversions that use everything there is come before those that use only some of it.

    Raises
    ------
    CallError
        If no chain leads there; `what` names the goal.
    """
    if any(isinstance(each, wanted) for each in have):
        return ()
    usable = sorted((c for c in CONVERSIONS if c.automatic is not None), key=lambda c: c.automatic or 0)
    for enough in (all, any):
        first = [each for each in usable if enough(_unasked_of(each, one) for one in have)]
        frontier: list[tuple[Conversion, ...]] = [(each,) for each in first]
        # A kind that was reached already is reached no sooner by going round.
        reached: set[type[Dataset]] = set()
        while frontier:
            # Of what a file can hold, what it names first is what it is for.
            arrived = [path for path in frontier if issubclass(path[-1].gives(path[-1].takes), wanted)]
            if arrived:
                return min(arrived, key=lambda path: _first(path[-1].gives(path[-1].takes), wanted))
            reached |= {path[-1].gives(path[-1].takes) for path in frontier}
            frontier = [
                (*path, each)
                for path in frontier
                for each in usable
                if issubclass(path[-1].gives(path[-1].takes), _unasked(each)) and each.gives(each.takes) not in reached
            ]
    names = ", ".join(dict.fromkeys(_what(each) for each in have)) or "nothing"
    raise CallError(f"no chain of conversions leads from {names} to {what}")
