"""The demo's five planted faults: cured from the window, kept when a file is replaced; and cured on the command line."""

import json

import numpy as np
import pytest

from hands import looked
from vastgrid.lineage.graph import State

# Where the faults lie, by what their findings say: card, words.
FAULTS = {
    "feet": ("Day 4, tip", "look like international foot"),
    "spike": ("Day 2", "A spike"),
    "crossing": ("Existing ground", "Breaklines cross"),
    "bay": ("Existing ground", "across a bay"),
    "twice": ("Day 1", "One place has two heights"),
}


@pytest.fixture
def window(demo_window):
    return demo_window


def open_warnings(window):
    """Findings that ask for something, in words, with their cards."""
    return [
        (window.session.graph[each.node].name, each.finding.text)
        for each in window.session.noticed()
        if each.finding.severity.value != "note"
    ]


def has(window, fault):
    card, words = FAULTS[fault]
    return any(name.startswith(card) and words in text for name, text in open_warnings(window))


def test_all_five_are_cured_and_a_new_file_keeps_every_cure(qtbot, window, demo, tmp_path):
    # Without the scan the same ground is made a hundred times faster.
    ground = next(card for card in window.session.graph.cards.values() if card.name == "Existing ground")
    scan = next(card for card in window.session.graph.cards.values() if card.name.startswith("Pit scan"))
    window.session.switch(ground.id, scan.id, on=False)
    window.parts.making.remake_all()
    looked(qtbot, window)
    for fault, (card, words) in FAULTS.items():
        assert has(window, fault)
        window.parts.checking.show_findings()
        dialog = window.parts.checking.dialog
        texts = [dialog.list.item(k).text() for k in range(dialog.list.count())]
        dialog.list.setCurrentRow(next(k for k, text in enumerate(texts) if card in text and words in text))
        dialog.mend.click()
        looked(qtbot, window)
        window.parts.making.remake_all()
        looked(qtbot, window)
        assert not has(window, fault), fault
    graph = window.session.graph
    names = [node.name for node in graph.cards.values()]
    assert "Day 1, cleaned" in names and "Day 2, cleaned" in names
    ground = next(card for card in graph.cards.values() if card.name == "Existing ground")
    used = {graph[card].name for card in ground.inputs}
    assert {"Day 1, cleaned", "Day 2, cleaned"} <= used, "the ground is made of what was cleaned"
    assert not any("A spike" in text for name, text in open_warnings(window) if name == "Existing ground")
    window.lineage.select([ground.id])
    window.actions_["keep_rim"].trigger()
    looked(qtbot, window)
    # The day is surveyed anew: all heights a little otherwise, and the tip twice as often.
    rows = (demo / "received" / "day1.csv").read_text().splitlines()
    newer = [rows[0]]
    for row in rows[1:]:
        point, east, north, z, code = row.split(",")
        newer.append(f"{point},{east},{north},{float(z) + 0.02:.3f},{code}")
    path = tmp_path / "day1-again.csv"
    path.write_text("\n".join(newer) + "\n")
    before = window.session.dataset(ground.id)
    source = next(card.id for card in graph.cards.values() if card.name.startswith("Day 1") and not card.inputs)
    window.parts.sourcing.replace(source, path)
    looked(qtbot, window)
    window.parts.making.remake_all()
    looked(qtbot, window)
    for fault in FAULTS:
        assert not has(window, fault), fault
    after = window.session.dataset(ground.id)
    assert window.session.graph.state(ground.id) is State.MADE and after.content != before.content
    raised = after.vertices[:, 2].mean() - before.vertices[:, 2].mean()
    assert 0.0 < raised < 0.02, "some of the ground is from the newer file"
    assert np.abs(np.ptp(after.vertices[:, :2], axis=0) - np.ptp(before.vertices[:, :2], axis=0)).max() < 1e-6
    assert all(window.session.graph.state(card) is State.MADE for card in window.session.graph.cards)


def test_the_same_chain_runs_on_the_command_line(demo, tmp_path, run_cli):
    received = demo / "received"
    files = [received / name for name in ("day1.csv", "day2.txt", "edges.dxf")]
    target = tmp_path / "ground.xml"
    lines = (received / "day2.txt").read_text().splitlines()[2:]
    places = np.array([[float(word) for word in line.split("\t")[:2]] for line in lines])
    local = places[:, ::-1] - (431_000.0, 887_000.0)
    north, east = places[np.hypot(local[:, 0] - 596.0, local[:, 1] - 186.0).argmin()]
    log = tmp_path / "edits.txt"
    log.write_text(f"# the wrong rod height of the second day\nremove {east:.3f},{north:.3f}\n")
    code, out, err = run_cli(
        "convert", *files, target, "--via", "tin", "boundary=SITE_LIMIT", "crossings=last", "heights=last", "max_edge=28m",
        "--via", "edit", f"log={log}", "--inspect", "--json",
    )  # fmt: skip
    assert code == 0, err
    steps = json.loads(out)["steps"]
    edit = next(step for step in steps if "by hand" in step["sentence"] or "1 edit" in step["sentence"])
    assert edit["figures"]["replayed"] == 1 and edit["figures"]["not_replayed"] == 0
    warned = [
        each["text"]
        for step in steps
        for each in step["findings"]
        if each["severity"] != "note" and "Day" not in step["sentence"]
    ]
    assert not any("A spike" in text and "height 251" in text for text in warned if "point" not in text)
    assert not any("Breaklines cross" in text or "across a bay" in text for text in warned)
    code, out, err = run_cli(
        "convert", received / "day4-tip.csv", tmp_path / "tip.csv", "--from-vertical-units", f"{received / 'day4-tip.csv'}=ft",
        "--override-units", "--vertical-units", "m",
    )  # fmt: skip
    assert code == 0, err
