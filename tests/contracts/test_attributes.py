"""Attributes of every name, type and length, through every format that has attributes: kept, or said by name."""

import math

import numpy as np
import pytest
import shapely

from vastgrid import catalog
from vastgrid.base.progress import Silent
from vastgrid.base.quantities import Unit
from vastgrid.base.words import plain
from vastgrid.data.areas import Areas, from_shapes
from vastgrid.data.frame import Frame, frame_of_crs
from vastgrid.data.linework import Linework, from_lines
from vastgrid.data.pointset import PointSet
from vastgrid.delivery.deliver import deliver

UTM = Frame(frame_of_crs("EPSG:25832").crs, Unit.METRE, Unit.METRE)
N = 4


def texts(*values):
    return np.array([value.encode() for value in values])


COLUMNS = {
    "whole numbers beyond 2^53": {"id": np.array([2**53 + 1, 2**60, -(2**62), 5])},
    "the largest whole numbers": {"id": np.array([2**63 - 1, -(2**63) + 1, 0, 1])},
    "numbers without sign": {"id": np.array([2**64 - 1, 2**63, 0, 1], np.uint64)},
    "17 digits": {"id": np.array([10**17 - 1, -(10**16) + 1, 3, 4])},
    "yes and no": {"flag": np.array([True, False, True, False])},
    "large and small reals": {"f": np.array([1e300, -1e-300, 123456789012.123456, 0.1])},
    "seventeen digits": {"f": np.array([0.1 + 0.2, 1.0 / 3.0, 9.305000000000007, 12345.678901234567])},
    "rounding noise": {"f": np.array([1.2246467991473532e-16, 1.0, 2.0, 3.0])},
    "infinite and none": {"f": np.array([np.inf, -np.inf, np.nan, 1.0])},
    "none among numbers": {"f": np.array([np.nan, 2.0, np.nan, 1.0])},
    "single precision": {"f": np.array([0.1, 1e30, 1e-30, 2.0], np.float32)},
    "small kinds": {"a": np.arange(4, dtype=np.uint8), "b": -np.arange(4, dtype=np.int16)},
    "long texts": {"note": texts("z" * 400, "a" + "ü" * 300, "日本" * 150, "")},
    "texts as people write them": {"note": texts('a "b", c', "Ωμέγα; x", "don't", " 007")},
    "dates": {"date": texts("2024-05-01", "2024-05-01T10:11:12.345", "2024-05-01T10:11:12+02:00", "")},
    "texts that look like numbers": {"note": texts("007", "1e5", "1,5", "true")},
    "names that differ in case": {"Tall": np.arange(4.0), "tall": np.arange(4.0) + 10},
    "names with blanks": {"a b": np.arange(4), "a_b": np.arange(4) + 10, "a  b": np.arange(4) + 20},
    "names of other letters": {"Höhe": np.arange(4), "Hähe": np.arange(4) + 10, "高さ": np.arange(4) + 20},
    "long names": {"x" * 60 + "a": np.arange(4), "x" * 60 + "b": np.arange(4) + 10},
    "names of fields": {
        "fid": np.arange(4) + 7,
        "geom": np.arange(4) + 10,
        "id": np.arange(4) + 20,
        "x1": np.arange(4),
    },
    "names with marks": {"a/b": np.arange(4), "a:b": np.arange(4) + 10, "1st": np.arange(4) + 20},
    "capital letters": {"TALL": np.arange(4), "Cover Type": texts("a", "b", "c", "d")},
}


def told_of(name, findings):
    words = [finding.text for finding in findings if finding.code.startswith("attribute")]
    return any(name in word for word in words)


def alike(sent, read):
    for one, other in zip(sent.tolist(), read.tolist(), strict=True):
        if not isinstance(one, str | bytes) and not isinstance(other, str | bytes):
            if not (one == other or (math.isnan(one) and math.isnan(other)) or math.isclose(one, other, rel_tol=1e-12)):
                return False
            continue
        a, b = plain(one), plain(other)
        # Nothing is an empty text; blanks at the ends are no part of a field of text.
        if a.strip() != b.strip() and not (a == "nan" and b == ""):
            return False
    return True


def single(values):
    return values.dtype == np.float32


FORMATS = [f for f in catalog.FORMATS if f.write and f.read and f.carries.attributes in (True, "numbers")]


@pytest.mark.parametrize("what", COLUMNS)
@pytest.mark.parametrize("target", [f for f in FORMATS if PointSet in f.carries.kinds], ids=lambda f: f.id)
def test_points(target, what, tmp_path):
    columns = COLUMNS[what]
    xyz = np.array([[500000.25, 5800000.5, 1.5], [500010, 5800000, 2], [500010, 5800020, 3], [500000, 5800010, 4]])
    check(PointSet(name="ground", frame=UTM, xyz=xyz, attributes=columns), target, columns, tmp_path)


@pytest.mark.parametrize("what", COLUMNS)
@pytest.mark.parametrize("target", [f for f in FORMATS if Linework in f.carries.kinds], ids=lambda f: f.id)
def test_lines(target, what, tmp_path):
    columns = COLUMNS[what]
    lines = [np.array([[500000 + k, 5800000, 1.5], [500010 + k, 5800000, 2]]) for k in range(N)]
    import dataclasses

    work = dataclasses.replace(from_lines("edges", UTM, lines, ["EDGE"] * N), attributes=columns)
    check(work, target, columns, tmp_path)


@pytest.mark.parametrize("what", COLUMNS)
@pytest.mark.parametrize("target", [f for f in FORMATS if Areas in f.carries.kinds], ids=lambda f: f.id)
def test_areas(target, what, tmp_path):
    columns = COLUMNS[what]
    squares = [shapely.box(500000 + 20 * k, 5800000, 500010 + 20 * k, 5800010) for k in range(N)]
    check(from_shapes(squares, name="plots", frame=UTM, attributes=columns), target, columns, tmp_path)


def check(data, target, columns, tmp_path):
    path = tmp_path / f"o{target.suffixes[0]}"
    params = target.fits([data], target.write_params())
    made = deliver([data], path, target, params, Silent())
    assert made.good, [check for check in made.checks if not check.good]
    findings = list(made.findings)
    back = next(each for each in target.read(path, target.read_params(), Silent()).datasets if each.kind == data.kind)
    # Features may come back in another order than they went.
    held = target.carries_with(params).attributes_held(columns)
    called = target.renamed(held, params)
    assert len({name.lower() for name in called.values() if name}) == len([name for name in called.values() if name])
    for name, values in columns.items():
        own = target.renamed(held, params).get(name, "")
        if dict.get(back.attributes, own) is None:
            assert told_of(name, findings), f"{name} is gone, and nothing says so"
            continue
        if own != name:
            assert told_of(name, findings), f"{name} is called {own}, and nothing says so"
        if not alike(values, dict.get(back.attributes, own)) and not single(values):
            assert told_of(name, findings), (name, values.tolist(), dict.get(back.attributes, own).tolist())
