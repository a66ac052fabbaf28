"""Column heads and roles: which column is what, in the trade's words of several languages, and in which units."""

from __future__ import annotations

import re
import unicodedata
from collections import Counter
from collections.abc import Sequence
from pathlib import Path

from vastgrid.base.errors import FormatError, ParamError
from vastgrid.base.quantities import Unit

COORDINATES = ("easting", "northing", "elevation", "longitude", "latitude")


ROLES = (*COORDINATES, "point", "code", "description", "date", "time", "file", "ignore")


_LETTERS = {
    "P": "point",
    "N": "northing",
    "E": "easting",
    "Z": "elevation",
    "D": "description",
    "C": "code",
    "-": "ignore",
}


_SYNONYMS = {
    "easting": "easting eastings east e rechtswert rechts ostwert ost est este leste oost x xcoord coordx",
    "northing": "northing northings north n hochwert hoch nordwert nord norte noord y ycoord coordy",
    "elevation": "elevation elev z rl orthometric level quota cota cote altitude alt hoehe hohe hojd hoyde hoogte "
    "elevacion elevazione altura zcoord coordz height hgt h",
    "longitude": "lon long lng longitude",
    "latitude": "lat latitude",
    "point": "point pt pnt p pointno pointnumber pointid pointname ptno ptid punkt punktnummer punktnr pktnr pkt punto "
    "punt ponto matricule numero nr id name number no num station fid",
    "code": "code feature featurecode fcode codigo codice kennung layer class string art",
    "description": "description desc d remark remarks note notes comment comments bemerkung beschreibung descripcion "
    "descrizione descricao remarque",
    "date": "date",
    "time": "time datetime timestamp seconds sow",
    "file": "file filename image photo picture imagename photoname",
    "roll": "roll omega",
    "pitch": "pitch phi",
    "heading": "heading yaw kappa azimuth",
}


ROLE_OF = {word: role for role, words in _SYNONYMS.items() for word in words.split()}


# Where two heads fit a role, the one whose word comes first here has it: an elevation before a height of something.
_RANK = {word: k for words in _SYNONYMS.values() for k, word in enumerate(words.split())}


# Words that say nothing of their own beside another one.
_FILLERS = frozenset(
    [
        "coord",
        "coordinate",
        "coordinates",
        "koordinate",
        "koordinaten",
        "coordenada",
        "coordonnee",
        "grid",
        "local",
        "utm",
        "value",
        "wert",
        "m",
        "ft",
        "feet",
        "metre",
        "metres",
        "meter",
        "meters",
        "mm",
        "us",
        "in",
        "the",
        "of",
        "gps",
        "gnss",
        "site",
    ]
)


# Heights of instruments and rods, and what lies between two kinds of height: no elevations.
_NO_ELEVATION = frozenset(
    [
        "rod",
        "pole",
        "instrument",
        "antenna",
        "target",
        "prism",
        "staff",
        "reflector",
        "hi",
        "ht",
        "hr",
        "tgt",
        "geoid",
        "undulation",
        "separation",
        "offset",
        "stab",
        "instrumenten",
        "reflektor",
    ]
)


def _folded(text: str) -> str:
    """Return small letters without accents; ä is a, as ae is to be found as well."""
    plain = unicodedata.normalize("NFKD", text.replace("ø", "o").replace("Ø", "O").replace("ß", "ss"))
    return "".join(letter for letter in plain if not unicodedata.combining(letter)).lower()


def _head_word(head: str) -> str:
    """Return the word of a column's head that names a role, or nothing.

    The head as a whole counts first, then without units and words that say nothing, then each word alone.
    """
    head = re.sub(r"[\(\[].*?[\)\]]", " ", head)
    head = re.sub(r"(?<=[a-z])(?=[A-Z])", " ", head)
    words = [word for word in re.split(r"[^a-z]+", _folded(head)) if word]
    if set(words) & _NO_ELEVATION and not {"elevation", "elev"} & set(words):
        return ""
    whole = "".join(words)
    if whole in ROLE_OF:
        return whole
    if whole == "gpstime":
        # An attribute of clouds by that name, no time of day.
        return ""
    words = [word for word in words if word not in _FILLERS] or words
    whole = "".join(words)
    if whole in ROLE_OF:
        return whole
    # A coordinate's name beside that of the thing it belongs to: “pt_east”.
    known = [word for word in words if word in ROLE_OF]
    named = [word for word in known if ROLE_OF[word] in COORDINATES]
    # What is beside another name is another thing: a point_source_id is no number of the point.
    best = sorted(named or (known if len(known) == len(words) else []), key=lambda word: _RANK[word])
    return best[0] if len({ROLE_OF[word] for word in best}) == 1 else ""


def roles_from_header(header: tuple[str, ...]) -> tuple[str, ...]:
    """Return roles by the heads, empty where no plan coordinates are among them."""
    words = [_head_word(head) for head in header]
    best: dict[str, int] = {}
    for k, word in enumerate(words):
        role = ROLE_OF.get(word)
        if role and (role not in best or _RANK[word] < _RANK[words[best[role]]]):
            best[role] = k
    roles: list[str] = []
    for k, head in enumerate(header):
        role = ROLE_OF.get(words[k])
        # The other columns that fit a role keep their own name as an attribute.
        roles.append(role if role and best[role] == k else _attribute_name(head, k, roles))
    has = set(roles)
    return tuple(roles) if {"easting", "northing"} <= has or {"longitude", "latitude"} <= has else ()


def check_heads(path: Path, header: tuple[str, ...], roles: tuple[str, ...], line: int) -> None:
    if "elevation" not in roles:
        named = ", ".join(header)
        raise FormatError(
            path,
            f"the column heads ({named}) name no elevation; columns=… says which column it is, if there is one",
            line=line + 1,
        )


def _attribute_name(head: str, index: int, taken: list[str]) -> str:
    name = head.strip() or f"column_{index + 1}"
    known = {*(each.lower() for each in taken), *ROLES}
    return name if name.lower() not in known else f"{name}_{index + 1}"


def parse_roles(text: str) -> tuple[str, ...]:
    """Read column roles as a person writes them: “point, northing, easting” or “PNEZD”.

    Raises
    ------
    ParamError
        If the letters are unknown.
    """
    if "," not in text and len(text) > 1 and text.isupper():
        unknown = [letter for letter in text if letter not in _LETTERS]
        if unknown:
            raise ParamError("columns", f"“{unknown[0]}” is not one of the letters {' '.join(_LETTERS)}")
        return tuple(_LETTERS[letter] for letter in text)
    words = [word.strip() for word in text.split(",")]
    return tuple(ROLE_OF.get(word.replace(" ", "").lower(), word) if word else "ignore" for word in words)


def check_roles(roles: Sequence[str]) -> None:
    """Refuse roles that do not make points.

    Raises
    ------
    ParamError
        If a role is used twice, or a coordinate is missing.
    """
    twice = [role for role, times in Counter(role for role in roles if role != "ignore").items() if times > 1]
    if twice:
        where = " and ".join(str(k + 1) for k, role in enumerate(roles) if role == twice[0])
        raise ParamError("columns", f"{twice[0]} is given to columns {where}; each role can be used once")
    has = set(roles)
    if "elevation" not in has:
        raise ParamError("columns", "no column is the elevation")
    if not ({"easting", "northing"} <= has or {"longitude", "latitude"} <= has):
        missing = ", ".join(role for role in ("easting", "northing") if role not in has)
        raise ParamError("columns", f"no column is the {missing}")


def units_of_heads(header: tuple[str, ...], roles: Sequence[str]) -> tuple[Unit | None, Unit | None]:
    found: dict[str, Unit] = {}
    for head, role in zip(header, roles, strict=False):
        word = re.search(r"[\(\[]\s*([^\)\]]*?)\s*[\)\]]|_(us[_-]?ft|m|ft|feet|metres?|meters?|mm)$", head.lower())
        if role in COORDINATES and word:
            unit = _UNIT_WORDS.get((word[1] or word[2] or "").replace(" ", "-").replace("_", "-").rstrip("."))
            if unit:
                found[role] = unit
    plan = found.get("easting") if found.get("easting") is found.get("northing") else None
    return plan, found.get("elevation")


def feet_unsaid(header: tuple[str, ...]) -> bool:
    """Say whether heads speak of feet without saying which."""
    return any(re.search(r"[\(\[_\s](ft|feet|foot)[\)\]]?\s*$", head.lower()) for head in header) and not any(
        re.search(r"us|survey|international|\bift", head.lower()) for head in header
    )


_UNIT_WORDS = {
    **dict.fromkeys(("m", "metre", "metres", "meter", "meters"), Unit.METRE),
    **dict.fromkeys(("mm", "millimetre", "millimeter"), Unit.MILLIMETRE),
    **dict.fromkeys(("ift", "international-foot", "international-feet"), Unit.FOOT),
    **dict.fromkeys(("in", "inch", "inches"), Unit.INCH),
    **dict.fromkeys(("us-ft", "usft", "ftus", "us-survey-foot", "us-survey-feet", "sft"), Unit.US_FOOT),
}
