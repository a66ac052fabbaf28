"""What a conversion declares. The sentence, form, command line, saved job and report are all made from this."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Literal, Self

from vastgrid.base.errors import CallError
from vastgrid.base.findings import Finding, count
from vastgrid.base.progress import Progress
from vastgrid.base.words import instead, shortly
from vastgrid.data.dataset import Dataset
from vastgrid.data.loss import Loss
from vastgrid.declarations.tiles import Tiling
from vastgrid.params.declare import Phrase, sentence


@dataclass(frozen=True, slots=True)
class Input:
    """One role that inputs play.

    Attributes
    ----------
    role : str
        Its word in the sentence and on the command line.
    kinds : tuple of type
        Kinds of dataset that can play it.
    least, most : int, int or None
        How many there have to be and may be; None for any number.
    help : str
        What it is for, in a few words, where the role's name does not say it.
    fits : callable
        Says whether a dataset of these kinds can play it, where that depends on the data.
    limits : bool
        Whether it only limits what the others give: what plays it is never what a conversion is run on one by one.
    """

    role: str
    kinds: tuple[type[Dataset], ...]
    least: int = 1
    most: int | None = 1
    help: str = ""
    fits: Callable[[Any], bool] = field(default=lambda dataset: True)
    limits: bool = False


@dataclass(frozen=True, slots=True)
class Picture:
    """How a table is drawn.

    Attributes
    ----------
    shape : str
        “bars”: two values to one scale for each row, cut and fill; “columns”: a value for each class; “curve”: a line.
    title : str
        What stands above it.
    columns : tuple of str
        Of the table: for bars what names a row, then both values; for columns the ends of each class, then the value;
        for a curve what goes across, then what goes up.
    """

    shape: Literal["bars", "columns", "curve"]
    title: str
    columns: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Output:
    """One thing that a conversion gives.

    Attributes
    ----------
    name : str
        Its word.
    kind : type or None
        Kind of dataset; None where it is of the kind of an input.
    like : str
        Role of the input whose kind, and name, it keeps.
    title : str
        What it is called beside the other outputs; the first needs none.
    picture : Picture or None
        How it is drawn on the page of an answer; None for a table alone.
    aside : bool
        Whether it stands beside what was made: a table or a sketch that no later step or file takes unasked.
    look : mapping
        How its card is seen at first, in words; ``{role}`` stands for the name of the card that plays a role.
    """

    name: str
    kind: type[Dataset] | None = None
    like: str = ""
    title: str = ""
    picture: Picture | None = None
    aside: bool = False
    look: Mapping[str, str] = field(default_factory=dict)


class Inputs(tuple[Dataset, ...]):
    """All inputs of a run in the order of their roles, each with the role it plays."""

    roles: tuple[str, ...]

    @classmethod
    def of_pairs(cls, pairs: Iterable[tuple[str, Dataset]]) -> Self:
        """Return inputs from pairs of role and dataset."""
        own = list(pairs)
        made = cls(dataset for _, dataset in own)
        made.roles = tuple(role for role, _ in own)
        return made

    def of(self, role: str) -> tuple[Dataset, ...]:
        """Return the datasets that play a role."""
        return tuple(dataset for own, dataset in zip(self.roles, self, strict=True) if own == role)

    def with_datasets(self, datasets: Sequence[Dataset]) -> Self:
        """Return other datasets in the same roles."""
        return self.of_pairs(zip(self.roles, datasets, strict=True))


@dataclass(frozen=True, slots=True)
class Result:
    """What a conversion gives.

    Attributes
    ----------
    dataset : Dataset
        The first output.
    findings : tuple of Finding
        What was noticed.
    loss : Loss or None
        What it cost vertically against the declared role, where that can be said.
    more : mapping
        Further outputs by name.
    figures : mapping
        What the step counted or reached, by name: “reached”, “added”; counts of a value that grows add up. An answer says
        itself “in short”, for its card, and “quality” is what a report says of how good its main input is.
    """

    dataset: Dataset
    findings: tuple[Finding, ...] = ()
    loss: Loss | None = None
    more: Mapping[str, Dataset] = field(default_factory=dict)
    figures: Mapping[str, Any] = field(default_factory=dict)


Run = Callable[[Any, Any, Progress], Result]


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
    also : tuple of str
        What else people call it: the finder, the manual's search and “did you mean” know it by these words too.
    inputs : tuple of Input
        The roles of what it is made from, the main one first.
    outputs : tuple of Output
        What it gives, the main one first.
    params : type
        Frozen dataclass of declared parameters.
    template : str
        Sentence with ``{slots}`` for parameters, roles and ``{inputs}``, which is everything.
    run : callable
        The work: inputs in one frame, parameters, progress → result.
    settle : callable
        Gives parameters that were left open their default for these inputs.
    estimate : callable
        Says in a few words how large the result will be.
    name : callable
        Suggests a name for the result.
    foretell : callable
        Inputs and settled parameters → what will be counted of the main output, by the names of `Dataset.count`, and about how
        many seconds it takes; none where that cannot be told beforehand.
    effort : callable
        Says about how many vertices it will make, where that can be far more than it is given.
    fits : callable
        Says whether it can use one dataset of a kind it takes, where that depends on the data.
    kinds_as : callable or None
        Parameters → kinds that the main role takes, where those depend on them.
    preview : callable or None
        Inputs, parameters, progress → what is shown while a field is edited, in a fraction of a second, or None.
    tries : callable
        Inputs and parameters → a few sets of words around what is asked for, whose results are shown side by side with
        what each costs before one is made; none where nothing is to be tried.
    suggest : callable
        Inputs → words that can be chosen for parameters that name something in the data.
    halo : callable
        Inputs and parameters → how far around a place, in the unit of plan, the result depends on the inputs; None for
        all of them. 0 where a place depends on nothing beside it.
    frame_of : str
        Role whose frame the others are brought into; empty for the main one.
    loss_against : str
        Role that the loss is measured against; empty for the main one.
    resumes : str
        Name of a parameter whose value grows at its end: what was made for the beginning of it can be the main input
        for the rest.
    answers : bool
        Whether it answers a question rather than making something to go on with; the window has it under Check.
    seen_by : tuple of (str, mapping)
        Conversions that draw in the plan what it answers, each with its roles and the roles here that play them.
    builds : bool
        Whether it builds a surface from source data as files describe it.
    automatic : int or None
        Place among the conversions that a chain may put in unasked, the least costly first; None where it may not.
    automatic_for : callable
        Says of a dataset that it fits whether it may be put in for it unasked: not where it would leave part of it out.
    ask : bool
        Whether its parameters are asked for before it is made, since no default would be what is meant.
    any_quantity : bool
        Whether it can use grids of what is no height.
    form : str
        The word under which “which form?” lists what it makes of a surface, with its tries; empty where it is no form in
        which terrain is sent.
    forms : tuple of (type, mapping)
        Kinds that it can give instead of its usual one, each with the words of the parameters that make it so: where
        nobody says them, what is to be done with the result settles them.
    origin : str
        Distribution and version of the plug-in that it comes from; empty for ours.
    own_frame : bool
        Whether what it gives lies in a frame of its own instead of that of its inputs.
    tiles : Tiling or None
        How it runs on tiles of what is larger than memory; None where it cannot.
    """

    id: str
    version: int
    title: str
    help: str
    inputs: tuple[Input, ...]
    outputs: tuple[Output, ...]
    params: type
    template: str
    run: Run
    also: tuple[str, ...] = ()
    settle: Callable[[Any, Any], Any] = field(default=lambda inputs, params: params)
    estimate: Callable[[Any, Any], str] = field(default=lambda inputs, params: "")
    name: Callable[[Any, Any], str] = field(default=lambda inputs, params: "")
    foretell: Callable[[Any, Any], tuple[dict[str, int], float]] | None = None
    effort: Callable[[Any, Any], int] = field(default=lambda inputs, params: 0)
    fits: Callable[[Any], bool] = field(default=lambda dataset: True)
    kinds_as: Callable[[Any], tuple[type[Dataset], ...]] | None = None
    preview: Callable[[Any, Any, Progress], Dataset | None] | None = None
    tries: Callable[[Any, Any], list[dict[str, str]]] = field(default=lambda inputs, params: [])
    suggest: Callable[[Any], dict[str, list[str]]] = field(default=lambda inputs: {})
    halo: Callable[[Any, Any], float | None] = field(default=lambda inputs, params: None)
    frame_of: str = ""
    loss_against: str = ""
    resumes: str = ""
    answers: bool = False
    seen_by: tuple[tuple[str, Mapping[str, str]], ...] = ()
    builds: bool = False
    automatic: int | None = None
    automatic_for: Callable[[Any], bool] = field(default=lambda dataset: True)
    ask: bool = False
    any_quantity: bool = False
    form: str = ""
    forms: tuple[tuple[type[Dataset], Mapping[str, str]], ...] = ()
    origin: str = ""
    own_frame: bool = False
    tiles: Tiling | None = None

    @property
    def main(self) -> Input:
        """The main role."""
        return self.inputs[0]

    @property
    def takes(self) -> tuple[type[Dataset], ...]:
        """Kinds that the main role takes."""
        return self.main.kinds

    @property
    def many(self) -> bool:
        """Whether the main role takes several at once."""
        return self.main.most != 1

    @property
    def single(self) -> bool:
        """Whether everything that it is made from plays one role, limits aside."""
        return all(each.limits for each in self.inputs[1:])

    @property
    def keeps(self) -> bool:
        """Whether the main output is of the kind that came in."""
        return bool(self.outputs[0].like)

    def role(self, name: str) -> Input:
        """Return one role.

        Raises
        ------
        CallError
            If there is none of that name.
        """
        for each in self.inputs:
            if each.role == name:
                return each
        raise CallError(
            f"{self.id} has no role “{shortly(name)}”; {instead(name, (each.role for each in self.inputs))}"
        )

    def place_of(self, role: str) -> int:
        """Return where a role stands among the roles."""
        return [each.role for each in self.inputs].index(role)

    @property
    def measured_role(self) -> str:
        """Role that the loss is measured against."""
        return self.loss_against or self.main.role

    def gives(self, kinds: Sequence[type[Dataset]]) -> type[Dataset]:
        """Return the kind of the main output for kinds of the main role."""
        kind = self.outputs[0].kind
        return kind if kind is not None else kinds[0]

    def takes_with(self, params: Any) -> tuple[type[Dataset], ...]:
        """Return the kinds that the main role takes with these parameters."""
        return self.takes if self.kinds_as is None else self.kinds_as(params)

    def can_use(self, dataset: Dataset, role: str = "") -> bool:
        """Say whether a dataset can play a role, the main one where none is named."""
        heights = dataset.has_heights or not dataset.located or self.keeps or self.any_quantity
        own = self.role(role) if role else self.main
        return isinstance(dataset, own.kinds) and heights and own.fits(dataset) and self.fits(dataset)

    def assigned(self, datasets: Sequence[Dataset], said: Sequence[str] = ()) -> list[str] | None:
        """Return the role of each dataset: as said, otherwise the one that takes the fewest kinds, in the order given.

        None where they do not fit the roles, or a role stays without what it needs.
        """
        able = [
            [each.role for each in self._choosiest() if self.can_use(dataset, each.role)]
            if k >= len(said) or not said[k]
            else [said[k]] * self.can_use(dataset, said[k])
            for k, dataset in enumerate(datasets)
        ]
        return self._filled(able, len(able) - 1, [""] * len(able))

    def begun(self, datasets: Sequence[Dataset]) -> list[str] | None:
        """Return a role for each dataset with which this can begin, though other roles may be without what they need.

        None where one of them can play no role that is free.
        """
        whole = self.assigned(datasets)
        if whole is not None:
            return whole
        roles: list[str] = []
        for dataset in datasets:
            # What takes few kinds is meant before what takes many; of equals the first.
            for each in sorted(self.inputs, key=lambda each: len(each.kinds)):
                free = each.most is None or roles.count(each.role) < each.most
                if free and self.can_use(dataset, each.role):
                    roles.append(each.role)
                    break
            else:
                return None
        return roles

    def lacking(self, roles: Sequence[str]) -> list[Input]:
        """Return the roles that have fewer inputs than they need."""
        return [each for each in self.inputs if list(roles).count(each.role) < each.least]

    def _choosiest(self) -> list[Input]:
        """Return the roles, those that take the fewest kinds first, and of equals the last."""
        return sorted(self.inputs, key=lambda each: (len(each.kinds), -self.place_of(each.role)))

    def _filled(self, able: list[list[str]], k: int, roles: list[str]) -> list[str] | None:
        """Give a role to each dataset from the last to the first, so that every role has what it needs."""
        if k < 0:
            enough = all(roles.count(each.role) >= each.least for each in self.inputs)
            return list(roles) if enough else None
        for name in able[k]:
            most = self.role(name).most
            if most is not None and roles.count(name) >= most:
                continue
            roles[k] = name
            found = self._filled(able, k - 1, roles)
            if found is not None:
                return found
            roles[k] = ""
        return None

    def sentence(
        self, params: Any, inputs: Sequence[tuple[str, str]] | Sequence[str], asked: Iterable[str] | None = None
    ) -> tuple[Phrase, ...]:
        """Return the step as a sentence.

        Parameters
        ----------
        inputs : sequence of (str, str) or of str
            Roles and names of the inputs; names alone are those of the main role.
        asked : iterable of str or None
            Parameters that were asked for; the others are marked as settled. None marks nothing.
        """
        pairs = [(self.main.role, each) if isinstance(each, str) else each for each in inputs]
        words = {"inputs": listed([name for _, name in pairs])}
        for each in self.inputs:
            own = [name for role, name in pairs if role == each.role]
            words[each.role] = listed(own) if own or each.least else ""
        return sentence(self.template, params, words, None if asked is None else set(asked))

    def wants(self) -> str:
        """Return what it is made from, in words: “old (TIN or grid) and new (TIN or grid)”."""
        if self.single:
            return ", ".join(kind.title for kind in self.takes)
        return listed([f"{each.role} ({', '.join(kind.title for kind in each.kinds)})" for each in self.inputs])

    def number(self) -> str:
        """Return how many datasets it uses, in words: “one dataset”, “2 datasets”."""
        least = sum(each.least for each in self.inputs)
        return "one dataset" if least == 1 else count(least, "dataset")


def listed(names: Sequence[str]) -> str:
    """Return “A”, “A and B” or “A, B and C”."""
    names = list(names)
    return names[0] if len(names) == 1 else ", ".join(names[:-1]) + " and " + names[-1] if names else "nothing"
