"""Contours and losses on a plane, a cone, a saddle and a paraboloid, where the answer is known in closed form."""

import numpy as np
import pytest

from builders import METRES, scattered
from vastgrid.base.progress import Silent
from vastgrid.conversions.grids import grid
from vastgrid.conversions.lines import contours
from vastgrid.conversions.surfaces import grid_to_tin as facets
from vastgrid.conversions.surfaces import tin as building
from vastgrid.data.grid import Grid
from vastgrid.data.tin import Tin
from vastgrid.params import declare


def made(module, source, **words):
    params = declare.build(module.CONVERSION.params, {name: str(word) for name, word in words.items()})
    return module.run([source], module.CONVERSION.settle([source], params), Silent())


def lattice(height, size=41, step=1.0):
    """Heights at centres from (0, 0) on, north up."""
    steps = np.arange(size) * step
    east, north = np.meshgrid(steps, steps[::-1])
    return Grid(
        name="Form",
        frame=METRES,
        heights=height(east, north),
        west=-step / 2,
        north=steps[-1] + step / 2,
        dx=step,
        dy=step,
    )


def test_contours_of_a_plane_lie_on_it_and_lose_nothing():
    points = scattered(900, height=lambda x, y: 0.13 * x - 0.07 * y)
    tin = building.run([points], building.TinParams(), Silent()).dataset
    result = made(contours, tin, interval="1m")
    own = result.dataset
    x, y = (own.plan - (431_000.0, 887_000.0)).T
    # At the hull of strewn points needles of triangles make a rounding of their ends' places a rounding of height.
    assert result.loss.rmse < 1e-9 and result.loss.p95 < 1e-9 and result.loss.largest < 1e-3
    flat = made(contours, made(facets, lattice(lambda x, y: 0.13 * x - 0.07 * y)).dataset, interval="1m")
    assert flat.loss.largest < 1e-9
    level = np.repeat(own.levels, np.diff(own.offsets))
    assert np.abs(0.13 * x - 0.07 * y - level).max() < 1e-9
    for cell in ("0.5m", "3m"):
        assert made(grid, tin, cell=cell).loss.largest < 1e-9


def test_contours_of_a_cone_of_triangles_cut_its_edges_at_the_right_radius():
    """A cone of 36 triangles from its apex: along its ribs it is straight, so contours cut them where z says."""
    turn = np.linspace(0, 2 * np.pi, 36, endpoint=False)
    ring = np.column_stack((50 * np.cos(turn), 50 * np.sin(turn), np.zeros(36)))
    vertices = np.vstack(([0.0, 0.0, 100.0], ring))
    k = np.arange(36)
    cone = Tin(
        name="Cone", frame=METRES, vertices=vertices, triangles=np.column_stack((np.zeros(36), k + 1, (k + 1) % 36 + 1))
    )
    result = made(contours, cone, interval="10m")
    own = result.dataset
    level = np.repeat(own.levels, np.diff(own.offsets))
    assert np.abs(np.hypot(*own.plan.T) - (100.0 - level) / 2.0).max() < 1e-9
    assert own.closed().all() and set(own.levels.tolist()) == set(np.arange(10.0, 100.0, 10.0))
    # From the topmost line on the ground is level: the tip above 90 is lost, all of it.
    assert result.loss.largest == pytest.approx(10.0, abs=1e-9)
    assert result.loss.at == pytest.approx((0.0, 0.0), abs=1e-9)


def test_contours_of_a_saddle_are_hyperbolas_where_they_cross_the_lattice():
    """z = x y is straight along rows and columns, so every vertex of a contour satisfies x y = level."""
    own = made(contours, lattice(lambda x, y: (x - 20.0) * (y - 20.0)), interval="25m").dataset
    x, y = own.plan.T
    level = np.repeat(own.levels, np.diff(own.offsets))
    assert np.abs((x - 20.0) * (y - 20.0) - level).max() < 1e-9


@pytest.mark.parametrize("step", [1.0, 2.5])
def test_two_triangles_for_a_cell_of_a_saddle_lose_a_quarter_of_its_area(step):
    """In the middle of a cell of z = x y the bilinear height is h² / 4 above that of the level diagonal."""
    result = made(facets, lattice(lambda x, y: x * y, step=step))
    assert result.loss.largest <= step**2 / 4 + 1e-9
    assert result.loss.largest == pytest.approx(step**2 / 4, rel=0.01)


def test_a_coarser_grid_of_a_paraboloid_loses_what_the_chord_does():
    """Between nodes a distance H apart the chord of x² lies up to (H² - h²) / 4 above that of nodes h apart, for each axis."""
    bowl = lattice(lambda x, y: (x - 20.0) ** 2 + (y - 20.0) ** 2)
    coarse = made(grid, bowl, cell="4m", method="linear").dataset
    # Cells of 4 have their centres half-way between the nodes of 1, where x² itself is read as a chord: 1/4 too high each.
    known = np.isfinite(coarse.heights)
    east, north = np.meshgrid(coarse.eastings(), coarse.northings())
    wanted = (east - 20.0) ** 2 + (north - 20.0) ** 2
    off = coarse.heights - wanted
    assert off[known].min() > -1e-9 and off[known].max() < 0.5 + 1e-9
