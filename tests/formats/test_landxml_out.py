"""LandXML that goes out, piece by piece, held against a checker of its own (element rules from memory of the standard)."""

import lxml.etree
import numpy as np
import pytest

from builders import HANDMADE, ground, scattered
from vastgrid import catalog
from vastgrid.base.errors import CallError
from vastgrid.base.progress import Silent
from vastgrid.base.quantities import Length
from vastgrid.conversions.grids import grid
from vastgrid.conversions.lines import contours
from vastgrid.delivery.deliver import deliver
from vastgrid.execution.steps import read_file
from vastgrid.params import declare

LANDXML = catalog.format_named("landxml")


def sent(datasets, path, **words):
    made = deliver(datasets, path, LANDXML, declare.build(LANDXML.write_params, words), Silent())
    assert made.good, [check for check in made.checks if not check.good]
    return check(path, words.get("version", "1.2"))


# What may stand in what, and what each has to say; of what we write.
CHILDREN = {
    "LandXML": {
        "Units",
        "CoordinateSystem",
        "Application",
        "CgPoints",
        "Alignments",
        "Parcels",
        "PlanFeatures",
        "Surfaces",
    },
    "Units": {"Metric", "Imperial"},
    "Surfaces": {"Surface"},
    "Surface": {"SourceData", "Definition"},
    "SourceData": {"DataPoints", "Breaklines", "Boundaries", "Contours"},
    "Definition": {"Pnts", "Faces"},
    "Pnts": {"P"},
    "Faces": {"F"},
    "Breaklines": {"Breakline"},
    "Boundaries": {"Boundary"},
    "Contours": {"Contour"},
    "CgPoints": {"CgPoint"},
    "PlanFeatures": {"PlanFeature"},
    "Alignments": {"Alignment"},
    "Parcels": {"Parcel"},
}
NEEDED = {
    "LandXML": {"version", "date", "time"},
    "Metric": {"linearUnit", "areaUnit", "volumeUnit", "temperatureUnit", "pressureUnit"},
    "Surface": {"name"},
    "Definition": {"surfType"},
    "P": {"id"},
    "Boundary": {"bndType", "edgeTrim"},
    "Breakline": {"brkType"},
    "Contour": {"elev"},
    "Alignment": {"name", "length", "staStart"},
}


def check(path, version):
    root = lxml.etree.parse(path).getroot()
    space = f"http://www.landxml.org/schema/LandXML-{version}"
    assert root.tag == f"{{{space}}}LandXML" and root.get("version") == version
    order = [lxml.etree.QName(each).localname for each in root]
    assert order[0] == "Units"
    for each in root.iter(lxml.etree.Element):
        name = lxml.etree.QName(each).localname
        assert lxml.etree.QName(each).namespace == space
        assert NEEDED.get(name, set()) <= set(each.attrib), f"{name} lacks {NEEDED[name] - set(each.attrib)}"
        for child in each:
            own = lxml.etree.QName(child).localname
            assert name not in CHILDREN or own in CHILDREN[name], f"{own} in {name}"
    return root


def names(root, tag):
    return [each.get("name") for each in root.iter(f"{{*}}{tag}")]


def two():
    return next(
        each for each in read_file(HANDMADE / "two_definitions.xml", {}, Silent()).datasets if each.kind == "tin"
    )


@pytest.mark.parametrize("version", ["1.0", "1.1", "1.2"])
def test_versions_differ_in_their_namespace(version, tmp_path):
    root = sent([ground(200)], tmp_path / "a.xml", version=version)
    assert len(list(root.iter("{*}F"))) == len(ground(200).triangles)


def test_each_piece_is_chosen_by_itself(tmp_path):
    tin = two()
    everything = sent([tin], tmp_path / "a.xml")
    assert all(list(everything.iter(f"{{*}}{tag}")) for tag in ("DataPoints", "Definition"))
    for words, there, gone in (
        ({"hold": "faces"}, {"Definition"}, {"SourceData"}),
        ({"hold": "source"}, {"DataPoints"}, {"Definition"}),
        ({"pieces": "surfaces, breaklines"}, {"Definition"}, {"DataPoints", "Boundary"}),
        ({"pieces": "surfaces, points"}, {"DataPoints"}, {"Breakline", "Boundary"}),
    ):
        root = sent([tin], tmp_path / "b.xml", **words)
        assert all(list(root.iter(f"{{*}}{tag}")) for tag in there), words
        assert not any(list(root.iter(f"{{*}}{tag}")) for tag in gone), words
    points = scattered(20)
    root = sent([tin, points], tmp_path / "c.xml", pieces="points")
    assert names(root, "Surface") == [] and len(list(root.iter("{*}CgPoint"))) == 20
    with pytest.raises(CallError, match="none of the chosen pieces"):
        sent([points], tmp_path / "d.xml", pieces="contours")


def test_neighbours_are_those_of_the_faces(tmp_path):
    tin = ground(150)
    root = sent([tin], tmp_path / "a.xml", neighbours="yes")
    faces = [[int(word) for word in each.text.split()] for each in root.iter("{*}F")]
    beside = [[int(word) for word in each.get("n").split()] for each in root.iter("{*}F")]
    for own, others in zip(faces, beside, strict=True):
        for k, other in enumerate(others):
            edge = {own[k], own[(k + 1) % 3]}
            if other:
                assert edge < set(faces[other - 1])
            else:
                assert sum(edge < set(each) for each in faces) == 1, "0 only at the rim"


def test_lines_for_guidance_are_plan_features_and_come_back(tmp_path):
    lines = (
        contours.run([ground(300)], contours.ContourParams(Length(5.0)), Silent())
        .dataset.as_lines()
        .renamed("No change")
    )
    root = sent([lines], tmp_path / "a.xml", lines_as="plan features")
    assert len(names(root, "PlanFeature")) == len(lines) == len(set(names(root, "PlanFeature")))
    root = sent([lines], tmp_path / "b.xml")
    assert len(list(root.iter("{*}Breakline"))) == len(lines)


def test_inside_an_area_exactly(tmp_path):
    tin = ground(500)
    low = tin.vertices[:, :2].min(axis=0)
    box = f"{low[0] + 20},{low[1] + 20},{low[0] + 60},{low[1] + 50}"
    root = sent([tin], tmp_path / "a.xml", inside=box)
    (definition,) = root.iter("{*}Definition")
    assert float(definition.get("area2DSurf")) == pytest.approx(40.0 * 30.0, abs=1e-2)
    assert not list(root.iter("{*}SourceData")), "what it was built from reaches beyond"


def test_grids_as_points(tmp_path):
    own = grid.run([ground(300)], grid.GridParams(Length(10.0)), Silent()).dataset
    root = sent([own], tmp_path / "a.xml", grid_as="points")
    assert len(list(root.iter("{*}CgPoint"))) == int(np.isfinite(own.heights).sum())


@pytest.mark.parametrize("decimals", ["0", "1", "3"])
def test_what_rounding_costs_is_said(decimals, tmp_path):
    made = deliver(
        [ground(100)],
        tmp_path / "a.xml",
        LANDXML,
        declare.build(LANDXML.write_params, {"decimals": decimals}),
        Silent(),
    )
    assert made.good
    half = 0.5 * 10.0 ** -int(decimals)
    assert 0.5 * half < made.plan <= half * 1.0001 and 0.5 * half < made.vertical <= half * 1.0001


def test_survey_records_go_through_without_loss(tmp_path):
    """Spirals, arcs, vertical curves and codes: read, written, read again, number for number."""
    first = [
        each for each in read_file(HANDMADE / "road.xml", {}, Silent()).datasets if each.kind in ("survey", "points")
    ]
    sent(first, tmp_path / "a.xml", decimals="6")
    back = read_file(tmp_path / "a.xml", {}, Silent()).datasets
    before = next(each for each in first if each.kind == "survey").records()
    after = {(r.role, r.name): r for r in next(each for each in back if each.kind == "survey").records()}
    for record in before:
        other = after[record.role, record.name]
        assert [e["kind"] for e in record.exact.get("geometry", [])] == [
            e["kind"] for e in other.exact.get("geometry", [])
        ]
        assert [p.get("kind") for p in record.exact.get("profile", [])] == [
            p.get("kind") for p in other.exact.get("profile", [])
        ]
        np.testing.assert_allclose(other.line, record.line, atol=1e-5, equal_nan=True)
    codes = [each.attributes.get("code") for each in (first, back)[1] if each.kind == "points"]
    want = [each.attributes.get("code") for each in first if each.kind == "points"]
    assert [c.tolist() if c is not None else None for c in codes] == [
        c.tolist() if c is not None else None for c in want
    ]
