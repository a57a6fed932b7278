"""Leaning on one column: how concentrated every version is, and what becomes of it when that column is disturbed."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from zerotilt.core import words
from zerotilt.core.candidates.compared import better
from zerotilt.core.candidates.validated import of_used
from zerotilt.core.counterfactuals.flip import share_of
from zerotilt.core.drawing import MOST_BARS, Picture
from zerotilt.core.drivers.agreement import effective_features
from zerotilt.core.frozen import Frozen
from zerotilt.core.groups.measure import Counted
from zerotilt.core.groups.metrics import metric_named, phrase
from zerotilt.core.groups.paired_metrics import paired
from zerotilt.core.groups.readout import read
from zerotilt.core.meaning import Spec, Task, Wording
from zerotilt.core.membership import Grouping
from zerotilt.core.method import Method
from zerotilt.core.pockets.drawn import bars_of
from zerotilt.core.reading import Reading, Span
from zerotilt.core.refusal import Refused
from zerotilt.core.stats.estimates import Estimate, estimate
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

METRIC = {Task.binary: "log_loss", Task.several: "accuracy", Task.ordered: "accuracy", Task.regression: "mae"}
SHUFFLED = 2_000
"""Rows whose columns are shuffled."""


class LeaningSettings(Frozen):
    amount: float = Field(
        default=0.5,
        gt=0,
        le=3,
        description="Noise on a number, in its standard deviations; of levels the share of rows drawn anew",
    )
    feature: str = Field(
        default="", max_length=500, description="The column that is disturbed; each version's leading one when empty"
    )


class LeaningVersion(Frozen):
    version: str
    leading: str = Field(description="The column that moves its output most when shuffled")
    share: float = Field(description="Of what all columns move it")
    effective: float = Field(description="Effective number of columns: exp of the entropy of the shares")
    disturbed: str = Field(description="The column that was disturbed; empty where the version does not take it")
    metric: Estimate
    change: Estimate = Field(description="With the column disturbed, less as it is, on the same rows")
    turned: Estimate = Field(description="Share of decisions that change; of numbers none is told")


class LeaningResult(Frozen):
    metric: str
    amount: float
    versions: tuple[LeaningVersion, ...] = Field(
        description="The version that is read first, then by how much they lose"
    )
    unread: tuple[str, ...]
    rows: int
    rows_named: str
    rows_shuffled: int
    confidence: float


def leaning(subject: Subject, settings: LeaningSettings, seed: int, work: Work) -> LeaningResult:
    """Every version's concentration, and its metric with one column disturbed.

    Raises
    ------
    Refused : the outcome or the predictions cannot be used, or no version takes the column.
    """
    metric = METRIC[subject.spec.task]
    base = subject.context.model_named or "the version that is read"
    others = sorted(subject.others.items())
    work.begin(len(others) + 1, "versions disturbed")
    found, unread = [_version(base, subject, metric, settings, seed)], []
    work.advance(1)
    for name, one in others:
        if isinstance(one, Refused):
            unread.append(name)
        else:
            try:
                found.append(_version(name, replace(one), metric, settings, seed))
            except Refused:
                unread.append(name)
        work.advance(1)
    if settings.feature and not any(one.disturbed for one in found):
        raise Refused(
            f"feature: no version takes “{settings.feature}”.", todo="Choose a column that one of them takes."
        )
    rest = sorted(found[1:], key=lambda one: better(metric, one.change.value or 0.0))
    return LeaningResult(
        metric=metric,
        amount=settings.amount,
        versions=(found[0], *rest),
        unread=tuple(unread),
        rows=subject.n,
        rows_named=subject.context.rows,
        rows_shuffled=min(SHUFFLED, subject.n),
        confidence=subject.spec.policy.confidence,
    )


def moved_by_shuffling(subject: Subject, seed: int) -> NDArray[np.float64]:
    """How far the output moves on average when a column is shuffled among rows, of each input."""
    rng = np.random.default_rng([seed, 11])
    chosen = np.sort(subject.rows.drawn(rng, SHUFFLED))
    frame, turn = subject.frame.take(chosen), rng.permutation(len(chosen))
    mass, was = subject.rows.mass[chosen], subject.model.outputs(frame)
    out = np.zeros(len(subject.model.inputs))
    for place, name in enumerate(subject.model.inputs):
        moved = subject.model.outputs(frame.replace(name, frame[name][turn]))
        out[place] = np.average(np.abs(moved - was).sum(axis=1), weights=mass) if mass.any() else 0.0
    return out


def disturbed(column: NDArray, amount: float, rng: np.random.Generator) -> NDArray:
    """A number with normal noise of ``amount`` standard deviations, missing ones left missing; of levels that share of the rows
    with another row's level."""
    if column.dtype.kind != "f":
        drawn = rng.random(len(column)) < amount
        return np.where(drawn, column[rng.permutation(len(column))], column)
    known = column[np.isfinite(column)]
    spread = float(known.std()) if len(known) else 0.0
    return column + rng.normal(0, amount * spread, len(column)) if spread else column


def _version(name: str, subject: Subject, metric: str, settings: LeaningSettings, seed: int) -> LeaningVersion:
    moved = moved_by_shuffling(subject, seed)
    inputs = list(subject.model.inputs)
    shares = moved / moved.sum() if moved.sum() else np.full(len(inputs), 1 / len(inputs))
    first = inputs[int(shares.argmax())]
    column = settings.feature or first
    takes = column in inputs
    outputs = subject.predictions.outputs
    after = outputs
    if takes:
        rng = np.random.default_rng([seed, 13])
        after = subject.model.outputs(
            subject.frame.replace(column, disturbed(subject.frame[column], settings.amount, rng))
        )
    table = subject.table.among(subject.rows.numbers)
    confidence = subject.spec.policy.confidence
    readouts = [read(of_used(subject.spec, table, one, subject.classes), [metric]) for one in (outputs, after)]
    everyone = Grouping((), ("",), np.zeros(subject.n, np.int64))
    value = Counted.of(readouts[0], subject.n).groups(everyone, False, confidence, seed)[1][metric].at(0)
    change = paired(readouts[0], readouts[1], everyone, confidence)[metric].interval
    turned = Estimate(value=None, low=None, high=None)
    if subject.kind.decides:
        cuts = subject.decisions.cuts if subject.kind.cut else None
        decided = [subject.decisions.of(one, cuts) for one in (outputs, after)]
        turned = share_of(decided[0] != decided[1], subject.rows.mass, confidence)
    return LeaningVersion(
        version=name,
        leading=first,
        share=float(shares.max()),
        effective=effective_features(shares),
        disturbed=column if takes else "",
        metric=Estimate(value=value.value, low=value.low, high=value.high),
        change=estimate(*(float(end[0]) for end in change)),
        turned=turned,
    )


def say(result: LeaningResult, wording: Wording, settings: LeaningSettings) -> Reading:
    first, *others = result.versions
    how = f"{result.amount:g}"
    head = (
        f"{words.opening(first.version)} leans on {words.title(first.leading)} for {words.percent(first.share)} of what moves it, "
        f"as if on {words.decimal(first.effective, 1)} columns of equal weight."
    )
    second = ""
    if first.disturbed and first.change.value is not None:
        second = (
            f" With {words.title(first.disturbed)} disturbed by {how}, its {phrase(result.metric)} changes by {_signed(first.change, result.metric)}"
            + (
                f" and {words.percent(first.turned.value)} of decisions change."
                if first.turned.value is not None
                else "."
            )
        )
    detail = (
        "The amount is noise in standard deviations of a number, or the share of rows whose level is drawn anew. "
        f"Shares are of {words.plural(result.rows_shuffled, wording.row, wording.rows)} with each column shuffled."
    )
    if others:
        most = max(result.versions, key=lambda one: one.share)
        least = max(result.versions, key=lambda one: one.effective)
        detail += (
            f" Of {words.plural(len(result.versions), 'version')}, {most.version} leans most on one column "
            f"({words.title(most.leading)}, {words.percent(most.share)}), and {least.version} on the most "
            f"({words.decimal(least.effective, 1)})."
        )
    if result.unread:
        detail += f" Not read: {words.listing(list(result.unread))}."
    return Reading(headline=(Span(text=head), Span(text=second)), detail=detail)


def _signed(one: Estimate, metric: str) -> str:
    if metric_named(metric).kind == "rate":
        return words.points_span(one.value, one.low, one.high)
    value, low, high = (words.signed_decimal(end or 0.0) for end in (one.value, one.low, one.high))
    return f"{value} ({low} to {high})"


def picture(result: LeaningResult, spec: Spec) -> Picture | None:
    shown = [(one.version, one.change) for one in result.versions if one.disturbed]
    return bars_of(shown[:MOST_BARS], f"change of the {phrase(result.metric)} with a column disturbed")


METHOD = Method(
    name="leaning",
    area="remedies",
    title="Leaning on one column",
    settings=LeaningSettings,
    result=LeaningResult,
    compute=leaning,
    say=say,
    note=(
        "Of every version: each column is shuffled among rows, and how far the output moves on average makes its **share**; the "
        "**effective number** of columns is the exponential of the entropy of the shares. Then one column, each version's leading "
        "one unless another is chosen, is **disturbed**: a number by normal noise of the stated number of standard deviations, a "
        "level by another row's level in the stated share of rows. The change of the metric is paired, row by row, with the "
        "interval of a mean difference (Hall 1992) or of two rates on the same rows (Tango 1998). Shuffling makes rows that may "
        "not exist, so a share says what the model uses, not what the world does."
    ),
    main="versions",
    part="leaning",
    needs=frozenset({"outcome", "model"}),
    picture=picture,
    reads_others=True,
)
