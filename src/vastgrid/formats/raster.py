"""Rasters of whatever other kind the raster library opens from one file on disk."""

from __future__ import annotations

import re
import warnings
from pathlib import Path

from vastgrid.base.errors import FormatError, library_faults
from vastgrid.base.progress import Progress
from vastgrid.data.grid import Grid
from vastgrid.declarations.fileformat import Carries, Format, ReadResult
from vastgrid.format_support.rasterfile import BandParams, opened, peeked, read_band
from vastgrid.kernels.text.decimals import read_words

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
    _check_text(path)
    grid, findings = read_band(path, params, progress, driver=_able())
    return ReadResult((grid,), tuple(findings))


# Drivers of rasters that are text, of which the library takes whatever a word begins with for its number.
_TEXTS = ("GSAG", "GRASSASCIIGrid", "AAIGrid", "GXF", "ISG", "ZMap")
_EXPONENT = re.compile(rb"[\d.][dD][+-]?\d")


def _check_text(path: Path) -> None:
    """Refuse a raster of text with numbers that the library would read as others.

    Raises
    ------
    FormatError
        With the first of them.
    """
    with library_faults(path, "reading the raster"), warnings.catch_warnings():
        warnings.simplefilter("ignore")
        with opened(path, driver=_able()) as source:
            driver, cells = source.driver, source.width * source.height
    if driver not in _TEXTS:
        return
    data = path.read_bytes()
    found = _EXPONENT.search(data)
    at = found.start() if found else -1
    if at < 0 and driver in ("GSAG", "GRASSASCIIGrid"):
        # The heights stand last; an asterisk is none.
        words = data.replace(b"*", b"0").split()
        wrong = read_words(b" ".join(words[-cells:]))[1] >= 0 or len(words) < cells
        bad = next((each for each in words[-cells:] if read_words(each, void=True)[1] >= 0), None) if wrong else None
        at = data.find(bad) if bad is not None else -1
        if wrong and at < 0:
            raise FormatError(path, "the raster is cut off: it has fewer heights than its head says")
    if at >= 0:
        shown = data[max(at - 20, 0) : at + 20].split()
        word = next((each for each in shown if _EXPONENT.search(each)), shown[-1] if shown else b"")
        line = data.count(b"\n", 0, at) + 1
        raise FormatError(
            path, f"a height is not a number as this format has it: “{word.decode('latin-1')}”", line=line
        )


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
    used_for="rasters",
    suffixes=SUFFIXES,
    sniff=sniff,
    carries=Carries(kinds=(Grid,), units="both", crs=True),
    read=read,
    peek=peek,
    read_params=BandParams,
)
