"""Starting the window."""

from __future__ import annotations

import os
import sys
import traceback
from pathlib import Path
from types import TracebackType
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from vastgrid.jobs.session import Session

NO_SCREEN = """\
vastgrid: there is no screen here (DISPLAY is not set). To use a virtual one:
  xvfb-run -a -s "-screen 0 1280x800x24" ./vastgrid demo
or, to see the command line do the same work without any screen:
  ./vastgrid --help"""


def run(arguments: list[str]) -> int:
    """Open the window for ``demo`` or ``open [JOB or FILES…]``; return the exit code."""
    screen = any(os.environ.get(name) for name in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM"))
    if not screen and sys.platform.startswith("linux"):
        print(NO_SCREEN, file=sys.stderr)  # noqa: T201
        return 2
    from PyQt6.QtWidgets import QApplication

    from vastgrid.demo import tollgarth
    from vastgrid.home import faults, log
    from vastgrid.qt.widgets import theme
    from vastgrid.qt.widgets.section import settings
    from vastgrid.qt.window.at_home import desktop_is_dark, kept_text_size
    from vastgrid.qt.window.main_window import MainWindow
    from vastgrid.recipes.recipe import SUFFIX

    # Work in the background asks for Python's lock without pause; the window gets it in a millisecond instead of five.
    sys.setswitchinterval(0.001)
    app = QApplication(["vastgrid"])
    app.setApplicationName("Vast Grid")
    app.setDesktopFileName("io.github.vastgrid.VastGrid")
    theme.load_fonts()
    theme.set_text_size(kept_text_size(settings()))
    app.setFont(theme.font())
    log.begin().info("window opened with %s, Qt on %s", arguments[0], app.platformName())
    waiting = faults.unseen()
    faults.watch()
    command, paths = arguments[0], [Path(word) for word in arguments[1:]]
    # A desktop opens the file in a job's folder.
    paths = [path.parent if path.name == "job.json" else path for path in paths]
    jobs = [path for path in paths if (path / "job.json").exists()]
    recipes = [path for path in paths if path.suffix == SUFFIX]
    paths = [path for path in paths if path not in recipes]
    folder = jobs[0] if jobs else tollgarth.data_folder() / "jobs" / "Untitled"
    ready = tollgarth.ready_job(tollgarth.demo_folder()) if command == "demo" else None
    session, why = opened(ready or folder, tollgarth.data_folder() / "jobs")
    if why and ready is not None and not readable(ready):
        ready = None
        why += f" The demo is made anew; the damaged one is kept as {put_aside(tollgarth.demo_folder()).name}."
    chosen = session.settings.get("theme")
    dark = chosen == "dark" if chosen else desktop_is_dark()
    window = MainWindow(session, theme.DARK if dark else theme.LIGHT)
    _catch_faults(window)
    window.show()
    if why:
        window.desk.tell(why)
    if command == "demo" and ready is None:
        window.desk.start(
            "preparing the demo job",
            lambda progress: tollgarth.prepare(tollgarth.demo_folder(), progress),
            lambda job: window.desk.use_session(claimed(job)),
        )
    elif files := [path for path in paths if path not in jobs]:
        window.desk.bridge.post(lambda: window.parts.importing.files(files))
    if recipes:
        window.desk.bridge.post(lambda: window.parts.repeating.run_recipe(recipes[0]))
    if waiting:
        window.desk.bridge.post(window.parts.at_home.offer_reports)
    code = app.exec()
    faults.unwatch()
    return code


def opened(folder: Path, others: Path) -> tuple[Session, str]:
    """Open a job; where it cannot be opened an empty one among others, so that the window comes up and can tell why.

    Returns
    -------
    session : Session
    why : str
        What is to be told; empty where all is well.
    """
    from vastgrid.base.errors import VastGridError

    try:
        return claimed(folder), ""
    except VastGridError as error:
        why = f"{error}. An empty job is open instead; nothing in {folder} was changed."
    number = 1
    while (others / f"Empty {number}").exists():
        number += 1
    return claimed(others / f"Empty {number}"), why


def readable(folder: Path) -> bool:
    """Return whether a job can be read: one that cannot be opened may only be open elsewhere."""
    from vastgrid.base.errors import VastGridError
    from vastgrid.jobs.session import Session

    try:
        Session(folder)
    except VastGridError:
        return False
    return True


def claimed(folder: Path) -> Session:
    """Open a job for a window.

    Raises
    ------
    VastGridError
        If it is damaged, or open in another window.
    """
    from vastgrid.jobs.session import Session

    session = Session(folder)
    session.claim()
    return session


def put_aside(folder: Path) -> Path:
    """Give a folder another name, so that nothing in it is lost; return it."""
    number = 1
    while (other := folder.with_name(f"{folder.name} damaged {number}")).exists():
        number += 1
    return folder.rename(other)


def _catch_faults(window: object) -> None:
    """Tell of faults in the interface instead of ending the program, which is what Qt would do."""

    def told(kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
        from vastgrid.home import faults

        text = "".join(traceback.format_exception(kind, error, trace))
        print(text, file=sys.stderr)  # noqa: T201
        faults.report(kind, error, trace)
        say = getattr(window, "say", None)
        if say is not None:
            say("an unforeseen fault in the program itself; your job is saved")

    sys.excepthook = told
