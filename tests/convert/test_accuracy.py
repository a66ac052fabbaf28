"""Check points against a surface, by the worked example of a published standard."""

import dataclasses

import numpy as np
import pytest

from builders import METRES, ORIGIN, scattered
from earth import FLAT, made
from vastgrid.base.errors import CallError, DataError
from vastgrid.data.pointset import PointSet
from vastgrid.measures.accuracy import accuracy_of, blunders

# ASPRS Positional Accuracy Standards for Digital Geospatial Data, edition 1 (2014), annex D, table D.1: measured and surveyed
# elevations of five check points. From memory; that they give the published results is what the test shows.
MEASURED = np.array([477.127, 412.406, 487.292, 393.591, 451.305])
SURVEYED = np.array([477.198, 412.396, 487.190, 393.691, 451.218])


def test_the_worked_example_of_the_standard():
    own = accuracy_of(MEASURED - SURVEYED)
    assert own.mean == pytest.approx(0.006, abs=0.0005)
    assert own.std == pytest.approx(0.091, abs=0.0005)
    assert own.rmse == pytest.approx(0.081, abs=0.0005)
    # “Vertical accuracy at 95 % confidence level (NSSDA, ACCz) = RMSEz × 1.96 = 0.160 m”.
    assert own.nssda_95 == pytest.approx(0.160, abs=0.0005)
    # Edition 2 (2023/2024) adds the error of the check survey in quadrature.
    assert own.with_survey(0.03) == pytest.approx(np.hypot(own.rmse, 0.03))


def checks(residuals, **attributes):
    """Points that lie below the plane of 200 m by so much: residuals are surface minus check point."""
    count = len(residuals)
    xy = np.random.default_rng(4).uniform(5.0, 95.0, (count, 2)) + ORIGIN
    return PointSet(
        name="checks", frame=METRES, xyz=np.column_stack((xy, 200.0 - np.asarray(residuals))), attributes=attributes
    )


def asked(points, **words):
    return made("accuracy", [("surface", FLAT), ("points", points)], **words)


def test_figures_are_those_of_the_residuals():
    residuals = MEASURED - SURVEYED
    result = asked(checks(residuals, point=np.array([b"GCP1", b"GCP2", b"GCP3", b"GCP4", b"GCP5"])))
    own = result.figures["accuracy"]
    assert own["rmse"] == pytest.approx(0.08138, abs=1e-5)
    assert own["std"] == pytest.approx(np.std(residuals, ddof=1))
    assert own["max"] == pytest.approx(0.102)
    assert result.more["residuals"].attributes["point"].tolist() == [b"GCP1", b"GCP2", b"GCP3", b"GCP4", b"GCP5"]
    assert "residuals" not in own, "thousands of them would be written with every change of a job"
    told = {finding.code: finding.text for finding in result.findings}
    assert "tested 0.160 m vertical accuracy at 95 % confidence level" in told["accuracy"]
    assert "too few for both" in told["few-points"]
    residual = result.more["residuals"].attributes["residual"]
    np.testing.assert_allclose(residual, residuals, atol=1e-9)
    assert result.more["histogram"].columns["points"].sum() == 5


def test_points_outside_are_counted_and_count_for_nothing():
    points = checks(np.full(40, 0.02))
    moved = points.xyz.copy()
    moved[:3, 0] += 1000.0
    result = asked(dataclasses.replace(points, xyz=moved))
    own = result.figures["accuracy"]
    assert (own["count"], own["outside"]) == (37, 3)
    assert any(finding.code == "outside" and "3 points" in finding.text for finding in result.findings)
    # All too high by the same: the standards' factor does not hold for a bias.
    assert any(finding.code == "biased" and "too high" in finding.text for finding in result.findings)
    with pytest.raises(DataError, match="none of the 40 points"):
        asked(dataclasses.replace(points, xyz=points.xyz + (1000.0, 0.0, 0.0)))


def test_split_by_an_attribute_and_blunders_by_a_stated_rule():
    rng = np.random.default_rng(2)
    residuals = np.concatenate((rng.normal(0, 0.02, 30), rng.normal(0.05, 0.05, 30)))
    residuals[7] = 0.9
    cover = np.array([b"open"] * 30 + [b"bush"] * 30)
    result = asked(checks(residuals, cover=cover), by="Cover", survey="0.01m")
    own = result.figures["accuracy"]
    assert own["groups"]["bush"]["rmse"] == pytest.approx(np.sqrt(np.mean(residuals[30:] ** 2)))
    assert own["groups"]["open"]["count"] == 30
    assert own["rmse_with_survey"] == pytest.approx(np.hypot(own["rmse"], 0.01))
    assert own["blunders"] >= 1
    worst = next(finding for finding in result.findings if finding.code == "blunder")
    assert "Point 8 is off by +0.900 m: more than 3 × 1.4826 × the median absolute deviation" in worst.text
    assert result.dataset.columns["group"].tolist() == [b"bush", b"open", b"all"]
    many = checks(np.zeros(300), time=np.arange(300.0))
    with pytest.raises(CallError, match="by=time: it has 300 values"):
        asked(many, by="time")
    with pytest.raises(CallError, match="there is cover"):
        asked(checks(residuals, cover=cover), by="soil")
    assert not blunders(np.zeros(10), 3.0, 1e-6).any()


def test_many_points_are_enough():
    own = asked(scattered(4000, size=(100.0, 100.0), height=lambda x, y: 0.0 * x + 200.0))
    assert any(finding.code == "enough-points" for finding in own.findings)
    assert own.figures["accuracy"]["rmse"] == 0.0
