"""What is installed, what is missing and what to do about it."""

from __future__ import annotations

import importlib.metadata
import importlib.util
import os
import platform
import re
import shutil
import subprocess
import sys
import tomllib
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import vastgrid
from vastgrid import __version__
from vastgrid.base.words import size_words
from vastgrid.home import desktop, faults, log
from vastgrid.home.state import cache_folder, state_folder

# Below so many bytes large work is short of room.
LITTLE_ROOM, LITTLE_MEMORY = 2e9, 2e9
_REQUIREMENT = re.compile(r"""([\w.-]+)[^;]*(?:;.*\bextra\s*==\s*["']([\w-]+)["'])?.*""", re.DOTALL)


@dataclass(frozen=True, slots=True)
class Look:
    """One thing that was looked at.

    Attributes
    ----------
    what, found : str
        What it is, and how it stands.
    good : bool
        Whether all is well.
    remedy : str
        What to do where it is not.
    """

    what: str
    found: str
    good: bool = True
    remedy: str = ""

    def line(self) -> str:
        """Return it as a line."""
        sign = "ok  " if self.good else "MISS"
        return f"{sign}  {self.what}: {self.found}" + (f"\n      → {self.remedy}" if self.remedy else "")


def looked() -> list[Look]:
    """Look at everything; nothing is changed."""
    own: list[Callable[[], Look]] = [
        _program, _python, _packages, _kernels, _window, _screen, _fonts, _projections, _memory,
        _room, _folders, _desktop, _crashes, _plugins,
    ]  # fmt: skip
    found = []
    for look in own:
        try:
            found.append(look())
        except Exception as error:  # noqa: BLE001 - whatever is wrong on this machine, the rest is looked at too
            found.append(Look(look.__name__.strip("_"), f"cannot be looked at ({error})", good=False))
    return found


def _program() -> Look:
    return Look("Vast Grid", f"{__version__}, in {Path(__file__).parents[1]}")


def _python() -> Look:
    good = sys.version_info >= (3, 11)
    return Look(
        "Python", f"{platform.python_version()} ({sys.executable})", good, "" if good else "Python 3.11 or newer"
    )


def required() -> dict[str, str]:
    """Return the libraries that the package says it needs, each with the extra that asks for it; empty for those of all."""
    try:
        texts = importlib.metadata.requires("vastgrid") or []
    except importlib.metadata.PackageNotFoundError:
        # Run from its sources, which say it themselves.
        package = Path(vastgrid.__file__).parent
        place = next(each for each in (package.parents[1], package.parent) if (each / "pyproject.toml").is_file())
        project = tomllib.loads((place / "pyproject.toml").read_text(encoding="utf-8"))["project"]
        texts = list(project["dependencies"])
        for extra, own in project["optional-dependencies"].items():
            texts += [f'{text}; extra == "{extra}"' for text in own]
    found = [_REQUIREMENT.fullmatch(text) for text in texts]
    return {each[1]: each[2] or "" for each in found if each}


def _packages() -> Look:
    libraries = required()
    missing: list[str] = []
    for name in libraries:
        try:
            importlib.metadata.version(name)
        except importlib.metadata.PackageNotFoundError:
            missing.append(name)
    if any(not libraries[name] for name in missing):
        return Look(
            "Libraries", f"missing: {', '.join(missing)}", good=False, remedy="./vastgrid demo, or pip install ."
        )
    if missing:
        extras = ", ".join(f"{name} (pip install 'vastgrid[{libraries[name]}]')" for name in missing)
        return Look("Libraries", f"{len(libraries) - len(missing)} are installed; not asked for: {extras}")
    return Look("Libraries", f"all {len(libraries)} are installed")


def _plugins() -> Look:
    from vastgrid import catalog
    from vastgrid.declarations import plugins

    # Each is loaded here, so that what fails is known.
    origins = [each.origin for each in catalog.CONVERSIONS]
    origins += [each.origin for each in catalog.FORMATS]
    origins += [each.origin for each in catalog.CHECKS]
    names = sorted({origin for origin in origins if origin})
    told = ", ".join(names) if names else "none"
    if not plugins.faults:
        return Look("Plug-ins", told)
    bad = "; ".join(f"{place.name} of {place.origin}: {why}" for place, why in plugins.faults.items())
    return Look("Plug-ins", f"{told}; left out: {bad}", good=False, remedy="update it, or take it off (pip uninstall)")


def _kernels() -> Look:
    import numpy as np

    from vastgrid.kernels.cells import raster

    value = raster.bilinear_at(np.array([[1.0, 2.0], [3.0, 4.0]]), 0.5, 0.5)
    good = abs(value - 2.5) < 1e-12
    return Look("Compiled kernels", "they run" if good else "they give wrong numbers", good)


def _window() -> Look:
    code = "from PyQt6.QtWidgets import QApplication; QApplication([]); print('ok')"
    environment = {**os.environ, "QT_QPA_PLATFORM": "offscreen"}
    done = subprocess.run(
        [sys.executable, "-c", code], capture_output=True, text=True, env=environment, check=False, timeout=60
    )
    if done.returncode == 0 and "ok" in done.stdout:
        missing = _missing_libraries()
        if missing:
            # Debian names packages of libraries by their name and version.
            packages = [re.sub(r"\.so\.(\d+).*", r"\1", name).lower() for name in missing]
            remedy = f"apt-get install {' '.join(packages)}, or ./vastgrid demo, which does it"
            return Look("Window system", f"libraries are missing: {', '.join(missing)}", good=False, remedy=remedy)
        return Look("Window system", "its libraries are there")
    lines = done.stderr.strip().splitlines()
    return Look(
        "Window system", lines[-1] if lines else "it does not start", good=False, remedy="./vastgrid demo installs it"
    )


def _missing_libraries() -> list[str]:
    """Return the system libraries that the window's plugin lacks."""
    found = importlib.util.find_spec("PyQt6")
    if found is None or found.origin is None:
        return []
    plugin = Path(found.origin).parent / "Qt6" / "plugins" / "platforms" / "libqxcb.so"
    tool = shutil.which("ldd")
    if not plugin.exists() or not tool:
        return []
    done = subprocess.run([tool, str(plugin)], capture_output=True, text=True, check=False, timeout=30)
    return sorted({line.split()[0] for line in done.stdout.splitlines() if "not found" in line})


def _screen() -> Look:
    for name in ("WAYLAND_DISPLAY", "DISPLAY"):
        if os.environ.get(name):
            return Look("Screen", f"{name}={os.environ[name]}")
    remedy = 'xvfb-run -a -s "-screen 0 1280x800x24" vastgrid demo; the command line needs none'
    return Look("Screen", "none (neither WAYLAND_DISPLAY nor DISPLAY is set)", good=False, remedy=remedy)


def _fonts() -> Look:
    folder = Path(__file__).parents[1] / "qt" / "widgets" / "fonts"
    number = len([path for path in folder.iterdir() if path.suffix.lower() in (".ttf", ".otf")])
    return Look("Fonts", f"{number} ship with the application", number > 0)


def _projections() -> Look:
    import pyproj

    east, north = pyproj.Transformer.from_crs(4326, 25832, always_xy=True).transform(9.0, 48.0)
    # The central meridian of zone 32 is 9°: easting 500 000 by definition.
    good = abs(east - 500_000.0) < 1e-3 and 5.3e6 < north < 5.33e6
    remedy = "" if good else "PROJ_DATA or PROJ_LIB points to another installation's data; unset it"
    return Look("Reference systems", f"PROJ {pyproj.proj_version_str}", good, remedy)


def _memory() -> Look:
    import psutil

    memory = psutil.virtual_memory()
    text = f"{size_words(memory.available)} of {size_words(memory.total)} free, {os.cpu_count()} cores"
    good = memory.available > LITTLE_MEMORY
    return Look("Memory", text, good, "" if good else "close other programs, or work in small tiles (--tiles)")


def _room() -> Look:
    folder = next(path for path in (cache_folder(), *cache_folder().parents) if path.exists())
    free = shutil.disk_usage(folder).free
    good = free > LITTLE_ROOM
    remedy = "" if good else f"free some space: large clouds are put in order below {cache_folder()}"
    return Look("Room on disk", f"{size_words(free)} free below {folder}", good, remedy)


def _folders() -> Look:
    bad = []
    for folder in (cache_folder(), state_folder(), desktop.data_home() / "vastgrid"):
        there = next(path for path in (folder, *folder.parents) if path.exists())
        if not there.is_dir() or not os.access(there, os.W_OK | os.X_OK):
            bad.append(str(folder))
    if bad:
        return Look(
            "Folders",
            f"not to be written: {', '.join(bad)}",
            good=False,
            remedy="take ownership of them (chown), or set XDG_CACHE_HOME and XDG_STATE_HOME to folders that can be written",
        )
    return Look("Folders", f"log in {log.log_file()}")


def _desktop() -> Look:
    own = desktop.installed()
    system = [Path(base) / desktop.PLACES[f"{desktop.NAME}.desktop"] for base in ("/usr/share", "/usr/local/share")]
    if len(own) == len(desktop.PLACES) or any(path.is_file() for path in system):
        return Look("Desktop", "menu entry, icon and file types are in place")
    return Look("Desktop", "no menu entry yet", remedy="vastgrid desktop --install")


def _crashes() -> Look:
    number = len(list(faults.folder().glob("crash-*.txt"))) if faults.folder().is_dir() else 0
    if not number:
        return Look("Crashes", "none on record")
    return Look("Crashes", f"{number} on record in {faults.folder()}", remedy="read the newest; nothing was sent")
