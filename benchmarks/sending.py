"""The budgets of what goes out: writers against the libraries' own, and reading back against plain reading."""

from __future__ import annotations

import time

import numpy as np
from shared import FOLDER, best, make_tin, row

from vastgrid import catalog
from vastgrid.base.progress import Silent
from vastgrid.base.quantities import Unit
from vastgrid.data.frame import Frame
from vastgrid.data.pointset import PointSet
from vastgrid.delivery.deliver import deliver
from vastgrid.delivery.preparing import prepared
from vastgrid.formats import dxf, glb, las

METRES = Frame(None, Unit.METRE, Unit.METRE)


def bench_sent_faces() -> None:
    """1 M faces as our drawing, per face against ezdxf's document of 50 000."""
    import ezdxf

    tin, few = make_tin(1_000_000).in_frame(METRES), make_tin(50_000)

    def document() -> None:
        made = ezdxf.new("R2018")
        space = made.modelspace()
        for a, b, c in few.corners().tolist():
            space.add_3dface((a, b, c, c), dxfattribs={"layer": "TIN"})
        made.saveas(FOLDER / "theirs.dxf")

    ours = best(lambda: dxf.write([tin], FOLDER / "ours.dxf", dxf.DxfWriteParams(), Silent()), 1) / len(tin.triangles)
    ratio = best(document, 1) / len(few.triangles) / ours
    row(
        "DXF 1 M faces: write, per face",
        f"{ratio:.0f} × faster ({ours * 1e6:.1f} µs)",
        "≥ 12 × ezdxf's document",
        good=ratio >= 12,
    )


def bench_sent_cloud() -> None:
    """5 M points with classes, times and colours as LAZ, against laspy given the whole at once."""
    import laspy

    rng = np.random.default_rng(4)
    number = 5_000_000
    xyz = np.round(
        np.column_stack((rng.random((number, 2)) * 900.0 + (512_000.0, 5_412_000.0), rng.random(number) * 50)), 3
    )
    attributes = {
        "classification": rng.integers(1, 7, number).astype(np.uint8),
        "intensity": rng.integers(0, 4000, number).astype(np.uint16),
        "gps_time": np.linspace(3e5, 4e5, number),
        **{name: rng.integers(0, 60_000, number).astype(np.uint16) for name in ("red", "green", "blue")},
    }
    cloud = PointSet(name="cloud", frame=METRES, xyz=xyz, attributes=attributes)
    params = las.FORMAT.fits([cloud], las.LasWriteParams())

    def theirs() -> None:
        made = laspy.LasData(laspy.LasHeader(version="1.2", point_format=3))
        made.header.scales, made.header.offsets = np.full(3, 0.001), np.floor(xyz.min(axis=0))
        made.x, made.y, made.z = xyz.T
        for name, values in attributes.items():
            made[name] = values
        made.write(str(FOLDER / "theirs.laz"))

    ours = best(lambda: las.FORMAT.write([cloud], FOLDER / "ours.laz", params, Silent()), 1)
    ratio = best(theirs, 1) / ours
    row("LAZ 5 M points: write", f"{ratio:.2f} × laspy's writer ({ours:.1f} s)", "≥ 0.8 ×", good=ratio >= 0.8)


def bench_sent_glb() -> None:
    tin = make_tin(1_000_000).in_frame(METRES)
    seconds = best(lambda: glb.write([tin], FOLDER / "a.glb", glb.FORMAT.write_params(), Silent()))
    row("GLB of 1 M triangles: write", f"{seconds:.2f} s", "≤ 1 s", good=seconds <= 1.0)


def bench_sent_readback() -> None:
    """Reading back and comparing, against plain reading of the same file by the same reader."""
    tin = make_tin(400_000).in_frame(METRES)
    for own in ("landxml", "dxf", "ply"):
        target = catalog.format_named(own)
        path = FOLDER / f"back{target.suffixes[0]}"
        params = target.write_params()
        write = best(lambda target=target, path=path, params=params: target.write([tin], path, params, Silent()), 1)
        plain = best(lambda target=target, path=path: target.read(path, target.read_params(), Silent()), 1)
        # What is made ready before writing is no reading back.
        ready = best(lambda target=target, params=params: prepared([tin], target, params, (None, None), []), 1)
        begun = time.perf_counter()
        deliver([tin], path, target, params, Silent())
        back = max(time.perf_counter() - begun - write - ready, 0.0)
        ratio = back / plain
        row(
            f"reading back {target.title}, 400 k triangles, comparison included",
            f"{ratio:.2f} × the plain read ({back:.2f} s)",
            "≤ 2 ×",
            good=ratio <= 2.0,
        )
