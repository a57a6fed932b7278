"""Two features at once: the output over both, the pure interaction, and where there are rows to say so."""

from __future__ import annotations

from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from zerotilt.core import words
from zerotilt.core.frozen import Frozen
from zerotilt.core.meaning import Wording
from zerotilt.core.method import Method
from zerotilt.core.predictors import Frame
from zerotilt.core.reading import Reading, plain
from zerotilt.core.refusal import Refused
from zerotilt.core.response.accumulated import second_order
from zerotilt.core.response.curves import Grid, feature_named, grid_of, ice
from zerotilt.core.response.support import support_in
from zerotilt.core.stats import weighing
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

NEAR = 0.05
SYNTHETIC_ROWS = 1_000


class SurfaceSettings(Frozen):
    first: str = Field(default="", description="A feature of the model; its first one when empty")
    second: str = Field(default="", description="Another feature; the next one when empty")
    points: int = Field(default=20, ge=2, le=60, description="Grid points along each")
    rows: int = Field(default=200, ge=1, le=20_000, description="Rows whose other columns are averaged over")
    case: int | None = Field(
        default=None, ge=0, description="Hold the other columns at this row of the table instead, from 0"
    )
    edits: dict[str, str] = Field(
        default_factory=dict, description="Values of that case to write over; empty is missing"
    )
    kind: Literal["output", "interaction"] = Field(
        default="output", description="The mean output, or second-order accumulated effects of two numbers"
    )


class Axis(Frozen):
    feature: str
    numeric: bool
    labels: tuple[str, ...]
    positions: tuple[float | None, ...] | None
    mean: tuple[float, ...] = Field(description="The output along this feature alone")


class Held(Frozen):
    """One value of the case that is held."""

    feature: str
    text: str = Field(description="As it would be typed; empty where it is missing")
    edited: bool


class SurfaceResult(Frozen):
    first: Axis
    second: Axis
    values: tuple[tuple[float, ...], ...] = Field(description="Rows along the first feature, columns along the second")
    support: tuple[tuple[int, ...], ...] = Field(description="Rows of the context near each point")
    scarce: tuple[tuple[bool, ...], ...]
    far_share: float = Field(description="Share of combined rows farther from any real row than 99% of real rows are")
    kind: Literal["output", "interaction"]
    decision: tuple[tuple[int, ...], ...] = Field(
        description="With several classes the class of the largest mean probability, for an event 1 where it is predicted; "
        "empty where nothing is decided"
    )
    strength: tuple[tuple[float, ...], ...] = Field(
        description="With several classes that probability, for an event how far the mean lies from the threshold"
    )
    decisions: tuple[str, ...] = Field(description="What the decisions are called, by number")
    held: str | None = Field(description="The case whose other columns are held")
    held_values: tuple[Held, ...] = Field(description="All values of that case")
    marker: tuple[float | str | None, float | str | None] | None = Field(
        description="Where the case itself lies, in its two values"
    )
    features: tuple[str, ...]
    output: Literal["probability", "log-odds", "value"]
    threshold: float | None
    event: str
    rows: int
    rows_read: int


def survey(subject: Subject, settings: SurfaceSettings, seed: int, work: Work) -> SurfaceResult:
    """Partial dependence on two features (Friedman 2001), or their second-order accumulated effects (Apley & Zhu 2020).

    Raises
    ------
    Refused : the two are the same, the model has one feature, or an interaction is asked of levels.
    """
    features = subject.model.inputs
    first = feature_named(subject, settings.first)
    others = [name for name in features if name != first]
    if not others:
        raise Refused("second: the model has one feature; a surface takes two.")
    second = (settings.second and feature_named(subject, settings.second)) or others[0]
    if first == second:
        raise Refused(f"second: “{second}” is the first feature too; a surface takes two different ones.")
    rng = np.random.default_rng(seed)
    if settings.kind == "interaction":
        return _interaction(subject, settings, first, second, rng, work)
    grids = [grid_of(subject, name, settings.points) for name in (first, second)]
    if settings.case is not None:
        sample, mass = subject.editor.case(settings.case, settings.edits), np.ones(1)
    else:
        chosen = subject.rows.drawn(rng, settings.rows)
        sample, mass = subject.frame.take(chosen), subject.rows.mass[chosen]
    a, b = (grid.values for grid in grids)
    wide = sample.take(np.repeat(np.arange(sample.rows), len(a))).replace(first, np.tile(a, sample.rows))

    def mean(one: Subject) -> NDArray[np.float64]:
        found = ice(one.asked, wide, second, b, work).reshape(sample.rows, len(a), len(b))
        return weighing.mean(found, mass)

    values = mean(subject)
    decided = None
    if subject.classes:
        shares = [mean(subject.of_class(name)) for name in subject.classes]
        decided = (np.argmax(shares, axis=0), np.max(shares, axis=0))
    elif subject.threshold is not None:
        decided = ((values >= subject.threshold).astype(int), np.abs(values - subject.threshold))
    return _result(subject, settings, grids, (first, second), values, decided, sample, rng)


def _interaction(subject, settings, first: str, second: str, rng, work: Work) -> SurfaceResult:
    for place, name in (("first", first), ("second", second)):
        if subject.frame[name].dtype.kind != "f":
            raise Refused(
                f"{place}: “{name}” has levels; the interaction by accumulated effects is of two numbers.",
                todo="Choose the output instead.",
            )
    chosen = np.sort(subject.rows.drawn(rng, max(settings.rows, 5_000)))
    sample = subject.frame.take(chosen)
    known = np.isfinite(sample[first]) & np.isfinite(sample[second])
    sample, mass = sample.take(np.flatnonzero(known)), subject.rows.mass[chosen][known]
    if not sample.rows:
        raise Refused(f"No row has both “{first}” and “{second}”.")
    work.begin(1, "rows moved across their cells")
    a, b, effect, _ = second_order(subject, sample, first, second, settings.points, mass)
    work.advance(1)
    grids = [
        Grid(edge, tuple(subject.editor.label(name, float(one)) for one in edge), edge, True, 0)
        for name, edge in ((first, a), (second, b))
    ]
    return _result(subject, settings, grids, (first, second), effect, None, sample, rng)


def _result(subject: Subject, settings, grids, names, values, decided, sample, rng) -> SurfaceResult:
    case = None if settings.case is None or settings.kind == "interaction" else settings.case
    pure = settings.kind == "interaction"
    along = [np.zeros(len(values)), np.zeros(values.shape[1])] if pure else [values.mean(axis=1), values.mean(axis=0)]
    near = [_near(subject.frame[name], grid) for name, grid in zip(names, grids, strict=True)]
    support = near[0].T.astype(np.int64) @ near[1].astype(np.int64)
    least = max(3, round(0.0005 * subject.n))
    axes = [
        Axis(
            feature=name,
            numeric=grid.positions is not None,
            labels=grid.labels,
            positions=None
            if grid.positions is None
            else tuple(float(one) if np.isfinite(one) else None for one in grid.positions),
            mean=tuple(map(float, mean)),
        )
        for name, grid, mean in zip(names, grids, along, strict=True)
    ]
    return SurfaceResult(
        first=axes[0],
        second=axes[1],
        values=tuple(tuple(map(float, row)) for row in values),
        support=tuple(tuple(map(int, row)) for row in support),
        scarce=tuple(tuple(bool(count < least) for count in row) for row in support),
        far_share=_far_share(subject, grids, names, rng),
        kind=settings.kind,
        decision=() if decided is None else tuple(tuple(map(int, row)) for row in decided[0]),
        strength=() if decided is None else tuple(tuple(map(float, row)) for row in decided[1]),
        decisions=() if decided is None else tuple(map(subject.decisions.named, range(max(len(subject.classes), 2)))),
        held=None if case is None else f"row {words.count(case + 1)}{' as changed' if settings.edits else ''}",
        held_values=() if case is None else _held(subject, case, settings.edits, sample),
        marker=None if case is None else tuple(_placed(sample[name][0]) for name in names),
        features=subject.model.inputs,
        output=subject.scale,
        threshold=subject.threshold if settings.kind == "output" else None,
        event=subject.what,
        rows=subject.n,
        rows_read=sample.rows,
    )


def _held(subject: Subject, case: int, edits, row: Frame) -> tuple[Held, ...]:
    whole = subject.editor.case(case)
    return tuple(
        Held(feature=name, text=_typed(subject, name, row[name][0]), edited=bool(row[name][0] != whole[name][0]))
        if name in edits
        else Held(feature=name, text=_typed(subject, name, row[name][0]), edited=False)
        for name in row.names
    )


def _typed(subject: Subject, name: str, value) -> str:
    """A value as it would be typed into an edit."""
    if isinstance(value, str):
        return value
    if np.isnan(value):
        return ""
    return subject.editor.label(name, float(value)) if subject.editor.is_date(name) else words.value_text(float(value))


def _placed(value) -> float | str | None:
    return str(value) if isinstance(value, str) else float(value) if np.isfinite(value) else None


def _near(values: NDArray, grid: Grid) -> NDArray[np.bool_]:
    """Which rows lie near which grid point, shape (rows, points)."""
    if grid.positions is None:
        return values[:, None] == grid.values[None, :]
    finite = grid.positions[np.isfinite(grid.positions)]
    reach = NEAR * (finite.max() - finite.min()) if len(finite) else 0.0
    with np.errstate(invalid="ignore"):
        close = np.abs(values[:, None] - grid.positions[None, :]) <= reach
    return close | (np.isnan(values)[:, None] & np.isnan(grid.positions)[None, :])


def _far_share(subject: Subject, grids, names, rng) -> float:
    known = support_in(subject)
    rows = rng.integers(0, subject.n, SYNTHETIC_ROWS)
    combined = subject.frame.take(rows)
    for name, grid in zip(names, grids, strict=True):
        combined = combined.replace(name, grid.values[rng.integers(0, len(grid.values), SYNTHETIC_ROWS)])
    return float(known.far(Frame(combined.columns)).mean())


def say(result: SurfaceResult, wording: Wording, settings: SurfaceSettings) -> Reading:
    values = np.array(result.values)
    pair = f"{words.title(result.first.feature)} and {words.title(result.second.feature)}"
    few = np.array(result.scarce, bool)
    if few.all():
        headline = (
            f"No point along {pair} has enough {wording.rows} near it, so nothing can be said of the two together."
        )
    elif result.kind == "interaction":
        told = np.where(few, 0.0, np.abs(values))
        headline = (
            f"Beyond their own effects, {pair} together move the output by up to "
            f"{words.difference(float(told.max()), result.output, wording.unit)} where there are {wording.rows}."
        )
    else:
        # what lies where there are no rows is drawn, and not quoted
        top = np.unravel_index(np.where(few, -np.inf, values).argmax(), values.shape)
        bottom = np.unravel_index(np.where(few, np.inf, values).argmin(), values.shape)
        what = {"probability": "mean chance that", "log-odds": "mean log-odds that", "value": "mean"}[result.output]

        def at(place) -> str:
            return (
                f"{words.title(result.first.feature)} {result.first.labels[place[0]]} and "
                f"{words.title(result.second.feature)} {result.second.labels[place[1]]}"
            )

        if result.held:
            what = what.replace("mean ", "").replace("mean", "")
        headline = (
            f"The {what} {result.event} is highest at {at(top)} ({words.on_scale(float(values[top]), result.output, wording.unit)}) and "
            f"lowest at {at(bottom)} ({words.on_scale(float(values[bottom]), result.output, wording.unit)})."
        )
    headline = headline.replace("The  ", "The ")
    scarce = float(np.mean(result.scarce))
    detail = (
        f"Other columns held at {result.held}."
        if result.held
        else f"Mean over {words.count(result.rows_read)} of {words.count(result.rows)} {wording.rows}."
    )
    detail += f" {scarce:.0%} of the points have few rows near them; {result.far_share:.0%} of the combined rows lie far from any real one."
    return plain(headline, detail)


def arrays(result: SurfaceResult) -> dict[str, list[dict[str, Any]]]:
    """The surface, written out point by point."""
    out = []
    for i, first in enumerate(result.first.labels):
        for j, second in enumerate(result.second.labels):
            point: dict[str, Any] = {
                result.first.feature: first if result.first.positions is None else result.first.positions[i],
                result.second.feature: second if result.second.positions is None else result.second.positions[j],
                "value": result.values[i][j],
                "rows_near": result.support[i][j],
                "scarce": result.scarce[i][j],
            }
            if result.decision:
                point |= {"decision": result.decisions[result.decision[i][j]], "strength": result.strength[i][j]}
            out.append(point)
    return {"points": out}


METHOD = Method(
    name="surface",
    area="response",
    part="two",
    title="Two features",
    settings=SurfaceSettings,
    result=SurfaceResult,
    compute=survey,
    say=say,
    note=(
        "**Partial dependence** on two features (Friedman 2001), or the case's own output with both moved; the pure "
        "interaction is the **second-order accumulated local effect** (Apley & Zhu 2020). A point has few rows near "
        "it when fewer than 3, or one in two thousand, lie within a twentieth of both ranges; the share of combined "
        "rows that lie farther from any real row than 99% of real rows lie from their nearest neighbour (Gower 1971) "
        "is said. The strength of a decision is the distance of the output from the threshold, or with several "
        "classes the largest mean probability."
    ),
    main="points",
    arrays=arrays,
    first_look={"rows": 50, "points": 14},
    version=3,
)
