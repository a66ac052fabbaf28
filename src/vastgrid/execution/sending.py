"""Sets from the command line: one reading, one chain of conversions, several files, each read back."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from vastgrid import catalog
from vastgrid.base.errors import CallError, WriteError
from vastgrid.base.files import all_or_none, make_folder, refuse_clashes, refuse_present
from vastgrid.base.findings import Finding
from vastgrid.base.progress import Progress
from vastgrid.delivery.sets import MEETING, DeliverySet, Enclosure, belonging, grounds, stem_of
from vastgrid.execution.executor import Units
from vastgrid.execution.input_options import Options, Said
from vastgrid.execution.run import Run
from vastgrid.execution.run_log import Account, Via
from vastgrid.lineage.store import Store
from vastgrid.params import declare


def run_set(
    paths: Sequence[Path],
    chosen: DeliverySet,
    folder: Path,
    vias: Sequence[Via],
    *,
    read_words: Options,
    from_units: Said,
    override_units: bool,
    units: Units,
    replace: bool,
    progress: Progress,
    account: Account,
    store: Store | None = None,
) -> Run:
    """Read, convert, and write every file of a set into a folder; return the run.

    Parameters
    ----------
    replace : bool
        Whether files of these names that are there may be replaced.
    store : Store or None
        Where results are kept, if the run is to become a job.

    Raises
    ------
    CallError
        If a file of such a name is there, before anything is written.
    """
    run = Run(account, store)
    run.read(paths, read_words, from_units, progress.part(0.0, 0.2), override=override_units)
    for k, via in enumerate(vias):
        run.via(via, progress.part(0.2 + 0.2 * k / len(vias), 0.2 + 0.2 * (k + 1) / len(vias)))
    whole = list(run.have)
    stem = stem_of(run.datasets(whole))
    targets = {k: folder / each.file_name(stem) for k, each in enumerate(chosen.enclosures)}
    refuse_clashes(paths, {f"the set’s {path.name}": path for path in targets.values()})
    if not replace:
        refuse_present(targets.values(), folder)
    make_folder(folder)
    with all_or_none(folder):
        for k, enclosure in enumerate(chosen.enclosures):
            part = progress.part(0.4 + 0.6 * k / len(targets), 0.4 + 0.6 * (k + 1) / len(targets))
            run.have = _enclosed(run, whole, enclosure, part.part(0.0, 0.3))
            kind = catalog.format_named(enclosure.format)
            run.to_format(kind, declare.build(kind.write_params, enclosure.words), part.part(0.3, 0.5))
            run.deliver(kind, targets[k], enclosure.words, units, part.part(0.5, 1.0))
        wrong = [each for each in account.deliveries if not each.good]
        if wrong:
            raise WriteError(f"no file of the set was written: {' '.join(each.sentence() for each in wrong)}")
    run.have = whole
    return run


def _enclosed(run: Run, whole: Sequence[str], enclosure: Enclosure, progress: Progress) -> list[str]:
    """Return the cards that go into one file; the line of no change is made where it belongs to it.

    Raises
    ------
    CallError
        If nothing of what there is goes into it.
    """
    have = dict(zip(whole, run.datasets(whole), strict=True))
    cards = belonging(enclosure, have, becoming=True)
    if enclosure.meeting:
        surfaces = grounds(have)
        if len(surfaces) > 1:
            run.have = surfaces[:2]
            run.via(Via(catalog.conversion_named(MEETING), {}), progress)
            cards += run.have
        else:
            text = "There is one surface only, so there is no line of no change; name the second one after it."
            run.account.add_findings(-1, [Finding("no-second-surface", text)])
    if not cards:
        kinds = ", ".join(enclosure.kinds)
        raise CallError(
            f"a {catalog.format_named(enclosure.format).title} of this set holds {kinds}, and there is none"
        )
    return cards
