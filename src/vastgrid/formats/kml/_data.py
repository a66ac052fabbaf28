"""Extended data of placemarks as attributes, in and out (OGC KML 2.2, 9.3: untyped pairs, and fields with a type)."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator, Mapping, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.findings import Finding, count, left_out
from vastgrid.base.words import plain
from vastgrid.base.xmltext import escape, quoteattr
from vastgrid.data.attributes import numbers_of_texts
from vastgrid.format_support.columns import AsHeld, Column, as_text, different_names, longest_text, text_column

_WHOLE = ("int", "uint", "short", "ushort")
_REAL = ("float", "double")
_YES, _NO = ("1", "true"), ("0", "false")
# A number as XML has it; Python would take more for one.
_NUMBER = re.compile(r"[+-]?(\d+(\.\d*)?|\.\d+)([eE][+-]?\d+)?|[+-]?INF|NaN")
_ROWS = 10_000


def columns_of(
    rows: Sequence[Mapping[str, str]], types: Mapping[str, str], taken: Collection[str], findings: list[Finding]
) -> dict[str, Column]:
    """Return what placemarks say beside their places as columns, (k,) each.

    Parameters
    ----------
    rows : sequence of mapping
        Of each placemark, texts by name.
    types : mapping
        Type of each name that a schema declares; texts of other names are numbers where all of them are.
    taken : collection of str
        Names that other columns have already.
    """
    names = list(dict.fromkeys(name for row in rows for name in row))
    called = {name: f"{name}_2" if name in taken else name or "value" for name in names}
    found: dict[str, Column] = {}
    cut = 0
    for name in names:
        texts = [row.get(name, "") for row in rows]
        found[called[name]], gone = _column(texts, types.get(name, ""))
        cut += gone
    if cut:
        text = f"{count(cut, 'text')} of extended data with more than {longest_text(len(rows))} bytes cut for want of room."
        findings.append(left_out("text-cut", text))
    return found


def _column(texts: list[str], kind: str) -> tuple[Column, int]:
    if kind == "bool" and all(text in (*_YES, *_NO) for text in texts):
        return np.array([text in _YES for text in texts]), 0
    if kind in _WHOLE or kind in _REAL or not kind:
        numbers = _numbers(texts, typed=bool(kind))
        if numbers is not None:
            return numbers, 0
    return text_column(texts)


def _numbers(texts: list[str], *, typed: bool) -> Column | None:
    """Return texts as numbers, NaN for none; None where one is something else."""
    known = [text for text in texts if text]
    if not known:
        return np.full(len(texts), np.nan) if typed else None
    if typed:
        if not all(_NUMBER.fullmatch(text) for text in known):
            return None
        own = np.array([float(text.replace("INF", "inf")) for text in known])
        if len(known) == len(texts) and all(text.lstrip("+-").isdigit() for text in known):
            exact = [int(text) for text in known]
            if all(-(2**63) <= value < 2**63 for value in exact):
                return np.array(exact, np.int64)
    else:
        plainly = numbers_of_texts(np.array([text.encode() for text in known]))
        if plainly is None or len(known) == len(texts):
            return plainly
        own = plainly.astype(np.float64)
    out = np.full(len(texts), np.nan)
    out[[bool(text) for text in texts]] = own
    return out


def column(_name: str, values: Column, _params: object) -> AsHeld:
    """Return an attribute as a field holds it, whose whole numbers have 32 bits."""
    if values.ndim > 1:
        return text_column([" ".join(map(str, row)) for row in values.tolist()])[0], "several numbers as one text"
    if values.dtype.kind in "iu" and len(values) and (values.min() < -(2**31) or values.max() >= 2**32):
        return as_text(values), "whole numbers of more than 32 bits, written as text"
    return values, ""


def spelled(names: Sequence[str], _params: object) -> dict[str, str]:
    """Return what attributes are called in a file, in which many programs do not tell small letters from large ones."""
    return different_names(names)


class Fields:
    """Attributes of one dataset on their way out: their schema, and what each placemark says."""

    def __init__(self, number: int, attributes: Mapping[str, Column], leave: Collection[str]) -> None:
        self.id = f"fields{number}"
        own = {name: values for name, values in attributes.items() if name not in leave}
        called = spelled(list(own), None)
        self.columns = {called[name]: values for name, values in own.items()}

    def schema(self) -> bytes:
        """Return the declaration of the fields; nothing where there are none."""
        if not self.columns:
            return b""
        own = "".join(
            f'<SimpleField type="{_type(values)}" name={quoteattr(name)}/>' for name, values in self.columns.items()
        )
        return f'<Schema name="{self.id}" id="{self.id}">{own}</Schema>\n'.encode()

    def each(self, index: NDArray[np.int64]) -> Iterator[str]:
        """Return what some placemarks say, one after another."""
        heads = [f"<SimpleData name={quoteattr(name)}>" for name in self.columns]
        for first in range(0, len(index), _ROWS):
            some = index[first : first + _ROWS]
            texts = [_texts(values[some]) for values in self.columns.values()]
            for row in zip(*texts, strict=True) if texts else ((),) * len(some):
                said = "".join(f"{head}{text}</SimpleData>" for head, text in zip(heads, row, strict=True) if text)
                head = f'<ExtendedData><SchemaData schemaUrl="#{self.id}">'
                yield f"{head}{said}</SchemaData></ExtendedData>" if said else ""


def _type(values: Column) -> str:
    if values.dtype.kind == "b":
        return "bool"
    if values.dtype.kind in "iu":
        return "uint" if len(values) and values.max() >= 2**31 else "int"
    if values.dtype.kind == "f":
        return "float" if values.dtype.itemsize < 8 else "double"
    return "string"


def _texts(values: Column) -> list[str]:
    kind = values.dtype.kind
    if kind == "b":
        return ["1" if value else "0" for value in values.tolist()]
    if kind in "iu":
        return list(map(str, values.tolist()))
    if kind == "f":
        # Single precision with no more digits than it has.
        return [
            "" if value != value else _real(value) for value in (values if values.itemsize < 8 else values.tolist())
        ]
    return [escape(plain(value)) for value in values.tolist()]


def _real(value: Any) -> str:
    return str(value).replace("inf", "INF")
