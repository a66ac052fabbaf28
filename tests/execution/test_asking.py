"""Questions about files: what plays a role, what is made on the way, what is refused."""

import numpy as np
import pytest

from builders import scattered
from earth import FLAT, TILTED, rings
from vastgrid import catalog
from vastgrid.base.errors import CallError, VastGridError
from vastgrid.base.findings import Finding
from vastgrid.base.progress import Silent
from vastgrid.delivery.deliver import deliver
from vastgrid.execution.input_options import Options, Said
from vastgrid.execution.queries import ask


@pytest.fixture
def files(tmp_path):
    def written(name, *data):
        target = catalog.format_of_target(tmp_path / name)
        deliver(list(data), tmp_path / name, target, target.write_params(), Silent())
        return tmp_path / name

    points = scattered(300, size=(100.0, 100.0), height=lambda x, y: 0.0 * x + 201.0)
    return {
        "flat": written("flat.xml", FLAT),
        "both": written("both.xml", FLAT, TILTED),
        "points": written("points.csv", points),
        "areas": written("areas.gpkg", rings((10, 10, 30, 30))),
        "mixed": written("mixed.dxf", FLAT, rings((10, 10, 30, 30))),
    }


def asked(operation, pairs, **words):
    findings: list[Finding] = []
    answer = ask(operation, pairs, words, Options(), Said(), Silent(), findings)
    return answer, {finding.code: finding.text for finding in findings}


def test_a_file_without_a_surface_gives_the_one_that_its_points_make(files):
    answer, told = asked("volumes", [("base", files["flat"]), ("top", files["points"])])
    assert answer.step.figures["volumes"]["fill"] == pytest.approx(
        answer.step.figures["volumes"]["common_area"], rel=1e-6
    )
    assert told["made-a-surface"].startswith("points.csv holds no surface; one was made: TIN from points")
    assert answer.step.sentence == "Cut and fill from before to points."
    assert [step.source != "" for step in answer.account.steps] == [True, True, False, False]


def test_of_several_surfaces_the_first_is_taken_and_it_is_said(files):
    answer, told = asked("volumes", [("base", files["both"]), ("top", files["both"])])
    assert told["several-surfaces"] == "both.xml holds 2 of what is wanted here; before was taken."
    assert answer.step.figures["volumes"]["net"] == 0.0


def test_closed_lines_are_taken_from_whatever_has_some(files):
    for name in ("areas", "mixed"):
        answer, _ = asked("volumes", [("base", files["flat"]), ("top", files["points"]), ("inside", files[name])])
        assert answer.step.figures["volumes"]["common_area"] == pytest.approx(400.0, rel=1e-6)
        assert len(answer.tables) == 3
    with pytest.raises(CallError, match=r"flat\.xml holds no closed line \(TIN\)"):
        asked("volumes", [("base", files["flat"]), ("top", files["points"]), ("inside", files["flat"])])


def test_what_was_noticed_is_kept_where_the_work_ends_early(files):
    findings: list[Finding] = []
    with pytest.raises(VastGridError):
        ask(
            "accuracy", [("surface", files["points"]), ("points", files["areas"])], {}, Options(), Said(), Silent(),
            findings,
        )  # fmt: skip
    assert any(finding.code == "made-a-surface" for finding in findings)


def test_options_and_units_are_of_the_files_that_are_named(files):
    with pytest.raises(CallError, match="which is not an input"):
        ask(
            "compare",
            [("old", files["flat"]), ("new", files["flat"])],
            {},
            Options({}, {"x.csv": {}}),
            Said(),
            Silent(),
            [],
        )
    with pytest.raises(CallError, match="there is no such parameter here; did you mean"):
        asked("volumes", [("base", files["flat"]), ("top", files["flat"])], depths="1m")


def test_every_answer_has_a_figure_in_short(files):
    for operation, pairs in (
        ("volumes", [("base", files["flat"]), ("top", files["points"])]),
        ("accuracy", [("surface", files["flat"]), ("points", files["points"])]),
        ("pile", [("surface", files["flat"]), ("inside", files["areas"])]),
    ):
        answer, _ = asked(operation, pairs)
        short = answer.step.figures["in short"]
        assert short and len(short) < 60 and "\n" not in short
    quality = asked("accuracy", [("surface", files["flat"]), ("points", files["points"])])[0].step.figures["quality"]
    assert quality == "RMSEz 1.000 m over 300 points, 1.960 m at 95 % (NSSDA)"


def test_every_picture_that_is_declared_is_of_columns_that_are_there(files):
    """A picture's columns are names of the table's: one that is not would only be found when somebody looks."""
    found = {}
    for operation, pairs, words in (
        ("volumes", [("base", files["flat"]), ("top", files["points"])], {}),
        ("accuracy", [("surface", files["flat"]), ("points", files["points"])], {}),
        ("pile", [("surface", files["flat"]), ("inside", files["areas"])], {}),
        ("stages", [("surface", files["points"]), ("inside", files["areas"])], {"levels": "201, 202"}),
        ("between", [("stages", files["flat"]), ("stages", files["points"])], {}),
    ):
        answer, _ = asked(operation, pairs, **words)
        found[operation] = {tuple(table.columns): table for table in answer.tables}
    drawn = [each for each in catalog.CONVERSIONS if any(output.picture for output in each.outputs)]
    assert {each.id for each in drawn} == set(found), "one for every conversion whose tables are drawn"
    for conversion in drawn:
        for output in conversion.outputs:
            if output.picture is not None:
                holding = [t for names, t in found[conversion.id].items() if set(output.picture.columns) <= set(names)]
                assert holding, f"{conversion.id}, {output.name}: {output.picture.columns}"
                value = holding[0].columns[output.picture.columns[-1]]
                assert np.issubdtype(value.dtype, np.floating)
    for conversion in catalog.CONVERSIONS:
        for operation, roles in conversion.seen_by:
            other = catalog.conversion_named(operation)
            assert set(roles) <= {each.role for each in other.inputs}
            assert set(roles.values()) <= {each.role for each in conversion.inputs}
