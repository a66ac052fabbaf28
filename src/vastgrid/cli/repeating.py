"""The commands that repeat: a job's steps as a recipe, and a recipe run on other files."""

from __future__ import annotations

import argparse
import re
from pathlib import Path
from typing import TYPE_CHECKING

from vastgrid.base.errors import CallError
from vastgrid.base.files import refuse_clashes
from vastgrid.base.words import instead, shortly
from vastgrid.cli.sending import print_account
from vastgrid.cli.telling import DATA_AT_FAULT, DONE, end_progress, tell, watched

if TYPE_CHECKING:
    from vastgrid.recipes.run import RunAccount


def recipe(options: argparse.Namespace, _groups: list[tuple[str, list[str]]]) -> int:
    """Write the steps behind a card, or a whole job, as a recipe."""
    from vastgrid.jobs.session import Session
    from vastgrid.lineage.store import JOB_FILE
    from vastgrid.recipes.capture import recipe_of
    from vastgrid.recipes.recipe import write_recipe

    if not (options.job / JOB_FILE).exists():
        raise CallError(f"there is no job in {options.job}")
    refuse_clashes([options.job / JOB_FILE], {"the recipe": options.out})
    session = Session(options.job)
    try:
        cards = []
        for name in options.card:
            found = [card for card, own in session.graph.cards.items() if own.name == name]
            if not found:
                known = [own.name for own in session.graph.cards.values()]
                raise CallError(f"--card {shortly(name)}: there is no such card; {instead(name, known)}")
            cards += found
        title = options.card[0] if len(options.card) == 1 else session.name
        made = recipe_of(session.graph, session.executor, session.sentence, title, cards)
    finally:
        session.close()
    write_recipe(options.out, made)
    print(
        f"{options.out.name}: {len(made.steps)} steps from {len(made.slots)} sources, {len(made.sent)} files; run it with\n"
        f"vastgrid run {options.out} {' '.join(f'{slot.name}=FILE' for slot in made.slots)} --into FOLDER"
    )
    return DONE


def run(options: argparse.Namespace, _groups: list[tuple[str, list[str]]]) -> int:
    """Run a recipe on files; one that fails does not stop the others."""
    from vastgrid.jobs.save_as_job import NewJob, keep_job
    from vastgrid.recipes.recipe import read_recipe
    from vastgrid.recipes.run import run_many, runs_of
    from vastgrid.reports.account import as_json

    made = read_recipe(options.recipe)
    runs = runs_of(made, [_given(word) for word in options.files], options.into)
    store = None
    if options.job is not None:
        if len(runs) > 1:
            raise CallError("--job keeps one run; give each slot one file")
        store = NewJob(options.job)
    accounts = run_many(
        made,
        runs,
        watched(),
        replace=options.replace,
        store=store,
        done=lambda k, account: None if options.json else _told(account, len(runs)),
    )
    end_progress()
    if options.job is not None and accounts[0].graph is not None:
        keep_job(options.job, made.title or "job", accounts[0].graph, f"run {made.title}")
    good = sum(account.good for account in accounts)
    if options.json:
        values = {"runs": [account.to_json() for account in accounts], "good": good, "failed": len(accounts) - good}
        print(as_json(values))
    elif len(accounts) > 1:
        print(f"{good} of {len(accounts)} runs are good.")
    return DONE if good == len(accounts) else DATA_AT_FAULT


def _told(account: RunAccount, number: int) -> None:
    end_progress()
    if number > 1:
        print(f"— {account.folder.name} —")
    print_account(account)
    for path in account.tables:
        print(f"{path.name} written.")
    tell(account.findings())
    if account.error:
        names = ", ".join(path.name for paths in account.files.values() for path in paths)
        print(f"failed ({names}): {account.error}")


def _given(word: str) -> tuple[str, Path, bool]:
    found = re.fullmatch(r"([^=+\s][^=+]*)(\+?)=(.+)", word, re.DOTALL)
    if not found:
        raise CallError(f"“{word}” is not slot=FILE")
    return found[1], Path(found[3]), bool(found[2])
