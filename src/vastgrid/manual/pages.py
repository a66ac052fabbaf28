"""The manual: pages written by hand, and pages made from the declarations, so that these are never out of date."""

from __future__ import annotations

import keyword
import re
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache
from importlib import resources
from types import TracebackType
from typing import Any

from vastgrid import catalog
from vastgrid.declarations.check import Check
from vastgrid.declarations.conversion import Conversion, listed
from vastgrid.declarations.fileformat import Carries, Format
from vastgrid.params import declare
from vastgrid.params.declare import fields, value_text

FIRST = "first-hour"
# In the order of practice: what people sit down to do, in numbered steps.
TASKS = (
    FIRST,
    "odd-text-file",
    "find-what-is-wrong",
    "make-ground",
    "trim-ground",
    "contour-drawing",
    "dem",
    "landxml-in-feet",
    "dxf-old-cad",
    "client-scene",
    "monthly-volumes",
    "check-accuracy",
    "again-next-month",
)
# What there is to know beyond that, by subject.
SUBJECTS = (
    "the-window",
    "what-comes-in",
    "surfaces",
    "contours-and-grids",
    "areas-and-control-points",
    "checking",
    "delivering",
    "how-much-and-again",
    "larger-than-memory",
    "by-command",
    "from-a-script",
    "validation",
    "at-home",
)
LOOKED_UP = ("questions", "keys", "glossary", "findings", "errors")


@dataclass(frozen=True, slots=True)
class Page:
    """One page.

    Attributes
    ----------
    slug : str
        Its name in links: “conversion-contours”.
    title : str
        What stands above it.
    part : str
        Which part of the manual it belongs to.
    text : str
        Markdown, beginning with the title.
    """

    slug: str
    title: str
    part: str
    text: str

    @property
    def words(self) -> str:
        """Everything in it that can be searched, in small letters."""
        return f"{self.title}\n{self.text}".lower()


@lru_cache(maxsize=1)
def pages() -> tuple[Page, ...]:
    """Return every page in order."""
    found = [_written(slug, "Tasks") for slug in TASKS]
    found += [_written(slug, "More about") for slug in SUBJECTS]
    found += [_written(slug, "To look up") for slug in LOOKED_UP]
    found += [_of_conversion(each) for each in sorted(catalog.CONVERSIONS, key=lambda own: own.title)]
    found += [_of_format(each) for each in sorted(catalog.FORMATS, key=lambda own: own.title)]
    found += [_of_check(each) for each in catalog.CHECKS]
    return tuple(found)


def page(slug: str) -> Page | None:
    """Return a page by its name, or by the name of what it is about; None where there is none."""
    wanted = slug.strip().lower().removesuffix(".md")
    by_name = {each.slug: each for each in pages()}
    for name in (wanted, f"conversion-{wanted}", f"format-{wanted}", f"check-{wanted}"):
        if name in by_name:
            return by_name[name]
    return None


def found(text: str, most: int = 30) -> list[Page]:
    """Return the pages that have all words of a text, those that have them in their title first."""
    words = [word for word in re.split(r"\W+", text.lower()) if word]
    if not words:
        return []
    hits = [each for each in pages() if all(word in each.words for word in words)]

    def rank(own: Page) -> tuple[int, float]:
        # A long page has every word often: what counts is how much of it is about them.
        much = sum(own.words.count(word) for word in words) / len(own.words) ** 0.7
        return (-sum(word in own.title.lower() for word in words), -much)

    return sorted(hits, key=rank)[:most]


def _written(slug: str, part: str) -> Page:
    text = (resources.files("vastgrid.manual") / "pages" / f"{slug}.md").read_text(encoding="utf-8")
    head = re.match(r"#\s+(.+)", text)
    return Page(slug, head[1].strip() if head else slug, part, text)


# -- findings and errors


def of_finding(code: str) -> str:
    """Return the place in the manual that tells of a finding: a page and a place on it."""
    if any(each.id == code for each in catalog.CHECKS):
        return f"check-{code}"
    return f"findings#{code}"


# Where errors of a room that are about no format and no conversion are told of.
_ROOMS = {
    "params": "by-command",
    "cli": "by-command",
    "catalog": "by-command",
    "tiling": "larger-than-memory",
    "tiled": "larger-than-memory",
    "recipes": "how-much-and-again",
    "lineage": "at-home",
    "home": "at-home",
    "checks": "checking",
    "format_support": "what-comes-in",
    "execution": "errors",
    "delivery": "errors",
    "jobs": "errors",
}


def of_error(error: BaseException) -> str:
    """Return the page that tells of an error, by where it was raised."""
    trace: TracebackType | None = error.__traceback__
    modules: list[str] = []
    while trace is not None:
        modules.append(str(trace.tb_frame.f_globals.get("__name__", "")))
        trace = trace.tb_next
    for name in reversed(modules):
        parts = name.split(".")
        if parts[0] != "vastgrid" or len(parts) < 2:
            continue
        own = {"formats": "format-", "convert": "conversion-"}.get(parts[1])
        if own and len(parts) > 2 and (there := _declared_in(parts[1], name)):
            return own + there
    return next((_ROOMS[own] for name in reversed(modules) if (own := ([*name.split("."), ""])[1]) in _ROOMS), "errors")


def _declared_in(room: str, module: str) -> str:
    every: Sequence[Any] = catalog.FORMATS if room == "formats" else catalog.CONVERSIONS
    # A format may be a package: its modules are its own as well.
    depth = 3 if room == "formats" else 4
    place = module.split(".")[:depth]
    # Of several in one module that which the module is named after.
    for each in sorted(every, key=lambda item: item.id != place[-1]):
        work = (each.read or each.write) if room == "formats" else each.run
        if getattr(work, "__module__", "").split(".")[:depth] == place:
            return str(each.id)
    return ""


# -- pages from declarations


def _cell(text: str) -> str:
    return " ".join(str(text).split()).replace("|", "\\|")


def _table(params: type, heads: tuple[str, str] = ("option", "what it does")) -> list[str]:
    """Return the parameters of a class as a table."""
    own = fields(params)
    if not own:
        return ["Nothing to choose.", ""]
    lines = [f"| {heads[0]} | {heads[1]} | values | if left out |", "|---|---|---|---|"]
    for each in own:
        values = "yes, no" if each.kind is bool else ", ".join(each.choices)
        if not values:
            limits = [
                text
                for text, value in (
                    ("above {:g}", each.param.above),
                    ("{:g} or more", each.param.least),
                    ("at most {:g}", each.param.most),
                )
                if value is not None
                for text in [text.format(value)]
            ]
            what = each.param.quantity.value if each.param.quantity else ""
            values = ", ".join([word for word in (what, *limits) if word])
        absent = each.param.absent if each.default is None or each.default == "" else value_text(each.default)
        lines.append(
            f"| `{each.name}` | {_cell(f'**{each.param.label}.** {each.param.help}')} | {_cell(values)} | {_cell(absent)} |"
        )
    return [*lines, ""]


def _of_conversion(conversion: Conversion) -> Page:
    lines = [f"# {conversion.title}", "", conversion.help, "", "## Made from", ""]
    for role in conversion.inputs:
        kinds = listed([kind.title for kind in role.kinds])
        number = "" if role.most == 1 else " (any number)" if role.most is None else f" (up to {role.most})"
        need = "" if role.least else ", if there is any"
        lines.append(f"- **{role.role}**: {kinds}{number}{need}{'; ' + role.help if role.help else ''}")
    given = [
        f"**{each.name}** ({each.kind.title if each.kind else 'of the kind that came in'})"
        for each in conversion.outputs
    ]
    if conversion.also:
        lines += ["", f"Also called: {', '.join(conversion.also)}."]
    sentence = declare.plain(
        conversion.sentence(conversion.params(), [(each.role, each.role) for each in conversion.inputs if each.least])
    )
    lines += ["", f"Gives {listed(given)}.", "", "## Its sentence", "", f"> {sentence}", ""]
    lines += [
        "Each value in the sentence can be clicked and changed; what was not given is automatic, worked out from the data, and stands in italics.",
        "",
    ]
    lines += ["## Values", "", *_table(conversion.params, ("value", "what it says"))]
    lines += ["## By command", ""]
    if conversion.answers:
        lines += ["Its figures stand in the panel, in reports and, by `vastgrid conversions --json`, for programs.", ""]
    else:
        some = next((f"{each.name}=…" for each in fields(conversion.params)), "")
        lines += ["```", f"vastgrid convert IN OUT --via {conversion.id} {some}".rstrip(), "```", ""]
    lines += ["## From a script", "", "```", _call(conversion), "```", "", "See [From a script](from-a-script.md).", ""]
    if conversion.tiles is not None:
        lines += [
            "It runs on tiles of what is larger than memory: add `--tiles auto`, or name a folder. See [Larger than memory](larger-than-memory.md).",
            "",
        ]
    return Page(f"conversion-{conversion.id}", conversion.title, "Conversions", "\n".join(lines))


def _call(conversion: Conversion) -> str:
    """Return how a script calls it: its roles and its first value."""
    roles = [each.role for each in conversion.inputs if each.least]
    some = next((f"{each.attribute}=…" for each in fields(conversion.params)), "")
    if conversion.single:
        return f"data.{conversion.id}({some})"
    spelled = [f"{role}_={role}" if keyword.iskeyword(role) else f"{role}={role}" for role in roles]
    return f"vg.{conversion.id}({', '.join([*spelled, *([some] if some else [])])})"


def _of_format(kind: Format) -> Page:
    does = listed([word for word, able in (("read", kind.read), ("written", kind.write)) if able])
    lines = [
        f"# {kind.title}",
        "",
        f"Names end in {listed([f'`{each}`' for each in kind.suffixes])}. It is {does}.",
        "",
    ]
    if kind.write:
        lines += ["## What it holds", "", *_holds(kind.carries), "## What it loses", "", *_loses(kind.carries)]
        lines += [
            "Whatever a file does not hold of the data at hand is said before it is written, and in the report.",
            "",
        ]
    if kind.read:
        lines += ["## Reading options", "", *_table(kind.read_params)]
    if kind.write:
        lines += ["## Writing options", "", *_table(kind.write_params)]
    if kind.read and kind.head is not None:
        lines += [
            "It can be read in parts: a folder of such files is one, however large. See [Larger than memory](larger-than-memory.md).",
            "",
        ]
    lines += [
        "## When a file is refused",
        "",
        "An error names the file, where it is at fault, what was kept and what to try. A file that is cut off or damaged is never "
        "read in silence; what of it does not come in is a finding with its count. If a file opens elsewhere and not here, look at "
        "its first bytes: the content decides what it is, not the name.",
        "",
    ]
    return Page(f"format-{kind.id}", kind.title, "Formats", "\n".join(lines))


def _holds(carries: Carries) -> list[str]:
    lines = [
        f"- {listed([kind.title for kind in carries.kinds])}{', several in one file' if carries.several else ', one in a file'}"
    ]
    units = {
        "none": "no units",
        "one": "one unit for plan and heights",
        "plan": "the unit of plan",
        "both": "the units of plan and of heights",
    }[carries.units]
    lines.append(f"- {units}{', in a comment only' if carries.worded else ''}")
    if carries.crs:
        lines.append("- the reference system" + (", by its EPSG code" if carries.crs == "code" else ""))
    if carries.attributes:
        what = {True: "attributes of any kind", "numbers": "attributes that are numbers"}
        own = carries.attributes
        lines.append(f"- {what[own] if own in what else 'these attributes: ' + ', '.join(own)}")  # type: ignore[arg-type]
    if carries.breaklines:
        lines.append("- the breaklines that a TIN was built from")
    if carries.labels:
        lines.append("- labels along contours")
    if carries.quantity:
        lines.append("- which quantity a grid holds, if not heights")
    return [*lines, ""]


def _loses(carries: Carries) -> list[str]:
    lines = []
    if carries.single:
        lines.append(
            "- numbers are of single precision: seven digits, from a recorded origin where coordinates are large"
        )
    if carries.step:
        lines.append(f"- coordinates are rounded to {carries.step:g} unless more decimals are asked for")
    if carries.units in ("none", "plan") or carries.worded:
        lines.append("- units that it cannot say: tell the receiver, the report does")
    if not carries.crs:
        lines.append("- the reference system")
    if not carries.attributes:
        lines.append("- attributes of points and lines")
    if not carries.breaklines and any(kind.kind == "tin" for kind in carries.kinds):
        lines.append("- breaklines, except as edges of triangles")
    if carries.geographic:
        lines.append("- coordinates on a grid: what goes out is brought into longitude, latitude and metres")
    if carries.metres:
        lines.append("- other units than the metre: what goes out is brought into metres")
    return [*(lines or ["- nothing that the data here can have"]), ""]


def _of_check(check: Check) -> Page:
    lines = [f"# {check.title}", "", check.help, "", f"Looks at {listed([kind.title for kind in check.takes])}.", ""]
    lines += ["## Thresholds", "", *_table(check.params, ("threshold", "what it is"))]
    lines += ["```", f"vastgrid inspect FILE --check {check.id} …", "```", ""]
    return Page(f"check-{check.id}", check.title, "Checks", "\n".join(lines))
