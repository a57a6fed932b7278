"""Every metric of every group with its interval, from tallies; and how two groups compare."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, fields

import numpy as np
from numpy.typing import NDArray

from zerotilt.core.groups.metrics import METRICS, Kind, Measure, Metric, class_of, metric_named, of_set, of_task
from zerotilt.core.groups.readout import Readout, read
from zerotilt.core.groups.tally import Areas, Packed, Ranked, Tally, areas, count, count_groups
from zerotilt.core.groups.whole import OF_SCORES, OF_SETS, Set
from zerotilt.core.membership import JOIN, Grouping
from zerotilt.core.stats import calibration, intervals
from zerotilt.core.stats.estimates import estimate
from zerotilt.core.stats.intervals import Interval
from zerotilt.core.subject import Subject

_Y, _D, _F = (np.arange(8) >> bit & 1 == 1 for bit in range(3))


@dataclass(frozen=True)
class Measured:
    """One metric of k groups. ``x`` of ``n`` are effective counts of a rate, ``count`` of ``of`` plain ones, of rows that
    weigh something; shapes (k,)."""

    key: str
    kind: Kind
    interval: Interval
    of: NDArray[np.int64]
    count: NDArray[np.int64] | None = None
    x: NDArray[np.float64] | None = None
    n: NDArray[np.float64] | None = None

    def at(self, place: int) -> Measure:
        found = estimate(*(one[place] for one in self.interval))
        return Measure(
            **found.model_dump(), count=None if self.count is None else int(self.count[place]), of=int(self.of[place])
        )

    def take(self, places: NDArray[np.int64]) -> Measured:
        """Other groups, or the same in another order."""
        return Measured(
            self.key,
            self.kind,
            Interval(*(one[places] for one in self.interval)),
            self.of[places],
            *(None if one is None else one[places] for one in (self.count, self.x, self.n)),
        )


def measured(
    readout: Readout, tally: Tally, area: Areas | None, calibrated: Interval | None, confidence: float
) -> dict[str, Measured]:
    """Every metric of every group, by key.

    Rates: Wilson (1927). Means: Hall (1992), the root of a mean by its ends. AUC:
    DeLong et al. (1988) on the log-odds scale. Macro rates: Zou & Donner (2008).
    """
    found: dict[str, Measured] = {}
    for place, lens in enumerate(readout.lenses):
        for key, metric in lens.keys.items():
            found[key] = _rate(key, metric, tally.cells[place], confidence)
    for name in readout.macro:
        found[name] = _macro(
            name, [one for key, one in found.items() if key.startswith(name.removeprefix("macro_") + JOIN)]
        )
    for place, name in enumerate(readout.means):
        found[name] = _mean(name, tally, place, confidence)
    if area is not None:
        smaller = np.minimum(*(_in_cells(tally.cells[0], side)[:, 0] for side in (_Y, ~_Y)))
        interval = intervals.area(area.value, area.variance, area.with_event, area.without, confidence)
        found["auc"] = Measured("auc", "area", interval, smaller.astype(np.int64))
    if calibrated is not None:
        found["calibration_error"] = Measured("calibration_error", "calibration", calibrated, tally.rows)
    return {key: found[key] for key in readout.keys if key in found}


def _in_cells(cells: NDArray[np.float64], chosen: NDArray[np.bool_]) -> NDArray[np.float64]:
    """Rows, Σw and Σw² of some cells together, shape (k, 3)."""
    return cells[:, chosen].sum(axis=1)


def _rate(key: str, metric: Metric, cells: NDArray[np.float64], confidence: float) -> Measured:
    among = metric.among(_Y, _D, _F)
    of, mass, square = _in_cells(cells, among).T
    count, counted, counted_square = _in_cells(cells, among & metric.counted(_Y, _D, _F)).T
    x, n = intervals.effective_counts(counted, counted_square, mass, square, of, confidence)
    interval = intervals.wilson(x, n, confidence)
    return Measured(key, "rate", interval, of.astype(np.int64), count.astype(np.int64), x, n)


def _macro(name: str, parts: list[Measured]) -> Measured:
    value, low, high = (np.array([one.interval[i] for one in parts]) for i in range(3))
    middle = value.mean(axis=0)
    down, up = (np.sqrt(((value - side) ** 2).sum(axis=0)) / len(parts) for side in (low, high))
    return Measured(
        name, "macro", Interval(middle, middle - down, middle + up), np.min([one.of for one in parts], axis=0)
    )


def means_of(
    values: dict[str, NDArray[np.float64]],
    weights: NDArray[np.float64] | None,
    codes: NDArray[np.int64],
    k: int,
    confidence: float,
) -> dict[str, Interval]:
    """Means by group of some values, each of shape (n,), with Hall's interval (1992); shapes (k,)."""
    packed = Packed.of(Readout((), values, weights), len(codes))
    tally = count(packed, codes, k)
    return {name: _mean_span(tally, place, confidence) for place, name in enumerate(values)}


def _mean(name: str, tally: Tally, place: int, confidence: float) -> Measured:
    interval = _mean_span(tally, place, confidence)
    if metric_named(name).kind == "root":
        interval = Interval(*(np.sqrt(np.maximum(one, 0)) for one in interval))
    return Measured(name, metric_named(name).kind, interval, tally.rows)


def _mean_span(tally: Tally, place: int, confidence: float) -> Interval:
    mass, square = tally.sums.T
    with np.errstate(invalid="ignore", divide="ignore"):
        first, second, third, of_squares, of_squares_twice = tally.moments[place].T / mass
        spread = np.maximum(second - first**2, 0)
        skew = np.where(
            spread > 1e-24, (third - 3 * first * second + 2 * first**3) / np.maximum(spread, 1e-24) ** 1.5, 0.0
        )
        # Σw²(v − mean)² / (Σw)², of rows that weigh alike the plain variance of a mean
        left = (of_squares_twice - 2 * first * of_squares + first**2 * square / mass) / mass
        error = np.sqrt(np.maximum(left, 0) * tally.rows / np.maximum(tally.rows - 1, 1))
        n = np.where(error > 0, np.minimum(spread / np.where(error > 0, error, 1) ** 2 + 1, tally.rows), tally.rows)
    middle = np.where(mass > 0, first + tally.centre[place], np.nan)
    return intervals.mean(middle, error, skew, n, confidence)


def seed_of(seed: int, attribute: str, label: str) -> int:
    """Of a group's own draws: it follows its name, so that they do not depend on what else is compared, or where."""
    return int(np.random.SeedSequence([seed, *attribute.encode(), 0, *label.encode()]).generate_state(1)[0])


def calibrations(readout: Readout, masks: list[NDArray[np.bool_]], seeds: list[int], confidence: float) -> Interval:
    """Calibration errors of some sets of rows."""
    scores, happened = readout.events
    found = [
        calibration.with_interval(
            happened[mask],
            scores[mask],
            None if readout.weights is None else readout.weights[mask],
            seed,
            confidence,
        )
        for mask, seed in zip(masks, seeds, strict=True)
    ]
    return Interval(*(np.array([float(one[i]) for one in found]) for i in range(3)))


@dataclass(frozen=True)
class Counted:
    """A readout packed for counting; plain arrays, so that it can be sent elsewhere."""

    readout: Readout
    packed: Packed
    ranked: Ranked | None

    @classmethod
    def of(cls, readout: Readout, n: int) -> Counted:
        ranked = Ranked.of(*readout.events, readout.weights, readout.ranking) if readout.area else None
        return cls(readout, Packed.of(readout, n), ranked)

    def groups(
        self, grouping: Grouping, outside: bool, confidence: float, seed: int
    ) -> tuple[NDArray[np.int64], dict[str, Measured], dict[str, Measured] | None]:
        """Rows (k,) and every metric of every group; with ``outside`` also of the rows that are not in it."""
        found, k = self.readout, len(grouping.labels)
        seeds = [seed_of(seed, grouping.attribute, label) for label in grouping.labels]
        tally, rest = count_groups(self.packed, grouping, outside)
        masks = [grouping.mask(i) for i in range(k)] if outside or found.calibration else []

        def whole(tally: Tally, area: Areas | None, masks: list[NDArray[np.bool_]]) -> dict[str, Measured]:
            calibrated = calibrations(found, masks, seeds, confidence) if found.calibration else None
            return measured(found, tally, area, calibrated, confidence)

        if rest is None:
            area = areas(self.ranked, grouping.codes, k) if self.ranked is not None else None
            return tally.rows, whole(tally, area, masks), None
        own = others = None
        if self.ranked is not None:
            both = [areas(self.ranked, mask.astype(np.int64), 2) for mask in masks]
            own, others = (
                Areas(*(np.array([getattr(one, f.name)[side] for one in both]) for f in fields(Areas)))
                for side in (1, 0)
            )
        return tally.rows, whole(tally, own, masks), whole(rest, others, [~mask for mask in masks])


def of_rows(subject: Subject, readout: Readout, mask: NDArray[np.bool_], seed: int) -> dict[str, Measure]:
    """All metrics of the rows in ``mask`` as one group, with intervals at the policy's confidence."""
    confidence = subject.spec.policy.confidence
    codes = np.where(mask, 0, 1)
    packed = Packed.of(readout, subject.n)
    ranked = Ranked.of(*readout.events, readout.weights, readout.ranking) if readout.area else None
    found = measured(
        readout,
        count(packed, codes, 2),
        areas(ranked, codes, 2) if ranked is not None else None,
        calibrations(readout, [mask, mask], [seed, seed], confidence) if readout.calibration else None,
        confidence,
    )
    return {key: one.at(0) for key, one in found.items()}


def of_whole(subject: Subject, seed: int, wanted: Sequence[str] = ()) -> dict[str, Measure]:
    """Every metric that all rows of a context are told in, by key, in the order of the metrics; ``wanted``: of these names,
    all when empty.

    Raises
    ------
    Refused : the outcome or the predictions cannot be used.
    """
    measures = of_rows(subject, read(subject, wanted, whole=True), np.ones(subject.n, bool), seed)
    for key, rows in _sets(subject, seed):
        if wanted and key.split(JOIN)[0] not in wanted:
            continue
        interval, of = OF_SETS[key.split(JOIN)[0]](rows)
        measures[key] = Measure(**estimate(*(float(one) for one in interval)).model_dump(), of=of)
    order = list(METRICS)
    place = {name: i for i, name in enumerate(subject.classes)}
    keys = sorted(measures, key=lambda key: (place.get(class_of(key), -1), order.index(key.split(JOIN)[0])))
    return {key: measures[key] for key in keys}


def _sets(subject: Subject, seed: int) -> Iterator[tuple[str, Set]]:
    """The keys that are measured of all rows at once, with the rows as they are read for it."""
    kind, confidence = subject.kind, subject.spec.policy.confidence
    outcome, weights = subject.rows.outcome_if_known, subject.rows.weights
    if outcome is None:
        return
    tallied = {metric.name for metric in of_task(kind.task)}
    views = [view for view in kind.views(outcome, subject.predictions, subject.decisions) if not view.whole]
    for metric in of_set(kind.task, kind.told):
        if metric.name not in OF_SETS or metric.name in tallied:
            continue
        if metric.each_class:
            for view in views:
                if view.scores is not None or metric.name not in OF_SCORES:
                    key = f"{metric.name}{JOIN}{view.of_class}" if view.of_class else metric.name
                    yield key, Set.counting(view.y, view.d, view.scores, weights, 2, confidence, seed)
        else:
            d = subject.decisions.taken if kind.decides else None
            s = None if kind.decides else subject.predictions.values
            yield metric.name, Set.counting(outcome, d, s, weights, len(subject.classes) or 2, confidence, seed)


@dataclass(frozen=True)
class Compared:
    """One metric of groups against their references; arrays of shape (k,)."""

    ratio: Interval
    difference: Interval
    corrected: NDArray[np.bool_]
    p: NDArray[np.float64]


def compared(group: Measured, reference: Measured, confidence: float) -> Compared:
    """Ratio, difference and p-value of one metric, group by group.

    Rates: the score test and the intervals that it leaves (Koopman 1984; Mee
    1984). Everything else: from the two sides' intervals (Zou & Donner 2008;
    Donner & Zou 2012).
    """
    if group.kind == "rate":
        sides = (group.x, group.n, reference.x, reference.n)
        *ratio, corrected = intervals.koopman(*sides, confidence)
        return Compared(Interval(*ratio), intervals.mee(*sides, confidence), corrected, intervals.score_test(*sides))
    gap = intervals.between(group.interval, reference.interval)
    if metric_named(group.key).signed:
        ratio = Interval(*(np.full(len(group.of), np.nan),) * 3)
    else:
        ratio = intervals.over(group.interval, reference.interval)
    return Compared(ratio, gap, np.zeros(len(group.of), bool), intervals.tested(gap, confidence))
