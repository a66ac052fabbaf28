"""The contract that every declaration keeps, run over a plug-in: ``python -m vastgrid.plugin.check NAME_OR_FOLDER``."""

from __future__ import annotations

import sys
import tempfile
import tomllib
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from vastgrid import catalog
from vastgrid.base.errors import CallError, Cancelled, VastGridError
from vastgrid.base.progress import Silent
from vastgrid.data.areas import from_shapes
from vastgrid.data.dataset import Dataset
from vastgrid.data.frame import frame_of_crs
from vastgrid.data.grid import Grid
from vastgrid.data.linework import from_lines
from vastgrid.data.pointset import PointSet
from vastgrid.declarations import plugins
from vastgrid.declarations.check import Check
from vastgrid.declarations.conversion import Conversion, Inputs
from vastgrid.declarations.fileformat import Format
from vastgrid.declarations.plugins import KINDS, Place
from vastgrid.delivery.deliver import deliver
from vastgrid.execution.steps import convert, read_file
from vastgrid.params import declare

# What is looked at, and looking at it: what is wrong, or nothing.
Look = tuple[str, Callable[[], str]]


@dataclass(frozen=True, slots=True)
class Kept:
    """One thing that was looked at: of which declaration, what, and what is wrong with it; empty where nothing is."""

    name: str
    what: str
    wrong: str = ""

    def line(self) -> str:
        """Return it as a line."""
        return f"{'FAIL' if self.wrong else 'ok  '}  {self.name}: {self.what}" + (
            f": {self.wrong}" if self.wrong else ""
        )


def places_of(name: str) -> list[Place]:
    """Return what a distribution declares, by its name, or by the folder of its sources.

    Raises
    ------
    CallError
        If there is none, or it declares nothing.
    """
    folder = Path(name)
    if (folder / "pyproject.toml").is_file():
        found = _of_sources(folder)
    else:
        wanted = name.lower().replace("_", "-")
        found = [own for own in plugins.places() if own.origin.split()[0].lower().replace("_", "-") == wanted]
    if not found:
        raise CallError(f"{name} is no plug-in here: no distribution and no folder of that name declares anything")
    return found


def _of_sources(folder: Path) -> list[Place]:
    project = tomllib.loads((folder / "pyproject.toml").read_text(encoding="utf-8")).get("project", {})
    source = folder / "src" if (folder / "src").is_dir() else folder
    sys.path.insert(0, str(source.resolve()))
    origin = f"{project.get('name', folder.name)} {project.get('version', '0')}"
    points = project.get("entry-points", {})
    return [Place(group, name, target, origin) for group in KINDS for name, target in points.get(group, {}).items()]


def check(name: str) -> list[Kept]:
    """Look at everything that a plug-in declares.

    Raises
    ------
    CallError
        If there is no such plug-in.
    """
    found: list[Kept] = []
    for place in places_of(name):
        own = plugins.load(place)
        found.append(Kept(place.name, "loads", plugins.faults.get(place, "")))
        if own is not None:
            looks: dict[type, Callable[[Any], tuple[Look, ...]]]
            looks = {Conversion: _conversion, Format: _format, Check: _check}
            found += list(_looked(place.name, (*_declared(own), *looks[KINDS[place.group]](own))))
    return found


def _looked(name: str, looks: tuple[Look, ...]) -> Iterator[Kept]:
    for what, look in looks:
        try:
            wrong = look()
        except Exception as error:  # noqa: BLE001 - what a stranger's code raises is what is to be told
            wrong = repr(error)
        yield Kept(name, what, wrong)


def _declared(own: Any) -> tuple[Look, ...]:
    def words() -> str:
        for params in (getattr(own, each, None) for each in ("params", "read_params", "write_params")):
            if params is None:
                continue
            made = params()
            if declare.build(params, declare.to_words(made)) != made:
                return "its parameters do not come back from their words"
            bad = [field.name for field in declare.fields(params) if not field.param.help.endswith(".")]
            if bad:
                return f"the help of {', '.join(bad)} is no sentence"
        return ""

    def title() -> str:
        return (
            ""
            if own.title[:1].isupper() and (not hasattr(own, "help") or own.help.endswith("."))
            else "help is no sentence"
        )

    return ("parameters as words", words), ("title and help", title)


def _conversion(own: Conversion) -> tuple[Look, ...]:
    able = [each for each in examples() if own.can_use(each)]

    def each_of(run: Callable[[Inputs], str]) -> Callable[[], str]:
        def look() -> str:
            if not able:
                return "it can use none of the examples"
            role = own.main.role
            groups = [Inputs.of_pairs([(role, one)] * max(own.main.least, 1)) for one in able] if own.single else []
            return next((wrong for group in groups if (wrong := run(group))), "")

        return look

    def runs(inputs: Inputs) -> str:
        before = [each.content for each in inputs]
        first, params = convert(own, inputs, own.params(), Silent())
        again, _ = convert(own, inputs, own.params(), Silent())
        if first.dataset.digest != again.dataset.digest:
            return "the same inputs give another result the second time"
        if not isinstance(first.dataset, own.gives([type(inputs[0])])):
            return f"it gives {first.dataset.title}, and declares another kind"
        if [each.content for each in inputs] != before:
            return "it changes its inputs"
        sentence = declare.plain(own.sentence(params, [each.name for each in inputs]))
        return "" if sentence.endswith(".") and "{" not in sentence else f"its sentence is “{sentence}”"

    def refuses_or_runs(inputs: Inputs) -> str:
        try:
            return runs(inputs)
        except VastGridError as error:
            # What cannot be made without being told something says so.
            return "" if own.ask or "say" in str(error) else str(error)

    def cancels(inputs: Inputs) -> str:
        try:
            convert(own, inputs, own.params(), Silent(lambda: True))
        except Cancelled:
            return ""
        except VastGridError:
            return ""
        return "it goes on when it is cancelled"

    return ("runs on the examples", each_of(refuses_or_runs)), ("can be cancelled", each_of(cancels))


def _format(own: Format) -> tuple[Look, ...]:
    kinds = [each for each in examples() if isinstance(each, own.carries.kinds)]

    def there_and_back() -> str:
        if own.write is None or own.read is None:
            return ""
        for each in kinds:
            with tempfile.TemporaryDirectory() as folder:
                path = Path(folder) / f"a{own.suffixes[0]}"
                params = own.fits([each], own.write_params())
                made = deliver([each], path, own, params, Silent())
                bad = [check.what for check in made.checks if not check.good]
                if bad:
                    return f"{each.title}: {', '.join(bad)} differ"
        return ""

    def damaged() -> str:
        if own.read is None:
            return ""
        for data in (b"", b"\0" * 64, b"nothing of the kind\n" * 9, bytes(range(256))):
            with tempfile.TemporaryDirectory() as folder:
                path = Path(folder) / f"a{own.suffixes[0]}"
                path.write_bytes(data)
                try:
                    read_file(path, {}, Silent(), kind=own)
                except VastGridError as error:
                    if "plug-in" in str(error):
                        return f"a damaged file: {error}"
        return ""

    def knows_its_own() -> str:
        others = (b"E,N,Z\n1,2,3\n", b"LASF\1\2", b"<?xml version='1.0'?><LandXML/>", b"ply\nformat ascii 1.0\n")
        claimed = [head[:8] for head in others if own.sniff(head, Path("a.other")) > 0]
        return f"it claims files that are not its own: {claimed}" if claimed else ""

    return ("there and back", there_and_back), ("damaged files", damaged), ("knows its own files", knows_its_own)


def _check(own: Check) -> tuple[Look, ...]:
    def runs() -> str:
        for each in examples():
            if isinstance(each, own.takes):
                found = own.run(each, [], own.params(), Silent())
                if any(finding.code != own.id for finding in found):
                    return "a finding has another code than its id"
        return ""

    return (("runs on the examples", runs),)


def examples() -> tuple[Dataset, ...]:
    """Return a small dataset of the usual kinds, on a grid in metres."""
    import shapely

    frame = frame_of_crs("EPSG:32632").filled(None, frame_of_crs("EPSG:32632").horizontal)
    axis = np.arange(0.0, 50.0, 5.0)
    east, north = (own.ravel() for own in np.meshgrid(axis, axis))
    xyz = np.column_stack((431_000 + east, 5_270_000 + north, 200 + 0.1 * east + np.sin(north / 9)))
    points = PointSet(name="points", frame=frame, xyz=xyz, attributes={"code": np.array([b"GL"] * len(xyz))})
    lines = from_lines("lines", frame, [xyz[:9], xyz[20:25]], ["KERB", "WALL"])
    heights = 200.0 + np.arange(30.0).reshape(5, 6) / 7.0
    grid = Grid(name="grid", frame=frame, heights=heights, west=431_000.0, north=5_270_030.0, dx=5.0, dy=5.0)
    areas = from_shapes([shapely.box(431_000, 5_270_000, 431_020, 5_270_030)], name="areas", frame=frame)
    builder = catalog.builder()
    tin = convert(builder, Inputs.of_pairs([(builder.main.role, points)]), builder.params(), Silent())[0].dataset
    return points, lines, grid, areas, tin


def main(arguments: list[str]) -> int:
    """Check a plug-in; return the exit code."""
    if len(arguments) != 1:
        sys.stderr.write("python -m vastgrid.plugin.check NAME_OR_FOLDER\n")
        return 2
    try:
        found = check(arguments[0])
    except CallError as error:
        sys.stderr.write(f"vastgrid: {error}\n")
        return 2
    sys.stdout.write("".join(f"{each.line()}\n" for each in found))
    bad = sum(bool(each.wrong) for each in found)
    sys.stdout.write(f"{len(found) - bad} of {len(found)} kept\n")
    return 1 if bad else 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
