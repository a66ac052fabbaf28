"""Text inside XML. What Python's `xml.sax.saxutils` does, without the network library that it brings along."""

from __future__ import annotations

_CHARACTERS = str.maketrans({"&": "&amp;", "<": "&lt;", ">": "&gt;"})
_SPACES = str.maketrans({"\n": "&#10;", "\r": "&#13;", "\t": "&#9;"})


def escape(text: str) -> str:
    """Return a text as it stands between tags."""
    return text.translate(_CHARACTERS)


def quoteattr(text: str) -> str:
    """Return a text as an attribute's value, with its quotation marks."""
    inner = escape(text).translate(_SPACES)
    if '"' not in inner:
        return f'"{inner}"'
    return '"' + inner.replace('"', "&quot;") + '"' if "'" in inner else f"'{inner}'"
