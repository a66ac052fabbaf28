"""Sets: what goes out together to one kind of receiver, under which names, in which formats with which options.

Those that ship are declared here; those that people make are files of their own, readable text.
"""

from __future__ import annotations

import dataclasses
import json
import os
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from vastgrid import catalog
from vastgrid.base.errors import CallError
from vastgrid.base.files import write_text
from vastgrid.base.words import instead, shortly
from vastgrid.data.dataset import Dataset
from vastgrid.data.kinds import kind_of
from vastgrid.params import declare


@dataclass(frozen=True, slots=True)
class Enclosure:
    """One file of a set.

    Attributes
    ----------
    format : str
        Id of its format.
    ending : str
        Ending of its name; empty for the format's usual one.
    words : dict
        Writing options.
    kinds : tuple of str
        Kinds of data that go into it; all that the format holds where there are none.
    after : str
        What stands in its name after that of the data.
    meeting : bool
        Whether the line where the first two surfaces meet goes along, and the second surface does not.
    """

    format: str
    ending: str = ""
    words: dict[str, str] = field(default_factory=dict)
    kinds: tuple[str, ...] = ()
    after: str = ""
    meeting: bool = False

    def file_name(self, stem: str) -> str:
        """Return its name for data of a name."""
        kind = catalog.format_named(self.format)
        return f"{stem}{self.after}{self.ending or kind.suffixes[0]}"


@dataclass(frozen=True, slots=True)
class DeliverySet:
    """What goes to one kind of receiver."""

    name: str
    title: str
    enclosures: tuple[Enclosure, ...]

    def to_json(self) -> str:
        """Return the set as text."""
        return json.dumps(dataclasses.asdict(self), indent=2, ensure_ascii=False)


# The conversion that finds the line where two surfaces meet.
MEETING = "no_change"

SHIPPED = (
    DeliverySet(
        "designer",
        "For the designer: LandXML with everything it holds, and a drawing",
        (Enclosure("landxml", words={"hold": "both"}), Enclosure("dxf", words={"version": "R2013"})),
    ),
    DeliverySet(
        "machine",
        "For machine control: LandXML with faces only, and the line of no change",
        (
            Enclosure(
                "landxml",
                words={"hold": "faces", "lines_as": "plan features"},
                kinds=("tin", "lines", "survey"),
                meeting=True,
            ),
        ),
    ),
    DeliverySet(
        "architect",
        "For the architect: a drawing with faces, and IFC",
        (
            Enclosure("dxf", words={"version": "R2010", "faces": "faces"}, kinds=("tin",)),
            Enclosure("ifc", words={"schema": "IFC4"}, kinds=("tin", "mesh")),
        ),
    ),
    DeliverySet(
        "client",
        "For the client: a scene that opens in a browser, and the plan as PDF",
        (Enclosure("scene"), Enclosure("plan", ending=".pdf", after=" plan")),
    ),
)


def folder() -> Path:
    """Return where sets that people made are kept."""
    base = os.environ.get("XDG_CONFIG_HOME") or str(Path.home() / ".config")
    return Path(base) / "vastgrid" / "sets"


def known_sets() -> list[DeliverySet]:
    """Return all sets: those that people made come after those that ship, and take the place of one of their name."""
    own: dict[str, DeliverySet] = {each.name: each for each in SHIPPED}
    try:
        files = sorted(folder().glob("*.json"))
    except OSError:
        files = []
    for path in files:
        try:
            made = read_set(path)
        except CallError:
            continue
        own[made.name] = made
    return list(own.values())


def set_named(name: str) -> DeliverySet:
    """Return a set by its name, or from a file.

    Raises
    ------
    CallError
        If there is none.
    """
    for each in known_sets():
        if each.name == name:
            return each
    if name.endswith(".json"):
        return read_set(Path(name))
    raise CallError(f"there is no set “{shortly(name)}”; {instead(name, (each.name for each in known_sets()))}")


def read_set(path: Path) -> DeliverySet:
    """Return a set from its file.

    Raises
    ------
    CallError
        If it is none, or names a format or an option that is not there.
    """
    try:
        values = json.loads(path.read_text(encoding="utf-8"))
        enclosures = tuple(
            Enclosure(**{**each, "kinds": tuple(each.get("kinds", ()))}) for each in values["enclosures"]
        )
        made = DeliverySet(str(values["name"]), str(values["title"]), enclosures)
    except (OSError, ValueError, KeyError, TypeError) as error:
        raise CallError(f"{path.name} is not a set of deliveries") from error
    for each in made.enclosures:
        declare.build(catalog.format_named(each.format).write_params, each.words)
    return made


def save_set(made: DeliverySet) -> Path:
    """Keep a set under its name.

    Raises
    ------
    CallError
        If the name cannot be one.
    """
    if not re.fullmatch(r"[\w][\w -]{0,60}", made.name):
        raise CallError(f"“{made.name}” cannot be the name of a set; use letters, digits and blanks")
    path = folder() / f"{made.name}.json"
    path.parent.mkdir(parents=True, exist_ok=True)
    write_text(path, made.to_json() + "\n")
    return path


def grounds(have: Mapping[str, Dataset]) -> list[str]:
    """Return those of some cards that are ground, by their ids."""
    return [card for card, each in have.items() if kind_of(each).covers and each.has_heights]


def belonging(enclosure: Enclosure, have: Mapping[str, Dataset], *, becoming: bool = False) -> list[str]:
    """Return which cards go into one file of a set, by their ids; of surfaces that meet there only the first.

    Parameters
    ----------
    becoming : bool
        Whether ground that can become a TIN on the way is taken for one.
    """
    ground = grounds(have)
    cards = [card for card in have if not enclosure.meeting or card not in ground[1:]]
    if not enclosure.kinds:
        return cards
    taken = set(ground) if becoming and "tin" in enclosure.kinds else set()
    return [card for card in cards if card in taken or have[card].kind in enclosure.kinds]


def stem_of(datasets: Sequence[Dataset]) -> str:
    """Return the name of what goes out: that of the first ground, or of the first of all."""
    first = next((each for each in datasets if kind_of(each).covers), datasets[0])
    return safe_name(first.name)


def safe_name(name: str) -> str:
    """Return a name as every file system takes it."""
    plain = re.sub(r'[<>:"/\\|?*\x00-\x1f]', "_", name).strip(" .")
    return plain[:120] or "terrain"
