"""What the window makes is what a script and the command line make, to the last bit."""

import vastgrid as vg
from hands import named, settle
from vastgrid.library.kinds import dataset_of


def test_contours_and_grid_of_the_window_are_those_of_a_script(qtbot, window, tmp_path, run_cli):
    ground = named(window, "Ground")
    made = {}
    for operation, words in (
        ("contours", {"interval": "0.5 m"}),
        ("grid", {"cell": "2 m"}),
        ("bands", {"interval": "3 m"}),
    ):
        window.parts.making.make(operation, [ground], words, asked=True)
        settle(qtbot, window)
        made[operation] = window.desk.session.named(window.desk.selection[0])
    with vg.open_job(window.desk.session.folder) as job:
        own = job["Ground"]
        assert dataset_of(own).content == window.desk.session.named(ground).content
    assert dataset_of(own.contours(interval="0.5 m")).content == made["contours"].content
    assert dataset_of(own.grid(cell=2.0)).content == made["grid"].content
    assert dataset_of(own.bands(interval=vg.Length(3, "m"))).content == made["bands"].content
    own.grid(cell="2 m").write(tmp_path / "script.tif")
    own.write(tmp_path / "ground.xml", decimals=9)
    assert run_cli("convert", tmp_path / "ground.xml", tmp_path / "command.tif", "--via", "grid", "cell=2m")[0] == 0
    one, other = vg.read(tmp_path / "script.tif"), vg.read(tmp_path / "command.tif")
    assert dataset_of(one).content == dataset_of(other).content
