"""The sentences about one pocket: what carries it and what may lie behind it, each by a stated rule."""

from __future__ import annotations

from collections.abc import Iterator

from zerotilt.core import rows as row_sets
from zerotilt.core import words
from zerotilt.core.meaning import Wording
from zerotilt.core.pockets.errors import written
from zerotilt.core.pockets.explained_result import PocketResult, PocketSettings
from zerotilt.core.pockets.said import balance_said, gap_said, where
from zerotilt.core.reading import Reading, Span
from zerotilt.core.segmenting.sizes import Sides
from zerotilt.core.stats.estimates import Estimate

NOTABLY = 1.25
"""Times as common inside as outside from which on it is said who is there."""
FEW_TRAINED = 0.5
"""Times as common among training rows as here, under which few such rows were there to learn from; "half" in words."""
LESS_MOVED = 0.75
"""Of how far features move the output elsewhere, under which it is said that the model has less to go by."""
NOTE = (
    "Figures are of the half of the rows in which the pocket was **not** searched; of conditions typed by hand, of all rows, "
    "and then what was looked at before they were typed is not allowed for. **Each condition is left out in turn**: the one "
    "without which the error falls most carries it. **Near-twins** are rows and their nearest other row in features (Gower "
    "1971): where these have other outcomes more often than elsewhere, the outcome is noisy there, or what would tell rows "
    "apart is no feature; rows joined through their nearest count as one in the error (Liang & Zeger 1986). **Trained on**: how common the conditions are in the training rows. **Contributions** are Shapley "
    "values of rows inside and of all others; what lies apart is what the model believes to be different there. **Rows like "
    "these elsewhere** are the nearest in all features that the place is not told by, matched one to one with replacement "
    "(Abadie & Imbens 2006); what the model predicts otherwise for the two of a pair is taken off (2011). The **model's own "
    "curves** are partial dependence of rows inside and of all others (Friedman 2001). A group's gap "
    "is measured again without the rows of the pocket; what is gone is what **goes with the pocket**, which is no cause.\n\n"
    "What is said to lie behind it follows rules: labels where twins inside differ more often, at the policy's α; records that "
    "differ where the gap to rows like these, and what the model does not account for of it, both exclude nothing; less to go "
    "by where all features together move the output less than three quarters as far, beyond chance; few rows to learn from "
    "where such rows are less than half as common among training rows; scores too high or too low where the mean "
    "score lies beyond what happened by more than outside, intervals apart; no order where the interval of the AUC inside "
    "lies under the one outside."
)


def say(result: PocketResult, wording: Wording, settings: PocketSettings) -> Reading:
    head = gap_said(where(result.segment.conditions), result.gap, result, wording)
    of = row_sets.counted(result.rows, result.rows_named, wording.row if result.rows == 1 else wording.rows)
    half = "the half of a sample" if result.sampled else "the half"
    read = (
        f"Read of {words.count(result.rows_read)} of {of}: {half} in which it was not searched."
        if result.halving >= 0
        else f"Read of all {of}, those among them in which it was noticed."
    )
    denser = (result.gap.difference.value or 0.0) > 0
    reasons = list(why(result, wording)) if denser else []
    nothing = (
        " None of what is looked for below lies behind it." if denser else " It is no denser there than elsewhere."
    )
    second = f" {reasons[0]}" if reasons else nothing
    detail = [read, balance_said(result.gap, result.balance_of, result.balance_mean, wording)]
    if result.rows_explained:
        detail.append(f"Contributions are of {words.plural(result.rows_explained, 'row')}, inside and outside.")
    return Reading(
        headline=(Span(text=head), Span(text=second)),
        detail=" ".join(one for one in detail if one),
        points=tuple([*reasons[1:], *(carried(result, wording) if denser else ()), *in_it(result)]),
    )


def why(result: PocketResult, wording: Wording) -> Iterator[str]:
    """What may lie behind it, by the rules of the note."""
    twins = result.twins
    if twins is not None and twins.p is not None and twins.p <= result.alpha and _over(twins.inside, twins.outside):
        if wording.unit or result.balance_mean:
            apart = [words.quantity(one.value or 0.0, wording.unit) for one in (twins.inside, twins.outside)]
            yield f"The outcome is noisy there: rows and their nearest in features are {apart[0]} apart in it, {apart[1]} outside."
        else:
            shares = [words.percent(one.value or 0.0) for one in (twins.inside, twins.outside)]
            yield (
                f"The features tell the outcome less well there: the nearest row has another outcome in {shares[0]} of "
                f"{words.plural(twins.rows, 'row')}, in {shares[1]} outside."
            )
    yield from _tilted(result, wording)
    trained = result.trained
    if trained is not None and trained.training < FEW_TRAINED * trained.here:
        yield (
            f"Few such rows were there to learn from: {words.percent(trained.training)} of the training rows "
            f"({words.count(trained.training_rows)}), {words.percent(trained.here)} of these."
        )
    sides = {one.metric: one for one in result.sides}
    yield from _off(sides, result, wording)
    yield from _little_known(result, wording)
    area = sides.get("auc")
    if (
        area is not None
        and area.inside.high is not None
        and area.outside.low is not None
        and area.inside.high < area.outside.low
    ):
        yield (
            f"The score orders rows worse there: AUC {words.decimal(area.inside.value or 0.0)} "
            f"({words.decimal(area.inside.low or 0.0)} to {words.decimal(area.inside.high)}) against "
            f"{words.decimal(area.outside.value or 0.0)} outside."
        )


def _tilted(result: PocketResult, wording: Wording) -> Iterator[str]:
    """What was recorded there and what was recorded of rows that are alike otherwise, where no prediction says why."""
    found = result.counterparts
    if found is None or found.p is None or found.p > result.alpha or not beyond_zero(found.gap):
        return
    if ((found.gap.value or 0.0) > 0) != ((found.beyond.value or 0.0) > 0):
        return
    means = (found.happened, found.happened_elsewhere, found.predicted, found.predicted_elsewhere)
    if result.balance_mean:
        here, there, predicted, elsewhere = (words.quantity(one, wording.unit) for one in means)
        head, last = f"the mean outcome is {here}", f"the mean prediction is {predicted} and {elsewhere}"
        rows = f"in {words.plural(found.rows, 'row')}"
    else:
        here, there, predicted, elsewhere = (words.percent(one) for one in means)
        head, last = f"{result.balance_of} in {here}", f"the mean score is {predicted} and {elsewhere}"
        rows = f"of {words.plural(found.rows, 'row')}"
    yield (
        f"The outcome is recorded otherwise there: {head} {rows}, {there} of those elsewhere that are most like them but for "
        f"the conditions; {last}. The records may be tilted there, or the conditions matter more than the model knows."
    )


def beyond_zero(one: Estimate) -> bool:
    return one.low is not None and one.high is not None and (one.low > 0 or one.high < 0)


def _over(one: Estimate, other: Estimate) -> bool:
    return (one.value or 0.0) > (other.value or 0.0)


def _little_known(result: PocketResult, wording: Wording) -> Iterator[str]:
    """The features hardly move the output there."""
    moved = result.moved
    if moved is None or moved.difference.high is None or moved.inside.value is None or moved.outside.value is None:
        return
    if moved.difference.high < 0 and moved.inside.value < LESS_MOVED * moved.outside.value:
        show = {
            "probability": words.points,
            "log-odds": lambda one: f"{words.decimal(one)} log-odds",
            "value": lambda one: words.quantity(one, wording.unit),
        }[result.output]
        yield (
            f"The model has less to tell rows apart by there: all features together move its output by "
            f"{show(moved.inside.value)} on average, by {show(moved.outside.value)} outside."
        )


def _off(sides: dict[str, Sides], result: PocketResult, wording: Wording) -> Iterator[str]:
    """Whether predictions are too high or too low there, beyond what they are outside."""
    for predicted, happened, what in (
        ("mean_score", "base_rate", "score"),
        ("mean_prediction", "mean_outcome", "prediction"),
    ):
        one, other = sides.get(predicted), sides.get(happened)
        if (
            one is None
            or other is None
            or None in (one.inside.value, other.inside.value, other.inside.low, other.inside.high)
        ):
            continue
        mean, low, high = one.inside.value or 0.0, other.inside.low or 0.0, other.inside.high or 0.0
        off, elsewhere = mean - (other.inside.value or 0.0), (one.outside.value or 0.0) - (other.outside.value or 0.0)
        if low <= mean <= high or abs(off) <= abs(elsewhere):
            continue
        show = words.percent if what == "score" else (lambda value: words.quantity(value, wording.unit))
        yield (
            f"The {what} is too {'high' if off > 0 else 'low'} there: {show(mean)} on average, where it happened in "
            f"{show(other.inside.value or 0.0)} ({show(low)} to {show(high)})."
            if what == "score"
            else f"The {what} is too {'high' if off > 0 else 'low'} there: {show(mean)} on average, where it was "
            f"{show(other.inside.value or 0.0)} ({show(low)} to {show(high)})."
        )


def carried(result: PocketResult, wording: Wording) -> Iterator[str]:
    """Which condition carries it."""
    if not result.without:
        return
    first = result.without[0]
    if first.gap.inside.value is None or first.only_without.value is None:
        return
    yield (
        f"The condition “{first.condition}” carries it most: without it the {result.called} is "
        f"{written(first.gap.inside.value, result.unit, wording)}; of the {words.plural(first.rows_without, 'row')} that meet "
        f"all others and not this one it is {written(first.only_without.value, result.unit, wording)}."
    )


def in_it(result: PocketResult) -> Iterator[str]:
    """Who is in it more than elsewhere, and whose gap goes with it."""
    most = [one for one in result.groups if one.inside > NOTABLY * one.outside]
    if most:
        one = most[0]
        yield (
            f"{words.opening(words.title(one.attribute))} {one.group} is {words.percent(one.inside)} of the rows there and "
            f"{words.percent(one.outside)} elsewhere."
        )
    gone = [one for one in result.groups if one.accounts_for is not None and one.accounts_for > 0]
    if gone:
        one = max(gone, key=lambda one: one.accounts_for or 0.0)
        yield (
            f"{words.percent(min(one.accounts_for or 0.0, 1.0))} of the gap of {words.title(one.attribute)} {one.group} in the "
            f"{result.called} goes with its rows."
        )
