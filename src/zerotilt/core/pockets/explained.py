"""One pocket explained: what carries it, what may lie behind it, who is in it, and cases to look at."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from zerotilt.core import segments, words
from zerotilt.core.case.told import Told
from zerotilt.core.contributions.explain import explain
from zerotilt.core.contributions.sums_met import affordable
from zerotilt.core.drawing import Picture
from zerotilt.core.groups import readout
from zerotilt.core.logic import blocks_of, picks
from zerotilt.core.meaning import Block, Segment, Spec
from zerotilt.core.method import Method
from zerotilt.core.pockets import reasons
from zerotilt.core.pockets.confirmed import gap_of
from zerotilt.core.pockets.counterparts import counterparts
from zerotilt.core.pockets.drawn import bars_of
from zerotilt.core.pockets.errors import Errors, errors_of, offered
from zerotilt.core.pockets.explained_result import ExampleCase, Moved, PocketResult, PocketRung, PocketSettings
from zerotilt.core.pockets.explained_said import NOTE, say
from zerotilt.core.pockets.found import search
from zerotilt.core.pockets.hunt import dealt, sampled
from zerotilt.core.pockets.own_curves import own_curves
from zerotilt.core.pockets.result import PocketsSettings
from zerotilt.core.pockets.standing import happened, outcome_of
from zerotilt.core.refusal import Refused
from zerotilt.core.segmenting import sizes
from zerotilt.core.segmenting.sizes import Sides
from zerotilt.core.stats import intervals
from zerotilt.core.stats.estimates import estimate
from zerotilt.core.stats.means import mean_span
from zerotilt.core.subject import Subject
from zerotilt.core.typed_conditions import expression, written
from zerotilt.core.work import Work

Floats = NDArray[np.float64]
Bools = NDArray[np.bool_]
METRICS = (
    "base_rate", "selection_rate", "accuracy", "false_positive_rate", "false_negative_rate", "auc", "mean_score",
    "log_loss", "mean_outcome", "mean_prediction", "mean_error", "mae", "rank_error", "mean_rank_error",
)  # fmt: skip
"""What is told of a pocket and of all other rows, where it is defined."""
MOST_EXAMPLES = 5


@dataclass(frozen=True)
class _Asked:
    block: Block
    halving: int
    """−1 where figures are of all rows."""


def explain_pocket(subject: Subject, settings: PocketSettings, seed: int, work: Work) -> PocketResult:
    """What can be said of one place: of the rows in which it was not searched where it was searched, else of all.

    Raises
    ------
    Refused : the conditions cannot be read, or all rows or none meet them.
    """
    errors = errors_of(subject, settings.error, settings.truth, settings.taken)
    asked = _asked(subject, settings, seed, work)
    confidence = subject.spec.policy.confidence
    every = errors.m
    kept = np.ones(errors.m, bool)
    if asked.halving >= 0:
        errors = sampled(errors, settings.rows, seed)
        block, halves = dealt(errors, asked.halving + 1, seed)
        kept = ~halves[asked.halving][block]
    read = errors.among(kept)
    numbers = subject.rows.numbers[read.places]
    met = [segments.meeting(one, subject.table, numbers) for one in asked.block]
    inside = np.logical_and.reduce(met)
    if not inside.any() or inside.all():
        raise Refused(
            f"{'None' if not inside.any() else 'All'} of these {words.plural(read.m, 'row')} meet the conditions.",
            todo="Choose other conditions, or other rows.",
        )
    outcome, balance_of = outcome_of(subject, read)
    everyone = np.zeros(subject.n, bool)
    everyone[read.places] = inside
    counted = np.zeros(subject.n, bool)
    counted[read.places] = True
    features = _features(subject)
    said = ", ".join(segments.said(one) for one in asked.block)
    rungs, moved, explained = _rungs(subject, everyone, counted, settings.explained, seed, work)
    named = {one.column for one in asked.block}
    there, judged = _all_meeting(subject, asked.block), _judged(subject, errors, kept, seed)
    led = [*(one.column for one in asked.block), *(one.feature for one in rungs)]
    drawn = [name for name in dict.fromkeys(led) if subject.predictor is not None and name in subject.model.inputs]
    return PocketResult(
        segment=Segment(name=said if len(said) <= 120 else f"{said[:119]}…", conditions=asked.block),
        described=said,
        typed=written((asked.block,)),
        halving=asked.halving,
        error=errors.name,
        errors=offered(subject),
        called=errors.called,
        unit=errors.unit,
        signed=errors.signed,
        gap=gap_of(read, inside, outcome, confidence),
        without=reasons.without(read, met, asked.block, outcome, confidence) if len(met) > 1 else (),
        sides=_sides(subject, everyone, counted, seed),
        twins=None
        if features is None
        else reasons.twins(subject, features, there, judged, not subject.kind.decides, confidence, seed),
        trained=reasons.trained(subject, asked.block, float(there.mean())),
        counterparts=None
        if features is None
        else counterparts(
            features, named, there, judged, happened(subject), _predicted(subject), subject.rows.mass, confidence, seed
        ),
        moved=moved,
        curves=own_curves(subject, drawn, named, everyone, counted, seed, work),
        rungs=rungs,
        rows_explained=explained,
        output=subject.scale,
        event=subject.what,
        groups=reasons.groups_inside(subject, read, inside, numbers, named),
        examples=_examples(subject, read, inside),
        balance_of=balance_of,
        balance_mean=not balance_of,
        rows=every,
        rows_read=read.m,
        sampled=errors.m < every,
        rows_named=subject.context.rows,
        confidence=confidence,
        alpha=subject.spec.policy.alpha,
        minimum_rows=subject.spec.policy.minimum_rows,
    )


def _asked(subject: Subject, settings: PocketSettings, seed: int, work: Work) -> _Asked:
    if settings.conditions.strip():
        node = expression(settings.conditions, subject.table.names, subject.spec.segments)
        blocks = () if picks(node) else blocks_of(node)
        if len(blocks) != 1:
            raise Refused(
                "A pocket is told by conditions that are met together; rows that were picked, or “or”, are not.",
                todo="Join the conditions by and, or read the rows as a segment.",
            )
        if (lacking := segments.unfit(Segment(name="asked", conditions=blocks[0]), subject.table)) is not None:
            raise lacking
        return _Asked(blocks[0], settings.halving)
    found = search(
        subject,
        PocketsSettings(error=settings.error, truth=settings.truth, taken=settings.taken, rows=settings.rows),
        seed,
        work,
    )
    if not found.pockets:
        raise Refused(f"No pocket could be searched. {' '.join(found.notes)}", todo="Type conditions, or choose other rows.")  # fmt: skip
    first = found.pockets[0]
    return _Asked(first.segment.conditions, first.halving)


def _all_meeting(subject: Subject, block: Block) -> Bools:
    """Which rows of the context meet all conditions, shape (n,)."""
    return np.logical_and.reduce([segments.meeting(one, subject.table, subject.rows.numbers) for one in block])


def _features(subject: Subject):
    """What rows are told apart by; None where no column is a feature."""
    try:
        return subject.predictions.features
    except Refused:
        return None


def _predicted(subject: Subject) -> Floats | None:
    """What was predicted in the unit of what happened, shape (n,); None where only decisions were recorded."""
    if subject.predictor is not None:
        return subject.predictions.outputs[:, subject.column]
    return subject.kind.recorded(subject.predictions)


def _judged(subject: Subject, errors: Errors, kept: Bools, seed: int) -> Bools:
    """Rows of the context in which nothing was searched, shape (n,). Of rows that the error cannot be read of as many are
    left out by chance, so that what happened in the rest is what happened in all."""
    if kept.all():
        return subject.rows.mass > 0
    found = np.random.default_rng(seed).random(subject.n) < kept.mean()
    found[errors.places] = kept
    return found & (subject.rows.mass > 0)


def _sides(subject: Subject, inside: Bools, counted: Bools, seed: int) -> tuple[Sides, ...]:
    """The metrics that tell how rows are, inside and outside, among the rows that are read."""
    defined = {one.name for one in readout.of_task(subject.spec.task)}
    metrics = [name for name in METRICS if name in defined]
    if subject.predictor is None and subject.kind.recorded(subject.predictions) is None:
        metrics = [name for name in metrics if name in ("base_rate", "selection_rate", "accuracy", "false_positive_rate", "false_negative_rate")]  # fmt: skip
    if not metrics:
        return ()
    own, outside = sizes.both_sides(subject, [inside], ["the pocket"], metrics, seed, counted)
    return tuple(Sides(metric=key, inside=one.at(0), outside=outside[key].at(0)) for key, one in own.items())


def _rungs(subject: Subject, inside: Bools, counted: Bools, most: int, seed: int, work: Work):
    """How far each feature moves the output inside and outside: mean contributions and their sizes, with the difference.

    From a seeded sample of both sides where contributions are sampled or there are many rows.
    """
    if subject.predictor is None:
        return (), None, 0
    rng = np.random.default_rng(seed)
    most = min(affordable(subject, 20 * most, most), 20 * most)
    heavy = subject.rows.mass > 0
    sides = [np.flatnonzero(mask & counted & heavy) for mask in (inside, ~inside)]
    if not all(len(one) for one in sides):
        return (), None, 0
    chosen = [np.sort(rng.permutation(one)[:most]) for one in sides]
    found = explain(subject, subject.rows.numbers[np.concatenate(chosen)], seed, work, most_pairs=256)
    first = len(chosen[0])
    parts = found.values[:first], found.values[first:]
    mass = [subject.rows.mass[one] for one in chosen]
    confidence = subject.spec.policy.confidence
    rungs = []
    for j, name in enumerate(found.features):
        spans = [mean_span(values[:, j], w, confidence) for values, w in zip(parts, mass, strict=True)]
        sizes_of = [mean_span(np.abs(values[:, j]), w, confidence) for values, w in zip(parts, mass, strict=True)]
        rungs.append(
            PocketRung(
                feature=name,
                inside=estimate(*(float(one) for one in spans[0])),
                outside=estimate(*(float(one) for one in spans[1])),
                difference=estimate(*(float(one) for one in intervals.between(*spans))),
                size_inside=estimate(*(float(one) for one in sizes_of[0])),
                size_outside=estimate(*(float(one) for one in sizes_of[1])),
            )
        )
    rungs.sort(key=lambda one: -abs(one.difference.value or 0.0))
    whole = [mean_span(np.abs(values).sum(axis=1), w, confidence) for values, w in zip(parts, mass, strict=True)]
    moved = Moved(
        **{
            name: estimate(*(float(one) for one in span))
            for name, span in zip(("inside", "outside", "difference"), (*whole, intervals.between(*whole)), strict=True)
        }
    )
    return tuple(rungs), moved, sum(len(one) for one in chosen)


def _examples(subject: Subject, errors: Errors, inside: Bools) -> tuple[ExampleCase, ...]:
    """Rows of the pocket that went most wrong, and as many that went most right."""
    places = np.flatnonzero(inside)
    order = places[np.argsort(-errors.values[places], kind="stable")]
    wrong = [int(one) for one in order[:MOST_EXAMPLES]]
    right = [int(one) for one in order[::-1][:MOST_EXAMPLES] if int(one) not in wrong]
    if errors.rate:
        wrong = [one for one in wrong if errors.values[one] > 0]
        right = [one for one in right if errors.values[one] == 0]
    told = Told(subject)
    found = []
    for kind, which in (("wrong", wrong), ("right", right)):
        for place in which:
            row = told.of(int(subject.rows.numbers[errors.places[place]]))
            found.append(
                ExampleCase(
                    row=row.row,
                    name=row.name,
                    went="wrong" if kind == "wrong" else "right",
                    error=float(errors.values[place]),
                    output=row.output,
                    decision=row.decision,
                    outcome=row.outcome,
                )
            )
    return tuple(found)


def picture(result: PocketResult, spec: Spec) -> Picture | None:
    """The error inside and outside, and with each condition left out."""
    rows = [("inside", result.gap.inside), ("all other rows", result.gap.outside)]
    rows += [(f"without: {one.condition}", one.gap.inside) for one in result.without]
    return bars_of(rows, result.called)


METHOD = Method(
    name="pocket",
    area="pockets",
    title="A pocket explained",
    settings=PocketSettings,
    result=PocketResult,
    compute=explain_pocket,
    say=say,
    note=NOTE,
    main="sides",
    part="explained",
    needs=frozenset({"outcome", "predictions"}),
    depends=frozenset({"spec", "comparisons", "policy"}),
    picture=picture,
    first_look={"explained": 20},
    version=3,
)
