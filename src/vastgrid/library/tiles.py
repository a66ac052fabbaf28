"""Work on tiles from a script: files larger than memory, on this machine's processes or on a cluster."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from vastgrid import catalog
from vastgrid.base.errors import WriteError
from vastgrid.base.quantities import Length as AnyLength
from vastgrid.execution.input_options import Options, Said
from vastgrid.execution.run_log import Account, Via
from vastgrid.library.calls import Told, log, progress_of
from vastgrid.library.data import told
from vastgrid.library.files import Written, written
from vastgrid.library.spoken import in_script_words
from vastgrid.library.values import Length, units_from, words_of


@in_script_words()
def run_tiles(
    paths: str | Path | Sequence[str | Path],
    target: str | Path,
    steps: Sequence[tuple[str, Mapping[str, Any]]],
    *,
    tile: AnyLength | float | str | None = None,
    workers: int = 0,
    cluster: str = "",
    unit: str | None = None,
    vertical_unit: str | None = None,
    reading: Mapping[str, Any] | None = None,
    progress: Told | None = None,
    **options: Any,
) -> tuple[Written, ...]:
    """Read files or folders in parts, convert, and write; the result does not depend on the tiles.

    Parameters
    ----------
    steps : sequence of (id, parameters)
        Conversions in order.
    tile : length or None
        Width of a tile; one that fits where nothing is said.
    workers, cluster : int, str
        Processes on this machine, or the address of a Dask scheduler.
    reading : mapping
        Reading options.
    **options
        Writing options of the format.

    Raises
    ------
    CallError
        If a step cannot run on tiles.
    WriteError
        If what was written does not agree with what was made.
    """
    from vastgrid.tiled.plans import TilingOptions
    from vastgrid.tiled.run import run_tiled

    own = [Path(each) for each in ([paths] if isinstance(paths, str | Path) else paths)]
    to = Path(target)
    kind = catalog.format_of_target(to)
    vias = []
    for name, parameters in steps:
        conversion = catalog.conversion_named(name)
        vias.append(Via(conversion, words_of(conversion.params, parameters)))
    width = tile if tile is None or isinstance(tile, AnyLength) else Length(tile)
    account = Account()
    run_tiled(
        own,
        to,
        vias,
        read_words=Options({name: str(value) for name, value in (reading or {}).items()}),
        write_words=words_of(kind.write_params, options),
        from_units=Said(units_from(unit, vertical_unit)),
        asked=TilingOptions(width, workers, cluster),
        progress=progress_of(progress),
        account=account,
    )
    for step in account.steps:
        log.info(step.sentence)
    bad = [each.sentence() for each in account.deliveries if not each.good]
    if bad:
        raise WriteError(" ".join(bad))
    return tuple(written(each, told(each.findings)) for each in account.deliveries)
