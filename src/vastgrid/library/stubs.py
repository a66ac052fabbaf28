"""What an editor and a type checker are told of the library: made from the declarations, so that no word is written twice."""

from __future__ import annotations

import inspect
import keyword
from collections.abc import Iterator
from enum import Enum
from typing import Any

from vastgrid import catalog
from vastgrid.base.quantities import Length
from vastgrid.data.dataset import Dataset
from vastgrid.declarations.conversion import Conversion
from vastgrid.library.calls import check, convert
from vastgrid.library.data import Data
from vastgrid.library.files import read, write
from vastgrid.library.kinds import WRAPPERS
from vastgrid.library.repeating import Job, open_job, run
from vastgrid.library.surfaces import Faces
from vastgrid.library.tiles import run_tiles
from vastgrid.library.vectors import Lines
from vastgrid.params import declare

_HEAD = '''"""Vast Grid: terrain conversion for survey technicians, with the proof of what each conversion did."""

# Made from the declarations by python -m vastgrid.library.stubs; not written by hand.
from collections.abc import Callable, Iterator, Mapping, Sequence
from pathlib import Path
from types import TracebackType
from typing import Any, Literal, Self, TypeAlias, TypeVar, overload

from affine import Affine
from numpy.typing import NDArray

import numpy as np
from vastgrid.base.errors import CallError as CallError
from vastgrid.base.errors import Cancelled as Cancelled
from vastgrid.base.errors import DataError as DataError
from vastgrid.base.errors import FormatError as FormatError
from vastgrid.base.errors import VastGridError as Error
from vastgrid.base.errors import WriteError as WriteError
from vastgrid.data.dataset import Extent as Extent
from vastgrid.data.frame import Frame as Frame
from vastgrid.data.loss import Loss as Loss
from vastgrid.library.data import Finding as Finding
from vastgrid.library.files import Written as Written
from vastgrid.library.repeating import Ran as Ran
from vastgrid.library.values import Length as Length

__version__: str
_Length: TypeAlias = Length | float | str
_Row: TypeAlias = str | Sequence[float] | Sequence[Sequence[float]]
Told: TypeAlias = Callable[[float, str], None]
AnyLength: TypeAlias = Length
_D = TypeVar("_D", bound=Data)

'''
# Calls that no conversion gives, told by their own signatures.
_CALLS = (read, write, convert, check, run, run_tiles, open_job)


def text() -> str:
    """Return the stub of the package."""
    names = _classes()
    parts = [
        _HEAD,
        *(_mixin(each) for each in catalog.CONVERSIONS),
        _class(Data, []),
        _class(Lines, []),
        _class(Faces, []),
    ]
    for own in names.values():
        parts.append(_class(own, [each for each in catalog.CONVERSIONS if _begins(own._of, each)]))
    parts += [_function(each, names) for each in catalog.CONVERSIONS]
    parts.append(_class(Job, []))
    for call in _CALLS:
        parts += ["\n", *(line.removeprefix("    ") for line in _member(call.__name__, call))]
    return "".join(parts)


# What of a class is told though its name begins with a line.
_SPOKEN = ("__len__", "__iter__", "__getitem__", "__contains__", "__enter__", "__exit__")


def _classes() -> dict[type[Dataset], type[Data]]:
    return {own._of: own for own in WRAPPERS.values()}


def _begins(kind: type[Dataset], conversion: Conversion) -> bool:
    """Say whether a conversion can begin from a kind, with what is put in unasked."""
    reached, before = {kind}, 0
    while conversion.single and len(reached) > before:
        before = len(reached)
        for each in catalog.CONVERSIONS:
            if each.automatic is not None and any(issubclass(own, each.takes) for own in reached):
                reached.add(each.gives(each.takes))
    roles = [conversion.main, *(each for each in conversion.inputs[1:] if not each.limits)]
    return any(issubclass(own, each.kinds) for own in reached for each in roles)


def _class(own: type, conversions: list[Conversion]) -> str:
    able = [each for each in conversions if not hasattr(own, each.id)]
    above = [] if own is Data else ["Mapping[str, Any]"] if own is Job else [own.__mro__[1].__name__]
    bases = [f"_Begins_{each.id}" for each in able] + above
    base = f"({', '.join(bases)})" if bases else ""
    lines = [f'class {own.__name__}{base}:\n    """{inspect.getdoc(own)}"""\n\n']
    for name, member in vars(own).items():
        if name.startswith("_") and name not in _SPOKEN:
            continue
        lines += _member(name, member)
    return "".join(lines) + "\n"


def _member(name: str, member: Any) -> Iterator[str]:
    if isinstance(member, property):
        assert member.fget is not None
        yield f"    @property\n    def {name}(self) -> {_plain(inspect.signature(member.fget).return_annotation)}:\n"
        yield f'        """{inspect.getdoc(member)}"""\n'
        return
    function = member.__func__ if isinstance(member, classmethod) else member
    if isinstance(member, classmethod):
        yield "    @classmethod\n"
    shown: list[str] = []
    own = inspect.signature(function)
    for each in own.parameters.values():
        if each.kind is each.KEYWORD_ONLY and not any(word.startswith("*") for word in shown):
            shown.append("*")
        mark = "*" if each.kind is each.VAR_POSITIONAL else "**" if each.kind is each.VAR_KEYWORD else ""
        kind = "" if each.annotation is each.empty else f": {_plain(each.annotation)}"
        default = "" if each.default is each.empty else f" = {each.default!r}"
        shown.append(f"{mark}{each.name}{kind}{default}")
    yield f"    def {name}({', '.join(shown)}) -> {_plain(own.return_annotation)}:\n"
    doc = inspect.getdoc(function)
    yield f'        """{doc.splitlines()[0]}"""\n' if doc else "        ...\n"


def _plain(annotation: Any) -> str:
    return str(annotation)


def _mixin(conversion: Conversion) -> str:
    """Return a class that gives what can begin a conversion its method."""
    kind = conversion.outputs[0].kind
    gives = "Self" if kind is None else _classes()[kind].__name__
    head = f"class _Begins_{conversion.id}:\n    def {_spelled(conversion.id)}(\n        self,\n        *,\n"
    return f"{head}{_parameters(conversion, '        ')}    ) -> {gives}:\n{_help(conversion, '        ')}\n"


def _spelled(name: str) -> str:
    return f"{name}_" if keyword.iskeyword(name) else name


def _function(conversion: Conversion, names: dict[type[Dataset], type[Data]]) -> str:
    kind = conversion.outputs[0].kind
    # Roles may be played by what stands first, or by name.
    gives = "Any" if kind is None else names[kind].__name__
    return (
        f"\ndef {_spelled(conversion.id)}(\n    *inputs: Data,\n{_parameters(conversion, '    ', main=True)}) -> {gives}:\n"
        f'    """{conversion.help}"""\n'
    )


def _parameters(conversion: Conversion, blank: str, *, main: bool = False) -> str:
    fields = {each.name: f"{each.attribute}: {_type(each)} = ..." for each in declare.fields(conversion.params)}
    roles = [each for each in conversion.inputs if (main or each is not conversion.main) and each.role not in fields]
    lines = [
        *(f"{each.role}{'_' if keyword.iskeyword(each.role) else ''}: Data | Sequence[Data] = ..." for each in roles),
        *fields.values(),
        "progress: Told | None = ...",
    ]
    return "".join(f"{blank}{line},\n" for line in lines)


def _type(field: declare.Field) -> str:
    kind = field.kind
    if issubclass(kind, Enum):
        own = f"Literal[{', '.join(repr(choice) for choice in field.choices)}]"
    elif issubclass(kind, bool):
        own = "bool"
    elif issubclass(kind, Length):
        own = "_Length"
    elif issubclass(kind, int | float):
        own = "float" if issubclass(kind, float) else "int"
    elif issubclass(kind, str):
        own = "str | Path"
    else:
        own = "_Length | _Row"
    return f"{own} | None" if field.optional else own


def _help(conversion: Conversion, blank: str) -> str:
    fields = declare.fields(conversion.params)
    lines = [conversion.help, *(("", "Parameters", "----------") if fields else ())]
    for each in fields:
        lines += [each.attribute, f"    {each.param.help}"]
    told = "\n".join(f"{blank}{line}".rstrip() for line in lines)
    return f'{blank}"""{told.strip()}\n{blank}"""\n'


if __name__ == "__main__":
    import sys

    sys.stdout.write(text())
