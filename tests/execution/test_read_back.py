"""A file that is not what was sent is told, whatever differs; a file that cannot be written leaves what was there."""

import dataclasses
import errno

import numpy as np
import pytest

from builders import DATA, METRES, ground, scattered
from vastgrid import catalog
from vastgrid.base.errors import CallError, FormatError, WriteError
from vastgrid.base.progress import Silent
from vastgrid.base.quantities import Unit
from vastgrid.conversions.grids import grid
from vastgrid.conversions.lines import contours
from vastgrid.data.frame import Frame
from vastgrid.data.linework import from_lines
from vastgrid.data.survey import Record, survey_of
from vastgrid.delivery.deliver import deliver
from vastgrid.execution.steps import read_file
from vastgrid.lineage.delivered import Delivery

SURFACE = ground(300)
FORMAT = {each.id: each for each in catalog.FORMATS}


def lying(own, change):
    """The same format, whose reader sees something else than was written."""

    def read(path, params, progress):
        result = own.read(path, params, progress)
        return dataclasses.replace(result, datasets=tuple(change(each) for each in result.datasets))

    return dataclasses.replace(own, read=read)


def sent_as(own, datasets, path, **options):
    return deliver(datasets, path, own, own.write_params(**options), Silent())


def bad(delivery):
    return {check.what for check in delivery.checks if not check.good}


def lifted(dataset, by):
    """The dataset with one vertex higher, and one a little farther east."""
    xyz = dataset.coordinates().copy()
    xyz[5, 2] += by
    xyz[7, 0] += by / 2
    if hasattr(dataset, "vertices"):
        return dataclasses.replace(dataset, vertices=xyz)
    return dataclasses.replace(dataset, xyz=xyz)


@pytest.mark.parametrize(("own", "data"), [("landxml", SURFACE), ("text", scattered(40)), ("dxf", SURFACE)])
def test_a_true_file_agrees(tmp_path, own, data):
    made = sent_as(FORMAT[own], [data], tmp_path / f"a{FORMAT[own].suffixes[0]}")
    assert made.good and made.vertical < 1e-4 and made.plan < 1e-4
    assert (
        "counts, extents, units and every coordinate agree with what was sent" in made.sentence()
        and made.size == made.path.stat().st_size
    )


@pytest.mark.parametrize(("own", "data"), [("landxml", SURFACE), ("text", scattered(40))])
@pytest.mark.parametrize("by", [0.004, 0.5])
def test_one_moved_vertex_is_found(tmp_path, own, data, by):
    made = sent_as(lying(FORMAT[own], lambda each: lifted(each, by)), [data], tmp_path / f"a{FORMAT[own].suffixes[0]}")
    assert made.vertical == pytest.approx(by, abs=1e-4) and made.plan == pytest.approx(by / 2, abs=1e-4)


def test_a_missing_triangle_is_found(tmp_path):
    own = lying(FORMAT["landxml"], lambda tin: dataclasses.replace(tin, triangles=tin.triangles[:-1], neighbours=None, constrained=None))  # fmt: skip
    made = sent_as(own, [SURFACE], tmp_path / "a.xml")
    assert "triangles" in bad(made) and made.vertical is None
    assert "but triangles" in made.sentence() and "heights could not be paired" in made.sentence()


def test_another_unit_is_found(tmp_path):
    feet = Frame(None, Unit.FOOT, Unit.FOOT)
    own = lying(FORMAT["landxml"], lambda tin: dataclasses.replace(tin, frame=feet))
    made = sent_as(own, [SURFACE], tmp_path / "a.xml")
    assert bad(made) == {"plan unit", "height unit"}


def test_a_dataset_that_is_not_there_is_found(tmp_path):
    other = lying(FORMAT["text"], lambda each: from_lines("x", METRES, [each.xyz[:5]], ["A"]))
    made = sent_as(other, [scattered(40)], tmp_path / "a.csv")
    assert not made.good and made.checks[0].read == "nothing" and made.vertical is None


def test_a_lost_cell_of_a_grid_is_found(tmp_path):
    data = grid.run([SURFACE], grid.settle([SURFACE], grid.GridParams()), Silent()).dataset

    def without(one):
        heights = one.heights.copy()
        heights[np.unravel_index(np.flatnonzero(np.isfinite(heights))[3], heights.shape)] = np.nan
        return dataclasses.replace(one, heights=heights)

    made = sent_as(lying(FORMAT["geotiff"], without), [data], tmp_path / "a.tif")
    assert "cells without height" in bad(made)
    assert sent_as(FORMAT["geotiff"], [data], tmp_path / "b.tif").good


def test_lines_are_paired_in_any_order_of_layers(tmp_path):
    data = contours.run([SURFACE], contours.settle([SURFACE], contours.ContourParams()), Silent()).dataset
    made = sent_as(FORMAT["dxf"], [data], tmp_path / "a.dxf")
    assert made.good and made.vertical < 1e-6

    def shifted(lines):
        xyz = lines.vertices.copy()
        xyz[3, 2] += 0.25
        return dataclasses.replace(lines, vertices=xyz)

    again = sent_as(lying(FORMAT["dxf"], shifted), [data], tmp_path / "b.dxf")
    assert again.vertical == pytest.approx(0.25)


def test_a_record_with_another_radius_is_found(tmp_path):
    def road(radius):
        arc = {
            "kind": "curve", "rot": "cw", "radius": radius, "start": [0.0, 0.0], "end": [10.0, 10.0],
            "centre": [10.0, 0.0], "length": 15.708,
        }  # fmt: skip
        line = np.array([(0.0, 0.0, np.nan), (2.929, 7.071, np.nan), (10.0, 10.0, np.nan)])
        return survey_of("records", METRES, [Record("alignment", "CL", line, {"geometry": [arc], "staStart": 0.0})])

    made = sent_as(FORMAT["landxml"], [road(10.0)], tmp_path / "a.xml")
    assert made.good and made.vertical < 1e-6
    again = sent_as(lying(FORMAT["landxml"], lambda each: road(10.5)), [road(10.0)], tmp_path / "b.xml")
    assert again.vertical == pytest.approx(0.5)
    gone = sent_as(lying(FORMAT["landxml"], lambda each: survey_of("r", METRES, [Record("alignment", "XX", each.records()[0].line, {})])), [road(10.0)], tmp_path / "c.xml")  # fmt: skip
    assert "records" in bad(gone)


# -- nothing half-written


class StopError(Exception):
    """What a library may throw."""


def failing(own, error):
    def write(datasets, path, params, progress):
        path.write_bytes(b"half a fi")
        raise error

    return dataclasses.replace(own, write=write)


@pytest.mark.parametrize(
    ("error", "told", "why"),
    [
        (OSError(errno.ENOSPC, "No space left on device"), WriteError, "the disk is full"),
        (OSError(errno.EACCES, "Permission denied"), WriteError, "no permission to write there"),
        (CallError("not like this"), CallError, "not like this"),
        (StopError("a library's own"), StopError, "a library's own"),
    ],
)
def test_a_fault_while_writing_leaves_what_was_there(tmp_path, error, told, why):
    target = tmp_path / "a.csv"
    target.write_text("what was there")
    with pytest.raises(told, match=why):
        sent_as(failing(FORMAT["text"], error), [scattered(40)], target)
    assert target.read_text() == "what was there" and [each.name for each in tmp_path.iterdir()] == ["a.csv"]


def test_what_cannot_be_read_back_gets_no_name(tmp_path):
    def read(path, params, progress):
        raise FormatError(path, "line 7 makes no sense")

    own = dataclasses.replace(FORMAT["text"], read=read)
    with pytest.raises(WriteError, match=r"could not be read back .*line 7 makes no sense"):
        sent_as(own, [scattered(40)], tmp_path / "a.csv")
    assert not list(tmp_path.iterdir())


def test_cancelling_leaves_nothing(tmp_path):
    from vastgrid.base.errors import Cancelled

    class Impatient(Silent):
        def part(self, start, stop):
            return self

        def report(self, fraction, text=""):
            raise Cancelled

    own = FORMAT["landxml"]
    with pytest.raises(Cancelled):
        deliver([SURFACE], tmp_path / "a.xml", own, own.write_params(), Impatient())
    assert not list(tmp_path.iterdir())


def test_a_folder_is_no_file_and_a_missing_folder_is_said(tmp_path):
    (tmp_path / "a.csv").mkdir()
    with pytest.raises(WriteError, match=r"a\.csv"):
        sent_as(FORMAT["text"], [scattered(4)], tmp_path / "a.csv")
    with pytest.raises(WriteError, match="the folder does not exist"):
        sent_as(FORMAT["text"], [scattered(4)], tmp_path / "nowhere" / "a.csv")


def test_two_of_a_name_get_names_of_their_own(tmp_path):
    made = sent_as(FORMAT["landxml"], [SURFACE, ground(200, seed=5)], tmp_path / "a.xml")
    assert any("A second Ground was written as Ground 2" in finding.text for finding in made.findings)
    back = FORMAT["landxml"].read(tmp_path / "a.xml", FORMAT["landxml"].read_params(), Silent()).datasets
    assert [each.name for each in back] == ["Ground", "Ground 2"] and made.good


def test_what_a_format_cannot_hold_is_refused_or_said(tmp_path):
    with pytest.raises(CallError, match="there is none to write"):
        sent_as(FORMAT["geotiff"], [scattered(40)], tmp_path / "a.tif")
    made = sent_as(FORMAT["text"], [scattered(40), SURFACE], tmp_path / "a.csv")
    assert any(
        finding.code == "kind-not-carried" and "Ground was left out" in finding.text for finding in made.findings
    )
    with pytest.raises(CallError, match="can be read but not written"):
        deliver([SURFACE], tmp_path / "a.pcd", FORMAT["pcd"], None, Silent())


@pytest.mark.parametrize("plan", [Unit.FOOT, Unit.US_FOOT])
def test_heights_follow_where_a_file_has_one_unit(tmp_path, plan):
    own = FORMAT["landxml"]
    made = deliver([SURFACE], tmp_path / "a.xml", own, own.write_params(), Silent(), (plan, None))
    assert made.good and made.unit == plan.value
    assert any(finding.code == "heights-follow" for finding in made.findings)
    (back,) = own.read(tmp_path / "a.xml", own.read_params(), Silent()).datasets
    np.testing.assert_allclose(back.vertices * float(plan.metres), SURFACE.vertices, atol=1e-4)
    with pytest.raises(CallError, match="has one unit for plan and height"):
        deliver([SURFACE], tmp_path / "b.xml", own, own.write_params(), Silent(), (plan, Unit.METRE))


def test_a_delivery_survives_being_kept(tmp_path):
    made = sent_as(FORMAT["landxml"], [SURFACE], tmp_path / "a.xml")
    assert Delivery.from_json(made.to_json()) == made


@pytest.mark.parametrize("decimals", [0, 1, 2, 4, 9])
@pytest.mark.parametrize("own", ["text", "landxml"])
def test_few_decimals_are_what_was_asked_for(tmp_path, own, decimals):
    """Rounding to the decimals that were chosen is no fault; its size is said."""
    target = FORMAT[own]
    data = scattered(40) if own == "text" else scattered(40, name="Pegs")
    made = sent_as(target, [data], tmp_path / f"a{target.suffixes[0]}", decimals=decimals)
    assert made.good, made.checks
    # Doubles carry nine digits after a northing of a million only to their own last bit.
    assert made.vertical <= 0.5 * 10.0**-decimals + 1e-9 and made.plan <= 0.5 * 10.0**-decimals + 1e-9
    assert made.vertical > 0.1 * 10.0**-decimals or decimals == 9


def test_a_coordinate_that_is_off_by_more_than_its_rounding_is_a_fault(tmp_path):
    high = lying(FORMAT["text"], lambda each: dataclasses.replace(each, xyz=each.xyz + (0.0, 0.0, 0.04)))
    assert "elevation" in bad(sent_as(high, [scattered(40)], tmp_path / "a.csv", decimals=2))


@pytest.mark.parametrize("decimals", [0, 1, 3, 4])
def test_traced_lines_are_compared_though_rounding_joins_their_ends(tmp_path, decimals):
    # Contours traced from a grid: some rings are smaller than the last decimal written.
    (lines,) = read_file(DATA / "olinda_c10.shp", {}, Silent()).datasets
    done = sent_as(FORMAT["dxf"], [lines], tmp_path / "o.dxf", decimals=decimals)
    assert "could not be paired" not in done.sentence() and done.vertical == 0.0
    assert 0.4 * 10.0**-decimals < done.plan <= 0.5 * 10.0**-decimals + 1e-9
    # A vertex that was really lost is seen, though another count of them no longer hides it.
    longest = int(np.diff(lines.offsets).argmax())
    first, last = lines.offsets[longest : longest + 2].tolist()
    step = np.hypot(*np.diff(lines.vertices[first:last, :2], axis=0).T)
    lost = first + 1 + int(np.minimum(step[:-1], step[1:]).argmax())
    short = dataclasses.replace(
        lines,
        vertices=np.delete(lines.vertices, lost, axis=0),
        offsets=lines.offsets - (np.arange(len(lines) + 1) > longest),
    )
    lied = sent_as(lying(FORMAT["dxf"], lambda read: short), [lines], tmp_path / "o.dxf", decimals=decimals)
    assert lied.plan > 5.0
