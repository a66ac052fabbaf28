"""Delimited text with a point on each line."""

from __future__ import annotations

import csv
import re
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from enum import Enum
from pathlib import Path
from typing import Annotated, Any

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.errors import FormatError, ParamError
from vastgrid.base.findings import Finding, Severity, count
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Unit
from vastgrid.kernels.textrows import RowTemplate, gather_text, line_starts, split_fields
from vastgrid.params.declare import Param
from vastgrid.terrain.dataset import Dataset
from vastgrid.terrain.fileformat import Carries, Format, ReadResult
from vastgrid.terrain.frame import Frame, frame_of_crs
from vastgrid.terrain.pointset import PointSet

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


class Decimal(Enum):
    """The decimal mark."""

    AUTO = "detect"
    POINT = "point"
    COMMA = "comma"


COORDINATES = ("easting", "northing", "elevation", "longitude", "latitude")
ROLES = (*COORDINATES, "point", "code", "description", "date", "ignore")
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
    "date": "date time datetime timestamp",
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
        ),
    ] = ""
    delimiter: Annotated[Delimiter, Param("Delimiter", "What stands between two fields.")] = Delimiter.AUTO
    decimal: Annotated[Decimal, Param("Decimal mark", "The mark before the decimals of a number.")] = Decimal.AUTO
    start: Annotated[
        int | None, Param("First line", "Number of the first line that holds a point.", least=1, absent="as detected")
    ] = None
    comment: Annotated[str, Param("Comment mark", "Lines that begin with this character are passed over.")] = "#"


@dataclass(frozen=True)
class TextWriteParams:
    """How points are written."""

    decimals: Annotated[int, Param("Decimals", "Decimals of every coordinate.", least=0, most=9)] = 4


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
    """

    delimiter: bytes
    comma: bool
    first: int
    roles: tuple[str, ...]
    header: tuple[str, ...] = ()
    units: tuple[Unit | None, Unit | None] = (None, None)
    guessed: str = ""


def load(path: Path) -> bytes:
    """Return the file's text as UTF-8 or another superset of ASCII.

    Raises
    ------
    FormatError
        If it is empty or not text.
    """
    data = path.read_bytes()
    if data[:2] in (b"\xff\xfe", b"\xfe\xff"):
        try:
            data = data.decode("utf-16").encode()
        except UnicodeDecodeError as error:
            raise FormatError(path, f"it begins like UTF-16 text but is not: {error.reason}") from error
    data = data.removeprefix(b"\xef\xbb\xbf")
    if not data.strip():
        raise FormatError(path, "the file is empty")
    if b"\0" in data[:65536]:
        raise FormatError(path, "this is not a text file (it holds NUL bytes)")
    return data


def split_line(line: bytes, delimiter: bytes) -> list[str]:
    """Return the fields of one line, quotes and blanks taken off."""
    text = line.decode("utf-8", "replace")
    if '"' in text:
        parts = next(csv.reader([text], delimiter=delimiter.decode(), skipinitialspace=True), [])
    else:
        parts = text.split() if delimiter == b" " else text.split(delimiter.decode())
    return [part.strip().strip('"').strip() for part in parts]


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
    numeric = [[_is_number(cell, comma) for cell in cells] for _, cells in rows]
    width = _mode([len(cells) for (_, cells), flags in zip(rows, numeric, strict=True) if sum(flags) >= 2])
    body = [k for k in range(len(rows)) if len(rows[k][1]) == width and sum(numeric[k]) >= 2]
    often = [sum(numeric[k][c] for k in body) >= 0.8 * len(body) for c in range(width)]
    if params.start is not None:
        begin = params.start - 1
    else:
        good = (k for k in body if sum(numeric[k][c] for c in range(width) if often[c]) >= 0.6 * sum(often))
        begin = rows[next(good, 0)][0]
    heads = [cells for k, cells in rows if k < begin and len(cells) == width and not any(map(_looks_numeric, cells))]
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
    return Layout(delimiter, comma, begin, roles, header, _units(header, roles), guessed)


def _looks_numeric(cell: str) -> bool:
    return _is_number(cell, False) or _is_number(cell, True)


def _mode(values: Sequence[int]) -> int:
    return Counter(values).most_common(1)[0][0] if values else 0


def _delimiter(path: Path, lines: list[tuple[int, bytes]], params: TextReadParams) -> tuple[bytes, bool]:
    wanted = list(_BYTES.values()) if params.delimiter is Delimiter.AUTO else [_BYTES[params.delimiter]]
    marks = [False, True] if params.decimal is Decimal.AUTO else [params.decimal is Decimal.COMMA]
    best: tuple[float, bytes, bool] = (0.0, b"", False)
    for delimiter in wanted:
        for comma in marks:
            if comma and delimiter == b",":
                continue
            counts = Counter[int]()
            for _, line in lines:
                cells = split_line(line, delimiter)
                numbers = sum(_is_number(cell, comma) for cell in cells)
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


def read(path: Path, params: TextReadParams, progress: Progress) -> ReadResult:
    """Read points; see `FORMAT`.

    Raises
    ------
    FormatError
        If no line, or fewer than half of the lines, hold a point.
    ParamError
        If the column roles make no sense.
    """
    data = load(path)
    layout = detect(path, data, params)
    progress.report(0.1, f"reading {path.name}")
    raw = np.frombuffer(data, np.uint8)
    starts = line_starts(raw)
    wanted = [(k, role) for k, role in enumerate(layout.roles) if role != "ignore"]
    index = np.array([k for k, _ in wanted])
    numeric = np.array([role in COORDINATES for _, role in wanted])
    merge = layout.roles[-1] in ("description", "code")
    mark = params.comment.encode()[0] if params.comment else 0
    numbers, places, status, slow = split_fields(
        raw, starts, layout.first, layout.delimiter[0], 34, mark, index, numeric, layout.comma, merge
    )
    progress.report(0.6, f"reading {path.name}")
    _read_slowly(data, numbers, places, status, np.flatnonzero(slow), numeric, layout.comma)
    good = status == 0
    findings = _bad_lines(path, data, starts, layout, status, [role for _, role in wanted])
    if layout.guessed:
        findings.append(Finding("columns-guessed", layout.guessed, Severity.WARNING))
    at = {role: k for k, (_, role) in enumerate(wanted)}
    geographic = "longitude" in at and "easting" not in at
    plan = ("longitude", "latitude") if geographic else ("easting", "northing")
    xyz = numbers[good][:, [at[plan[0]], at[plan[1]], at["elevation"]]]
    attributes: dict[str, NDArray[Any]] = {}
    for k, (_, role) in enumerate(wanted):
        if not numeric[k]:
            attributes[role] = _text_column(raw, places[good, k])
    progress.report(0.9, f"reading {path.name}")
    frame = Frame(None, *layout.units)
    if geographic:
        frame = Frame(frame_of_crs("EPSG:4326").crs, Unit.DEGREE, layout.units[1])
    return ReadResult((PointSet(name=path.stem, frame=frame, xyz=xyz, attributes=attributes),), tuple(findings))


def _read_slowly(
    data: bytes,
    numbers: NDArray[np.float64],
    places: NDArray[np.int64],
    status: NDArray[np.int8],
    rows: NDArray[np.int64],
    numeric: NDArray[np.bool_],
    comma: bool,
) -> None:
    """Read the rare numbers with too many digits for the fast way, exactly."""
    for row in rows:
        if status[row]:
            continue
        for k in np.flatnonzero(numeric & np.isnan(numbers[row])):
            text = data[places[row, k, 0] : places[row, k, 1]].decode("ascii", "replace").strip()
            text = re.sub("[dD]", "e", text.replace(",", ".") if comma else text)
            value = float(text)
            numbers[row, k] = value
            if not np.isfinite(value):
                status[row] = 3 + k


def _bad_lines(
    path: Path, data: bytes, starts: NDArray[np.int64], layout: Layout, status: NDArray[np.int8], roles: list[str]
) -> list[Finding]:
    bad = np.flatnonzero(status > 1)
    good = int((status == 0).sum())

    def told(row: int) -> str:
        line = layout.first + row
        text = data[starts[line] : starts[line + 1]].decode("utf-8", "replace").strip()[:60]
        if status[row] == 2:
            return f"too few columns: “{text}”"
        return f"the {roles[status[row] - 3]} is not a finite number: “{text}”"

    if len(bad) and good <= len(bad):
        row = int(bad[0])
        why = f"{told(row)}; {len(bad)} of {len(bad) + good} lines cannot be read: check delimiter, columns, first line"
        raise FormatError(path, why, line=layout.first + row + 1)
    if good == 0:
        raise FormatError(path, "no line holds a point")
    if len(bad) == 0:
        return []
    some = "; ".join(f"line {layout.first + row + 1}, {told(row)}" for row in bad[:5].tolist())
    more = f"; and {len(bad) - 5} more" if len(bad) > 5 else ""
    return [Finding("bad-lines", f"{count(len(bad), 'line')} left out of {len(bad) + good}: {some}{more}.")]


def _text_column(raw: NDArray[np.uint8], places: NDArray[np.int64]) -> NDArray[Any]:
    width = int(np.clip((places[:, 1] - places[:, 0]).max(initial=1), 1, 250))
    return np.ascontiguousarray(gather_text(raw, np.ascontiguousarray(places), width)).view(f"S{width}").ravel()


def write(datasets: Sequence[Dataset], path: Path, params: TextWriteParams, progress: Progress) -> None:
    """Write points as comma-separated text with a head that names units; see `FORMAT`."""
    points = datasets[0]
    assert isinstance(points, PointSet)
    names = [name for name, values in points.attributes.items() if values.dtype.kind in "SUiuf" and values.ndim == 1]
    plan, height = (f" [{unit.value}]" if unit else "" for unit in (points.frame.horizontal, points.frame.vertical))
    heads = ["easting" + plan, "northing" + plan, "elevation" + height, *names]
    template = RowTemplate("{},{},{}\n", (params.decimals,) * 3)
    with path.open("wb") as file:
        file.write((",".join(heads) + "\n").encode())
        done = 0
        for block in template.blocks([points.xyz[:, k] for k in range(3)]):
            text = bytes(block)
            if names:
                rows = text.decode().splitlines()
                part = [points.attributes[name][done : done + len(rows)] for name in names]
                cells = zip(rows, *(map(_cell, column.tolist()) for column in part), strict=True)
                text = "".join(",".join(row) + "\n" for row in cells).encode()
                done += len(rows)
            file.write(text)
            progress.report(done / max(len(points.xyz), 1), f"writing {path.name}")


def _cell(value: Any) -> str:
    text = value.decode("utf-8", "replace") if isinstance(value, bytes) else str(value)
    return '"' + text.replace('"', "'") + '"' if "," in text or '"' in text or "\n" in text else text


def sniff(head: bytes, path: Path) -> int:
    """Text that is not markup may be points."""
    if b"\0" in head and head[:2] not in (b"\xff\xfe", b"\xfe\xff"):
        return 0
    start = head.lstrip(b"\xef\xbb\xbf \t\r\n")[:200].lower()
    if start.startswith((b"<", b"{", b"%pdf", b"lasf", b"ncols")):
        return 0
    return 40 if path.suffix.lower() in FORMAT.suffixes else 10


FORMAT = Format(
    id="text",
    title="Text points",
    suffixes=(".csv", ".txt", ".xyz", ".asc", ".pts", ".pnt", ".dat", ".tsv"),
    sniff=sniff,
    carries=Carries(kinds=(PointSet,), units="both", attributes=True),
    read=read,
    write=write,
    read_params=TextReadParams,
    write_params=TextWriteParams,
)
