"""Finding, mending and accepting what is wrong with the demo's ground, as a newcomer would: from the list alone."""

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFileDialog, QInputDialog

from hands import looked, on_page
from vastgrid.demo import ground
from vastgrid.jobs.session import Session


@pytest.fixture
def window(demo_window):
    return demo_window


def listed(window):
    window.parts.checking.show_findings()
    dialog = window.parts.checking.dialog
    return dialog, [dialog.list.item(k).text() for k in range(dialog.list.count())]


def choose(window, words):
    dialog, texts = listed(window)
    at = next(k for k, text in enumerate(texts) if all(word in text for word in words))
    dialog.list.setCurrentRow(at)
    return dialog


PLANTED = {
    "feet": ("Day 4, tip", "look like international foot"),
    "spike": ("Existing ground", "A spike"),
    "crossing": ("Edges", "HAUL_ROAD and CULVERT cross"),
    "bay": ("Existing ground", "across a bay"),
    "twice": ("Day 1", "One place has two heights"),
}


@pytest.mark.parametrize("fault", PLANTED)
def test_every_planted_fault_is_found_and_leads_to_its_place(qtbot, window, fault):
    dialog = choose(window, PLANTED[fault])
    dialog.list.itemActivated.emit(dialog.list.currentItem())
    east, north = window.plan.mark
    x, y = east - ground.ORIGIN[0], north - ground.ORIGIN[1]
    near = {
        "feet": lambda: np.hypot(x - ground.TIP[0], y - ground.TIP[1]) < 80,
        "spike": lambda: np.hypot(x - 596, y - 186) < 8,
        "crossing": lambda: 505 < x < 530 and 98 < y < 165,
        "bay": lambda: np.hypot(x - ground.BAY[0], y - ground.BAY[1]) < ground.BAY[2],
        "twice": lambda: np.hypot(x - 38, y - 205) < 8,
    }
    assert near[fault]()
    name = PLANTED[fault][0]
    assert [window.session.graph[n].name for n in window.lineage.selection] == [name]
    assert window.session.graph[window.lineage.selection[0]].shown, "what a finding is about is shown"


def test_few_things_are_told_besides_the_planted_ones(window):
    _, texts = listed(window)
    other = [text for text in texts if not any(all(w in text for w in words) for words in PLANTED.values())]
    # Four of them are what the two answers have to say: ground missing, points outside, blunders.
    answers = [
        text for text in other if text.split(":")[0].lstrip("! ") in ("Cut and fill", "Ground against check shots")
    ]
    assert len(other) - len(answers) <= 10, other


def test_feet_are_mended_and_the_finding_goes_away(qtbot, window):
    dialog = choose(window, PLANTED["feet"])
    assert dialog.mend.isVisible() and dialog.mend.text() == "Read its heights as international foot"
    dialog.mend.click()
    looked(qtbot, window)
    node = next(n for n in window.session.graph.cards.values() if n.name == "Day 4, tip")
    data = window.session.dataset(node.id)
    local = data.xyz - (*ground.ORIGIN, 0.0)
    assert np.abs(data.xyz[:, 2] - ground.height(local[:, 0], local[:, 1])).max() < 0.06, (
        "brought into the job's metres"
    )
    assert not any("look like international foot" in text for text in listed(window)[1])
    window.parts.making.take_back()
    looked(qtbot, window)
    assert any("international foot" in text for text in listed(window)[1])


def test_a_remedy_changes_the_sentence(qtbot, window):
    dialog = choose(window, PLANTED["bay"])
    assert dialog.mend.text().startswith("Leave out edges longer than")
    dialog.mend.click()
    looked(qtbot, window)
    # Where making it took long the last time, as on a busy machine, it waits until it is asked for.
    stale = [c.id for c in window.session.graph.cards.values() if c.name == "Existing ground"]
    if window.session.stale(window.session.graph, stale):
        window.parts.making.remake(stale)
    looked(qtbot, window)
    node = next(n for n in window.session.graph.cards.values() if n.name == "Existing ground")
    assert node.words["max_edge"] != "60m"
    assert not any("across a bay" in text for text in listed(window)[1])


def test_a_finding_is_accepted_with_a_note_that_goes_into_the_report(qtbot, window, monkeypatch, tmp_path):
    before = window.status.findings.text()
    dialog = choose(window, PLANTED["spike"])
    monkeypatch.setattr(QInputDialog, "getText", lambda *a: ("It is the gate's  pillar.", True))
    dialog.accept_.click()
    assert int(window.status.findings.text().split()[0]) == int(before.split()[0]) - 1
    dialog.all.setChecked(True)
    dialog = choose(window, (*PLANTED["spike"], "It is the gate's pillar."))
    target = tmp_path / "report.md"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a: (str(target), ""))
    window.lineage.select([next(n.id for n in window.session.graph.cards.values() if n.name == "existing-ground.xml")])
    window.panel.report_wanted.emit(window.lineage.selection[0])
    text = target.read_text()
    assert "Accepted: It is the gate's pillar." in text
    assert "TIN from Day 1, Day 2" in text and "across a bay" in text and "read back" in text
    assert "Day 4" not in text, "what did not lead to the delivery is not in its report"
    dialog = choose(window, (*PLANTED["spike"], "pillar"))
    dialog.reopen.click()
    assert window.status.findings.text() == before


def test_thresholds_are_seen_and_changed(qtbot, window):
    dialog, _ = listed(window)
    dialog.limits.click()
    assert dialog.thresholds.isVisible()
    assert set(dialog.forms) >= {"spikes", "long-triangles", "wrong-unit"}
    dialog.forms["spikes"].editors["height"].setText("12")
    looked(qtbot, window)
    assert not any("A spike" in text for text in listed(window)[1])
    dialog.forms["spikes"].editors["height"].setText("nonsense")
    assert dialog.forms["spikes"].error.isVisible(), "what cannot be is said beside it and changes nothing"
    window.session.keeper.flush()
    again = Session(window.session.folder)
    from vastgrid import catalog

    assert again.inspection.words(catalog.check_named("spikes"))["height"] == "12.0", "kept with the job"


def test_the_panel_tells_a_cards_findings_with_their_remedies(qtbot, window):
    node = next(n.id for n in window.session.graph.cards.values() if n.name == "Day 4, tip")
    window.lineage.select([node])
    from vastgrid.qt.panel.findings_part import FindingsPart

    part = on_page(window.panel, FindingsPart)[0]
    words = " ".join(label.text() for label in part.findChildren(type(window.status.readout)))
    assert part.told == "1 open" and "Read its heights as international foot" in words
    window.parts.inspecting.mend(node, window.session.noticed([node])[0].finding.remedy)
    looked(qtbot, window)
    assert not any(each.open for each in window.session.noticed([node]))


def test_findings_are_not_looked_for_twice(qtbot, window):
    known = dict(window.session.settings["noticed"])
    window.refresh()
    assert not window.parts.inspecting.busy
    assert window.session.settings["noticed"] == known
    qtbot.keyClick(window.plan, Qt.Key.Key_F)


def test_every_cards_panel_fits_its_width(qtbot, window):
    """There is no sideways scrolling in the panel, so what is wider is cut off."""
    scroll = window.panel._scroll
    for node in [*window.session.graph.cards, ""]:
        window.lineage.select([node] if node else list(window.session.graph.cards)[:2])
        qtbot.wait(20)
        name = window.session.graph[node].name if node else "two cards"
        assert scroll.widget().minimumSizeHint().width() <= scroll.viewport().width(), name
        if node and not window.panel._more:
            window.panel._toggle_more()
            qtbot.wait(20)
            assert scroll.widget().minimumSizeHint().width() <= scroll.viewport().width(), f"{name} with all options"
            window.panel._toggle_more()
