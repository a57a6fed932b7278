"""The smallest plausible changes that would turn a decision."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from itertools import combinations

import numpy as np
from numpy.typing import NDArray

from zerotilt.core import words
from zerotilt.core.counterfactuals.change_result import Change, ChangeResult, ChangeSettings, say
from zerotilt.core.counterfactuals.nearest import cell, differences
from zerotilt.core.counterfactuals.wanted import Wanted, wanted_of
from zerotilt.core.distance import Space, distances, space
from zerotilt.core.meaning import Allowed
from zerotilt.core.method import Method
from zerotilt.core.predictors import Frame
from zerotilt.core.refusal import Refused
from zerotilt.core.response.support import Support, nearest_in, support_in
from zerotilt.core.stats.distinct import distinct
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

VALUES = 40
"""Values tried of each column together with others: distinct quantiles, or its levels by size."""
ASKED_FIRST, ASKED_AT_ONCE = 256, 16_384
MOST_ASKED = 2_000_000
"""Edited cases that may be asked of the model; where they do not do, this is said."""
WIDTH = 60
"""Unfinished changes kept from one number of columns to the next."""
REAL, REAL_COLUMNS, REAL_TOGETHER = 60, 12, 3
"""Nearest rows of the other decision whose values are tried together; of each the columns that lead furthest, so many at once."""
DIGITS = (4, 5, 6, 7, 9, 12)


@dataclass(frozen=True)
class _Search:
    subject: Subject
    row: int
    case: Frame
    aim: Wanted
    values: dict[str, NDArray]
    """Every allowed value that occurs of each column that may change, without the case's own."""
    where: Space
    support: Support

    def few(self, name: str) -> NDArray:
        """Values to try of a column together with others."""
        values, column = self.values[name], self.subject.frame[name]
        if len(values) <= VALUES:
            return values
        if values.dtype.kind == "f":
            rows = column[(column >= values[0]) & (column <= values[-1])]
            return np.unique(np.quantile(rows, np.linspace(0.01, 0.99, VALUES), method="nearest"))
        levels, _, sizes = distinct(column)
        by_size = dict(zip(levels.tolist(), sizes.tolist(), strict=True))
        return np.array(sorted(values, key=lambda level: -by_size[level])[:VALUES], dtype=object)

    def moved(self, one: Frame, name: str, values: NDArray) -> Frame:
        """A case with a column set to each of some values."""
        return one.take(np.zeros(len(values), int)).replace(name, values)

    def good(self, rows: Frame) -> NDArray[np.bool_]:
        """Which rows the model decides otherwise and the data supports."""
        found = self.aim.met(self.subject.model.outputs(rows))
        turned = np.flatnonzero(found)
        if len(turned):
            found[turned] = ~self.support.far(rows.take(turned))
        return found

    def nearest(self, one: Frame, name: str, left: int) -> tuple[Frame | None, int, bool]:
        """The value of a column nearest to the case's own that turns the decision: rows asked, and whether all could be.

        Values are asked in the order of their distance, so that most are never asked.
        """
        values, own = self.values[name], self.case[name][0]
        if values.dtype.kind == "f" and own == own:
            values = values[np.argsort(np.abs(values - own), kind="stable")]
        asked, step = 0, ASKED_FIRST
        while asked < len(values):
            part = values[asked : asked + min(step, left - asked)]
            if not len(part):
                return None, asked, False
            rows = self.moved(one, name, part)
            good = np.flatnonzero(self.good(rows))
            asked += len(part)
            if len(good):
                return rows.take(good[:1]), asked, True
            step = min(step * 4, ASKED_AT_ONCE)
        return None, asked, True


def find_changes(subject: Subject, settings: ChangeSettings, seed: int, work: Work) -> ChangeResult:
    """Search edits of one row: few columns first, then small steps.

    Of each column alone, the nearest of all values that occur is found. Where
    fewer ways are found than wanted, the furthest got are carried on with a
    second and a third column, over some values; what turns the decision then is
    drawn back towards the case over all values, column by column, until no
    column alone can be drawn back further. Everything found lies within the
    data's support, and has been asked of the model.

    Raises
    ------
    Refused : a limit names no feature, fits no value, or everything is frozen.
    """
    case = subject.editor.case(settings.row)
    aim = wanted_of(subject, settings.row, case, settings)
    limits = {one.feature: one for one in subject.spec.limits if one.feature in case.names}
    limits |= {one.feature: one for one in settings.allowed}
    search = _Search(
        subject,
        settings.row,
        case,
        aim,
        _values(subject, limits, case, {one.feature for one in settings.allowed}),
        space(subject.frame),
        support_in(subject),
    )
    beam = [case]
    found: dict[tuple[str, ...], tuple[Frame, float]] = {}
    asked, whole = 1, True
    work.begin(settings.most_columns, "columns changed together")
    for name in search.values:
        one, more, all_tried = search.nearest(case, name, MOST_ASKED - asked)
        asked, whole = asked + more, whole and all_tried
        if one is not None:
            found[(name,)] = (one, float(distances(search.where, one, case)[0]))
    found = dict(sorted(found.items(), key=lambda entry: entry[1][1])[: settings.found])
    for columns in range(1, settings.most_columns + 1):
        tried = _edits(search, beam, columns) if len(found) < settings.found and asked < MOST_ASKED else None
        if tried is None:
            break
        rows, names = tried
        got = subject.model.outputs(rows)
        asked += rows.rows
        away = distances(search.where, rows, case)
        turned = np.flatnonzero(aim.met(got))
        turned = turned[~search.support.far(rows.take(turned))] if len(turned) else turned
        for i in turned[np.argsort(away[turned], kind="stable")]:
            if any(set(known) <= set(names[i]) for known in found):
                continue  # the same with something added
            one, more = _drawn_back(search, rows.take(np.array([i])), names[i], MOST_ASKED - asked)
            asked += more
            found[names[i]] = (one, float(distances(search.where, one, case)[0]))
            if len(found) >= settings.found:
                break
        work.advance(1)
        left = np.flatnonzero(~aim.met(got))
        # nearer to the border first; of equal ones the smaller edit
        best = left[np.lexsort((away[left], -aim.towards(got)[left]))[:WIDTH]]
        beam = [rows.take(np.array([i])) for i in best]
    for rows, names, real in _of_real_rows(search, settings.most_columns):
        if any(set(known) <= set(names) for known in found) or asked >= MOST_ASKED:
            continue
        asked += rows.rows
        if not real and search.support.far(rows)[0]:
            continue
        one, more = _drawn_back(search, rows, names, MOST_ASKED - asked)
        asked += more
        found[names] = (one, float(distances(search.where, one, case)[0]))
    found = {names: one for names, one in found.items() if not any(set(other) < set(names) for other in found)}
    order = sorted(found.items(), key=lambda entry: (len(entry[0]), entry[1][1]))[: settings.found]
    order = [(names, (_in_few_digits(search, one, names, limits), away)) for names, (one, away) in order]
    return ChangeResult(
        row=settings.row,
        name=subject.editor.name_of(settings.row),
        decision=aim.own,
        output=float(subject.output(case)[0]),
        changes=tuple(_result(search, one, away) for _, (one, away) in order),
        asked=asked,
        whole=whole,
        aim=aim.said,
        limits=len(limits),
        held=tuple(name for name in case.names if name in limits and limits[name].change == "none"),
        usual=search.support.limit,
        scale=subject.scale,
    )


def _values(subject: Subject, limits: Mapping[str, Allowed], case: Frame, asked: set[str]) -> dict[str, NDArray]:
    """Values to try of each column that may change, without its own.

    Limits of the audit are for every case: where no value fits them in this one, its column stays as it is. Limits that
    were asked for with the case (``asked``) are refused there.
    """
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
            kept = distinct(column).names.tolist()
            order = list(subject.spec.column(name).order)
            if limit.change in ("up", "down"):
                if own not in order and name not in asked:
                    continue
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
        elif name in asked:
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
        for name in search.values:
            if name in changed:
                continue
            values = search.few(name)
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


def _of_real_rows(search: _Search, most: int) -> Iterator[tuple[Frame, tuple[str, ...], bool]]:
    """Edited cases that the model decides otherwise, with values that rows of the other decision have together: the fewest
    columns first, then the nearest; and whether the edited case is itself a row.

    Every row that differs in no more columns than may change is one; of the nearest others some columns at once are tried.
    """
    subject, case = search.subject, search.case
    met = search.aim.met(subject.predictions.outputs)
    met &= subject.rows.numbers != search.row
    others = np.flatnonzero(met)
    if not len(others):
        return
    rows = subject.frame.take(others)
    apart = np.stack([_unlike(rows[name], case[name][0]) for name in case.names])
    free = np.stack([np.isin(rows[name], search.values.get(name, rows[name][:0])) for name in case.names])
    away = distances(search.where, rows, case)
    found: list[tuple[int, float, Frame, tuple[str, ...], bool]] = []
    whole = np.flatnonzero((apart.sum(axis=0) <= most) & ~(apart & ~free).any(axis=0) & apart.any(axis=0))
    for i in whole[np.lexsort((away[whole], apart[:, whole].sum(axis=0)))][:REAL]:
        names = tuple(sorted(name for name, moved in zip(case.names, apart[:, i], strict=True) if moved))
        found.append((len(names), float(away[i]), rows.take(np.array([i])), names, True))
    for i in np.argsort(away, kind="stable")[:REAL]:
        found += _with_parts_of(search, rows.take(np.array([i])), (apart & free)[:, i], min(most, REAL_TOGETHER))
    for _, _, one, names, real in sorted(found, key=lambda entry: entry[:2]):
        yield one, names, real


def _with_parts_of(search: _Search, real: Frame, free: NDArray[np.bool_], most: int):
    """The case with one, two or three of a row's values, where the model decides it otherwise."""
    case = search.case
    names = [name for name, may in zip(case.names, free, strict=True) if may]
    if not names:
        return
    singles = [(name,) for name in names]
    towards = search.aim.towards(search.subject.model.outputs(_mixed(case, real, singles)))
    names = [names[i] for i in np.argsort(-towards, kind="stable")[:REAL_COLUMNS]]
    tried = [part for size in range(1, most + 1) for part in combinations(sorted(names), size)]
    mixed = _mixed(case, real, tried)
    for i in np.flatnonzero(search.aim.met(search.subject.model.outputs(mixed))):
        one = mixed.take(np.array([i]))
        yield len(tried[i]), float(distances(search.where, one, case)[0]), one, tried[i], False


def _mixed(case: Frame, real: Frame, parts: Sequence[tuple[str, ...]]) -> Frame:
    """The case, once for each of some sets of columns, with another row's values in these."""
    out = {}
    for name in case.names:
        column = np.repeat(case[name], len(parts))
        column[[name in part for part in parts]] = real[name][0]
        out[name] = column
    return Frame(out)


def _unlike(column: NDArray, own) -> NDArray[np.bool_]:
    if column.dtype.kind != "f":
        return column != own
    return ~((column == own) | (np.isnan(column) & np.isnan(own)))


def _in_few_digits(search: _Search, one: Frame, names: tuple[str, ...], limits: Mapping[str, Allowed]) -> Frame:
    """Its changed numbers in as few digits as keep the decision, so that what is printed is what was asked."""
    long = [
        name
        for name in names
        if one[name].dtype.kind == "f" and one[name][0] % 1 != 0 and not search.subject.table.is_date(name)
    ]
    for digits in DIGITS if long else ():
        tried = one
        for name in long:
            tried = tried.replace(name, np.array([float(f"{one[name][0]:.{digits}g}")]))
        if (
            all(_fits(limits.get(name), search.case[name][0], tried[name][0]) for name in long)
            and search.good(tried)[0]
        ):
            return tried
    return one


def _fits(limit: Allowed | None, own: float, value: float) -> bool:
    if limit is None or value == own:
        return value != own
    if (limit.low is not None and value < limit.low) or (limit.high is not None and value > limit.high):
        return False
    return not (limit.change == "up" and value < own) and not (limit.change == "down" and value > own)


def _drawn_back(search: _Search, one: Frame, names: tuple[str, ...], left: int) -> tuple[Frame, int]:
    """The changed columns moved back towards the case, over all values that occur, while the decision stays turned."""
    asked, moved = 0, True
    while moved and asked < left:
        moved = False
        for name in names:
            if one[name].dtype.kind != "f" or not np.isfinite(search.case[name][0]):
                continue
            nearer, more, _ = search.nearest(one, name, left - asked)
            asked += more
            own = search.case[name][0]
            if nearer is not None and abs(nearer[name][0] - own) < abs(one[name][0] - own):
                one, moved = nearer, True
    return one, asked


def _result(search: _Search, one: Frame, away: float) -> Change:
    outputs = search.subject.model.outputs(one)
    changed = tuple(part for part in differences(search.subject, search.case, one) if not part.same)
    near, place = nearest_in(search.subject, one, search.row)
    real = int(search.subject.rows.numbers[place])
    return Change(
        changed=changed,
        columns=len(changed),
        distance=away,
        decision=search.aim.named(outputs),
        output=float(search.subject.output(one)[0]),
        from_real=near,
        real=real,
        real_name=search.subject.editor.name_of(real),
    )


METHOD = Method(
    name="change",
    weighs=False,
    area="cases",
    title="Smallest change",
    settings=ChangeSettings,
    result=ChangeResult,
    compute=find_changes,
    say=say,
    note=(
        "Of each column alone the nearest of all values that occur, asked outwards from the case's own (up to two "
        "million edited cases; where they do not do, this is said); then two and three columns from the furthest got, "
        "over forty values each; within the limits that the audit sets (columns that make groups stay as they are unless they are released) and within the data's support; drawn back over all values, "
        "column by column, while the decision stays turned. Rows that are decided otherwise are tried as well: each that "
        "differs in no more columns than may change, and values of the nearest sixty, up to three together. Each result "
        "has been asked of the model as it is printed, and each changes other columns. The search is not exhaustive "
        "beyond one column: a smaller change of several columns can exist."
    ),
    main="changes",
    part="otherwise",
    depends=frozenset({"spec", "changeable"}),
    unasked=lambda spec: None,
    version=5,
)
