"""The commands about the program itself: its manual, its health, its place on the desktop, help for the shell."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path

from vastgrid.base.errors import CallError
from vastgrid.cli.telling import DATA_AT_FAULT, DONE, end_progress, watched


def manual(options: argparse.Namespace, _groups: list[tuple[str, list[str]]]) -> int:
    """Print a page of the manual, list the pages, look for words, or write all as a folder of pages."""
    from vastgrid.manual.pages import found, page, pages
    from vastgrid.manual.site import write_site

    if options.into is not None:
        number = write_site(options.into)
        print(f"{number} pages written; begin with {options.into / 'index.html'}")
        return DONE
    if options.search:
        hits = found(options.search)
        if not hits:
            print(f"no page has “{options.search}”", file=sys.stderr)
            return DATA_AT_FAULT
        for each in hits:
            print(f"{each.slug:28} {each.title}")
        return DONE
    if not options.page:
        for each in pages():
            print(f"{each.slug:28} {each.title}")
        return DONE
    name, _, place = options.page.partition("#")
    own = page(name)
    if own is None:
        # A finding's code leads to its place.
        own, place = (
            (page("findings"), name) if f"### {name}\n" in (page("findings") or pages()[0]).text else (None, "")
        )
    if own is None:
        raise CallError(f"the manual has no page “{options.page}”; vastgrid manual lists them, --search WORDS looks")
    print(_from(own.text, place).rstrip())
    return DONE


def _from(text: str, place: str) -> str:
    """Return the part of a page that a place on it means."""
    lines = text.splitlines()
    heads = [k for k, line in enumerate(lines) if line.startswith("#")]
    for n, k in enumerate(heads):
        if place and lines[k].lstrip("# ").strip() == place:
            stop = heads[n + 1] if n + 1 < len(heads) else len(lines)
            return "\n".join(lines[k:stop])
    return text


def doctor(options: argparse.Namespace, _groups: list[tuple[str, list[str]]]) -> int:
    """Say what is installed, what is missing and what to do."""
    from dataclasses import asdict

    from vastgrid.home.doctor import looked
    from vastgrid.reports.account import as_json

    found = looked()
    if options.json:
        print(as_json({"looks": [asdict(each) for each in found]}))
    else:
        for each in found:
            print(each.line())
    # A machine without a screen is a good place for the command line.
    return DONE if all(each.good or each.what == "Screen" for each in found) else DATA_AT_FAULT


def verify(options: argparse.Namespace, _groups: list[tuple[str, list[str]]]) -> int:
    """Run the cases whose results are known, and say what came out."""
    from vastgrid.reports.account import as_json
    from vastgrid.verification import book
    from vastgrid.verification.cases import run_all

    if options.report is not None:
        from vastgrid.execution.papers import check_ending

        check_ending(options.report)
    progress = watched()
    outcomes = run_all(progress, options.only)
    if not outcomes:
        raise CallError(f"no case is about {', '.join(options.only)}")
    if options.report is not None:
        book.write(options.report, outcomes, progress)
    end_progress()
    if options.json:
        print(as_json(book.to_json(outcomes)))
    else:
        for each in outcomes:
            print(book.line(each))
        print(book.summary(outcomes))
    return DONE if all(each.passed for each in outcomes) else DATA_AT_FAULT


def plugin(options: argparse.Namespace, _groups: list[tuple[str, list[str]]]) -> int:
    """Write a plug-in to begin from, or look whether one keeps the contract."""
    if options.what == "new":
        from vastgrid.plugin.template import write_plugin

        for path in write_plugin(options.name, options.into):
            print(path)
        print(f"next: python -m vastgrid.plugin.check {options.into / options.name}")
        return DONE
    from vastgrid.plugin.check import main

    return main([options.name])


def desktop(options: argparse.Namespace, _groups: list[tuple[str, list[str]]]) -> int:
    """Put menu entry, icon and file types in place, or take them away."""
    from vastgrid.home import desktop as own

    if options.install == options.remove:
        raise CallError("desktop needs --install or --remove")
    paths = own.install(options.into) if options.install else own.remove(options.into)
    for path in paths:
        print(path)
    if not paths:
        print("nothing was in place")
    return DONE


def completion(options: argparse.Namespace, _groups: list[tuple[str, list[str]]]) -> int:
    """Print completion for a shell."""
    from vastgrid.cli.shells import script

    print(script(options.shell), end="")
    return DONE


def man(options: argparse.Namespace, _groups: list[tuple[str, list[str]]]) -> int:
    """Print the manual page for the man command, or write it into a folder."""
    from vastgrid.base.files import write_text
    from vastgrid.cli.shells import man_page

    if options.into is None:
        print(man_page(), end="")
    else:
        target = Path(options.into) / "vastgrid.1"
        target.parent.mkdir(parents=True, exist_ok=True)
        write_text(target, man_page())
        print(target)
    return DONE
