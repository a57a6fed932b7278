"""Concerns found by themselves: what in the table may mislead, ranked, each with its numbers."""

from __future__ import annotations

from collections import Counter

from pydantic import Field

from zerotilt.core import rows as row_sets
from zerotilt.core import words
from zerotilt.core.data import plainly, tested
from zerotilt.core.data.concern import RANKS, Concern, Gathered
from zerotilt.core.frozen import Frozen
from zerotilt.core.meaning import Wording
from zerotilt.core.method import Method, Place
from zerotilt.core.reading import Reading, plain
from zerotilt.core.stats import intervals
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

LEVEL = 0.05
"""At most this share of tables in which nothing is so raises any concern that is tested."""


class ConcernsSettings(Frozen):
    population: dict[str, float] = Field(
        default_factory=dict,
        max_length=500,
        description="Shares that groups have in the population, by column=group",
    )


class ConcernsResult(Frozen):
    concerns: tuple[Concern, ...] = Field(description="The gravest kind first")
    tested: int = Field(description="Comparisons that were tested")
    stood: int = Field(description="Of these, how many stand after adjustment and are large enough to matter")
    looked_for: tuple[str, ...] = Field(description="Kinds that could be looked for in this table")
    left_out: tuple[str, ...] = Field(description="Kinds that could not, each with the reason")
    rows: int
    rows_named: str


def find_concerns(subject: Subject, settings: ConcernsSettings, seed: int, work: Work) -> ConcernsResult:
    """Everything that is looked for, in one go; all tests are adjusted together (Benjamini & Hochberg 1995).

    Raises
    ------
    Refused : a population names no group of this table.
    """
    found = Gathered()
    plainly.single_columns(subject, found)
    plainly.outcome_balance(subject, found)
    plainly.alike_rows(subject, found)
    tested.missing_unevenly(subject, found)
    tested.shares_of_groups(subject, settings.population, found)
    tested.splits(subject, found, seed)
    tested.leaks(subject, found, seed, work)
    tested.stand_ins(subject, found, seed, work)
    able = [one for one in found.suspicions if one.p == one.p]
    adjusted = intervals.adjust([one.p for one in able]) if able else []
    stood = [
        one.concern.model_copy(update={"p_adjusted": float(p)})
        for one, p in zip(able, adjusted, strict=True)
        if one.large and p <= LEVEL
    ]
    every = sorted([*found.plain, *stood], key=lambda one: RANKS[one.kind])
    looked, left = _looked_for(subject, settings)
    return ConcernsResult(
        concerns=tuple(every),
        tested=len(able),
        stood=len(stood),
        looked_for=tuple(looked),
        left_out=tuple(left),
        rows=subject.n,
        rows_named=subject.context.rows,
    )


def _looked_for(subject: Subject, settings: ConcernsSettings) -> tuple[list[str], list[str]]:
    looked, left = ["identifiers", "constants", "rare levels", "values far out", "duplicated rows"], []
    groups = any(one.makes_groups for one in subject.spec.columns)
    for able, what, why in (
        (subject.spec.knows_outcome, "leaks", "no column says what happened"),
        (groups, "stand-ins and uneven gaps", "no column makes groups"),
        (row_sets.split_known(subject.spec), "training against hold-out", "no column says which rows were held out"),
        (bool(settings.population), "shares in the population", "no population was given"),
        (subject.predictor is not None, "how much the model leans on what it finds", "there is no model"),
    ):
        (looked.append(what) if able else left.append(f"{what} ({why})"))
    return looked, left


def say(result: ConcernsResult, wording: Wording, settings: ConcernsSettings) -> Reading:
    rows = row_sets.counted(result.rows, result.rows_named, wording.row if result.rows == 1 else wording.rows)
    many = len(result.concerns)
    kinds = Counter(one.title for one in result.concerns)
    told = [f"{title[:1].lower()}{title[1:]}{f' ({times})' if times > 1 else ''}" for title, times in kinds.items()]
    headline = (
        f"{words.opening(words.plural(many, 'concern'))} in {rows}: {words.listing(told)}."
        if many
        else f"Nothing of concern was found in {rows}."
    )
    detail = f"Looked for: {words.listing(list(result.looked_for))}."
    if result.left_out:
        detail += f" Not looked for: {words.listing(list(result.left_out))}."
    if result.tested:
        detail += (
            f" {words.opening(words.plural(result.tested, 'comparison'))} {'was tested' if result.tested == 1 else 'were tested together'}; "
            f"where nothing is so, at most one table in twenty raises any of them."
        )
    else:
        detail += " Nothing could be tested."
    return plain(headline, detail)


METHOD = Method(
    name="concerns",
    weighs=False,
    area="data",
    title="Concerns",
    settings=ConcernsSettings,
    result=ConcernsResult,
    compute=find_concerns,
    say=say,
    note=(
        "Counted: identifiers and constants among the features, levels of fewer rows than the flag policy asks for, numbers "
        "more than ten interquartile ranges from the nearer quartile, a rare outcome, groups in which it hardly happened, and "
        "rows that are alike in every feature, said where there are more than ten times as many as independent columns "
        "would make.\n\nForetold: how well a column alone tells the outcome (its bins or levels, counted in one half of "
        "the rows and judged in the other), and how well the other features tell a group (**least squares** with a penalty "
        "over all bins and levels, in five folds), as areas under the ROC curve (DeLong 1988). A leak is said from a lower "
        "end of 0.95, a stand-in from 0.70.\n\nTested: missing cells against groups and outcome (**χ²**), shares against a "
        "given population (exact binomial tails, Clopper & Pearson 1934), columns of training against hold-out (**Kolmogorov–Smirnov**, χ²) and whether all features together tell these apart, stand-ins against chance (an area of scores learnt in folds varies twice as much by chance as one of ranks). All "
        "p-values are adjusted together (Benjamini & Hochberg 1995) and stand at 5%, and only what is large enough to "
        "matter is said: 2 points of missing cells, a stability index of 0.1."
    ),
    main="concerns",
    part="concerns",
    place=Place("Concerns"),
    needs=frozenset(),
    depends=frozenset({"spec", "comparisons", "policy"}),
    version=3,
)
