"""Findings: what an experienced person would want to be told, as values that travel with a dataset."""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum
from typing import Any

from vastgrid.base.words import spaced


class Severity(Enum):
    """How much a finding matters."""

    NOTE = "note"
    WARNING = "warning"
    ERROR = "error"


@dataclass(frozen=True, slots=True)
class Remedy:
    """What can be done about a finding, at one press.

    Attributes
    ----------
    kind : str
        “words”: parameters of the step are changed; “units”: the source is read again in other units; “edit”: the surface
        is edited by hand.
    text : str
        What it does, as a button says it.
    values : dict
        Words by parameter, units by “plan” and “height”, or the line of an edit as “entry”.
    """

    kind: str
    text: str
    values: dict[str, str]


@dataclass(frozen=True, slots=True)
class Finding:
    """One thing noticed.

    Attributes
    ----------
    code : str
        Stable short name, such as ``duplicate-heights``.
    text : str
        One readable sentence, with its figures.
    severity : Severity
        How much it matters.
    at : tuple of float or None
        Easting and northing of the place, in the dataset's own unit.
    remedy : Remedy or None
        What can be done about it.
    drops : bool
        Whether it tells of something that was there and does not come in.
    """

    code: str
    text: str
    severity: Severity = Severity.WARNING
    at: tuple[float, float] | None = None
    remedy: Remedy | None = None
    drops: bool = False

    def to_json(self) -> dict[str, Any]:
        """Return plain values for reports and saved jobs."""
        plain: dict[str, Any] = {
            "code": self.code,
            "severity": self.severity.value,
            "text": self.text,
            "at": None if self.at is None else list(self.at),
            "drops": self.drops,
        }
        if self.remedy is not None:
            plain["remedy"] = {"kind": self.remedy.kind, "text": self.remedy.text, "values": dict(self.remedy.values)}
        return plain

    @staticmethod
    def from_json(values: dict[str, Any]) -> Finding:
        """Return the finding that `to_json` gave."""
        at = values.get("at")
        place = None if at is None else (float(at[0]), float(at[1]))
        remedy = Remedy(**values["remedy"]) if values.get("remedy") else None
        return Finding(
            values["code"], values["text"], Severity(values["severity"]), place, remedy, bool(values.get("drops"))
        )


def note(code: str, text: str, at: tuple[float, float] | None = None) -> Finding:
    """Return a finding that only informs."""
    return Finding(code, text, Severity.NOTE, at)


def left_out(
    code: str, text: str, severity: Severity = Severity.WARNING, at: tuple[float, float] | None = None
) -> Finding:
    """Return a finding that tells of something that was there and does not come in."""
    return Finding(code, text, severity, at, drops=True)


def longer_than_said(rest: int, unit: str = "byte") -> Finding:
    """Return a finding that tells of content behind what a file's header speaks of."""
    text = f"{count(rest, unit)} behind what the file's header speaks of: left out; the header or the file is not as it was written."
    return left_out("longer-than-said", text)


def either(number: int, one: str, many: str) -> str:
    """Return the word that agrees with a number: “is” or “are”."""
    return one if number == 1 else many


def count(number: int, one: str, many: str | None = None) -> str:
    """Return “1 point”, “12 345 points”: thousands set apart by a thin no-break space."""
    return f"{spaced(number)} {either(number, one, many or one + 's')}"


_ONE = {"vertices": "vertex", "entities": "entity", "entries": "entry"}


def counted(number: int, many: str) -> str:
    """Return “1 line” or “2 lines” from a name in the plural, as datasets count what they hold."""
    return count(number, _ONE.get(many, many.removesuffix("s")), many)
