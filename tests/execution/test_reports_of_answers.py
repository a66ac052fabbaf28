"""Reports of answers: the figure first, every table, and accuracy on the first page of whatever is sent."""

import pytest

from builders import scattered
from earth import FLAT, TILTED
from vastgrid import catalog
from vastgrid.base.progress import Silent
from vastgrid.delivery.deliver import deliver
from vastgrid.jobs.reporting import report
from vastgrid.jobs.session import Session
from vastgrid.reports.account import as_text
from vastgrid.reports.paper import as_html


@pytest.fixture
def session(tmp_path):
    made = Session(tmp_path / "job")
    for name, data in (("before.xml", FLAT), ("after.xml", TILTED)):
        target = catalog.format_of_target(tmp_path / name)
        deliver([data], tmp_path / name, target, target.write_params(), Silent())
        made.sources.bring_in(tmp_path / name)
    points = scattered(40, size=(90.0, 90.0), height=lambda x, y: 0.0 * x + 199.98)
    target = catalog.format_named("text")
    deliver([points], tmp_path / "checks.csv", target, target.write_params(), Silent())
    made.sources.bring_in(tmp_path / "checks.csv")
    return made


def made(session, operation, names, roles=()):
    cards = [next(c.id for c in session.graph.cards.values() if c.name == name) for name in names]
    node = session.plan(operation, cards, {}, roles)
    session.change(session.remake(session.graph.with_node(node), [node.id], Silent()), "make")
    return node.id


def test_volumes_say_their_figure_first_and_all_their_tables(session):
    paper = report(session, made(session, "volumes", ["before", "after"]))
    first = dict(paper.four())
    assert "Cut 12\u202f499.9 m³" in first["What is this?"] and "net 0.0 m³" in first["What is this?"]
    page = as_html(paper)
    for told in ("depth classes", "by sections every", "cut [m³]", "exact, prism by prism"):
        assert told in page
    assert "What goes out" not in page and "Read back" not in page
    assert "| inside | cut [m³]" in as_text(paper.steps)


def test_accuracy_stands_on_the_first_page_of_what_is_sent(session, tmp_path):
    made(session, "accuracy", ["before", "checks"])
    before = next(c.id for c in session.graph.cards.values() if c.name == "before")
    node = session.plan_delivery("landxml", [before], {}, tmp_path / "out.xml", (None, None))
    session.change(session.remake(session.graph.with_node(node), [node.id], Silent()), "send")
    good = dict(report(session, node.id).four())["How good is it?"]
    assert "before: RMSEz 0.020 m over 40 points, 0.039 m at 95 % (NSSDA)" in good
    assert "all" in good and "checks agree" in good


def test_from_the_command_line(run_cli, session, tmp_path):
    for ending, said in (("html", "<h1>Cut and fill"), ("md", "cut [m³]"), ("json", '"steps"')):
        path = tmp_path / f"r.{ending}"
        code, _, err = run_cli("volumes", tmp_path / "before.xml", tmp_path / "after.xml", "--report", path)
        assert code == 0, err
        assert said in path.read_text()
    code, _, err = run_cli("volumes", tmp_path / "before.xml", tmp_path / "after.xml", "--report", tmp_path / "r.doc")
    assert code == 2 and "a report ends in" in err
    code, _, err = run_cli(
        "accuracy", tmp_path / "before.xml", tmp_path / "checks.csv", "--report", tmp_path / "before.xml"
    )
    assert code == 2, "a report never goes over what was read"


def test_a_long_table_says_that_it_is_told_by_its_beginning(run_cli, session, tmp_path):
    from earth import rings

    target = catalog.format_of_target(tmp_path / "ring.gpkg")
    deliver([rings((0, 0, 100, 100))], tmp_path / "ring.gpkg", target, target.write_params(), Silent())
    for ending in ("html", "md"):
        code, _, err = run_cli(
            "stages", tmp_path / "after.xml", "--inside", tmp_path / "ring.gpkg", "--every", "0.02m", "--report",
            tmp_path / f"s.{ending}",
        )  # fmt: skip
        assert code == 0, err
        assert "The first 200 of 500 rows" in (tmp_path / f"s.{ending}").read_text()
