"""What is said of a file before it is written: its tree, its size, what it cannot carry."""

import dataclasses

import numpy as np
import pytest

from builders import METRES, ground, scattered
from vastgrid import catalog
from vastgrid.base.errors import CallError
from vastgrid.base.progress import Silent
from vastgrid.base.quantities import Length, Unit
from vastgrid.conversions.grids import grid
from vastgrid.conversions.lines import contours
from vastgrid.data.frame import Frame, frame_of_crs
from vastgrid.data.mesh import Mesh
from vastgrid.declarations.fileformat import as_carried
from vastgrid.delivery.deliver import deliver
from vastgrid.delivery.sets import known_sets, read_set, safe_name, save_set, set_named, stem_of
from vastgrid.execution.delivery_preview import held, measured_size
from vastgrid.execution.outline import outline
from vastgrid.execution.steps import read_file
from vastgrid.params import declare

UTM = Frame(frame_of_crs("EPSG:32632").crs, Unit.METRE, Unit.METRE)


def things(size):
    tin = ground(size).in_frame(UTM)
    move = np.array((500_000.0 - 431_000.0, 4_400_000.0 - 887_000.0, 0.0))
    tin = dataclasses.replace(tin, vertices=tin.vertices + move)
    made = contours.run([tin], contours.ContourParams(Length(0.5), index=5), Silent()).dataset
    points = scattered(size)
    rng = np.random.default_rng(1)
    points = dataclasses.replace(
        points,
        xyz=points.xyz + move,
        frame=UTM,
        attributes={
            "classification": rng.integers(1, 7, size).astype(np.uint8),
            "intensity": rng.integers(0, 4000, size).astype(np.uint16),
        },
    )
    return {
        "tin": tin,
        "points": points,
        "grid": grid.run([tin], grid.GridParams(Length(1.0 if size < 10_000 else 0.25)), Silent()).dataset,
        "contours": made,
        "lines": made.as_lines(),
        "mesh": Mesh(name="m", frame=UTM, vertices=tin.vertices, triangles=tin.triangles),
    }


SMALL, LARGE = things(2_000), things(15_000)
WRITERS = [each for each in catalog.FORMATS if each.write and each.verify is None]


@pytest.mark.parametrize("size", ["small", "large"])
@pytest.mark.parametrize("target", WRITERS, ids=lambda each: each.id)
def test_sizes_are_within_a_fifth(target, size, tmp_path):
    for kind in target.carries.kinds:
        data = (SMALL if size == "small" else LARGE).get(kind.kind)
        if data is None:
            continue
        params = target.write_params()
        own = held([data], target, params, (None, None))
        told = measured_size(own, target, Silent())
        made = deliver([data], tmp_path / f"a{target.suffixes[0]}", target, params, Silent())
        assert told == pytest.approx(made.size, rel=0.2), f"{kind.kind}: {told / made.size:.2f}"


def test_the_tree_beforehand_is_that_of_the_file(tmp_path):
    target = catalog.format_named("landxml")
    own = held([SMALL["tin"], SMALL["points"]], target, target.write_params(), (None, None))
    deliver([SMALL["tin"], SMALL["points"]], tmp_path / "a.xml", target, target.write_params(), Silent())
    back = {item.kind: item for item in outline(read_file(tmp_path / "a.xml", {}, Silent()).datasets)}
    assert [back[item.kind].count for item in own.items] == [item.count for item in own.items]


def kinds_in(items):
    return [own for item in items for own in (item.kind, *kinds_in(item.items))]


@pytest.mark.parametrize(
    ("form", "words", "there", "absent"),
    [
        ("landxml", {"hold": "both"}, {"surface", "source"}, set()),
        ("landxml", {"hold": "faces"}, {"surface"}, {"source"}),
        ("landxml", {"hold": "source"}, {"source"}, {"surface"}),
        ("dxf", {}, {"surface"}, {"source"}),
    ],
)
def test_only_what_the_file_will_hold_of_a_surface_is_in_its_tree(form, words, there, absent, tmp_path):
    target = catalog.format_named(form)
    params = declare.build(target.write_params, words)
    own = held([SMALL["tin"]], target, params, (None, None))
    found = set(kinds_in(own.items))
    assert there <= found
    assert not absent & found
    if form == "landxml":
        deliver([SMALL["tin"]], tmp_path / "a.xml", target, params, Silent())
        # The file says its own: no definition stands there that the tree did not show, and the other way round.
        text = (tmp_path / "a.xml").read_text()
        assert ("<Definition" in text, "<SourceData" in text) == ("surface" in there, "source" in there)


def test_attributes_and_labels_that_a_file_cannot_hold_are_not_in_its_tree_and_said():
    noted = dataclasses.replace(
        SMALL["lines"], attributes={**SMALL["lines"].attributes, "crew": np.array(["A"] * len(SMALL["lines"]))}
    )
    for form, held_there in (("geopackage", True), ("landxml", False)):
        target = catalog.format_named(form)
        own = held([noted], target, target.write_params(), (None, None))
        told = [finding.text for finding in own.findings if finding.code == "attributes-not-carried"]
        assert any("crew" in text for text in told) is not held_there
    labelled = dataclasses.replace(SMALL["contours"], labels={"text": np.array(["231"])})
    bare = catalog.format_named("ply").carries
    assert not as_carried(labelled, bare).labels
    assert as_carried(SMALL["points"], bare).count() == SMALL["points"].count()


def test_options_are_followed_and_refused_beforehand():
    target = catalog.format_named("dxf")
    for words, kinds in (({}, 1), ({"bands": "2m"}, 5)):
        own = held([SMALL["tin"]], target, declare.build(target.write_params, words), (None, None))
        assert len(own.items) >= kinds
    with pytest.raises(CallError, match="polyface work"):
        held(
            [SMALL["tin"]],
            target,
            declare.build(target.write_params, {"version": "R12", "faces": "mesh"}),
            (None, None),
        )
    told = held([SMALL["points"]], target, target.write_params(), (None, None)).findings
    assert any(finding.code == "attributes-not-carried" for finding in told)
    shifted = held(
        [SMALL["tin"]], target, declare.build(target.write_params, {"shift": "500000,4400000,0"}), (None, None)
    )
    assert any("add E 500000, N 4400000" in finding.text for finding in shifted.findings)


def test_every_option_of_the_sets_that_ship_is_one():
    for each in known_sets():
        for enclosure in each.enclosures:
            declare.build(catalog.format_named(enclosure.format).write_params, enclosure.words)


def test_sets_are_read_as_they_were_saved(tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path))
    own = dataclasses.replace(set_named("machine"), name="my machine")
    path = save_set(own)
    assert read_set(path) == own == set_named("my machine") == set_named(str(path))
    with pytest.raises(CallError, match="cannot be the name"):
        save_set(dataclasses.replace(own, name="../x"))
    path.write_text(path.read_text().replace('"hold"', '"holds"'))
    with pytest.raises(CallError):
        read_set(path)


def test_names_of_files_are_safe():
    assert (
        safe_name("Nord/Süd: <2>") == "Nord_Süd_ _2_"
        and safe_name(" . ") == "terrain"
        and len(safe_name("x" * 400)) == 120
    )
    assert stem_of([scattered(5), ground(30).renamed("Ground 2")]) == "Ground 2"
    assert METRES.horizontal is Unit.METRE
