"""A conversion asked for in plain words, such as “contours 0.5 from existing ground”."""

from __future__ import annotations

import re
from dataclasses import dataclass

from vastgrid import catalog
from vastgrid.declarations.conversion import Conversion
from vastgrid.jobs.session import Session
from vastgrid.lineage.graph import Role
from vastgrid.params import declare


@dataclass(frozen=True)
class TypedRequest:
    """A conversion asked for in words."""

    conversion: str
    words: dict[str, str]
    inputs: tuple[str, ...]


def understood(text: str, session: Session, chosen: list[str]) -> TypedRequest | None:
    """Read a sentence such as “contours 0.5 m index 5 from existing ground”; None where it is none."""
    sentence = re.fullmatch(r"\s*(?P<what>.+?)(?:\s+(?:from|of)\s+(?P<source>.+))?\s*", text, re.IGNORECASE)
    if sentence is None:
        return None
    parts = sentence["what"].split()
    named = _conversion(parts)
    if named is None:
        return None
    conversion, used = named
    words = _words(conversion.params, parts[used:])
    inputs = _named(session, sentence["source"], conversion.takes) if sentence["source"] else tuple(chosen)
    if words is None or not inputs:
        return None
    return TypedRequest(conversion.id, words, inputs)


def _conversion(parts: list[str]) -> tuple[Conversion, int] | None:
    """Return the conversion that a sentence begins with, by id, title or another word for it, and how many words name it."""
    for used in range(min(len(parts), 6), 0, -1):
        head = " ".join(parts[:used]).lower().rstrip("s")
        for pick in (lambda each: (each.id, each.title), lambda each: each.also):
            for each in catalog.CONVERSIONS:
                if any(name.lower().rstrip("s") == head for name in pick(each)):
                    return each, used
    return None


def _words(params: type, parts: list[str]) -> dict[str, str] | None:
    fields = declare.fields(params)
    joined = " ".join(parts)
    joined = re.sub(r"(\d)\s+(m|mm|ft|us-ft|in)\b", r"\1\2", joined)
    words: dict[str, str] = {}
    rest = joined.split()
    while rest:
        part = rest.pop(0)
        name = part.lower().replace("-", "_")
        if part.lower() in ("every", "at", "with"):
            continue
        if any(field.name == name for field in fields) and rest:
            words[name] = rest.pop(0)
        elif re.match(r"[\d.]", part):
            free = next((f for f in fields if f.how.bare and f.name not in words), None)
            if free is None:
                return None
            words[free.name] = part
        else:
            return None
    return words


def _named(session: Session, text: str, takes: tuple[type, ...]) -> tuple[str, ...]:
    wanted = [word.strip().lower() for word in re.split(r",|\band\b", text) if word.strip()]
    found = []
    for word in wanted:
        able = [
            node
            for node in session.graph.cards.values()
            if node.role is not Role.DELIVERY and word in node.name.lower()
        ]
        able.sort(key=lambda node: (node.name.lower() != word, not isinstance(session.dataset(node.id), takes)))
        if able:
            found.append(able[0].id)
    return tuple(found)
