"""Writing a file, reading it back from disk, and comparing it with what was sent."""

from __future__ import annotations

import dataclasses
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from vastgrid import catalog
from vastgrid.base.errors import CallError, DataError, WriteError
from vastgrid.base.files import beside, need_room, staged
from vastgrid.base.findings import Finding, Severity
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Unit
from vastgrid.data.dataset import Dataset
from vastgrid.data.kinds import of_kind
from vastgrid.data.linework import Contours
from vastgrid.declarations.conversion import listed
from vastgrid.declarations.fileformat import Format, PlannedFile
from vastgrid.delivery.preparing import in_units_asked, prepared
from vastgrid.delivery.readback import compare
from vastgrid.lineage.delivered import Compared, Delivery


def deliver(
    datasets: Sequence[Dataset],
    path: Path,
    target: Format,
    params: Any,
    progress: Progress,
    units: tuple[Unit | None, Unit | None] = (None, None),
    refuse: Callable[[Path], None] = lambda path: None,
) -> Delivery:
    """Write datasets to a file or a set of files, read back from disk and compare, all before they get their names.

    Parameters
    ----------
    refuse : callable
        Called with every file of a set before anything is written; raises CallError where nothing may be written.

    Raises
    ------
    CallError
        If the format cannot hold this, or units are missing.
    WriteError
        If the system refuses, or what was written cannot be read back; nothing is left behind.
    """
    began = time.perf_counter()
    if target.write is None or (target.read is None and target.verify is None):
        raise CallError(f"{target.title} can be read but not written")
    findings: list[Finding] = []
    params = target.fits([in_units_asked(each, units) for each in datasets], params)
    sent = prepared(datasets, target, params, units, findings)
    need_room(path, sum(target.weigh(each) for each in sent))
    files = target.plan(sent, path.stem, params) if target.plan is not None else ()
    if files:
        for each in files:
            refuse(path.with_name(each.name))
        written = _written_set(files, path, target, params, progress)
    elif target.parts:
        written = _written_parts(sent, path, target, params, progress, refuse)
    else:
        written = _written_one(sent, path, target, params, progress)
    unit = sent[0].frame.vertical if sent[0].has_lengths else None
    return Delivery(
        path=written.path,
        format=target.id,
        size=written.size,
        checks=written.checks,
        vertical=written.vertical,
        plan=written.plan,
        unit=unit.value if unit else "",
        findings=(*findings, *written.findings),
        seconds=time.perf_counter() - began,
        plan_unit=sent[0].frame.horizontal.value if sent[0].frame.horizontal else "",
        files=written.files,
    )


@dataclass(frozen=True, slots=True)
class _Written:
    """What was written and compared, of one file or of a set."""

    path: Path
    size: int
    checks: tuple[Compared, ...]
    vertical: float | None
    plan: float | None
    findings: tuple[Finding, ...]
    files: tuple[str, ...] = ()

    @property
    def good(self) -> bool:
        """Whether everything compared agrees."""
        return all(check.good for check in self.checks)


def _checked(
    sent: Sequence[Dataset], temporary: Path, named: Path, target: Format, params: Any, progress: Progress
) -> _Written:
    """Write one file under a temporary name, read it back and compare."""
    assert target.write is not None
    target.write(sent, temporary, params, progress.part(0.0, 0.6))
    size = temporary.stat().st_size
    if target.verify is not None:
        found = [Compared(*each) for each in target.verify(temporary, sent, params)]
        return _Written(named, size, tuple(found), None, None, ())
    assert target.read is not None
    try:
        options = target.read_params() if target.checking is None else target.checking(sent, params)
        back = target.read(temporary, options, progress.part(0.6, 0.9))
    except DataError as error:
        why = str(error).replace(str(temporary), str(named))
        raise WriteError(f"{named} was not written: what was written could not be read back ({why})") from error
    progress.report(0.9, "comparing")
    checks, vertical, plan = compare(sent, list(back.datasets), target, params, progress)
    if target.audit is not None:
        against = target.audit(temporary)
        if against is not None:
            objections = "; ".join(against[:3]) if against else "nothing to object to"
            checks.append(Compared("check by an independent library", "sound", objections, not against))
    # Notes tell what the file is, which is what was sent.
    told = (each for each in back.findings if each.severity is not Severity.NOTE)
    expected = _EXPECTED | target.expected(sent, params)
    expected |= _OF_HALVES if any(each.supplementary.any() for each in of_kind(sent, Contours)) else set()
    findings = tuple(finding for finding in told if finding.code not in expected)
    return _Written(named, size, tuple(checks), vertical, plan, findings)


def _written_one(sent: Sequence[Dataset], path: Path, target: Format, params: Any, progress: Progress) -> _Written:
    with beside(path) as (temporary, place):
        made = _checked(sent, temporary, path, target, params, progress)
        end = path
        if not made.good:
            # What the receiver could not read as it was sent never gets the name of what may be sent.
            end = failed(path)
            made = _said_failed(made, path, end)
        place(end)
    return made


def _said_failed(made: _Written, path: Path, end: Path) -> _Written:
    kept = f"{path.name} is as it was" if path.exists() else f"there is no {path.name}"
    told = Finding("not-verified", f"What was written is kept as {end.name} for a look; {kept}.")
    return dataclasses.replace(made, path=end, findings=(*made.findings, told))


def _written_set(files: Sequence[PlannedFile], path: Path, target: Format, params: Any, progress: Progress) -> _Written:
    """Write a set into a folder of its own and check each file; it gets its names as a whole, or not at all."""
    names = [each.name for each in files]
    if not names or len(set(names)) < len(names):
        raise CallError(f"{target.title} would write {len(names)} files under {len(set(names))} names")
    with staged(path) as (folder, place):
        made = []
        for k, each in enumerate(files):
            part = progress.part(k / len(files), (k + 1) / len(files))
            made.append(_checked(each.datasets, folder / each.name, path.with_name(each.name), target, params, part))
        checks = tuple(
            dataclasses.replace(check, what=f"{each.name}: {check.what}")
            for each, own in zip(files, made, strict=True)
            for check in own.checks
        )
        findings = [finding for own in made for finding in own.findings]
        ends = names
        if not all(check.good for check in checks):
            ends = [failed(Path(name)).name for name in names]
            for name, end in zip(names, ends, strict=True):
                (folder / name).rename(folder / end)
            text = f"What was written is kept as {listed(ends)} for a look; no file of the set got its name."
            findings.append(Finding("not-verified", text))
        place(ends)
    return _Written(
        path.with_name(ends[0]),
        sum(own.size for own in made),
        checks,
        _largest([own.vertical for own in made]),
        _largest([own.plan for own in made]),
        tuple(findings),
        tuple(ends),
    )


def _written_parts(
    sent: Sequence[Dataset],
    path: Path,
    target: Format,
    params: Any,
    progress: Progress,
    refuse: Callable[[Path], None],
) -> _Written:
    """Write a file and those that belong to it into a folder of its own; they get their names together, or none does.

    Raises
    ------
    CallError
        If a file of such a name is there and belongs to something else.
    """
    with staged(path) as (folder, place):
        made = _checked(sent, folder / path.name, path, target, params, progress)
        names = sorted(each.name for each in folder.iterdir())
        for name in names:
            beside_it = path.with_name(name)
            if name == path.name:
                continue
            refuse(beside_it)
            # One that says the same may speak for both.
            if beside_it.exists() and beside_it.read_bytes() != (folder / name).read_bytes():
                others = _relying(path, name)
                if others or not path.exists():
                    whose = others[0].name if others else "something else"
                    raise CallError(f"{beside_it} is there already and belongs to {whose}; choose another name")
        size = sum((folder / name).stat().st_size for name in names)
        end = path
        if not made.good:
            end = failed(path)
            for name in names:
                (folder / name).rename(folder / f"{end.stem}{name.removeprefix(path.stem)}")
            made = _said_failed(made, path, end)
            names = sorted(each.name for each in folder.iterdir())
        # Of the file that is replaced, what no longer belongs to it would speak for the new one.
        gone = [path.with_suffix(ending) for ending in target.parts if path.exists() and made.good]
        place(names)
        for each in gone:
            if each.name not in names and not _relying(path, each.name):
                each.unlink(missing_ok=True)
    return dataclasses.replace(made, path=end, size=size, files=tuple(names) if len(names) > 1 else ())


def _relying(path: Path, part: str) -> list[Path]:
    """Return the files beside one that a part of it belongs to as well, as one .prj does to rasters and shapefiles."""
    ending = Path(part).suffix.lower()
    near = [path.with_suffix(suffix) for each in catalog.FORMATS if ending in each.parts for suffix in each.suffixes]
    return [each for each in dict.fromkeys(near) if each != path and each.exists()]


def _largest(values: Sequence[float | None]) -> float | None:
    known = [value for value in values if value is not None]
    return max(known) if len(known) == len(values) else None


def failed(path: Path) -> Path:
    """Return the name that a file gets whose reading back showed differences."""
    return path.with_name(f"{path.stem}.failed{path.suffix}")


# Said of every file of the kind, so it says nothing about this one.
_EXPECTED = {"columns-guessed", "faces-turned"}
# Contours at half the interval do not keep it.
_OF_HALVES = {"contour-interval"}
