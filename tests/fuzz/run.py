"""Damages a good file of one format over and over, and sees that only our own errors ever leave its reader.

Run by the tests for each format in a process of its own (a crash of a library is a failure too), and for longer by
``./vastgrid fuzz [times] [format …]``. Prints the seed of whatever goes wrong; ``--seed`` runs that one again.
"""

from __future__ import annotations

import argparse
import contextlib
import resource
import shutil
import sys
import tempfile
import time
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).parents[1]))

SLOWEST = 20.0
MEMORY = 14 << 30
TOKENS = (b"nan", b"-1", b"1e308", b"99999999999", b"", b"0", b"inf", b'"', b"<", b"&#0;", b"\xff\xfe", b"4294967295")


def damaged(data: bytes, rng: np.random.Generator) -> bytes:
    """Return a file with one or a few of the things that go wrong with files."""
    out = bytearray(data)
    for _ in range(int(rng.integers(1, 4))):
        kind = rng.integers(0, 7)
        size = len(out)
        if size < 8:
            break
        at = int(rng.integers(0, size))
        if kind == 0:
            for place in rng.integers(0, size, int(rng.integers(1, 9))):
                out[place] = rng.integers(0, 256)
        elif kind == 1:
            del out[at:]
        elif kind == 2:
            del out[at : at + int(rng.integers(1, 200))]
        elif kind == 3:
            piece = out[at : at + int(rng.integers(1, 400))]
            out[at:at] = piece
        elif kind == 4:
            other = int(rng.integers(0, size))
            out[at : at + 16], out[other : other + 16] = out[other : other + 16], out[at : at + 16]
        elif kind == 5:
            # A number or word of a text, or four bytes of a binary file, becomes something extreme.
            digits = [k for k in range(at, min(at + 200, size)) if 48 <= out[k] <= 57]
            if digits:
                stop = digits[0]
                while stop < len(out) and (48 <= out[stop] <= 57 or out[stop] in b".-"):
                    stop += 1
                out[digits[0] : stop] = TOKENS[int(rng.integers(0, len(TOKENS)))]
        else:
            out[at : at + 4] = rng.choice([b"\xff\xff\xff\xff", b"\0\0\0\0", b"\xff\xff\xff\x7f", b"\0\0\0\x80"])
    return bytes(out)


def once(own: str, seed: int, original: dict[Path, bytes], main: Path) -> float:
    """Damage and read one file; return how long it took."""
    from vastgrid import catalog
    from vastgrid.base.errors import VastGridError
    from vastgrid.base.progress import Silent

    rng = np.random.default_rng(seed)
    kind = catalog.format_named(own)
    # Mostly the file itself, at times one that stands beside it.
    names = list(original)
    victim = main if rng.random() < 0.7 else names[int(rng.integers(0, len(names)))]
    for path, data in original.items():
        path.write_bytes(damaged(data, rng) if path == victim else data)
    begun = time.perf_counter()
    for read in (kind.read, kind.peek):
        if read is None:
            continue
        with contextlib.suppress(VastGridError):
            made = read(main, kind.read_params(), Silent())
            for finding in made.findings if made is not None else ():
                # What does not come in has to be marked as such, or the import would say that nothing is dropped.
                if not finding.drops and ("left out" in finding.text or "dropped" in finding.text):
                    raise AssertionError(f"{finding.code} drops something and does not say so")
    kind.sniff(main.read_bytes()[:65536], main)
    if not main.exists():
        raise AssertionError("the reader removed the file")
    return time.perf_counter() - begun


def main() -> int:
    """Run; the exit code says whether all went well."""
    parser = argparse.ArgumentParser()
    parser.add_argument("format")
    parser.add_argument("--times", type=int, default=2000)
    parser.add_argument("--seed", type=int)
    options = parser.parse_args()
    resource.setrlimit(resource.RLIMIT_AS, (MEMORY, MEMORY))
    import samples

    folder = Path(tempfile.mkdtemp(prefix="vastgrid-fuzz-"))
    try:
        path = samples.sample(options.format, folder)
        original = {each: each.read_bytes() for each in sorted(folder.iterdir()) if each.is_file()}
        seeds = [options.seed] if options.seed is not None else range(options.times)
        slowest = 0.0
        for seed in seeds:
            print(f"\r{options.format} {seed}", end="", flush=True, file=sys.stderr)
            for extra in folder.iterdir():
                if extra not in original:
                    extra.unlink() if extra.is_file() else shutil.rmtree(extra)
            took = once(options.format, seed, original, path)
            slowest = max(slowest, took)
            if took > SLOWEST:
                raise AssertionError(f"reading took {took:.0f} s")
        print(f"{options.format}: {len(seeds)} damaged files, slowest {slowest:.2f} s")
    finally:
        shutil.rmtree(folder, ignore_errors=True)
    return 0


if __name__ == "__main__":
    sys.exit(main())
