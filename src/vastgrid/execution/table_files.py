"""Tables as files: the answer of a step as comma-separated text, read back and compared, or as a report."""

from __future__ import annotations

import csv
from collections.abc import Sequence
from pathlib import Path

from vastgrid.base.errors import CallError, WriteError
from vastgrid.base.files import all_or_none, beside, refuse_clashes
from vastgrid.base.findings import count
from vastgrid.base.progress import Progress
from vastgrid.data.kinds import of_kind
from vastgrid.data.table import Table
from vastgrid.execution.papers import ENDINGS, report_of, write_report
from vastgrid.execution.run import Run
from vastgrid.execution.run_log import Account, Via

CSV = ".csv"


def goes_out_as_table(vias: Sequence[Via], target: Path) -> bool:
    """Say whether the last step gives nothing but tables, and the target can hold them."""
    if not vias or not vias[-1].conversion.answers:
        return False
    kinds = {output.kind for output in vias[-1].conversion.outputs}
    ending = target.suffix.lower()
    return ending in ENDINGS or (ending == CSV and kinds == {Table})


def write_tables(run: Run, inputs: Sequence[Path], target: Path, account: Account, progress: Progress) -> list[str]:
    """Write the tables that a run has at its end; return what is to be said of each file.

    Parameters
    ----------
    inputs : sequence of Path
        What was read, which no table may fall on.

    Raises
    ------
    CallError
        If there is no table, or one would be written over an input.
    WriteError
        If the system refuses, or what was written reads back otherwise.
    """
    tables = of_kind(run.datasets(run.have), Table)
    if not tables:
        raise CallError("there is no table to write")
    if target.suffix.lower() != CSV:
        steps = {"steps": [step.to_json() for step in account.steps], "tables": {t.name: t.rows() for t in tables}}
        write_report(target, report_of(account, [], {}, tables[0].name), steps, progress)
        return [f"{target.name}: a report with {count(len(tables), 'table')} written."]
    paths = [target, *(target.with_name(f"{target.stem}-{k}{target.suffix}") for k in range(2, len(tables) + 1))]
    refuse_clashes(inputs, {f"the table {table.name}": path for table, path in zip(tables, paths, strict=True)})
    said = []
    with all_or_none(target.parent):
        for table, path in zip(tables, paths, strict=True):
            with beside(path) as (temporary, place):
                temporary.write_text(table.as_csv(), encoding="utf-8", newline="")
                _check(table, temporary, path)
                place(path)
            rows = len(next(iter(table.columns.values()), ()))
            said.append(f"{path.name}: {table.name}, {count(rows, 'row')} written and read back; every figure agrees.")
    return said


def _check(table: Table, file: Path, path: Path) -> None:
    """Refuse a file whose figures are not the table's to the last digit."""
    with file.open(encoding="utf-8", newline="") as lines:
        heads, *rows = list(csv.reader(lines))
    columns = list(zip(*rows, strict=True)) or [()] * len(heads)
    for values, cells in zip(table.columns.values(), columns, strict=True):
        for value, cell in zip(values.tolist(), cells, strict=True):
            good = value.decode("utf-8", "replace") == cell if isinstance(value, bytes) else _same(value, cell)
            if not good:
                raise WriteError(f"{path} was not written: “{cell}” reads back for {value!r}")


def _same(value: float, cell: str) -> bool:
    read = float(cell) if cell else float("nan")
    return read == value or (read != read and value != value)
