import gc
import threading

import numpy as np
import pytest

from vastgrid.base.arrays import load_array


def test_many_threads_read_arrays_at_once(tmp_path):
    for k in range(8):
        np.save(tmp_path / f"{k}.npy", np.full((3, 4), k))
    faults = []

    def read():
        for turn in range(200):
            try:
                got = load_array(tmp_path / f"{turn % 8}.npy", mapped=bool(turn % 2))
                assert got[0, 0] == turn % 8 and type(got) is np.ndarray
                if turn % 60 == 0:
                    gc.collect()
            except BaseException as error:  # noqa: BLE001 - whatever it is, the test tells
                faults.append(error)

    threads = [threading.Thread(target=read) for _ in range(6)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert faults == []


def test_a_damaged_array_is_an_ordinary_fault(tmp_path):
    (tmp_path / "a.npy").write_bytes(b"no array")
    with pytest.raises(ValueError, match="pickle"):
        load_array(tmp_path / "a.npy")
