"""The command line. Conversions, formats and their options come from the declarations; nothing is listed twice."""

from __future__ import annotations

import argparse
import logging
import os
import re
import sys
import time
import traceback
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import NoReturn

from vastgrid import __version__
from vastgrid.base import interrupts
from vastgrid.base.errors import CallError, Cancelled, VastGridError
from vastgrid.base.quantities import LENGTH_UNITS
from vastgrid.base.streams import LostWordsError
from vastgrid.base.words import instead, shortly
from vastgrid.cli import commands, home, listing, repeating, sending
from vastgrid.cli.asked import split, unit
from vastgrid.cli.telling import CALL_AT_FAULT, DATA_AT_FAULT, DONE, end_progress

# Commands that take --read, and some of them --via, --write and --check.
_QUESTIONS = ("compare", "volumes", "accuracy", "stages", "pile", "fit")
_TAKING_GROUPS = ("convert", "web", "tree", "info", "forms", "inspect", *_QUESTIONS)


class Parser(argparse.ArgumentParser):
    """An argument parser that raises our own error."""

    def error(self, message: str) -> NoReturn:
        """Raise instead of printing usage and leaving."""
        found = re.fullmatch(r"(argument [^:]+): invalid choice: '(.*)' \(choose from (.*)\)", message, re.DOTALL)
        if found:
            known = [word.strip(" '") for word in found[3].split(",")]
            raise CallError(
                f"there is no “{shortly(found[2])}” here; {instead(found[2], known)}; see {self.prog} --help"
            )
        raise CallError(f"{message[:160]}; see {self.prog} --help")


def run(arguments: Sequence[str]) -> int:
    """Run one command; return the exit code (0 done, 1 the data is at fault, 2 the call is)."""
    try:
        return _run(list(arguments))
    except CallError as error:
        return _failed(error, CALL_AT_FAULT)
    except VastGridError as error:
        return _failed(error, DATA_AT_FAULT)
    except (Cancelled, KeyboardInterrupt):
        if interrupts.ended():
            _failed(interrupts.what_was_written(), interrupts.exit_code())
        return interrupts.exit_code()
    except BrokenPipeError:
        sys.stderr.close()
        return DONE
    except LostWordsError as error:
        return told_in_vain(error)
    except Exception as error:
        if os.environ.get("VASTGRID_DEBUG"):
            raise
        from vastgrid.home.faults import report

        last = traceback.extract_tb(error.__traceback__)[-1]
        where = f"{Path(last.filename).stem}, line {last.lineno}"
        written = report(type(error), error, error.__traceback__)
        kept = f"a report is in {written}; " if written else ""
        return _failed(
            f"an unforeseen fault in the program itself ({where}); {kept}{interrupts.what_was_written().removeprefix('stopped; ')}. "
            "VASTGRID_DEBUG=1 shows where it came from",
            DATA_AT_FAULT,
        )


def told_in_vain(error: LostWordsError) -> int:
    """Say that what a command had to say could not be written out, and what was written all the same."""
    made = interrupts.what_was_written().removeprefix("stopped; ")
    return _failed(f"what there was to say could not be written out ({error}); {made}", DATA_AT_FAULT)


def _failed(error: object, code: int) -> int:
    end_progress()
    print(f"vastgrid: {error}", file=sys.stderr)
    if isinstance(error, VastGridError):
        if sys.stderr.isatty():
            # A person reads on; what runs the command for somebody gets one line.
            from vastgrid.manual.pages import of_error

            print(f"more: vastgrid manual {of_error(error)}", file=sys.stderr)
        _log().warning("%s: %s", type(error).__name__, error)
    return code


def _log() -> logging.Logger:
    from vastgrid.home.log import begin

    return begin()


def _run(arguments: list[str]) -> int:
    parser = build_parser()
    if not arguments:
        parser.print_help()
        return CALL_AT_FAULT
    # What belongs to --via, --read and --write ends at the first word that is no key=value: argparse cannot say that.
    rest, groups = split(arguments)
    options = parser.parse_args(rest)
    for name, _ in groups:
        if options.command not in _TAKING_GROUPS or (options.command in _QUESTIONS and name != "--read"):
            raise CallError(f"{name} does not belong to {options.command}")
    command: Callable[[argparse.Namespace, list[tuple[str, list[str]]]], int] = options.run
    began = time.perf_counter()
    code = command(options, groups)
    vias = ", ".join(own[0] for name, own in groups if name == "--via")
    _log().info(
        "%s%s: exit code %d, %.1f s", options.command, f" via {vias}" if vias else "", code, time.perf_counter() - began
    )
    return code


def build_parser() -> Parser:
    """Return the parser of all commands."""
    units = ", ".join(f"{each.value} ({each.title})" for each in LENGTH_UNITS)
    parser = Parser(prog="vastgrid", description="Terrain conversion, with the proof of what each conversion did.")
    parser.add_argument("--version", action="version", version=f"vastgrid {__version__}")
    adding = parser.add_subparsers(dest="command", required=True, metavar="COMMAND", parser_class=Parser)

    def command(name: str, text: str, run: Callable[..., int], more: str = "") -> argparse.ArgumentParser:
        parser = adding.add_parser(
            name, help=text, description=text, epilog=more, formatter_class=argparse.RawDescriptionHelpFormatter
        )
        parser.set_defaults(run=run)
        return parser

    def common(parser: argparse.ArgumentParser) -> None:
        parser.add_argument("--json", action="store_true", help="print figures as JSON")
        parser.add_argument(
            "--from-units",
            action="append",
            metavar="U",
            help=f"plan unit of inputs that do not say theirs, or FILE=U for one of them: {units}",
        )
        parser.add_argument(
            "--from-vertical-units",
            action="append",
            metavar="U",
            help="height unit of inputs that do not say theirs, or FILE=U for one of them",
        )
        parser.add_argument(
            "--override-units", action="store_true", help="use these units even if the file states others"
        )

    own = command(
        "convert", "Read files, convert, write one file, read it back and compare.", commands.convert, _CONVERT_MORE
    )
    own.add_argument("paths", nargs="+", metavar="IN… OUT", type=Path)
    common(own)
    _writing(own)
    own.add_argument("--set", metavar="NAME", help="write a set of files instead of one; see: vastgrid sets")
    own.add_argument("--into", type=Path, metavar="FOLDER", help="where the files of a set go")
    own.add_argument("--replace", action="store_true", help="let a set write over files of its names")
    own.add_argument("--job", type=Path, metavar="FOLDER", help="keep what was done as a job, in a new folder")
    _tiling(own)
    own = command(
        "web", "Write a scene that opens in any browser, from disk, without a network.", sending.web, _WEB_MORE
    )
    own.add_argument("paths", nargs="+", metavar="IN… SCENE.html", type=Path)
    common(own)
    _writing(own)
    own.set_defaults(set=None, into=None, replace=False, job=None, tiles=None, workers=None, cluster="")
    own = command("tree", "Show what is in a file, as a tree.", sending.tree, "Reading options: --read key=value …")
    own.add_argument("path", metavar="FILE", type=Path)
    common(own)
    own = command("info", "Say what a file holds.", commands.info, "Reading options: --read key=value …")
    own.add_argument("path", metavar="FILE", type=Path)
    common(own)
    own = command(
        "compare", "Vertical difference of two surfaces over their common ground (B minus A).", commands.compare
    )
    own.add_argument("first", metavar="A", type=Path)
    own.add_argument("second", metavar="B", type=Path)
    common(own)
    _questions(command, common)
    own = command(
        "forms",
        "Compare output formats: one surface as contours, grid and TIN, with count, size and loss.",
        commands.forms,
    )
    own.add_argument("path", metavar="SURFACE", type=Path)
    common(own)
    own = command(
        "inspect",
        "Look at files as an experienced person would: spikes, gaps, wrong units …",
        commands.inspect,
        _INSPECT_MORE,
    )
    own.add_argument("paths", nargs="+", metavar="FILE", type=Path)
    common(own)
    _repeats(command)
    _lists(command)
    _about(command)
    adding.add_parser("demo", help="Open the window with the demo job.")
    own = adding.add_parser("open", help="Open the window, with a job folder or files.")
    own.add_argument("paths", nargs="*")
    return parser


def _questions(command: Callable[..., argparse.ArgumentParser], common: Callable[..., None]) -> None:
    """Add the commands that answer how much and how good."""

    def inside(parser: argparse.ArgumentParser, what: str) -> None:
        parser.add_argument("--inside", action="append", type=Path, metavar="FILE", help=what)
        parser.add_argument(
            "--boundaries", metavar="NAMES", help="names or layers of the closed lines that count; * for any"
        )
        parser.add_argument("--ground", action="store_true", help="ground quantities, by the combined factor")

    def answers(parser: argparse.ArgumentParser) -> None:
        common(parser)
        parser.add_argument("--report", type=Path, metavar="FILE", help="write a report (.html, .pdf, .md or .json)")

    parser = command(
        "volumes", "Cut and fill between two surfaces: exact, and by cells and sections beside it.", commands.volumes
    )
    parser.add_argument("base", metavar="BASE", type=Path)
    parser.add_argument("top", metavar="TOP", type=Path)
    inside(parser, "count inside the closed lines of this file alone, each with a row")
    parser.add_argument("--depth", metavar="LENGTH", help="cut and fill in classes of so much height")
    parser.add_argument("--swell", metavar="N", help="bulking factor: loose volume for each unit cut")
    parser.add_argument("--shrink", metavar="N", help="shrinkage factor: compacted fill for each unit cut")
    parser.add_argument("--cell", metavar="LENGTH", help="size of the cells of the cross-check")
    parser.add_argument("--sections", metavar="LENGTH", help="how far apart the sections of the cross-check stand")
    answers(parser)
    _tiling(parser)
    parser = command(
        "accuracy", "Independent check points against a surface, by the published standards.", commands.accuracy
    )
    parser.add_argument("surface", metavar="SURFACE", type=Path)
    parser.add_argument("points", metavar="POINTS", type=Path)
    parser.add_argument("--by", metavar="FIELD", help="split the figures by this attribute of the points")
    parser.add_argument("--blunder", metavar="N", help="point out residuals beyond this many robust deviations (3)")
    parser.add_argument("--survey", metavar="LENGTH", help="RMSE of the check points themselves, which ASPRS 2024 adds")
    answers(parser)
    parser = command(
        "fit", "Points in local coordinates onto the same points, known: residuals and figures.", commands.fit
    )
    parser.add_argument("local", metavar="LOCAL", type=Path)
    parser.add_argument("known", metavar="KNOWN", type=Path)
    parser.add_argument(
        "--model", choices=("shift", "helmert", "helmert_fixed", "affine", "helmert_3d"), help="which model (helmert)"
    )
    parser.add_argument("--heights", choices=("auto", "shift", "plane", "none"), help="how heights are brought along")
    parser.add_argument("--by", metavar="FIELD", help="attribute with the numbers or names of the points")
    parser.add_argument("--blunder", metavar="N", help="name points beyond this many standard deviations (3)")
    parser.add_argument("--drop", action="store_true", help="leave those points out")
    parser.add_argument("--keep", metavar="FILE", help="keep the fit in this file, for convert --via fit using=FILE")
    answers(parser)
    parser = command("stages", "Storage volumes by level: area and volume below each level.", commands.stages)
    parser.add_argument("surface", metavar="SURFACE", type=Path)
    inside(parser, "the closed line around the basin")
    parser.add_argument("--every", metavar="LENGTH", help="what neighbouring levels differ by")
    parser.add_argument("--levels", metavar="LIST", help="a list of levels instead")
    answers(parser)
    parser = command("pile", "What lies above and below a base made from the rim of an area.", commands.pile)
    parser.add_argument("surface", metavar="SURFACE", type=Path)
    inside(parser, "the closed line around it")
    parser.add_argument("--base", choices=("rim", "plane", "lowest"), help="what the base is made of (rim)")
    answers(parser)


def _repeats(command: Callable[..., argparse.ArgumentParser]) -> None:
    """Add the commands that make recipes and run them."""
    parser = command(
        "recipe",
        "Write the steps behind a card, or a whole job, as a recipe: a text that runs on other files.",
        repeating.recipe,
    )
    parser.add_argument("job", metavar="JOB", type=Path, help="folder of the job")
    parser.add_argument("out", metavar="OUT", type=Path, help="the recipe, usually NAME.recipe")
    parser.add_argument("--card", action="append", default=[], metavar="NAME", help="the steps behind this card alone")
    parser = command("run", "Run a recipe on files, many in one go.", repeating.run, _RUN_MORE)
    parser.add_argument("recipe", metavar="RECIPE", type=Path)
    parser.add_argument("files", metavar="slot=FILE", nargs="*")
    parser.add_argument("--into", metavar="FOLDER", type=Path, required=True, help="where files go")
    parser.add_argument("--replace", action="store_true", help="let files of these names be written over")
    parser.add_argument("--job", metavar="FOLDER", type=Path, help="keep what was made as a job, in a new folder")
    parser.add_argument("--json", action="store_true", help="print what was done as JSON")


def _lists(command: Callable[..., argparse.ArgumentParser]) -> None:
    """Add the commands that list what there is."""
    command("sets", "List the sets of files that go out together, with their options.", sending.sets)
    parser = command("checks", "List what inspect looks for, with the thresholds.", listing.checks)
    parser.add_argument("--json", action="store_true", help="print as JSON")
    parser = command("formats", "List the file formats, with their reading and writing options.", listing.formats)
    parser.add_argument("--json", action="store_true", help="print as JSON")
    parser = command("conversions", "List the conversions, with their parameters.", listing.conversions)
    parser.add_argument("--json", action="store_true", help="print as JSON")


def _about(command: Callable[..., argparse.ArgumentParser]) -> None:
    """Add the commands about the program itself."""
    parser = command(
        "serve", "Run the simulated elevation service on this machine's loopback interface.", commands.serve
    )
    parser.add_argument("--port", type=int, default=8700, help="port to listen on (8700)")
    parser = command("manual", "Print a page of the manual, or list the pages.", home.manual)
    parser.add_argument(
        "page", nargs="?", default="", metavar="PAGE", help="a page, a conversion, a format or a finding"
    )
    parser.add_argument("--search", default="", metavar="WORDS", help="list the pages that have these words")
    parser.add_argument("--into", type=Path, metavar="FOLDER", help="write all pages for a browser into a folder")
    parser = command("doctor", "Say what is installed, what is missing and what to do.", home.doctor)
    parser.add_argument("--json", action="store_true", help="print as JSON")
    parser = command("verify", "Check the program on this machine by cases whose results are known.", home.verify)
    parser.add_argument(
        "only", nargs="*", default=[], metavar="SUBJECT", help="a conversion, a format or a case alone; all by default"
    )
    parser.add_argument("--json", action="store_true", help="print as JSON")
    parser.add_argument("--report", type=Path, metavar="FILE", help="write them as .pdf, .html, .md or .json")
    parser = command("plugin", "Write a plug-in to begin from, or check one.", home.plugin)
    parser.add_argument("what", choices=("new", "check"), help="what to do")
    parser.add_argument("name", metavar="NAME", help="its name; for check also the folder of its sources")
    parser.add_argument("--into", type=Path, default=Path(), metavar="FOLDER", help="where its folder is made (here)")
    parser = command("desktop", "Put menu entry, icon and file types in place, or take them away.", home.desktop)
    parser.add_argument("--install", action="store_true", help="put them in place for this user")
    parser.add_argument("--remove", action="store_true", help="take them away")
    parser.add_argument("--into", type=Path, metavar="FOLDER", help="a data folder other than the user's own")
    parser = command("completion", "Print completion for a shell.", home.completion)
    parser.add_argument("shell", choices=("bash", "zsh", "fish"))
    parser = command("man", "Print the manual page for the man command.", home.man)
    parser.add_argument("--into", type=Path, metavar="FOLDER", help="write it as vastgrid.1 into a folder")


def _writing(parser: argparse.ArgumentParser) -> None:
    """Add the options of what writes a file."""
    parser.add_argument(
        "--only", action="append", default=[], metavar="NAME", help="use only this dataset of what the files hold"
    )
    parser.add_argument("--units", type=unit, metavar="U", help="plan unit to write in")
    parser.add_argument("--vertical-units", type=unit, metavar="U", help="height unit to write in")
    parser.add_argument("--report", type=Path, metavar="FILE", help="write a report (.html, .pdf, .md or .json)")
    parser.add_argument(
        "--inspect", action="store_true", help="look for findings in all data, and put them into the report"
    )
    parser.add_argument(
        "--left-out", type=Path, metavar="FILE", help="write the lines of text files that cannot be read"
    )


def _tiling(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--tiles",
        metavar="SIZE",
        help="work on tiles of this width (1000m), or of a suitable one (auto): for data larger than memory; a folder always does",
    )
    parser.add_argument(
        "--workers", type=int, metavar="N", help="number of processes that make tiles; all cores if left out"
    )
    parser.add_argument(
        "--cluster", default="", metavar="ADDRESS", help="make tiles at a Dask scheduler (tcp://HOST:PORT)"
    )


_WEB_MORE = """\
  --via CONVERSION key=value …   a conversion on the way, as often as wanted; see: vastgrid conversions
  --write title=… note=…         what stands on the page

example:
  vastgrid web ground.xml contours.gpkg edges.dxf scene.html --write title="Tollgarth Quarry"
"""

_CONVERT_MORE = """\
  --via CONVERSION key=value …   a conversion on the way, as often as wanted; see: vastgrid conversions
  --read [FILE] key=value …      reading options, for FILE or for the inputs whose format has them; see: vastgrid formats
  --write key=value …            writing options of the output's format

examples:
  vastgrid convert ground.xml finished.xml --set machine --into to-site --report to-site/report.html
  vastgrid convert day1.csv edges.dxf ground.dxf --via tin max_edge=60m --via contours interval=0.5m index=5
"""

_RUN_MORE = """\
  slot=FILE      a file for a slot; given several times, the recipe is run once for each, into a folder of its name
  slot+=FILE     a further file for the same run, where the step takes several

A run that fails does not stop the others; the exit code is 1 then.
"""

_INSPECT_MORE = """\
  --check CHECK key=value …      thresholds of a check; see: vastgrid checks
  --read [FILE] key=value …      reading options, for FILE or for the files whose format has them

Files are also compared with each other: feet among metres are recognised from the data beside them.
"""
