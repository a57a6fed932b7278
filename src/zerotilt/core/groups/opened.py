"""One group opened beside its reference: what was decided against what happened, curves, and scores."""

from __future__ import annotations

import itertools

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from zerotilt.core import words
from zerotilt.core.frozen import Frozen
from zerotilt.core.groups import measure, metrics, readout
from zerotilt.core.groups.metrics import Measure
from zerotilt.core.groups.pair import PairSettings, pair
from zerotilt.core.meaning import Wording
from zerotilt.core.method import Method
from zerotilt.core.reading import Reading, Span, plain
from zerotilt.core.stats import calibration, distributions, intervals
from zerotilt.core.stats.estimates import Estimate, estimate
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

POINTS = 101
BINS = 40


class OpenedSettings(PairSettings):
    """Which group, beside which."""


class Cell(Frozen):
    """Rows of one side that were decided one way and turned out one way."""

    side: str
    decided: str
    happened: str
    rows: int
    share: Estimate = Field(description="Of the rows of that side that turned out so")


class RatePoint(Frozen):
    side: str
    threshold: float
    true_positive_rate: float
    false_positive_rate: float
    positive_predictive_value: float | None


class Bin(Frozen):
    """Rows of one side whose scores lie together, for calibration."""

    side: str
    mean_score: float
    happened: Estimate
    rows: int


class Bar(Frozen):
    """Rows of one side between two scores, predictions or errors, apart by what happened."""

    side: str
    quantity: str
    low: float
    high: float
    rows: int
    with_event: int


class Distance(Frozen):
    """Between the two sides' distributions (Kolmogorov 1933, Smirnov 1939; Kantorovich & Wasserstein)."""

    quantity: str
    kolmogorov_smirnov: float
    at: float = Field(description="Where the shares below differ most")
    p_value: float
    wasserstein: float = Field(description="In the quantity's own unit")


class OpenedResult(Frozen):
    attribute: str
    group: str
    reference: str
    sides: tuple[str, ...]
    rows_group: int
    rows_reference: int
    metrics_group: dict[str, Measure]
    metrics_reference: dict[str, Measure]
    cells: tuple[Cell, ...]
    curve: tuple[RatePoint, ...]
    calibration: tuple[Bin, ...]
    bars: tuple[Bar, ...]
    distances: tuple[Distance, ...]
    rows: int
    confidence: float
    notes: tuple[str, ...]


def open_group(subject: Subject, settings: OpenedSettings, seed: int, work: Work) -> OpenedResult:
    """Everything about one group beside its reference."""
    two = pair(subject, settings)
    found = readout.read(subject)
    confidence = subject.spec.policy.confidence
    sides = {two.group: two.inside, two.reference: two.against}
    work.begin(2, "sides read")
    measured, cells, curve, bins, notes = {}, [], [], [], []
    for name, mask in sides.items():
        measured[name] = measure.of_rows(subject, found, mask, seed)
        cells += _cells(subject, name, mask, confidence)
        if found.scores is not None and found.happened is not None:
            y, s = found.happened[mask], found.scores[mask]
            w = np.ones(len(y)) if found.weights is None else found.weights[mask]
            if y.all() or not y.any():
                notes.append(
                    f"In {name} the event {'always' if len(y) and y.all() else 'never'} happened, so it has no ROC curve."
                )
            else:
                curve += _curve(name, y, s, w)
            bins += _calibration(name, y, s, w, confidence)
        work.advance(1)
    bars, distances = [], []
    for quantity, values, reach, bins_of_own in subject.kind.quantities(
        subject.rows.outcome_if_known, subject.predictions, subject.decisions
    ):
        edges = np.linspace(*reach, (bins_of_own or BINS) + 1)
        for name, mask in sides.items():
            bars += _bars(subject, name, quantity, values[mask], mask, edges)
        distances.append(_distance(subject, quantity, values, two.inside, two.against))
    return OpenedResult(
        attribute=two.attribute,
        group=two.group,
        reference=two.reference,
        sides=tuple(sides),
        rows_group=int(two.inside.sum()),
        rows_reference=int(two.against.sum()),
        metrics_group=measured[two.group],
        metrics_reference=measured[two.reference],
        cells=tuple(cells),
        curve=tuple(curve),
        calibration=tuple(bins),
        bars=tuple(bars),
        distances=tuple(distances),
        rows=subject.n,
        confidence=confidence,
        notes=tuple(notes),
    )


def _cells(subject: Subject, side: str, mask: NDArray[np.bool_], confidence: float) -> list[Cell]:
    """Every decision by every outcome, counts unweighted."""
    names, taken = subject.kind.outcomes_named(subject.classes)
    if not (k := len(names)) or not subject.spec.knows_outcome:
        return []
    happened, decided = subject.rows.outcome[mask].astype(int), subject.decisions.taken[mask]
    counts = np.bincount(happened * k + decided, minlength=k * k).reshape(k, k)
    return [
        Cell(
            side=side,
            decided=taken[d],
            happened=names[y],
            rows=int(counts[y, d]),
            share=estimate(*intervals.wilson(counts[y, d], counts[y].sum(), confidence)),
        )
        for y in reversed(range(k))
        for d in reversed(range(k))
    ]


def _curve(side: str, y: NDArray[np.bool_], s: NDArray, w: NDArray) -> list[RatePoint]:
    """Rates at every threshold that changes one, thinned to a hundred and one by equal steps along the curve."""
    order = np.argsort(-s, kind="stable")
    last = np.append(np.flatnonzero(np.diff(s[order])), len(s) - 1)
    hit, false = np.cumsum((w * y)[order])[last], np.cumsum((w * ~y)[order])[last]
    tpr, fpr = hit / hit[-1], false / false[-1]
    thresholds = s[order][last]
    length = np.concatenate([[0.0], np.cumsum(np.hypot(np.diff(tpr), np.diff(fpr)))])
    chosen = np.arange(len(last))
    if len(last) > POINTS:
        chosen = np.unique(np.searchsorted(length, np.linspace(0, length[-1], POINTS)).clip(0, len(last) - 1))
    points = [RatePoint(side=side, threshold=1.0, true_positive_rate=0.0, false_positive_rate=0.0, positive_predictive_value=None)]  # fmt: skip
    return points + [
        RatePoint(
            side=side,
            threshold=float(thresholds[i]),
            true_positive_rate=float(tpr[i]),
            false_positive_rate=float(fpr[i]),
            positive_predictive_value=float(hit[i] / (hit[i] + false[i])) if hit[i] + false[i] > 0 else None,
        )
        for i in chosen
    ]


def _calibration(side: str, y, s, w, confidence: float) -> list[Bin]:
    kept = w > 0  # rows that weigh nothing fill no bin
    y, s, w = y[kept], s[kept], w[kept]
    order = np.argsort(s, kind="stable")
    edges = np.append(calibration.starts(len(s)), len(s)) if len(s) else np.zeros(1, int)
    found = []
    for first, last in itertools.pairwise(edges):
        rows = order[first:last]
        if not len(rows) or not w[rows].sum() > 0:
            continue
        mine, hit = w[rows], w[rows] * y[rows]
        x, n = intervals.effective_counts(hit.sum(), (hit**2).sum(), mine.sum(), (mine**2).sum(), len(rows), confidence)
        found.append(
            Bin(
                side=side,
                mean_score=float(np.average(s[rows], weights=w[rows])),
                happened=estimate(*intervals.wilson(x, n, confidence)),
                rows=len(rows),
            )
        )
    return found


def _bars(subject: Subject, side: str, quantity: str, values, mask, edges) -> list[Bar]:
    places = np.clip(np.searchsorted(edges, values, side="right") - 1, 0, len(edges) - 2)
    rows = np.bincount(places, minlength=len(edges) - 1)
    event = np.zeros_like(rows)
    if subject.kind.cut and subject.spec.knows_outcome:
        event = np.bincount(places[subject.rows.outcome[mask]], minlength=len(edges) - 1)
    return [
        Bar(side=side, quantity=quantity, low=float(edges[i]), high=float(edges[i + 1]), rows=int(rows[i]), with_event=int(event[i]))
        for i in range(len(rows))
    ]  # fmt: skip


def _distance(subject: Subject, quantity: str, values, inside, against) -> Distance:
    """Of the weighted shares below every value; the p-value is the asymptotic one at the effective rows."""
    w = np.ones(subject.n) if subject.rows.weights is None else subject.rows.weights
    points = np.unique(values[inside | against])
    below = []
    for mask in (inside, against):
        order = np.argsort(values[mask], kind="stable")
        mass = np.concatenate([[0.0], np.cumsum(w[mask][order])])
        below.append(mass[np.searchsorted(values[mask][order], points, side="right")] / max(mass[-1], 1e-300))
    gap = below[0] - below[1]
    at = int(np.abs(gap).argmax())
    n, m = (intervals.effective(w[mask]) for mask in (inside, against))
    size = np.sqrt(n * m / (n + m)) if n and m else 0.0
    return Distance(
        quantity=quantity,
        kolmogorov_smirnov=float(abs(gap[at])),
        at=float(points[at]),
        p_value=distributions.kolmogorov_tail(size * abs(gap[at])),
        wasserstein=float((np.abs(gap[:-1]) * np.diff(points)).sum()),
    )


def say(result: OpenedResult, wording: Wording, settings: OpenedSettings) -> Reading:
    mine, theirs = result.metrics_group, result.metrics_reference
    key = next((one for one in ("selection_rate", "mean_prediction") if one in mine), next(iter(mine)))
    if mine[key].value is None or theirs[key].value is None:
        return plain(f"{result.group} and {result.reference} cannot be compared.", " ".join(result.notes))

    def show(name: str, found: Measure) -> str:
        if found.value is None:
            return "not defined"
        return words.percent(found.value) if metrics.metric_named(name).unit == "share" else words.quantity(found.value, wording.unit)  # fmt: skip

    low, high = show(key, mine[key].model_copy(update={"value": mine[key].low})), show(key, mine[key].model_copy(update={"value": mine[key].high}))  # fmt: skip
    what = f"{show(key, mine[key])} {wording.favourable}" if key == "selection_rate" else f"{metrics.phrase(key)} {show(key, mine[key])}"  # fmt: skip
    headline = (
        Span(text=f"{words.opening(result.group)}: "),
        Span(text=what),
        Span(
            text=f" ({words.level(result.confidence)} interval {low} to {high}; {words.count(result.rows_group)} {wording.rows}), "
            f"{result.reference} {show(key, theirs[key])} ({words.count(result.rows_reference)})."
        ),
    )
    parts = []
    same, errors = "accuracy", ("true_positive_rate", "false_positive_rate")
    if same in mine and all(
        one in mine and mine[one].value is not None and theirs[one].value is not None for one in errors
    ):
        parts.append(
            f"Accuracy {show(same, mine[same])} against {show(same, theirs[same])}; true positive rate "
            f"{show(errors[0], mine[errors[0]])} against {show(errors[0], theirs[errors[0]])}, false positive rate "
            f"{show(errors[1], mine[errors[1]])} against {show(errors[1], theirs[errors[1]])}."
        )
    for one in result.distances:
        parts.append(
            f"The distributions of the {one.quantity} are {words.decimal(one.kolmogorov_smirnov, 2)} apart at most "
            f"(Kolmogorov–Smirnov), {words.quantity(one.wasserstein)} on average (Wasserstein)."
        )
    return Reading(headline=headline, detail=" ".join([*parts, *result.notes]))


METHOD = Method(
    name="one_group",
    area="tilt",
    part="one",
    title="One group",
    settings=OpenedSettings,
    result=OpenedResult,
    compute=open_group,
    say=say,
    note=(
        "Shares in the confusion tables are of the rows that turned out so, with Wilson's intervals (1927). "
        "Calibration has 15 bins of equal counts, fewer where a bin would hold under 20 rows. Distances: "
        "**Kolmogorov–Smirnov**, the largest difference of the shares below a value; **Wasserstein**, in the "
        "quantity's own unit. Noise alone makes a calibration error larger, so it may stand at the upper end of its "
        "interval."
    ),
    main="cells",
    needs=frozenset({"predictions"}),
    depends=frozenset({"spec", "comparisons", "policy"}),
    address={"reference": "against"},
    version=2,
)
