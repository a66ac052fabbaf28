"""Faces given by their corners become vertices and indices: against NumPy's own sets of rows."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from vastgrid.terrain.tin.assemble import welded

NUMBERS = st.sampled_from([0.0, -0.0, 1.0, -1.0, 1e-300, 431_000.25, 431_000.250000001, 5e-324])


@settings(max_examples=60)
@given(st.lists(st.tuples(*(st.tuples(NUMBERS, NUMBERS, NUMBERS) for _ in range(3))), max_size=12))
def test_equal_corners_are_one_vertex_and_nothing_moves(faces):
    corners = np.array(faces, np.float64).reshape(-1, 3, 3)
    vertices, triangles = welded(corners)
    np.testing.assert_array_equal(vertices[triangles], corners)
    assert len(vertices) == len(np.unique(corners.reshape(-1, 3), axis=0))
    assert not np.signbit(vertices[vertices == 0.0]).any(), "a negative zero is zero"


def test_vertices_keep_the_order_in_which_the_file_names_them():
    corners = np.array([[(5, 5, 0), (1, 1, 0), (3, 0, 0)], [(1, 1, 0), (5, 5, 0), (0, 9, 0)]], np.float64)
    vertices, triangles = welded(corners)
    assert vertices.tolist() == [[5, 5, 0], [1, 1, 0], [3, 0, 0], [0, 9, 0]]
    assert triangles.tolist() == [[0, 1, 2], [1, 0, 3]]


@pytest.mark.parametrize("number", [1, 1000])
def test_no_number_is_equal_to_nothing(number):
    """A corner that is not a number is a vertex of its own each time it stands there; checks refuse it later."""
    corners = np.full((number, 3, 3), np.nan)
    vertices, triangles = welded(corners)
    assert len(vertices) == 3 * number == len(np.unique(triangles))
