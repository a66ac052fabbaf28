"""One executor: a chain gives the same in a job on disk and in memory for the command line, and its account is the graph's."""

import json

import numpy as np
import pytest

from builders import ground, scattered
from vastgrid import catalog
from vastgrid.base.errors import CallError
from vastgrid.base.progress import Silent
from vastgrid.declarations.conversion import Inputs
from vastgrid.execution.input_options import Options, Said
from vastgrid.execution.run import Run
from vastgrid.execution.run_log import Account, Via
from vastgrid.jobs.session import Session
from vastgrid.lineage.graph import Use


@pytest.fixture
def day(tmp_path):
    rows = "".join(f"{e!r},{n!r},{z!r}\n" for e, n, z in scattered(400).xyz.tolist())
    (tmp_path / "day.csv").write_text("E [m],N [m],Z [m]\n" + rows)
    return tmp_path / "day.csv"


CHAIN = (("tin", {"max_edge": "40m"}), ("contours", {}), ("points", {}))


def in_a_job(day, folder):
    session = Session(folder / "job")
    card = session.sources.bring_in(day)[0].outputs[0].card
    made = []
    for operation, words in CHAIN:
        node = session.plan(operation, [card], words)
        session.change(session.remake(session.graph.with_node(node), [node.id], Silent()), "make")
        card = node.outputs[0].card
        made.append(session.dataset(card))
    return session, made


def in_memory(day):
    run = Run(Account())
    run.read([day], Options(), Said(), Silent())
    made = []
    for operation, words in CHAIN:
        run.via(Via(catalog.conversion_named(operation), words), Silent())
        made.append(run.dataset(run.have[0]))
    return run, made


def test_the_same_chain_gives_the_same_to_the_last_bit(day, tmp_path):
    session, on_disk = in_a_job(day, tmp_path)
    run, in_mind = in_memory(day)
    assert [each.content for each in on_disk] == [each.content for each in in_mind]
    said = ["".join(piece.text for piece in session.sentence(card)) for card in session.graph.cards][1:]
    assert said == [step.sentence for step in run.account.steps[1:]]


def test_the_account_is_what_the_graph_says(day):
    run, _ = in_memory(day)
    nodes = list(run.graph.nodes.values())
    assert len(run.account.steps) == len(nodes) == 4
    for step, node in zip(run.account.steps, nodes, strict=True):
        assert step.result == tuple({**card.figures, "name": card.name} for card in node.cards())
        assert step.loss == node.outcome.loss
    assert nodes[2].words == {} and nodes[2].outcome.settled["interval"] == "1.0m"
    assert json.dumps([step.to_json() for step in run.account.steps])


def test_a_role_that_is_said_counts_before_the_order():
    low, high = ground(300), ground(300, seed=9)
    compare = catalog.conversion_named("compare")
    assert compare.assigned([low, high]) == ["old", "new"]
    assert compare.assigned([low, high], ["new"]) == ["new", "old"]
    assert compare.assigned([low, high], ["new", "new"]) is None
    assert compare.assigned([low, scattered(9)]) is None and compare.assigned([low]) is None
    given = Inputs.of_pairs([("old", low), ("new", high)])
    assert given.of("new") == (high,) and given.with_datasets([high, low]).of("new") == (low,)
    with pytest.raises(CallError, match="no role"):
        compare.role("middle")


def test_a_file_is_read_once_however_many_of_its_cards_are_made(day, tmp_path, monkeypatch):
    from vastgrid.execution import executor

    session, _ = in_a_job(day, tmp_path)
    read = []
    real = executor.read_file
    monkeypatch.setattr(executor, "read_file", lambda path, *a, **k: read.append(path.name) or real(path, *a, **k))
    first = next(iter(session.graph.cards))
    session.remake(session.graph, [first, first], Silent())
    assert read == ["day.csv"]


def test_what_is_asked_is_checked_before_anything_runs(day, tmp_path):
    session, _ = in_a_job(day, tmp_path)
    tin = list(session.graph.cards)[1]
    for words in ({"interval": "-1"}, {"intervall": "1"}, {"interval": "1 parsec"}):
        with pytest.raises(CallError, match="interval"):
            session.plan("contours", [tin], words)
    node = session.plan("contours", [tin], {"interval": "2"})
    assert node.words == {"interval": "2.0"} and node.uses == (Use(tin, "surface"),)
    made = session.remake(session.graph.with_node(node), [node.id], Silent())
    assert made.node(node.id).outcome.settled["interval"] == "2.0m", "a bare number is in the unit of the heights"


def test_a_card_taken_out_of_a_file_stays_out_when_the_file_is_read_again(tmp_path):
    import ezdxf

    document = ezdxf.new("R2018")
    document.header["$INSUNITS"] = 6
    space = document.modelspace()
    for k in range(6):
        space.add_point((k * 10.0, k % 2, k))
    space.add_polyline3d([(0, 0, 1), (5, 5, 2)])
    document.saveas(tmp_path / "a.dxf")
    session = Session(tmp_path / "job")
    (node,) = session.sources.bring_in(tmp_path / "a.dxf")
    lines, points = (output.card for output in node.outputs)
    session.remove([lines])
    assert set(session.graph.cards) == {points} and len(session.graph.node(points).outputs) == 1
    session.accept(session.sources.replaced(points, tmp_path / "a.dxf", Silent()), "again")
    assert set(session.graph.cards) == {points} and len(session.dataset(points).xyz) == 6
    session.undo()
    session.undo()
    assert set(session.graph.cards) == {lines, points}


def test_degrees_are_said_and_named_datasets_keep_their_names(tmp_path):
    path = tmp_path / "d.csv"
    rng = np.random.default_rng(1)
    rows = "".join(f"{9 + x!r},{47 + y!r},{z!r}\n" for x, y, z in rng.random((40, 3)).tolist())
    path.write_text("longitude,latitude,elevation\n" + rows)
    run = Run(Account())
    run.read([path], Options(), Said(), Silent())
    run.via(Via(catalog.conversion_named("reproject"), {"crs": "EPSG:32632"}), Silent())
    assert run.graph[run.have[0]].name == "d", "what keeps the kind keeps the name"
    assert "degrees" in [finding.code for finding in run.account.steps[-1].findings]


def test_a_loop_shows_what_it_cost_in_all(tmp_path, run_cli):
    """Grid, contours, TIN, grid again: each step has its own cost, the last one that of all of them."""
    rows = "\n".join(
        " ".join(f"{10 + 3 * np.sin(r / 9) + 2 * np.cos(c / 7):.3f}" for c in range(80)) for r in range(80)
    )
    dem = tmp_path / "dem.asc"
    dem.write_text(f"ncols 80\nnrows 80\nxllcorner 1000\nyllcorner 2000\ncellsize 1\n{rows}\n")
    code, out, err = run_cli(
        "convert", dem, tmp_path / "again.tif", "--from-units", "m", "--from-vertical-units", "m",
        "--via", "contours", "interval=0.5m", "--via", "tin", "--via", "grid", "cell=1m", "--json",
    )  # fmt: skip
    assert code == 0, err
    steps = json.loads(out)["steps"]
    told = [finding["text"] for step in steps for finding in step["findings"] if finding["code"] == "in-all"]
    assert len(told) == 2 and told[-1].startswith("In all, over 3 steps since dem: ")
    code, out, _ = run_cli(
        "compare", dem, tmp_path / "again.tif", "--from-units", "m", "--from-vertical-units", "m", "--json"
    )
    assert f"{json.loads(out)['max']:.3f} m at most" in told[-1]
