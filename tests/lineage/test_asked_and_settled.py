"""What was asked stays; what was not is settled anew for other data, is marked in the sentence, and can be pinned."""

import ast
from pathlib import Path

import numpy as np
import pytest

import vastgrid
from vastgrid import catalog
from vastgrid.base.errors import CallError
from vastgrid.base.progress import Silent
from vastgrid.cli.main import run as command
from vastgrid.jobs.session import Session
from vastgrid.lineage.graph import State, Use
from vastgrid.params.declare import plain
from vastgrid.recipes.capture import recipe_of
from vastgrid.recipes.run import RunAccount, run_recipe

PACKAGE = Path(vastgrid.__file__).parent


def survey(path, rise, count=400, seed=3):
    rng = np.random.default_rng(seed)
    rows = rng.random((count, 2)) * 100 + (431000, 887000)
    lines = [f"{e:.3f},{n:.3f},{200 + (e - 431000) / 100 * rise:.3f}" for e, n in rows]
    path.write_text("E [m],N [m],Z [m]\n" + "\n".join(lines) + "\n")
    return path


@pytest.fixture
def session(tmp_path):
    made = Session(tmp_path / "job")
    made.sources.bring_in(survey(tmp_path / "day.csv", 20))
    return made


def make(session, operation, inputs, words=None, roles=()):
    node = session.plan(operation, inputs, words or {}, roles)
    session.change(session.remake(session.graph.with_node(node), [node.outputs[0].card], Silent()), "make")
    return node.outputs[0].card


def remake(session):
    session.amend(session.remake(session.graph, session.stale(session.graph), Silent()))


def test_contours_with_nothing_asked_settle_anew_on_other_ground(session, tmp_path):
    day = next(iter(session.graph.cards))
    lines = make(session, "contours", [make(session, "tin", [day])])
    assert session.graph[lines].words == {} and session.graph[lines].name == "Contours 0.5 m"
    survey(tmp_path / "steep.csv", 200)
    session.accept(session.sources.replaced(day, tmp_path / "steep.csv", Silent()), "replace")
    remake(session)
    assert session.graph[lines].name == "Contours 5 m", "the name follows what is settled now"
    assert session.dataset(lines).interval == 5.0
    pinned = session.with_word(lines, "interval", "2m")
    session.change(session.graph.with_node(pinned), "pin")
    remake(session)
    survey(tmp_path / "flat.csv", 10)
    session.accept(session.sources.replaced(day, tmp_path / "flat.csv", Silent()), "replace")
    remake(session)
    assert session.dataset(lines).interval == 2.0, "what was asked stays"
    session.change(session.graph.with_node(session.with_word(lines, "interval", None)), "let go")
    remake(session)
    assert session.dataset(lines).interval == 0.5


def test_the_sentence_marks_what_nobody_asked_for(session):
    lines = make(session, "contours", [make(session, "tin", [next(iter(session.graph.cards))])], {"index": "4"})
    marks = {piece.field: piece.settled for piece in session.sentence(lines) if piece.field}
    assert marks == {"interval": True, "base": True, "index": False, "smooth": True}
    assert plain(session.sentence(lines)).startswith("Contours every 0.5 m from Ground")


def test_an_empty_word_asks_for_nothing(session):
    tin = make(session, "tin", [next(iter(session.graph.cards))], {"max_edge": "none", "boundary": ""})
    assert session.graph[tin].words == {}


def test_roles_say_which_is_which(session, tmp_path):
    """New above old, and not the other way round: by order, or as it is said."""
    low = make(session, "tin", [next(iter(session.graph.cards))])
    (later,) = session.sources.bring_in(survey(tmp_path / "later.csv", 30))
    high = make(session, "tin", [later.outputs[0].card])
    first = make(session, "compare", [low, high])
    other = make(session, "compare", [low, high], roles=["new", "old"])
    names = [session.graph[card].name for card in (low, high)]
    assert session.graph.node(first).uses == (Use(low, "old"), Use(high, "new"))
    assert session.graph.node(other).uses == (Use(high, "old"), Use(low, "new"))
    assert plain(session.sentence(first)) == f"How far {names[1]} lies above {names[0]}, wherever there are both."
    mean = {k: session.graph[k].outcome.loss.mean for k in (first, other)}
    assert mean[first] > 0 > mean[other] and mean[first] == pytest.approx(-mean[other], rel=0.05)
    assert session.measured_against(first) == names[0]
    session.give_role(first, high, "old")
    assert session.graph.node(first).uses == (Use(high, "old"), Use(low, "new"))
    assert session.graph.state(first) is State.STALE
    with pytest.raises(CallError, match="compare needs old"):
        session.plan("compare", [low], {})
    with pytest.raises(CallError, match="no other source"):
        session.drop_source(first, low)


def test_the_frame_comes_from_the_role_that_gives_it(session, tmp_path):
    """The old surface is in metres, the new one in feet: figures are in metres, whatever their order."""
    low = make(session, "tin", [next(iter(session.graph.cards))])
    conversion = catalog.conversion_named("compare")
    from vastgrid.base.quantities import Unit
    from vastgrid.declarations.conversion import Inputs
    from vastgrid.execution.steps import convert
    from vastgrid.terrain.place.units import in_units

    metres = session.dataset(low)
    feet = in_units(metres, Unit.FOOT, Unit.FOOT)
    result, _ = convert(conversion, Inputs.of_pairs([("old", metres), ("new", feet)]), conversion.params(), Silent())
    assert result.loss.unit is Unit.METRE and result.loss.rmse < 1e-9
    result, _ = convert(conversion, Inputs.of_pairs([("old", feet), ("new", metres)]), conversion.params(), Silent())
    assert result.loss.unit is Unit.FOOT


def test_the_same_value_in_another_spelling_is_no_change_however_the_step_was_asked_for(tmp_path):
    """By command, by recipe and in the window alike: text is canonical as soon as a node is built."""
    source = survey(tmp_path / "day.csv", 20)
    asked = ["--via", "tin", "max_edge=60.0", "--via", "contours", "interval=0.50"]
    assert command(["convert", str(source), str(tmp_path / "a.dxf"), *asked, "--job", str(tmp_path / "kept")]) == 0
    kept = Session(tmp_path / "kept")
    (lines,) = [card for card in kept.graph.cards if kept.graph[card].node.operation == "contours"]
    recipe = recipe_of(kept.graph, kept.executor, kept.sentence, "Contours")
    account = RunAccount({}, tmp_path)
    graph = run_recipe(recipe, {recipe.slots[0].name: [source]}, None, Silent(), account)
    assert kept.graph[lines].words == {"interval": "0.5"}
    # A recipe says the unit of the data that a bare number had.
    assert [node.words for node in graph.nodes.values() if node.operation == "contours"] == [{"interval": "0.5m"}]
    for text in ("0.5", "0.50", "5e-1"):
        assert kept.with_word(lines, "interval", text) == kept.graph.node(lines)
    (tin,) = [card for card in kept.graph.cards if kept.graph[card].node.operation == "tin"]
    assert kept.graph[tin].words == {"max_edge": "60.0"}


def test_nodes_are_built_in_one_place():
    """What reads an old or a new job from the disk has nodes as they were written; all others are built by `NodeBuilder`."""
    builders = {
        str(path.relative_to(PACKAGE))
        for path in PACKAGE.rglob("*.py")
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8")))
        if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id == "Node"
    }
    assert builders == {"execution/nodes.py", "lineage/graph.py"}
