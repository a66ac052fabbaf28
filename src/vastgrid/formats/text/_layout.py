"""How a file's lines are to be understood: delimiter, decimal mark, heads, roles of columns, units."""

from __future__ import annotations

import csv
import math
import re
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from enum import Enum
from pathlib import Path
from typing import Annotated

import numpy as np

from vastgrid.base.errors import FormatError, ParamError
from vastgrid.base.findings import Finding, note
from vastgrid.base.quantities import Unit
from vastgrid.kernels.textrows import line_starts
from vastgrid.params.declare import Param

SAMPLE = 400


class Delimiter(Enum):
    """What stands between two fields."""

    AUTO = "detect"
    COMMA = "comma"
    SEMICOLON = "semicolon"
    TAB = "tab"
    BAR = "bar"
    SPACE = "space"


_BYTES = {
    Delimiter.COMMA: b",",
    Delimiter.SEMICOLON: b";",
    Delimiter.TAB: b"\t",
    Delimiter.BAR: b"|",
    Delimiter.SPACE: b" ",
}


class Form(Enum):
    """What the lines are."""

    POINTS = "points"
    GRID = "grid"
    TRAJECTORY = "trajectory"
    PHOTOS = "photos"


class Decimal(Enum):
    """The decimal mark."""

    AUTO = "detect"
    POINT = "point"
    COMMA = "comma"


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
    "easting": "e east easting eastings x xcoord xcoordinate coordx",
    "northing": "n north northing northings y ycoord ycoordinate coordy",
    "elevation": "z elev elevation height h hgt level rl alt altitude zcoord zcoordinate coordz orthometric",
    "longitude": "lon long lng longitude",
    "latitude": "lat latitude",
    "point": "p pt point pnt pointno pointnumber pointid pointname ptno ptid id name number no num station fid",
    "code": "code feature featurecode fcode layer class string",
    "description": "d desc description remark remarks note notes comment comments",
    "date": "date",
    "time": "time datetime timestamp gpstime gps_time seconds sow",
    "file": "file filename image photo picture imagename photoname",
    "roll": "roll omega",
    "pitch": "pitch phi",
    "heading": "heading yaw kappa azimuth",
}
_ROLE_OF = {word: role for role, words in _SYNONYMS.items() for word in words.split()}


@dataclass(frozen=True)
class TextReadParams:
    """How the lines are understood; whatever is left to detection is said in a finding."""

    columns: Annotated[
        str,
        Param(
            "Columns",
            "Role of each column in order, parted by commas: easting, northing, elevation, longitude, latitude, point, "
            "code, description, date, ignore, or a name of your own; or letters such as PNEZD or ENZ.",
            absent="as detected",
            once=True,
        ),
    ] = ""
    delimiter: Annotated[Delimiter, Param("Delimiter", "What stands between two fields.")] = Delimiter.AUTO
    decimal: Annotated[Decimal, Param("Decimal mark", "The mark before the decimals of a number.")] = Decimal.AUTO
    start: Annotated[
        int | None, Param("First line", "Number of the first line that holds a point.", least=1, absent="as detected")
    ] = None
    comment: Annotated[str, Param("Comment mark", "Lines that begin with this character are passed over.")] = "#"
    widths: Annotated[
        str,
        Param("Fixed widths", "Widths of columns without delimiter, in characters, such as 5,12,13,9.", absent="none"),
    ] = ""
    form: Annotated[
        Form,
        Param(
            "The lines are",
            "points; grid: cells of a regular lattice; trajectory: places of one course, in order; photos: positions of pictures.",
        ),
    ] = Form.POINTS


@dataclass(frozen=True, slots=True)
class Layout:
    """How a file's lines are understood, all of it decided.

    Attributes
    ----------
    delimiter : bytes
        One byte; a blank stands for any white space.
    comma : bool
        Whether numbers have a decimal comma.
    first : int
        Index of the first data line, from 0.
    roles : tuple of str
        Role or attribute name of each column.
    header : tuple of str
        Column heads of the file, empty where it has none.
    units : tuple of Unit or None
        Plan and height unit that the heads name.
    guessed : str
        Empty, or what was guessed and why, in a sentence.
    angles : frozenset of int
        Columns whose numbers are angles in degrees, minutes and seconds.
    passed : tuple of int
        Indices of lines before the first data line that are neither blank, comment nor column heads.
    """

    delimiter: bytes
    comma: bool
    first: int
    roles: tuple[str, ...]
    header: tuple[str, ...] = ()
    units: tuple[Unit | None, Unit | None] = (None, None)
    guessed: str = ""
    angles: frozenset[int] = frozenset()
    passed: tuple[int, ...] = ()


def load(path: Path, most: int | None = None) -> bytes:
    """Return the file's text as UTF-8 or another superset of ASCII; only its beginning where `most` bytes are asked for.

    Raises
    ------
    FormatError
        If it is empty or not text.
    """
    with path.open("rb") as file:
        data = file.read() if most is None else file.read(most)
    if data[:2] in (b"\xff\xfe", b"\xfe\xff"):
        try:
            data = data.decode("utf-16", "strict" if most is None else "ignore").encode()
        except UnicodeDecodeError as error:
            raise FormatError(path, f"it begins like UTF-16 text but is not: {error.reason}") from error
    data = data.removeprefix(b"\xef\xbb\xbf")
    if not data.strip():
        raise FormatError(path, "the file is empty")
    if b"\0" in data[:65536]:
        raise FormatError(path, "this is not a text file (it holds NUL bytes)")
    return data


_GROUPED = re.compile(rb"(?<![\d.,])[+-]?\d{1,3}((?:,\d{3})+)(\.\d+)?(?![\d,])")


def prepared(path: Path, params: TextReadParams, most: int | None = None) -> tuple[bytes, list[Finding]]:
    """Return the file's text with fixed-width columns parted and thousands separators taken out, and say so.

    `most` bytes of it, where only the beginning is wanted.

    Raises
    ------
    FormatError
        If it is empty or not text.
    ParamError
        If the widths make no sense.
    """
    data = load(path, most)
    findings: list[Finding] = []
    if params.widths.strip():
        data = _parted(data, params.widths)
    elif params.delimiter is not Delimiter.COMMA and params.decimal is not Decimal.COMMA:
        plain = _without_thousands(data, params)
        if plain is not data:
            data = plain
            findings.append(note("thousands", "Commas between thousands were taken out of the numbers."))
    return data, findings


def _parted(data: bytes, text: str) -> bytes:
    words = [word.strip() for word in text.split(",") if word.strip()]
    if not words or not all(re.fullmatch(r"\d{1,4}", word) and int(word) > 0 for word in words):
        raise ParamError("widths", f"“{text}” is not a list of widths such as 5,12,13,9")
    stops = np.cumsum([int(word) for word in words])
    raw = np.frombuffer(data + (b"" if data.endswith(b"\n") else b"\n"), np.uint8)
    starts = line_starts(raw)
    places = np.column_stack((starts[:-1], np.minimum(starts[1:], starts[:-1] + stops[-1])))
    out = np.full((len(places), int(stops[-1]) + len(words) + 1), ord(" "), np.uint8)
    # Blanks inside a line count, so lines are copied byte by byte rather than gathered as fields.
    column = np.arange(int(stops[-1]))
    index = np.minimum(places[:, :1] + column, len(raw) - 1)
    rows = np.where(places[:, :1] + column < places[:, 1:], raw[index], ord(" "))
    rows[(rows == 10) | (rows == 13) | (rows == 124)] = ord(" ")
    out[:, column + np.searchsorted(stops, column, side="right")] = rows
    out[:, stops + np.arange(len(words))] = ord("|")
    out[:, -1] = 10
    return out.tobytes()


def _without_thousands(data: bytes, params: TextReadParams) -> bytes:
    """Take commas out of numbers like 5,412,109.128, where the sample leaves no doubt that they part thousands."""
    sample = b"\n".join(line for _, line in sample_lines(data, params.comment))
    found = list(_GROUPED.finditer(sample))
    sure = sum(match[1].count(b",") > 1 or bool(match[2]) for match in found)
    others = set(re.findall(rb"[;\t|]", sample))
    # A comma that parts fields stands beside numbers that are not groups of three.
    odd = re.search(rb"\d,(?!\d{3}(?!\d))", sample)
    if not sure or odd or not (others or params.delimiter in (Delimiter.SPACE, Delimiter.AUTO)):
        return data
    if not others and len(re.findall(rb"[ ]+", sample)) < len(found) / 2:
        return data
    return _GROUPED.sub(lambda match: match[0].replace(b",", b""), data)


def split_line(line: bytes, delimiter: bytes) -> list[str]:
    """Return the fields of one line, quotes and blanks taken off."""
    text = line.decode("utf-8", "replace")
    if '"' in text:
        parts = next(csv.reader([text], delimiter=delimiter.decode(), skipinitialspace=True), [])
    else:
        parts = text.split() if delimiter == b" " else text.split(delimiter.decode())
    return [part.strip().strip('"').strip() for part in parts]


# Degrees, minutes and perhaps seconds, parted by their marks, colons or blanks; or degrees alone with a mark. A small
# s stands for seconds, a capital one for south.
_MARK = r"[\s°º˚'’′\"”″:dms\ufffd]"
_ANGLE = re.compile(
    rf"([NSEWnew])?\s*([+-]?\d{{1,3}}){_MARK}+(\d\d?(?:\.\d+)?)(?:{_MARK}+(\d\d?(?:\.\d+)?))?{_MARK}*([NSEWnew])?"
    rf"|([NSEWnew])?\s*([+-]?\d{{1,3}}(?:\.\d+)?){_MARK}*([NSEWnew])?"
)


def parse_angle(text: str) -> float:
    """Read 52°13'10.5"N, 52 13 10.5, N52 13.175 or 52.2196N as degrees, south and west negative; NaN if it is none."""
    found = _ANGLE.fullmatch(text.strip("\"' "))
    if not found:
        return math.nan
    before, degrees, minutes, seconds, after, before2, plain, after2 = found.groups()
    mark = (before or after or before2 or after2 or "").upper()
    if minutes and not seconds and not mark and not re.search(r"[°º˚'’′:]", text):
        return math.nan  # two numbers and a blank are two numbers
    number = degrees or plain
    value = abs(float(number)) + float(minutes or 0.0) / 60.0 + float(seconds or 0.0) / 3600.0
    if float(minutes or 0.0) >= 60.0 or float(seconds or 0.0) >= 60.0:
        return math.nan
    return -value if number.startswith("-") or mark in ("S", "W") else value


def _is_angle(text: str) -> bool:
    return not _is_number(text, False) and math.isfinite(parse_angle(text))


def _is_number(text: str, comma: bool) -> bool:
    text = text.replace(",", ".") if comma and "." not in text else ("" if "," in text else text)
    return re.fullmatch(r"[+-]?(\d+\.?\d*|\.\d+)([eEdD][+-]?\d+)?", text) is not None


def sample_lines(data: bytes, comment: str = "#") -> list[tuple[int, bytes]]:
    """Return the first lines that are neither blank nor comment, with their indices."""
    lines = re.split(rb"\r\n|\n|\r", data[: 1 << 18])
    if len(data) > 1 << 18:
        lines = lines[:-1]
    mark = comment.encode()[:1] or b"\0"
    return [(k, line) for k, line in enumerate(lines) if line.strip() and not line.lstrip().startswith(mark)][:SAMPLE]


def detect(path: Path, data: bytes, params: TextReadParams) -> Layout:
    """Work out how a file's lines are to be understood.

    Raises
    ------
    FormatError
        If no delimiter gives lines with three numbers.
    ParamError
        If the columns given make no sense.
    """
    lines = sample_lines(data, params.comment)
    if not lines:
        raise FormatError(path, "there are only blank lines and comments")
    delimiter, comma = _delimiter(path, lines, params)
    rows = [(k, split_line(line, delimiter)) for k, line in lines]
    numeric = [[_is_number(cell, comma) or _is_angle(cell) for cell in cells] for _, cells in rows]
    width = _mode([len(cells) for (_, cells), flags in zip(rows, numeric, strict=True) if sum(flags) >= 2])
    body = [k for k in range(len(rows)) if len(rows[k][1]) == width and sum(numeric[k]) >= 2]
    often = [sum(numeric[k][c] for k in body) >= 0.8 * len(body) for c in range(width)]
    if params.start is not None:
        begin = params.start - 1
    else:
        good = (k for k in body if sum(numeric[k][c] for c in range(width) if often[c]) >= 0.6 * sum(often))
        begin = rows[next(good, 0)][0]
    heads = [cells for k, cells in rows if k < begin and len(cells) == width and not any(map(looks_numeric, cells))]
    header = tuple(heads[-1]) if heads else _comment_header(data, begin, delimiter, width, params.comment)
    guessed = ""
    if params.columns:
        roles = parse_roles(params.columns)
    elif header and (named := _roles_from_header(header)):
        roles = named
    else:
        roles, guessed = _guess_roles(path, often, [rows[k][1] for k in body])
        if header:
            guessed = f"The column heads ({', '.join(header)}) do not say which columns are coordinates. " + guessed
    check_roles(roles)
    turned = [k for k in range(width) if roles[k : k + 1] in (("longitude",), ("latitude",))]
    angles = frozenset(c for c in turned if any(_is_angle(rows[k][1][c]) for k in body))
    passed = tuple(k for k, cells in rows if k < begin and (not header or tuple(cells) != header))
    return Layout(delimiter, comma, begin, roles, header, _units(header, roles), guessed, angles, passed)


def looks_numeric(cell: str) -> bool:
    """Say whether a field is a number with a decimal point or comma."""
    return _is_number(cell, False) or _is_number(cell, True)


def _mode(values: Sequence[int]) -> int:
    return Counter(values).most_common(1)[0][0] if values else 0


def _delimiter(path: Path, lines: list[tuple[int, bytes]], params: TextReadParams) -> tuple[bytes, bool]:
    wanted = list(_BYTES.values()) if params.delimiter is Delimiter.AUTO else [_BYTES[params.delimiter]]
    if params.widths.strip():
        wanted = [b"|"]
    marks = [False, True] if params.decimal is Decimal.AUTO else [params.decimal is Decimal.COMMA]
    best: tuple[float, bytes, bool] = (0.0, b"", False)
    for delimiter in wanted:
        for comma in marks:
            if comma and delimiter == b",":
                continue
            counts = Counter[int]()
            for _, line in lines:
                cells = split_line(line, delimiter)
                numbers = sum(_is_number(cell, comma) or _is_angle(cell) for cell in cells)
                if numbers >= 3:
                    counts[len(cells)] += 1
            # A comma as decimal mark needs evidence: where both readings fit, the point stands.
            score = (counts.most_common(1)[0][1] if counts else 0) - 0.5 * comma
            if score > best[0]:
                best = (score, delimiter, comma)
    if best[0] < max(0.5, 0.2 * len(lines)):
        number, line = lines[min(1, len(lines) - 1)]
        shown = line.decode("utf-8", "replace")[:60]
        if params.delimiter is Delimiter.AUTO:
            why = f"no delimiter gives lines with three numbers; this line reads “{shown}”"
        else:
            why = f"with {params.delimiter.value} as delimiter there are no three numbers in “{shown}”; try another one"
        raise FormatError(path, why, line=number + 1)
    return best[1], best[2]


def _comment_header(data: bytes, begin: int, delimiter: bytes, width: int, comment: str) -> tuple[str, ...]:
    """Column heads are often hidden in the last comment line before the data."""
    if not comment:
        return ()
    before = re.split(rb"\r\n|\n|\r", data[: 1 << 18])[:begin]
    for line in reversed(before):
        if line.lstrip().startswith(comment.encode()):
            cells = split_line(line.lstrip().lstrip(comment.encode()).strip(), delimiter)
            if len(cells) == width and _roles_from_header(tuple(cells)):
                return tuple(cells)
    return ()


def _plain_head(head: str) -> str:
    head = re.sub(r"[\(\[].*?[\)\]]", " ", head)
    head = re.sub(r"[_\s-]+(m|ft|feet|metres?|meters?|us[_-]?ft|mm)$", "", head.strip().lower())
    return re.sub(r"[^a-z]", "", head)


def _roles_from_header(header: tuple[str, ...]) -> tuple[str, ...]:
    roles: list[str] = []
    for k, head in enumerate(header):
        role = _ROLE_OF.get(_plain_head(head))
        # The first column that fits a role takes it; later ones keep their own name as an attribute.
        roles.append(role if role and role not in roles else _attribute_name(head, k, roles))
    has = set(roles)
    plan = {"easting", "northing"} <= has or {"longitude", "latitude"} <= has
    return tuple(roles) if plan and "elevation" in has else ()


def _attribute_name(head: str, index: int, taken: list[str]) -> str:
    name = re.sub(r"\W+", "_", head.strip().lower()).strip("_") or f"column_{index + 1}"
    return name if name not in taken and name not in ROLES else f"{name}_{index + 1}"


def _guess_roles(path: Path, often: list[bool], rows: list[list[str]]) -> tuple[tuple[str, ...], str]:
    numbers = [k for k, is_number in enumerate(often) if is_number]
    if len(numbers) < 3:
        raise FormatError(path, f"only {len(numbers)} columns hold numbers; a point needs three")
    roles = ["" for _ in often]
    whole = all(re.fullmatch(r"\d{1,9}", row[0]) for row in rows[:SAMPLE])
    distinct = len({row[0] for row in rows}) == len(rows)
    if (not often[0]) or (whole and distinct and len(numbers) >= 4):
        roles[0] = "point"
        order = ("northing", "easting", "elevation")
        why = "common practice where point numbers come first"
    else:
        order = ("easting", "northing", "elevation")
        why = "common practice without point numbers"
    free = [k for k in numbers if not roles[k]]
    for k, role in zip(free, order, strict=False):
        roles[k] = role
    rest = [k for k, role in enumerate(roles) if not role]
    if roles[0] == "point" and rest and not often[rest[0]]:
        roles[rest[0]] = "code"
    final = tuple(role or f"column_{k + 1}" for k, role in enumerate(roles))
    named = ", ".join(f"{k + 1} {role}" for k, role in enumerate(final) if role in ROLES)
    return final, f"Columns were taken as {named} ({why}); if that is wrong, give columns=…"


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
            raise ParamError("columns", f"“{unknown[0]}” is none of the letters {' '.join(_LETTERS)}")
        return tuple(_LETTERS[letter] for letter in text)
    words = [word.strip().lower() for word in text.split(",")]
    return tuple(_ROLE_OF.get(word.replace(" ", ""), word) if word else "ignore" for word in words)


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


def _units(header: tuple[str, ...], roles: Sequence[str]) -> tuple[Unit | None, Unit | None]:
    found: dict[str, Unit] = {}
    for head, role in zip(header, roles, strict=False):
        word = re.search(r"[\(\[]\s*([^\)\]]*?)\s*[\)\]]|_(us[_-]?ft|m|ft|feet|metres?|meters?|mm)$", head.lower())
        if role in COORDINATES and word:
            unit = _UNIT_WORDS.get((word[1] or word[2] or "").replace(" ", "-").replace("_", "-").rstrip("."))
            if unit:
                found[role] = unit
    plan = found.get("easting") if found.get("easting") is found.get("northing") else None
    return plan, found.get("elevation")


_UNIT_WORDS = {
    **dict.fromkeys(("m", "metre", "metres", "meter", "meters"), Unit.METRE),
    **dict.fromkeys(("mm", "millimetre", "millimeter"), Unit.MILLIMETRE),
    **dict.fromkeys(("ift", "international-foot", "international-feet"), Unit.FOOT),
    **dict.fromkeys(("us-ft", "usft", "ftus", "us-survey-foot", "us-survey-feet", "sft"), Unit.US_FOOT),
}
