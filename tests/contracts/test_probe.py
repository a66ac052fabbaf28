"""What a stranger would write: a conversion with two roles, two outputs, a drawn area and a log of edits.

It stands in this file and is put into the catalogue; nothing else knows of it. From its declaration come the sentence, the
form, the dialog, the command line, the preview, the report, undo, and what is kept of it in a job.
"""

import json
from dataclasses import dataclass
from typing import Annotated

import numpy as np
import pytest

from builders import METRES, ground
from vastgrid import catalog
from vastgrid.base.progress import Silent
from vastgrid.base.quantities import Length, Quantity
from vastgrid.data.places import Area
from vastgrid.data.pointset import PointSet
from vastgrid.data.table import Table, figures_table
from vastgrid.data.tin import Tin
from vastgrid.declarations.conversion import Conversion, Input, Output, Result
from vastgrid.jobs.reporting import report
from vastgrid.jobs.session import Session
from vastgrid.kernels.triangles.topology import inside_polygon
from vastgrid.measures.heights import heights
from vastgrid.params import declare
from vastgrid.params.declare import Param, plain
from vastgrid.params.kinds import Levels, Styles
from vastgrid.reports.account import as_text
from vastgrid.terrain.editing.edits import EditLog, replayed, set_height_line

AREA = "Pad: 431020.5 887020.25, 431120.5 887020.25, 431120.5 887110.125"


@dataclass(frozen=True)
class ProbeParams:
    """Where, and what was edited before."""

    area: Annotated[Area | None, Param("Area", "Only points in it count.", absent="everywhere")] = None
    log: Annotated[EditLog, Param("Edits", "Made to the surface first.", absent="no edit")] = EditLog()  # noqa: RUF009
    levels: Annotated[Levels | None, Param("Levels", "Counted at.", Quantity.Z_LENGTH, absent="no level")] = None
    styles: Annotated[Styles, Param("Styles", "Of what is shown.", absent="none")] = Styles()  # noqa: RUF009


def run(inputs, params, progress):
    (surface,), (points,) = inputs.of("surface"), inputs.of("checked")
    done = replayed(surface, params.log)
    made, findings = done.tin, done.findings
    ring = params.area.ring() if params.area else None
    keep = np.ones(len(points.xyz), bool)
    if ring is not None:
        keep = inside_polygon(np.ascontiguousarray(points.xyz[:, 0]), np.ascontiguousarray(points.xyz[:, 1]), ring)
    gap = points.xyz[keep, 2] - heights(made, np.ascontiguousarray(points.xyz[keep, :2]))
    table = figures_table("Residuals", [("points", float(keep.sum()), ""), ("mean", float(np.nanmean(gap)), "m")])
    return Result(made, tuple(findings), more={"residuals": table})


def preview(inputs, params, progress):
    return PointSet(xyz=inputs.of("checked")[0].xyz[:5])


PROBE = Conversion(
    id="probe",
    version=1,
    title="Checked ground",
    help="A surface with its edits, and how far points lie above it.",
    inputs=(Input("checked", (PointSet,)), Input("surface", (Tin,), help="what they are checked against")),
    outputs=(Output("tin", Tin), Output("residuals", Table, title="residuals")),
    params=ProbeParams,
    template="{checked} checked against {surface} with {log}, over {area}[, at {levels}].",
    run=run,
    preview=preview,
    name=lambda inputs, params: "Checked",
    suggest=lambda inputs: {"area": ["431000,887000,431100,887100"]},
    frame_of="surface",
    loss_against="surface",
    resumes="",
)


@pytest.fixture
def probe(monkeypatch):
    monkeypatch.setattr(catalog, "CONVERSIONS", catalog.CONVERSIONS.having(PROBE))
    return PROBE


def job(folder):
    session = Session(folder / "job")
    rows = "".join(f"{e!r},{n!r},{z!r}\n" for e, n, z in ground(300).vertices.tolist())
    (folder / "day.csv").write_text("E [m],N [m],Z [m]\n" + rows)
    rows = "".join(f"{431005 + 9 * k},{887005 + 7 * k},{231 + k % 3}\n" for k in range(20))
    (folder / "checks.csv").write_text("E [m],N [m],Z [m]\n" + rows)
    day = session.sources.bring_in(folder / "day.csv")[0].outputs[0].card
    checks = session.sources.bring_in(folder / "checks.csv")[0].outputs[0].card
    node = session.plan("tin", [day], {})
    session.change(session.remake(session.graph.with_node(node), [node.id], Silent()), "make Ground")
    return session, node.id, checks


def words(tin):
    east, north = (float(value) for value in tin.vertices[3, :2])
    lines = [set_height_line(east, north, Length(240.0 + k)) for k in range(9)]
    return {"area": AREA, "log": "\n".join(lines), "levels": "210, 212.5 m", "styles": "EDGE*: colour=#112233"}


def test_in_a_job_with_sentence_outputs_undo_and_report(probe, tmp_path):
    session, tin, checks = job(tmp_path)
    node = session.plan("probe", [tin, checks], words(session.dataset(tin)))
    session.change(session.remake(session.graph.with_node(node), [node.outputs[0].card], Silent()), "make Checked")
    made, table = (output.card for output in node.outputs)
    assert [session.graph[card].kind for card in (made, table)] == ["tin", "table"]
    assert session.graph[table].name == "Checked, residuals" and table in session.graph.after(tin)
    assert plain(session.sentence(made)) == "checks checked against Ground with 9 edits, over Pad, at 210, 212.5 m."
    assert session.dataset(table).texts()[0][0] == "points"
    own = report(session, table)
    text = as_text(own.steps, *own.files)
    assert "checked against Ground" in text and text.index("Ground: ") < text.index("Checked")
    assert "| figure | value | unit |" in text and "| mean | " in text
    assert session.measured_against(made) == "Ground"
    stored = json.loads((session.folder / "job.json").read_text())
    kept = next(each for each in stored["nodes"] if each["operation"] == "probe")["words"]
    assert kept["log"].startswith("payload:") and kept["area"] == AREA, "long values stand beside the job"
    again = Session(session.folder)
    assert plain(again.sentence(made)) == plain(session.sentence(made))
    changed = again.with_words(made, {"area": "431000,887000,431050,887050"})
    again.change(again.graph.with_node(changed), "change area")
    again.amend(again.remake(again.graph, [made], Silent()))
    assert "over E 431000 … 431050, N 887000 … 887050" in plain(again.sentence(made))
    again.undo()
    assert "over Pad" in plain(again.sentence(made))
    again.undo()
    assert made not in again.graph and table not in again.graph


def test_on_the_command_line_by_role(probe, tmp_path, run_cli, capsys):
    session, tin, _ = job(tmp_path)
    (tmp_path / "edits.txt").write_text(words(session.dataset(tin))["log"])
    code, out, err = run_cli(
        "convert", tmp_path / "day.csv", tmp_path / "checks.csv", tmp_path / "out.xml",
        "--only", "day", "--via", "tin",
    )  # fmt: skip
    assert code == 0, err
    code, out, err = run_cli(
        "convert", tmp_path / "out.xml", tmp_path / "checks.csv", tmp_path / "checked.xml",
        "--via", "probe", "surface=out.xml", "checked=checks.csv", f"area={AREA}", f"log=@{tmp_path / 'edits.txt'}",
    )  # fmt: skip
    assert code == 0, err
    assert "checks checked against Ground with 9 edits, over Pad." in out
    code, out, err = run_cli("conversions")
    assert "checked (points) and surface (TIN)" in out and "what they are checked against" in out
    code, _, err = run_cli(
        "convert",
        tmp_path / "out.xml",
        tmp_path / "checks.csv",
        tmp_path / "x.xml",
        "--via",
        "probe",
        "surface=nothing.xml",
    )
    assert code == 2 and "there is nothing of that name here" in err


def test_in_the_window_with_form_roles_and_preview(probe, tmp_path, qtbot):
    from vastgrid.qt.window.main_window import MainWindow

    session, tin, checks = job(tmp_path)
    window = MainWindow(session)
    qtbot.addWidget(window)
    window.desk.select([tin, checks])
    dialog = window.parts.offers.ask_dialog("probe", [tin, checks], {})
    assert set(dialog.form.editors) == {"area", "log", "levels", "styles"} and set(dialog.roles) == {tin, checks}
    assert [window.session.graph[node].name for node, role in dialog.order if role == "surface"] == ["Ground"]
    for name, text in words(session.dataset(tin)).items():
        dialog.form.set_words({name: text})
    dialog._say()
    assert dialog.sentence.text().startswith("checks checked against Ground with 9 edits, over Pad")
    dialog.accept()
    qtbot.waitUntil(lambda: any(card.name == "Checked" for card in session.graph.cards.values()), timeout=20_000)
    made = next(card for card in session.graph.cards.values() if card.name == "Checked")
    shown = []
    window.desk.previewed.connect(shown.append)
    window.parts.making.preview_field(made.id, "area", "431000,887000,431050,887050")
    qtbot.waitUntil(lambda: bool(shown), timeout=10_000)
    assert len(shown[0].xyz) == 5
    window.parts.making.take_back()
    assert made.id not in session.graph
    window.close()


def test_every_kind_of_parameter_has_an_editor_and_reads_back_what_it_writes():
    from vastgrid.params import kinds
    from vastgrid.qt.widgets import forms

    examples = {Area: AREA, EditLog: "set 1.0,2.0 3.0m", Levels: "1, 2.5, 4 ft", Styles: "A*: width=2"}
    for kind, how in kinds.registered().items():
        assert how.editor in forms.EDITORS
        if kind in examples:
            value = how.parse(kind, examples[kind])
            assert how.parse(kind, how.text(value)) == value and how.spoken(value)
    for text in ("", "1", "1 2, 3 4", "a b, c d, e f", "0,0,0,0"):
        with pytest.raises(Exception, match=r"neither|numbers|box"):
            kinds.how_of(Area).parse(Area, text)


def test_a_place_keeps_the_frame_it_was_drawn_in():
    how = declare.field_named(ProbeParams, "area").how
    feet = how.parse(Area, "3280.84 0, 6561.68 0, 6561.68 3280.84 | ft")
    brought = how.brought(feet, None, METRES)
    assert np.allclose(brought.ring(), [(1000, 0), (2000, 0), (2000, 1000), (1000, 0)], atol=1e-3)
    assert how.parse(Area, how.text(feet)) == feet
    utm = how.parse(Area, "500000 4400000, 500100 4400000, 500100 4400100 | m | EPSG:32632")
    from vastgrid.data.frame import frame_of_crs

    degrees = how.brought(utm, None, frame_of_crs("EPSG:4326"))
    # On its central meridian a UTM zone's easting of 500 000 m is 9° E (definition of the projection).
    assert abs(degrees.corners[0][0] - 9.0) < 1e-9 and 39.7 < degrees.corners[0][1] < 39.8
