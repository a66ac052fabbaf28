"""Being found by the desktop: menu entry, icon, description and types of files, put in place and taken away again.

Places by the freedesktop.org specifications of desktop entries, icon themes, shared MIME information and AppStream.
"""

from __future__ import annotations

import os
import re
import shutil
import subprocess
import sys
from importlib import resources
from pathlib import Path

from vastgrid.base.errors import WriteError

NAME = "io.github.vastgrid.VastGrid"

# What lies where below the data folder.
PLACES = {
    f"{NAME}.desktop": f"applications/{NAME}.desktop",
    f"{NAME}.svg": f"icons/hicolor/scalable/apps/{NAME}.svg",
    f"{NAME}.metainfo.xml": f"metainfo/{NAME}.metainfo.xml",
    f"{NAME}.xml": f"mime/packages/{NAME}.xml",
}


def data_home() -> Path:
    """Return the folder in which the desktop looks for a user's own applications."""
    return Path(os.environ.get("XDG_DATA_HOME") or Path.home() / ".local" / "share")


def content(name: str) -> str:
    """Return one of the files that ship with the application."""
    return (resources.files("vastgrid.home") / "files" / name).read_text(encoding="utf-8")


def command() -> str:
    """Return what starts the application: the command that is on the path, or this very environment's."""
    found = shutil.which("vastgrid")
    if found:
        return found
    own = Path(sys.argv[0]).resolve()
    return str(own) if own.name == "vastgrid" else f"{sys.executable} -m vastgrid"


def installed(folder: Path | None = None) -> list[Path]:
    """Return what is in place of it."""
    base = folder or data_home()
    return [base / place for place in PLACES.values() if (base / place).is_file()]


def install(folder: Path | None = None, starts: str = "") -> list[Path]:
    """Put everything in place for a user, or below a folder; return the files.

    Parameters
    ----------
    starts : str
        What starts the application; as found on this machine if empty.

    Raises
    ------
    WriteError
        If the system refuses.
    """
    base = folder or data_home()
    starts = starts or command()
    program, _, more = starts.partition(" -m ")
    # A path with blanks or signs has to be quoted (Desktop Entry Specification, “The Exec key”).
    quoted = program if re.fullmatch(r"[\w./+-]+", program) else '"' + re.sub(r'(["`$\\])', r"\\\1", program) + '"'
    quoted += f" -m {more}" if more else ""
    made = []
    for name, place in PLACES.items():
        target = base / place
        text = content(name)
        if name.endswith(".desktop"):
            text = text.replace("Exec=vastgrid ", f"Exec={quoted} ")
            text = text.replace("TryExec=vastgrid", f"TryExec={program}")
        try:
            target.parent.mkdir(parents=True, exist_ok=True)
            target.write_text(text, encoding="utf-8")
        except OSError as error:
            raise WriteError(f"{target} cannot be written: {error.strerror or error}") from error
        made.append(target)
    refresh(base)
    return made


def remove(folder: Path | None = None) -> list[Path]:
    """Take away what `install` put in place; return the files."""
    base = folder or data_home()
    gone = installed(folder)
    for path in gone:
        path.unlink(missing_ok=True)
    refresh(base)
    return gone


def refresh(base: Path) -> None:
    """Let the desktop notice what changed, as far as its tools are there."""
    for tool, place in (("update-mime-database", "mime"), ("update-desktop-database", "applications")):
        found = shutil.which(tool)
        if found and (base / place).is_dir():
            subprocess.run([found, str(base / place)], capture_output=True, check=False, timeout=60)
