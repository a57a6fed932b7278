"""The public report tells of no few people, neither by what is printed nor by what is left when it is taken away."""

import itertools
from functools import partial

import numpy as np
import pytest
from tests.core.systems import system

from zerotilt.core.evidence import Digests
from zerotilt.core.meaning import Role
from zerotilt.core.membership import Grouping
from zerotilt.core.work import Work
from zerotilt.report.compose import gather
from zerotilt.report.published import printable, published


def grouping(name: str, codes: np.ndarray) -> Grouping:
    present, codes = np.unique(codes, return_inverse=True)
    return Grouping((name,), tuple(f"{name}{level}" for level in present), codes=codes)


def crossed(one: Grouping, other: Grouping) -> Grouping:
    found = grouping("x", one.codes * 1_000 + other.codes)
    return Grouping((*one.columns, *other.columns), found.labels, codes=found.codes)


def random_groupings(rng: np.random.Generator, rows: int) -> list[Grouping]:
    """Groups of very different sizes; a finer column within a coarser one; a crossing; groups that overlap."""

    def column(levels: int) -> np.ndarray:
        share = rng.dirichlet(np.full(levels, rng.choice([0.15, 0.5, 3.0])))
        return rng.choice(levels, rows, p=share)

    area = column(int(rng.integers(2, 5)))
    district = area * 10 + rng.choice(4, rows, p=rng.dirichlet(np.full(4, 0.4)))
    age = column(int(rng.integers(2, 4)))
    found = [grouping("area", area), grouping("district", district), grouping("age", age)]
    found.append(crossed(found[0], found[2]))
    masks = np.array([rng.random(rows) < share for share in (0.02, 0.5, 0.98)] + [(area == 0) & (age == 0)])
    found.append(Grouping(("(segments)",), ("few", "half", "most", "both"), masks=masks))
    return found


def worked_out(groupings: list[Grouping], allowed: set[tuple[str, str]], rows: int) -> list[np.ndarray]:
    """Row sets that whoever knows the printed ones, and how many rows there are, can work out: each printed set, all rows,
    and what is left of any of these once printed groups of one other attribute that lie inside it are taken away.
    """
    printed = [
        (each.attribute, each.mask(place))
        for each in groupings
        for place, label in enumerate(each.labels)
        if (each.attribute, label) in allowed
    ]
    known = [("", np.ones(rows, bool)), *printed]
    found = [mask for _, mask in known]
    by = {name: [mask for other, mask in printed if other == name] for name, _ in printed}
    for name, mask in known:
        for other, masks in by.items():
            if other == name:
                continue
            overlapping = any(g.overlapping for g in groupings if g.attribute == other)
            inside = [one for one in masks if not (one & ~mask).any()]
            for size in range(1, (1 if overlapping else len(inside)) + 1):
                for some in itertools.combinations(inside, size) if size in (1, len(inside)) else ():
                    found.append(mask & ~np.any(some, axis=0))
    return found


@pytest.mark.parametrize("seed", range(60))
def test_no_set_that_can_be_worked_out_is_smaller_than_was_set(seed):
    rng = np.random.default_rng(seed)
    rows, smallest = int(rng.integers(40, 900)), int(rng.choice([5, 30]))
    groupings = random_groupings(rng, rows)
    allowed = printable(groupings, rows, smallest)
    for mask in worked_out(groupings, allowed, rows):
        assert mask.sum() == 0 or mask.sum() >= smallest


def told(known: list[np.ndarray], wanted: np.ndarray) -> bool:
    """Whether a set of rows is a sum and difference of known ones, by ranks."""
    held = np.array(known, float)
    return np.linalg.matrix_rank(np.vstack([held, wanted])) == np.linalg.matrix_rank(held)


def of_three_columns(rng: np.random.Generator, rows: int) -> list[Grouping]:
    """Two columns with groups apart, a third one that joins them but for a few rows, and a column of its own."""
    base = rng.choice(4, rows, p=rng.dirichlet(np.full(4, 3.0)))
    few = rng.random(rows) < rng.choice([0.0, 0.01, 0.05, 0.2])
    joined = np.where(few, 2, np.isin(base, (0, 1)).astype(int))
    return [
        grouping("first", (base == 0).astype(int)),
        grouping("second", (base == 1).astype(int)),
        grouping("third", joined),
        grouping("other", rng.integers(0, 3, rows)),
    ]


@pytest.mark.parametrize("seed", range(60))
def test_no_sum_and_difference_of_printed_sets_is_a_small_one(seed):
    rng = np.random.default_rng(seed)
    rows, smallest = int(rng.integers(40, 400)), int(rng.choice([5, 30]))
    groupings = (random_groupings if seed % 2 else of_three_columns)(rng, rows)
    allowed = printable(groupings, rows, smallest)
    every = [(each, place, each.mask(place)) for each in groupings for place in range(len(each.labels))]
    known = [np.ones(rows), *(mask for each, place, mask in every if (each.attribute, each.labels[place]) in allowed)]
    masks = [mask for _, _, mask in every]
    for mask in masks + [a & b for a, b in itertools.combinations(masks, 2)]:
        if 0 < mask.sum() < smallest:
            assert not told(known, mask)


def test_three_columns_together_do_not_tell_what_no_two_do():
    # a 100, b 100 others; c holds 190 of both: a and b less c are ten people
    base = np.repeat([0, 1, 2], [100, 100, 300])
    held = np.repeat([1, 0, 1, 0], [95, 5, 95, 305])
    a, b, c = grouping("a", (base == 0) * 1), grouping("b", (base == 1) * 1), grouping("c", held)
    assert len(printable([a, b], 500, 30)) == 4 and len(printable([a, c], 500, 30)) == 4
    allowed = printable([a, b, c], 500, 30)
    known = [np.ones(500)] + [
        each.mask(place)
        for each in (a, b, c)
        for place, label in enumerate(each.labels)
        if (each.attribute, label) in allowed
    ]
    assert len(allowed) >= 2
    assert not told(known, (base == 0) & (held == 0)) and not told(known, (base < 2) & (held == 0))


def test_large_groups_are_all_printed_and_the_next_smallest_covers_a_small_one():
    large = grouping("a", np.repeat([0, 1, 2], [400, 300, 300]))
    assert printable([large], 1_000, 30) == {("a", "a0"), ("a", "a1"), ("a", "a2")}
    one_small = grouping("a", np.repeat([0, 1, 2, 3], [500, 400, 90, 10]))
    assert printable([one_small], 1_000, 30) == {("a", "a0"), ("a", "a1")}  # 90 would tell of the 10
    two_small = grouping("a", np.repeat([0, 1, 2], [960, 20, 20]))
    assert printable([two_small], 1_000, 30) == {("a", "a0")}  # together they are forty


def test_a_finer_column_does_not_tell_of_what_a_coarser_one_keeps():
    area = np.repeat([0, 1], [500, 500])
    district = np.repeat([0, 1, 2, 3], [490, 10, 300, 200])  # area 0 less its district 0 are ten people
    allowed = printable([grouping("area", area), grouping("district", district)], 1_000, 30)
    assert ("area", "area0") in allowed and not any(name == "district" for name, _ in allowed)


def test_of_a_group_that_overlaps_others_the_rest_counts_too():
    masks = np.array([np.arange(100) < 95, np.arange(100) < 50])
    both = Grouping(("held",), ("nearly all", "half"), masks=masks)
    assert printable([both], 100, 30) == {("held", "half")}


def test_fourteen_rows_print_nothing_and_one_group_prints_itself():
    assert printable([grouping("a", np.repeat([0, 1], [10, 4]))], 14, 30) == set()
    assert printable([grouping("a", np.zeros(50, int))], 50, 30) == {("a", "a0")}


def four_cells(rng, rows, smallest):
    """Groups whose tables of outcome by decision are small here and there."""
    codes = rng.choice(4, rows, p=rng.dirichlet(np.full(4, 0.8)))
    happened = rng.random(rows) < rng.choice([0.02, 0.3, 0.97], 4)[codes]
    decided = rng.random(rows) < rng.choice([0.02, 0.5, 0.97], 4)[codes]
    return {"g": np.array(list("abcd"))[codes], "y": happened.astype(int), "d": np.where(decided, "1", "0"),
            "h": rng.choice(["u", "v"], rows)}  # fmt: skip


def cells_of(cells, who, y="01", d="01"):
    """Which cells hold the rows of some groups with these outcomes and decisions."""
    return [one[0] in who and str(one[1]) in y and one[2] in d for one in cells]


@pytest.mark.parametrize("seed", range(40))
def test_no_rate_of_fewer_people_can_be_worked_out_from_the_rates_that_are_printed(seed):
    """Every printed rate fixes a count in a cell of outcome by decision. Whatever the printed counts fix together, no margin
    within which an error is known is smaller than was set: by ranks, over the cells of all groups."""
    rng = np.random.default_rng(seed)
    rows, smallest = int(rng.integers(150, 1_500)), int(rng.choice([5, 30]))
    columns = four_cells(rng, rows, smallest)
    if len(set(columns["y"])) < 2 or len(set(columns["d"])) < 2:
        return
    subject = system(columns, roles={"g": Role.group, "h": Role.group, "d": Role.decision})
    public, _ = published(
        gather(subject, Digests(table="0", spec=subject.spec.digest(), model=None), Work()), subject, smallest
    )
    tilt, whole = public.evidence_of("tilt").typed, public.needed("performance").typed.sets[0].metrics
    for attribute in ("g", "h"):
        levels = sorted(set(columns[attribute]))
        cells = [(level, y, d) for level in levels for y in (0, 1) for d in "01"]
        sizes = {
            c: int(((columns[attribute] == c[0]) & (columns["y"] == c[1]) & (columns["d"] == c[2])).sum())
            for c in cells
        }
        of = partial(cells_of, cells)
        known = [of(levels)]
        printed = {one.group: one.metrics for one in tilt.groups if one.attribute == attribute}
        for who, metrics in [*(([g], m) for g, m in printed.items()), (levels, whole)]:
            known.append(of(who))
            known += [of(who, "1")] if "base_rate" in metrics else []
            known += [of(who, "01", "1")] if "selection_rate" in metrics else []
            errors = {
                "true_positive_rate",
                "false_positive_rate",
                "accuracy",
                "positive_predictive_value",
                "auc",
                "brier_score",
            }
            if errors & set(metrics):
                known += [of(who, "1", "1"), of(who, "0", "1")]
        held = np.array(known, float)
        rank = np.linalg.matrix_rank(held)
        for n in range(1, len(levels) + 1):
            for who in itertools.combinations(levels, n):
                inside = [of(who, y, d) for y in "01" for d in "01"]
                if np.linalg.matrix_rank(np.vstack([held, *inside])) > rank:
                    continue  # its table of errors is not known
                for margin in (of(who, "0"), of(who, "1"), of(who, "01", "0"), of(who, "01", "1")):
                    size = sum(sizes[c] for c, one in zip(cells, margin, strict=True) if one)
                    assert size == 0 or size >= smallest, (attribute, who, size)
