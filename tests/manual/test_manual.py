"""The manual: every page there, every link whole, every finding and error led to its page, shells told the truth."""

from __future__ import annotations

import re
import shutil
import subprocess
from html.parser import HTMLParser
from pathlib import Path

import pytest

from vastgrid import catalog
from vastgrid.base.errors import CallError, FormatError, VastGridError
from vastgrid.manual.pages import TASKS, found, of_error, of_finding, page, pages
from vastgrid.manual.site import anchor, write_site

SOURCE = Path(__file__).parents[2] / "src"


def codes():
    """Return every code of a finding that the source has as a word."""
    some = set()
    # What a new plug-in is made of says its own words.
    for path in set(SOURCE.rglob("*.py")) - set(SOURCE.rglob("plugin/template.py")):
        some |= set(re.findall(r'(?:Finding|note|left_out|undecided)\(\s*"([a-z0-9-]+)"', path.read_text()))
    # Some stand in tables beside what they say.
    some |= set(re.findall(r'\("\w+", "([a-z]+-breaklines)"', (SOURCE / "vastgrid/terrain/tin/meeting.py").read_text()))
    return sorted(some)


def test_every_finding_has_its_place_in_the_manual():
    text = page("findings").text
    heads = set(re.findall(r"^### (.+)$", text, re.MULTILINE))
    assert [code for code in codes() if code not in heads] == []
    assert len(codes()) > 200
    # Each says more than its name.
    for head in heads:
        body = text.split(f"### {head}\n")[1].split("\n#")[0].strip()
        assert len(body) > 12, head
    for each in catalog.CHECKS:
        assert page(of_finding(each.id)).slug == f"check-{each.id}"


def test_there_is_a_page_for_each_conversion_format_check_and_task():
    slugs = [each.slug for each in pages()]
    assert len(set(slugs)) == len(slugs)
    assert {f"conversion-{each.id}" for each in catalog.CONVERSIONS} <= set(slugs)
    assert {f"format-{each.id}" for each in catalog.FORMATS} <= set(slugs)
    assert slugs[: len(TASKS)] == list(TASKS)
    own = page("contours")
    from vastgrid.params.declare import fields

    for field in fields(catalog.conversion_named("contours").params):
        assert f"`{field.name}`" in own.text
        assert field.param.help.split("|")[0] in own.text


class Links(HTMLParser):
    def __init__(self):
        super().__init__()
        self.wanted, self.there = [], set()

    def handle_starttag(self, tag, attrs):
        own = dict(attrs)
        if tag == "a" and "href" in own:
            self.wanted.append(own["href"])
        if own.get("id"):
            self.there.add(own["id"])


def test_every_link_leads_somewhere(tmp_path):
    assert write_site(tmp_path) == len(pages())
    read = {}
    for path in tmp_path.glob("*.html"):
        read[path.name] = Links()
        read[path.name].feed(path.read_text())
    for name, links in read.items():
        for href in links.wanted:
            assert not href.startswith("http"), "the manual needs no network"
            target, _, place = href.partition("#")
            assert (target or name) in read, f"{name}: {href}"
            if place:
                assert place in read[target or name].there, f"{name}: {href}"


QUESTIONS = [
    ("feet survey", "unit-ambiguous"),
    ("long thin triangles", "max edge"),
    ("contour interval", "compare output formats"),
    ("larger memory folder", "--tiles"),
    ("failed read back", "failed"),
    ("crash report", "never sent"),
    ("cut fill swell", "swell"),
    ("check points accuracy NSSDA", "NSSDA"),
    ("recipe month", "slot"),
    ("breaklines DXF boundary", "breakline"),
]


@pytest.mark.parametrize(("words", "answer"), QUESTIONS)
def test_ten_questions_of_practice_are_answered_by_a_search(words, answer):
    assert any(answer.lower() in each.text.lower() for each in found(words)[:4])


def test_errors_lead_to_the_page_of_where_they_came_from(tmp_path, run_cli, monkeypatch):
    import sys

    monkeypatch.setattr(type(sys.stderr), "isatty", lambda self: True, raising=False)
    bad = tmp_path / "bad.las"
    bad.write_bytes(b"LASF" + bytes(50))
    code, _, said = run_cli("info", bad)
    assert code == 1
    assert "more: vastgrid manual format-las" in said
    code, _, said = run_cli("convert", bad, tmp_path / "x.nothing")
    assert "more: vastgrid manual by-command" in said
    with pytest.raises(VastGridError) as caught:
        catalog.recognise(tmp_path / "gone")
    assert page(of_error(caught.value)) is not None
    for error in (CallError("x"), FormatError("a", "b")):
        assert page(of_error(error)) is not None


def test_pages_are_printed_and_searched(run_cli):
    assert "# Contours" in run_cli("manual", "contours")[1]
    assert run_cli("manual", "unit-unknown")[1].startswith("### unit-unknown")
    assert "conversion-hillshade" in run_cli("manual")[1]
    assert "conversion-hillshade" in run_cli("manual", "--search", "hillshade light")[1]
    code, _, said = run_cli("manual", "no-such-page")
    assert code == 2
    assert "--search" in said
    assert run_cli("manual", "--search", "xyzzyplugh")[0] == 1


def test_keys_of_the_manual_are_those_of_the_window():
    text = (SOURCE / "vastgrid/qt/window/actions.py").read_text()
    own = set(re.findall(r'"((?:Ctrl\+(?:Shift\+)?.|F\d))"', text))
    assert own
    told = page("keys").text
    assert [key for key in sorted(own) if key not in told] == []


def test_anchors_are_plain():
    assert anchor("What `it` holds, and *why*") == "what-it-holds-and-why"


@pytest.mark.skipif(not shutil.which("bash"), reason="no bash")
@pytest.mark.parametrize(
    ("words", "wanted"),
    [
        (["vastgrid", "conv"], ["convert", "conversions"]),
        (["vastgrid", "convert", "--ti"], ["--tiles"]),
        (["vastgrid", "convert", "a", "--via", "hill"], ["hillshade"]),
        (["vastgrid", "convert", "a", "--via", "contours", "inter"], ["interval="]),
        (["vastgrid", "completion", "fi"], []),
    ],
)
def test_bash_completes(run_cli, words, wanted):
    script = run_cli("completion", "bash")[1]
    line = " ".join(f"'{word}'" for word in words)
    code = (
        f"{script}\nCOMP_WORDS=({line}); COMP_CWORD={len(words) - 1}; _vastgrid; printf '%s\\n' \"${{COMPREPLY[@]}}\""
    )
    said = subprocess.run(["bash", "-c", code], capture_output=True, text=True, check=True, cwd="/").stdout.split()
    assert set(wanted) <= set(said)


def test_zsh_and_fish_are_told_every_command_and_conversion(run_cli):
    from vastgrid.cli.shells import commands

    for shell in ("zsh", "fish"):
        said = run_cli("completion", shell)[1]
        assert all(each.name in said for each in commands())
        assert all(each.id in said for each in catalog.CONVERSIONS)
    if shutil.which("zsh"):
        subprocess.run(["zsh", "-n"], input=run_cli("completion", "zsh")[1], text=True, check=True)


def test_the_manual_page_is_good_roff(run_cli):
    said = run_cli("man")[1]
    assert said.startswith(".TH VASTGRID 1")
    assert all(f".B {each.id.replace('-', chr(92) + '-')}" in said for each in catalog.CONVERSIONS)
    if shutil.which("man"):
        done = subprocess.run(["man", "--warnings", "-l", "-"], input=said, capture_output=True, text=True, check=False)
        assert done.returncode == 0
        assert "warning" not in done.stderr
