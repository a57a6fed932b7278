"""The group that others are compared with: chosen once, the largest otherwise."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from zerotilt.core.meaning import Spec
from zerotilt.core.membership import MISSING, Grouping
from zerotilt.core.subject import Subject

OTHERS = "all others"


def known_groups(grouping: Grouping) -> list[int]:
    """Places of the groups that are not missing cells; of those where there is nothing else."""
    return [i for i, label in enumerate(grouping.labels) if label != MISSING] or list(range(len(grouping.labels)))


def largest(grouping: Grouping, rows: NDArray[np.int64]) -> int:
    """The known group with most rows; ``rows``: of each group those that weigh something."""
    return max(known_groups(grouping), key=lambda i: rows[i])


def chosen(spec: Spec, columns: tuple[str, ...]) -> str | None:
    """The group that the meaning of a single column names as its reference."""
    return spec.column(columns[0]).reference if len(columns) == 1 else None


def reference_place(subject: Subject, grouping: Grouping) -> int:
    """The reference among the groups of a subject's rows; −1 where groups overlap, and all others stand for it."""
    if grouping.overlapping:
        return -1
    wanted = chosen(subject.spec, grouping.columns)
    if wanted in grouping.labels:
        return grouping.labels.index(wanted)
    counting = grouping.exclusive[subject.rows.mass > 0]
    return largest(grouping, np.bincount(counting, minlength=len(grouping.labels)))
