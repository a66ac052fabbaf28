"""The simulated elevation service and lattices that ask it, or a surface."""

import json
import threading
import urllib.error
import urllib.request
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

import numpy as np
import pytest

from builders import ground, scattered
from vastgrid.base.errors import CallError, DataError, ParamError
from vastgrid.base.progress import Silent
from vastgrid.base.quantities import Unit
from vastgrid.conversions.points import lattice
from vastgrid.data.frame import Frame, frame_of_crs
from vastgrid.data.pointset import PointSet
from vastgrid.execution.steps import convert
from vastgrid.measures.heights import heights
from vastgrid.params import declare
from vastgrid.services.elevation import MOST, elevations, serve, simulated

DEGREES = Frame(frame_of_crs("EPSG:4326").crs, Unit.DEGREE, Unit.METRE)


def made(source, **words):
    params = declare.build(lattice.LatticeParams, words)
    return convert(lattice.CONVERSION, [source], params, Silent())


def test_many_places_in_several_requests():
    places = np.random.default_rng(1).random((1234, 2)) * (10.0, 5.0) + (5.0, 45.0)
    values = elevations(places, "", Silent())
    want = [np.nan if (z := simulated(*place)) is None else z for place in places.tolist()]
    np.testing.assert_array_equal(values, want)


def test_it_listens_on_the_loopback_interface_only():
    server = serve()
    assert server.server_address[0] == "127.0.0.1"
    server.server_close()
    for address in ("http://example.org", "https://127.0.0.1:1", "ftp://localhost"):
        with pytest.raises(CallError, match="only a service on this machine"):
            elevations(np.zeros((1, 2)), address, Silent())


@pytest.mark.parametrize(
    ("body", "code"),
    [(b"nonsense", 400), (b'{"places": [[1]]}', 400), (json.dumps({"places": [[0, 0]] * (MOST + 1)}).encode(), 413)],
)
def test_bad_requests_are_refused(body, code):
    server = serve()
    threading.Thread(target=server.serve_forever, daemon=True).start()
    request = urllib.request.Request(f"http://127.0.0.1:{server.server_address[1]}/elevations", body)
    with pytest.raises(urllib.error.HTTPError) as refused:
        urllib.request.urlopen(request, timeout=5)
    assert refused.value.code == code
    refused.value.close()
    server.shutdown()
    server.server_close()


@pytest.mark.parametrize("answer", [b"nonsense", b'{"elevations": [1]}', b"{}"])
def test_a_service_that_answers_nonsense(answer):
    class Wrong(BaseHTTPRequestHandler):
        def do_POST(self):
            self.send_response(200)
            self.send_header("Content-Length", str(len(answer)))
            self.end_headers()
            self.wfile.write(answer)

        def log_message(self, *_):
            pass

    server = ThreadingHTTPServer(("127.0.0.1", 0), Wrong)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    with pytest.raises(DataError, match="answers"):
        elevations(np.zeros((3, 2)), f"http://127.0.0.1:{server.server_address[1]}", Silent())
    server.shutdown()
    server.server_close()
    with pytest.raises(DataError, match="does not answer"):
        elevations(np.zeros((3, 2)), f"http://127.0.0.1:{server.server_address[1]}", Silent())


def test_a_lattice_takes_the_surfaces_heights():
    tin = ground(3000)
    result, params = made(tin, spacing="5m", area="431020,887020,431100,887080")
    xyz = result.dataset.xyz
    assert len(xyz) == 17 * 13, "the rim belongs to it"
    assert (xyz[:, :2] % 5.0 == 0.0).all(), "on whole multiples of the spacing"
    np.testing.assert_allclose(xyz[:, 2], heights(tin, xyz[:, :2]))
    said = declare.plain(lattice.CONVERSION.sentence(params, ["Ground"]))
    assert said.startswith("Points every 5 m over E 431020 … 431100, N 887020 … 887080 of Ground")


def test_polygons_and_what_lies_outside_the_ground():
    result, _ = made(ground(3000), spacing="4m", area="431000 887000, 431400 887000, 431000 887300")
    assert any("got no elevation" in finding.text for finding in result.findings)
    x, y = (result.dataset.xyz[:, :2] - (431_000, 887_000)).T
    assert (y <= 300.0 - 0.75 * x + 1e-6).all()


def test_spacing_in_degrees_from_the_service():
    pegs = PointSet(name="pegs", frame=DEGREES, xyz=np.array([(8.0, 47.0, 0.0), (8.02, 47.01, 0.0)]))
    result, _ = made(pegs, degrees="0.005", elevations="simulated")
    assert len(result.dataset.xyz) == 5 * 3
    for lon, lat, z in result.dataset.xyz.tolist():
        assert z == simulated(lon, lat)
    with pytest.raises(CallError, match="spacing in degrees"):
        made(pegs, spacing="30", elevations="simulated")


def test_a_grid_asks_the_service_by_longitude_and_latitude():
    utm = PointSet(
        name="pegs",
        frame=Frame(frame_of_crs("EPSG:32632").crs, Unit.METRE, Unit.FOOT),
        xyz=np.array([(431_000.0, 5_262_000.0, 0.0), (432_000.0, 5_263_000.0, 0.0)]),
    )
    metres = made(utm.in_frame(Frame(utm.frame.crs, Unit.METRE, Unit.METRE)), spacing="250m", elevations="simulated")[0]
    feet = made(utm, spacing="250m", elevations="simulated")[0]
    assert len(metres.dataset.xyz) == 25
    np.testing.assert_allclose(feet.dataset.xyz[:, 2] * 0.3048, metres.dataset.xyz[:, 2], rtol=1e-12)
    by_degrees = made(utm, degrees="0.002", elevations="simulated")[0]
    assert 10 < len(by_degrees.dataset.xyz) < 60


def test_what_cannot_be():
    tin = ground(300)
    with pytest.raises(CallError, match="at most"):
        made(tin, spacing="0.001m")
    with pytest.raises(DataError, match="smaller than the spacing"):
        made(tin, spacing="5m", area="431001,887001,431002,887002")
    with pytest.raises(ParamError, match="area"):
        made(tin, area="1,2,3")
    with pytest.raises(CallError, match="is not a surface"):
        made(scattered(50))
    with pytest.raises(CallError, match="longitude and latitude"):
        made(tin, elevations="simulated")
    with pytest.raises(ParamError, match="belongs to elevations=service"):
        made(tin, elevations="simulated", service="http://127.0.0.1:8700")
    with pytest.raises(ParamError, match="say the address"):
        made(tin, elevations="service")
