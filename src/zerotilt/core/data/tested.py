"""Concerns that chance could make: each is tested, and said only where it stands after all that was tested."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import replace
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from zerotilt.core import membership, words
from zerotilt.core import rows as row_sets
from zerotilt.core.data import foretold
from zerotilt.core.data.concern import Gathered
from zerotilt.core.data.plainly import features_of
from zerotilt.core.meaning import Role
from zerotilt.core.refusal import Refused
from zerotilt.core.stats import apart, intervals
from zerotilt.core.stats.distributions import binomial_two_sided
from zerotilt.core.stats.estimates import estimate
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

LEAK = 0.95
"""Lower end of the area under the ROC curve from which on one column alone is said to know the outcome."""
STAND_IN = 0.70
"""Area from which on columns together are said to stand in for a group …"""
ALONE = 0.60
"""… and from which on one of them is named."""
UNEVEN = 0.02
"""Difference of two shares of missing cells that matters."""
INDEX = 0.10
"""Population stability index from which on two samples are said to differ."""
TOLD_APART = 0.60
"""Area from which on all features together are said to tell training from hold-out."""
MOST_LEVELS = 8
"""Levels of a group column that columns are asked to foretell, the largest."""


def leaks(subject: Subject, found: Gathered, seed: int, work: Work) -> None:
    """Columns that alone foretell the outcome almost perfectly, on rows that were not learnt from."""
    if not subject.spec.knows_outcome:
        return
    half = foretold.halves(subject.n, seed)
    y, n, wording = subject.rows.outcome, subject.n, subject.spec.wording
    confidence = subject.spec.policy.confidence
    for name in _columns(subject, work, "columns held against the outcome"):
        kinds = foretold.kinds_of(subject, name)
        if subject.kind.decides:
            targets = (
                [(y.astype(bool), "")]
                if not subject.kind.classed
                else [(y == c, label) for c, label in enumerate(subject.classes)]
            )
            areas = [
                (foretold.area(foretold.by_one(kinds, one, half), one, confidence), label) for one, label in targets
            ]
            known = [one for one in areas if np.isfinite(one[0].value)]
            if not known:
                continue
            best, label = max(known, key=lambda one: one[0].low)
            if best.low < LEAK:
                continue
            of = f" (as {label})" if label else ""
            said = f"{words.opening(words.title(name))} alone tells the outcome{of} with an area under the ROC curve of {_area(best)} among {words.count(n)} {wording.rows}."
            number = estimate(best.value, best.low, best.high)
        else:
            share, low, high = _explained(kinds, y.astype(float), half, confidence)
            if not np.isfinite(low) or low < LEAK:
                continue
            said = f"{words.opening(words.title(name))} alone accounts for {words.percent(share)} of the outcome's variance among {words.count(n)} {wording.rows}."
            number = estimate(share, low, high)
        found.say("leak", [name], said, "Ask when its value is known: if only after the outcome, leave it out of the model.", n, rows=n, found=number)  # fmt: skip


def _area(one: foretold.Foretold) -> str:
    value, low, high = (words.decimal(v, 2 if one.high < 0.995 else 3) for v in (one.value, one.low, one.high))
    return f"{value} ({low} to {high})"


def _explained(kinds, y, half, confidence: float) -> tuple[float, float, float]:
    """Share of the variance that a column's bins account for in the other half, with an interval of Fisher's z."""
    guess = np.empty(len(y))
    for own in (0, 1):
        there = half != own
        many = int(kinds.max(initial=0)) + 1
        rows = np.bincount(kinds[there], minlength=many)
        base = y[there].mean() if there.any() else 0.0
        means = (np.bincount(kinds[there], y[there], minlength=many) + base) / (rows + 1)
        guess[half == own] = means[kinds[half == own]]
    if len(y) < 10 or not y.std() or not guess.std():
        return np.nan, np.nan, np.nan
    r = float(np.clip(np.corrcoef(guess, y)[0, 1], -1, 1 - 1e-12))
    half_width = intervals.normal_quantile(confidence) / np.sqrt(len(y) - 3)
    low, high = np.tanh(np.arctanh(r) - half_width), np.tanh(np.arctanh(r) + half_width)
    return max(r, 0.0) ** 2, max(low, 0.0) ** 2, max(high, 0.0) ** 2


def _columns(subject: Subject, work: Work, what: str) -> Iterator[str]:
    names = [one for one in features_of(subject) if not subject.table.holds_bytes(one)]
    work.begin(len(names), what)
    for name in names:
        yield name
        work.advance(1)


def missing_unevenly(subject: Subject, found: Gathered) -> None:
    """Cells missing more often in one group, or with one outcome."""
    wording, n = subject.spec.wording, subject.n
    told = list(_tellings(subject))
    for column in subject.spec.columns:
        if column.role in (Role.identifier, Role.ignored, Role.weight, Role.split) or subject.table.holds_bytes(
            column.name
        ):
            continue
        absent = _absent(subject, column.name)
        many = int(absent.sum())
        if not many or many == n:
            continue
        for attribute, labels, codes in told:
            if attribute == column.name:
                continue
            counts = np.zeros((len(labels), 2))
            np.add.at(counts, (codes, absent.astype(int)), 1)
            p = apart.chi_squared(counts.T)
            shares = counts[:, 1] / np.maximum(counts.sum(axis=1), 1)
            able = np.flatnonzero(counts.sum(axis=1) >= 2)
            if len(able) < 2 or not np.isfinite(p):
                continue
            top, low = able[np.argmax(shares[able])], able[np.argmin(shares[able])]
            sizes = counts.sum(axis=1)
            gap = intervals.mee(counts[top, 1], sizes[top], counts[low, 1], sizes[low], subject.spec.policy.confidence)
            value, left, right = (float(v) for v in gap)
            said = (
                f"{words.opening(words.title(column.name))} is missing in {words.percent(shares[top])} of {labels[top]} and {words.percent(shares[low])} of {labels[low]} "
                f"({words.title(attribute)}; {words.count(int(sizes[top]))} and {words.count(int(sizes[low]))} {wording.rows}, {words.points(value)} apart, {words.points(left)} to {words.points(right)})."
            )
            found.suspect(p, value >= UNEVEN, "missing unevenly", [column.name, attribute], said, "Dropping rows where it is missing takes one group away more than the others; fill it in, or keep missing as a value.", n, group=labels[top], rows=many, found=estimate(value, left, right))  # fmt: skip


def _tellings(subject: Subject) -> Iterator[tuple[str, list[str], NDArray[np.int64]]]:
    """What rows are told apart by: single group columns, and the outcome where it is one of a few."""
    for column in subject.spec.columns:
        if column.makes_groups and not column.separator:
            grouping = membership.grouping(subject.spec, subject.table, subject.rows.numbers, (column.name,))
            yield column.name, list(grouping.labels), grouping.exclusive
    if subject.spec.knows_outcome and subject.kind.decides:
        levels, codes = subject.table.coded(subject.spec.outcome.name)
        yield subject.spec.outcome.name, [str(one) for one in levels], codes[subject.rows.numbers]


def _absent(subject: Subject, name: str) -> NDArray[np.bool_]:
    table = subject.table
    if table.is_number(name) or table.is_date(name):
        return np.isnan(table.numbers(name)[subject.rows.numbers])
    return table.coded(name)[1][subject.rows.numbers] < 0


def shares_of_groups(subject: Subject, population: Mapping[str, float], found: Gathered) -> None:
    """Groups short of, or beyond, the share that they have in a given population.

    Raises
    ------
    Refused : a name is no group of a column, or a share is none.
    """
    n, wording = subject.n, subject.spec.wording
    for name, share in population.items():
        column, _, level = name.partition("=")
        if column not in subject.table.names or not level:
            raise Refused(
                f"population: “{name}” names no group; it is written column=group.",
                todo="Write home_area=outer isles, for example.",
            )
        if not 0 < share < 1:
            raise Refused(f"population: a share of {share:g} was given for “{name}”; it lies between 0 and 1.")
        grouping = membership.grouping(subject.spec, subject.table, subject.rows.numbers, (column,))
        here = int(grouping.mask(grouping.labels.index(level)).sum()) if level in grouping.labels else 0
        value, low, high = (float(v) for v in intervals.wilson(here, n, subject.spec.policy.confidence))
        said = f"{level} ({words.title(column)}) {'is' if here == 1 else 'are'} {words.percent(value)} of {words.count(n)} {wording.rows} ({words.percent(low)} to {words.percent(high)}) and {words.percent(share)} of the population given."
        found.suspect(binomial_two_sided(here, n, share), True, "share of a group", [column], said, "What is learnt and measured of a group rests on its own rows; read its intervals, or weigh the rows.", n, group=level, rows=here, found=estimate(value, low, high))  # fmt: skip


def splits(subject: Subject, found: Gathered, seed: int) -> None:
    """Columns that are distributed otherwise in training and hold-out rows, and whether all together tell them apart."""
    if not row_sets.split_known(subject.spec):
        return
    table = subject.table
    held, trained = (
        np.flatnonzero(row_sets.held_out(subject.spec, table, which)) for which in ("hold-out", "training")
    )
    if not len(held) or not len(trained):
        return
    rows = subject.spec.wording.rows
    for name in features_of(subject):
        if table.holds_bytes(name):
            continue
        if table.is_number(name) or table.is_date(name):
            one, other = table.numbers(name)[trained], table.numbers(name)[held]
            distance, p = apart.numbers(one, other)
            index = apart.stability(*apart.binned(one, other))
            how = "the largest distance of their distribution functions"
        else:
            levels, codes = table.coded(name)
            counts = np.stack(
                [np.bincount(codes[part] + 1, minlength=len(levels) + 1) for part in (trained, held)], axis=1
            )
            distance, p = apart.levels(counts)
            index = apart.stability(counts[:, 0].astype(float), counts[:, 1].astype(float))
            how = "the share of rows that would have to change"
        said = f"{words.opening(words.title(name))} is distributed otherwise among {words.count(len(held))} held-out than among {words.count(len(trained))} training {rows}: {how} is {words.decimal(distance, 3) if distance == distance else 'unknown'}, the stability index {words.decimal(index, 2)}."
        found.suspect(p, index >= INDEX, "splits differ", [name], said, "Find out how the rows were split; what is measured on the hold-out is of other cases then.", len(held) + len(trained), rows=len(held))  # fmt: skip
    _told_apart(subject, held, trained, found, seed)


def _told_apart(
    subject: Subject, held: NDArray[np.int64], trained: NDArray[np.int64], found: Gathered, seed: int
) -> None:
    """Whether features together foretell in which of both a row is: a shift of many columns that none shows by itself."""
    whole = replace(subject, context=subject.context.model_copy(update={"rows": "all", "segment": None}), alike=None)
    among = np.isin(whole.rows.numbers, trained)
    out = np.isin(whole.rows.numbers, held)
    places = np.flatnonzero((among | out) & (whole.rows.mass > 0))
    places = np.sort(np.random.default_rng([seed, 5]).permutation(places)[: foretold.MOST_TOGETHER])
    features = [one for one in features_of(subject) if not subject.table.holds_bytes(one)]
    if not features or not out[places].any() or out[places].all():
        return
    kinds = {name: foretold.kinds_of(whole, name) for name in features}
    scores = foretold.all_together(list(kinds.values()), out[:, None], places, seed)[:, 0]
    one = foretold.area(scores, out[places], subject.spec.policy.confidence)
    if not np.isfinite(one.value):
        return
    half = foretold.halves(len(places), seed)
    alone = {
        name: foretold.area(
            foretold.by_one(kind[places], out[places], half), out[places], subject.spec.policy.confidence
        )
        for name, kind in kinds.items()
    }
    most = sorted(features, key=lambda name: -(alone[name].value if np.isfinite(alone[name].value) else 0.0))[:2]
    rows = subject.spec.wording.rows
    said = f"All features together tell held-out from training {rows} with an area under the ROC curve of {words.decimal(one.value, 2)} ({words.decimal(one.low, 2)} to {words.decimal(one.high, 2)}), in {words.count(len(places))} of them; most by {words.listing([words.title(name) for name in most])}."
    p = foretold.by_chance(one.value, scores, out[places])
    found.suspect(p, one.value >= TOLD_APART, "splits differ", most, said, "Find out how the rows were split; what is measured on the hold-out is of other cases then.", len(places), rows=int(out[places].sum()), found=estimate(one.value, one.low, one.high))  # fmt: skip


class _Maker(NamedTuple):
    """A column that makes groups, its largest levels, and which rows are in each, shape (n, levels)."""

    name: str
    labels: tuple[str, ...]
    sizes: tuple[int, ...]
    targets: NDArray[np.bool_]


def stand_ins(subject: Subject, found: Gathered, seed: int, work: Work) -> None:
    """Group columns that the model takes, and features that together foretell a group; with how much the model leans on them."""
    features = [one for one in features_of(subject) if not subject.table.holds_bytes(one)]
    makers = [
        one
        for one in (
            _maker(subject, column.name)
            for column in subject.spec.columns
            if column.makes_groups and not column.separator
        )
        if one
    ]
    taken = set(subject.predictor.inputs) if subject.predictor is not None else set()
    for maker in makers:
        if maker.name in taken:
            found.say("group taken", [maker.name], f"The model takes {words.title(maker.name)}, which makes groups{_leans(subject, [maker.name], seed)}.", "Ask whether it may; where it may not, leave it out, and look for what stands in for it.", subject.n, rows=subject.n)  # fmt: skip
    kinds = {name: foretold.kinds_of(subject, name) for name in features}
    half = foretold.halves(subject.n, seed)
    drawn = np.sort(subject.rows.drawn(np.random.default_rng([seed, 3]), foretold.MOST_TOGETHER))
    work.begin(len(makers), "groups foretold from features")
    # what is learnt of the same columns is learnt at once
    alike: dict[tuple[str, ...], list[_Maker]] = {}
    for maker in makers:
        alike.setdefault(tuple(name for name in features if name != maker.name), []).append(maker)
    for others, mine in alike.items():
        if not others:
            continue
        together = foretold.all_together(
            [kinds[name] for name in others], np.concatenate([one.targets for one in mine], axis=1), drawn, seed
        )
        at = 0
        for maker in mine:
            scores = together[:, at : at + len(maker.labels)]
            at += len(maker.labels)
            _stand_in(subject, maker, {name: kinds[name] for name in others}, scores, drawn, half, taken, found, seed)
            work.advance(1)


def _maker(subject: Subject, name: str) -> _Maker | None:
    grouping = membership.grouping(subject.spec, subject.table, subject.rows.numbers, (name,))
    codes, n = grouping.exclusive, subject.n
    sizes = np.bincount(codes, minlength=len(grouping.labels))
    levels = [int(one) for one in np.argsort(-sizes, kind="stable")[:MOST_LEVELS] if 1 < sizes[one] < n - 1]
    if not levels:
        return None
    return _Maker(
        name,
        tuple(grouping.labels[one] for one in levels),
        tuple(int(sizes[one]) for one in levels),
        np.stack([codes == one for one in levels], axis=1),
    )


def _stand_in(subject, maker: _Maker, kinds, scores, drawn, half, taken: set[str], found: Gathered, seed: int) -> None:
    n, rows, confidence = subject.n, subject.spec.wording.rows, subject.spec.policy.confidence
    areas = [foretold.area(scores[:, j], maker.targets[drawn, j], confidence) for j in range(len(maker.labels))]
    known = [j for j, one in enumerate(areas) if np.isfinite(one.value)]
    if not known:
        return
    best = max(known, key=lambda j: areas[j].value)
    one, label, target = areas[best], maker.labels[best], maker.targets[:, best]
    large = one.value >= STAND_IN
    alone = (
        {name: foretold.area(foretold.by_one(own, target, half), target, confidence) for name, own in kinds.items()}
        if large
        else {}
    )
    named = sorted((name for name in alone if alone[name].value >= ALONE), key=lambda name: -alone[name].value)[:3]
    strongest = words.listing([f"{words.title(name)} ({words.decimal(alone[name].value, 2)})" for name in named])
    lean = _leans(subject, [name for name in named if name in taken], seed)
    said = (
        f"The other features together tell {label} ({words.title(maker.name)}) from the rest with an area under the ROC curve of {_area(one)}, "
        f"among {words.count(len(drawn))} of {words.count(n)} {rows}{f'; alone, {strongest}' if named else ''}{lean}."
    )
    # the largest of several areas: chance has as many tries
    p = foretold.by_chance(one.value, scores[:, best], target[drawn])
    found.suspect(min(p * len(known), 1.0), large, "stand-in", [maker.name, *named], said, "Leaving the group column out does not leave the group out; compare rates within levels of the stand-in.", n, group=label, rows=maker.sizes[best], found=estimate(one.value, one.low, one.high))  # fmt: skip


LEANT_ON = 2_000
"""Rows whose columns are shuffled to see how much the model leans on them."""


def _leans(subject: Subject, names: list[str], seed: int) -> str:
    """How far the output moves on average when these columns are shuffled among the rows, together; nothing without a model."""
    if subject.predictor is None or not names:
        return ""
    places = np.sort(subject.rows.drawn(np.random.default_rng([seed, 5]), LEANT_ON))
    frame = subject.frame.take(places)
    order = np.random.default_rng([seed, 6]).permutation(len(places))
    shuffled = frame
    for name in names:
        shuffled = shuffled.replace(name, frame[name][order])
    moved = float(np.abs(subject.output(shuffled) - subject.output(frame)).mean())
    by = words.difference(moved, subject.scale, subject.spec.wording.unit)
    return f"; shuffled, {'it moves' if len(names) == 1 else 'they move'} the model's output by {by} on average"
