"""How a file's lines are to be understood: delimiter, decimal mark, heads, roles of columns, units."""

from __future__ import annotations

import codecs
import csv
import math
import re
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from enum import Enum
from pathlib import Path
from typing import Annotated, Any

import numpy as np

from vastgrid.base.errors import FormatError, ParamError
from vastgrid.base.findings import Finding, count, note
from vastgrid.base.quantities import Unit
from vastgrid.formats.text._heads import (
    ROLES,
    check_heads,
    check_roles,
    parse_roles,
    roles_from_header,
    units_of_heads,
)
from vastgrid.kernels.text.textrows import line_starts
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


# Parts fixed-width columns once they are cut: a character that no text has.
FIXED = b"\x1f"


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


@dataclass(frozen=True)
class TextReadParams:
    """How the lines are understood; whatever is left to detection is said in a finding."""

    columns: Annotated[
        str,
        Param(
            "Columns",
            "Role of each column in order, separated by commas: easting, northing, elevation, longitude, latitude, point, "
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
    comment: Annotated[str, Param("Comment mark", "Lines that begin with this character are skipped.")] = "#"
    widths: Annotated[
        str,
        Param("Fixed widths", "Widths of columns without delimiter, in characters, such as 5,12,13,9.", absent="none"),
    ] = ""
    form: Annotated[
        Form,
        Param(
            "The lines are",
            "points; grid: cells of a regular grid; trajectory: positions along one track, in order; photos: positions of pictures.",
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
    return _loaded(path, most)[0]


def _loaded(path: Path, most: int | None) -> tuple[bytes, bool]:
    """Return the text as `load` does, and whether it was taken for Windows-1252."""
    with path.open("rb") as file:
        data = file.read() if most is None else file.read(most)
    if data[:2] in (b"\xff\xfe", b"\xfe\xff"):
        try:
            data = data.decode("utf-16", "strict" if most is None else "ignore").encode()
        except UnicodeDecodeError as error:
            raise FormatError(path, f"it begins like UTF-16 text but is not: {error.reason}") from error
    data = data.removeprefix(b"\xef\xbb\xbf")
    windows = not _is_utf8(data, cut=most is not None) and b"\0" not in data[:65536]
    if windows:
        data = _from_windows(data)
    if not data.strip():
        raise FormatError(path, "the file is empty")
    if b"\0" in data[:65536]:
        raise FormatError(path, "this is not a text file (it holds NUL bytes)")
    return data, windows


def _is_utf8(data: bytes, *, cut: bool) -> bool:
    """Say whether text is UTF-8; one that is cut may end within a character."""
    if data.isascii():
        return True
    decoder = codecs.getincrementaldecoder("utf-8")()
    # In pieces: decoded whole, a large text takes four times its room.
    step = 1 << 24
    try:
        for start in range(0, len(data), step):
            decoder.decode(data[start : start + step], not cut and start + step >= len(data))
    except UnicodeDecodeError:
        return False
    return True


def _from_windows(data: bytes) -> bytes:
    """Return text as UTF-8 that was written in Windows-1252, as files that are not UTF-8 mostly were (common practice)."""
    return codecs.charmap_decode(data, "strict", _WINDOWS)[0].encode()


# Five of its bytes mean nothing; Latin-1 has a control character for each.
_WINDOWS = "".join(
    bytes([k]).decode("cp1252" if k not in (0x81, 0x8D, 0x8F, 0x90, 0x9D) else "latin-1") for k in range(256)
)


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
    data, windows = _loaded(path, most)
    findings: list[Finding] = []
    if windows:
        findings.append(note("encoding", "The text is not UTF-8; it was read as Windows-1252."))
    if params.widths.strip():
        return _parted(data, params.widths), findings
    plain, mark = _without_marks(data, params)
    if not mark and params.delimiter is not Delimiter.COMMA and params.decimal is not Decimal.COMMA:
        plain = _without_thousands(data, params)
        mark = "Commas" if plain is not data else ""
    if mark:
        findings.append(note("thousands", f"{mark} between thousands were taken out of the numbers."))
    return plain, findings


# Between thousands and before decimals, as people write them in several countries.
_MARKS = (
    (",", ".", "Commas"),
    (".", ",", "Points"),
    ("'", ".", "Apostrophes"),
    ("’", ".", "Apostrophes"),
    ("'", ",", "Apostrophes"),
    ("’", ",", "Apostrophes"),
    (" ", ",", "Blanks"),
    (" ", ".", "Blanks"),
    ("\u00a0", ",", "Blanks"),
    ("\u00a0", ".", "Blanks"),
    ("\u202f", ",", "Blanks"),
    ("\u202f", ".", "Blanks"),
)


def _without_marks(data: bytes, params: TextReadParams) -> tuple[bytes, str]:
    """Take the marks between thousands out of whole fields, such as 431.000,12 or "431,000.12", and name them.

    Fields are known by a semicolon, tab, bar or quote on both sides. The sample has to hold numbers that leave no doubt:
    with several groups of three, or with decimals behind them.
    """
    sample = b"\n".join(line for _, line in sample_lines(data, params.comment))
    if not re.search(rb"[;\t|\"]", sample):
        # Without such a mark commas and points part fields, or numbers from their decimals.
        return data, ""
    edge = rb"[;\t|\"\n\r]"
    best: tuple[int, Any, str] = (0, None, "")
    for between, decimal, name in _MARKS:
        if params.decimal is not Decimal.AUTO and (params.decimal is Decimal.COMMA) is not (decimal == ","):
            continue
        sep, dec = re.escape(between.encode()), re.escape(decimal.encode())
        whole = rb"(?:^|(?<=%s))([ ]*[+-]?\d{1,3}(?:%s\d{3})+)((?:%s\d*)?)(?=[ ]*(?:%s|$))" % (edge, sep, dec, edge)
        pattern = re.compile(whole, re.MULTILINE)
        sure = sum(bool(found[2]) or found[1].count(between.encode()) > 1 for found in pattern.finditer(sample))
        if sure > best[0]:
            best = (sure, (pattern, between.encode()), name)
    if not best[0]:
        return data, ""
    pattern, mark = best[1]
    return pattern.sub(lambda found: found[1].replace(mark, b"") + found[2], data), best[2]


def _parted(data: bytes, text: str) -> bytes:
    words = [word.strip() for word in text.split(",") if word.strip()]
    if not words or not all(re.fullmatch(r"\d{1,4}", word) and int(word) > 0 for word in words):
        raise ParamError("widths", f"“{text}” is not a list of widths such as 5,12,13,9")
    stops = np.cumsum([int(word) for word in words])
    raw = np.frombuffer(data + (b"" if data.endswith(b"\n") else b"\n"), np.uint8)
    starts = line_starts(raw)
    places = np.column_stack((starts[:-1], np.minimum(starts[1:], starts[:-1] + stops[-1])))
    out = np.full((len(places), int(stops[-1]) + len(words)), ord(" "), np.uint8)
    # Blanks inside a line count, so lines are copied byte by byte rather than gathered as fields.
    column = np.arange(int(stops[-1]))
    index = np.minimum(places[:, :1] + column, len(raw) - 1)
    rows = np.where(places[:, :1] + column < places[:, 1:], raw[index], ord(" "))
    rows[(rows == 10) | (rows == 13) | (rows == FIXED[0])] = ord(" ")
    out[:, column + np.searchsorted(stops, column, side="right")] = rows
    out[:, stops[:-1] + np.arange(len(words) - 1)] = FIXED[0]
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
    if delimiter == FIXED:
        parts = text.split(FIXED.decode())
    elif '"' in text:
        parts = next(csv.reader([text], delimiter=delimiter.decode(), skipinitialspace=True), [])
    else:
        parts = text.split() if delimiter == b" " else text.split(delimiter.decode())
    return [part.strip() if delimiter == FIXED else part.strip().strip('"').strip() for part in parts]


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


# No two ways to match the same digits: a long run of them would be tried in all.
_NUMBER = re.compile(r"[+-]?(?:\d+(?:\.\d*)?|\.\d+)(?:[eEdD][+-]?\d+)?")


def _is_number(text: str, comma: bool) -> bool:
    text = text.replace(",", ".") if comma and "." not in text else ("" if "," in text else text)
    return _NUMBER.fullmatch(text) is not None


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
    elif header and (named := roles_from_header(header)):
        roles = named
        check_heads(path, header, roles, lines[0][0])
    else:
        roles, guessed = _guess_roles(path, often, [rows[k][1] for k in body])
        if header:
            guessed = f"The column heads ({', '.join(header)}) do not say which columns are coordinates. " + guessed
    check_roles(roles)
    turned = [k for k in range(width) if roles[k : k + 1] in (("longitude",), ("latitude",))]
    angles = frozenset(c for c in turned if any(_is_angle(rows[k][1][c]) for k in body))
    marked = {tuple(split_line(_unmarked(line, params.comment), delimiter)): k for k, line in lines if k < begin}
    passed = tuple(k for k, _ in rows if k < begin and k != marked.get(header, -1))
    return Layout(delimiter, comma, begin, roles, header, units_of_heads(header, roles), guessed, angles, passed)


def looks_numeric(cell: str) -> bool:
    """Say whether a field is a number with a decimal point or comma."""
    return _is_number(cell, False) or _is_number(cell, True)


def _mode(values: Sequence[int]) -> int:
    return Counter(values).most_common(1)[0][0] if values else 0


def _delimiter(path: Path, lines: list[tuple[int, bytes]], params: TextReadParams) -> tuple[bytes, bool]:
    wanted = list(_BYTES.values()) if params.delimiter is Delimiter.AUTO else [_BYTES[params.delimiter]]
    if params.widths.strip():
        wanted = [FIXED]
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
    before = re.split(rb"\r\n|\n|\r", data[: 1 << 18])[:begin]
    for line in reversed(before):
        plain = line.lstrip()
        if (comment and plain.startswith(comment.encode())) or plain[:1] in (b"#", b";", b"*", b"!", b"%", b"'", b"/"):
            cells = split_line(_unmarked(line, comment), delimiter)
            if len(cells) == width and roles_from_header(tuple(cells)):
                return tuple(cells)
    return ()


def _unmarked(line: bytes, comment: str) -> bytes:
    return line.lstrip().lstrip(comment.encode() + b"#;*!%'/").strip()


def _guess_roles(path: Path, often: list[bool], rows: list[list[str]]) -> tuple[tuple[str, ...], str]:
    numbers = [k for k, is_number in enumerate(often) if is_number]
    if len(numbers) < 3:
        raise FormatError(path, f"{count(len(numbers), 'column')} with numbers; a point needs three")
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
