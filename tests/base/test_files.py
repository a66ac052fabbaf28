"""Files and folders: what is there is refused by name, what cannot be made is said, text of attributes."""

import pytest

from vastgrid.base.errors import CallError, WriteError
from vastgrid.base.files import make_folder, refuse_clashes, refuse_present
from vastgrid.base.words import plain


def test_files_that_are_there_are_refused_with_what_comes_beside_them(tmp_path):
    refuse_present([tmp_path / "a.xml", tmp_path / "b.shp"], tmp_path)
    (tmp_path / "b.dbf").write_text("mine")
    with pytest.raises(CallError, match=r"b\.dbf is in .* already; --replace writes over"):
        refuse_present([tmp_path / "a.xml", tmp_path / "b.shp"], tmp_path)
    (tmp_path / "a.xml").write_text("mine")
    with pytest.raises(CallError, match=r"a\.xml, b\.dbf are in"):
        refuse_present([tmp_path / "a.xml", tmp_path / "b.shp"], tmp_path)
    assert (tmp_path / "a.xml").read_text() == "mine"


def test_a_folder_that_cannot_be_made_is_said(tmp_path):
    make_folder(tmp_path / "a" / "b")
    make_folder(tmp_path / "a" / "b")
    assert (tmp_path / "a" / "b").is_dir()
    (tmp_path / "file").write_text("x")
    with pytest.raises(WriteError, match="cannot be made: "):
        make_folder(tmp_path / "file" / "c")


def test_a_result_never_goes_over_what_it_is_made_from_by_whatever_name(tmp_path):
    (tmp_path / "a.csv").write_text("1,2,3")
    (tmp_path / "folder").mkdir()
    (tmp_path / "link.csv").symlink_to(tmp_path / "a.csv")
    for target in (tmp_path / "a.csv", tmp_path / "folder" / ".." / "a.csv", tmp_path / "link.csv"):
        with pytest.raises(CallError):
            refuse_clashes([tmp_path / "a.csv"], {"the result": target})
    refuse_clashes([tmp_path / "a.csv"], {"the result": tmp_path / "b.csv"})


def test_entries_of_attributes_become_text():
    assert plain("Höhe".encode()) == "Höhe"
    assert plain(b"\xff") == "\ufffd"
    assert plain(7) == "7"
    assert plain("x") == "x"
