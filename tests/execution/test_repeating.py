"""Recipes learnt from a job and run on other files: the same result everywhere, and one bad file stops no other."""

import json
import shutil

import numpy as np
import pytest

from vastgrid.base.errors import CallError, DataError
from vastgrid.base.progress import Silent
from vastgrid.base.quantities import Length
from vastgrid.jobs.session import Session
from vastgrid.lineage.graph import State
from vastgrid.recipes.capture import recipe_of
from vastgrid.recipes.recipe import as_text, read_text, write_recipe
from vastgrid.recipes.run import RunAccount, run_many, run_recipe, runs_of
from vastgrid.terrain.editing.edits import set_height_line


def survey(path, seed=1, unit="m", count=400):
    rng = np.random.default_rng(seed)
    xy = np.concatenate((rng.uniform(0, 100, (count, 2)), [[0, 0], [100, 0], [100, 100], [0, 100]]))
    z = 200.0 + 3.0 * np.sin(xy[:, 0] / 20.0) + seed
    rows = [f"{e + 431000:.3f},{n + 887000:.3f},{h:.3f}" for (e, n), h in zip(xy.tolist(), z.tolist(), strict=True)]
    path.write_text(f"E [{unit}],N [{unit}],Z [{unit}]\n" + "\n".join(rows) + "\n")
    return path


@pytest.fixture
def session(tmp_path):
    made = Session(tmp_path / "job")
    for name in ("day1", "day2"):
        made.sources.bring_in(survey(tmp_path / f"{name}.csv", 1 if name == "day1" else 2))
    first, second = list(made.graph.cards)
    made.rename(first, "Day 1")

    def make(operation, inputs, words, roles=()):
        node = made.plan(operation, inputs, words, roles)
        made.change(made.remake(made.graph.with_node(node), [node.id], Silent()), f"make {node.name}")
        return node.id

    ground = make("tin", [first], {"max_edge": "60m"})
    later = make("tin", [second], {})
    make("contours", [ground], {"interval": "0.5m"})
    make("volumes", [ground, later], {})
    made.editing.add(ground, set_height_line(431000.0, 887000.0, Length(199.0)))
    made.amend(made.remake(made.graph, made.stale(made.graph), Silent()))
    node = made.plan_delivery("landxml", [ground], {"hold": "faces"}, tmp_path / "sent" / "ground.xml", (None, None))
    (tmp_path / "sent").mkdir()
    made.change(made.remake(made.graph.with_node(node), [node.id], Silent()), "send")
    return made


def learnt(session, *names):
    cards = [card for card, own in session.graph.cards.items() if own.name in names]
    return recipe_of(session.graph, session.executor, session.sentence, session.name, cards)


def named(session, name):
    return next(card for card in session.graph.cards.values() if card.name == name)


def test_the_steps_of_a_job_are_its_recipe(session):
    recipe = read_text(as_text(learnt(session)))
    assert [slot.name for slot in recipe.slots] == ["day-1", "day2"]
    assert sorted(step.operation for step in recipe.steps) == ["contours", "edit", "tin", "tin", "volumes"]
    assert recipe.steps[0].words == {"max_edge": "60.0m"}
    # A log of work by hand goes along whole.
    assert "set 431000" in next(step for step in recipe.steps if step.operation == "edit").words["log"]
    assert next((each.file, dict(each.words)) for each in recipe.sent) == ("ground.xml", {"hold": "faces"})
    # What goes nowhere else goes out in its usual format; tables need no telling.
    assert {each.file for each in recipe.sent} == {"ground.xml", "contours-0.5-m.xml"}
    alone = learnt(session, "Contours 0.5 m")
    assert [slot.name for slot in alone.slots] == ["day-1"]
    with pytest.raises(CallError, match="was given, not made"):
        learnt(session, "Day 1")


def test_a_run_gives_what_the_job_gave_and_the_same_on_another_machine(session, tmp_path):
    recipe = read_text(as_text(learnt(session)))
    files = {"day-1": [tmp_path / "day1.csv"], "day2": [tmp_path / "day2.csv"]}
    one = RunAccount({}, tmp_path / "one")
    run_recipe(recipe, files, tmp_path / "one", Silent(), one)
    assert one.good
    assert {path.name for path in (tmp_path / "one").iterdir()} >= {"ground.xml", "contours-0.5-m.xml"}
    assert len(one.tables) == 3
    for name in ("Ground", "Ground, by hand", "Contours 0.5 m"):
        assert one.digests[name] == session.dataset(named(session, name).id).content
    # Other paths, other folders, a job on disk instead of memory.
    away = tmp_path / "elsewhere" / "deep"
    away.mkdir(parents=True)
    moved = {slot: [shutil.copy(paths[0], away)] for slot, paths in files.items()}
    other = RunAccount({}, away)
    from vastgrid.jobs.save_as_job import NewJob, keep_job

    graph = run_recipe(
        recipe,
        {slot: [away / p.rsplit("/", 1)[-1] for p in map(str, paths)] for slot, paths in moved.items()},
        None,
        Silent(),
        other,
        store=NewJob(tmp_path / "job2"),
    )
    assert other.digests == one.digests
    keep_job(tmp_path / "job2", "again", graph, "run")
    opened = Session(tmp_path / "job2")
    assert all(opened.graph.state(card) is State.MADE for card in opened.graph.cards)
    with pytest.raises(CallError, match="is not empty"):
        NewJob(tmp_path / "job2")


def test_many_runs_and_one_bad_file(session, tmp_path):
    recipe = learnt(session, "Contours 0.5 m")
    (tmp_path / "bad.csv").write_text("nothing here\n")
    given = [("day-1", survey(tmp_path / f"{name}.csv", seed), False) for name, seed in (("may", 3), ("june", 4))]
    given.insert(1, ("day-1", tmp_path / "bad.csv", False))
    runs = runs_of(recipe, given, tmp_path / "out")
    assert [folder.name for _, folder in runs] == ["may", "bad", "june"]
    told = []
    accounts = run_many(recipe, runs, Silent(), done=lambda k, account: told.append((k, account.good)))
    assert told == [(0, True), (1, False), (2, True)]
    assert "bad.csv" in accounts[1].error
    assert not (tmp_path / "out" / "bad").exists()
    again = run_many(recipe, runs, Silent())
    assert "already; --replace writes over" in again[0].error
    assert run_many(recipe, runs[:1], Silent(), replace=True)[0].good


def test_files_are_given_to_slots(session, tmp_path):
    recipe = learnt(session)
    one, two = tmp_path / "day1.csv", tmp_path / "day2.csv"
    for given, said in (
        ([("day-1", one, False)], "needs a file for day2=FILE"),
        ([("day-3", one, False)], "no slot “day-3”; did you mean day-1"),
        ([("day-1", one, True)], "a further file needs one before it"),
        ([("day-1", one, False)] * 2 + [("day2", two, False)] * 3, "day-1 has 2 files, another slot has 3"),
    ):
        with pytest.raises(CallError, match=said):
            runs_of(recipe, given, tmp_path)
    ((files, folder),) = runs_of(recipe, [("day-1", one, False), ("day-1", two, True), ("day2", two, False)], tmp_path)
    assert files["day-1"] == (one, two)
    assert folder == tmp_path
    account = RunAccount({}, tmp_path / "joined")
    graph = run_recipe(recipe, files, tmp_path / "joined", Silent(), account)
    ground = next(node for node in graph.nodes.values() if node.operation == "tin")
    assert len(ground.uses) == 2


def test_a_bare_number_keeps_the_unit_of_its_data(run_cli, tmp_path):
    source = survey(tmp_path / "day_1.csv")
    code, _, err = run_cli("convert", source, tmp_path / "a.tif", "--via", "grid", "cell=5", "--job", tmp_path / "kept")
    assert code == 0, err
    recipe = learnt(Session(tmp_path / "kept"))
    assert [slot.name for slot in recipe.slots] == ["day-1"], "in lower case with hyphens"
    assert next(step for step in recipe.steps if step.operation == "grid").words == {"cell": "5.0m"}


def test_another_unit_is_brought_into_that_of_the_job(session, tmp_path):
    recipe = learnt(session, "Contours 0.5 m")
    account = RunAccount({}, tmp_path)
    graph = run_recipe(recipe, {"day-1": [survey(tmp_path / "feet.csv", 5, "us-ft")]}, None, Silent(), account)
    assert {card.figures["vertical_unit"] for card in graph.cards.values() if card.kind} == {"m"}


def test_a_file_of_another_format_is_read_as_what_it_is(session, tmp_path):
    recipe = learnt(session, "Contours 0.5 m")
    with pytest.raises(DataError, match="holds no points for the slot day-1; it holds Ground"):
        run_recipe(recipe, {"day-1": [tmp_path / "sent" / "ground.xml"]}, None, Silent(), RunAccount({}, tmp_path))


def test_the_command_line(run_cli, session, tmp_path):
    session.close()
    code, out, err = run_cli("recipe", session.folder, tmp_path / "a.recipe")
    assert code == 0, err
    assert "5 steps from 2 sources" in out
    code, out, err = run_cli(
        "run", tmp_path / "a.recipe", f"day-1={tmp_path / 'day1.csv'}", f"day2={tmp_path / 'day2.csv'}",
        "--into", tmp_path / "out", "--json",
    )  # fmt: skip
    assert code == 0, err
    (run,) = json.loads(out)["runs"]
    assert run["good"] and run["digests"]["Ground"] == session.dataset(named(session, "Ground").id).content
    code, out, err = run_cli("recipe", session.folder, tmp_path / "c.recipe", "--card", "Contours 0.5 m")
    assert code == 0, err
    (tmp_path / "bad.csv").write_text("x\n")
    code, out, err = run_cli(
        "run", tmp_path / "c.recipe", f"day-1={tmp_path / 'day1.csv'}", f"day-1={tmp_path / 'bad.csv'}",
        "--into", tmp_path / "many",
    )  # fmt: skip
    assert code == 1
    assert "1 of 2 runs are good" in out
    code, _, err = run_cli(
        "run",
        tmp_path / "c.recipe",
        f"day-1={tmp_path / 'day1.csv'}",
        "--into",
        tmp_path / "j",
        "--job",
        tmp_path / "new",
    )
    assert code == 0, err
    assert "Contours 0.5 m" in [card.name for card in Session(tmp_path / "new").graph.cards.values()]
    for arguments, said in (
        (("recipe", tmp_path, tmp_path / "x"), "no job"),
        (("recipe", session.folder, tmp_path / "x", "--card", "Hill"), "no such card"),
        (("run", tmp_path / "c.recipe", "day-1", "--into", "x"), "not slot=FILE"),
        (("run", tmp_path / "day1.csv", "--into", "x"), "not a recipe"),
    ):
        code, _, err = run_cli(*arguments)
        assert code in (1, 2) and said in err


def test_what_a_conversion_did_is_kept_as_a_job(run_cli, tmp_path):
    source = survey(tmp_path / "day.csv")
    code, _, err = run_cli("convert", source, tmp_path / "a.xml", "--via", "tin", "--job", tmp_path / "kept")
    assert code == 0, err
    opened = Session(tmp_path / "kept")
    assert [card.name for card in opened.graph.cards.values()] == ["day", "Ground", "a.xml"]
    assert all(opened.graph.state(card) is State.MADE for card in opened.graph.cards)
    assert opened.dataset(named(opened, "Ground").id).kind == "tin"
    code, _, err = run_cli("convert", source, tmp_path / "b.xml", "--job", tmp_path / "kept")
    assert code == 2 and "is not empty" in err


def test_a_recipe_written_by_hand(tmp_path):
    write_recipe(
        tmp_path / "a.recipe",
        read_text(
            'form = 1\ntitle = "Grid"\n[source.points]\nholds = [["points", "points"]]\nreads = "text"\n'
            '[step.ground]\nmake = "tin"\nfrom = [["sources", "points"]]\n'
            '[step.heights]\nmake = "grid"\nfrom = [["surface", "ground"]]\nwith.cell = 5\n'
            '[[send]]\nfile = "heights.asc"\nas = "asciigrid"\nwhat = ["heights"]\n'
        ),
    )
    recipe = read_text((tmp_path / "a.recipe").read_text())
    account = RunAccount({}, tmp_path / "out")
    run_recipe(recipe, {"points": [survey(tmp_path / "p.csv")]}, tmp_path / "out", Silent(), account)
    assert account.good and (tmp_path / "out" / "heights.asc").exists()
