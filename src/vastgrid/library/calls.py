"""Conversions, checks and answers as calls: the same steps as by the command line, without a graph of them."""

from __future__ import annotations

import dataclasses
import logging
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any

from vastgrid import catalog
from vastgrid.base.errors import CallError
from vastgrid.base.findings import Severity
from vastgrid.base.progress import Progress, Reporting, Silent
from vastgrid.base.words import instead, shortly
from vastgrid.declarations.conversion import Conversion, Inputs, listed
from vastgrid.execution.inspection import inspect
from vastgrid.execution.steps import convert as run_step
from vastgrid.execution.steps import in_one_frame
from vastgrid.library.data import Data, Finding, Origin, told
from vastgrid.library.kinds import dataset_of, origin_of, wrapped
from vastgrid.library.spoken import in_script_words
from vastgrid.library.values import words_of
from vastgrid.params import declare

Told = Callable[[float, str], None]
log = logging.getLogger("vastgrid")
# What an answer about two surfaces says first.
_OF_LOSS = ("largest", "rmse", "mean", "p95", "area")
# A script that does not listen hears nothing.
log.addHandler(logging.NullHandler())


def progress_of(tell: Told | None) -> Progress:
    """Return the progress that a script listens to; it cancels by raising `Cancelled`."""
    return Silent() if tell is None else Reporting(tell, lambda: False)


def function(name: str) -> Callable[..., Any]:
    """Return a conversion as a function of its inputs and parameters."""
    conversion = catalog.conversion_named(name.removesuffix("_"))

    def call(*inputs: Data, progress: Told | None = None, **parameters: Any) -> Any:
        return _called(conversion, inputs, parameters, progress_of(progress))

    return _described(call, conversion)


def method(data: Data, name: str) -> Callable[..., Any]:
    """Return a conversion as a method of data."""
    conversion = catalog.conversion_named(name.removesuffix("_"))

    def call(*, progress: Told | None = None, **parameters: Any) -> Any:
        return _called(conversion, (data,), parameters, progress_of(progress))

    return _described(call, conversion)


def _described(call: Callable[..., Any], conversion: Conversion) -> Callable[..., Any]:
    call.__name__ = call.__qualname__ = conversion.id
    lines = [f"{each.name} : {each.param.help}" for each in declare.fields(conversion.params)]
    call.__doc__ = "\n".join((conversion.help, "", *lines))
    return call


def convert(data: Data | Sequence[Data], to: str, *, progress: Told | None = None, **parameters: Any) -> Any:
    """Return what a conversion makes of data: ``convert(points, "tin", max_edge="60 m")``.

    Raises
    ------
    Error
        Whatever went wrong, in words.
    """
    conversion = catalog.conversion_named(to)
    inputs = (data,) if isinstance(data, Data) else tuple(data)
    return _called(conversion, inputs, parameters, progress_of(progress))


def able(data: Data) -> list[str]:
    """Return the conversions that can begin from data."""
    own = dataset_of(data)
    return [each.id for each in catalog.CONVERSIONS if any(each.can_use(own, role.role) for role in each.inputs)]


@in_script_words()
def check(*data: Data, progress: Told | None = None, **thresholds: Mapping[str, Any]) -> tuple[Finding, ...]:
    """Look at data with every check, side by side; thresholds by check, whose hyphens are underscores.

    Raises
    ------
    CallError
        If there is no such check or threshold.
    """
    words = {}
    for name, values in thresholds.items():
        own = catalog.check_named(name.replace("_", "-"))
        words[own.id] = words_of(own.params, values)
    found = inspect(in_one_frame([dataset_of(each) for each in data], []), progress_of(progress), words)
    return tuple(one for each in found for one in told(each))


def _called(conversion: Conversion, inputs: Sequence[Data], given: Mapping[str, Any], progress: Progress) -> Any:
    with in_script_words():
        return _worked(conversion, inputs, given, progress)


def _worked(conversion: Conversion, inputs: Sequence[Data], given: Mapping[str, Any], progress: Progress) -> Any:
    roles, values = _parted(conversion, inputs, given)
    words = words_of(conversion.params, values)
    params = declare.build(conversion.params, words)
    makers = [each for each in conversion.inputs if not each.limits]
    if conversion.single and not any(role == conversion.main.role for role, _ in roles):
        kinds = listed([kind.title for kind in conversion.takes_with(params)])
        have = [dataset_of(each) for each in inputs]
        what = f"{conversion.id}, which uses {kinds}"
        for step in catalog.chain(have, conversion.takes_with(params), what):
            # As by the command line: what was not asked for is made of everything that it can use.
            inputs = made_unasked(step, inputs, progress)
    if len(inputs) > 1 and len(makers) == 1 and not conversion.many:
        mains = [each for each in inputs if conversion.can_use(dataset_of(each))]
        others = [each for each in inputs if each not in mains]
        if len(mains) > 1:
            return tuple(_made(conversion, (each, *others), roles, words, progress) for each in mains)
    return _made(conversion, inputs, roles, words, progress)


def made_unasked(step: Conversion, inputs: Sequence[Data], progress: Progress) -> tuple[Data, ...]:
    """Return what a step that nobody asked for makes of everything that it can use, and the rest as it is."""
    usable = [each for each in inputs if step.can_use(dataset_of(each))]
    rest = [each for each in inputs if each not in usable]
    groups = [usable] if step.many else [[each] for each in usable]
    return (*(_made(step, group, (), {}, progress) for group in groups), *rest)


def _parted(
    conversion: Conversion, inputs: Sequence[Data], given: Mapping[str, Any]
) -> tuple[list[tuple[str, Data]], dict[str, Any]]:
    """Return what plays a role, and the parameters.

    Raises
    ------
    CallError
        If an input is none, or a name is neither a role nor a parameter.
    """
    for each in inputs:
        if not isinstance(each, Data):
            raise CallError(f"{conversion.id}: {shortly(repr(each))} is no data; read it, or make it from arrays")
    names = {each.name for each in declare.fields(conversion.params)}
    able_roles = {each.role for each in conversion.inputs}
    roles: list[tuple[str, Data]] = []
    values: dict[str, Any] = {}
    for name, value in given.items():
        own = name if name in names | able_roles else name.removesuffix("_")
        several = value if isinstance(value, list | tuple) else (value,)
        if own in able_roles and several and all(isinstance(each, Data) for each in several):
            roles += [(own, each) for each in several]
        elif own in names:
            values[own] = value
        elif own in able_roles:
            raise CallError(f"{conversion.id}: {own} is played by data, not by {shortly(repr(value))}")
        else:
            raise CallError(f"{conversion.id} has no “{shortly(name)}”; {instead(own, sorted(names | able_roles))}")
    return roles, values


def _made(
    conversion: Conversion,
    inputs: Sequence[Data],
    roles: Sequence[tuple[str, Data]],
    words: dict[str, str],
    progress: Progress,
) -> Data:
    """Run one step; return its main output with everything else that it gave."""
    every = [*roles, *(("", each) for each in inputs)]
    given = Inputs.of_pairs((role, dataset_of(each)) for role, each in every)
    params = declare.build(conversion.params, words)
    like = conversion.outputs[0].like
    kept = given[0].name if like and len(given) == 1 else ""
    result, settled = run_step(conversion, given, params, progress, kept)
    playing = conversion.assigned(given, given.roles) or [role for role, _ in every]
    if like and not kept:
        kept = next(each.name for role, each in zip(playing, given, strict=True) if role == like)
        result = dataclasses.replace(result, dataset=result.dataset.renamed(kept))
    pairs = [(role, each.name) for role, each in zip(playing, given, strict=True)]
    sentence = declare.plain(conversion.sentence(settled, pairs))
    paths = tuple(dict.fromkeys(path for _, each in every for path in origin_of(each).paths))
    more = {name: wrapped(each, Origin(sentence, paths=paths)) for name, each in result.more.items()}
    log.info(sentence)
    for found in result.findings:
        log.log(logging.INFO if found.severity is Severity.NOTE else logging.WARNING, found.text)
    # An answer's figures stand by their own names.
    own = result.figures.get(conversion.id)
    figures = {**result.figures, **own} if isinstance(own, Mapping) else dict(result.figures)
    if conversion.answers and result.loss is not None:
        figures = {**{name: getattr(result.loss, name) for name in _OF_LOSS}, **figures}
    origin = Origin(sentence, result.loss, told(result.findings), figures, more, paths)
    return wrapped(result.dataset, origin)


def paths_behind(data: Sequence[Data]) -> list[Path]:
    """Return the files that data comes from."""
    return list(dict.fromkeys(path for each in data for path in origin_of(each).paths))
