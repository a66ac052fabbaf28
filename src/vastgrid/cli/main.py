"""The command line. Conversions, formats and their options come from the declarations; nothing is listed twice."""

from __future__ import annotations

import argparse
import os
import re
import sys
import threading
import traceback
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, NoReturn

from vastgrid import __version__
from vastgrid.base import interrupts
from vastgrid.base.errors import CallError, Cancelled, VastGridError
from vastgrid.base.files import refuse_clashes, write_text
from vastgrid.base.findings import Finding
from vastgrid.base.progress import Progress, Reporting, Silent
from vastgrid.base.quantities import LENGTH_UNITS, Unit, parse_unit, square_word, unit_word
from vastgrid.cli import listing

if TYPE_CHECKING:
    from vastgrid.session.accounts import Via
    from vastgrid.session.saying import Options, Said

DONE, DATA_AT_FAULT, CALL_AT_FAULT = 0, 1, 2
_GROUPS = ("--via", "--read", "--write", "--check")
_NAMED = {"--via": "a conversion", "--check": "a check"}
_WORD = re.compile(r"(\w+)=(.*)", re.DOTALL)


class Parser(argparse.ArgumentParser):
    """An argument parser that raises our own error."""

    def error(self, message: str) -> NoReturn:
        """Raise instead of printing usage and leaving."""
        raise CallError(f"{message}; see {self.prog} --help")


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
    except Exception as error:
        if os.environ.get("VASTGRID_DEBUG"):
            raise
        last = traceback.extract_tb(error.__traceback__)[-1]
        where = f"{Path(last.filename).stem}, line {last.lineno}"
        return _failed(
            f"an unforeseen fault in the program itself ({where}); {interrupts.what_was_written().removeprefix('stopped; ')}. "
            "VASTGRID_DEBUG=1 shows where it came from",
            DATA_AT_FAULT,
        )


def _failed(error: object, code: int) -> int:
    _end_progress()
    print(f"vastgrid: {error}", file=sys.stderr)
    return code


def _run(arguments: list[str]) -> int:
    parser = _parser()
    if not arguments:
        parser.print_help()
        return CALL_AT_FAULT
    # What belongs to --via, --read and --write ends at the first word that is no key=value: argparse cannot say that.
    rest, groups = _groups(arguments)
    options = parser.parse_args(rest)
    if groups and options.command not in ("convert", "info", "compare", "forms", "inspect"):
        raise CallError(f"{groups[0][0]} does not belong to {options.command}")
    command: Callable[[argparse.Namespace, list[tuple[str, list[str]]]], int] = options.run
    return command(options, groups)


def _groups(arguments: list[str]) -> tuple[list[str], list[tuple[str, list[str]]]]:
    rest: list[str] = []
    groups: list[tuple[str, list[str]]] = []
    i = 0
    while i < len(arguments):
        word = arguments[i]
        if word not in _GROUPS:
            rest.append(word)
            i += 1
            continue
        own: list[str] = []
        i += 1
        named = word in _NAMED or (word == "--read" and i < len(arguments) and not _WORD.fullmatch(arguments[i]))
        if named and i < len(arguments) and not arguments[i].startswith("-"):
            own.append(arguments[i])
            i += 1
        while i < len(arguments) and _WORD.fullmatch(arguments[i]) and not Path(arguments[i]).exists():
            own.append(arguments[i])
            i += 1
        if not own:
            raise CallError(f"{word} needs {_NAMED.get(word, 'key=value')} after it")
        groups.append((word, own))
    return rest, groups


def _words(groups: list[tuple[str, list[str]]], name: str) -> dict[str, str]:
    words = [word for group, own in groups if group == name for word in own]
    found = {}
    for word in words:
        key, value = word.split("=", 1)
        if key in found:
            raise CallError(f"{key} is given twice")
        found[key] = value
    return found


def _is_file(text: str) -> bool:
    try:
        return Path(text).is_file()
    except (OSError, ValueError):
        # Longer than a name can be: it is the value itself.
        return False


def _via(own: list[str]) -> Via:
    """Return a conversion asked for; a long value may stand in a file, as key=FILE or key=@FILE."""
    from vastgrid import catalog
    from vastgrid.params import declare
    from vastgrid.session.accounts import Via

    conversion = catalog.conversion_named(own[0])
    words = _words([("--via", own[1:])], "--via")
    for field in declare.fields(conversion.params):
        text = words.get(field.name, "")
        if field.how.large and text and (text.startswith("@") or _is_file(text)):
            name = text.removeprefix("@")
            try:
                words[field.name] = Path(name).read_text(encoding="utf-8-sig")
            except (OSError, UnicodeDecodeError) as error:
                raise CallError(f"{field.name}: {name} cannot be read as text ({error})") from error
    return Via(conversion, words)


def _options(groups: list[tuple[str, list[str]]]) -> Options:
    """Return reading options: of all inputs, and those that follow a file's name of that file alone."""
    from vastgrid.session.saying import Options

    every: list[tuple[str, list[str]]] = []
    of_file: dict[str, list[tuple[str, list[str]]]] = {}
    for name, own in groups:
        if name == "--read" and not _WORD.fullmatch(own[0]):
            if len(own) < 2:
                raise CallError(f"--read {own[0]} needs key=value after the file's name")
            of_file.setdefault(own[0], []).append((name, own[1:]))
        elif name == "--read":
            every.append((name, own))
    return Options(_words(every, "--read"), {file: _words(own, "--read") for file, own in of_file.items()})


def _unit(text: str) -> Unit:
    unit = parse_unit(text)
    if unit is Unit.DEGREE:
        raise CallError("degrees are no unit of length")
    return unit


def _said(options: argparse.Namespace) -> Said:
    """Return the units that were said of inputs.

    Raises
    ------
    CallError
        If a word is no unit, or one is said twice, or none is said and should count.
    """
    from vastgrid.session.saying import Said

    every: list[Unit | None] = [None, None]
    of_file: dict[str, list[Unit | None]] = {}
    for k, (option, words) in enumerate(
        (("--from-units", options.from_units), ("--from-vertical-units", options.from_vertical_units))
    ):
        for word in words or ():
            name, _, unit = word.rpartition("=")
            pair = of_file.setdefault(name, [None, None]) if name else every
            if pair[k] is not None:
                raise CallError(f"{option} is given twice{f' for {name}' if name else ''}")
            try:
                pair[k] = _unit(unit)
            except CallError as error:
                raise CallError(f"{option}: {error}") from error
    said = Said((every[0], every[1]), {name: (pair[0], pair[1]) for name, pair in of_file.items()})
    if options.override_units and said == Said():
        raise CallError("--override-units needs a unit to count: --from-units or --from-vertical-units")
    return said


def _parser() -> Parser:
    units = ", ".join(f"{unit.value} ({unit.title})" for unit in LENGTH_UNITS)
    parser = Parser(prog="vastgrid", description="Terrain conversion, with the proof of what each conversion did.")
    parser.add_argument("--version", action="version", version=f"vastgrid {__version__}")
    commands = parser.add_subparsers(dest="command", required=True, metavar="COMMAND", parser_class=Parser)

    def command(name: str, text: str, run: Callable[..., int], more: str = "") -> argparse.ArgumentParser:
        own = commands.add_parser(
            name, help=text, description=text, epilog=more, formatter_class=argparse.RawDescriptionHelpFormatter
        )
        own.set_defaults(run=run)
        return own

    def common(own: argparse.ArgumentParser) -> None:
        own.add_argument("--json", action="store_true", help="print figures as JSON")
        own.add_argument(
            "--from-units",
            action="append",
            metavar="U",
            help=f"plan unit of inputs that do not say theirs, or FILE=U for one of them: {units}",
        )
        own.add_argument(
            "--from-vertical-units",
            action="append",
            metavar="U",
            help="height unit of inputs that do not say theirs, or FILE=U for one of them",
        )
        own.add_argument(
            "--override-units", action="store_true", help="believe those units also where an input says others"
        )

    own = command("convert", "Read files, convert, write one file, read it back and compare.", _convert, _CONVERT_MORE)
    own.add_argument("paths", nargs="+", metavar="IN… OUT", type=Path)
    common(own)
    own.add_argument(
        "--only", action="append", default=[], metavar="NAME", help="use only this dataset of what the files hold"
    )
    own.add_argument("--units", type=_unit, metavar="U", help="plan unit to write in")
    own.add_argument("--vertical-units", type=_unit, metavar="U", help="height unit to write in")
    own.add_argument("--report", type=Path, metavar="FILE", help="write a report (.json, or Markdown text)")
    own.add_argument(
        "--inspect", action="store_true", help="look for findings in all data, and put them into the report"
    )
    own.add_argument("--left-out", type=Path, metavar="FILE", help="write the lines of text files that cannot be read")
    own = command("info", "Say what a file holds.", _info, "Reading options: --read key=value …")
    own.add_argument("path", metavar="FILE", type=Path)
    common(own)
    own = command("compare", "Vertical difference of two surfaces over their common ground (B minus A).", _compare)
    own.add_argument("first", metavar="A", type=Path)
    own.add_argument("second", metavar="B", type=Path)
    common(own)
    own = command(
        "forms", "Which form shall I send? One surface as contours, grid and TIN: count, size and loss.", _forms
    )
    own.add_argument("path", metavar="SURFACE", type=Path)
    common(own)
    own = command(
        "inspect", "Look at files as an experienced person would: spikes, gaps, wrong units …", _inspect, _INSPECT_MORE
    )
    own.add_argument("paths", nargs="+", metavar="FILE", type=Path)
    common(own)
    own = command("checks", "List what inspect looks for, with the thresholds.", listing.checks)
    own.add_argument("--json", action="store_true", help="print as JSON")
    own = command("formats", "List the file formats, with their reading and writing options.", listing.formats)
    own.add_argument("--json", action="store_true", help="print as JSON")
    own = command("conversions", "List the conversions, with their parameters.", listing.conversions)
    own.add_argument("--json", action="store_true", help="print as JSON")
    own = command("serve", "Run the simulated elevation service on this machine's loopback interface.", _serve)
    own.add_argument("--port", type=int, default=8700, help="port to listen on (8700)")
    commands.add_parser("demo", help="Open the window with the demo job.")
    own = commands.add_parser("open", help="Open the window, with a job folder or files.")
    own.add_argument("paths", nargs="*")
    return parser


_CONVERT_MORE = """\
  --via CONVERSION key=value …   a conversion on the way, as often as wanted; see: vastgrid conversions
  --read [FILE] key=value …      reading options, for FILE or for the inputs whose format has them; see: vastgrid formats
  --write key=value …            writing options of the output's format

example:
  vastgrid convert day1.csv edges.dxf ground.dxf --via tin max_edge=60m --via contours interval=0.5m index=5
"""

_INSPECT_MORE = """\
  --check CHECK key=value …      thresholds of a check; see: vastgrid checks
  --read [FILE] key=value …      reading options, for FILE or for the files whose format has them

Files are also held against each other: feet among metres are told from the data beside them.
"""


# ---------------------------------------------------------------------------------------------------- commands


def _convert(options: argparse.Namespace, groups: list[tuple[str, list[str]]]) -> int:
    from vastgrid.reports.account import as_json, as_text
    from vastgrid.session.accounts import Account
    from vastgrid.session.chains import run_convert

    if len(options.paths) < 2:
        raise CallError("convert needs at least one input and the output; see vastgrid convert --help")
    if any(name == "--check" for name, _ in groups) and not options.inspect:
        raise CallError("--check gives thresholds of what --inspect looks for; give --inspect as well")
    vias = []
    for name, own in groups:
        if name == "--via":
            if _WORD.fullmatch(own[0]):
                raise CallError(f"--via needs the name of a conversion before “{own[0]}”")
            vias.append(_via(own))
    *inputs, target = options.paths
    beside = {"--report": options.report, "--left-out": options.left_out}
    refuse_clashes(inputs, {"the result": target, **{name: path for name, path in beside.items() if path is not None}})
    account = Account(tell=lambda text: print(f"note: {text}", file=sys.stderr, flush=True))
    try:
        run_convert(
            inputs,
            target,
            vias,
            read_words=_options(groups),
            write_words=_words(groups, "--write"),
            from_units=_said(options),
            only=options.only,
            override_units=options.override_units,
            units=(options.units, options.vertical_units),
            progress=_progress(),
            account=account,
            looks=_thresholds(groups) if options.inspect else None,
        )
    finally:
        _end_progress()
        _tell(account.findings())
    assert account.delivery is not None
    values = {"steps": [step.to_json() for step in account.steps], "delivery": account.delivery.to_json()}
    if options.left_out is not None:
        write_text(options.left_out, "".join(f"{line}\n" for line in account.left_out))
    if options.report is not None:
        is_json = options.report.suffix.lower() == ".json"
        write_text(options.report, as_json(values) if is_json else as_text(account.steps, account.delivery))
    if options.json:
        print(as_json(values))
    else:
        for step in account.steps:
            print(step.sentence)
            if step.loss is not None:
                print(f"  costs {step.loss.sentence()}")
        print(account.delivery.sentence())
    return DONE if account.delivery.good else DATA_AT_FAULT


def _thresholds(groups: list[tuple[str, list[str]]]) -> dict[str, dict[str, str]]:
    from vastgrid import catalog

    found: dict[str, dict[str, str]] = {}
    for name, own in groups:
        if name == "--check":
            found[catalog.check_named(own[0]).id] = _words([(name, own[1:])], name)
    return found


def _inspect(options: argparse.Namespace, groups: list[tuple[str, list[str]]]) -> int:
    from vastgrid.reports.account import as_json
    from vastgrid.session.accounts import Account
    from vastgrid.session.chains import looked_at, read_sources

    units = _said(options)
    looks = _thresholds(groups)
    account = Account()
    progress = _progress()
    sources = read_sources(
        options.paths,
        _options(groups),
        units,
        account,
        progress.part(0.0, 0.5),
        override=options.override_units,
    )
    datasets = [each for source in sources for each in source.datasets]
    step = looked_at(datasets, looks, progress.part(0.5, 1.0))
    _end_progress()
    if options.json:
        print(as_json({"steps": [each.to_json() for each in (*account.steps, step)]}))
        return DONE
    _tell(account.findings())
    print(step.sentence)
    for finding in step.findings:
        place = "" if finding.at is None else f" (E {finding.at[0]:.2f}, N {finding.at[1]:.2f})"
        print(f"{finding.severity.value}: {finding.text}{place}")
    return DONE


def _forms(options: argparse.Namespace, groups: list[tuple[str, list[str]]]) -> int:
    from vastgrid.reports.account import as_json
    from vastgrid.session.chains import run_forms
    from vastgrid.session.forms import table

    made, findings = run_forms(
        options.path, _options(groups), _said(options), _progress(), override=options.override_units
    )
    _end_progress()
    unit = made[0].dataset.frame.vertical
    if options.json:
        print(as_json({"rows": [each.to_json() for each in made], "unit": unit.value if unit else None}))
        return DONE
    _tell(findings)
    rows = table(made)
    widths = [max(len(row[k]) for row in rows) for k in range(len(rows[0]))]
    for row in rows:
        print("  ".join(text.ljust(width) for text, width in zip(row, widths, strict=True)).rstrip())
    return DONE


def _serve(options: argparse.Namespace, _groups: list[tuple[str, list[str]]]) -> int:
    from vastgrid.services.elevation import serve

    server = serve(options.port)
    print(
        f"The simulated elevation service answers at http://127.0.0.1:{server.server_address[1]}/elevations (Ctrl+C ends it)"
    )
    with server:
        threading.Thread(target=server.serve_forever, daemon=True).start()
        while not interrupts.stop.wait(0.2):
            continue
        server.shutdown()
    raise Cancelled


def _info(options: argparse.Namespace, groups: list[tuple[str, list[str]]]) -> int:
    from vastgrid.reports.account import as_json
    from vastgrid.session.accounts import Account, source_sentence
    from vastgrid.session.chains import read_sources
    from vastgrid.session.describing import described

    (source,) = read_sources(
        [options.path],
        _options(groups),
        _said(options),
        Account(),
        _progress(),
        override=options.override_units,
    )
    _end_progress()
    findings = [finding.to_json() for finding in source.findings]
    values = {
        "format": source.format.id,
        "datasets": [{**described(each), "findings": findings} for each in source.datasets],
    }
    if options.json:
        print(as_json(values))
        return DONE
    print(source_sentence(source))
    for each in source.datasets:
        extent = each.extent()
        print(f"{each.name} ({each.title})")
        for name in ("east", "north", "elevation"):
            pair = getattr(extent, name)
            print(f"  {name:10} {'unknown' if pair is None else f'{pair[0]:.3f} … {pair[1]:.3f}'}")
    _tell(list(source.findings))
    return DONE


def _compare(options: argparse.Namespace, groups: list[tuple[str, list[str]]]) -> int:
    from vastgrid.reports.account import as_json
    from vastgrid.session.chains import run_compare

    units = _said(options)
    loss, findings = run_compare(
        options.first,
        options.second,
        _options(groups),
        units,
        _progress(),
        override=options.override_units,
    )
    _end_progress()
    if options.json:
        print(as_json({**loss.to_json(), "findings": [finding.to_json() for finding in findings]}))
        return DONE
    unit = unit_word(loss.unit)
    print(f"{options.second.name} against {options.first.name}: {loss.sentence()}.")
    print(
        f"Mean {loss.mean:+.3f}{unit} (positive: the second is higher), over {loss.area:.1f}{square_word(loss.plan_unit)}."
    )
    _tell(findings)
    return DONE


# -------------------------------------------------------------------------------------------------- what is said


def _tell(findings: list[Finding]) -> None:
    for finding in findings:
        print(f"{finding.severity.value}: {finding.text}", file=sys.stderr)


_shown = False


def _progress() -> Progress:
    if not sys.stderr.isatty():
        return Silent(interrupts.stop.is_set)
    return Reporting(_show, interrupts.stop.is_set)


def _show(fraction: float, text: str) -> None:
    global _shown
    _shown = True
    print(f"\r\x1b[K{fraction:4.0%} {text}", end="", file=sys.stderr, flush=True)


def _end_progress() -> None:
    if _shown:
        print("\r\x1b[K", end="", file=sys.stderr, flush=True)
