"""Concerns that are seen by counting: nothing is tested for them."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from zerotilt.core import membership, words
from zerotilt.core import rows as row_sets
from zerotilt.core.data.concern import Gathered
from zerotilt.core.meaning import Role
from zerotilt.core.subject import Subject

FAR = 10.0
"""Interquartile ranges from the nearer quartile from which on a value is far out."""
LEAST_FOR_IDENTIFIER = 30
RARE = 0.05
"""Share of the rows under which an outcome is rare."""
MOST_SMALL = 4
"""Small groups of one column that are said one by one."""
BY_CHANCE = 10.0
"""Times as many alike pairs as independent columns would make, from which on duplicates are said."""


def features_of(subject: Subject) -> list[str]:
    """The model's inputs; without a model the columns marked as features."""
    if subject.predictor is not None:
        return [name for name in subject.predictor.inputs if name in subject.table.names]
    return [one.name for one in subject.spec.with_role(Role.feature)]


def single_columns(subject: Subject, found: Gathered) -> None:
    """Identifiers, constants, rare levels and numbers far out among the features."""
    n, wording = subject.n, subject.spec.wording
    least = subject.spec.policy.minimum_rows
    if n < 2:
        return  # one row is not told apart from anything
    for name in features_of(subject):
        table = subject.table
        if table.holds_bytes(name):
            continue
        if table.is_number(name) or table.is_date(name):
            values = table.numbers(name)[subject.rows.numbers]
            known = np.sort(values[np.isfinite(values)])
            distinct = int((known[1:] != known[:-1]).sum()) + 1 if len(known) else 0
            whole = len(known) > 0 and bool((known % 1 == 0).all())
            if table.is_number(name):
                _far_out(name, known, found, n, wording.rows)
        else:
            levels, codes = table.coded(name)
            codes = codes[subject.rows.numbers]
            counts = np.bincount(codes[codes >= 0], minlength=len(levels))
            known, distinct, whole = codes[codes >= 0], int((counts > 0).sum()), True
            _rare_levels(name, counts, least, found, n, wording.rows)
        title = words.title(name)
        if distinct <= 1:
            holds = "nothing" if not len(known) else "the same value"
            found.say("constant", [name], f"{words.opening(title)} holds {holds} in all of {words.count(n)} {wording.rows}.", "Leave it out of the next model; it can tell nothing apart.", n, rows=n)  # fmt: skip
        elif whole and distinct == len(known) and len(known) >= LEAST_FOR_IDENTIFIER:
            found.say("identifier", [name], f"{words.opening(title)} has another value in each of {words.count(len(known))} {wording.rows}, as an identifier has, and is among the features.", "Set its role to identifier in Intake, unless the order of its values means something.", n, rows=len(known))  # fmt: skip


def _far_out(name: str, known: NDArray[np.float64], found: Gathered, n: int, rows: str) -> None:
    if len(known) < 4:
        return
    low, high = known[[int(0.25 * (len(known) - 1)), int(np.ceil(0.75 * (len(known) - 1)))]]
    width = high - low
    if not width:
        return
    first = int(np.searchsorted(known, low - FAR * width))
    last = int(np.searchsorted(known, high + FAR * width, "right"))
    many = first + len(known) - last
    if not many:
        return
    ends = [known[0]] * (first > 0) + [known[-1]] * (last < len(known))
    told = words.listing([words.quantity(float(one)) for one in ends])
    found.say("far out", [name], f"{words.opening(words.plural(many, 'value'))} of {words.title(name)} {'lies' if many == 1 else 'lie'} more than ten times the width of the middle half of {rows} away from it, as far as {told}.", "Check whether a unit was mixed up, or a code stands for something missing.", n, rows=many)  # fmt: skip


def _rare_levels(name: str, counts: NDArray, least: int, found: Gathered, n: int, rows: str) -> None:
    rare = (counts > 0) & (counts < least)
    if not rare.any() or int(rare.sum()) == n:
        return
    many = int(rare.sum())
    found.say("rare levels", [name], f"{words.opening(words.plural(many, 'level'))} of {words.title(name)} {'has' if many == 1 else 'have'} fewer than {least} rows each, {words.count(int(counts[rare].sum()))} of {words.count(n)} {rows} together.", "What a model learnt of them rests on few rows; join them, or read them with that in mind.", n, rows=int(counts[rare].sum()))  # fmt: skip


def outcome_balance(subject: Subject, found: Gathered) -> None:
    """A rare outcome, and groups in which it hardly happened, or hardly failed to."""
    if not subject.spec.knows_outcome or not subject.kind.decides:
        return
    y, wording, n = subject.rows.outcome, subject.spec.wording, subject.n
    if subject.kind.classed:
        counts = np.bincount(y.astype(np.int64), minlength=len(subject.classes))
        for place, many in enumerate(counts):
            if many < RARE * n:
                found.say("rare outcome", [subject.spec.outcome.name], f"{words.count(int(many))} of {words.count(n)} {wording.rows} turned out as {subject.classes[place]} ({words.percent(many / max(n, 1))}).", "Compare rates of this class by its own rows, and weigh classes when a model is trained.", n, rows=int(many))  # fmt: skip
        return
    yes = int(y.sum())
    least = subject.spec.policy.minimum_rows
    if min(yes, n - yes) < RARE * n and n > 1:
        few = min(yes, n - yes)
        what = "happened" if yes < n - yes else "failed to happen"
        often = (
            f"{what} in {words.count(few)} of {words.count(n)} {wording.rows} ({words.percent(few / n)})"
            if few
            else f"{'never' if not yes else 'always'} happened in these {words.count(n)} {wording.rows}"
        )
        found.say("rare outcome", [subject.spec.outcome.name], f"The event {often}.", "Accuracy says little here; read precision, recall and the rates by outcome.", n, rows=few)  # fmt: skip
    for column in subject.spec.columns:
        if column.makes_groups:
            _small_groups(subject, column.name, y, least, found)


def _small_groups(subject: Subject, name: str, y: NDArray[np.bool_], least: int, found: Gathered) -> None:
    """Groups in which the event, or its absence, rests on too few rows; many of one column are one concern."""
    wording, n = subject.spec.wording, subject.n
    grouping = membership.grouping(subject.spec, subject.table, subject.rows.numbers, (name,))
    small = []
    for place, label in enumerate(grouping.labels):
        mine = grouping.mask(place)
        size, hits = int(mine.sum()), int((y & mine).sum())
        if size and size < n and min(hits, size - hits) < least:
            small.append((label, size, hits))
    todo = f"Rates that rest on fewer than {least} such rows are not told apart from chance; collect more, or say so."
    if len(small) > MOST_SMALL:
        rows = sum(size for _, size, _ in small)
        found.say("few of a group", [name], f"In {words.count(len(small))} of {words.count(len(grouping.labels))} groups of {words.title(name)} the event happened, or failed to, fewer than {least} times; they hold {words.count(rows)} of {words.count(n)} {wording.rows}.", todo, n, rows=rows)  # fmt: skip
        return
    for label, size, hits in small:
        found.say("few of a group", [name], f"In {label} ({words.title(name)}, {words.plural(size, wording.row, wording.rows)}) the event {_how_often(hits, size)}.", todo, n, group=label, rows=size)  # fmt: skip


def _how_often(hits: int, size: int) -> str:
    misses = size - hits
    if not hits or not misses:
        return "always happened" if hits else "never happened"
    few = min(hits, misses)
    times = {1: "once", 2: "twice"}.get(few, f"{words.count(few)} times")
    return f"{'happened' if hits <= misses else 'failed to happen'} only {times}"


def alike_rows(subject: Subject, found: Gathered) -> None:
    """Rows that are the same in every column, rows that contradict each other, and rows on both sides of the split."""
    names = [one for one in features_of(subject) if not subject.table.holds_bytes(one)]
    if len(names) < 2:
        return
    wording, table = subject.spec.wording, subject.table
    every = np.arange(table.rows)
    mixed, by_chance = _mixed(subject, names, every)
    numbers = subject.rows.numbers
    mine, n = mixed[numbers], subject.n
    _, code, sizes = np.unique(mine, return_inverse=True, return_counts=True)
    pairs = float((sizes * (sizes - 1.0) / 2).sum())
    expected = by_chance * n * (n - 1) / 2
    if pairs > BY_CHANCE * expected + 3:
        many = int((sizes[sizes > 1] - 1).sum())
        found.say("duplicated rows", [], f"{words.opening(words.plural(many, wording.row, wording.rows))} of {words.count(n)} {'is' if many == 1 else 'are'} the same as another in every feature; columns that have nothing to do with each other would make {words.quantity(round(expected, 1))} such pairs.", "Find out whether a row was written twice; what is there twice counts twice.", n, rows=many)  # fmt: skip
    if subject.spec.knows_outcome and subject.kind.decides:
        y = subject.rows.outcome.astype(np.int64)
        least, most = np.full(len(sizes), np.iinfo(np.int64).max), np.full(len(sizes), -1)
        np.minimum.at(least, code, y)
        np.maximum.at(most, code, y)
        apart = (least != most) & (sizes > 1)
        many = int(sizes[apart].sum())
        if many and pairs > BY_CHANCE * expected + 3:
            found.say("contradicting rows", [subject.spec.outcome.name], f"{words.count(many)} of {words.count(n)} {wording.rows} are the same as another in every feature and turned out otherwise.", "No model can tell them apart; what is missing that would?", n, rows=many)  # fmt: skip
    if not row_sets.split_known(subject.spec):
        return
    held = row_sets.held_out(subject.spec, table, "hold-out")
    trained = row_sets.held_out(subject.spec, table, "training")
    both = int(np.isin(mixed[held], mixed[trained]).sum())
    chance = by_chance * float(held.sum()) * float(trained.sum())
    if both > BY_CHANCE * chance + 3:
        found.say("rows in both", [], f"{words.count(both)} of {words.count(int(held.sum()))} held-out {wording.rows} {'is' if both == 1 else 'are'} the same in every feature as one that was trained on.", "Errors on the hold-out are too small then; split by what belongs together.", int(held.sum()), rows=both)  # fmt: skip


def _mixed(subject: Subject, names: list[str], rows: NDArray[np.int64]) -> tuple[NDArray[np.uint64], float]:
    """One number for all columns of every row, and the chance that two rows agree in all columns, were these independent."""
    mixed = np.zeros(len(rows), np.uint64)
    chance = 1.0
    for name in names:
        table = subject.table
        if table.is_number(name) or table.is_date(name):
            values = table.numbers(name)[rows] + 0.0  # a zero has one sign
            own = np.where(np.isnan(values), np.uint64(0x7FF8000000000000), values.view(np.uint64))
            sizes = np.unique(own, return_counts=True)[1]
        else:
            codes = table.coded(name)[1][rows]
            own = codes.astype(np.uint64)
            sizes = np.bincount(codes + 1)
        chance *= float(((sizes / len(rows)) ** 2).sum())
        with np.errstate(over="ignore"):
            mixed = (mixed ^ own) * np.uint64(0x9E3779B97F4A7C15)
            mixed ^= mixed >> np.uint64(29)
    return mixed, chance
