"""Rasters that several tests of tiles are about."""

from __future__ import annotations

import matplotlib.cbook
import numpy as np
import pytest
from rasterio import Affine

from tiling.grounds import put


@pytest.fixture(scope="session")
def dem(tmp_path_factory):
    """The Jacksboro fault DEM that matplotlib ships, whole numbers, with a hole; and a second raster beside it."""
    folder = tmp_path_factory.mktemp("dem")
    with np.load(matplotlib.cbook.get_sample_data("jacksboro_fault_dem.npz", asfileobj=False)) as file:
        z = file["elevation"].astype(np.int16)
    z[100:120, 200:230] = -32768
    put(folder / "jacksboro.tif", z, Affine(30.3, 0, 700_000.1, 0, -30.3, 4_000_000.7), -32768)
    y, x = np.mgrid[0:300, 0:400]
    other = 300 + 40 * np.sin(x / 31) + 25 * np.cos(y / 23)
    put(folder / "other.tif", other, Affine(21.0, 0, 703_000.4, 0, -21.0, 3_998_000.2), -9999)
    return folder
