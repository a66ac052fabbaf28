"""A recipe as data and as text. The text is TOML, so that any editor shows it and any language reads it."""

from __future__ import annotations

import json
import re
import tomllib
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from vastgrid.base.errors import FormatError, VastGridError
from vastgrid.base.files import write_text
from vastgrid.base.quantities import Unit
from vastgrid.base.words import instead, shortly

FORM = 1
SUFFIX = ".recipe"
# A recipe is written by hand or by us; one larger than this is something else. Logs of work by hand may be long.
MOST = 64 << 20


@dataclass(frozen=True, slots=True)
class Slot:
    """A source that a file is given for.

    Attributes
    ----------
    name : str
        In lower case with hyphens.
    cards : tuple of (str, str)
        Name and kind of each dataset that is used of the file.
    format : str
        What it was read as; a file of another format is read as what it is.
    words : mapping
        Reading options, for files of that format.
    units, into : (str, str)
        Units said of it, and those that it is brought into.
    override : bool
        Whether the units said count also where the file says others.
    """

    name: str
    cards: tuple[tuple[str, str], ...]
    format: str
    words: Mapping[str, str] = field(default_factory=dict)
    units: tuple[str, str] = ("", "")
    into: tuple[str, str] = ("", "")
    override: bool = False


@dataclass(frozen=True, slots=True)
class RecipeStep:
    """One conversion.

    Attributes
    ----------
    name : str
        What later steps call it.
    cards : mapping
        Names of what it gives, by output.
    operation, version : str, int
        The conversion, and the version of it that the words belong to.
    uses : tuple of (str, str)
        Role and reference of each input; see `Recipe`.
    words : mapping
        What is asked for; all else is settled for the data it meets.
    says : str
        Its sentence, for readers.
    """

    name: str
    cards: Mapping[str, str]
    operation: str
    version: int
    uses: tuple[tuple[str, str], ...]
    words: Mapping[str, str] = field(default_factory=dict)
    says: str = ""


@dataclass(frozen=True, slots=True)
class Sent:
    """One file that goes out: its name, format and options, and what is in it, by reference."""

    file: str
    format: str
    uses: tuple[str, ...]
    words: Mapping[str, str] = field(default_factory=dict)
    units: tuple[str, str] = ("", "")
    says: str = ""


@dataclass(frozen=True, slots=True)
class Recipe:
    """Steps in order. A reference is a slot or a step, or one of its cards after a slash: “design/Access road”, “cut/classes”.

    Attributes
    ----------
    title : str
        What it is for.
    slots, steps, sent : tuple
        What comes in, what is made, what goes out.
    """

    title: str
    slots: tuple[Slot, ...]
    steps: tuple[RecipeStep, ...] = ()
    sent: tuple[Sent, ...] = ()

    def slot(self, name: str) -> Slot | None:
        """Return a slot by its name."""
        return next((each for each in self.slots if each.name == name), None)


def slug(name: str, taken: Sequence[str] = ()) -> str:
    """Return a name in lower case with hyphens, that none of some others is; points stay, as in “contours-0.5-m”."""
    plain = re.sub(r"[^\w.]+|_+", "-", name.lower()).strip("-.") or "source"
    found, number = plain, 2
    while found in taken:
        found, number = f"{plain}-{number}", number + 1
    return found


# -- as text


def as_text(recipe: Recipe) -> str:
    """Return a recipe as text; `read_text` gives it back."""
    slots = " ".join(f"{each.name}=FILE" for each in recipe.slots)
    lines = [
        f"# Vast Grid recipe: {_one_line(recipe.title)}",
        "#",
        "# Every source is a slot that a file is given for. To run it:",
        f"#   vastgrid run RECIPE {slots} --into FOLDER",
        "# A slot given several files is run once for each; += adds a further file to the slot of the same run.",
        "",
        f"form = {FORM}",
        f"title = {_text(recipe.title)}",
    ]
    for slot in recipe.slots:
        lines += ["", f"[source.{_key(slot.name)}]"]
        lines.append(f"holds = {_list([[name, kind] for name, kind in slot.cards])}")
        lines.append(f"reads = {_text(slot.format)}")
        if any(slot.units):
            lines.append(f"units = {_list(slot.units)}")
        if slot.override:
            lines.append("override_units = true")
        if any(slot.into):
            lines.append(f"into = {_list(slot.into)}")
        lines += _words("option", slot.words)
    for step in recipe.steps:
        lines += ["", f"[step.{_key(step.name)}]"]
        lines += [f"says = {_text(step.says)}"] if step.says else []
        lines.append(f"make = {_text(step.operation)}")
        lines.append(f"version = {step.version}")
        lines.append(f"from = {_list([[role, reference] for role, reference in step.uses])}")
        lines += _words("with", step.words)
        lines += [f"called.{_key(which or 'result')} = {_text(name)}" for which, name in step.cards.items()]
    for sent in recipe.sent:
        lines += ["", "[[send]]"]
        lines += [f"says = {_text(sent.says)}"] if sent.says else []
        lines.append(f"file = {_text(sent.file)}")
        lines.append(f"as = {_text(sent.format)}")
        lines.append(f"what = {_list(sent.uses)}")
        if any(sent.units):
            lines.append(f"units = {_list(sent.units)}")
        lines += _words("with", sent.words)
    return "\n".join(lines) + "\n"


def _one_line(text: str) -> str:
    return "".join(c for c in " ".join(text.split()) if c.isprintable())


def _text(value: str) -> str:
    if (
        "\n" in value
        and "'''" not in value
        and "\r" not in value
        and all((c >= " " and c != "\x7f") or c in "\n\t" for c in value)
    ):
        return f"'''\n{value}'''"
    # What JSON escapes, TOML's basic strings escape alike; only DEL has to be told.
    return json.dumps(value, ensure_ascii=False).replace("\x7f", "\\u007f")


def _list(values: Sequence[Any]) -> str:
    each = [_text(value) if isinstance(value, str) else _list(value) for value in values]
    return f"[{', '.join(each)}]"


def _key(name: str) -> str:
    return name if re.fullmatch(r"[A-Za-z0-9_-]+", name) else json.dumps(name, ensure_ascii=False)


def _words(table: str, words: Mapping[str, str]) -> Iterator[str]:
    for name, text in words.items():
        yield f"{table}.{_key(name)} = {_text(text)}"


# -- from text


class RecipeError(VastGridError):
    """What is wrong with a recipe."""


def read_recipe(path: Path) -> Recipe:
    """Return the recipe in a file.

    Raises
    ------
    FormatError
        If there is none, or what stands there is no recipe; with the line where that is known.
    """
    try:
        if path.stat().st_size > MOST:
            raise FormatError(path, "this is larger than any recipe")
        text = path.read_text(encoding="utf-8-sig")
    except FileNotFoundError as error:
        raise FormatError(path, "there is no such recipe") from error
    except (OSError, UnicodeDecodeError) as error:
        raise FormatError(path, "this is not text that can be read") from error
    try:
        return read_text(text)
    except RecipeError as error:
        raise FormatError(path, str(error)) from error


def read_text(text: str) -> Recipe:
    """Return the recipe that a text is.

    Raises
    ------
    VastGridError
        If it is none.
    """
    try:
        values = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise RecipeError(f"this is not a recipe: {str(error)[:1].lower()}{str(error)[1:]}") from error
    except RecursionError as error:
        raise RecipeError("this is not a recipe: it is nested too deep") from error
    _only(values, {"form", "title", "source", "step", "send"}, "a recipe")
    if values.get("form") != FORM:
        raise RecipeError(f"it is in form {values.get('form', 'unknown')!s:.40}, and form {FORM} is known here")
    slots = tuple(_slot(name, own) for name, own in _tables(values, "source").items())
    steps = tuple(_made(name, own) for name, own in _tables(values, "step").items())
    sent = values.get("send", [])
    if not isinstance(sent, list):
        raise RecipeError("“send” has to be written as [[send]]")
    recipe = Recipe(_string(values, "title", "the recipe", ""), slots, steps, tuple(_sent(own) for own in sent))
    _check(recipe)
    return recipe


def _tables(values: dict[str, Any], name: str) -> dict[str, Any]:
    own = values.get(name, {})
    if not isinstance(own, dict):
        raise RecipeError(f"“{name}” has to be written as [{name}.NAME]")
    return own


def _slot(name: str, own: Any) -> Slot:
    where = f"source {name}"
    _only(own, {"holds", "reads", "units", "into", "override_units", "option"}, where)
    pairs = _pairs(own, "holds", where)
    units, into = (_two(own, key, where) for key in ("units", "into"))
    override = own.get("override_units", False)
    if not isinstance(override, bool):
        raise RecipeError(f"{where}: override_units is true or false")
    return Slot(name, pairs, _string(own, "reads", where), _given(own, "option", where), units, into, override)


def _made(name: str, own: Any) -> RecipeStep:
    where = f"step {name}"
    _only(own, {"says", "make", "version", "from", "with", "called"}, where)
    version = own.get("version", 1)
    if not isinstance(version, int):
        raise RecipeError(f"{where}: version is a whole number")
    called = {("" if key == "result" else key): text for key, text in _given(own, "called", where).items()}
    uses = _pairs(own, "from", where)
    words, says = _given(own, "with", where), _string(own, "says", where, "")
    return RecipeStep(name, called, _string(own, "make", where), version, uses, words, says)


def _sent(own: Any) -> Sent:
    where = "a file that is sent"
    _only(own, {"says", "file", "as", "what", "units", "with"}, where)
    file = _string(own, "file", where)
    if any(ord(letter) < 32 or ord(letter) == 127 for letter in file) or len(file.encode("utf-8", "replace")) > 255:
        raise RecipeError(f"“{_one_line(file)[:60]}” cannot be a file's name: it is too long or has control characters")
    if Path(file).name != file or file in ("", ".", ".."):
        raise RecipeError(f"“{file}” has to be a file's name, without a folder")
    what = own.get("what", [])
    if not isinstance(what, list) or not what or not all(isinstance(each, str) for each in what):
        raise RecipeError(f"{file}: what has to be a list of names")
    words, units = _given(own, "with", where), _two(own, "units", where)
    return Sent(file, _string(own, "as", where), tuple(what), words, units, _string(own, "says", where, ""))


def _only(own: Any, known: set[str], where: str) -> None:
    if not isinstance(own, dict):
        raise RecipeError(f"{where} has to be a table")
    for name in own:
        if name not in known:
            raise RecipeError(f"“{shortly(name)}” is not known in {shortly(where)}; {instead(name, sorted(known))}")


def _string(own: dict[str, Any], key: str, where: str, usual: str | None = None) -> str:
    value = own.get(key, usual)
    if not isinstance(value, str):
        raise RecipeError(f"{where}: {key} is missing, or no text")
    return value


def _given(own: dict[str, Any], key: str, where: str) -> dict[str, str]:
    values = own.get(key, {})
    if not isinstance(values, dict):
        raise RecipeError(f"{where}: {key} has to be written as {key}.NAME")
    found = {}
    for name, value in values.items():
        if isinstance(value, bool | dict | list) or value is None:
            raise RecipeError(f"{where}: {key}.{name} has to be a text or a number")
        found[name] = value if isinstance(value, str) else str(value)
    return found


def _pairs(own: dict[str, Any], key: str, where: str) -> tuple[tuple[str, str], ...]:
    values = own.get(key, [])
    good = isinstance(values, list) and all(
        isinstance(each, list) and len(each) == 2 and all(isinstance(one, str) for one in each) for each in values
    )
    if not good or not values:
        raise RecipeError(f"{where}: {key} has to be a list of pairs of texts")
    return tuple((one, other) for one, other in values)


def _two(own: dict[str, Any], key: str, where: str) -> tuple[str, str]:
    values = own.get(key, ["", ""])
    if not isinstance(values, list) or len(values) != 2 or not all(isinstance(each, str) for each in values):
        raise RecipeError(f"{where}: {key} has to be two texts, of plan and of heights")
    known = {unit.value for unit in Unit}
    for value in values:
        if value and value not in known:
            raise RecipeError(
                f"{where}: “{value[:40]}” is not a unit that is known; known are {', '.join(sorted(known))}"
            )
    return values[0], values[1]


def _check(recipe: Recipe) -> None:
    """Refuse what refers to nothing before it, and names given twice."""
    known: dict[str, set[str]] = {slot.name: {name for name, _ in slot.cards} for slot in recipe.slots}
    if not known:
        raise RecipeError("it has no source: what should it be run on?")

    def refers(reference: str, where: str) -> None:
        name, _, card = reference.partition("/")
        if name not in known:
            raise RecipeError(
                f"{shortly(where)} uses “{shortly(name)}”, which is neither a source nor an earlier step; {instead(name, known)}"
            )
        if card and card not in known[name]:
            raise RecipeError(
                f"{shortly(where)} uses “{shortly(reference)}”, which {shortly(name)} does not have; {instead(card, sorted(known[name]))}"
            )

    for step in recipe.steps:
        for _, reference in step.uses:
            refers(reference, f"step {step.name}")
        if step.name in known:
            raise RecipeError(f"“{step.name}” is the name of a source and of a step")
        known[step.name] = set(step.cards)
    files: set[str] = set()
    for sent in recipe.sent:
        for reference in sent.uses:
            refers(reference, sent.file)
        if sent.file in files:
            raise RecipeError(f"{sent.file} is sent twice")
        files.add(sent.file)


def write_recipe(path: Path, recipe: Recipe) -> None:
    """Write a recipe, and make sure that it reads back as it is.

    Raises
    ------
    WriteError
        If the system refuses.
    """
    text = as_text(recipe)
    read_text(text)
    write_text(path, text)
