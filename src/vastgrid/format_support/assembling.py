"""Run as a process of its own: turns the description of a raster's tiles into one file."""

from __future__ import annotations

import pickle
import sys
import tempfile
from pathlib import Path


def main() -> None:
    """Read a job from standard input, do it, and say so."""
    import rasterio
    import rasterio.shutil

    text, target, options = pickle.load(sys.stdin.buffer)
    with tempfile.TemporaryDirectory(prefix=".vastgrid-vrt-", dir=Path(target).parent) as folder:
        virtual = Path(folder) / "tiles.vrt"
        virtual.write_text(text, encoding="utf-8")
        with rasterio.Env(GDAL_CACHEMAX=256 << 20, CPL_TMPDIR=folder, GDAL_NUM_THREADS="ALL_CPUS"):
            rasterio.shutil.copy(str(virtual), target, driver="COG", **options)
    # Its caller waits for this word.
    sys.stdout.write("done")


if __name__ == "__main__":
    main()
