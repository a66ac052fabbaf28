"""What a conversion declares. The sentence, form, command line, saved job and report are all made from this."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any

from vastgrid.base.findings import Finding
from vastgrid.base.progress import Progress
from vastgrid.data.dataset import Dataset
from vastgrid.data.loss import Loss
from vastgrid.params.declare import Piece, sentence


@dataclass(frozen=True, slots=True)
class Result:
    """What a conversion gives: a dataset, what was noticed, and what it cost vertically where that can be said."""

    dataset: Dataset
    findings: tuple[Finding, ...] = ()
    loss: Loss | None = None


Run = Callable[[Sequence[Any], Any, Progress], Result]


@dataclass(frozen=True, slots=True)
class Conversion:
    """One conversion.

    Attributes
    ----------
    id : str
        The word used on the command line.
    version : int
        Rises whenever the same inputs and parameters give another result.
    title : str
        What it makes, for buttons: “Contours”.
    help : str
        One sentence.
    takes : tuple of type
        Kinds of dataset it can use.
    many : bool
        Whether it can use several at once.
    gives : type
        Kind of dataset it makes.
    params : type
        Frozen dataclass of declared parameters.
    template : str
        Sentence with ``{slots}`` for parameters and ``{inputs}``.
    run : callable
        The work: inputs in one frame, parameters, progress → result.
    settle : callable
        Gives parameters that were left open their default for these inputs.
    estimate : callable
        Says in a few words how large the result will be.
    name : callable
        Suggests a name for the result.
    effort : callable
        Says about how many vertices it will make, where that can be far more than it is given.
    fits : callable
        Says whether it can use one dataset of a kind it takes, where that depends on the data.
    takes_as : callable or None
        Parameters → kinds it can use, where those depend on them.
    automatic : int or None
        Place among the conversions that a chain may put in unasked, the least costly first; None where it may not.
    ask : bool
        Whether its parameters are asked for before it is made, since no default would be what is meant.
    """

    id: str
    version: int
    title: str
    help: str
    takes: tuple[type[Dataset], ...]
    many: bool
    gives: type[Dataset]
    params: type
    template: str
    run: Run
    settle: Callable[[Sequence[Any], Any], Any] = field(default=lambda inputs, params: params)
    estimate: Callable[[Sequence[Any], Any], str] = field(default=lambda inputs, params: "")
    name: Callable[[Sequence[Any], Any], str] = field(default=lambda inputs, params: "")
    effort: Callable[[Sequence[Any], Any], int] = field(default=lambda inputs, params: 0)
    fits: Callable[[Any], bool] = field(default=lambda dataset: True)
    takes_as: Callable[[Any], tuple[type[Dataset], ...]] | None = None
    automatic: int | None = None
    ask: bool = False

    def takes_with(self, params: Any) -> tuple[type[Dataset], ...]:
        """Return the kinds it can use with these parameters."""
        return self.takes if self.takes_as is None else self.takes_as(params)

    def can_use(self, dataset: Dataset) -> bool:
        """Say whether a dataset can be an input."""
        heights = dataset.has_heights or self.gives is Dataset
        return isinstance(dataset, self.takes) and heights and self.fits(dataset)

    def sentence(self, params: Any, inputs: Sequence[str]) -> tuple[Piece, ...]:
        """Return the step as a sentence, from the names of its inputs."""
        return sentence(self.template, params, {"inputs": listed(inputs)})


def listed(names: Sequence[str]) -> str:
    """Return “A”, “A and B” or “A, B and C”."""
    names = list(names)
    return names[0] if len(names) == 1 else ", ".join(names[:-1]) + " and " + names[-1] if names else "nothing"
