"""Files from a script: read, and written with what reading them back showed."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from vastgrid import catalog
from vastgrid.base.errors import CallError, WriteError
from vastgrid.base.files import refuse_clashes
from vastgrid.base.progress import Progress
from vastgrid.data.dataset import Dataset
from vastgrid.delivery.deliver import deliver
from vastgrid.execution.input_options import Options, Said
from vastgrid.execution.run import Run
from vastgrid.execution.run_log import Account, source_sentence
from vastgrid.execution.steps import in_one_frame
from vastgrid.library.calls import Told, log, made_unasked, paths_behind, progress_of
from vastgrid.library.data import Data, Finding, Origin, told
from vastgrid.library.kinds import dataset_of, wrapped
from vastgrid.library.spoken import in_script_words
from vastgrid.library.values import units_from, words_of
from vastgrid.lineage.delivered import Compared, Delivery
from vastgrid.params import declare


@in_script_words()
def read(
    *paths: str | Path,
    unit: str | None = None,
    vertical_unit: str | None = None,
    override_units: bool = False,
    progress: Told | None = None,
    **options: Any,
) -> Any:
    """Read files of any known format; return the data in them: one, or a tuple of all.

    Parameters
    ----------
    unit, vertical_unit : str or None
        Units of what files leave unknown; with `override_units` also where they say others.
    progress : callable or None
        Called with the share that is done and a text; cancels by raising `Cancelled`.
    **options
        Reading options of the formats, each given to those that have it.

    Raises
    ------
    FormatError
        If a file is not what it should be.
    CallError
        If no format has an option, or units contradict each other.
    """
    if not paths:
        raise CallError("read needs a file")
    own = [Path(each) for each in paths]
    words: dict[str, str] = {}
    for path in own:
        names = {each.name for each in declare.fields(catalog.recognise(path).read_params)}
        mine = {name: value for name, value in options.items() if {name, name.removesuffix("_")} & names}
        words |= words_of(catalog.recognise(path).read_params, mine)
    # What no format has is refused where the files are read, with the names there are.
    words |= {name: str(value) for name, value in options.items() if not {name, name.removesuffix("_")} & words.keys()}
    account = Account()
    run = Run(account)
    units = units_from(unit, vertical_unit)
    run.read(own, Options(words), Said(units), progress_of(progress), override=override_units)
    found: list[Data] = []
    for (source, _), step in zip(run.sources, account.steps, strict=True):
        origin = Origin(source_sentence(source), findings=told(step.findings), paths=(source.path.resolve(),))
        log.info(origin.sentence)
        found += [wrapped(each, origin) for each in source.datasets]
    return found[0] if len(found) == 1 else tuple(found)


@dataclass(frozen=True, slots=True)
class Written:
    """A file that was written, read back and compared.

    Attributes
    ----------
    path : Path
        The file, or the first of a set.
    size : int
        Bytes, of all files of a set.
    checks : tuple
        What was compared: `what`, `sent`, `read`, `good`.
    largest_height_difference, largest_plan_difference : float or None
        Of any place, in the units of the data; None where places cannot be paired.
    findings : tuple of Finding
        What the file could not hold.
    sentence : str
        The outcome.
    files : tuple of str
        Names of the files of a set; empty where there is only one.
    """

    path: Path
    size: int
    checks: tuple[Compared, ...]
    largest_height_difference: float | None
    largest_plan_difference: float | None
    findings: tuple[Finding, ...]
    sentence: str
    files: tuple[str, ...] = ()


@in_script_words()
def write(
    path: str | Path,
    *data: Data,
    unit: str | None = None,
    vertical_unit: str | None = None,
    progress: Told | None = None,
    **options: Any,
) -> Written:
    """Write data into one file, or a set of them, read it back and compare; the ending says the format.

    What the format cannot hold becomes what it can by the least that leads there, as by the command line.

    Parameters
    ----------
    unit, vertical_unit : str or None
        Units of the file, where they are to be others.
    **options
        Writing options of the format.

    Raises
    ------
    CallError
        If the format cannot hold it, or the file is one that the data was read from.
    WriteError
        If the system refuses, or what was read back is not what was sent: the file is then called ``….failed``.
    """
    if not data:
        raise CallError("write needs data")
    target = Path(path)
    kind = catalog.format_of_target(target)
    if kind.write is None:
        raise CallError(f"{kind.title} cannot be written")
    refuse_clashes(paths_behind(data), {"the result": target})
    params = declare.build(kind.write_params, words_of(kind.write_params, options))
    own = progress_of(progress)
    carries = kind.carries_with(params)
    sent = _fit_for(data, carries.kinds, kind.title, own.part(0.0, 0.3))
    noticed: list[Any] = []
    if not carries.geographic:
        sent = in_one_frame(sent, noticed)
    units = units_from(unit, vertical_unit)
    made = deliver(sent, target, kind, params, own.part(0.3, 1.0), units)
    log.info(made.sentence())
    if not made.good:
        raise WriteError(made.sentence())
    return written(made, told((*noticed, *made.findings)))


def _fit_for(data: Sequence[Data], wanted: tuple[type[Dataset], ...], what: str, progress: Progress) -> list[Dataset]:
    out: list[Dataset] = []
    for each in data:
        made: Sequence[Data] = (each,)
        for step in catalog.chain([dataset_of(each)], wanted, what):
            made = made_unasked(step, made, progress)
        out += [dataset_of(one).renamed(each.name) for one in made]
    return out


def written(made: Delivery, findings: tuple[Finding, ...]) -> Written:
    """Return what a script is told of a delivery."""
    return Written(
        made.path, made.size, made.checks, made.vertical, made.plan, findings, made.sentence(), tuple(made.files)
    )
