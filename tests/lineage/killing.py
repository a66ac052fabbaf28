"""Works on a job and is killed, over and over; run by `test_kills.py`, in a process of its own that forks.

Each life opens the job, says what of it is there, and works on: files come in, clouds are put in order, surfaces are made,
edited and sent. Whatever it says is done is told through a pipe, with the time. The parent kills it at a random moment, then
opens the job as the next window would, and compares.
"""

import json
import os
import random
import shutil
import signal
import sys
import time
from pathlib import Path

import numpy as np

from vastgrid.base.files import sweep
from vastgrid.base.progress import Silent
from vastgrid.base.quantities import Length
from vastgrid.data.frame import UNKNOWN
from vastgrid.data.pointset import PointSet
from vastgrid.jobs.session import Session
from vastgrid.lineage import cloudindex
from vastgrid.lineage.graph import Role
from vastgrid.terrain.editing.edits import set_height_line

WORK = ("import", "order", "make", "edit", "deliver", "undo")


def life(folder, files, seed, told, behind):
    """Work on the job until killed; a line for each thing begun and each thing done."""
    draw = random.Random(seed)

    def say(**what):
        os.write(told, (json.dumps({**what, "at": time.time()}) + "\n").encode())

    session = Session(folder)
    session.claim()
    if behind:
        session.keeper.behind(lambda why: say(fault=why))
    cloud = PointSet(name="c", frame=UNKNOWN, xyz=np.random.default_rng(3).random((250_000, 3)) * 100.0)
    for number in range(1000):
        graph = session.graph
        tins = [card.id for card in graph.cards.values() if card.kind == "tin" and card.operation == "tin"]
        points = [card.id for card in graph.cards.values() if card.kind == "points"]
        able = [each for each in WORK if points or each in ("import", "order")]
        able = [each for each in able if tins or each not in ("edit", "deliver")]
        what = draw.choice(able)
        say(begun=what)
        if what == "import":
            session.sources.bring_in(draw.choice(files))
        elif what == "order":
            cloudindex.build(cloud, folder / "index" / f"{cloud.content}-{draw.randrange(3)}", Silent())
        elif what == "make":
            node = session.plan("tin", [draw.choice(points)], {})
            session.change(session.remake(graph.with_node(node), [node.id], Silent()), "make")
        elif what == "edit":
            at = draw.randrange(144)
            line = set_height_line(431000.0 + 10 * (at // 12), 887000.0 + 10 * (at % 12), Length(200.0 + number))
            session.editing.add(draw.choice(tins), line)
            session.amend(session.remake(session.graph, session.stale(session.graph), Silent()))
        elif what == "deliver":
            target = folder.parent / f"out{draw.randrange(4)}.xml"
            node = session.plan_delivery("landxml", [draw.choice(tins)], {}, target, (None, None))
            session.change(session.remake(session.graph.with_node(node), [node.id], Silent()), "deliver")
        elif session.history.can_undo and len(session.graph.nodes) > 25:
            session.undo()
        # One letter per state, so that the parent can tell which of them it finds.
        say(done=what, steps=len(session.history.graphs), cards=sorted(session.graph.cards))


def look(folder, lines, killed, behind):
    """Open the job as the next window does; return what is wrong."""
    session = Session(folder)
    wrong = []
    done = [each for each in lines if "done" in each]
    faults = [each["fault"] for each in lines if "fault" in each]
    states = [sorted(graph.cards) for graph in session.history.graphs]
    # Kept at once, everything that was said to be done is there; kept behind, all but the last seconds.
    safe = [each for each in done if not behind or killed - each["at"] > 3.0]
    # What was undone and then left behind is rightly gone; something at least as new is there then.
    since = [each["cards"] for each in done[len(safe) - 1 :]] if safe else []
    if since and not any(cards in states for cards in since):
        wrong.append(f"lost: {safe[-1]}")
    for graph in session.history.graphs[-3:]:
        for card in graph.cards.values():
            if card.digest:
                session.store.get(card.digest).coordinates()
    for node in session.graph.nodes.values():
        if node.role is Role.MADE:
            session.shown_words(node.outputs[0].card)
    sweep(folder.parent)
    left = [path.name for path in folder.parent.glob("*.part*")]
    return wrong + faults + [f"left over: {name}" for name in left]


def main(place, number, seed):
    folder = place / "job"
    files = []
    for k in range(3):
        rows = [f"{431000 + 10 * x},{887000 + 10 * y},{200 + x * 0.5 + k}" for x in range(12) for y in range(12)]
        files.append(place / f"day{k}.csv")
        files[-1].write_text("E [m],N [m],Z [m]\n" + "\n".join(rows) + "\n")
    draw = random.Random(seed)
    killed_in = dict.fromkeys(WORK, 0)
    wrong = []
    for k in range(number):
        if k % 50 == 0:
            # A new job now and then: a long history is slow to look through.
            shutil.rmtree(folder, ignore_errors=True)
        behind = k % 4 == 3
        reading, writing = os.pipe()
        child = os.fork()
        if child == 0:
            os.close(reading)
            try:
                life(folder, files, seed * 1000 + k, writing, behind)
            except BaseException as error:  # noqa: BLE001 - the parent tells of it
                os.write(writing, (json.dumps({"fault": repr(error), "at": time.time()}) + "\n").encode())
            os._exit(1)
        os.close(writing)
        time.sleep(draw.uniform(0.01, 0.4) if k % 40 != 3 else draw.uniform(3.3, 3.8))
        os.kill(child, signal.SIGKILL)
        killed = time.time()
        os.waitpid(child, 0)
        with os.fdopen(reading) as file:
            lines = [json.loads(line) for line in file.read().splitlines()]
        begun = [each["begun"] for each in lines if "begun" in each]
        if begun and (len(begun) > sum("done" in each for each in lines)):
            killed_in[begun[-1]] += 1
        try:
            found = look(folder, lines, killed, behind) if (folder / "job.json").exists() else []
        except Exception as error:  # noqa: BLE001 - the test shows it
            found = [repr(error)]
        wrong += [f"life {k}: {each}" for each in found]
    print(json.dumps({"kills": number, "in": killed_in, "wrong": wrong[:20]}))  # noqa: T201


if __name__ == "__main__":
    main(Path(sys.argv[1]), int(sys.argv[2]), int(sys.argv[3]))
