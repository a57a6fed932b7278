"""Corrected decisions: what would be decided if only the group were set to the reference's, and about whom."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from zerotilt.core import membership, words
from zerotilt.core import rows as row_sets
from zerotilt.core.drawing import MOST_BARS, Picture
from zerotilt.core.frozen import Frozen
from zerotilt.core.meaning import Spec, Wording
from zerotilt.core.method import Method
from zerotilt.core.pockets.drawn import bars_of
from zerotilt.core.reading import Reading, Span
from zerotilt.core.remedies.decided import Deciding, WayRates, points
from zerotilt.core.stats.estimates import Estimate
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

LISTED = 200


class CorrectedSettings(Frozen):
    attribute: str = Field(default="", max_length=500, description="Column that makes the groups; the first when empty")


class CorrectedGroup(Frozen):
    group: str
    rows: int
    gained: int = Field(description="Rows that get the favourable decision if they are of the reference")
    lost: int
    before: WayRates
    after: WayRates


class CorrectedCase(Frozen):
    """A row whose decision changes."""

    row: int
    group: str
    score: float
    score_after: float
    gained: bool


class CorrectedResult(Frozen):
    attribute: str
    columns: tuple[str, ...] = Field(description="Of the group: one, or those of a crossing")
    reference: str
    taken: bool = Field(description="Whether the model takes a column of the group; if not nothing can change")
    set_to: dict[str, str] = Field(
        description="Each column of the group that the model takes, and the value of the reference that it is set to: its "
        "level, or of a range the middle one of its rows"
    )
    worse_off: str
    compared: str
    gap: Estimate
    gap_after: Estimate
    wrong: Estimate
    wrong_after: Estimate
    groups: tuple[CorrectedGroup, ...]
    cases: tuple[CorrectedCase, ...] = Field(description="In table order, the first two hundred")
    changed: int
    rows: int
    rows_named: str
    confidence: float


def corrected(subject: Subject, settings: CorrectedSettings, seed: int, work: Work) -> CorrectedResult:
    """Every row asked again as of the reference group, all other columns kept; the thresholds too.

    Raises
    ------
    Refused : as :meth:`Deciding.of` says.
    """
    told = Deciding.of(subject, settings.attribute)
    reference = told.grouping.labels[told.better]
    work.begin(2, "rows asked again")
    frame = subject.frame
    there = np.flatnonzero(told.grouping.mask(told.better) & (told.mass > 0))
    set_to: dict[str, str] = {}
    outputs, cuts = subject.predictions.outputs, subject.decisions.cuts
    for name in told.grouping.columns:
        if name in subject.model.inputs and len(there):
            row = _middle(frame[name], there)
            set_to[name] = subject.table.texts_of(name, subject.rows.numbers[[row]])[0] or membership.MISSING
            frame = frame.replace(name, np.full(subject.n, frame[name][row], dtype=frame[name].dtype))
    taken = bool(set_to)
    if taken:
        outputs = subject.model.outputs(frame)
        rule = subject.decisions.rule
        if rule is not None and set(rule.columns) <= set(told.grouping.columns):
            cuts = np.full(subject.n, cuts[there[0]])  # all of the reference have one
    work.advance(1)
    decided = subject.decisions.of(outputs, cuts) == 1
    favoured = decided if subject.spec.favourable == "event" else ~decided
    # of the reference itself nothing is asked
    favoured = np.where(told.grouping.mask(told.better), told.favoured, favoured)
    turned = (favoured != told.favoured) & (told.mass > 0)
    everyone = np.ones(subject.n, bool)
    labels = told.grouping.labels
    groups = []
    for place, label in enumerate(labels):
        mine = told.grouping.mask(place)
        if (mine & (told.mass > 0)).any():
            groups.append(
                CorrectedGroup(
                    group=label,
                    rows=int((mine & (told.mass > 0)).sum()),
                    gained=int((turned & mine & favoured).sum()),
                    lost=int((turned & mine & ~favoured).sum()),
                    before=told.rates(told.favoured, mine),
                    after=told.rates(favoured, mine),
                )
            )
    work.advance(1)
    codes = told.grouping.exclusive
    worse, better = told.names
    return CorrectedResult(
        attribute=told.grouping.attribute,
        columns=told.grouping.columns,
        reference=reference,
        taken=taken,
        set_to=set_to,
        worse_off=worse,
        compared=better,
        gap=told.gap(told.favoured, everyone),
        gap_after=told.gap(favoured, everyone),
        wrong=told.rates(told.favoured, everyone).wrong,
        wrong_after=told.rates(favoured, everyone).wrong,
        groups=tuple(groups),
        cases=tuple(
            CorrectedCase(
                row=int(subject.rows.numbers[i]),
                group=labels[codes[i]],
                score=float(subject.predictions.outputs[i, 0]),
                score_after=float(outputs[i, 0]),
                gained=bool(favoured[i]),
            )
            for i in np.flatnonzero(turned)[:LISTED]
        ),
        changed=int(turned.sum()),
        rows=subject.n,
        rows_named=subject.context.rows,
        confidence=told.confidence,
    )


def _middle(values: NDArray, among: NDArray[np.int64]) -> int:
    """The row whose value stands for those of some rows: any where they are alike, else the lower median of numbers."""
    if values.dtype.kind != "f":
        return int(among[0])
    known = among[~np.isnan(values[among])]
    if not len(known):
        return int(among[0])
    order = np.argsort(values[known], kind="stable")
    return int(known[order[(len(known) - 1) // 2]])


def say(result: CorrectedResult, wording: Wording, settings: CorrectedSettings) -> Reading:
    of = row_sets.counted(result.rows, result.rows_named, wording.row if result.rows == 1 else wording.rows)
    name = words.title(result.attribute)
    if not result.taken:
        return Reading(
            headline=(
                Span(
                    text=f"The model does not take {name}, so no decision about {of} changes when it alone is set otherwise."
                ),
            ),
            detail="What goes along with it still tells: other columns may stand in for it, as Data says.",
        )
    gained, lost = (sum(getattr(one, side) for one in result.groups) for side in ("gained", "lost"))
    apart = len(result.set_to) < len(result.columns)
    alone = words.listing([words.title(one) for one in result.set_to]) if apart else name
    ranged = [
        f"{words.title(column)} to {value}" for column, value in result.set_to.items() if value not in result.reference
    ]
    head = (
        f"With {alone} alone set to {'that of ' if apart else ''}{result.reference}, {words.plural(result.changed, 'decision')} about {of} "
        f"{'changes' if result.changed == 1 else 'change'}: {words.count(gained)} become {wording.favourable}, {words.count(lost)} the other way."
    )
    second = (
        f" The gap of {result.worse_off} to {result.compared} in the selection rate goes from {points(result.gap)} to {points(result.gap_after)}."
        if result.worse_off != result.compared
        else ""
    )
    detail = (f"Set are {words.listing(ranged)}, the middle of those rows. " if ranged else "") + (
        "All other columns are kept, those that go along with it too, so this is what the column itself does, not what would "
        "happen to a person of another group."
    )
    return Reading(headline=(Span(text=head), Span(text=second)), detail=detail)


def picture(result: CorrectedResult, spec: Spec) -> Picture | None:
    shown = []
    for one in result.groups:
        shown += [(f"{one.group}, now", one.before.favoured), (f"{one.group}, corrected", one.after.favoured)]
    return bars_of(shown[:MOST_BARS], "share that gets the favourable decision")


METHOD = Method(
    name="corrected",
    area="remedies",
    title="Corrected decisions",
    settings=CorrectedSettings,
    result=CorrectedResult,
    compute=corrected,
    say=say,
    note=(
        "Every row is asked again with **only its group set to the reference's**, every column of a crossing, of a range the "
        "middle value of its rows; all other columns and the thresholds kept; "
        "decisions that change are listed, in both directions, and the rates of every group are told before and after. The gap is "
        "the worse-off group's share of favourable decisions less the reference's (Mee 1984).\n\n"
        "It takes for granted that the column itself, and nothing that stands in for it, is what should not count. It can hurt "
        "those of another group whom the column helped, and it mends nothing where other columns carry the group. Where the law "
        "forbids to use the group in a decision, the model may not take the column at all; to set it otherwise for some only is to "
        "use it again."
    ),
    main="groups",
    part="corrected",
    version=2,
    needs=frozenset({"model"}),
    depends=frozenset({"spec", "comparisons", "policy"}),
    picture=picture,
)
