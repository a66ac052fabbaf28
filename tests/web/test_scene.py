"""The scene in headless Chromium, opened from disk: drawn, read off, cut, by mouse, by keyboard and by touch; no network."""

import base64
import dataclasses
import json
import shutil
import subprocess
import time
import urllib.request

import numpy as np
import pytest

from builders import METRES, ground
from vastgrid import catalog
from vastgrid.base.progress import Silent
from vastgrid.base.quantities import Length, Unit
from vastgrid.conversions.lines import contours
from vastgrid.data.frame import Frame
from vastgrid.data.mesh import Mesh
from vastgrid.delivery.deliver import deliver
from vastgrid.measures.heights import heights

pytestmark = pytest.mark.skipif(
    not shutil.which("chromedriver") or not shutil.which("chromium"), reason="needs Chromium and its driver"
)
ARGUMENTS = [
    *("--headless", "--no-sandbox", "--disable-gpu", "--use-gl=angle", "--use-angle=swiftshader"),
    *("--enable-unsafe-swiftshader", "--disable-quic", "--no-first-run", "--disable-background-networking"),
    *("--disable-component-update", "--disable-sync", "--window-size=1280,800", "--proxy-server=127.0.0.1:9"),
]
FEET = Frame(None, Unit.US_FOOT, Unit.US_FOOT)


class Browser:
    """Chromium by the WebDriver protocol (W3C), without a library."""

    def __init__(self, profile):
        self.driver = subprocess.Popen(
            ["chromedriver", "--port=0"], stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True
        )
        port = None
        while port is None:
            line = self.driver.stdout.readline()
            port = line.rsplit("port ", 1)[1].strip(".\n") if "successfully on port" in line else None
        self.base = f"http://127.0.0.1:{port}"
        options = {"args": [*ARGUMENTS, f"--user-data-dir={profile}"], "binary": shutil.which("chromium")}
        wish = {
            "capabilities": {"alwaysMatch": {"goog:chromeOptions": options, "goog:loggingPrefs": {"browser": "ALL"}}}
        }
        self.base += f"/session/{self.call('POST', '/session', wish)['sessionId']}"

    def call(self, method, path, body=None):
        data = None if body is None else json.dumps(body).encode()
        request = urllib.request.Request(self.base + path, data, {"Content-Type": "application/json"}, method=method)
        with urllib.request.urlopen(request, timeout=60) as answer:
            return json.loads(answer.read())["value"]

    def open(self, path):
        self.call("POST", "/url", {"url": f"file://{path}"})

    def run(self, script):
        return self.call("POST", "/execute/sync", {"script": script, "args": []})

    def wait(self, script, seconds=20):
        end = time.monotonic() + seconds
        while time.monotonic() < end:
            if found := self.run(script):
                return found
            time.sleep(0.05)
        raise AssertionError(f"never became true: {script}")

    def act(self, *sources):
        self.call("POST", "/actions", {"actions": list(sources)})

    def keys(self, *names):
        steps = [
            step for name in names for step in ({"type": "keyDown", "value": name}, {"type": "keyUp", "value": name})
        ]
        self.act({"type": "key", "id": "k", "actions": steps})

    def press(self, *places, kind="mouse"):
        for x, y in places:
            steps = [
                {"type": "pointerMove", "duration": 0, "x": x, "y": y},
                {"type": "pointerDown", "button": 0},
                {"type": "pause", "duration": 30},
                {"type": "pointerUp", "button": 0},
            ]
            self.act({"type": "pointer", "id": kind, "parameters": {"pointerType": kind}, "actions": steps})

    def hover(self, x, y):
        self.act(
            {
                "type": "pointer",
                "id": "mouse",
                "parameters": {"pointerType": "mouse"},
                "actions": [{"type": "pointerMove", "duration": 0, "x": x, "y": y}],
            }
        )

    def picture(self):
        return base64.b64decode(self.call("GET", "/screenshot"))

    def log(self):
        return [each["message"] for each in self.call("POST", "/se/log", {"type": "browser"})]

    def close(self):
        try:
            self.call("DELETE", "")
        finally:
            self.driver.kill()
            self.driver.wait()
            self.driver.stdout.close()


@pytest.fixture(scope="module")
def browser(tmp_path_factory):
    own = Browser(tmp_path_factory.mktemp("profile"))
    yield own
    own.close()


def written(path, datasets, **words):
    target = catalog.format_named("scene")
    made = deliver(datasets, path, target, target.write_params(**words), Silent())
    assert made.good
    return made


def things(frame=METRES):
    tin = ground(3000).in_frame(frame)
    made = contours.run([tin], contours.ContourParams(Length(1.0), index=5), Silent()).dataset
    low = tin.vertices.min(axis=0)
    corners = np.array([(x, y, z) for x in (20.0, 30.0) for y in (20.0, 30.0) for z in (0.0, 25.0)]) + low
    faces = [
        (0, 1, 3),
        (0, 3, 2),
        (4, 6, 7),
        (4, 7, 5),
        (0, 4, 5),
        (0, 5, 1),
        (2, 3, 7),
        (2, 7, 6),
        (1, 5, 7),
        (1, 7, 3),
    ]
    return [tin, made, Mesh(name="Silo", frame=frame, vertices=corners, triangles=np.array(faces, np.int32))]


@pytest.fixture
def scene(browser, tmp_path):
    written(tmp_path / "scene.html", things())
    browser.open(tmp_path / "scene.html")
    browser.wait("return document.documentElement.dataset.ready")
    return browser


def readout(browser):
    return browser.run("return document.getElementById('readout').textContent")


def figures(text):
    """E, N and Z of a readout."""
    words = text.replace("\u202f", "").split()
    return [float(words[words.index(axis) + 1]) for axis in "ENZ"]


def read_at(browser, x, y):
    """E, N and Z under a place of the window."""
    before = readout(browser)
    browser.hover(x, y)
    script = (
        "const t = document.getElementById('readout').textContent; return t.startsWith('E ') && t !== arguments_0 && t"
    )
    return figures(browser.wait(script.replace("arguments_0", json.dumps(before))))


def test_it_draws_from_disk_without_a_fault_or_a_network(scene):
    bad = [
        line
        for line in scene.log()
        if "SEVERE" in line or "Failed to load" in line or "http" in line.replace("file://", "")
    ]
    assert not bad, bad
    assert (
        scene.run("return performance.getEntriesByType('resource').filter(e => !e.name.startsWith('data:')).length")
        == 0
    )
    drawn = scene.run(
        "const c = document.querySelector('canvas'); const t = document.createElement('canvas'); t.width = t.height = 60;"
        "return new Promise(done => requestAnimationFrame(() => { const g = t.getContext('2d'); g.drawImage(c, 0, 0, 60, 60);"
        "done(new Set(g.getImageData(0, 0, 60, 60).data).size); }))"
    )
    assert drawn is not None
    labels = scene.run("return [...document.querySelectorAll('#layers label')].map(l => l.textContent)")
    assert len(labels) == 4 and "Ground" in labels[0] and "triangles" in labels[0] and "Silo" in labels[3]


def test_the_readout_is_the_surface(scene):
    scene.run("document.getElementById('above').click()")
    scene.run("document.querySelectorAll('#layers input')[3].click()")
    tin = things()[0]
    for x, y in ((500, 400), (600, 350), (640, 420)):
        east, north, up = read_at(scene, x, y)
        assert up == pytest.approx(float(heights(tin, np.array([(east, north)]))[0]), abs=0.05)
    scene.run(
        "document.getElementById('exaggeration').value = 5; document.getElementById('exaggeration').dispatchEvent(new Event('input'))"
    )
    east, north, up = read_at(scene, 601, 351)
    assert up == pytest.approx(float(heights(tin, np.array([(east, north)]))[0]), abs=0.05), (
        "heights stay true whatever is drawn"
    )


def test_units_of_the_job_are_said(browser, tmp_path):
    written(tmp_path / "feet.html", things(FEET)[:1], title="Feet")
    browser.open(tmp_path / "feet.html")
    browser.wait("return document.documentElement.dataset.ready")
    browser.hover(640, 420)
    browser.wait("return document.getElementById('readout').textContent.includes('us-ft')")
    assert browser.run("return document.title") == "Feet"


def test_a_section_by_mouse(scene):
    scene.run("document.getElementById('above').click(); document.getElementById('cut').click()")
    time.sleep(0.3)
    scene.press((480, 300), (760, 300))
    words = scene.wait(
        "return document.getElementById('cutwords').textContent.startsWith('Section') && document.getElementById('cutwords').textContent"
    )
    assert " m, Z " in words
    assert scene.run("return document.querySelectorAll('#profile path').length") >= 1
    assert scene.run("return document.querySelector('#profile path').getAttribute('d').length") > 200
    scene.run("document.getElementById('close').click()")
    assert not scene.run("return document.getElementById('section').classList.contains('shown')")


def test_everything_by_keyboard(scene):
    scene.run("document.getElementById('view').focus()")
    scene.keys("t")
    assert scene.run("return document.activeElement.id") == "view"
    scene.keys("\ue012", "\ue013", "+", "-", "e", "d")
    assert scene.run("return document.getElementById('times').textContent") == "1.5"
    assert scene.run("return document.documentElement.dataset.theme") == "dark"
    assert readout(scene).startswith("E "), "the cross in the middle is read off"
    scene.keys("t", "s", "\ue007")
    act = [
        {"type": "keyDown", "value": "\ue008"},
        {"type": "keyDown", "value": "\ue014"},
        {"type": "keyUp", "value": "\ue014"},
    ]
    scene.act({"type": "key", "id": "k", "actions": [*act, *act[1:], *act[1:], {"type": "keyUp", "value": "\ue008"}]})
    scene.keys("\ue007")
    assert scene.run("return document.getElementById('cutwords').textContent").startswith("Section of")
    scene.keys("\ue00c", "\ue011")
    assert not scene.run("return document.getElementById('section').classList.contains('shown')")
    reached = scene.run(
        "return [...document.querySelectorAll('button, input, summary, #view')].every(e => e.tabIndex >= 0)"
    )
    assert reached


def test_by_touch(scene):
    scene.press((640, 420), kind="touch")
    assert readout(scene).startswith("E ")
    before = scene.picture()
    steps = [
        {"type": "pointerMove", "duration": 0, "x": 640, "y": 420},
        {"type": "pointerDown", "button": 0},
        {"type": "pointerMove", "duration": 120, "x": 760, "y": 440},
        {"type": "pointerUp", "button": 0},
    ]
    scene.act({"type": "pointer", "id": "touch", "parameters": {"pointerType": "touch"}, "actions": steps})
    time.sleep(0.3)
    assert scene.picture() != before, "a finger turns it"


def test_layers_go_and_come(scene):
    with_all = scene.picture()
    scene.run("document.querySelectorAll('#layers input')[0].click()")
    time.sleep(0.3)
    assert scene.picture() != with_all
    scene.hover(900, 420)
    time.sleep(0.1)
    scene.run("document.querySelectorAll('#layers input')[0].click()")


def test_a_large_scene_keeps_its_budget(browser, tmp_path):
    """200 000 triangles: at most 12 MB, and interactive within three seconds."""
    tin = ground(100_000)
    assert len(tin.triangles) > 195_000
    made = written(tmp_path / "large.html", [dataclasses.replace(tin, constrained=None)])
    assert made.size <= 12_000_000
    browser.open(tmp_path / "large.html")
    ready = browser.wait("return window.sceneReady")
    assert ready < 3000.0, "milliseconds"
