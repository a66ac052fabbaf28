"""XML and archives from strangers, and arrays that live in files."""

import io
import zipfile

import numpy as np
import pytest

from vastgrid.base import disk_arrays as room
from vastgrid.base.disk_arrays import large_array, pieces, release
from vastgrid.base.errors import FormatError
from vastgrid.base.untrusted import DEEPEST, member_names, parse_xml, read_member
from vastgrid.data.pointset import PointSet
from vastgrid.lineage.store import Store


class Listener:
    def __init__(self):
        self.said = []

    def start(self, name, attributes):
        self.said.append((name, attributes))

    def end(self, name, text):
        self.said.append(text)


def parsed(text, path="a.xml"):
    listener = Listener()
    parse_xml(path, io.BytesIO(text if isinstance(text, bytes) else text.encode()), listener)
    return listener.said


def test_events_have_local_names_and_whole_texts():
    said = parsed('<x:a xmlns:x="u"><x:b k="1">one &amp; two</x:b></x:a>')
    assert said == [("a", {"xmlns:x": "u"}), ("b", {"k": "1"}), "one & two", ""]


@pytest.mark.parametrize(
    ("text", "why"),
    [
        ("<a><b></a>", "not well-formed"),
        ("", "not well-formed"),
        ("<a>" * (DEEPEST + 2), "nested more than"),
        ('<!DOCTYPE a SYSTEM "file:///etc/passwd"><a/>', "document type"),
        ('<?xml version="1.0"?><!DOCTYPE a [<!ENTITY b "c">]><a>&b;</a>', "document type"),
        (b'<?xml version="1.0" encoding="no-such"?><a/>', "in no known encoding|not well-formed"),
    ],
)
def test_what_is_refused(text, why):
    with pytest.raises(FormatError, match=why):
        parsed(text)


def test_a_billion_laughs(tmp_path):
    lines = ['<?xml version="1.0"?><!DOCTYPE l [<!ENTITY l0 "ha">']
    lines += [f'<!ENTITY l{k} "{f"&l{k - 1};" * 10}">' for k in range(1, 12)]
    with pytest.raises(FormatError, match="document type"):
        parsed("".join(lines) + "]><l>&l11;</l>")


def archive(path, **members):
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as file:
        for name, data in members.items():
            file.writestr(name.replace("_", "/"), data)
    return path


def test_members_are_read_in_memory_only(tmp_path):
    path = archive(tmp_path / "a.zip", one=b"1")
    with zipfile.ZipFile(path, "a") as file:
        file.writestr("../../outside", b"x")
    assert member_names(path) == ["one", "../../outside"]
    assert read_member(path, "../../outside") == b"x"
    assert [each.name for each in tmp_path.iterdir()] == ["a.zip"], "nothing is unpacked anywhere"
    assert not (tmp_path.parent.parent / "outside").exists()


def test_archives_that_are_none(tmp_path):
    (tmp_path / "a.zip").write_bytes(b"PK\3\4 and no more")
    assert member_names(tmp_path / "a.zip") == []
    with pytest.raises(FormatError, match="the archive is damaged"):
        read_member(tmp_path / "a.zip", "one")
    path = archive(tmp_path / "b.zip", bomb=b"\0" * 50_000_000)
    with pytest.raises(FormatError, match="would swell to"):
        read_member(path, "bomb")
    data = bytearray(archive(tmp_path / "c.zip", one=b"hello" * 200).read_bytes())
    data[40] ^= 255
    (tmp_path / "c.zip").write_bytes(data)
    with pytest.raises(FormatError):
        read_member(tmp_path / "c.zip", "one")


# ------------------------------------------------------------------------------------------------ arrays in files


@pytest.fixture
def small(monkeypatch, tmp_path):
    monkeypatch.setattr(room, "LARGE", 10_000)
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    return tmp_path


def test_a_large_array_keeps_its_content_when_memory_is_let_go(small):
    array = large_array((5000, 3), np.float64)
    assert (array == 0).all()
    array[:] = np.arange(15_000.0).reshape(-1, 3)
    release(array)
    assert array[4999].tolist() == [14_997.0, 14_998.0, 14_999.0]
    release(array[10:20])
    assert array.sum() == np.arange(15_000.0).sum()
    assert not list((small / "cache" / "vastgrid").iterdir()), "its file is seen by nobody"


def test_a_large_array_filled_with_what_is_missing(small):
    assert np.isnan(large_array((3000, 2), np.float64, np.nan)).all()
    assert np.isnan(large_array((3, 2), np.float64, np.nan)).all()


def test_pieces_are_the_whole(small):
    array = np.arange(10_001.0)
    parts = list(pieces(array, 4096))
    assert len(parts) == 20 and np.concatenate(parts).tolist() == array.tolist()
    assert [len(part) for part in pieces(np.zeros(0))] == [0]


def test_digest_and_store_do_not_care_where_an_array_lives(small):
    xyz = np.random.default_rng(1).random((4000, 3)) * 1e6
    there = large_array(xyz.shape, np.float64)
    there[:] = xyz
    one, other = PointSet(name="a", xyz=xyz), PointSet(name="a", xyz=there)
    assert one.digest == other.digest and one.extent() == other.extent()
    store = Store(small / "job")
    digest = store.put(other)
    assert digest == one.digest
    store.forget_open()
    back = store.get(digest)
    np.testing.assert_array_equal(back.xyz, xyz)
    assert back.renamed("b").content == one.content, "no array is read again for another name"
    assert back.renamed("b").digest != one.digest and back.digest == one.digest


def test_scaled_points_are_the_same_wherever_they_live(small):
    xyz = np.random.default_rng(1).random((4000, 3)) * 1e6
    points = PointSet(name="a", xyz=xyz)
    moved = points.with_coordinates(0.3048, 2.0, points.frame)
    np.testing.assert_array_equal(moved.xyz, xyz * (0.3048, 0.3048, 2.0))
    assert moved.content != points.content and moved.extent() != points.extent()
