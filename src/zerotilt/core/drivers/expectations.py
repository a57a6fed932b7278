"""Every expected direction at once, against what the model does; what contradicts becomes a finding."""

from __future__ import annotations

from typing import Literal

import numpy as np
from pydantic import Field

from zerotilt.core import words
from zerotilt.core.findings import Finding
from zerotilt.core.frozen import Frozen
from zerotilt.core.meaning import Expected, Spec, Wording
from zerotilt.core.method import Method, Place
from zerotilt.core.reading import Reading, Span
from zerotilt.core.response.curves import Direction, all_curves, direction, feature_named, grid_of
from zerotilt.core.response.expected import steps_against
from zerotilt.core.stats import weighing
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

EXPECTED_WORDS: dict[str, str] = {"rises": "rise", "falls": "fall", "none": "have no effect"}


class ExpectationsSettings(Frozen):
    expected: dict[str, Expected] = Field(default_factory=dict, description="Expected direction by feature")
    points: int = Field(default=30, ge=2, le=200)
    rows: int = Field(default=1_000, ge=1, le=100_000, description="Rows whose curves are read; a seeded sample beyond")


class Expectation(Frozen):
    """One feature: what was expected, what the mean curve does, and how far single curves go against it."""

    feature: str
    expected: Expected
    goes: Direction
    contradicted: bool
    moves: float = Field(description="Range of the mean curve")
    mean_against: float = Field(
        description="How far the mean curve goes back against the expectation; its range for none"
    )
    curves_against: float | None = Field(
        description="Share of curves with a step against it; null where none was expected"
    )
    largest: float | None = Field(description="Largest step of a single curve against it")


class ExpectationsResult(Frozen):
    checked: tuple[Expectation, ...] = Field(description="Contradicted first, then by how far the mean goes against")
    output: Literal["probability", "log-odds", "value"]
    event: str
    rows: int
    rows_read: int


def check_all(subject: Subject, settings: ExpectationsSettings, seed: int, work: Work) -> ExpectationsResult:
    """The mean curve contradicts a direction when it goes back by more than a tenth of its range, and the
    expectation of no effect when it moves by more than a fiftieth of the output's standard deviation.

    An expectation of a feature that this model does not take is left out: other versions may take it.
    Features without an order can be expected to have no effect alone.
    """
    takes = set(subject.model.inputs)
    asked = {feature_named(subject, name): way for name, way in settings.expected.items() if name in takes}
    grids = {name: grid_of(subject, name, settings.points) for name in asked}
    asked = {name: way for name, way in asked.items() if way == "none" or grids[name].ordered}
    chosen = np.sort(subject.rows.drawn(np.random.default_rng(seed), settings.rows))
    mass = subject.rows.mass[chosen]
    values = {}
    for name in asked:
        grid = grids[name]
        on_scale = slice(None) if grid.positions is None else np.isfinite(grid.positions)
        values[name] = grid.values[on_scale]
    found = all_curves(subject, subject.frame.take(chosen), values, work) if asked else {}
    spread = float(weighing.deviation(subject.own_output, subject.rows.mass))
    checked = []
    for name, way in asked.items():
        mean = weighing.mean(found[name], mass)
        goes = direction(mean, grids[name].ordered, spread)
        moves = float(mean.max() - mean.min())
        if way == "none":
            checked.append(
                Expectation(
                    feature=name,
                    expected=way,
                    goes=goes,
                    contradicted=goes != "flat",
                    moves=moves,
                    mean_against=moves,
                    curves_against=None,
                    largest=None,
                )
            )
            continue
        against = steps_against(found[name], way)
        back = _back(mean, way)
        checked.append(
            Expectation(
                feature=name,
                expected=way,
                goes=goes,
                contradicted=goes not in ("flat", way),
                moves=moves,
                mean_against=back,
                curves_against=float(weighing.mean((against.max(axis=1) > 0).astype(float), mass)),
                largest=float(against.max()),
            )
        )
    checked.sort(key=lambda one: (not one.contradicted, -one.mean_against, one.feature))
    return ExpectationsResult(
        checked=tuple(checked), output=subject.scale, event=subject.what, rows=subject.n, rows_read=len(chosen)
    )


def _back(mean, way: str) -> float:
    """The longest way back of a curve against a direction."""
    up = mean if way == "rises" else -mean
    return float((np.maximum.accumulate(up) - up).max())


def say(result: ExpectationsResult, wording: Wording, settings: ExpectationsSettings) -> Reading:
    if not result.checked:
        text = "No direction was expected of a feature that this model takes."
        return Reading(headline=(Span(text=text),), detail="")
    against = [one for one in result.checked if one.contradicted]
    detail = f"Mean of {words.count(result.rows_read)} of {words.count(result.rows)} {wording.rows}, over the middle 98% of each feature."
    if not against:
        text = (
            f"All {len(result.checked)} expected directions hold."
            if len(result.checked) > 1
            else "The expected direction holds."
        )
        return Reading(headline=(Span(text=text),), detail=detail)
    spans = [Span(text=f"{statement(one, result.output, wording.unit)} ", flagged=True) for one in against]
    held = len(result.checked) - len(against)
    rest = f"{words.plural(held, 'other expectation')} {'holds' if held == 1 else 'hold'}." if held else ""
    return Reading(headline=(*spans, Span(text=rest)), detail=detail)


def statement(one: Expectation, scale: str, unit: str) -> str:
    """One contradiction as a sentence."""
    amount = words.difference(one.mean_against, scale, unit)
    expected = f"{words.opening(words.title(one.feature))} was expected to {EXPECTED_WORDS[one.expected]}"
    if one.expected == "none":
        return f"{expected}; it moves the mean by {amount}."
    goes = {"rises": "rises", "falls": "falls", "bends": "bends", "by level": "goes by level", "flat": "stays"}[
        one.goes
    ]
    return f"{expected}; the mean {goes}, by {amount} against it."


def contradictions(result: ExpectationsResult, spec: Spec) -> list[Finding]:
    """Each contradicted expectation; its name is the same while model and expectation are."""
    return [
        Finding(
            name=f"expected {one.expected}: {one.feature}",
            kind="contradiction",
            statement=statement(one, result.output, spec.wording.unit),
            columns=(one.feature,),
            rows=result.rows,
        )
        for one in result.checked
        if one.contradicted
    ]


METHOD = Method(
    name="expectations",
    area="drivers",
    title="Expected directions",
    settings=ExpectationsSettings,
    result=ExpectationsResult,
    compute=check_all,
    say=say,
    note=(
        "The mean curve contradicts a direction when it goes back by more than a tenth of its range, and the "
        "expectation of no effect when it moves by more than a fiftieth of the output's standard deviation. A "
        "contradiction is a finding: the decision about it, with its reason, stands in the dossier and in the report. "
        "Expectations change no number."
    ),
    main="checked",
    place=Place(
        "Expected directions",
        lambda subject, so_far, fewer: (
            [({"expected": subject.spec.expectations}, "")] if subject.spec.expectations else []
        ),
    ),
    findings=contradictions,
    unasked=lambda spec: {"expected": spec.expectations} if spec.expectations else None,
    version=2,
)
