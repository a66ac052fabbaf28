"""Every text that a user can meet, with its place, to be read aloud: `./vastgrid words`; the sentences both ways: `… --sentences`.

For developers. Texts are taken from the declarations and from the strings of the source; docstrings and keys are left out.
"""

from __future__ import annotations

import ast
import sys
from pathlib import Path

from vastgrid import catalog
from vastgrid.base.errors import CallError
from vastgrid.params import declare

ROOT = Path(__file__).resolve().parent.parent
NAMES = ("Existing ground", "Finished surface", "Site limit")
# Tried one after the other: the first that a parameter takes is its example.
VALUES = (
    "2.5m", "7", "3", "2, 9", "431000,887000,431100,887100", "431000 887000, 431100 887000, 431100 887100", "EPSG:25832",
    "10m, 20m", "raise -0.5 inside 431305,887190 431320,887190 431312,887205", "WALL", "2.5", "0.4", "2:1", "1/3", "50%",
)  # fmt: skip


def example(field):
    """Return a value of a parameter that is not its default, as words; none where there is no other."""
    usual = declare.value_text(field.default)
    for text in (*reversed(field.choices), *VALUES, "yes", "no"):
        try:
            value = declare.parse_value(field, text)
            declare.check_value(field, value)
        except CallError:
            continue
        if declare.value_text(value) != usual and text != "none":
            return declare.value_text(value)
    return None


def sentences():
    """Give the sentence of each conversion with nothing given, and with everything given."""
    for conversion in catalog.CONVERSIONS:
        names = dict(zip([each.role for each in conversion.inputs], NAMES, strict=False))
        needed = [(each.role, names[each.role]) for each in conversion.inputs if each.least]
        every = [(each.role, names[each.role]) for each in conversion.inputs]
        fields = declare.fields(conversion.params)
        words = {each.name: text for each in fields if (text := example(each)) is not None}
        yield conversion.id, "open", declare.plain(conversion.sentence(conversion.params(), needed, ()))
        given = declare.build(conversion.params, words)
        yield conversion.id, "given", declare.plain(conversion.sentence(given, every, words))


def declared():
    """Give the texts of all declarations."""
    for conversion in catalog.CONVERSIONS:
        yield f"conversion {conversion.id}", conversion.title
        yield f"conversion {conversion.id}", conversion.help
        yield from (
            (f"conversion {conversion.id}, role {each.role}", each.help) for each in conversion.inputs if each.help
        )
        yield from _fields(f"conversion {conversion.id}", conversion.params)
    for form in catalog.FORMATS:
        yield f"format {form.id}", form.title
        for way in ("read_params", "write_params"):
            yield from _fields(f"format {form.id}, {way.split('_')[0]}", getattr(form, way))
    for check in catalog.CHECKS:
        yield f"check {check.id}", check.title
        yield f"check {check.id}", check.help
        yield from _fields(f"check {check.id}", check.params)


def _fields(place, params):
    for field in declare.fields(params):
        yield f"{place}, {field.name}", f"{field.param.label}: {field.param.help} [left open: {field.param.absent}]"
        yield from ((f"{place}, {field.name}={value}", said) for value, said in field.param.said)


def written():
    """Give the texts in the source: strings with a blank in them that are no docstring; slots stand as “…”."""
    for path in sorted((ROOT / "src").rglob("*.py")):
        tree = ast.parse(path.read_text(encoding="utf-8"))
        skip = {
            id(node.body[0].value)
            for node in ast.walk(tree)
            if isinstance(node, ast.Module | ast.ClassDef | ast.FunctionDef)
            and node.body
            and isinstance(node.body[0], ast.Expr)
        }
        inside = {id(part) for node in ast.walk(tree) if isinstance(node, ast.JoinedStr) for part in node.values}
        for node in ast.walk(tree):
            text = ""
            if isinstance(node, ast.JoinedStr):
                text = "".join(part.value if isinstance(part, ast.Constant) else "…" for part in node.values)
            elif isinstance(node, ast.Constant) and isinstance(node.value, str) and id(node) not in skip | inside:
                text = node.value
            words = text.strip().split()
            if len(words) > 1 and sum(word.strip(".,:;()“”").isalpha() for word in words) > len(words) / 2:
                yield f"{path.relative_to(ROOT)}:{node.lineno}", text


if __name__ == "__main__":
    if "--sentences" in sys.argv:
        for name, way, text in sentences():
            print(f"{name} ({way}): {text}")  # noqa: T201
    else:
        for place, text in (*declared(), *((f"{a} ({b})", c) for a, b, c in sentences()), *written()):
            print(f"{place}: {' '.join(text.split())}")  # noqa: T201
