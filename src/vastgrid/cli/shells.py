"""What shells and the man command are told of the command line, made from its parser and the declarations."""

from __future__ import annotations

import argparse
import datetime
import re
from dataclasses import dataclass, field
from typing import Any

from vastgrid import __version__, catalog
from vastgrid.params.declare import fields

GROUPS = ("--via", "--read", "--write", "--check")


@dataclass(slots=True)
class Command:
    """A command as shells need to know it: its help, and its options with help and choices."""

    name: str
    help: str
    options: list[tuple[str, str, tuple[str, ...]]] = field(default_factory=list)
    places: list[tuple[str, str]] = field(default_factory=list)
    words: tuple[str, ...] = ()


def commands() -> list[Command]:
    """Return every command of the parser."""
    from vastgrid.cli.main import build_parser

    parser = build_parser()
    (adding,) = (each for each in parser._actions if isinstance(each, argparse._SubParsersAction))
    helps = {each.dest: each.help or "" for each in adding._choices_actions}
    found = []
    for name, own in adding.choices.items():
        command = Command(name, helps.get(name, ""))
        for action in own._actions:
            text = (action.help or "").replace("%%", "%") if action.help != argparse.SUPPRESS else ""
            choices = tuple(str(each) for each in action.choices or ())
            if action.option_strings:
                command.options.append((action.option_strings[-1], text, choices))
            else:
                command.places.append((str(action.metavar or action.dest), text))
                command.words += choices
        if name in ("convert", "web"):
            command.options += [
                ("--via", "a conversion on the way", tuple(each.id for each in catalog.CONVERSIONS)),
                ("--read", "reading options", ()),
                ("--write", "writing options", ()),
            ]
        if name == "manual":
            command.words += _pages()
        if name == "inspect":
            command.options.append(("--check", "thresholds of a check", tuple(each.id for each in catalog.CHECKS)))
        found.append(command)
    return found


def _pages() -> tuple[str, ...]:
    """Return what the manual can be asked for: pages, conversions, formats, checks."""
    from vastgrid.manual.pages import pages

    declared = [own.id for room in (catalog.CONVERSIONS, catalog.FORMATS, catalog.CHECKS) for own in room]
    return tuple(sorted({each.slug for each in pages()}.union(declared)))


def _words() -> dict[str, list[str]]:
    """Return the values that follow --via, and each conversion's own."""
    own = {each.id: [f"{own.name}=" for own in fields(each.params)] for each in catalog.CONVERSIONS}
    own |= {each.id: [f"{own.name}=" for own in fields(each.params)] for each in catalog.CHECKS if each.id not in own}
    return own


def script(shell: str) -> str:
    """Return completion for bash, zsh or fish."""
    return {"bash": _bash, "zsh": _zsh, "fish": _fish}[shell]()


def _bash() -> str:
    every = commands()
    lines = ["# bash completion for vastgrid, made from its own declarations", "_vastgrid() {"]
    lines += [
        "  local word=${COMP_WORDS[COMP_CWORD]} before=${COMP_WORDS[COMP_CWORD-1]} command=${COMP_WORDS[1]} last='' k"
    ]
    lines += ["  COMPREPLY=()"]
    lines += [
        f"  if [ $COMP_CWORD -eq 1 ]; then COMPREPLY=($(compgen -W '{' '.join(c.name for c in every)}' -- \"$word\")); return; fi"
    ]
    # Bash parts words at “=”: what stands before it is looked for as a whole.
    lines += [
        "  for ((k = COMP_CWORD - 1; k > 1; k--)); do case ${COMP_WORDS[k]} in --via|--check) last=${COMP_WORDS[k+1]}; break;; --*) break;; esac; done"
    ]
    lines += ["  case $before in"]
    seen: set[str] = set()
    for command in every:
        for name, _, choices in command.options:
            if choices and name not in seen:
                seen.add(name)
                lines.append(f"    {name}) COMPREPLY=($(compgen -W '{' '.join(choices)}' -- \"$word\")); return;;")
    lines += ["  esac", "  case $last in"]
    for name, own in _words().items():
        if own:
            lines.append(f"    {name}) COMPREPLY=($(compgen -o nospace -W '{' '.join(own)}' -- \"$word\"));;")
    lines += ["  esac", "  case $command in"]
    for command in every:
        if command.words:
            lines.append(f"    {command.name}) COMPREPLY+=($(compgen -W '{' '.join(command.words)}' -- \"$word\"));;")
    lines += ["  esac", "  local options=''", "  case $command in"]
    for command in every:
        lines.append(f"    {command.name}) options='{' '.join(name for name, _, _ in command.options)}';;")
    lines += ["  esac", '  COMPREPLY+=($(compgen -W "$options" -- "$word") $(compgen -f -- "$word"))', "}"]
    lines += ["complete -o nospace -o filenames -F _vastgrid vastgrid", ""]
    return "\n".join(lines)


def _quoted(text: str) -> str:
    return re.sub(r"[\[\]:'\"`$\\]", " ", " ".join(text.split()))


def _zsh() -> str:
    lines = ["#compdef vastgrid", "# zsh completion, made from the program's own declarations", "_vastgrid() {"]
    lines += ["  local -a every", "  every=("]
    lines += [f"    '{each.name}:{_quoted(each.help)}'" for each in commands()]
    lines += ["  )", "  if (( CURRENT == 2 )); then _describe command every; return; fi"]
    lines += ["  case $words[CURRENT-1] in"]
    lines += [f"    --via) compadd -- {' '.join(each.id for each in catalog.CONVERSIONS)}; return;;"]
    lines += [f"    --check) compadd -- {' '.join(each.id for each in catalog.CHECKS)}; return;;", "  esac"]
    lines += ["  local k=$CURRENT last=''", "  while (( --k > 2 )); do"]
    lines += [
        "    case $words[k] in --via|--check) last=$words[k+1]; break;; --*) break;; esac",
        "  done",
        "  case $last in",
    ]
    lines += [f"    {name}) compadd -S '' -- {' '.join(own)};;" for name, own in _words().items() if own]
    lines += ["  esac", "  case $words[2] in"]
    for each in commands():
        own = " ".join(
            f"'*{name}[{_quoted(text)}]{':value:(' + ' '.join(choices) + ')' if choices else ''}'"
            for name, text, choices in each.options
        )
        words = f"'*:word:({' '.join(each.words)})'" if each.words else "'*:file:_files'"
        lines.append(f"    {each.name}) _arguments {own} {words};;")
    return "\n".join([*lines, "  esac", "}", '_vastgrid "$@"', ""])


def _fish() -> str:
    lines = ["# fish completion for vastgrid, made from its own declarations"]
    for each in commands():
        lines.append(f"complete -c vastgrid -n __fish_use_subcommand -a {each.name} -d '{_quoted(each.help)}'")
        if each.words:
            seen = f"'__fish_seen_subcommand_from {each.name}'"
            lines.append(f"complete -c vastgrid -n {seen} -f -a '{' '.join(each.words)}'")
        for name, text, choices in each.options:
            more = f" -x -a '{' '.join(choices)}'" if choices else ""
            lines.append(
                f"complete -c vastgrid -n '__fish_seen_subcommand_from {each.name}' -l {name.lstrip('-')} -d '{_quoted(text)}'{more}"
            )
    for name, own in _words().items():
        if own:
            lines.append(f"complete -c vastgrid -n 'contains -- {name} (commandline -opc)' -f -a '{' '.join(own)}'")
    return "\n".join([*lines, ""])


def _roff(text: str) -> str:
    plain = text.replace("\\", "\\e").replace("-", "\\-")
    return "\n".join(f"\\&{line}" if line[:1] in (".", "'") else line for line in plain.splitlines())


def man_page() -> str:
    """Return the manual page, for the man command (man(7))."""
    when = datetime.date.today().strftime("%B %Y")
    lines = [f'.TH VASTGRID 1 "{when}" "Vast Grid {__version__}" "User commands"', ".SH NAME"]
    lines += ["vastgrid \\- terrain conversion, with the proof of what each conversion did", ".SH SYNOPSIS"]
    lines += [".B vastgrid", ".I COMMAND", "[", ".I options", "]", ".SH COMMANDS"]
    for each in commands():
        lines += [
            ".TP",
            f".B {_roff(each.name)} " + _roff(" ".join(place for place, _ in each.places)),
            _roff(each.help),
        ]
        for name, text, choices in each.options:
            if name == "--help":
                continue
            told = f" One of {', '.join(choices)}." if choices and len(choices) < 12 else ""
            lines += [".RS", ".TP", f".B {_roff(name)}", _roff(f"{text}{told}"), ".RE"]
    lines += [".SH CONVERSIONS", "Asked for by", ".B \\-\\-via", "NAME key=value."]
    lines += _declared([(each.id, each.help, each.params) for each in catalog.CONVERSIONS])
    lines += [".SH FORMATS"]
    for own in catalog.FORMATS:
        does = " and ".join(word for word, able in (("read", own.read), ("written", own.write)) if able)
        lines += [".TP", f".B {_roff(own.id)}", _roff(f"{own.title} ({', '.join(own.suffixes)}): {does}.")]
    lines += [".SH EXIT STATUS", "0 done, 1 the data is at fault, 2 the call is, 130 stopped."]
    lines += [".SH FILES", ".TP", ".I ~/.local/state/vastgrid", "log and reports of crashes"]
    lines += [".SH SEE ALSO", "The manual that ships with the program:", ".B vastgrid manual", ""]
    return "\n".join(lines)


def _declared(own: list[tuple[str, str, Any]]) -> list[str]:
    lines = []
    for name, text, params in own:
        lines += [".TP", f".B {_roff(name)}", _roff(text)]
        for each in fields(params):
            lines += [".RS", ".TP", f".I {_roff(each.name)}", _roff(each.param.help), ".RE"]
    return lines
