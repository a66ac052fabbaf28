"""Every decimal number is the double nearest to it, in every text format; what is not a number is refused with its place."""

import random
import sys

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from builders import HANDMADE
from vastgrid import catalog
from vastgrid.base.errors import FormatError
from vastgrid.base.progress import Silent
from vastgrid.kernels.text.decimals import number_of, parse_number, read_words

sys.path.insert(0, str(HANDMADE.parent / "fuzz"))
import numerals

# So many numbers altogether; ./vastgrid fuzz 1000000 numbers reads as many in each format.
IN_CI = 10_000


@pytest.mark.parametrize("ending", numerals.SPELLED)
def test_heights_are_what_python_takes_them_for(ending, tmp_path):
    rng = random.Random(ending)
    texts = numerals.numbers(rng, IN_CI // len(numerals.SPELLED) // 2 * 2, plain=numerals.SPELLED[ending].plain)
    assert list(numerals.misread(ending, texts, tmp_path)) == []


DIGITS = st.text("0123456789", min_size=1, max_size=60)


@settings(max_examples=3000, deadline=None)
@given(st.sampled_from(["", "+", "-"]), DIGITS, st.sampled_from(["", ".", "int"]), DIGITS, st.integers(-400, 400))
def test_any_digits_and_exponents(sign, whole, point, part, power):
    text = f"{sign}{whole}" if point == "int" else f"{sign}{whole}{point}{part}"
    for own in (text, f"{text}E{power}", f"{text}d{power:+04d}"):
        data = np.frombuffer(own.encode(), np.uint8)
        value, good = parse_number(data, 0, len(data), False)
        right = float(own.replace("d", "e"))
        assert good and value == right and np.signbit(value) == np.signbit(right)


@settings(max_examples=3000, deadline=None)
@given(st.integers(1, 2**53 - 1), st.integers(-1074, 900), st.sampled_from(["", "0" * 40, "0" * 40 + "1", "below"]))
def test_numbers_half_way_between_two_doubles(mantissa, power, tail):
    # (2m + 1) · 2**(p - 1) in full, which has up to 768 digits.
    top, low = (2 * mantissa + 1, 1) if power > 0 else (2 * mantissa + 1, 2 ** (1 - power))
    top = top << max(power - 1, 0)
    digits = len(str(low)) * 4
    text = str(top * 10**digits // low)
    if tail == "below":
        text = str(int(text) - 1)
    elif top * 10**digits % low == 0:
        text += tail
        digits += len(tail)
    own = f"{text}e-{digits}"
    assert number_of(own) == float(own)


@pytest.mark.parametrize(
    "text", ["", "-", ".", "e5", "1e", "1e+", "1_0", "1 2", "inf", "nan", "0x10", "1.2.3", "1,5", "--1", "1e400", "٣"]
)
def test_what_is_no_finite_number(text):
    with pytest.raises(ValueError, match="not a number"):
        number_of(text)


def test_words_are_parted_as_python_parts_them():
    assert read_words(b" 1\t2\n\x0b3\r\n")[0].tolist() == [1.0, 2.0, 3.0]
    assert read_words(b"1 2\x003 4")[1] == 2
    values, wrong = read_words(b"1 NaN -nan", void=True)
    assert wrong == -1 and values[0] == 1.0 and np.isnan(values[1:]).all()


PLACED = {
    ".csv": "line 5",
    ".asc": "line 8",
    ".obj": "line 5",
    ".off": "line 7",
    ".ply": "row 5",
    ".pcd": "line 5",
    ".stl": "line",
}


@pytest.mark.parametrize(("ending", "place"), PLACED.items())
def test_what_is_not_a_number_is_refused_with_its_place(ending, place, tmp_path):
    texts = [f"{k}.5" for k in range(8)]
    texts[4 if ending != ".csv" else 3] = "1.5x"
    path = tmp_path / f"n{ending}"
    path.write_text(numerals.SPELLED[ending].write(texts))
    kind = catalog.format_named(numerals.SPELLED[ending].name)
    if ending == ".csv":
        # One bad line among good ones is left out, and said.
        (finding,) = [f for f in kind.read(path, kind.read_params(), Silent()).findings if f.code == "bad-lines"]
        assert place in finding.text and finding.drops
        return
    with pytest.raises(FormatError, match=r"not (three numbers|a number)") as raised:
        kind.read(path, kind.read_params(), Silent())
    assert place in str(raised.value) and "1.5x" in str(raised.value)


@pytest.mark.parametrize(
    ("name", "head"),
    [
        ("g.grd", "DSAA\n3 2\n0 2\n0 1\n1 150\n"),
        ("g.gxf", "#POINTS\n3\n#ROWS\n2\n#PTSEPARATION\n1.0\n#RWSEPARATION\n1.0\n#GRID\n"),
        ("g.dem", "north: 2\nsouth: 0\neast: 3\nwest: 0\nrows: 2\ncols: 3\n"),
    ],
)
def test_rasters_of_text_that_the_library_would_misread(name, head, tmp_path):
    path = tmp_path / name
    kind = catalog.format_named("raster")
    path.write_text(f"{head}1 2 3\n4 5 150\n")
    (grid,) = kind.read(path, kind.read_params(), Silent()).datasets
    assert sorted(grid.heights.ravel().tolist()) == [1, 2, 3, 4, 5, 150]
    for wrong in ("1.5D+2", "1.5x"):
        path.write_text(f"{head}1 2 3\n4 5 {wrong}\n")
        if wrong == "1.5x" and name == "g.gxf":
            continue
        with pytest.raises(FormatError, match=wrong.replace("+", r"\+")):
            kind.read(path, kind.read_params(), Silent())
