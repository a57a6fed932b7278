"""Which features work together: H² of pairs and of each feature with all others (Friedman & Popescu 2008)."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import combinations
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from zerotilt.core import words
from zerotilt.core.drawing import MOST_BARS, Bars
from zerotilt.core.frozen import Frozen
from zerotilt.core.meaning import Spec, Wording
from zerotilt.core.method import Method
from zerotilt.core.output import settled
from zerotilt.core.players import EVALUATIONS_AT_ONCE
from zerotilt.core.predictors import Asked, Frame
from zerotilt.core.reading import Reading, plain
from zerotilt.core.response.curves import feature_named
from zerotilt.core.stats import weighing
from zerotilt.core.stats.estimates import Estimate
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work


class InteractionsSettings(Frozen):
    features: tuple[str, ...] = Field(
        default=(), description="Features paired; the fourteen that move the output most when empty"
    )
    rows: int = Field(default=40, ge=5, le=500, description="Rows of each draw; the output is asked rows² times a pair")
    draws: int = Field(default=4, ge=2, le=50, description="Draws, from whose spread the errors come")


class Pair(Frozen):
    first: str
    second: str
    strength: Estimate = Field(description="Share of the pair's joint effect that neither has alone, 0 to 1")
    size: float = Field(description="Standard deviation of that joint part, in the output's unit")


class Total(Frozen):
    feature: str
    strength: Estimate


class InteractionsResult(Frozen):
    pairs: tuple[Pair, ...] = Field(description="Largest joint part first")
    totals: tuple[Total, ...] = Field(description="Strongest first")
    left_out: int = Field(description="Features that were not paired")
    output: Literal["probability", "log-odds", "value"]
    rows: int
    rows_read: int
    draws: int
    evaluations: int


MOST_FEATURES = 14
MOVED_ROWS = 500


@dataclass(frozen=True)
class _Shared:
    asked: Asked
    rows: Frame
    mass: NDArray[np.float64]


def pair_up(subject: Subject, settings: InteractionsSettings, seed: int, work: Work) -> InteractionsResult:
    """H² from partial dependence at the rows of several seeded draws; errors from the spread between the draws.

    H²ⱼₖ = Σ (PDⱼₖ − PDⱼ − PDₖ)² / Σ PDⱼₖ², each centred. A pair with hardly any joint
    effect can have a large share of very little: ``size`` is given beside it.
    """
    names = [feature_named(subject, name) for name in dict.fromkeys(settings.features)] or list(subject.model.inputs)
    rng = np.random.default_rng(seed)
    n = min(settings.rows, subject.n)
    draws = [subject.rows.drawn(rng, n) for _ in range(settings.draws)]
    if not settings.features and len(names) > MOST_FEATURES:
        moved = _moved(subject, names, rng, work)
        names = [names[i] for i in np.argsort(-moved, kind="stable")[:MOST_FEATURES]]
    features = subject.model.inputs
    pairs = list(combinations(names, 2))
    wanted = [(name,) for name in names] + pairs + [tuple(one for one in features if one != name) for name in names]
    strengths, sizes, totals = [], [], []
    for draw in draws:
        rows, mass = subject.frame.take(draw), subject.rows.mass[draw]
        shared = _Shared(subject.asked, rows, mass)
        found = dict(zip(wanted, work.spread(_dependence, shared, wanted, "pairs of features read"), strict=True))
        whole = subject.output(rows)
        whole = whole - weighing.mean(whole, mass)
        strength, size = [], []
        for a, b in pairs:
            joint = found[a, b] - found[(a,)] - found[(b,)]
            strength.append(_share(joint, found[a, b], mass))
            size.append(settled(float(weighing.deviation(joint, mass)), float(weighing.deviation(whole, mass))))
        strengths.append(strength)
        sizes.append(size)
        rest = [tuple(one for one in features if one != name) for name in names]
        totals.append(
            [_share(whole - found[(name,)] - found[left], whole, mass) for name, left in zip(names, rest, strict=True)]
        )
    strength, size, total = np.array(strengths), np.array(sizes).reshape(len(draws), -1).mean(axis=0), np.array(totals)
    return InteractionsResult(
        pairs=tuple(
            Pair(first=pairs[i][0], second=pairs[i][1], strength=_over(strength[:, i]), size=float(size[i]))
            for i in np.argsort(-size, kind="stable")
        ),
        totals=tuple(
            Total(feature=names[j], strength=_over(total[:, j])) for j in np.argsort(-total.mean(axis=0), kind="stable")
        ),
        left_out=len(features) - len(names),
        output=subject.scale,
        rows=subject.n,
        rows_read=n * settings.draws,
        draws=settings.draws,
        evaluations=len(wanted) * n * n * settings.draws,
    )


def _moved(subject: Subject, names: list[str], rng: np.random.Generator, work: Work) -> NDArray[np.float64]:
    """How far each feature moves the output, alone or with others (total effect; Jansen 1999), shape (names,).

    A feature whose own mean effect is nothing may still work with another.
    """
    chosen = subject.rows.drawn(rng, MOVED_ROWS)
    rows, others = subject.frame.take(chosen), subject.frame.take(rng.permutation(chosen))
    here = subject.output(rows)
    shared = (subject.asked, rows, others, here, subject.rows.mass[chosen])
    return np.array(list(work.spread(_swapped, shared, names, "features tried")))


def _swapped(shared, name: str) -> float:
    asked, rows, others, here, mass = shared
    return float(weighing.mean((asked(rows.replace(name, others[name])) - here) ** 2, mass) / 2)


def _dependence(shared: _Shared, features: tuple[str, ...]) -> NDArray[np.float64]:
    """Centred partial dependence on a set of features at every row's own values, shape (rows,)."""
    n = shared.rows.rows
    out = np.empty(n)
    if not features:
        return np.zeros(n)
    step = max(1, EVALUATIONS_AT_ONCE // n)
    for start in range(0, n, step):
        at = np.arange(start, min(start + step, n))
        wide = shared.rows.take(np.tile(np.arange(n), len(at)))
        for name in features:
            wide = wide.replace(name, np.repeat(shared.rows[name][at], n))
        out[at] = shared.asked(wide).reshape(len(at), n) @ (shared.mass / shared.mass.sum())
    return out - weighing.mean(out, shared.mass)


def _share(part: NDArray[np.float64], whole: NDArray[np.float64], mass: NDArray[np.float64]) -> float:
    total = float(weighing.mean(whole**2, mass))
    return min(float(weighing.mean(part**2, mass)) / total, 1.0) if total > 1e-18 else 0.0


def _over(values: NDArray[np.float64]) -> Estimate:
    mean, error = float(values.mean()), float(values.std(ddof=1) / np.sqrt(len(values)))
    return Estimate(value=mean, low=max(mean - 1.96 * error, 0.0), high=min(mean + 1.96 * error, 1.0))


def say(result: InteractionsResult, wording: Wording, settings: InteractionsSettings) -> Reading:
    if not result.pairs:
        return plain("The model has one feature; there is nothing for it to work together with.", "")
    first = result.pairs[0]
    many = len(result.pairs) > 1
    headline = (
        f"No two of {len(result.totals)} features work together: what each of them does is the same whatever the others are."
        if first.size == 0 and many
        else f"{words.opening(words.title(first.first))} and {words.title(first.second)} do not work together: what each of "
        "them does is the same whatever the other is."
        if first.size == 0
        else f"{words.opening(words.title(first.first))} and {words.title(first.second)} work together{' most' if many else ''}: {first.strength.value:.0%} of their "
        f"joint effect is neither's alone ({first.strength.low:.0%} to {first.strength.high:.0%}), "
        f"{words.difference(first.size, result.output, wording.unit)} on average."
    )
    each = words.count(result.rows_read // result.draws)
    drawn = words.plural(result.draws, f"draw of {each} rows", f"draws of {each} rows each")
    detail = f"{words.opening(drawn)}, of {words.count(result.rows)} {wording.rows}; {words.count(result.evaluations)} predictions."
    if result.left_out:
        detail += f" {words.plural(result.left_out, 'feature')} that {'moves' if result.left_out == 1 else 'move'} the output least {'is' if result.left_out == 1 else 'are'} left out."
    return plain(
        headline,
        detail + " Association between two features is another matter: it is in the table, this is in the model.",
    )


def picture(result: InteractionsResult, spec: Spec) -> Bars:
    """In the order of the table: by the size of the joint part, with its share beside the names."""
    shown = result.pairs[:MOST_BARS]
    unit = {
        "probability": "points of chance",
        "log-odds": "log-odds",
        "value": spec.wording.unit or "the outcome's unit",
    }
    scale = 100 if result.output == "probability" else 1
    return Bars(
        names=tuple(
            f"{words.title(one.first)} and {words.title(one.second)}, {one.strength.value:.0%}" for one in shown
        ),
        values=tuple(one.size * scale for one in shown),
        label=f"joint part that neither has alone, in {unit[result.output]}; its share after the names",
    )


METHOD = Method(
    name="interactions",
    area="response",
    part="pairs",
    title="Interactions",
    settings=InteractionsSettings,
    result=InteractionsResult,
    compute=pair_up,
    say=say,
    note=(
        "**H²** (Friedman & Popescu 2008): the variance of the two features' joint partial dependence that is not the "
        "sum of their own, as a share of the joint variance, from several draws of rows, with the spread between "
        "draws; size is its standard deviation, and orders the table, since a pair with hardly any joint effect can "
        "have a large share of very little. Of more than fourteen features those are paired that move the output "
        "most, alone or with others (total effect, Jansen 1999). It says that the model lets them work together. Two "
        "features that go together in the table need not do so: that is association, and stands under Drivers, Linked "
        "columns."
    ),
    main="pairs",
    picture=picture,
    first_look={"rows": 15, "draws": 2},
    version=4,
)
