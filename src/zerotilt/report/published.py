"""What can go out to everybody: no group under a set number of rows, and none that can be worked out from those printed.

Primary and complementary suppression of cells (Cox 1980), with the rows at hand: groups are taken out until what is
left of any printed set, once printed sets inside it are taken away, is nothing or large enough, until no sum and
difference of three printed sets is a smaller one, and until no sum and difference of however many is a smaller group, a
smaller crossing of two, or fewer people alike in all columns.
"""

from __future__ import annotations

import itertools
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import cast

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import csr_array, vstack

from zerotilt.core import membership
from zerotilt.core.evidence import Evidence
from zerotilt.core.groups.disparity import TiltResult
from zerotilt.core.groups.metrics import OF_DECISIONS, Measure, metric_named
from zerotilt.core.groups.performance import PerformanceResult
from zerotilt.core.groups.reference import OTHERS
from zerotilt.core.membership import Grouping
from zerotilt.core.subject import Subject
from zerotilt.report.compose import Bundle
from zerotilt.report.document import sections

PIECE = 10_000
"""Small sets looked at together."""


@dataclass
class _Parted:
    """Rows told apart by one attribute, every row in one group; which of the groups are printed."""

    attribute: str
    labels: tuple[str | None, ...]
    codes: NDArray[np.int64]
    printed: NDArray[np.bool_]

    @property
    def sizes(self) -> NDArray[np.int64]:
        return np.bincount(self.codes, minlength=len(self.labels))


def printable(groupings: Sequence[Grouping], rows: int, smallest: int) -> set[tuple[str, str]]:
    """The groups that may be printed, as attribute and label.

    Parameters
    ----------
    groupings : every way the rows are grouped. rows : how many there are, which is printed.
    smallest : rows under which no group is to be known.
    """
    parted = [one for grouping in groupings for one in _parted(grouping, smallest)]
    for one in parted:
        _cover(one, rows, smallest)
    changed = True
    while changed:
        changed = False
        for of in parted:
            for by in parted:
                if of is not by and by.printed.any() and _tells(of, by, smallest):
                    by.printed[:] = False
                    changed = True
        if not changed and (one := _combined(parted, smallest)) is not None:
            _cover(one, rows, smallest)
            changed = True
    return {
        (one.attribute, label)
        for one in parted
        for label, printed in zip(one.labels, one.printed, strict=True)
        if printed and label is not None
    }


def _parted(grouping: Grouping, smallest: int) -> list[_Parted]:
    if not grouping.overlapping:
        found = _Parted(
            grouping.attribute, grouping.labels, grouping.exclusive, np.ones(len(grouping.labels), np.bool_)
        )
        found.printed = found.sizes >= smallest
        return [found]
    # of a group that overlaps others the rows outside are known as soon as it is
    out = []
    for label, mask in zip(grouping.labels, grouping.apart, strict=True):
        one = _Parted(grouping.attribute, (label, None), (~mask).astype(np.int64), np.ones(2, np.bool_))
        one.printed[:] = bool(((one.sizes == 0) | (one.sizes >= smallest)).all()) and one.sizes[0] > 0
        out.append(one)
    return out


def _cover(one: _Parted, rows: int, smallest: int) -> None:
    """Take out the smallest printed group for as long as what is not printed is known and too small."""
    while one.printed.any() and 0 < rows - one.sizes[one.printed].sum() < smallest:
        kept = np.flatnonzero(one.printed)
        one.printed[kept[one.sizes[kept].argmin()]] = False


def _tells(of: _Parted, by: _Parted, smallest: int) -> bool:
    """Whether printed groups of ``by`` leave too few rows of a known set of ``of``, once they are taken away from it."""
    k = len(by.labels)
    across = np.bincount(of.codes * k + by.codes, minlength=len(of.labels) * k).reshape(len(of.labels), k)
    known = [np.eye(len(of.labels), dtype=np.bool_)[place] for place in np.flatnonzero(of.printed)]
    if not of.printed.all():
        known.append(~of.printed)
    for inside in known:
        rows = across[inside].sum(axis=0)
        nested = by.printed & (rows == across.sum(axis=0)) & (rows > 0)
        if nested.any() and 0 < rows.sum() - rows[nested].sum() < smallest:
            return True
    return False


def _combined(parted: list[_Parted], smallest: int) -> _Parted | None:
    """Take out one printed group by which sums and differences of printed ones give a small set; whose it was, or None.

    A set can be worked out where its rows are a linear combination of all rows and the printed sets.
    """
    kinds, alike = np.unique(np.stack([one.codes for one in parted]), axis=1, return_inverse=True)
    sizes = np.bincount(alike.reshape(-1), minlength=kinds.shape[1])
    printed = [(part, int(place)) for part in range(len(parted)) for place in np.flatnonzero(parted[part].printed)]
    if not printed:
        return None
    known = csr_array(np.stack([kinds[part] == place for part, place in printed]).astype(float))
    by = _of_three(known, sizes, smallest)
    if by is None:
        by = _of_many_together(vstack([np.ones((1, len(sizes))), known]).tocsr(), kinds, sizes, smallest)
    if by is None:
        return None
    part, place = min((printed[i] for i in by), key=lambda one: parted[one[0]].sizes[one[1]])
    found = parted[part]
    found.printed[[place] if None not in found.labels else slice(None)] = False
    return found


def _of_three(printed: csr_array, sizes: NDArray[np.int64], smallest: int) -> NDArray[np.int64] | None:
    """The first three sets whose sum and difference, with all rows or without, is a small set; shape (3,)."""
    rows, n = printed @ sizes, sizes.sum()
    order = np.argsort(rows)
    first, second = np.triu_indices(len(rows), 1)
    for a, b, c in itertools.product((1, -1), repeat=3):
        for everything in range(-3, 4):
            so_far = everything * n + a * rows[first] + b * rows[second]
            # the third set makes the sum a small one: c * rows lies between -so_far and smallest - so_far
            ends = np.sort(np.stack([-c * so_far, c * (smallest - so_far)]), axis=0)
            low, high = np.searchsorted(rows[order], ends[0], "right"), np.searchsorted(rows[order], ends[1], "left")
            for pair in np.flatnonzero(high > low):
                for third in order[low[pair] : high[pair]]:
                    if third <= second[pair]:
                        continue  # found in another order
                    three = np.array([first[pair], second[pair], third])
                    found = everything + np.array([a, b, c]) @ printed[three].toarray()
                    if np.isin(found, (0, 1)).all():
                        return three
    return None


def _of_many_together(known: csr_array, kinds, sizes, smallest: int) -> NDArray[np.int64] | None:
    """The printed sets that tell of a small one: of people alike in all columns, of a group, of two groups crossed."""
    lengths, turned = np.linalg.eigh((known @ known.T).toarray())
    kept = lengths > 1e-9 * lengths[-1]
    onto = (turned[:, kept] / np.sqrt(lengths[kept])).T
    parts = range(len(kinds))
    for some in (tuple(parts), *((one,) for one in parts), *itertools.combinations(parts, 2)):
        place = np.unique(kinds[list(some)], axis=1, return_inverse=True)[1].reshape(-1)
        small = np.flatnonzero(np.bincount(place, sizes) < smallest)
        inside = csr_array((np.ones(len(place)), (np.arange(len(place)), place)))[:, small]
        held = np.asarray(inside.sum(axis=0)).reshape(-1)
        for start in range(0, len(small), PIECE):
            met = (known @ inside[:, start : start + PIECE]).toarray()
            within = np.flatnonzero(((onto @ met) ** 2).sum(axis=0) > held[start : start + PIECE] * (1 - 1e-9))
            if len(within):
                # least squares by the products: which sets the small one is made of
                shares = turned[:, kept] @ ((turned[:, kept].T @ met[:, within[0]]) / lengths[kept])
                return np.flatnonzero(np.abs(shares[1:]) > 1e-6)
    return None


MARGINS = (
    "true_positive_rate",
    "false_positive_rate",
    "positive_predictive_value",
    "negative_predictive_value",
)
"""Their rows are those with and without the event, and those for whom it was predicted or not."""


def _few_told(printed: Sequence[Mapping[str, Measure]], whole: Mapping[str, Measure], smallest: int) -> bool:
    """Whether error rates of printed sets would tell of fewer people than that with or without the event, or predicted so:
    of one set, or of what is left of all rows when they are taken away.

    Any two error rates of a set, with its base and selection rate, give all four cells of its table; so one margin that is
    too small keeps all of them back.
    """
    keys = [key for key in whole if metric_named(key).name in MARGINS]
    sizes = [[one[key].of if key in one else 0 for key in keys] for one in printed]
    of_all = [whole[key].of for key in keys]
    together = [sum(one[place] for one in sizes) for place in range(len(keys))]
    left = [[all_rows - taken for all_rows, taken in zip(of_all, one, strict=True)] for one in [*sizes, together]]
    return any(0 < size < smallest for one in [*sizes, *left] for size in one)


def _of_all_alike(found: Mapping[str, Measure], hushed: bool, smallest: int) -> dict[str, Measure]:
    """The metrics that may be printed; where errors are not, those of all rows of a set whatever happened."""
    return {
        key: one
        for key, one in found.items()
        if one.of >= smallest and (not hushed or metric_named(key).name in ("base_rate", *OF_DECISIONS))
    }


def without_the_few(
    found: Evidence, subject: Subject, smallest: int, whole: Mapping[str, Measure]
) -> tuple[Evidence, int]:
    """A comparison of groups as it may go out to everybody, and how many groups it leaves out; ``whole``: the metrics of
    all rows, which are printed too.
    """
    result = cast(TiltResult, found.typed)
    groupings = [
        membership.grouping(
            subject.spec, subject.table, subject.rows.numbers, membership.columns_of(subject.spec, one.attribute)
        )
        for one in result.attributes
    ]
    allowed = printable(groupings, result.rows, smallest)
    groups = tuple(one for one in result.groups if (one.attribute, one.group) in allowed)
    hushed = {
        attribute
        for attribute in {one.attribute for one in groups}
        if _few_told([one.metrics for one in groups if one.attribute == attribute], whole, smallest)
    }
    groups = tuple(
        one.model_copy(update={"metrics": _of_all_alike(one.metrics, one.attribute in hushed, smallest)})
        for one in groups
    )
    told = {(one.attribute, one.group, metric) for one in groups for metric in one.metrics}
    kept = tuple(
        one
        for one in result.disparities
        if (one.attribute, one.group, one.metric) in told
        and (one.reference == OTHERS or (one.attribute, one.reference) in allowed)
        and min(_of(result, one.attribute, one.group, one.metric), one.against.of) >= smallest
    )
    shown = {one.attribute for one in groups}
    made = result.model_copy(
        update={
            "groups": groups,
            "disparities": kept,
            "attributes": tuple(one for one in result.attributes if one.attribute in shown),
            "beside": None,
        }
    )
    return found.model_copy(update={"result": made.model_dump(mode="json"), "reading": None}), len(result.groups) - len(
        groups
    )


def _of(result: TiltResult, attribute: str, group: str, metric: str) -> int:
    own = next(one for one in result.groups if (one.attribute, one.group) == (attribute, group))
    return own.metrics[metric].of


def published(bundle: Bundle, subject: Subject, smallest: int) -> tuple[Bundle, int]:
    """A bundle as it may go out to everybody, and how many groups it leaves out: no single rows, nothing of few people."""
    kept, left_out, whole = [], 0, {}
    for section in bundle.sections:
        if (own := sections().get(section.method.name)) is None or not own.publishable:
            continue
        items = section.items
        if section.method.name == "performance":
            items = tuple((_of_many(found, smallest), heading) for found, heading in items)
            whole = cast(PerformanceResult, section.items[0][0].typed).sets[0].metrics
        if section.method.name == "tilt":
            made = [(*without_the_few(found, subject, smallest, whole), heading) for found, heading in items]
            left_out = sum(number for _, number, _ in made)
            items = tuple((found, heading) for found, _, heading in made)
        kept.append(replace(section, items=items))
    decisions = replace(bundle.decisions, raised=())
    return replace(bundle, sections=tuple(kept), kept=[], decisions=decisions), left_out


def _of_many(found: Evidence, smallest: int) -> Evidence:
    """Performance without other row sets that hold too few, and without rates of too few."""
    result = cast(PerformanceResult, found.typed)
    first, *others = result.sets
    kept = [
        one.model_copy(
            update={"metrics": _of_all_alike(one.metrics, _few_told([one.metrics], one.metrics, smallest), smallest)}
        )
        for one in (first, *(one for one in others if one.rows >= smallest))
    ]
    made = result.model_copy(update={"sets": tuple(kept)})
    return found.model_copy(update={"result": made.model_dump(mode="json"), "reading": None})


def too_few(subject: Subject, smallest: int) -> bool:
    """Whether the rows that are read are too few to publish anything about, or those that a segment leaves out are."""
    if subject.n < smallest:
        return True
    if subject.context.segment is None:
        return False
    whole = replace(subject, context=subject.context.model_copy(update={"segment": None}), beside=None, alike=None)
    return 0 < whole.n - subject.n < smallest
