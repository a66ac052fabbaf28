"""Rasters of whatever other kind the raster library opens from one file on disk."""

from __future__ import annotations

import warnings
from pathlib import Path

from vastgrid.base.progress import Progress
from vastgrid.data.grid import Grid
from vastgrid.declarations.fileformat import Carries, Format, ReadResult
from vastgrid.families.rasterfile import BandParams, opened, peeked, read_band

# What only points elsewhere (other files, servers, whole folders) is never opened for a stranger's file.
_REFUSED = {
    *("VRT", "GTI", "DERIVED", "HTTP", "WCS", "WMS", "WMTS", "EEDA", "EEDAI", "STACIT", "STACTA", "PLMOSAIC", "TIL"),
    *(
        "Zarr",
        "MRF",
        "ESRIC",
        "KMLSUPEROVERLAY",
        "GNMDatabase",
        "GNMFile",
        "MEM",
        "Memory",
        "DIMAP",
        "SAFE",
        "SENTINEL2",
    ),
    *("PDF", "MBTiles", "Rasterlite", "SQLite", "MVT", "OSM", "CPG", "ESRI Shapefile", "GeoJSON", "GeoJSONSeq"),
    *("ESRIJSON", "TopoJSON", "AVCBin", "AVCE00", "XYZ", "NTv2", "CTable2", "LOSLAS", "NGSGEOID", "GenBin", "DAAS"),
}
# Suffixes of elevation rasters that common practice knows; others are tried where a file is not text.
SUFFIXES = (
    ".hgt",
    ".dem",
    ".dt2",
    ".dt1",
    ".dt0",
    ".img",
    ".grd",
    ".ddf",
    ".bip",
    ".bsq",
    ".gxf",
    ".ter",
    ".rst",
    ".sdat",
    ".bt",
    ".jp2",
    ".nc",
)


def _able() -> list[str]:
    import rasterio

    with rasterio.Env() as env:
        return sorted(set(env.drivers()) - _REFUSED)


def read(path: Path, params: BandParams, progress: Progress) -> ReadResult:
    """Read one band as a grid; see `read_band`.

    Raises
    ------
    FormatError
        If no driver can open it.
    """
    grid, findings = read_band(path, params, progress, driver=_able())
    return ReadResult((grid,), tuple(findings))


def peek(path: Path, params: BandParams, progress: Progress) -> ReadResult:
    """Read every so many cells."""
    return peeked(path, params, progress, driver=_able())


def sniff(head: bytes, path: Path) -> int:
    """These formats have no common mark: the suffix leads, and anything else that is not text is tried."""
    suffix = path.suffix.lower()
    if suffix in SUFFIXES:
        # Elevations as text points have such suffixes too; a raster of text begins with its own words.
        is_text = b"\0" not in head and all(byte < 128 for byte in head[:200])
        return 60 if not is_text or _opens(path) else 0
    known = head[:4] in (b"LASF", b"glTF", b"PK\3\4", b"SQLi", b"ASTM", b"fgb\x03", b"ply\n", b"II*\0", b"MM\0*")
    return 30 if b"\0" in head[:4096] and not known and suffix not in (".stl", ".dxf") and _opens(path) else 0


def _opens(path: Path) -> bool:
    import logging

    log = logging.getLogger("rasterio._env")
    level = log.level
    log.setLevel(logging.CRITICAL)
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            with opened(path, driver=_able()) as source:
                return bool(source.count)
    except Exception:  # noqa: BLE001 - whatever the library raises, it does not open
        return False
    finally:
        log.setLevel(level)


FORMAT = Format(
    id="raster",
    title="Raster",
    suffixes=SUFFIXES,
    sniff=sniff,
    carries=Carries(kinds=(Grid,), units="both", crs=True),
    read=read,
    peek=peek,
    read_params=BandParams,
)
