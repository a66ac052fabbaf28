"""What a screen reader is told of the window, asked over the desktop's own accessibility interface (AT-SPI)."""

from __future__ import annotations

import json
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

LAUNCHER = Path("/usr/libexec/at-spi-bus-launcher")
# The bindings belong to the system's own Python.
SYSTEM = "/usr/bin/python3"

READER = """
import json, sys, time
import gi
gi.require_version("Atspi", "2.0")
from gi.repository import Atspi

def walk(node):
    role, name, states = node.get_role_name(), node.get_name() or "", node.get_state_set()
    yield role, name, states.contains(Atspi.StateType.SHOWING)
    for k in range(min(node.get_child_count(), 300)):
        child = node.get_child_at_index(k)
        if child is not None:
            yield from walk(child)

found, end = [], time.time() + 60
while time.time() < end:
    desktop = Atspi.get_desktop(0)
    apps = [desktop.get_child_at_index(k) for k in range(desktop.get_child_count())]
    try:
        found = [row for app in apps if app is not None for row in walk(app)]
    except Exception:
        found = []
    if any(name == "Work on a large folder" for _, name, _ in found):
        break
    time.sleep(0.3)
print(json.dumps(found))
"""

APP = """
import sys
from pathlib import Path
from PyQt6.QtWidgets import QApplication
from vastgrid.qt.widgets import theme
from vastgrid.qt.window.main_window import MainWindow
from vastgrid.jobs.session import Session

app = QApplication(["vastgrid"])
theme.load_fonts()
app.setFont(theme.font())
window = MainWindow(Session(Path(sys.argv[1])))
window.show()
window.parts.tiling.ask()
app.exec()
"""

BOTH = """
"$1" --launch-immediately &
sleep 1
QT_LINUX_ACCESSIBILITY_ALWAYS_ON=1 QT_QPA_PLATFORM=xcb "$2" -c "$3" "$4" &
app=$!
"$5" -c "$6"
kill $app %1
"""


def able() -> bool:
    """Say whether this machine has what a screen reader needs."""
    if not LAUNCHER.exists() or not shutil.which("dbus-run-session") or not shutil.which("xvfb-run"):
        return False
    asked = [SYSTEM, "-c", "import gi; gi.require_version('Atspi', '2.0'); from gi.repository import Atspi"]
    return Path(SYSTEM).exists() and subprocess.run(asked, capture_output=True, check=False).returncode == 0


@pytest.mark.skipif(not able(), reason="at-spi2-core, dbus, python3-gi or gir1.2-atspi-2.0 is not installed")
def test_every_control_tells_a_screen_reader_its_name(tmp_path):
    command = ["dbus-run-session", "--", "xvfb-run", "-a", "-s", "-screen 0 1400x900x24", "bash", "-c", BOTH, "both"]
    command += [str(LAUNCHER), sys.executable, APP, str(tmp_path / "job"), SYSTEM, READER]
    done = subprocess.run(command, capture_output=True, text=True, timeout=120, check=False)
    rows = json.loads(next(line for line in done.stdout.splitlines() if line.startswith("[[")))
    controls = ("push button", "toggle button", "check box", "radio button", "combo box", "text", "spin button", "list")
    own = [(role, name) for role, name, showing in rows if showing and role in controls]
    assert len(own) > 30
    assert [role for role, name in own if not name.strip()] == []
    for control in (("push button", "Import"), ("text", "Result"), ("spin button", "Workers"), ("list", "Steps")):
        assert control in own
    assert {"Lineage", "Plan view"} <= {name for _, name, showing in rows if showing}
