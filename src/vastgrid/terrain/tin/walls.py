"""Walls: two lines over the same places, foot and top; the top leans a little towards the higher ground."""

from __future__ import annotations

import itertools
from collections.abc import Sequence

import numpy as np

from vastgrid.base.findings import Finding, count, note
from vastgrid.base.quantities import unit_word
from vastgrid.data.dataset import Floats
from vastgrid.data.linework import Linework, from_lines

# So far beside a wall, in its own offsets and in mean distances of points, is looked which ground is higher.
LOOK = 6.0


def parted_walls(lines: Sequence[Linework], tolerance: float) -> tuple[list[Linework], list[tuple[Floats, Floats]]]:
    """Return lines that are no walls, and the walls: pairs of lines over the same places in plan, the lower first.

    A line that goes over each of its places twice, foot and top in turn, is a wall by itself.
    """
    seen: dict[bytes, tuple[int, int]] = {}
    gone: set[tuple[int, int]] = set()
    walls: list[tuple[Floats, Floats]] = []
    for k, work in enumerate(lines):
        for j in range(len(work)):
            line = work.line(j)
            if len(line) >= 4 and len(line) % 2 == 0 and (line[::2, :2] == line[1::2, :2]).all():
                walls.append(_lower_first(line[::2], line[1::2]))
                gone.add((k, j))
                continue
            places = np.round(line[:, :2] / max(tolerance, 1e-9)).astype(np.int64)
            turned = places[::-1]
            key = min(places.tobytes(), turned.tobytes())
            if key in seen and seen[key] not in gone:
                other_k, other_j = seen[key]
                other = lines[other_k].line(other_j)
                own = (
                    line
                    if places.tobytes() == np.round(other[:, :2] / max(tolerance, 1e-9)).astype(np.int64).tobytes()
                    else line[::-1]
                )
                if (np.abs(own[:, 2] - other[:, 2]) > 1e-9).any():
                    walls.append(_lower_first(other, own))
                    gone |= {(k, j), (other_k, other_j)}
                    continue
            seen[key] = (k, j)
    rest = []
    for k, work in enumerate(lines):
        keep = np.array([j for j in range(len(work)) if (k, j) not in gone], np.int64)
        if len(keep):
            rest.append(work.chosen(keep))
    return rest, walls


def _lower_first(one: Floats, other: Floats) -> tuple[Floats, Floats]:
    return (one, other) if one[:, 2].mean() <= other[:, 2].mean() else (other, one)


def leaning(
    walls: Sequence[tuple[Floats, Floats]], ground: Floats, offset: float, like: Linework, findings: list[Finding]
) -> list[Linework]:
    """Return walls as breaklines: each foot where it is, each top moved sideways towards the higher ground.

    Parameters
    ----------
    ground : (n, 3) float64
        Points that tell which side is higher.
    offset : float
        How far a top is moved in plan.
    """
    if not walls:
        return []
    from scipy.spatial import cKDTree

    own = np.concatenate([foot for foot, _ in walls])
    others = ground if len(ground) else own
    tree = cKDTree(others[:, :2])
    spread = float(np.sqrt(np.prod(np.maximum(np.ptp(others[:, :2], axis=0), 1e-9)) / max(len(others), 1)))
    reach = max(LOOK * offset, LOOK * spread)
    made: list[Floats] = []
    unsure = 0
    for foot, top in walls:
        side = _higher_side(foot, others, tree, reach)
        unsure += side == 0
        made += [foot, _moved(top, offset if side >= 0 else -offset)]
    unit = unit_word(like.frame.horizontal)
    text = f"{count(len(walls), 'wall')}: the top of each leans {offset:g}{unit} towards the higher ground."
    findings.append(note("walls", text, (float(own[0, 0]), float(own[0, 1]))))
    if unsure:
        text = (
            f"Beside {count(unsure, 'wall')} no side is higher than the other; the top leans to the left of its line."
        )
        findings.append(Finding("wall-side-unknown", text, at=(float(own[0, 0]), float(own[0, 1]))))
    work = from_lines("walls", like.frame, made, ["walls"] * len(made))
    return [work]


def _higher_side(line: Floats, ground: Floats, tree: object, reach: float) -> int:
    """Return 1 where the ground on the left of a line is higher, -1 where that on the right is, 0 where nobody can say."""
    left: list[float] = []
    right: list[float] = []
    for a, b in itertools.pairwise(line):
        along = b[:2] - a[:2]
        if not along.any():
            continue
        found = ground[tree.query_ball_point((a[:2] + b[:2]) / 2.0, reach + float(np.hypot(*along)) / 2.0)]  # type: ignore[attr-defined]
        away = found[:, :2] - a[:2]
        across = along[0] * away[:, 1] - along[1] * away[:, 0]
        beside = np.abs(across) > 1e-9 * float(along @ along)
        share = away @ along / float(along @ along)
        near = beside & (share >= 0.0) & (share <= 1.0)
        left += found[near & (across > 0.0), 2].tolist()
        right += found[near & (across < 0.0), 2].tolist()
    if not left or not right:
        return 0
    return int(np.sign(np.median(left) - np.median(right)))


def _moved(line: Floats, offset: float) -> Floats:
    """Return a line moved to its left, corners mitred up to twice the offset."""
    closed = len(line) > 3 and (line[0, :2] == line[-1, :2]).all()
    along = np.diff(line[:, :2], axis=0)
    length = np.hypot(along[:, 0], along[:, 1])
    length[length == 0.0] = 1.0
    normal = np.column_stack((-along[:, 1], along[:, 0])) / length[:, None]
    before = np.concatenate((normal[-1:] if closed else normal[:1], normal))
    after = np.concatenate((normal, normal[:1] if closed else normal[-1:]))
    both = before + after
    size = (both**2).sum(axis=1)
    # The mitre of two unit normals n and m is (n + m) / (1 + n·m); a sharp turn keeps to the first normal.
    sharp = size < 1.0
    both[sharp] = before[sharp]
    size[sharp] = 2.0
    out = line.copy()
    out[:, :2] += offset * both * (2.0 / size)[:, None]
    return out
