"""Readers give the right answer, refuse, or say what is missing: hundreds of files of known content, damaged in known ways."""

import os

import pytest

from fuzz.known import SCENARIOS, check

TIMES = int(os.environ.get("VASTGRID_FUZZ", "2000")) // 8


@pytest.mark.parametrize("name", SCENARIOS)
def test_known_files(name, tmp_path):
    for seed in range(TIMES):
        try:
            check(name, seed, tmp_path)
        except AssertionError as error:
            raise AssertionError(f"{name}, seed {seed}: {error}") from error
