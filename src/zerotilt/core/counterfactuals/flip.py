"""Only one column changed, all else kept: whose decisions change?"""

from __future__ import annotations

import numpy as np
from pydantic import Field

from zerotilt.core import words
from zerotilt.core.drawing import MOST_BARS, Bars
from zerotilt.core.frozen import Frozen
from zerotilt.core.meaning import Spec, Wording
from zerotilt.core.method import Method
from zerotilt.core.reading import Reading, plain
from zerotilt.core.refusal import Refused
from zerotilt.core.response.curves import MOST_LEVELS, feature_named
from zerotilt.core.stats import intervals, weighing
from zerotilt.core.stats.estimates import Estimate
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

LISTED = 50


class FlipSettings(Frozen):
    feature: str = Field(default="", description="A column that the model takes; its first one with levels when empty")
    rows: int = Field(default=100_000, ge=1, le=10_000_000, description="Rows asked about; a seeded sample beyond")


class Flip(Frozen):
    """Rows of one level, asked again as if they were of another."""

    here: str
    there: str
    rows: int
    changed: Estimate = Field(description="Share of their decisions that change")
    gained: int = Field(description="Decisions that become the favourable one, or a later class")
    lost: int
    mean_change: float = Field(description="Mean change of the output")


class FlipResult(Frozen):
    feature: str
    flips: tuple[Flip, ...] = Field(description="Largest share first")
    changed: Estimate = Field(description="Share of rows whose decision changes under at least one other level")
    listed: tuple[int, ...] = Field(description="Rows whose decision changes, in table order, the first fifty")
    rows: int
    rows_read: int
    features: tuple[str, ...] = Field(
        description="Columns that can be changed: those with levels, and numbers of few values"
    )
    scale: str
    confidence: float


def flip(subject: Subject, settings: FlipSettings, seed: int, work: Work) -> FlipResult:
    """Ask the model again with only one column changed, for every row and every other level.

    Raises
    ------
    Refused : the model does not take the column, or it has one level, or a number has too many values.
    """
    texts = [name for name in subject.model.inputs if subject.frame[name].dtype.kind != "f"]
    feature = feature_named(subject, settings.feature or (texts[0] if texts else ""))
    chosen = np.sort(subject.rows.drawn(np.random.default_rng(seed), settings.rows))
    frame, mass = subject.frame.take(chosen), subject.rows.mass[chosen]
    column = frame[feature]
    known = column[np.isfinite(column)] if column.dtype.kind == "f" else column[column != ""]
    levels, sizes = np.unique(known if column.dtype.kind == "f" else known.astype(str), return_counts=True)
    if len(levels) < 2:
        raise Refused(f"feature: “{feature}” has one value only; there is nothing to change it to.")
    if column.dtype.kind == "f" and len(levels) > MOST_LEVELS:
        raise Refused(
            f"feature: “{feature}” is a number with {words.count(len(levels))} values; a flip is between levels.",
            todo="Choose a column with levels, or read its response curve.",
        )
    levels = levels[np.sort(np.argsort(-sizes, kind="stable")[:MOST_LEVELS])]
    cuts = subject.decisions.cuts[chosen]
    before = subject.decisions.of(subject.predictions.outputs[chosen], cuts)
    was = subject.own_output[chosen]
    confidence = subject.spec.policy.confidence
    ever = np.zeros(frame.rows, bool)
    favourable = 1 if subject.classes or subject.spec.favourable == "event" else -1
    flips = []
    work.begin(len(levels), "levels asked about")
    for there in levels:
        asked = np.flatnonzero(column != there)
        moved = frame.take(asked).replace(feature, np.full(len(asked), there, dtype=column.dtype))
        # where the thresholds go by this very column, the row is decided as one of the group it is asked as
        after = subject.decisions.of(
            subject.model.outputs(moved), subject.decisions.cut_for(feature, _label(there), cuts[asked])
        )
        change = subject.output(moved) - was[asked]
        turned = after != before[asked]
        ever[asked[turned]] = True
        for here in levels:
            mine = column[asked] == here
            if not mine.any():
                continue
            step = (after[mine] - before[asked][mine]) * favourable
            flips.append(
                Flip(
                    here=_label(here),
                    there=_label(there),
                    rows=int(mine.sum()),
                    changed=share_of(turned[mine], mass[asked][mine], confidence),
                    gained=int((step > 0).sum()),
                    lost=int((step < 0).sum()),
                    mean_change=float(weighing.mean(change[mine], mass[asked][mine])),
                )
            )
        work.advance(1)
    return FlipResult(
        feature=feature,
        flips=tuple(sorted(flips, key=lambda one: -one.changed.value)),
        changed=share_of(ever, mass, confidence),
        listed=tuple(int(row) for row in subject.rows.numbers[chosen[np.flatnonzero(ever)[:LISTED]]]),
        rows=subject.n,
        rows_read=frame.rows,
        features=tuple(name for name in subject.model.inputs if _few(subject.frame[name])),
        scale=subject.scale,
        confidence=confidence,
    )


def _few(column: np.ndarray) -> bool:
    return column.dtype.kind != "f" or len(np.unique(column[np.isfinite(column)])) <= MOST_LEVELS


def _label(level) -> str:
    return str(level) if isinstance(level, str) else f"{level:g}"


def share_of(which: np.ndarray, mass: np.ndarray, confidence: float) -> Estimate:
    """The weighted share of rows, with its interval."""
    hit = mass * which
    sums = hit.sum(), (hit**2).sum(), mass.sum(), (mass**2).sum(), (mass > 0).sum()
    counts = intervals.effective_counts(*sums, confidence)
    value, low, high = (float(one) for one in intervals.wilson(*counts, confidence))
    return Estimate(value=value, low=low, high=high)


def say(result: FlipResult, wording: Wording, settings: FlipSettings) -> Reading:
    name = words.title(result.feature)
    headline = (
        f"With {name} alone changed, the decision would change for {words.percent(result.changed.value)} of {words.count(result.rows_read)} "
        f"{wording.rows} ({words.level(result.confidence)} interval {words.percent(result.changed.low)} to {words.percent(result.changed.high)})."
    )
    first = result.flips[0]
    detail = (
        f"Most from {first.here} to {first.there}: {words.percent(first.changed.value)} of {words.count(first.rows)}, "
        f"{words.count(first.gained)} for the better and {words.count(first.lost)} for the worse. All other columns are kept, those that go "
        f"along with {name} too."
    )
    return plain(headline, detail)


def picture(result: FlipResult, spec: Spec) -> Bars:
    shown = result.flips[:MOST_BARS]
    return Bars(
        names=tuple(f"{one.here} asked as {one.there}, {words.count(one.rows)} rows" for one in shown),
        values=tuple(one.changed.value for one in shown),
        label=f"share of decisions that change with {words.title(result.feature)} alone",
        spans=tuple((one.changed.low, one.changed.high) for one in shown),
    )


METHOD = Method(
    name="flip",
    area="cases",
    part="flip",
    title="One column changed",
    settings=FlipSettings,
    result=FlipResult,
    compute=flip,
    say=say,
    note=(
        "Only this column is changed, all others are kept: the share of decisions that change, by level and "
        "direction. Columns that go along with it are kept, so this is not what would happen to a person of the other "
        "group."
    ),
    main="flips",
    picture=picture,
    version=3,
)
