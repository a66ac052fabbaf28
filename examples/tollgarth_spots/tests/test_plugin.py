"""The plug-in keeps the contract, and does what it says."""

from pathlib import Path

import pytest
import vastgrid as vg
from tollgarth_spots.water import CONVERSION

from vastgrid.plugin import Inputs, Length, PointSet, count
from vastgrid.plugin.check import check


def test_the_contract():
    looked = check(str(Path(__file__).parents[1]))
    assert not [each.line() for each in looked if each.wrong]


def test_water_lifts_what_lies_below():
    points = PointSet(name="points", xyz=[[0, 0, 1], [1, 0, 5]])
    params = CONVERSION.params(Length(3.0))

    class Silent:
        def report(self, share, text=""):
            """Nobody listens."""

    made = CONVERSION.run(Inputs.of_pairs([("points", points)]), params, Silent())
    assert made.dataset.xyz[:, 2].tolist() == [3.0, 5.0] and count(1, "point") in made.findings[0].text


def test_a_damaged_file_is_told(tmp_path):
    path = tmp_path / "a.tollgarth_spots"
    path.write_text("tollgarth_spots 1\n1 2 x\n")
    from tollgarth_spots.spots import FORMAT

    with pytest.raises(vg.FormatError, match="line 2"):
        FORMAT.read(path, FORMAT.read_params(), None)
