"""Drawing in perspective: triangles, lines and points into a picture with a depth for every pixel.

Screen coordinates hold x, y and the inverse of the distance from the eye: that inverse is linear across a face on the
screen, so it serves for hiding what lies behind and for interpolating what lies on a face alike.
"""

from __future__ import annotations

import math

import numba
import numpy as np


@numba.njit(cache=True, nogil=True)
def project(vertices, origin, matrix, stretch, out):
    """Bring world coordinates before the eye.

    Parameters
    ----------
    vertices : (n, 3) float64
        World coordinates.
    origin : (3,) float64
        Place that is taken off first, so that what follows is small.
    matrix : (3, 4) float64
        Turns and moves into the eye's own axes: right, up, away.
    stretch : float
        Factor on heights above the origin.
    out : (n, 3) float32
        Right, up, away.
    """
    for i in range(vertices.shape[0]):
        x, y = vertices[i, 0] - origin[0], vertices[i, 1] - origin[1]
        z = (vertices[i, 2] - origin[2]) * stretch
        for k in range(3):
            out[i, k] = matrix[k, 0] * x + matrix[k, 1] * y + matrix[k, 2] * z + matrix[k, 3]


@numba.njit(cache=True, nogil=True, inline="always")
def _light(ax, ay, az, bx, by, bz, lx, ly, lz):
    """Return the light on a face that two of its edges span, from 0 to 1; both sides are lit as the upper one."""
    nx, ny, nz = ay * bz - az * by, az * bx - ax * bz, ax * by - ay * bx
    length = math.sqrt(nx * nx + ny * ny + nz * nz)
    if length == 0.0:
        return 0.7
    if nz < 0.0:
        nx, ny, nz = -nx, -ny, -nz
    return max((nx * lx + ny * ly + nz * lz) / length, 0.0)


@numba.njit(cache=True, nogil=True)
def draw_faces(
    eye,
    vertices,
    triangles,
    values,
    per_face,
    colours,
    low,
    high,
    light,
    stretch,
    near,
    focus,
    opacity,
    cut,
    image,
    depth,
    before,
    rows,
):
    """Draw faces.

    Parameters
    ----------
    eye : (n, 3) float32
        Vertices before the eye, as `project` gives them.
    vertices : (n, 3) float64
        The same in the world, for shading.
    triangles : (m, 3) int32
        Corners.
    values : (n,) or (m,) float64
        What is coloured: of each vertex, or of each face where `per_face` is true. NaN is grey.
    colours, low, high
        Colours from the low to the high end.
    light : (4,) float64
        Direction towards the sun, and how much of the light comes from it; the rest is everywhere.
    near, focus : float
        Least distance that is drawn; pixels per unit of slope.
    opacity : float
        From 0 to 1; what is not opaque hides nothing.
    cut : (4,) float64
        East, north, offset of a vertical plane and whether it counts: what lies on its left is not drawn.
    image : (rows, columns, 4) uint8
        B, G, R, A.
    depth : (rows, columns) float32
        Inverse distance of what is seen of these faces.
    before : (rows, columns) float32
        The same of what was drawn before; of two surfaces that all but coincide the later one is seen.
    rows : (2,) int64
        First and last-but-one row to draw, so that threads share a picture.
    """
    height, width = depth.shape
    cx, cy = width / 2.0, height / 2.0
    last = colours.shape[0] - 1
    scale = last / (high - low) if high > low else 0.0
    top, bottom = rows[0], rows[1]
    poly = np.zeros((4, 4), np.float64)
    cutting = cut[3] != 0.0
    for t in range(triangles.shape[0]):
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        za, zb, zc = eye[a, 2], eye[b, 2], eye[c, 2]
        if za < near and zb < near and zc < near:
            continue
        n = 0
        if za >= near and zb >= near and zc >= near:
            # The common case, without copying: out of sight is told early.
            ya, yb, yc = cy - focus * eye[a, 1] / za, cy - focus * eye[b, 1] / zb, cy - focus * eye[c, 1] / zc
            if max(ya, yb, yc) < top or min(ya, yb, yc) >= bottom:
                continue
            xa, xb, xc = cx + focus * eye[a, 0] / za, cx + focus * eye[b, 0] / zb, cx + focus * eye[c, 0] / zc
            if max(xa, xb, xc) < 0 or min(xa, xb, xc) >= width:
                continue
            va = values[t] if per_face else values[a]
            vb = va if per_face else values[b]
            vc = va if per_face else values[c]
            poly[0, 0], poly[0, 1], poly[0, 2], poly[0, 3] = xa, ya, 1.0 / za, va
            poly[1, 0], poly[1, 1], poly[1, 2], poly[1, 3] = xb, yb, 1.0 / zb, vb
            poly[2, 0], poly[2, 1], poly[2, 2], poly[2, 3] = xc, yc, 1.0 / zc, vc
            n = 3
        else:
            for k in range(3):
                i, j = triangles[t, k], triangles[t, (k + 1) % 3]
                vi = values[t] if per_face else values[i]
                vj = values[t] if per_face else values[j]
                zi, zj = eye[i, 2], eye[j, 2]
                if zi >= near:
                    poly[n, 0], poly[n, 1] = cx + focus * eye[i, 0] / zi, cy - focus * eye[i, 1] / zi
                    poly[n, 2], poly[n, 3] = 1.0 / zi, vi
                    n += 1
                if (zi >= near) != (zj >= near):
                    s = (near - zi) / (zj - zi)
                    x, y = eye[i, 0] + s * (eye[j, 0] - eye[i, 0]), eye[i, 1] + s * (eye[j, 1] - eye[i, 1])
                    poly[n, 0], poly[n, 1] = cx + focus * x / near, cy - focus * y / near
                    poly[n, 2], poly[n, 3] = 1.0 / near, vi + s * (vj - vi)
                    n += 1
        f = -1.0
        for part in range(n - 2):
            x0, y0 = poly[0, 0], poly[0, 1]
            x1, y1 = poly[part + 1, 0], poly[part + 1, 1]
            x2, y2 = poly[part + 2, 0], poly[part + 2, 1]
            r0, r1 = (
                max(int(math.ceil(min(y0, y1, y2) - 0.5)), top),
                min(int(math.floor(max(y0, y1, y2) - 0.5)), bottom - 1),
            )
            c0, c1 = (
                max(int(math.ceil(min(x0, x1, x2) - 0.5)), 0),
                min(int(math.floor(max(x0, x1, x2) - 0.5)), width - 1),
            )
            if r0 > r1 or c0 > c1:
                continue
            double = (x1 - x0) * (y2 - y0) - (y1 - y0) * (x2 - x0)
            if double == 0.0:
                continue
            inverse = 1.0 / double
            w0, w1, w2 = poly[0, 2], poly[part + 1, 2], poly[part + 2, 2]
            v0, v1, v2 = poly[0, 3] * w0, poly[part + 1, 3] * w1, poly[part + 2, 3] * w2
            for r in range(r0, r1 + 1):
                y = r + 0.5
                for col in range(c0, c1 + 1):
                    x = col + 0.5
                    s1 = ((x - x0) * (y2 - y0) - (y - y0) * (x2 - x0)) * inverse
                    s2 = ((x1 - x0) * (y - y0) - (y1 - y0) * (x - x0)) * inverse
                    s0 = 1.0 - s1 - s2
                    if s0 < -1e-7 or s1 < -1e-7 or s2 < -1e-7:
                        continue
                    w = s0 * w0 + s1 * w1 + s2 * w2
                    if w <= depth[r, col] or w * 1.0012 <= before[r, col]:
                        continue
                    if f < 0.0:
                        f = _light(
                            vertices[b, 0] - vertices[a, 0], vertices[b, 1] - vertices[a, 1],
                            (vertices[b, 2] - vertices[a, 2]) * stretch,
                            vertices[c, 0] - vertices[a, 0], vertices[c, 1] - vertices[a, 1],
                            (vertices[c, 2] - vertices[a, 2]) * stretch,
                            light[0], light[1], light[2],
                        )  # fmt: skip
                        f = min((1.0 - light[3]) + light[3] * 1.4 * f, 1.15)
                        if cutting:
                            mx = (vertices[a, 0] + vertices[b, 0] + vertices[c, 0]) / 3.0
                            my = (vertices[a, 1] + vertices[b, 1] + vertices[c, 1]) / 3.0
                            if mx * cut[0] + my * cut[1] < cut[2]:
                                f = -2.0
                    if f == -2.0:
                        break
                    v = (s0 * v0 + s1 * v1 + s2 * v2) / w
                    if math.isnan(v):
                        red, green, blue = 200.0 * f, 200.0 * f, 200.0 * f
                    else:
                        k = min(max(int((v - low) * scale), 0), last)
                        red, green, blue = colours[k, 0] * f, colours[k, 1] * f, colours[k, 2] * f
                    if opacity >= 1.0:
                        depth[r, col] = w
                        image[r, col, 0] = int(min(blue, 255.0))
                        image[r, col, 1] = int(min(green, 255.0))
                        image[r, col, 2] = int(min(red, 255.0))
                        image[r, col, 3] = 255
                    else:
                        keep = 1.0 - opacity
                        image[r, col, 0] = int(min(blue, 255.0) * opacity + image[r, col, 0] * keep)
                        image[r, col, 1] = int(min(green, 255.0) * opacity + image[r, col, 1] * keep)
                        image[r, col, 2] = int(min(red, 255.0) * opacity + image[r, col, 2] * keep)
                        image[r, col, 3] = 255
                if f == -2.0:
                    break
            if f == -2.0:
                break


@numba.njit(cache=True, nogil=True)
def draw_points(eye, colours, near, focus, size, strength, image, depth):
    """Draw points as squares of `size` pixels, each in its own colour (n, 3) uint8, hidden by what lies before them."""
    height, width = depth.shape
    cx, cy = width / 2.0, height / 2.0
    before, after = (size - 1) // 2, size // 2
    for i in range(eye.shape[0]):
        z = eye[i, 2]
        if not z >= near:
            continue
        x, y = int(cx + focus * eye[i, 0] / z), int(cy - focus * eye[i, 1] / z)
        if x < -size or y < -size or x >= width + size or y >= height + size:
            continue
        w = 1.0 / z
        for r in range(max(y - before, 0), min(y + after, height - 1) + 1):
            for c in range(max(x - before, 0), min(x + after, width - 1) + 1):
                # A point on a surface must not be swallowed by it.
                if w * 1.002 <= depth[r, c]:
                    continue
                if strength >= 1.0:
                    depth[r, c] = w
                for k in range(3):
                    image[r, c, k] = int(colours[i, 2 - k] * strength + image[r, c, k] * (1.0 - strength))
                image[r, c, 3] = 255


@numba.njit(cache=True, nogil=True)
def draw_lines(eye, offsets, colours, near, focus, width_px, strength, image, depth):
    """Draw polylines; line i is ``eye[offsets[i]:offsets[i + 1]]``, in its own colour (k, 3) uint8."""
    height, width = depth.shape
    cx, cy = width / 2.0, height / 2.0
    for line in range(offsets.shape[0] - 1):
        for i in range(offsets[line], offsets[line + 1] - 1):
            za, zb = eye[i, 2], eye[i + 1, 2]
            if not (za >= near or zb >= near) or math.isnan(za) or math.isnan(zb):
                continue
            ax, ay, bx, by = eye[i, 0], eye[i, 1], eye[i + 1, 0], eye[i + 1, 1]
            if za < near:
                s = (near - za) / (zb - za)
                ax, ay, za = ax + s * (bx - ax), ay + s * (by - ay), near
            elif zb < near:
                s = (near - zb) / (za - zb)
                bx, by, zb = bx + s * (ax - bx), by + s * (ay - by), near
            x0, y0, x1, y1 = cx + focus * ax / za, cy - focus * ay / za, cx + focus * bx / zb, cy - focus * by / zb
            if max(x0, x1) < 0 or min(x0, x1) >= width or max(y0, y1) < 0 or min(y0, y1) >= height:
                continue
            w0, w1 = 1.0 / za, 1.0 / zb
            steps = max(abs(x1 - x0), abs(y1 - y0))
            # What reaches far beyond the picture is walked only inside it.
            first, final = 0.0, 1.0
            for p, d, most in ((x0, x1 - x0, width), (y0, y1 - y0, height)):
                if d > 0:
                    first, final = max(first, -p / d), min(final, (most - p) / d)
                elif d < 0:
                    first, final = max(first, (most - p) / d), min(final, -p / d)
            if first > final:
                continue
            number = int(steps * (final - first)) + 1
            flat = abs(x1 - x0) >= abs(y1 - y0)
            for k in range(number + 1):
                s = first + (final - first) * k / number
                x, y, w = x0 + s * (x1 - x0), y0 + s * (y1 - y0), w0 + s * (w1 - w0)
                for step in range(width_px):
                    c = int(x) if flat else int(x) + step - (width_px - 1) // 2
                    r = int(y) + step - (width_px - 1) // 2 if flat else int(y)
                    if c < 0 or r < 0 or c >= width or r >= height or w * 1.004 <= depth[r, c]:
                        continue
                    for channel in range(3):
                        old = image[r, c, channel]
                        image[r, c, channel] = int(colours[line, 2 - channel] * strength + old * (1.0 - strength))
                    image[r, c, 3] = 255


@numba.njit(cache=True, nogil=True)
def draw_wires(eye, triangles, near, focus, room, red, green, blue, strength, image, depth):
    """Draw the edges of faces that are at least `room` pixels long, the fainter the shorter: never a black blot."""
    height, width = depth.shape
    cx, cy = width / 2.0, height / 2.0
    for t in range(triangles.shape[0]):
        for k in range(3):
            a, b = triangles[t, k], triangles[t, (k + 1) % 3]
            if a > b:
                continue
            za, zb = eye[a, 2], eye[b, 2]
            if not (za >= near and zb >= near):
                continue
            x0, y0 = cx + focus * eye[a, 0] / za, cy - focus * eye[a, 1] / za
            x1, y1 = cx + focus * eye[b, 0] / zb, cy - focus * eye[b, 1] / zb
            if max(x0, x1) < 0 or min(x0, x1) >= width or max(y0, y1) < 0 or min(y0, y1) >= height:
                continue
            steps = max(abs(x1 - x0), abs(y1 - y0))
            if steps < room:
                continue
            own = strength * min((steps - room) / (2.0 * room) + 0.15, 1.0)
            w0, w1 = 1.0 / za, 1.0 / zb
            number = min(int(steps) + 1, 4 * (width + height))
            for i in range(number + 1):
                s = i / number
                c, r = int(x0 + s * (x1 - x0)), int(y0 + s * (y1 - y0))
                if c < 0 or r < 0 or c >= width or r >= height or (w0 + s * (w1 - w0)) * 1.003 <= depth[r, c]:
                    continue
                image[r, c, 0] = int(blue * own + image[r, c, 0] * (1.0 - own))
                image[r, c, 1] = int(green * own + image[r, c, 1] * (1.0 - own))
                image[r, c, 2] = int(red * own + image[r, c, 2] * (1.0 - own))
                image[r, c, 3] = 255
