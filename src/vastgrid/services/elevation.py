"""Elevations from a service: the client, and a small simulated service on the loopback interface that stands in for one.

The protocol is plain: POST /elevations with {"places": [[longitude, latitude], …]} answers
{"elevations": [metres or null, …]}; at most `MOST` places at once.
"""

from __future__ import annotations

import json
import math
import threading
import urllib.error
import urllib.parse
import urllib.request
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.errors import CallError, DataError
from vastgrid.base.progress import Progress

MOST = 500
LOOPBACK = ("127.0.0.1", "::1", "localhost")
TIMEOUT = 10.0


def simulated(longitude: float, latitude: float) -> float | None:
    """Return the height of an invented world, in metres; None at sea."""
    a, b = math.radians(longitude), math.radians(latitude)
    land = math.sin(3.0 * a + 0.5) * math.cos(2.0 * b) + 0.6 * math.sin(5.0 * a - 3.0 * b)
    height = (
        650.0 + 500.0 * land + 120.0 * math.sin(90.0 * a) * math.cos(80.0 * b) + 40.0 * math.sin(900.0 * a + 700.0 * b)
    )
    return None if height < 0.0 else round(height, 3)


class _Answer(BaseHTTPRequestHandler):
    """Answers one request."""

    protocol_version = "HTTP/1.1"

    def do_POST(self) -> None:
        """Return the elevations asked for."""
        try:
            if self.path != "/elevations":
                self._say(404, {"error": "there is only /elevations"})
                return
            size = int(self.headers.get("Content-Length", "0"))
            if not 0 < size < 1 << 20:
                self._say(413, {"error": "the request is too large"})
                return
            places = json.loads(self.rfile.read(size))["places"]
            if len(places) > MOST:
                self._say(413, {"error": f"at most {MOST} places at once"})
                return
            self._say(200, {"elevations": [simulated(float(p[0]), float(p[1])) for p in places]})
        except (ValueError, KeyError, TypeError, IndexError):
            self._say(400, {"error": "places have to be pairs of longitude and latitude"})

    def _say(self, code: int, values: dict[str, Any]) -> None:
        body = json.dumps(values).encode()
        self.send_response(code)
        self.send_header("Content-Type", "application/json")
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, format: str, *args: Any) -> None:
        """Stay silent."""


def serve(port: int = 0) -> ThreadingHTTPServer:
    """Return the simulated service, bound to the loopback interface only; port 0 takes any free one.

    Raises
    ------
    DataError
        If the port is taken.
    """
    try:
        server = ThreadingHTTPServer(("127.0.0.1", port), _Answer)
    except OSError as error:
        raise DataError(f"the elevation service cannot listen on port {port}: {error.strerror}") from error
    server.daemon_threads = True
    return server


_own: list[str] = []
_lock = threading.Lock()


def _stand_in() -> str:
    """Return the address of this program's own simulated service, started on first use."""
    with _lock:
        if not _own:
            server = serve()
            threading.Thread(target=server.serve_forever, name="elevation-service", daemon=True).start()
            _own.append(f"http://127.0.0.1:{server.server_address[1]}")
        return _own[0]


def elevations(places: NDArray[np.float64], address: str, progress: Progress) -> NDArray[np.float64]:
    """Ask a service for elevations.

    Parameters
    ----------
    places : (n, 2) float64
        Longitude and latitude, degrees.
    address : str
        Such as ``http://127.0.0.1:8700``; empty for the simulated service. Only the loopback interface is asked.

    Returns
    -------
    (n,) float64
        Metres; NaN where the service has none.

    Raises
    ------
    CallError
        If the address leads elsewhere.
    DataError
        If the service does not answer, or answers nonsense.
    """
    address = address.strip().rstrip("/") or _stand_in()
    parts = urllib.parse.urlsplit(address)
    if parts.scheme != "http" or parts.hostname not in LOOPBACK:
        raise CallError(f"“{address}”: only a service on this machine (http://127.0.0.1:…) is asked")
    opener = urllib.request.build_opener(urllib.request.ProxyHandler({}))
    out = np.full(len(places), np.nan)
    for start in range(0, len(places), MOST):
        part = places[start : start + MOST]
        request = urllib.request.Request(
            f"{address}/elevations",
            json.dumps({"places": part.tolist()}).encode(),
            {"Content-Type": "application/json"},
        )
        try:
            with opener.open(request, timeout=TIMEOUT) as answer:
                values = json.loads(answer.read(1 << 22))["elevations"]
            numbers = np.array([np.nan if value is None else float(value) for value in values], np.float64)
        except urllib.error.HTTPError as error:
            raise DataError(f"the elevation service refuses: {error.code} {error.reason}") from error
        except (OSError, urllib.error.URLError) as error:
            raise DataError(f"the elevation service at {address} does not answer") from error
        except (ValueError, KeyError, TypeError) as error:
            raise DataError(
                f"the elevation service at {address} answers something that is not a list of elevations"
            ) from error
        if len(numbers) != len(part):
            raise DataError(f"the elevation service answers {len(numbers)} elevations for {len(part)} places")
        out[start : start + len(part)] = numbers
        progress.report((start + len(part)) / len(places), "asking for elevations")
    return out
