"""Looking at a job: what is due, what is kept, what is accepted; and that one failing check stops nothing."""

import dataclasses

import numpy as np
import pytest

from vastgrid import catalog
from vastgrid.base.errors import ParamError
from vastgrid.base.findings import Finding, Remedy, Severity
from vastgrid.base.progress import Silent
from vastgrid.base.quantities import Unit
from vastgrid.data.frame import Frame
from vastgrid.data.pointset import PointSet
from vastgrid.execution import inspection as module
from vastgrid.jobs.reporting import report
from vastgrid.jobs.session import Session
from vastgrid.reports.account import as_text


@pytest.fixture
def session(tmp_path):
    rng = np.random.default_rng(2)
    xy = rng.uniform(0, 200, (900, 2)).round(3)
    rows = [f"{k},{e},{n},{100 + 0.02 * e:.3f}" for k, (e, n) in enumerate(xy.tolist())]
    rows[450] = rows[450].rsplit(",", 1)[0] + ",140.000"
    (tmp_path / "a.csv").write_text("\n".join(["Point,Easting [m],Northing [m],Elevation [m]", *rows]))
    own = Session(tmp_path / "job")
    own.sources.bring_in(tmp_path / "a.csv")
    return own


def look(session):
    made = session.inspection.look(session.graph, session.dataset, Silent())
    session.inspection.take_in(session.graph, made)
    return made


def test_what_is_due_is_looked_for_once(session):
    (node,) = session.graph.cards
    assert {check.id for _, check in session.inspection.due(session.graph)} >= {"spikes", "gaps", "wrong-unit"}
    assert look(session)
    assert session.inspection.due(session.graph) == [] and not look(session)
    assert [each.finding.code for each in session.noticed() if each.open] == ["spikes"]
    session.inspection.set_words(catalog.check_named("spikes"), {"height": "50"})
    assert [check.id for _, check in session.inspection.due(session.graph)] == ["spikes"], (
        "other thresholds, another look"
    )
    look(session)
    assert not any(each.open for each in session.noticed([node]))
    with pytest.raises(ParamError):
        session.inspection.set_words(catalog.check_named("spikes"), {"height": "-1"})


def test_findings_and_acceptances_are_kept_with_the_job(session):
    (node,) = session.graph.cards
    look(session)
    finding = next(each.finding for each in session.noticed() if each.open)
    session.inspection.accept(node, finding, "  a  mast ")
    session.save()
    again = Session(session.folder)
    (noticed,) = [each for each in again.noticed() if each.finding.code == "spikes"]
    assert noticed.accepted == "a mast" and not noticed.open
    assert "Accepted: a mast." in as_text(report(again, node).steps)
    again.inspection.reopen(node, noticed.finding)
    assert next(each for each in again.noticed() if each.finding.code == "spikes").open


def test_a_neighbour_that_comes_or_goes_is_minded(session, tmp_path):
    look(session)
    (tmp_path / "b.csv").write_text((tmp_path / "a.csv").read_text())
    session.sources.bring_in(tmp_path / "b.csv")
    due = session.inspection.due(session.graph)
    first, second = session.graph.cards
    assert {check.id for node, check in due if node == first} == {check.id for check in catalog.CHECKS if check.around} & {
        "wrong-unit", "name-twice",
    }  # fmt: skip
    assert {check.id for node, check in due if node == second} >= {"spikes", "wrong-unit"}
    look(session)
    session.remove([second])
    look(session)
    assert len(session.settings["noticed"]) == len(
        [check for check in catalog.CHECKS if "points" in {kind.kind for kind in check.takes}]
    ), "what belongs to no card is forgotten"


def test_what_a_surface_is_made_from_is_no_neighbour(session):
    (points,) = session.graph.cards
    node = session.plan("tin", [points], {})
    session.change(session.remake(session.graph.with_node(node), [node.id], Silent()), "make")
    assert module._beside(session.graph, points) == [] == module._beside(session.graph, node.id)


def test_a_check_that_fails_is_told_and_stops_nothing(monkeypatch):
    def broken(*_):
        raise ZeroDivisionError("no luck")

    spikes = dataclasses.replace(catalog.check_named("spikes"), run=broken)
    monkeypatch.setattr(catalog, "CHECKS", catalog.CHECKS.having(spikes))
    xyz = np.array([(0, 0, 5.0), (0, 0, 9.0), (8, 9, 5.0), (9, 1, 5.0)])
    points = PointSet(name="p", frame=Frame(None, Unit.METRE, Unit.METRE), xyz=xyz)
    (found,) = module.inspect([points], Silent())
    assert any("could not be looked for in p." in each.text for each in found)
    assert any(each.code == "two-heights-here" for each in found)


def test_a_finding_survives_being_written_down():
    own = Finding("a", "text", Severity.WARNING, (1.0, 2.0), Remedy("units", "Read it", {"height": "ft"}))
    assert Finding.from_json(own.to_json()) == own
    bare = Finding("a", "text")
    assert Finding.from_json(bare.to_json()) == bare and "remedy" not in bare.to_json()
