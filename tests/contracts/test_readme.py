"""What the README says of formats is what the catalogue holds."""

import re
from pathlib import Path

import pytest

from vastgrid import catalog

ROOT = Path(__file__).parents[2]
README = (ROOT / "README.md").read_text(encoding="utf-8")
TABLE = next(line for line in README.splitlines() if line.startswith("| text points"))
IN, OUT = (cell.lower() for cell in TABLE.strip("| ").split(" | "))
# Words that stand for a format where its title does not: the raster library's many, scans by their files' endings.
ALSO = {
    "raster": "raster library",
    "las": "las, laz",
    "threemf": "3mf",
    "stl": "stl",
    "landxml": "landxml",
    "geotiff": "geotiff",
}


def word_of(own):
    return ALSO.get(own.id, re.split(r"[ ,(]", own.title.lower())[0])


@pytest.mark.parametrize("own", [each for each in catalog.FORMATS if each.read], ids=lambda each: each.id)
def test_every_format_that_is_read_is_named(own):
    assert word_of(own) in IN or own.id in IN


def test_what_goes_out_is_what_can_be_written():
    writers = [each for each in catalog.FORMATS if each.write]
    assert all(word_of(each) in OUT or each.id in OUT for each in writers)
    # DXF is named with its editions, parted by “and”.
    assert len(re.split(r", ", OUT)) == len(writers)


def test_the_files_that_architecture_names_are_there():
    package = ROOT / "src" / "vastgrid"
    text = (ROOT / "docs" / "architecture.md").read_text(encoding="utf-8")
    assert len(text.splitlines()) <= 150
    named = set(re.findall(r"`([\w/]+\.py)", text))
    assert len(named) > 25
    for name in named:
        assert (package / name).exists() if "/" in name else list(package.rglob(name)), name
