"""Contributions against the values they come from, over all rows: what a feature does where, and with what beside it."""

from __future__ import annotations

import math
from itertools import combinations
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from zerotilt.core import words
from zerotilt.core.contributions.explain import explain
from zerotilt.core.contributions.sums_met import affordable
from zerotilt.core.frozen import Frozen
from zerotilt.core.meaning import Wording
from zerotilt.core.method import Method
from zerotilt.core.reading import Reading, plain
from zerotilt.core.response.curves import feature_named
from zerotilt.core.response.parts import Parts, parts_of
from zerotilt.core.stats import distributions, weighing
from zerotilt.core.stats.estimates import Estimate
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

LANES = 5
MOST_FEATURES = 300
MOST_BINS = 40
LEAST_IN_BIN, ROWS_IN_BIN = 5, 15
LEAST_TOLD = 5
"""Rows of a stretch, under which its middle is drawn and not quoted."""


class SpreadSettings(Frozen):
    feature: str = Field(
        default="", description="The feature drawn along its values; the one that moves most when empty"
    )
    colour: str = Field(default="", description="A column of the table by which the rows are told apart")
    rows: int = Field(
        default=300_000,
        ge=10,
        le=1_000_000,
        description="Rows explained where that is exact and cheap; a sample beyond",
    )
    sampled: int = Field(
        default=300, ge=10, le=1_000_000, description="Rows explained where contributions are sampled or dear"
    )
    walks: int = Field(default=1_024, ge=2, le=10_000, description="Most pairs of walks a row, where they are sampled")


class Lane(Frozen):
    """Contributions of one feature among the rows of one fifth of its values, or of one level."""

    feature: str
    lane: int = Field(description="0 for the lowest values, or the largest level")
    lanes: int
    label: str
    rows: int
    p10: float
    p25: float
    p50: float
    p75: float
    p90: float


class Stretch(Frozen):
    """Contributions of the chosen feature among the rows near one value, in one part of the rows."""

    part: str
    position: float | None = Field(description="Mean value of the rows; null for levels and for missing")
    label: str
    rows: int
    mean: float
    error: float = Field(description="Standard error of the mean")
    p10: float
    p25: float
    p50: float
    p75: float
    p90: float


class SpreadResult(Frozen):
    lanes: tuple[Lane, ...] = Field(description="Feature by feature, largest mean absolute contribution first")
    stretches: tuple[Stretch, ...] = Field(description="Of the chosen feature, part by part, along its values")
    feature: str
    numeric: bool
    date: bool
    colour: str | None
    parts: tuple[str, ...]
    parted: Estimate | None = Field(
        description="Surest gap between two parts' mean contributions at the same values, its interval widened for how "
        "many values there are; null without a colour, or where no value has rows in two parts"
    )
    parted_at: str | None
    features: tuple[str, ...] = Field(description="Largest mean absolute contribution first")
    columns: tuple[str, ...] = Field(description="Columns the rows can be told apart by")
    rows: int
    rows_explained: int
    method: str
    why: str
    output: Literal["probability", "log-odds", "value"]
    event: str


def spread_out(subject: Subject, settings: SpreadSettings, seed: int, work: Work) -> SpreadResult:
    """Quantiles of contributions along each feature's own values; one pass over the rows, a result of bounded size.

    Raises
    ------
    Refused : the feature is none of the model's, or the colour no column.
    """
    wanted = feature_named(subject, settings.feature) if settings.feature else ""
    colours = parts_of(subject, settings.colour) if settings.colour else None
    most = min(affordable(subject, settings.rows, settings.sampled), settings.rows)
    chosen = np.sort(subject.rows.drawn(np.random.default_rng(seed), most))
    mass = subject.rows.mass[chosen]
    found = explain(subject, subject.rows.numbers[chosen], seed, work, most_pairs=settings.walks)
    order = np.argsort(-weighing.mean(np.abs(found.values), mass), kind="stable")
    features = [found.features[j] for j in order]
    feature = wanted or features[0]
    lanes: list[Lane] = []
    for j in order[:MOST_FEATURES]:
        lanes += _lanes(subject, found.features[j], subject.frame[found.features[j]][chosen], found.values[:, j], mass)
    values = subject.frame[feature][chosen]
    own = found.values[:, found.features.index(feature)]
    here = None if colours is None else Parts(colours.labels, colours.codes[chosen])
    stretches = _stretches(subject, feature, values, own, here, mass)
    gap, at = _gap(stretches, subject.spec.policy.confidence)
    return SpreadResult(
        lanes=tuple(lanes),
        stretches=tuple(stretches),
        feature=feature,
        numeric=values.dtype.kind == "f",
        date=subject.editor.is_date(feature),
        colour=settings.colour or None,
        parts=() if here is None else tuple(here.labels),
        parted=gap,
        parted_at=at,
        features=tuple(features),
        columns=subject.partable,
        rows=subject.n,
        rows_explained=len(chosen),
        method=found.method,
        why=found.why,
        output=subject.scale,
        event=subject.what,
    )


def _five(values: NDArray[np.float64], mass: NDArray[np.float64]) -> dict[str, float]:
    found = weighing.quantiles(values, [0.1, 0.25, 0.5, 0.75, 0.9], mass)
    return dict(zip(("p10", "p25", "p50", "p75", "p90"), map(float, found), strict=True))


def _lanes(subject: Subject, feature: str, values: NDArray, own: NDArray, mass: NDArray) -> list[Lane]:
    """Up to five fifths of a number's rows, or the five largest levels in their order."""
    labels, codes = bins_of(subject, feature, values, LANES)
    out = []
    for lane, (label, _) in enumerate(labels):
        mine = codes == lane
        if mine.any():
            five = _five(own[mine], mass[mine])
            out.append(Lane(feature=feature, lane=lane, lanes=len(labels), label=label, rows=int(mine.sum()), **five))
    return out


def bins_of(
    subject: Subject, feature: str, values: NDArray, most: int
) -> tuple[list[tuple[str, float | None]], NDArray[np.int64]]:
    """Labels with their mean value, and each row's bin, −1 for none: about equal counts of a number, or its few values;
    the largest levels of a text in their order; missing numbers last."""
    if values.dtype.kind == "f":
        known = np.isfinite(values)
        distinct = np.unique(values[known])
        if len(distinct) > most:
            edges = np.unique(np.quantile(values[known], np.arange(1, most) / most, method="inverted_cdf"))
            codes = np.where(known, np.searchsorted(edges, values, "left"), -1)
            count = len(edges) + 1
        else:
            codes, count = np.where(known, np.searchsorted(distinct, values), -1), len(distinct)
        # edges at the greatest value leave the last bin without rows
        kept = [i for i in range(count) if (codes == i).any()]
        place = {old: new for new, old in enumerate(kept)}
        codes = np.array([place.get(code, -1) for code in range(-1, count)])[codes + 1]
        parts = [values[codes == i] for i in range(len(kept))]
        ends = np.array([[mine.min(), mine.max()] for mine in parts]).reshape(-1, 2)
        told = [[subject.editor.label(feature, float(one)) for one in both] for both in ends]
        written = {tuple(both) for both in told}
        if len(written) < len(told):  # parts that would be named alike
            texts = words.told_apart(ends.ravel().tolist())
            told = [list(texts[2 * i : 2 * i + 2]) for i in range(len(parts))]
        labels: list[tuple[str, float | None]] = [
            (low if low == high else f"{low} to {high}", float(mine.mean()))
            for (low, high), mine in zip(told, parts, strict=True)
        ]
        if not known.all():
            labels.append(("missing", None))
            codes = np.where(known, codes, len(kept))
        return labels, codes
    texts = values.astype(str)
    levels, sizes = np.unique(texts, return_counts=True)
    largest = [str(one) for one in levels[np.argsort(-sizes, kind="stable")][:most]]
    order = subject.spec.column(feature).order
    largest = [one for one in order if one in largest] + [one for one in largest if one not in order]
    place = {level: i for i, level in enumerate(largest)}
    return [(level or "missing", None) for level in largest], np.array([place.get(one, -1) for one in texts])


def _stretches(
    subject: Subject, feature: str, values: NDArray, own: NDArray, parts: Parts | None, mass: NDArray
) -> list[Stretch]:
    named = [(0, "")] if parts is None else list(enumerate(parts.labels))
    labels, codes = bins_of(
        subject, feature, values, int(np.clip(len(own) // (ROWS_IN_BIN * len(named)), 4, MOST_BINS))
    )
    out = []
    for number, part in named:
        inside = np.ones(len(own), bool) if parts is None else parts.codes == number
        for place, (label, position) in enumerate(labels):
            mine = inside & (codes == place)
            if mine.sum() >= min(LEAST_IN_BIN, len(own)):
                out.append(
                    Stretch(
                        part=part,
                        position=position,
                        label=label,
                        rows=int(mine.sum()),
                        mean=float(weighing.mean(own[mine], mass[mine])),
                        error=float(weighing.error(own[mine], mass[mine])),
                        **_five(own[mine], mass[mine]),
                    )
                )
    return out


def _gap(stretches: list[Stretch], confidence: float) -> tuple[Estimate | None, str | None]:
    """The gap of means that is surest above zero. Many values are looked at, so each interval is as wide as
    keeps all of them true together (Bonferroni)."""
    by_label: dict[str, list[Stretch]] = {}
    for one in stretches:
        by_label.setdefault(one.label, []).append(one)
    pairs = [(label, *pair) for label, found in by_label.items() for pair in combinations(found, 2)]
    if not pairs:
        return None, None
    tail = 1 - (1 - confidence) / len(pairs) / 2

    def gap(first: Stretch, second: Stretch) -> Estimate:
        reach = float(
            distributions.t_quantile(tail, max(min(first.rows, second.rows) - 1, 1))
        )  # few rows tell little of their spread
        value, half = abs(first.mean - second.mean), reach * float(np.hypot(first.error, second.error))
        return Estimate(value=value, low=value - half, high=value + half)

    found = [(label, gap(first, second)) for label, first, second in pairs]
    label, widest = max(found, key=lambda one: -math.inf if one[1].low is None else one[1].low)
    return widest, label


def say(result: SpreadResult, wording: Wording, settings: SpreadSettings) -> Reading:
    name = words.title(result.feature)
    whole = [one for one in result.lanes if one.feature == result.feature]
    whole = [one for one in whole if one.label != "missing"] or whole
    told = [one for one in whole if one.rows >= LEAST_TOLD]
    if not told:
        few = max((one.rows for one in whole), default=0)
        return plain(
            f"Nothing can be said of {name}: no stretch of it has {LEAST_TOLD} {wording.rows} ({few} at most).",
            f"Contributions of {words.count(result.rows_explained)} {wording.rows}. {result.why}",
        )
    whole = told
    top, bottom = max(whole, key=lambda one: one.p50), min(whole, key=lambda one: one.p50)

    def moved(value: float) -> str:
        way = "raises" if value > 0 else "lowers"
        return f"{way} the {_output(result)} by {words.difference(value, result.output, wording.unit)}"

    if top is bottom:
        headline = f"At {name} {top.label}, it {moved(top.p50)} in the middle {wording.row}; elsewhere there are too few {wording.rows}."
    else:
        headline = f"At {name} {top.label}, it {moved(top.p50)} in the middle {wording.row}; at {bottom.label} it {moved(bottom.p50)}."
    if result.colour:
        colour = words.title(result.colour)
        unit = wording.unit
        if result.parted is None:
            headline += f" No value of {name} has rows in two parts by {colour}."
        elif result.parted.low <= 0:
            headline += f" By {colour} they do not differ beyond their spread."
        else:
            headline += (
                f" By {colour} they differ, at {name} {result.parted_at} by "
                f"{words.difference(result.parted.value, result.output, unit)} on average "
                f"({words.difference(result.parted.low, result.output, unit)} to {words.difference(result.parted.high, result.output, unit)})."
            )
    some = "all" if result.rows_explained == result.rows else f"{words.count(result.rows_explained)} of"
    return plain(headline, f"Contributions of {some} {words.count(result.rows)} {wording.rows}. {result.why}")


def _output(result: SpreadResult) -> str:
    if result.output == "value":
        return result.event
    return f"{'chance' if result.output == 'probability' else 'log-odds'} that {result.event}"


METHOD = Method(
    name="spread",
    area="drivers",
    part="spread",
    title="Spread of contributions",
    settings=SpreadSettings,
    result=SpreadResult,
    compute=spread_out,
    say=say,
    note=(
        "Shapley values (Shapley 1953) of every row, gathered by the feature's own value: quantiles of the "
        "contributions in bins of about equal counts (up to 40, at least 5 rows each), so that any number of rows "
        "reads the same. All rows where contributions are exact (up to 300,000), else a seeded sample (300, or "
        "1,500 where the exact values of a sum steady them), or all on request. Where the parts of another column lie apart at the same value, the two work together in the model; "
        "where only the rows move along the axis, they are merely associated. Where two parts differ is said for the "
        "value at which the gap of their means is surest, with an interval widened for all values looked at "
        "(Bonferroni, Student's t)."
    ),
    main="lanes",
    first_look={"sampled": 40, "rows": 2000, "walks": 24},
    version=4,
)
