"""Do the intervals that are shown hold the truth? Data, Pockets, Remedies and Versions, weighted and not, groups of 10 to 1,000.

./zt bench held [TABLES]

Tables are drawn from a world whose rates are known: two groups, an event, decisions that are wrong with a chance of each
group's own, scores, a second version. Weighted, a row weighs more where its event happened, and rows are drawn so that the
weights bring the world's rates back. Printed is how often a 95% interval held the truth, over all tables in which it could be
told; below 93% or over 97.5% is marked.
"""

from __future__ import annotations

import sys
from collections import defaultdict
from collections.abc import Iterator
from multiprocessing import get_context

import numpy as np
from tests.core.systems import system

from zerotilt.core.meaning import Role
from zerotilt.core.methods import METHODS
from zerotilt.core.pockets.confirmed import gap_of
from zerotilt.core.pockets.errors import errors_of
from zerotilt.core.remedies.versions import VersionsSettings, versions_compared
from zerotilt.core.stats.estimates import Estimate
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

TABLES, SIZES = 400, (10, 30, 100, 300, 1_000)
BASE, WRONG, LATER = {"a": 0.4, "b": 0.5}, {"a": 0.25, "b": 0.15}, {"a": 0.2, "b": 0.15}
"""Chance of the event; of a wrong decision; and of one by the second version."""
SHARED = 0.5
"""Of a group's errors of the second version, those that the first made, too."""
WIDTH = 0.1
Told = tuple[str, Estimate, float]


def drawn(n: int, weighted: bool, rng: np.random.Generator) -> dict[str, np.ndarray]:
    """A table with n rows of group a and two of b for each, and the weights of a design.

    The groups' rates lie near each other: in many small tables it is chance which one is worse off, and ties are frequent.
    """
    g = np.repeat(["a", "b"], [n, 2 * n])
    base, wrong, later = (np.array([one[k] for k in g]) for one in (BASE, WRONG, LATER))
    tilt = 1.5 if weighted else 1.0
    # rows with the event are drawn more often, and weigh less for it
    happened = rng.random(len(g)) < base * tilt / (base * tilt + 1 - base)
    w = np.where(happened, 1 / tilt, 1.0) * (np.exp(0.4 * rng.normal(size=len(g))) if weighted else 1.0)
    off = rng.random(len(g)) < wrong
    both = rng.random(len(g)) < SHARED * later / wrong
    alone = rng.random(len(g)) < (later - SHARED * later) / (1 - wrong)
    off2 = np.where(off, both, alone)
    side = lambda decided: 0.5 + np.where(decided, 1, -1) * rng.uniform(0.001, 0.499, len(g))  # noqa: E731
    found = {"g": g, "y": happened.astype(int), "s1": side(happened ^ off), "s2": side(happened ^ off2)}
    return found | ({"w": w} if weighted else {})


def selected(group: str, wrong: dict[str, float]) -> float:
    return BASE[group] * (1 - wrong[group]) + (1 - BASE[group]) * wrong[group]


def shares(group: str) -> dict[str, float]:
    """True rates of a group."""
    p, e = BASE[group], WRONG[group]
    up = selected(group, WRONG)
    return {
        "accuracy": 1 - e, "base_rate": p, "selection_rate": up, "true_positive_rate": 1 - e, "false_positive_rate": e,
        "positive_predictive_value": p * (1 - e) / up, "negative_predictive_value": (1 - p) * (1 - e) / (1 - up),
    }  # fmt: skip


def subject_of(columns: dict[str, np.ndarray]) -> Subject:
    roles = {"g": Role.group, "s1": Role.score, "s2": Role.ignored} | ({"w": Role.weight} if "w" in columns else {})
    return system(columns, roles=roles, favourable="event", favourable_said=True)


def of_data(columns: dict[str, np.ndarray]) -> Iterator[Told]:
    """A segment against the rest, as Data shows it."""
    method = METHODS["segment"]
    found = method.compute(subject_of(columns), method.settings(conditions="g=a"), 1, Work())
    for one in found.sides:
        for part, group in ((one.inside, "a"), (one.outside, "b")):
            if one.metric in shares("a") and part.value is not None:
                yield f"Data: {one.metric.replace('_', ' ')}", part, shares(group)[one.metric]


def of_pockets(columns: dict[str, np.ndarray]) -> Iterator[Told]:
    subject = subject_of(columns)
    for name, truth in (("error_rate", WRONG), ("false_negative_rate", WRONG)):
        errors = errors_of(subject, name)
        inside = (columns["g"] == "a")[errors.places]
        found = gap_of(errors, inside, columns["y"][errors.places].astype(float), 0.95)
        said = name.replace("_", " ")
        yield f"Pockets: {said} inside", found.inside, truth["a"]
        yield f"Pockets: difference of {said}", found.difference, truth["a"] - truth["b"]
        yield f"Pockets: ratio of {said}", found.ratio, truth["a"] / truth["b"]
    # the mean distance of the score is that of two uniform halves
    errors = errors_of(subject, "log_loss")
    inside = (columns["g"] == "a")[errors.places]
    found = gap_of(errors, inside, columns["y"][errors.places].astype(float), 0.95)
    s = 0.5 + np.linspace(0.001, 0.499, 20_001)
    right, wrong = -np.log(s).mean(), -np.log(1 - s).mean()
    lost = {k: (1 - e) * right + e * wrong for k, e in WRONG.items()}
    yield "Pockets: log loss inside", found.inside, lost["a"]
    yield "Pockets: difference of log loss", found.difference, lost["a"] - lost["b"]
    yield "Pockets: ratio of log loss", found.ratio, lost["a"] / lost["b"]


def of_remedies(columns: dict[str, np.ndarray]) -> Iterator[Told]:
    """The gap of decisions, and after a band round the threshold is decided in favour of the group that is worse off."""
    method = METHODS["band"]
    found = method.compute(subject_of(columns), method.settings(width=WIDTH), 1, Work())
    worse, better = (selected(one, WRONG) for one in (found.worse_off, found.compared))
    near = (WIDTH - 0.001) / 0.498
    yield "Remedies: gap of decisions", found.gap, worse - better
    yield "Remedies: gap with a band", found.chosen.gap, worse + (1 - worse) * near - better * (1 - near)
    yield "Remedies: gap outside the band", found.chosen.gap_outside, worse - better


def of_versions(columns: dict[str, np.ndarray]) -> Iterator[Told]:
    roles = {"g": Role.group} | ({"w": Role.weight} if "w" in columns else {})
    more = {"roles": roles, "favourable": "event", "favourable_said": True}
    one, two = (
        system(columns, lambda rows, name=name: np.asarray(rows[name]), ["s1", "s2"], **more) for name in ("s1", "s2")
    )
    found = versions_compared(
        Subject(one.spec, one.table, one.predictor, one.context, others={"later": two}), VersionsSettings(), 1, Work()
    )
    for value in found.values:
        if (
            value.version == "later"
            and value.group == "a"
            and value.change is not None
            and value.change.value is not None
        ):
            e1, e2 = WRONG["a"], LATER["a"]
            truth = {
                "accuracy": e1 - e2, "true_positive_rate": e1 - e2, "false_positive_rate": e2 - e1,
                "selection_rate": selected("a", LATER) - selected("a", WRONG),
            }.get(value.metric)  # fmt: skip
            if truth is not None:
                yield f"Versions: change of {value.metric.replace('_', ' ')}", value.change, truth


PARTS = (of_data, of_pockets, of_remedies, of_versions)


def held(asked: tuple[int, bool, int, int]) -> dict[str, tuple[int, int, int]]:
    """Of some tables: by interval how often it held, could be told, and had no width."""
    n, weighted, seed, tables = asked
    rng, found = np.random.default_rng([n, weighted, seed]), defaultdict(lambda: [0, 0, 0])
    for _ in range(tables):
        columns = drawn(n, weighted, rng)
        for part in PARTS:
            for name, interval, truth in part(columns):
                if interval.value is None or interval.low is None or interval.high is None:
                    continue
                one = found[name]
                one[0] += interval.low - 1e-12 <= truth <= interval.high + 1e-12
                one[1] += 1
                one[2] += interval.high - interval.low <= 1e-12
    return {name: tuple(one) for name, one in found.items()}


def main() -> None:
    tables = int(sys.argv[2]) if len(sys.argv) > 2 else TABLES
    pieces = [(n, weighted, seed, tables // 4) for weighted in (False, True) for n in SIZES for seed in range(4)]
    summed: dict[tuple[str, bool, int], np.ndarray] = defaultdict(lambda: np.zeros(3, int))
    with get_context("fork").Pool(2) as pool:
        for (n, weighted, *_), found in zip(pieces, pool.imap(held, pieces), strict=True):
            for name, one in found.items():
                summed[name, weighted, n] += one
    print(
        f"{'interval of':<44}" + "".join(f"{f'n={n}':>9}" for n in SIZES) + "   of 100 tables; ! under 93 or over 97.5"
    )
    for name in dict.fromkeys(name for name, *_ in summed):
        for weighted in (False, True):
            cells = []
            for n in SIZES:
                good, told, flat = summed[name, weighted, n]
                share = 100 * good / told if told else float("nan")
                mark = "!" if told and not 93 <= share <= 97.5 else "0" if flat else ""
                cells.append(f"{share:.1f}{mark}" if told else "–")
            print(f"{name + (', weighted' if weighted else ''):<44}" + "".join(f"{one:>9}" for one in cells))


if __name__ == "__main__":
    main()
