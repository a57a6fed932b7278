"""Trained again without a column: what is lost on rows that were held out, which is what a column cannot be replaced in."""

from __future__ import annotations

from typing import Literal

import numpy as np
from pydantic import Field

from zerotilt.core import words
from zerotilt.core.candidates.compared import SMALLER, USUAL, better, by_fold
from zerotilt.core.candidates.validated import FoldMeasured
from zerotilt.core.drawing import MOST_BARS, Picture
from zerotilt.core.frozen import Frozen
from zerotilt.core.groups.metrics import metric_named, phrase
from zerotilt.core.meaning import Spec, Wording
from zerotilt.core.method import Method
from zerotilt.core.pockets.drawn import bars_of
from zerotilt.core.reading import Reading, Span
from zerotilt.core.refusal import Refused
from zerotilt.core.remedies.leaning import moved_by_shuffling
from zerotilt.core.stats.estimates import Estimate, estimate
from zerotilt.core.stats.folds import over_folds, told_apart
from zerotilt.core.stats.intervals import adjust
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work


class WithoutSettings(Frozen):
    features: tuple[str, ...] = Field(
        default=(),
        max_length=200,
        description="Columns that are left out one by one; those that move the output most when empty",
    )
    most: int = Field(default=6, ge=1, le=200, description="How many, where none is named")


class WithoutFeature(Frozen):
    feature: str
    value: Estimate = Field(description="The metric without the column, mean over folds")
    change: Estimate = Field(description="Less the metric with it, on the same folds")
    p: float | None = Field(description="That nothing changes, over all columns (Benjamini & Hochberg 1995)")
    verdict: Literal["worse without", "better without", "no evidence of use"]


class WithoutResult(Frozen):
    metric: str
    larger_is_better: bool
    with_all: Estimate
    features: tuple[WithoutFeature, ...] = Field(description="What costs most to leave out first")
    folds: int
    rows: int = Field(description="Rows that were trained and validated on")
    confidence: float


def without(subject: Subject, settings: WithoutSettings, seed: int, work: Work) -> WithoutResult:
    """Every column left out by itself, and the same recipe trained again on the same folds.

    Raises
    ------
    Refused : the version was not trained here, or does not take a column.
    """
    if subject.again is None:
        raise Refused(NOT_HERE, todo="Read a candidate that was trained in Remedies.")
    inputs = list(subject.model.inputs)
    for name in settings.features:
        if name not in inputs:
            raise Refused(f"features: the model does not take “{name}”.", todo="Choose columns that it takes.")
    names = list(settings.features)
    if not names:
        moved = moved_by_shuffling(subject, seed)
        names = [inputs[place] for place in np.argsort(-moved, kind="stable")[: settings.most]]
    if len(inputs) < 2:
        raise Refused("The model takes one column only; without it nothing is left to learn from.")
    confidence, metric = subject.spec.policy.confidence, USUAL[subject.spec.task]
    whole: tuple[FoldMeasured, ...] = subject.again((), work)
    sizes = np.array([one.rows for one in whole], float)
    with_all = by_fold(whole, metric, False)
    values = [by_fold(subject.again((name,), work), metric, False) for name in names]
    told = [told_apart(one - with_all, sizes, confidence) for one in values]
    adjusted = adjust([np.nan if p is None else p for _, p in told])
    found = []
    for name, own, (span, _), p in zip(names, values, told, adjusted, strict=True):
        worse = better(metric, float(span.value)) < 0
        verdict = (
            ("worse without" if worse else "better without") if p <= subject.spec.policy.alpha else "no evidence of use"
        )
        found.append(
            WithoutFeature(
                feature=name,
                value=_told(over_folds(own, sizes, confidence)),
                change=_told(span),
                p=float(p) if np.isfinite(p) else None,
                verdict=verdict,
            )
        )
    return WithoutResult(
        metric=metric,
        larger_is_better=metric_named(metric).name not in SMALLER,
        with_all=_told(over_folds(with_all, sizes, confidence)),
        features=tuple(sorted(found, key=lambda one: better(metric, one.change.value or 0.0))),
        folds=len(whole),
        rows=int(sizes.sum()),
        confidence=confidence,
    )


NOT_HERE = "Only a version that was trained here can be trained again without a column."


def _told(span) -> Estimate:
    return estimate(*(float(one) for one in span))


def say(result: WithoutResult, wording: Wording, settings: WithoutSettings) -> Reading:
    needed = [one for one in result.features if one.verdict == "worse without"]
    idle = [one for one in result.features if one.verdict == "no evidence of use"]
    of = f"over {words.plural(result.folds, 'fold')} of {words.plural(result.rows, wording.row, wording.rows)}"
    name = phrase(result.metric)
    if needed:
        first = needed[0]
        head = (
            f"Trained again without {words.title(first.feature)}, the {name} is worse by {_size(first)} {of}"
            f"{_others(needed)}."
        )
    else:
        head = f"Trained again without any one of {words.plural(len(result.features), 'column')}, the {name} is not worse beyond chance {of}."
    second = (
        f" For {words.listing([words.title(one.feature) for one in idle[:4]])}{_more(idle)} there is no evidence that the model needs it."
        if idle
        else ""
    )
    detail = (
        "What is lost without a column is what no other column tells: two columns that tell the same can each be left out without "
        "loss. Intervals know that folds share their training rows."
    )
    return Reading(headline=(Span(text=head), Span(text=second)), detail=detail)


def _size(one: WithoutFeature) -> str:
    value, low, high = one.change.value or 0.0, one.change.low or 0.0, one.change.high or 0.0
    ends = sorted((abs(low), abs(high)))
    return f"{words.decimal(abs(value))} ({words.decimal(ends[0])} to {words.decimal(ends[1])})"


def _others(needed: list[WithoutFeature]) -> str:
    rest = [words.title(one.feature) for one in needed[1:4]]
    return f"; without {words.listing(rest)} it is worse, too" if rest else ""


def _more(idle: list[WithoutFeature]) -> str:
    return f" and {words.plural(len(idle) - 4, 'other')}" if len(idle) > 4 else ""


def picture(result: WithoutResult, spec: Spec) -> Picture | None:
    shown = [(words.title(one.feature), one.change) for one in result.features]
    return bars_of(shown[:MOST_BARS], f"change of the {phrase(result.metric)} without the column")


METHOD = Method(
    name="without",
    area="drivers",
    title="Trained again without a column",
    settings=WithoutSettings,
    result=WithoutResult,
    compute=without,
    say=say,
    note=(
        "The recipe of a candidate is trained again on the same folds with **one column left out**, and held against the recipe as "
        "it is, fold by fold; the interval of the mean difference is that of Nadeau & Bengio (2003), p-values are adjusted over the "
        "columns (Benjamini & Hochberg 1995). Other than a shuffled column, a column that is left out can be made up for by those "
        "that go along with it, so that little may be lost although the model leans on it much: both are true, and say different "
        "things. An interval that includes nothing is no evidence of use. Where no column is named, those are left out that move "
        "the output most when shuffled."
    ),
    main="features",
    part="without",
    needs=frozenset({"outcome", "model", "recipe"}),
    picture=picture,
)
