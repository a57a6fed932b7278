"""Corrected decisions: what would be decided if only the group were set to the reference's, and about whom."""

from __future__ import annotations

import numpy as np
from pydantic import Field

from zerotilt.core import rows as row_sets
from zerotilt.core import words
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
    reference: str
    taken: bool = Field(description="Whether the model takes the column; if not nothing can change")
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
    columns, reference = told.grouping.columns, told.grouping.labels[told.better]
    work.begin(2, "rows asked again")
    frame, inputs = subject.frame, subject.model.inputs
    taken = len(columns) == 1 and columns[0] in inputs and frame[columns[0]].dtype.kind != "f"
    outputs = subject.predictions.outputs
    if taken:
        column = frame[columns[0]]
        known = column[told.grouping.mask(told.better)]
        level = known[0] if len(known) else reference
        moved = frame.replace(columns[0], np.full(subject.n, level, dtype=object))
        outputs = subject.model.outputs(moved)
        cuts = subject.decisions.cut_for(columns[0], reference, subject.decisions.cuts)
    else:
        cuts = subject.decisions.cuts
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
        reference=reference,
        taken=taken,
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
    head = (
        f"With {name} alone set to {result.reference}, {words.plural(result.changed, 'decision')} about {of} "
        f"{'changes' if result.changed == 1 else 'change'}: {words.count(gained)} become {wording.favourable}, {words.count(lost)} the other way."
    )
    second = (
        f" The gap of {result.worse_off} to {result.compared} in the selection rate goes from {points(result.gap)} to {points(result.gap_after)}."
        if result.worse_off != result.compared
        else ""
    )
    detail = (
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
        "Every row is asked again with **only its group set to the reference's**, all other columns and the thresholds kept; "
        "decisions that change are listed, in both directions, and the rates of every group are told before and after. The gap is "
        "the worse-off group's share of favourable decisions less the reference's (Mee 1984).\n\n"
        "It takes for granted that the column itself, and nothing that stands in for it, is what should not count. It can hurt "
        "those of another group whom the column helped, and it mends nothing where other columns carry the group. Where the law "
        "forbids to use the group in a decision, the model may not take the column at all; to set it otherwise for some only is to "
        "use it again."
    ),
    main="groups",
    part="corrected",
    needs=frozenset({"model"}),
    depends=frozenset({"spec", "comparisons", "policy"}),
    picture=picture,
)
