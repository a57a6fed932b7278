"""Does the output go the way that people who know the field expect?"""

from __future__ import annotations

from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from zerotilt.core import words
from zerotilt.core.frozen import Frozen
from zerotilt.core.meaning import Wording
from zerotilt.core.method import Method
from zerotilt.core.reading import Reading, plain
from zerotilt.core.refusal import Refused
from zerotilt.core.response.curves import all_curves, feature_named, grid_of
from zerotilt.core.stats import weighing
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

LISTED = 20


class ExpectedSettings(Frozen):
    feature: str = Field(default="", description="A feature on a scale; the model's first one when empty")
    expected: Literal["rises", "falls"] = "rises"
    points: int = Field(default=40, ge=2, le=200)
    rows: int = Field(default=2_000, ge=1, le=100_000, description="Rows whose curves are read; a seeded sample beyond")
    least: float = Field(default=0.001, ge=0, description="Steps against it that are smaller than this are not counted")


class Against(Frozen):
    row: int
    step: float = Field(description="Largest step of this row's curve against the expectation")
    after: str
    before: str


class ExpectedResult(Frozen):
    feature: str
    expected: Literal["rises", "falls"]
    curves_against: float = Field(description="Share of curves with a step against the expectation anywhere")
    rows_against: float = Field(description="Share of rows whose curve goes against it where the row itself lies")
    largest: float
    mean_against: float = Field(description="Largest step of the mean curve against it")
    worst: tuple[Against, ...] = Field(description="Rows whose curves go furthest against it")
    output: Literal["probability", "log-odds", "value"]
    event: str
    rows: int
    rows_read: int


def check_expected(subject: Subject, settings: ExpectedSettings, seed: int, work: Work) -> ExpectedResult:
    """Steps of ICE curves against an expected direction.

    Raises
    ------
    Refused : the feature has levels without an order.
    """
    feature = feature_named(subject, settings.feature)
    grid = grid_of(subject, feature, settings.points)
    if not grid.ordered:
        raise Refused(
            f"feature: “{feature}” has levels without an order, along which nothing rises or falls.",
            todo="Give its levels an order in Intake, or choose another feature.",
        )
    on_scale = np.arange(len(grid.values)) if grid.positions is None else np.flatnonzero(np.isfinite(grid.positions))
    values = grid.values[on_scale]
    chosen = np.sort(subject.rows.drawn(np.random.default_rng(seed), settings.rows))
    sample, mass = subject.frame.take(chosen), subject.rows.mass[chosen]
    curves = all_curves(subject, sample, {feature: values}, work)[feature]
    against = steps_against(curves, settings.expected, settings.least)
    deepest = against.max(axis=1)
    here = _own_step(sample[feature], values, grid.positions is not None, against.shape[1])
    own = np.where(here >= 0, against[np.arange(len(against)), np.maximum(here, 0)], 0)
    mean_steps = steps_against(weighing.mean(curves, mass)[None], settings.expected, 0.0)
    worst = [i for i in np.argsort(-deepest, kind="stable")[:LISTED] if deepest[i] > 0]
    labels = [grid.labels[i] for i in on_scale]
    return ExpectedResult(
        feature=feature,
        expected=settings.expected,
        curves_against=float(weighing.mean((deepest > 0).astype(float), mass)),
        rows_against=float(weighing.mean((own > 0).astype(float), mass)),
        largest=float(deepest.max()),
        mean_against=float(mean_steps.max()),
        worst=tuple(
            Against(
                row=int(subject.rows.numbers[chosen[i]]),
                step=float(deepest[i]),
                after=labels[int(against[i].argmax())],
                before=labels[int(against[i].argmax()) + 1],
            )
            for i in worst
        ),
        output=subject.scale,
        event=subject.what,
        rows=subject.n,
        rows_read=len(chosen),
    )


def steps_against(curves: NDArray[np.float64], expected: str, least: float = 1e-3) -> NDArray[np.float64]:
    """Size of each step of curves (rows, points) against a direction, 0 where it goes along or is at most ``least``.

    Shape (rows, points − 1), one column at least.
    """
    way = 1 if expected == "rises" else -1
    against = np.maximum(-way * np.diff(curves, axis=1), 0)
    against[against <= least] = 0
    return against if against.shape[1] else np.zeros((len(curves), 1))


def _own_step(own, values, numeric: bool, steps: int):
    """The step each row's own value lies in, −1 for none."""
    if numeric:
        place = np.clip(np.searchsorted(values, own, "right") - 1, 0, steps - 1)
        return np.where(np.isfinite(own), place, -1)
    at = {level: i for i, level in enumerate(values)}
    return np.array([min(at[one], steps - 1) if one in at else -1 for one in own])


def say(result: ExpectedResult, wording: Wording, settings: ExpectedSettings) -> Reading:
    name = words.title(result.feature)
    if result.curves_against == 0:
        headline = f"Every curve goes as expected: the output {result.expected} with {name}, or stays."
    else:
        headline = (
            f"{words.percent(result.curves_against)} of the curves go against the expectation that the output {result.expected} with {name} "
            f"somewhere, {words.percent(result.rows_against)} where the {wording.row} itself lies; the largest step against it is "
            f"{words.difference(result.largest, result.output, wording.unit)}."
        )
    return plain(headline, f"{words.count(result.rows_read)} of {words.count(result.rows)} {wording.rows} read.")


METHOD = Method(
    name="expected",
    area="response",
    title="Expected direction",
    settings=ExpectedSettings,
    result=ExpectedResult,
    compute=check_expected,
    say=say,
    note=(
        "Steps of single curves against the direction that is expected of a feature: the share of curves with such a "
        "step, the share of rows whose curve goes against it where the row itself lies, the largest step, and the "
        "rows that go furthest."
    ),
    main="worst",
    version=2,
)
