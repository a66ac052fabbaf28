"""Blocks of a drawing before they are taken apart: how much they would become, and what they lack."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.findings import Finding, count, left_out
from vastgrid.base.words import spaced
from vastgrid.formats.dxf._tags import Entities, Tags, decoded, no_numbers
from vastgrid.kernels.text.tags import word

# A few bytes can ask for billions of parts; a drawing of a site has thousands.
MOST_PARTS = 1_000_000


@dataclass(slots=True)
class _Block:
    """A block: its own entities, what it inserts how often, and where it comes from if not from this file."""

    parts: int = 0
    inserts: list[tuple[str, int]] = field(default_factory=list)
    outside: str = ""
    size: int | None = None


def drawable_inserts(
    entities: Entities, whole: Tags, chosen: NDArray[np.bool_], findings: list[Finding]
) -> NDArray[np.bool_]:
    """Return which entities can be drawn: all but inserts of what is not there, repeats itself, or would never end."""
    good = np.ones(len(entities.first), np.bool_)
    inserts = np.flatnonzero(chosen & (entities.kind == word("INSERT")))
    if len(inserts) == 0:
        return good
    blocks = _blocks(whole, entities.offset, entities.encoding)
    names = _names(entities.tags, entities.first[inserts], entities.encoding)
    rows, columns = (np.maximum(entities.values(inserts, code, 1.0), 1.0) for code in (71, 70))
    missing: Counter[str] = Counter()
    outside: Counter[str] = Counter()
    endless: Counter[str] = Counter()
    large: Counter[str] = Counter()
    total = 0
    for k, entity in enumerate(inserts.tolist()):
        name = names[k]
        block = blocks.get(name.lower())
        why = missing if block is None else outside if block.outside else None
        size = 0
        if block is not None and why is None:
            size = _size(blocks, name.lower(), set()) * int(rows[k]) * int(columns[k])
            why = endless if size < 0 else large if total + size > MOST_PARTS else None
        if why is None:
            total += size
            continue
        why[f"{name} ({block.outside})" if why is outside and block is not None else name] += 1
        good[entity] = False
    for kind, text in (
        (missing, ("insert of a block that is not in the drawing", "inserts of blocks that are not in the drawing")),
        (
            outside,
            ("insert of another drawing, not part of this file", "inserts of other drawings, not part of this file"),
        ),
        (endless, ("insert of a block that contains itself", "inserts of blocks that contain themselves")),
        (
            large,
            (f"insert beyond {spaced(MOST_PARTS)} parts in all", f"inserts beyond {spaced(MOST_PARTS)} parts in all"),
        ),
    ):
        if kind:
            some = ", ".join(list(kind)[:5])
            told = f"{count(sum(kind.values()), *text)}: {some}; left out."
            findings.append(left_out("inserts-left-out", told))
    return good


def _names(tags: Tags, first: NDArray[np.int64], encoding: str) -> list[str]:
    at = np.flatnonzero(tags.codes == 2)
    place = np.searchsorted(at, first)
    return [decoded(tags.text(int(at[k])), encoding) if k < len(at) else "" for k in place.tolist()]


def _blocks(whole: Tags, stop: int, encoding: str) -> dict[str, _Block]:
    """Return the blocks by their names in small letters."""
    zero = np.flatnonzero(whole.codes[:stop] == 0)
    kinds = whole.words[zero]
    ends = np.append(zero[1:], stop)
    begins = np.flatnonzero(kinds == word("BLOCK"))
    number = np.searchsorted(begins, np.arange(len(zero)), side="right") - 1
    inserts = np.flatnonzero(kinds == word("INSERT"))
    found: dict[str, _Block] = {}
    listed: list[_Block] = []
    parts = np.bincount(number[number >= 0], minlength=len(begins))
    for k, at in enumerate(begins.tolist()):
        texts = _first_texts(whole, int(zero[at]) + 1, int(ends[at]), encoding)
        block = _Block(parts=int(parts[k]))
        flags = int(texts[70]) if texts.get(70, "").strip().lstrip("-").isdigit() else 0
        # By the DXF reference 4 is an external reference and 8 one that overlays.
        block.outside = (texts.get(1) or "another drawing") if flags & 12 else ""
        listed.append(block)
        found.setdefault(texts.get(2, "").lower(), block)
    for at in inserts.tolist():
        if number[at] < 0:
            continue
        texts = _first_texts(whole, int(zero[at]) + 1, int(ends[at]), encoding)
        times = 1
        for code in (70, 71):
            word_ = texts.get(code, "1").strip()
            times *= max(int(word_), 1) if word_.isdigit() and len(word_) < 9 else 1
        listed[int(number[at])].inserts.append((texts.get(2, "").lower(), times))
    return found


def _first_texts(tags: Tags, start: int, stop: int, encoding: str) -> dict[int, str]:
    found: dict[int, str] = {}
    for k in range(start, min(stop, start + 60)):
        found.setdefault(int(tags.codes[k]), decoded(tags.text(k), encoding))
    return found


def _size(blocks: dict[str, _Block], name: str, above: set[str]) -> int:
    """Return how many parts a block becomes, nested ones counted; -1 where it contains itself."""
    block = blocks.get(name)
    if block is None or block.outside:
        return 0
    if block.size is None:
        if name in above or len(above) > 200:
            return -1
        total = block.parts
        for other, times in block.inserts:
            size = _size(blocks, other, above | {name})
            if size < 0:
                total = -1
                break
            total = min(total + size * times, 10**15)
        block.size = total
    return block.size


def sound_head(whole: Tags, stop: int, findings: list[Finding]) -> list[bytes]:
    """Return the text of a drawing up to its entities, without the blocks' entities whose coordinates are no numbers."""
    data, stops = whole.data, whole.stops
    begin = np.flatnonzero((whole.codes[:stop] == 2) & (whole.words[:stop] == word("BLOCKS")))
    bad = no_numbers(whole.part(0, stop))
    bad = bad[bad > begin[0]] if len(begin) else bad[:0]
    zero = np.flatnonzero(whole.codes[:stop] == 0)
    entity = np.unique(np.searchsorted(zero, bad, side="right") - 1)
    kinds = whole.words[zero[entity]]
    entity = entity[~np.isin(kinds, [word(name) for name in ("BLOCK", "ENDBLK", "SECTION", "ENDSEC")])]
    if len(entity) == 0:
        return [data[: int(stops[stop - 1])].tobytes()]
    text = f"{count(len(entity), 'entity', 'entities')} of blocks with coordinates that are not numbers: left out."
    findings.append(left_out("not-a-number", text))
    ends = np.append(zero[1:], stop)
    parts, at = [], 0
    for k in entity.tolist():
        parts.append(data[at : int(stops[zero[k] - 1])].tobytes())
        at = int(stops[ends[k] - 1])
    parts.append(data[at : int(stops[stop - 1])].tobytes())
    return parts
