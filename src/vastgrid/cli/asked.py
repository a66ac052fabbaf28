"""What was typed on the command line: the words after --via, --read, --write and --check, and the units."""

from __future__ import annotations

import argparse
import re
from pathlib import Path
from typing import TYPE_CHECKING

from vastgrid.base.errors import CallError
from vastgrid.base.files import read_text
from vastgrid.base.quantities import Unit, parse_unit

if TYPE_CHECKING:
    from vastgrid.execution.input_options import Options, Said
    from vastgrid.execution.run_log import Via

_GROUPS = ("--via", "--read", "--write", "--check")
_NAMED = {"--via": "a conversion", "--check": "a check"}
WORD = re.compile(r"(\w+)=(.*)", re.DOTALL)


def split(arguments: list[str]) -> tuple[list[str], list[tuple[str, list[str]]]]:
    """Return the words without those of --via, --read, --write and --check, and these by group."""
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
        named = word in _NAMED or (word == "--read" and i < len(arguments) and not WORD.fullmatch(arguments[i]))
        if named and i < len(arguments) and not arguments[i].startswith("-"):
            own.append(arguments[i])
            i += 1
        while i < len(arguments) and WORD.fullmatch(arguments[i]) and not Path(arguments[i]).exists():
            own.append(arguments[i])
            i += 1
        if not own:
            raise CallError(f"{word} needs {_NAMED.get(word, 'key=value')} after it")
        groups.append((word, own))
    return rest, groups


def words_of(groups: list[tuple[str, list[str]]], name: str) -> dict[str, str]:
    """Return the key=value words of one group."""
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


def via(own: list[str]) -> Via:
    """Return a conversion asked for; a long value may stand in a file, as key=FILE or key=@FILE."""
    from vastgrid import catalog
    from vastgrid.execution.run_log import Via
    from vastgrid.params import declare

    conversion = catalog.conversion_named(own[0])
    words = words_of([("--via", own[1:])], "--via")
    for field in declare.fields(conversion.params):
        text = words.get(field.name, "")
        if field.how.large and text and (text.startswith("@") or _is_file(text)):
            name = text.removeprefix("@")
            try:
                words[field.name] = read_text(Path(name))
            except CallError as error:
                raise CallError(f"{field.name}: {error}") from error
    return Via(conversion, words)


def asked_vias(groups: list[tuple[str, list[str]]]) -> list[Via]:
    """Return the conversions asked for, in order."""
    found = []
    for name, own in groups:
        if name == "--via":
            if WORD.fullmatch(own[0]):
                raise CallError(f"--via needs the name of a conversion before “{own[0]}”")
            found.append(via(own))
    return found


def reading(groups: list[tuple[str, list[str]]]) -> Options:
    """Return reading options: of all inputs, and those that follow a file's name of that file alone."""
    from vastgrid.execution.input_options import Options

    every: list[tuple[str, list[str]]] = []
    of_file: dict[str, list[tuple[str, list[str]]]] = {}
    for name, own in groups:
        if name == "--read" and not WORD.fullmatch(own[0]):
            if len(own) < 2:
                raise CallError(f"--read {own[0]} needs key=value after the file's name")
            of_file.setdefault(own[0], []).append((name, own[1:]))
        elif name == "--read":
            every.append((name, own))
    return Options(words_of(every, "--read"), {file: words_of(own, "--read") for file, own in of_file.items()})


def unit(text: str) -> Unit:
    """Return a unit of length."""
    found = parse_unit(text)
    if found is Unit.DEGREE:
        raise CallError("degrees are not a unit of length")
    return found


def said(options: argparse.Namespace) -> Said:
    """Return the units that were said of inputs.

    Raises
    ------
    CallError
        If a word is no unit, or one is said twice, or none is said and should count.
    """
    from vastgrid.execution.input_options import Said

    every: list[Unit | None] = [None, None]
    of_file: dict[str, list[Unit | None]] = {}
    for k, (option, words) in enumerate(
        (("--from-units", options.from_units), ("--from-vertical-units", options.from_vertical_units))
    ):
        for word in words or ():
            name, _, text = word.rpartition("=")
            pair = of_file.setdefault(name, [None, None]) if name else every
            if pair[k] is not None:
                raise CallError(f"{option} is given twice{f' for {name}' if name else ''}")
            try:
                pair[k] = unit(text)
            except CallError as error:
                raise CallError(f"{option}: {error}") from error
    found = Said((every[0], every[1]), {name: (pair[0], pair[1]) for name, pair in of_file.items()})
    if options.override_units and found == Said():
        raise CallError("--override-units needs a unit to count: --from-units or --from-vertical-units")
    return found


def thresholds(groups: list[tuple[str, list[str]]]) -> dict[str, dict[str, str]]:
    """Return the thresholds of checks that were given, by check."""
    from vastgrid import catalog

    found: dict[str, dict[str, str]] = {}
    for name, own in groups:
        if name == "--check":
            found[catalog.check_named(own[0]).id] = words_of([(name, own[1:])], name)
    return found
