"""Every computed number that a text can name, so that it stands there as it is computed and is never typed."""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import partial
from typing import NamedTuple, cast

from zerotilt.core import tabulate, words
from zerotilt.core.drivers.ranking import DriversResult
from zerotilt.core.evidence import Evidence
from zerotilt.core.groups.disparity import TiltResult
from zerotilt.core.groups.metrics import Measure, label, written, written_gap
from zerotilt.core.groups.performance import PerformanceResult
from zerotilt.report.compose import Bundle

MOST_OF_ONE = 2_000
"""Numbers that one piece of evidence offers."""


class Number(NamedTuple):
    """A number as it stands in a text."""

    name: str
    text: str
    more: str = ""
    """Its interval and rows."""
    key: str = ""
    """Of the evidence that it comes from."""


def numbers(bundle: Bundle) -> dict[str, Number]:
    """All of them by name, in the order of the report."""
    found: dict[str, Number] = {}
    for evidence in bundle.by_key().values():
        for place, one in enumerate(_of(evidence)):
            if place < MOST_OF_ONE:
                found.setdefault(one.name, one._replace(key=evidence.key))
    facts = bundle.all_facts()
    for name, among in (
        ("all", facts),
        ("open", [one for one in facts if one[1].decision == "open"]),
        ("of high severity", [one for one in facts if one[0].severity == "high"]),
    ):
        found[f"findings / {name}"] = Number(f"findings / {name}", words.count(len(among)))
    return found


def _of(evidence: Evidence) -> Iterator[Number]:
    if not evidence.readable:
        return
    if evidence.method == "performance":
        yield from _of_performance(cast(PerformanceResult, evidence.typed))
    elif evidence.method == "tilt":
        yield from _of_groups(cast(TiltResult, evidence.typed))
    elif evidence.method == "drivers":
        yield from _of_drivers(cast(DriversResult, evidence.typed))
    else:
        yield from _of_table(evidence)


def _name(*parts: str) -> str:
    """Parts of a name; signs that would end it are exchanged."""
    return " / ".join(re.sub(r"[{}\n\r]", "·", part) for part in parts)


def _measure(name: str, metric: str, found: Measure) -> Iterator[Number]:
    if found.value is None or found.low is None or found.high is None:
        return
    value, low, high = (written(metric, one) for one in (found.value, found.low, found.high))
    yield Number(name, value, f"{low} to {high}; {words.plural(found.of, 'row')}")


def _of_performance(result: PerformanceResult) -> Iterator[Number]:
    for one in result.sets:
        yield Number(_name("rows", one.name), words.count(one.rows))
        for metric, found in one.metrics.items():
            yield from _measure(_name("performance", one.name, label(metric).lower()), metric, found)


def _of_groups(result: TiltResult) -> Iterator[Number]:
    for group in result.groups:
        who = (words.title(group.attribute), group.group)
        yield Number(_name(*who, "rows"), words.count(group.rows))
        for metric, found in group.metrics.items():
            yield from _measure(_name(*who, label(metric).lower()), metric, found)
    for one in result.disparities:
        who = (words.title(one.attribute), one.group, label(one.metric).lower())
        rows = f"against {one.reference}"
        gap = partial(written_gap, one.metric)
        for kind, found, said in (("ratio", one.ratio, words.ratio), ("difference", one.difference, gap)):
            if found.value is not None and found.low is not None and found.high is not None:
                yield Number(_name(*who, kind), said(found.value), f"{said(found.low)} to {said(found.high)}; {rows}")


def _of_drivers(result: DriversResult) -> Iterator[Number]:
    for one in result.drivers:
        for name, found in (("loss added", one.permutation), ("mean absolute Shapley value", one.mean_abs_shapley)):
            if found.value is not None and found.low is not None and found.high is not None:
                ends = f"{words.decimal(found.low, 4)} to {words.decimal(found.high, 4)}"
                yield Number(_name("drivers", words.title(one.feature), name), words.decimal(found.value, 4), ends)


def _of_table(evidence: Evidence) -> Iterator[Number]:
    """The numbers of the records behind a figure: named by the texts of their row, and their column."""
    tables = tabulate.tables(evidence.typed)
    if not tables:
        return
    for place, record in enumerate(next(iter(tables.values())).slice(0, 200).to_pylist()):
        told = [str(value) for value in record.values() if isinstance(value, str) and value][:3]
        for column, value in record.items():
            if isinstance(value, bool) or not isinstance(value, int | float):
                continue
            text = words.count(value) if isinstance(value, int) else words.brief_number(value)
            name = _name(evidence.title, evidence.key[:6], *(told or [str(place + 1)]), words.title(column))
            yield Number(name, text)
