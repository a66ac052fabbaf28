"""A delivery of several files: checked file by file, and there as a whole or not at all."""

import dataclasses

import pytest

from builders import ground
from vastgrid import catalog
from vastgrid.base import files
from vastgrid.base.errors import CallError, WriteError
from vastgrid.base.progress import Silent
from vastgrid.declarations.fileformat import PlannedFile
from vastgrid.delivery.deliver import deliver
from vastgrid.lineage.delivered import Delivery

LANDXML = catalog.format_named("landxml")


def each_its_own(datasets, stem, params):
    return tuple(PlannedFile(f"{stem}-{each.name}.xml", (each,)) for each in datasets)


SET = dataclasses.replace(LANDXML, plan=each_its_own)


@pytest.fixture
def two():
    return [ground(80).renamed("A"), ground(90, seed=4).renamed("B")]


def test_every_file_is_written_read_back_and_named(two, tmp_path):
    made = deliver(two, tmp_path / "site.xml", SET, SET.write_params(), Silent())
    assert made.good and made.files == ("site-A.xml", "site-B.xml")
    assert sorted(each.name for each in tmp_path.iterdir()) == ["site-A.xml", "site-B.xml"]
    assert any(check.what.startswith("site-A.xml: ") for check in made.checks)
    assert made.sentence().startswith("site-A.xml and site-B.xml: ") and made.vertical < 1e-4
    assert made.size == sum(each.stat().st_size for each in tmp_path.iterdir())
    assert Delivery.from_json(made.to_json()) == made
    umask = files._umask()
    assert all(each.stat().st_mode & 0o777 == 0o666 & ~umask for each in tmp_path.iterdir())


def test_a_set_that_fails_leaves_everything_as_it_was(two, tmp_path):
    (tmp_path / "site-A.xml").write_text("precious")
    (tmp_path / "site-B.xml").mkdir()
    with pytest.raises(WriteError, match="untouched"):
        deliver(two, tmp_path / "site.xml", SET, SET.write_params(), Silent())
    assert (tmp_path / "site-A.xml").read_text() == "precious"
    assert sorted(each.name for each in tmp_path.iterdir()) == ["site-A.xml", "site-B.xml"]


def test_one_bad_file_keeps_the_whole_set_from_its_names(two, tmp_path):
    def lying(path, params, progress):
        result = LANDXML.read(path, params, progress)
        if "B" not in path.name:
            return result
        (tin,) = result.datasets
        short = dataclasses.replace(tin, triangles=tin.triangles[:-1], neighbours=None, constrained=None)
        return dataclasses.replace(result, datasets=(short,))

    target = dataclasses.replace(SET, read=lying)
    made = deliver(two, tmp_path / "site.xml", target, target.write_params(), Silent())
    assert not made.good
    assert sorted(each.name for each in tmp_path.iterdir()) == ["site-A.failed.xml", "site-B.failed.xml"]
    assert any(finding.code == "not-verified" for finding in made.findings)


def test_names_that_clash_and_files_that_must_not_be_written_over_are_refused(two, tmp_path):
    same = dataclasses.replace(LANDXML, plan=lambda sent, stem, params: tuple(PlannedFile("x.xml", (d,)) for d in sent))
    with pytest.raises(CallError, match="2 files under 1 names"):
        deliver(two, tmp_path / "site.xml", same, same.write_params(), Silent())

    def refuse(path):
        if path.name == "site-B.xml":
            raise CallError("that is an input")

    with pytest.raises(CallError, match="that is an input"):
        deliver(two, tmp_path / "site.xml", SET, SET.write_params(), Silent(), refuse=refuse)
    assert list(tmp_path.iterdir()) == []
