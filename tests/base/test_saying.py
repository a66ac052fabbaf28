"""Words that messages are made of, errors of libraries said anew, and which files are one."""

import errno
import os
import zlib

import pytest

from vastgrid.base import files
from vastgrid.base.errors import CallError, DataError, FormatError, WriteError, library_faults, meaning
from vastgrid.base.files import companions, refuse_clashes, replacing, same_file
from vastgrid.base.findings import Finding, Remedy, count, counted, either


def inside(folder):
    return sorted(each.name for each in folder.iterdir())


@pytest.mark.parametrize(
    ("number", "one", "many"),
    [(0, "0 points", "0 vertices"), (1, "1 point", "1 vertex"), (2, "2 points", "2 vertices")],
)
def test_words_agree_with_their_number(number, one, many):
    assert count(number, "point") == one and counted(number, "vertices") == many
    assert either(number, "is", "are") == ("is" if number == 1 else "are")
    assert count(number, "boundary", "boundaries").endswith("boundary" if number == 1 else "boundaries")


def test_thousands_are_set_apart():
    assert count(1_234_567, "point").replace("\u202f", " ") == "1 234 567 points"


@pytest.mark.parametrize(
    ("error", "said"),
    [
        (OSError(errno.ENOSPC, os.strerror(errno.ENOSPC)), "the disk is full"),
        (EOFError("unexpected EOF, expected 12 more bytes"), "it ends too early"),
        (zlib.error("Error -3 while decompressing data: invalid block type"), "its packed data is damaged"),
        (UnicodeDecodeError("utf-8", b"\xff", 0, 1, "invalid start byte"), "its text is in no known encoding"),
        (RecursionError("maximum recursion depth exceeded"), "its parts contain each other"),
        (KeyError("AcDbObject"), "it is damaged, or not what its name says"),
        (AssertionError(), "it is damaged, or not what its name says"),
    ],
)
def test_errors_of_libraries_are_said_in_our_words(error, said):
    assert meaning(error).startswith(said)
    with (
        pytest.raises(FormatError, match="t.laz: reading it failed: " + said) as caught,
        library_faults("t.laz", "reading it"),
    ):
        raise error
    assert caught.value.__cause__ is error, "whoever looks for it finds the library's own words"


def test_our_own_errors_pass_libraries_by():
    with pytest.raises(DataError, match=r"^plain$"), library_faults("t.laz", "reading it"):
        raise DataError("plain")
    with pytest.raises(KeyboardInterrupt), library_faults("t.laz", "reading it"):
        raise KeyboardInterrupt
    with pytest.raises(FormatError, match="more memory than there is"), library_faults("t.laz", "reading it"):
        raise MemoryError


def test_findings_keep_their_remedy_through_a_saved_job():
    finding = Finding("a", "A text.", at=(1.0, 2.0), remedy=Remedy("words", "Do it", {"columns": "NEZ"}), drops=True)
    assert Finding.from_json(finding.to_json()) == finding
    assert Finding.from_json(Finding("b", "B.").to_json()) == Finding("b", "B.")


def test_one_file_by_many_names(tmp_path):
    (tmp_path / "a").write_text("x")
    (tmp_path / "link").symlink_to("a")
    (tmp_path / "sub").mkdir()
    os.link(tmp_path / "a", tmp_path / "hard")
    for other in ("a", "link", "hard", "sub/../a"):
        assert same_file(tmp_path / "a", tmp_path / other)
    (tmp_path / "b").write_text("x")
    assert not same_file(tmp_path / "a", tmp_path / "b"), "equal bytes are not one file"
    assert same_file(tmp_path / "new", tmp_path / "sub" / ".." / "new"), "neither is there yet"
    (tmp_path / "round").symlink_to("round")
    assert not same_file(tmp_path / "round", tmp_path / "a")


def test_parts_of_a_file(tmp_path):
    for name in ("c.shp", "c.dbf", "c.prj", "c.csv", "d.dbf", "c.shp.xml", "p.csv", "p.prj", "t.tif", "t.tfw", "t.xml"):
        (tmp_path / name).touch()
    assert {each.name for each in companions(tmp_path / "c.shp")} == {"c.dbf", "c.prj", "c.shp.xml"}
    assert {each.name for each in companions(tmp_path / "t.tif")} == {"t.tfw"}
    assert companions(tmp_path / "p.csv") == [] and companions(tmp_path / "none" / "x.shp") == []
    with pytest.raises(CallError, match=r"the result: .*c\.dbf is also a part of the input c\.shp"):
        refuse_clashes([tmp_path / "c.shp"], {"the result": tmp_path / "c.dbf"})
    refuse_clashes([tmp_path / "c.shp"], {"the result": tmp_path / "c.csv"})


def full(path):
    path.write_text("half")
    raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))


def test_a_fault_while_writing_leaves_what_was_there(tmp_path):
    target = tmp_path / "a.txt"
    target.write_text("before")
    with (
        pytest.raises(WriteError, match=r"disk is full.*What was there before is untouched"),
        replacing(target) as temporary,
    ):
        full(temporary)
    assert target.read_text() == "before" and inside(tmp_path) == ["a.txt"]
    with pytest.raises(ZeroDivisionError), replacing(target) as temporary:
        temporary.write_text(str(1 // 0))
    assert target.read_text() == "before" and inside(tmp_path) == ["a.txt"]


def test_whoever_is_ended_at_once_leaves_no_temporary_file(tmp_path):
    with files.beside(tmp_path / "a.tif") as (temporary, place):
        temporary.write_text("half")
        temporary.with_name(temporary.name + ".aux.xml").write_text("x")
        files.remove_unfinished()
        assert inside(tmp_path) == []
    with files.beside(tmp_path / "a.tif") as (temporary, place):
        temporary.write_text("whole")
        place(tmp_path / "other.tif")
    assert (tmp_path / "other.tif").read_text() == "whole" and inside(tmp_path) == ["other.tif"]


@pytest.mark.parametrize(
    ("path", "why"),
    [
        ("none/a.csv", "the folder does not exist"),
        ("file/a.csv", "a part of its path is a file"),
        ("x" * 300, "longer than"),
    ],
)
def test_places_that_cannot_be_written_are_said(tmp_path, path, why):
    (tmp_path / "file").touch()
    with pytest.raises(WriteError, match=why), replacing(tmp_path / path):
        pass
