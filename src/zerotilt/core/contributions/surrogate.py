"""A simple model around one case: how the output moves nearby, and how far that can be trusted."""

from __future__ import annotations

from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from zerotilt.core import words
from zerotilt.core.contributions.ladder import value_of
from zerotilt.core.distance import distances, space
from zerotilt.core.drawing import MOST_BARS, Bars
from zerotilt.core.frozen import Frozen, RowNumber
from zerotilt.core.meaning import Spec, Wording
from zerotilt.core.method import Method
from zerotilt.core.predictors import Frame
from zerotilt.core.reading import Reading, plain
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

FAITHFUL = 0.7
"""Weighted R² under which the reading warns."""


class SurrogateSettings(Frozen):
    row: RowNumber
    samples: int = Field(default=2_000, ge=50, le=100_000, description="Perturbed rows")
    width: float = Field(default=0.25, gt=0, le=10, description="Kernel width, in Gower distance (0 to 1)")
    penalty: float = Field(default=1.0, ge=0, description="Ridge penalty")
    seeds: int = Field(default=5, ge=2, le=50, description="Repeats whose spread is shown")


class LocalTerm(Frozen):
    """Numbers: change of the output over the feature's own standard deviation. Levels: having the case's own level."""

    feature: str
    value: str
    effect: float
    spread: float = Field(description="Standard deviation of the effect between seeds")


class Ring(Frozen):
    """Perturbed rows at about one distance from the case."""

    distance: float = Field(description="Middle of the ring, Gower distance")
    rows: int
    weight: float = Field(description="What a row there weighs, 1 at the case")


class SurrogateResult(Frozen):
    row: int
    name: str
    terms: tuple[LocalTerm, ...] = Field(description="Largest first")
    fidelity: float | None = Field(
        description="Weighted R² on the perturbed rows; null where the output does not move there"
    )
    width: float
    prediction: float
    fitted: float = Field(description="What the simple model gives at the case")
    samples: int
    seeds: int
    rings: tuple[Ring, ...] = Field(description="How the perturbed rows of the first seed lie around the case")
    effective: float = Field(description="Rows as many as would count if each weighed the same: (Σw)² / Σw²")
    output: Literal["probability", "log-odds", "value"]
    event: str


RINGS = 20


def surround(subject: Subject, settings: SurrogateSettings, seed: int, work: Work) -> SurrogateResult:
    """A proximity-weighted ridge regression on perturbed rows (Ribeiro, Singh & Guestrin 2016).

    Numbers are moved by normal draws of their own spread, levels drawn from the
    table, half of all cells staying as they are; a row weighs exp(−d²/width²)
    with d its Gower distance from the case.
    """
    case = subject.editor.case(settings.row)
    here = float(subject.output(case)[0])
    work.begin(settings.seeds, "simple models fitted")
    effects, fidelity, fitted = [], [], []
    away = np.zeros(0)
    for repeat in range(settings.seeds):
        rng = np.random.default_rng([seed, repeat])
        around = _perturbed(subject.frame, case, settings.samples, rng)
        if not repeat:
            away = distances(space(subject.frame), around, case)
        effect, good, at = _fit(subject, case, around, settings)
        effects.append(effect)
        fidelity.append(good)
        fitted.append(at)
        work.advance(1)
    mean, spread = np.mean(effects, axis=0), np.std(effects, axis=0, ddof=1)
    return SurrogateResult(
        row=settings.row,
        name=subject.editor.name_of(settings.row),
        terms=tuple(
            LocalTerm(
                feature=case.names[j],
                value=value_of(subject, case.names[j], settings.row),
                effect=float(mean[j]),
                spread=float(spread[j]),
            )
            for j in np.argsort(-np.abs(mean), kind="stable")
        ),
        fidelity=float(np.mean(fidelity)) if np.isfinite(fidelity).all() else None,
        width=settings.width,
        prediction=here,
        fitted=float(np.mean(fitted)),
        samples=settings.samples,
        seeds=settings.seeds,
        rings=_rings(away, settings.width),
        effective=float(_kernel(away, settings.width).sum() ** 2 / (_kernel(away, settings.width) ** 2).sum()),
        output=subject.scale,
        event=subject.what,
    )


def _kernel(away: NDArray[np.float64], width: float) -> NDArray[np.float64]:
    return np.exp(-(away**2) / width**2)


def _rings(away: NDArray[np.float64], width: float) -> tuple[Ring, ...]:
    edges = np.linspace(0, max(float(away.max()), 1e-9), RINGS + 1)
    counts, _ = np.histogram(away, edges)
    middles = (edges[1:] + edges[:-1]) / 2
    return tuple(
        Ring(distance=float(middle), rows=int(rows), weight=float(weight))
        for middle, rows, weight in zip(middles, counts, _kernel(middles, width), strict=True)
    )


def _perturbed(frame: Frame, case: Frame, samples: int, rng: np.random.Generator) -> Frame:
    columns = {}
    for name in frame.names:
        own = case[name][0]
        drawn = frame[name][rng.integers(0, frame.rows, samples)]
        if frame[name].dtype.kind == "f":
            known = frame[name][np.isfinite(frame[name])]
            spread = known.std() if len(known) else 0.0
            if np.isfinite(own):
                moved = own + rng.normal(size=samples) * spread
                if len(known):
                    moved = np.clip(moved, known.min(), known.max())
                    moved = np.round(moved) if (known % 1 == 0).all() else moved
                drawn = moved
        stays = rng.random(samples) < 0.5
        columns[name] = np.where(stays, own, drawn)
    return Frame(columns)


def _fit(subject: Subject, case: Frame, around: Frame, settings: SurrogateSettings):
    weights = _kernel(distances(space(subject.frame), around, case), settings.width)
    x = _design(subject.frame, case, around)
    y = subject.output(around)
    w = weights / weights.sum()
    centre_x, centre_y = w @ x, w @ y
    scaled = (x - centre_x) * np.sqrt(weights)[:, None]
    normal = scaled.T @ scaled + settings.penalty * np.eye(x.shape[1])
    slope = np.linalg.solve(normal, scaled.T @ ((y - centre_y) * np.sqrt(weights)))
    left = y - centre_y - (x - centre_x) @ slope
    total = float(w @ (y - centre_y) ** 2)
    # where the output does not move there is nothing to explain, and nothing was explained
    good = 1 - float(w @ left**2) / total if total > 1e-18 * max(1.0, centre_y**2) else float("nan")
    at = centre_y + float((_design(subject.frame, case, case)[0] - centre_x) @ slope)
    return slope, good, at


def _design(frame: Frame, case: Frame, rows: Frame) -> NDArray[np.float64]:
    out = np.empty((rows.rows, len(rows.names)))
    for j, name in enumerate(rows.names):
        own = case[name][0]
        if frame[name].dtype.kind == "f" and np.isfinite(own):
            known = frame[name][np.isfinite(frame[name])]
            spread = known.std() or 1.0
            out[:, j] = np.where(np.isfinite(rows[name]), (rows[name] - own) / spread, 0.0)
        elif frame[name].dtype.kind == "f":  # missing or endless: whether it still is
            out[:, j] = np.isnan(rows[name]) if np.isnan(own) else rows[name] == own
        else:
            out[:, j] = rows[name] == own
    return out


def say(result: SurrogateResult, wording: Wording, settings: SurrogateSettings) -> Reading:
    if result.fidelity is None:
        return plain(
            f"Near {wording.case_named(result.name)} the output does not move; there is nothing for a simple model to explain.",
            f"{words.count(result.samples)} perturbed rows, kernel width {result.width:g}, {result.seeds} seeds.",
        )
    first = result.terms[0]
    verb = "raises" if first.effect > 0 else "lowers"
    headline = (
        f"Near {wording.case_named(result.name)}, {words.title(first.feature)} ({first.value}) {verb} the output most. "
        f"The simple model explains {max(result.fidelity, 0):.0%} of what happens nearby."
    )
    if result.fidelity < FAITHFUL:
        headline = (
            f"The simple model explains {max(result.fidelity, 0):.0%} of what happens near {wording.case_named(result.name)}, "
            f"too little to rely on its terms. In it, {words.title(first.feature)} ({first.value}) {verb} the output most."
        )
    detail = (
        f"{words.count(result.samples)} perturbed rows, kernel width {result.width:g}, {result.seeds} seeds; it gives "
        f"{words.on_scale(result.fitted, result.output, wording.unit)} at the case, the model "
        f"{words.on_scale(result.prediction, result.output, wording.unit)}."
    )
    return plain(headline, detail)


def picture(result: SurrogateResult, spec: Spec) -> Bars:
    shown = result.terms[:MOST_BARS]
    return Bars(
        names=tuple(f"{words.title(one.feature)} {one.value}" for one in shown),
        values=tuple(one.effect for one in shown),
        label=f"effect in the simple model, ± 2 spreads between seeds; it explains {max(result.fidelity or 0.0, 0):.0%} of "
        "what happens nearby",
        spans=tuple((one.effect - 2 * one.spread, one.effect + 2 * one.spread) for one in shown),
        tones=tuple("raises" if one.effect > 0 else "lowers" for one in shown),
    )


METHOD = Method(
    name="surrogate",
    weighs=False,
    area="cases",
    part="believed",
    title="Simple model nearby",
    settings=SurrogateSettings,
    result=SurrogateResult,
    compute=surround,
    say=say,
    note=(
        "**Local surrogate** (Ribeiro, Singh & Guestrin 2016): ridge regression on perturbed rows, weighted by "
        "nearness to the case. Fidelity is the weighted R²; under 0.7 the reading says that it cannot be relied on, "
        "and where the output does not move nearby, that there is nothing to explain. The spread is over seeds."
    ),
    main="terms",
    picture=picture,
    unasked=lambda spec: None,
    version=3,
)
