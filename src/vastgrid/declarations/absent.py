"""Stand-ins for what a job was made with and is not here: its results stay, and cannot be made anew."""

from __future__ import annotations

import dataclasses
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Annotated, Any, NoReturn

from vastgrid.base.errors import CallError
from vastgrid.data.dataset import Dataset
from vastgrid.declarations.conversion import Conversion, Input, Output
from vastgrid.declarations.fileformat import Carries, Format
from vastgrid.params.declare import Param


def _refusing(what: str, origin: str) -> Any:
    whose = f"the plug-in {origin}" if origin else "a plug-in"
    text = f"“{what}” comes from {whose}, which is not here; its results are kept, and it can be made anew once that is installed"

    def refuse(*_words: Any, **_named: Any) -> NoReturn:
        raise CallError(text)

    return refuse


def absent_conversion(
    name: str, roles: Sequence[str], words: Mapping[str, str], outputs: Sequence[str], origin: str = ""
) -> Conversion:
    """Return a conversion that has the words and roles of a kept step, and refuses to run.

    Parameters
    ----------
    origin : str
        Distribution and version that it came from, where that is known.
    """
    fields = [
        (word, Annotated[str, Param(word, "Of a plug-in that is not here.")], dataclasses.field(default=""))
        for word in words
    ]
    params = dataclasses.make_dataclass(f"Absent_{name}", fields, frozen=True)
    # The declared parameters are found by the module's own names.
    params.__module__ = __name__
    inputs = tuple(Input(role, (Dataset,), least=0, most=None) for role in dict.fromkeys(roles)) or (
        Input("inputs", (Dataset,), least=0, most=None),
    )
    return Conversion(
        id=name,
        version=0,
        title=f"{name} (not here)",
        help=f"Came from {origin or 'a plug-in'}, which is not here.",
        inputs=inputs,
        outputs=tuple(Output(which, like=inputs[0].role) for which in outputs)
        or (Output("made", like=inputs[0].role),),
        params=params,
        template=f"{{inputs}} by “{name}” of {origin or 'a plug-in'}, which is not here.",
        run=_refusing(name, origin),
        origin=origin,
    )


def absent_format(name: str, origin: str = "") -> Format:
    """Return a format that refuses to read and to write."""

    def sniff(head: bytes, path: Path) -> int:
        return 0

    refuse = _refusing(name, origin)
    return Format(
        id=name,
        title=f"{name} (not here)",
        used_for="survey and CAD",
        suffixes=(),
        sniff=sniff,
        carries=Carries(kinds=()),
        read=refuse,
        write=refuse,
        origin=origin,
    )
