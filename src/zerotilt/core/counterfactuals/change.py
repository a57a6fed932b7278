"""The smallest plausible changes that would turn a decision."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from zerotilt.core import words
from zerotilt.core.contributions.ladder import case_name
from zerotilt.core.counterfactuals.nearest import Difference, cell, differences
from zerotilt.core.distance import Space, distances, space
from zerotilt.core.predictors import Frame
from zerotilt.core.reading import Reading, plain
from zerotilt.core.refusal import Refused
from zerotilt.core.response.support import Support, support_of
from zerotilt.core.spec import Frozen, Wording
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

VALUES = 40
"""Values tried of each column: distinct quantiles, or its levels by size."""
WIDTH = 60
"""Unfinished changes kept from one number of columns to the next."""


class Allowed(Frozen):
    """What may happen to one column."""

    feature: str
    change: Literal["any", "none", "up", "down"] = "any"
    low: float | None = Field(default=None, description="Least value allowed")
    high: float | None = Field(default=None, description="Greatest value allowed")
    levels: tuple[str, ...] = Field(default=(), description="Levels allowed; all of them when empty")


class ChangeSettings(Frozen):
    row: int = Field(ge=0, description="Row number in the table, from 0")
    allowed: tuple[Allowed, ...] = Field(
        default=(), description="Limits of single columns; all others may change freely"
    )
    wanted: str = Field(default="", description="The class wanted, where there are several; any other when empty")
    most_columns: int = Field(default=3, ge=1, le=6)
    found: int = Field(default=4, ge=1, le=20, description="Different changes to look for")


class Change(Frozen):
    """One way: the case with some columns changed, asked of the model."""

    changed: tuple[Difference, ...]
    columns: int
    distance: float = Field(description="Gower distance from the case, 0 to 1")
    decision: str
    output: float


class ChangeResult(Frozen):
    row: int
    name: str
    decision: str
    output: float
    changes: tuple[Change, ...] = Field(
        description="Fewest columns first, then nearest; each with other columns than the rest"
    )
    asked: int = Field(description="Predictions made in the search")
    limits: int = Field(description="Columns that may not change freely")
    scale: str


@dataclass(frozen=True)
class _Search:
    subject: Subject
    case: Frame
    own: int
    cut: float
    wanted: int | None
    values: dict[str, NDArray]
    where: Space
    support: Support

    def turned(self, outputs: NDArray[np.float64]) -> NDArray[np.bool_]:
        decided = self.subject.decided(outputs, self.cut)
        return decided != self.own if self.wanted is None else decided == self.wanted

    def towards(self, outputs: NDArray[np.float64]) -> NDArray[np.float64]:
        """How far a row has got; larger is nearer to another decision."""
        if outputs.shape[1] == 1:
            return outputs[:, 0] * (-1 if self.own else 1)
        if self.wanted is not None:
            return outputs[:, self.wanted]
        return -outputs[:, self.own]


def find_changes(subject: Subject, settings: ChangeSettings, seed: int, work: Work) -> ChangeResult:
    """Search edits of one row: few columns first, then small steps (methods section 5).

    All single changes to values that occur are asked; where they do not do, the
    furthest got are carried on with a second and a third column. What is found
    must lie within the data's support and is drawn back towards the case while
    the model still decides otherwise. Each result has been asked of the model.

    Raises
    ------
    Refused : a limit names no feature, fits no value, or everything is frozen.
    """
    case = subject.case(settings.row)
    outputs = subject.model.outputs(case)
    cut = subject.cut_at(settings.row)
    own = int(subject.decided(outputs, cut)[0])
    search = _Search(
        subject,
        case,
        own,
        cut,
        _wanted(subject, settings, own),
        _values(subject, settings, case),
        space(subject.frame),
        support_of(subject.frame, seed),
    )
    beam = [case]
    found: dict[tuple[str, ...], tuple[Frame, float]] = {}
    asked = 1
    work.begin(settings.most_columns, "columns changed together")
    for columns in range(1, settings.most_columns + 1):
        tried = _edits(search, beam, columns)
        if tried is None:
            break
        rows, names = tried
        got = subject.model.outputs(rows)
        asked += rows.rows
        away = distances(search.where, rows, case)
        turned = np.flatnonzero(search.turned(got))
        for i in turned[np.argsort(away[turned], kind="stable")]:
            if any(set(known) <= set(names[i]) for known in found):
                continue  # the same with something added
            one = rows.take(np.array([i]))
            if search.support.far(one)[0]:
                continue
            one, more = _drawn_back(search, one, names[i])
            asked += more
            found[names[i]] = (one, float(distances(search.where, one, case)[0]))
            if len(found) >= settings.found:
                break
        work.advance(1)
        if len(found) >= settings.found:
            break
        left = np.flatnonzero(~search.turned(got))
        # nearer to the border first; of equal ones the smaller edit
        best = left[np.lexsort((away[left], -search.towards(got)[left]))[:WIDTH]]
        beam = [rows.take(np.array([i])) for i in best]
    order = sorted(found.items(), key=lambda entry: (len(entry[0]), entry[1][1]))
    return ChangeResult(
        row=settings.row,
        name=case_name(subject, settings.row),
        decision=subject.decision_named(own),
        output=float(subject.output(case)[0]),
        changes=tuple(_result(search, one, away) for _, (one, away) in order),
        asked=asked,
        limits=len(settings.allowed),
        scale=subject.scale,
    )


def _wanted(subject: Subject, settings: ChangeSettings, own: int) -> int | None:
    if not settings.wanted:
        return None
    if settings.wanted not in subject.classes:
        raise Refused(
            f"wanted: “{settings.wanted}” is none of the classes {words.listing(list(subject.classes)) or '(an event has none)'}."
        )
    wanted = subject.classes.index(settings.wanted)
    if wanted == own:
        raise Refused(f"wanted: the decision is “{settings.wanted}” already.", todo="Choose another class.")
    return wanted


def _values(subject: Subject, settings: ChangeSettings, case: Frame) -> dict[str, NDArray]:
    """Values to try of each column that may change, without its own."""
    limits = {one.feature: one for one in settings.allowed}
    for name in limits:
        if name not in case.names:
            raise Refused(f"allowed: “{name}” is not a feature of the model; it has {words.listing(list(case.names))}.")
    out = {}
    for name in case.names:
        limit = limits.get(name, Allowed(feature=name))
        if limit.change == "none":
            continue
        column, own = subject.frame[name], case[name][0]
        if column.dtype.kind == "f":
            known = np.unique(column[np.isfinite(column)])
            if len(known) > VALUES:
                known = np.unique(
                    np.quantile(column[np.isfinite(column)], np.linspace(0.01, 0.99, VALUES), method="nearest")
                )
            keep = known != own
            if limit.change == "up":
                keep &= known > own
            if limit.change == "down":
                keep &= known < own
            if limit.low is not None:
                keep &= known >= limit.low
            if limit.high is not None:
                keep &= known <= limit.high
            values = known[keep]
        else:
            levels, sizes = np.unique(column.astype(str), return_counts=True)
            kept = [str(level) for level in levels[np.argsort(-sizes, kind="stable")][:VALUES]]
            order = list(subject.spec.column(name).order)
            if limit.change in ("up", "down"):
                if own not in order:
                    raise Refused(
                        f"allowed: “{name}” can go {limit.change} only where its levels have an order that holds “{own}”.",
                        todo="Give the levels an order in Intake, or name the levels that are allowed.",
                    )
                at = order.index(own)
                kept = [level for level in (order[at + 1 :] if limit.change == "up" else order[:at]) if level in kept]
            wanted = limit.levels or kept
            values = np.array([level for level in kept if level != own and level in wanted and level], dtype=object)
        if len(values):
            out[name] = values
        elif name in limits:
            raise Refused(
                f"allowed: no value of “{name}” fits its limits; it holds {cell(subject, case, name)} now.",
                todo="Widen the limits, or freeze the column.",
            )
    if not out:
        raise Refused("allowed: every column is frozen; nothing is left to change.", todo="Let one column change.")
    return out


def _edits(search: _Search, beam: list[Frame], columns: int) -> tuple[Frame, list[tuple[str, ...]]] | None:
    """Every kept edit with one more column changed, and which columns each has changed."""
    parts: dict[str, list[NDArray]] = {name: [] for name in search.case.names}
    names: list[tuple[str, ...]] = []
    seen: set[tuple] = set()
    for one in beam:
        changed = {name for name in one.names if not _same(one[name][0], search.case[name][0])}
        if len(changed) != columns - 1:
            continue
        for name, values in search.values.items():
            if name in changed:
                continue
            key = tuple(sorted((other, one[other][0]) for other in changed)), name
            if key in seen:
                continue
            seen.add(key)
            for other in one.names:
                parts[other].append(values if other == name else np.repeat(one[other], len(values)))
            names += [tuple(sorted({*changed, name}))] * len(values)
    if not names:
        return None
    return Frame({name: np.concatenate(held) for name, held in parts.items()}), names


def _same(a, b) -> bool:
    return a == b or (a != a and b != b)


def _drawn_back(search: _Search, one: Frame, names: tuple[str, ...]) -> tuple[Frame, int]:
    """The changed numbers moved back towards the case, over values that occur, while the decision stays turned."""
    asked = 0
    for name in names:
        if one[name].dtype.kind != "f" or not np.isfinite(search.case[name][0]):
            continue
        own, there = search.case[name][0], one[name][0]
        column = search.subject.frame[name]
        between = np.unique(column[(column > min(own, there)) & (column < max(own, there))])
        allowed = search.values[name]
        between = between[(between >= allowed.min()) & (between <= allowed.max())]
        if not len(between):
            continue
        if len(between) > 200:
            between = between[np.linspace(0, len(between) - 1, 200).astype(int)]
        rows = one.take(np.zeros(len(between), int)).replace(name, between)
        good = search.turned(search.subject.model.outputs(rows)) & ~search.support.far(rows)
        asked += len(between)
        if good.any():
            nearest = np.flatnonzero(good)[np.argmin(np.abs(between[good] - own))]
            one = rows.take(np.array([nearest]))
    return one, asked


def _result(search: _Search, one: Frame, away: float) -> Change:
    outputs = search.subject.model.outputs(one)
    changed = tuple(part for part in differences(search.subject, search.case, one) if not part.same)
    return Change(
        changed=changed,
        columns=len(changed),
        distance=away,
        decision=search.subject.decision_named(int(search.subject.decided(outputs, search.cut)[0])),
        output=float(search.subject.output(one)[0]),
    )


def say(result: ChangeResult, wording: Wording, settings: ChangeSettings) -> Reading:
    if not result.changes:
        headline = (
            f"No plausible change of up to {words.plural(settings.most_columns, 'column')} turns the decision on {wording.one(result.name)} "
            f"({result.decision})."
        )
        return plain(headline, f"{words.count(result.asked)} edited cases were asked of the model.")
    first = result.changes[0]
    parts = [f"{words.title(one.feature)} {one.there} instead of {one.here}" for one in first.changed]
    headline = f"{words.opening(wording.one(result.name))} ({result.decision}) would be decided otherwise ({first.decision}) with {words.listing(parts)}."
    others = len(result.changes) - 1
    detail = f"{words.plural(others, 'other way')} found; " if others else ""
    detail += (
        f"{words.count(result.asked)} edited cases were asked of the model. This is what the model would do with other "
        f"values, not what would happen in the world."
    )
    return plain(headline, detail)
