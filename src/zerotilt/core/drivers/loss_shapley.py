"""Which share of the model's use each feature accounts for: Shapley values of the loss."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from zerotilt.core import words
from zerotilt.core.contributions.game import Background, background
from zerotilt.core.drawing import MOST_BARS, Bars
from zerotilt.core.drivers.losses import LOSS_LABELS, Loss, LossChoice, chosen
from zerotilt.core.frozen import Frozen
from zerotilt.core.meaning import Spec, Wording
from zerotilt.core.method import Method
from zerotilt.core.output import unlinked
from zerotilt.core.players import EVALUATIONS_AT_ONCE
from zerotilt.core.predictors import Frame, Predictor
from zerotilt.core.reading import Reading, plain
from zerotilt.core.stats.estimates import Estimate
from zerotilt.core.stats.intervals import normal_quantile
from zerotilt.core.subject import Subject
from zerotilt.core.tasks import kind_of
from zerotilt.core.work import Work

ROWS_AT_ONCE = 32


class LossShapleySettings(Frozen):
    loss: LossChoice = "auto"
    rows: int = Field(
        default=512, ge=10, le=1_000_000, description="Rows walked; each is one order of the features and its reverse"
    )
    background: int = Field(default=64, ge=2, le=10_000, description="Rows that stand for a feature not known")


class LossShare(Frozen):
    feature: str
    value: Estimate = Field(description="Loss taken away by knowing the feature")
    share: float | None = Field(description="Of the whole reduction")


class LossShapleyResult(Frozen):
    features: tuple[LossShare, ...] = Field(description="Largest first; they add up to the reduction")
    loss: Loss
    with_all: float = Field(description="Loss of the model")
    with_none: float = Field(description="Loss of the mean output")
    rows: int
    rows_walked: int
    background: int
    confidence: float


@dataclass(frozen=True)
class _Shared:
    predictor: Predictor
    frame: Frame
    outcome: NDArray
    reference: Background
    loss: Loss
    threshold: NDArray[np.float64]
    seed: int


def share_out(subject: Subject, settings: LossShapleySettings, seed: int, work: Work) -> LossShapleyResult:
    """Shapley values of the game v(S) = −loss of the mean output with S known (Covert, Lundberg & Lee 2020).

    Each row walks one order of the features and its reverse; unknown features
    are taken from the background and the outputs averaged before the loss. The
    values add up to loss with no feature known less loss of the model, exactly.
    """
    loss = chosen("log_loss" if settings.loss == "auc" else settings.loss, subject.kind)
    n = min(settings.rows, subject.n)
    rows = np.sort(np.random.default_rng(seed).permutation(subject.n)[:n])
    reference = background(subject.frame, subject.rows.weights, settings.background, seed)
    frame = subject.frame.take(rows)
    shared = _Shared(
        subject.model, frame, subject.rows.outcome[rows], reference, loss, subject.decisions.cuts[rows], seed
    )
    pieces = [(start, min(start + ROWS_AT_ONCE, n)) for start in range(0, n, ROWS_AT_ONCE)]
    done = work.spread(_walk, shared, pieces, "rows walked", [last - first for first, last in pieces])
    steps = np.concatenate(list(done))
    w = np.ones(n) if subject.rows.weights is None else subject.rows.weights[rows]
    w = w / w.sum()
    value = w @ steps
    error = np.sqrt((w**2) @ (steps - value) ** 2)
    reach = normal_quantile(subject.spec.policy.confidence)
    outputs = subject.predictions.outputs[rows]
    empty = np.tile(reference.mean(subject.model.outputs(reference.frame)), (n, 1))
    with_all = float(w @ subject.kind.lost(loss, shared.outcome, outputs, shared.threshold, w))
    with_none = float(w @ subject.kind.lost(loss, shared.outcome, empty, shared.threshold, w))
    whole = with_none - with_all
    order = np.argsort(-value, kind="stable")
    return LossShapleyResult(
        features=tuple(
            LossShare(
                feature=frame.names[j],
                value=Estimate(
                    value=float(value[j]),
                    low=float(value[j] - reach * error[j]),
                    high=float(value[j] + reach * error[j]),
                ),
                share=float(value[j] / whole) if whole > 0 else None,
            )
            for j in order
        ),
        loss=loss,
        with_all=with_all,
        with_none=with_none,
        rows=subject.n,
        rows_walked=n,
        background=reference.rows,
        confidence=subject.spec.policy.confidence,
    )


def _walk(shared: _Shared, piece: tuple[int, int]) -> NDArray[np.float64]:
    """Loss taken away at each step, mean of an order and its reverse, shape (rows, p)."""
    first, last = piece
    p, b = len(shared.frame.names), shared.reference.rows
    out = np.empty((last - first, p))
    at_once = max(1, EVALUATIONS_AT_ONCE // (b * 2 * (p + 1)))
    for start in range(first, last, at_once):
        block = np.arange(start, min(start + at_once, last))
        orders = np.stack([np.random.default_rng([shared.seed, int(row)]).permutation(p) for row in block])
        place = np.argsort(orders, axis=1)
        mean = _means_from_sum(shared, block, orders)
        if mean is None:
            mean = _means_of_mixed(shared, block, place)
        outcome = np.repeat(shared.outcome[block], 2 * (p + 1))
        cuts = np.repeat(shared.threshold[block], 2 * (p + 1))
        lost = kind_of(shared.predictor.task).lost(shared.loss, outcome, mean, cuts, np.ones(len(cuts)))
        gained = -np.diff(lost.reshape(len(block), 2, p + 1), axis=2)
        ahead = np.take_along_axis(gained[:, 0], place, axis=1)
        behind = np.take_along_axis(gained[:, 1], p - 1 - place, axis=1)
        out[block - first] = (ahead + behind) / 2
    return out


def _means_of_mixed(shared: _Shared, block: NDArray[np.intp], place: NDArray[np.intp]) -> NDArray[np.float64]:
    """Mean outputs along the walks of each row, forth and back, from the model itself, shape (rows × 2 × (p + 1), k)."""
    p, b = place.shape[1], shared.reference.rows
    lengths = np.arange(p + 1)
    known = np.stack(
        [place[:, None, :] < lengths[:, None], (p - 1 - place)[:, None, :] < lengths[:, None]], axis=1
    ).reshape(-1, p)
    case = np.repeat(np.repeat(block, 2 * (p + 1)), b)
    other = np.tile(np.arange(b), len(known))
    columns = {
        name: np.where(np.repeat(known[:, j], b), shared.frame[name][case], shared.reference.frame[name][other])
        for j, name in enumerate(shared.frame.names)
    }
    outputs = shared.predictor.outputs(Frame(columns)).reshape(len(known), b, -1)
    return np.einsum("b,sbk->sk", shared.reference.weights, outputs)


def _means_from_sum(shared: _Shared, block: NDArray[np.intp], orders: NDArray[np.intp]) -> NDArray[np.float64] | None:
    """The same from the structure of a linear model or one of small trees; None where it has none that is its own output."""
    others = shared.reference.frame
    structure = shared.predictor.structure_for(shared.frame, others)
    if structure is None or not structure.walkable:
        return None
    b, p = others.rows, orders.shape[1]
    case = np.repeat(block, 2 * b)
    other = np.tile(np.repeat(np.arange(b), 2), len(block))
    walked = np.tile(np.stack([orders, orders[:, ::-1]], axis=1), (1, b, 1)).reshape(-1, p)
    encoded = structure.of_frame(shared.frame)[0], structure.of_frame(others)[0]
    sums = structure.walked_sums(*encoded, case, other, walked)
    outputs = unlinked(sums.reshape(len(case) * (p + 1), -1), structure.link).reshape(len(block), b, 2, p + 1, -1)
    mean = np.einsum("b,rbdsk->rdsk", shared.reference.weights, outputs)
    return mean.reshape(len(block) * 2 * (p + 1), -1)


def say(result: LossShapleyResult, wording: Wording, settings: LossShapleySettings) -> Reading:
    first = result.features[0]
    label = LOSS_LABELS[result.loss]
    whole = result.with_none - result.with_all
    if whole <= 0:
        headline = f"The features together do not lower the {label}: {words.decimal(result.with_none)} knowing none, {words.decimal(result.with_all)} knowing all."
    else:
        _, low, high = words.measured(*first.value.model_dump().values())
        headline = (
            f"Knowing all features lowers the {label} from {words.decimal(result.with_none)} to {words.decimal(result.with_all)}; "
            f"{words.title(first.feature)} accounts for {first.share:.0%} of it ({words.level(result.confidence)} interval of its part "
            f"{low} to {high})."
        )
    detail = f"{words.count(result.rows_walked)} of {words.count(result.rows)} {wording.rows} walked, {words.count(result.background)} background rows."
    return plain(headline, detail)


def picture(result: LossShapleyResult, spec: Spec) -> Bars:
    shown = result.features[:MOST_BARS]
    return Bars(
        names=tuple(words.title(one.feature) for one in shown),
        values=tuple(one.value.value for one in shown),
        label=f"{LOSS_LABELS[result.loss]} taken away by knowing the feature, with {words.level(result.confidence)} interval",
        spans=tuple((one.value.low, one.value.high) for one in shown),
    )


METHOD = Method(
    name="loss_shapley",
    area="drivers",
    part="methods",
    title="Loss Shapley values",
    settings=LossShapleySettings,
    result=LossShapleyResult,
    compute=share_out,
    say=say,
    note=(
        "**Loss Shapley values** (Covert, Lundberg & Lee 2020): which share of the loss that the model takes away "
        "each feature accounts for. They add up to the loss of the mean output less the loss of the model. Features "
        "that are not known are drawn from 64 background rows, so linked columns share."
    ),
    main="features",
    needs=frozenset({"model", "outcome"}),
    picture=picture,
    version=3,
)
