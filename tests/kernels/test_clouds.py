"""Kernels of clouds and faces against slow, plain versions of the same."""

import numpy as np
import pytest
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st

from vastgrid.data.frame import UNKNOWN
from vastgrid.data.mesh import Mesh
from vastgrid.data.tin import Tin, areas
from vastgrid.kernels.cells.cloudorder import LEVELS, coarse_to_fine, count_tiles, scatter
from vastgrid.kernels.cells.clouds import unpacked
from vastgrid.kernels.triangles.locate import buckets, covering
from vastgrid.kernels.triangles.topology import neighbours_of, wind
from vastgrid.terrain.tin.assemble import fans, merged, surface_from_faces


def packed(data):
    """LZF by its description: literals of up to 32 bytes, and copies found by looking back."""
    out, literal, at = bytearray(), bytearray(), 0

    def flush():
        nonlocal literal
        while literal:
            part, literal = literal[:32], literal[32:]
            out.append(len(part) - 1)
            out.extend(part)

    while at < len(data):
        best, back = 0, 0
        for start in range(max(0, at - 600), at):
            length = 0
            while length < 264 and at + length < len(data) and data[start + length] == data[at + length]:
                length += 1
            if length > best:
                best, back = length, at - start
        if best >= 3:
            flush()
            length, distance = best - 2, back - 1
            if length < 7:
                out.append((length << 5) | (distance >> 8))
            else:
                out.append((7 << 5) | (distance >> 8))
                out.append(length - 7)
            out.append(distance & 255)
            at += best
        else:
            literal.append(data[at])
            at += 1
    flush()
    return bytes(out)


@settings(max_examples=30, deadline=None)
@given(st.binary(min_size=1, max_size=120), st.integers(1, 6))
def test_lzf(piece, times):
    data = piece * times
    small = packed(data)
    got = unpacked(np.frombuffer(small, np.uint8), len(data))
    assert got.tobytes() == data
    for cut in (len(small) // 2, len(small) - 1):
        assert len(unpacked(np.frombuffer(small[:cut], np.uint8), len(data))) <= len(data), "no reading beyond the end"


@settings(max_examples=50, deadline=None)
@given(st.binary(min_size=1, max_size=200))
def test_lzf_of_garbage_ends(data):
    assert len(unpacked(np.frombuffer(data, np.uint8), 500)) <= 500


@settings(max_examples=25, deadline=None)
@given(st.integers(0, 9999), st.integers(1, 3000))
def test_coarse_to_fine_only_reorders(seed, number):
    points = np.random.default_rng(seed).random((number, 3)).astype(np.float32) * 100
    before = np.sort(points, axis=0)
    ends = coarse_to_fine(points, np.arange(len(points), dtype=np.uint32), 0.0, 0.0, 100.0)
    np.testing.assert_array_equal(np.sort(points, axis=0), before)
    assert ends[-1] == number and ends[0] == 1 and (np.diff(ends) >= 0).all()
    for level in range(0, 6):
        own = points[: ends[level]]
        cells = {tuple(c) for c in np.minimum((own[:, :2] / 100.0 * 2**level).astype(int), 2**level - 1).tolist()}
        every = np.minimum((points[:, :2] / 100.0 * 2**level).astype(int), 2**level - 1)
        assert cells == {tuple(c) for c in every.tolist()}, "each cell that has points is stood for"
        assert len(own) <= 2 * 4**level + 1


def test_many_points_at_one_place():
    points = np.full((5000, 3), 7.0, np.float32)
    ends = coarse_to_fine(points, np.arange(len(points), dtype=np.uint32), 0.0, 0.0, 100.0)
    assert ends[LEVELS] == 1 and ends[-1] == 5000


def test_tiles_and_scatter():
    xyz = np.random.default_rng(2).random((4000, 3)) * (100, 80, 9) + (431_000, 887_000, 200)
    xyz[5] = np.nan
    counts = np.zeros(20, np.int64)
    count_tiles(xyz, 431_000.0, 887_000.0, 20.0, 5, 4, counts)
    column, row = ((xyz[:, :2] - (431_000, 887_000)) // 20).T
    good = np.isfinite(xyz[:, 0])
    want = np.bincount((row[good] * 5 + column[good]).astype(int), minlength=20)
    np.testing.assert_array_equal(counts, want)
    cursor = np.concatenate(([0], np.cumsum(counts)[:-1]))
    out, rows = np.zeros((3999, 3), np.float32), np.zeros(3999, np.uint32)
    scatter(xyz, 0, 431_000.0, 887_000.0, 200.0, 20.0, 5, 4, cursor, out, rows)
    np.testing.assert_array_equal(cursor, np.cumsum(counts))
    np.testing.assert_allclose(out, xyz[rows] - (431_000, 887_000, 200), atol=1e-4)
    np.testing.assert_allclose(np.sort(out, axis=0), np.sort(xyz[good] - (431_000, 887_000, 200), axis=0), atol=1e-4)


# ----------------------------------------------------------------------------------------------------------- faces


@settings(max_examples=30, deadline=None)
@given(st.integers(0, 9999), st.integers(2, 25))
def test_what_lies_over_what_agrees_with_geos(seed, number):
    rng = np.random.default_rng(seed)
    corners = rng.random((number, 3, 2)) * 10
    height = rng.permutation(number).astype(float)
    vertices = np.column_stack((corners.reshape(-1, 2), np.repeat(height, 3)))
    triangles = np.arange(3 * number, dtype=np.int32).reshape(-1, 3)
    got = covering(vertices, triangles, buckets(vertices, triangles), 1e-6)
    weights = np.array((0.391, 0.334, 0.275))
    shapes = shapely.polygons(np.concatenate((corners, corners[:, :1]), axis=1))
    for t in range(number):
        place = shapely.Point(*(weights @ corners[t]))
        clear = [k for k in range(number) if k != t and shapes[k].buffer(-0.05).contains(place)]
        if any(height[k] > height[t] for k in clear):
            assert got[t] & 1
        if any(height[k] < height[t] for k in clear):
            assert got[t] & 2
        near = [k for k in range(number) if k != t and shapes[k].buffer(1e-9).contains(place)]
        assert got[t] == 0 or near


def test_wind():
    vertices = np.array([(0, 0, 0), (1, 0, 5), (0, 1, 0), (2, 0, 1.0)])
    triangles = np.array([(0, 1, 2), (0, 2, 1), (0, 1, 3)], np.int32)
    flat, turned = wind(vertices, triangles)
    assert turned == 1 and flat.tolist() == [False, False, True]
    tin = Tin(name="t", vertices=vertices, triangles=triangles[:2])
    assert (areas(tin) > 0).all()


@settings(max_examples=40, deadline=None)
@given(st.lists(st.integers(0, 9), min_size=1, max_size=20))
def test_fans(sizes):
    flat = np.arange(sum(sizes), dtype=np.int64)
    got = fans(flat, np.array(sizes))
    want, start = [], 0
    for size in sizes:
        want += [(start, start + k, start + k + 1) for k in range(1, size - 1)]
        start += size
    assert got.tolist() == [list(face) for face in want]


def test_merged_corners_keep_their_order():
    vertices = np.array([(9.0, 9, 9), (0, 0, 0), (1, 0, 0), (0, 0, 0), (1, 1, 1)])
    xyz, faces = merged(vertices, np.array([(1, 2, 4), (3, 4, 2)], np.int32))
    assert xyz.tolist() == [[0, 0, 0], [1, 0, 0], [1, 1, 1]] and faces.tolist() == [[0, 1, 2], [0, 2, 1]]


def test_neighbours_are_mutual_on_any_mesh():
    rng = np.random.default_rng(5)
    number = np.arange(400).reshape(20, 20)
    a, b, c, d = (part.ravel() for part in (number[:-1, :-1], number[:-1, 1:], number[1:, 1:], number[1:, :-1]))
    triangles = np.concatenate((np.column_stack((a, b, c)), np.column_stack((a, c, d)))).astype(np.int32)
    triangles = triangles[rng.permutation(len(triangles))]
    across = neighbours_of(triangles)
    for t in range(len(triangles)):
        for k in range(3):
            other = across[t, k]
            if other >= 0:
                assert t in across[other]
                assert {triangles[t, k], triangles[t, (k + 1) % 3]} <= set(triangles[other].tolist())
    assert (across < 0).sum() == 4 * 19, "the rim"


@pytest.mark.parametrize(("lift", "kind"), [(0.0, Tin), (3.0, Mesh)])
def test_a_sheet_folded_over_itself_is_no_height_field(lift, kind):
    vertices = np.array([(0, 0, 0), (10, 0, 0), (10, 10, 0), (0, 10, 0), (4, 0, lift), (4, 10, lift)], float)
    faces = [(0, 1, 2), (0, 2, 3)] + ([(1, 4, 5), (1, 5, 2)] if lift else [])
    surface, findings = surface_from_faces("s", UNKNOWN, vertices, np.array(faces, np.int32))
    assert isinstance(surface, kind)
    assert any(finding.code == "overhang" for finding in findings) is (kind is Mesh)


def test_a_wall_alone_is_no_ground():
    vertices = np.array([(0, 0, 0), (10, 0, 0), (10, 0, 5.0)])
    surface, findings = surface_from_faces("wall", UNKNOWN, vertices, np.array([(0, 1, 2)], np.int32))
    assert isinstance(surface, Mesh) and findings[0].code == "upright"
