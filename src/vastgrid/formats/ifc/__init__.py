"""IFC: the terrain of a building model, with its georeference."""

from __future__ import annotations

import atexit
import json
import os
import re
import select
import subprocess
import sys
import tempfile
import threading
from pathlib import Path
from typing import Any

import numpy as np

from vastgrid.base.errors import FormatError
from vastgrid.base.extras import need
from vastgrid.base.findings import Finding, left_out
from vastgrid.base.progress import Progress, Silent
from vastgrid.base.quantities import Unit
from vastgrid.data.frame import Frame, frame_of_crs
from vastgrid.data.mesh import Mesh
from vastgrid.data.tin import Tin
from vastgrid.declarations.fileformat import Carries, Format, NoParams, ReadResult, rounding, weighing
from vastgrid.format_support.meshfile import Part, Up, surfaces
from vastgrid.formats.ifc._write import IfcWriteParams, write


class _Helper:
    """The process in which models are opened; started when needed, and again after a crash."""

    def __init__(self) -> None:
        self._process: subprocess.Popen[str] | None = None
        self._lock = threading.Lock()
        atexit.register(self.stop)

    def stop(self) -> None:
        """End the process."""
        if self._process is not None:
            self._process.kill()
            self._process.wait()
            for stream in (self._process.stdin, self._process.stdout):
                if stream is not None:
                    stream.close()
            self._process = None

    def _running(self) -> subprocess.Popen[str]:
        if self._process is None or self._process.poll() is not None:
            self.stop()
            self._process = subprocess.Popen(
                [sys.executable, "-m", "vastgrid.formats.ifc._extract"],
                stdin=subprocess.PIPE,
                stdout=subprocess.PIPE,
                stderr=subprocess.DEVNULL,
                text=True,
                env={**os.environ, "PYTHONPATH": os.pathsep.join(path for path in sys.path if path)},
            )
        return self._process

    def ask(self, path: Path, target: Path | None, progress: Progress) -> str:
        """Have one model's faces taken out, or the model validated; return what went wrong, empty if nothing did.

        Raises
        ------
        CallError
            If the library is not installed.
        Cancelled
            If asked to stop; the process is ended.
        """
        need("ifcopenshell", "ifc", "an IFC model")
        with self._lock:
            for attempt in (1, 2):
                process = self._running()
                assert process.stdin is not None
                assert process.stdout is not None
                try:
                    process.stdin.write(json.dumps([str(path.resolve()), str(target) if target else ""]) + "\n")
                    process.stdin.flush()
                except OSError:
                    # It had ended for want of work just then.
                    self.stop()
                    if attempt == 1:
                        continue
                    return "its process cannot be started"
                try:
                    while not select.select([process.stdout], [], [], 0.1)[0]:
                        progress.report(0.3, f"reading {path.name}")
                except BaseException:
                    self.stop()
                    raise
                line = process.stdout.readline()
                if line:
                    return str(json.loads(line)["error"])
                self.stop()
                # Once may be the machine's fault; twice is the file's.
                if attempt == 2:
                    return "the file makes the library crash; it is damaged"
        return ""


_helper = _Helper()


def read(path: Path, params: NoParams, progress: Progress) -> ReadResult:
    """Read triangulated faces of sites and geographic elements; in metres, on the map where a conversion is given.

    Raises
    ------
    FormatError
        If it is not a whole IFC file, or has no such faces.
    """
    _check_whole(path)
    with tempfile.TemporaryDirectory(prefix="vastgrid-ifc-") as folder:
        target = Path(folder) / "faces.npz"
        fault = _helper.ask(path, target, progress)
        if fault:
            raise FormatError(path, f"reading the building model failed: {fault}")
        with np.load(target, allow_pickle=False) as kept:
            about = json.loads(str(kept["about"]))
            parts: list[Part] = [(name, kept[f"v{k}"], kept[f"t{k}"]) for k, name in enumerate(about["names"])]
    progress.report(0.7, f"reading {path.name}")
    findings = [Finding.from_json(values) for values in about["findings"]]
    if about["left"]:
        kinds = ", ".join(f"{number} {kind}" for kind, number in about["left"].items())
        findings.append(left_out("geometry-left-out", f"Geometry that is not made of faces was left out: {kinds}."))
    if not parts:
        more = f" ({findings[-1].text})" if about["left"] else ""
        raise FormatError(path, f"there is no site or geographic element with faces in the model{more}")
    result = surfaces(path, parts, Up.Z, _frame(about, findings))
    return ReadResult(result.datasets, (*result.findings, *findings))


def _check_whole(path: Path) -> None:
    """A STEP file (ISO 10303-21) ends with its end mark; the library would wait for more."""
    with path.open("rb") as file:
        head = file.read(4096)
        file.seek(max(path.stat().st_size - 4096, 0))
        tail = file.read()
    if b"ISO-10303-21" not in head:
        raise FormatError(path, "it does not begin like an IFC file (ISO-10303-21)")
    if b"END-ISO-10303-21" not in tail:
        raise FormatError(path, "the file is cut off: its end mark is missing")


def _frame(about: dict[str, Any], findings: list[Finding]) -> Frame:
    metres = Frame(None, Unit.METRE, Unit.METRE)
    if not about["epsg"]:
        return metres
    try:
        frame = frame_of_crs(f"EPSG:{about['epsg']}")
    except ValueError:
        findings.append(Finding("crs-unreadable", "The model's CRS cannot be used."))
        return metres
    if frame.horizontal is not Unit.METRE:
        findings.append(Finding("crs-not-metric", "The model's CRS is not in metres; coordinates here are."))
        return metres
    return Frame(frame.crs, Unit.METRE, Unit.METRE)


def sniff(head: bytes, path: Path) -> int:  # noqa: D103
    if b"ISO-10303-21" not in head[:4096]:
        return 0
    return 100 if re.search(rb"FILE_SCHEMA\s*\(\s*\(\s*'IFC", head) else (70 if path.suffix.lower() == ".ifc" else 0)


def audit(path: Path) -> tuple[str, ...]:
    """Return what the IFC library's validation says against a model: types, numbers of values and rules of the schema."""
    return tuple(_helper.ask(path, None, Silent()).splitlines())


_CARRIES = Carries(kinds=(Tin, Mesh), several=True, units="both", crs="code", metres=True)
FORMAT = Format(
    id="ifc",
    title="IFC model",
    used_for="survey and CAD",
    suffixes=(".ifc",),
    sniff=sniff,
    carries=_CARRIES,
    carries_as=rounding(_CARRIES),
    read=read,
    write=write,
    write_params=IfcWriteParams,
    weigh=weighing(file=1700, vertices=34, triangles=17),
    audit=audit,
)
