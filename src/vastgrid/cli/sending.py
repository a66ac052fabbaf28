"""The commands that send: a set of files, a scene for a browser, and the tree of what a file holds."""

from __future__ import annotations

import argparse
from pathlib import Path

from vastgrid.base.errors import CallError
from vastgrid.cli.asked import reading, said
from vastgrid.cli.telling import DONE, end_progress, tell, watched


def tree(options: argparse.Namespace, groups: list[tuple[str, list[str]]]) -> int:
    """Show what is in a file, as a tree."""
    from vastgrid.reports.account import as_json
    from vastgrid.session.accounts import Account
    from vastgrid.session.chains import read_sources
    from vastgrid.session.outline import outline

    (source,) = read_sources(
        [options.path], reading(groups), said(options), Account(), watched(), override=options.override_units
    )
    end_progress()
    items = outline(source.datasets)
    if options.json:
        print(as_json({"format": source.format.id, "items": [item.to_json() for item in items]}))
        return DONE
    print(f"{options.path.name}: {source.format.title}")
    for item in items:
        for line in item.lines(1):
            print(line)
    tell(list(source.findings))
    return DONE


def scene_target(options: argparse.Namespace) -> None:
    """Refuse a scene that would not be a page.

    Raises
    ------
    CallError
        If the last name does not end in .html.
    """
    target = Path(options.paths[-1])
    if target.suffix.lower() not in (".html", ".htm"):
        raise CallError(f"web writes a page, and “{target.name}” does not end in .html")
