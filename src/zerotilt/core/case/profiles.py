"""Every feature's own curve through one case: what the output would be along it, all else kept as it is."""

from __future__ import annotations

from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from zerotilt.core import words
from zerotilt.core.counterfactuals.nearest import cell
from zerotilt.core.frozen import Frozen, RowNumber
from zerotilt.core.meaning import Wording
from zerotilt.core.method import Method
from zerotilt.core.predictors import Frame
from zerotilt.core.reading import Reading, plain
from zerotilt.core.response.curves import Grid, grid_of
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work


class ProfilesSettings(Frozen):
    row: RowNumber
    edits: dict[str, str] = Field(
        default_factory=dict,
        description="Values of the case to write over, as they would stand in the table; empty is missing",
    )
    points: int = Field(default=40, ge=3, le=200, description="Values of each number at most")


class At(Frozen):
    """The output with one feature at one value."""

    position: float | None = Field(description="On a numeric axis; null for a level and for missing")
    label: str
    output: float
    rows: int = Field(description="Rows of the context near this value: nearer than to the next, or of this level")


class Turn(Frozen):
    """Between two neighbouring values the decision changes."""

    below: str = Field(description="The value on the case's side")
    at: str = Field(description="The first value with another decision")
    position: float | None
    output: float
    decision: str


class Profile(Frozen):
    feature: str
    numeric: bool
    points: tuple[At, ...] = Field(description="Along the axis, the case's own value among them; levels in their order")
    own: int = Field(description="Which point is the case's own")
    low: float
    high: float
    turns: tuple[Turn, ...] = Field(description="Nearest the case's own value first, one each way along an axis")


class ProfilesResult(Frozen):
    row: int
    name: str
    profiles: tuple[Profile, ...] = Field(description="The one that could move the output most first")
    prediction: float
    decision: str = Field(description="Empty where nothing is decided")
    threshold: float | None = Field(description="Of this case, on the scale of the output")
    output: Literal["probability", "log-odds", "value"]
    event: str
    rows: int


def profiles(subject: Subject, settings: ProfilesSettings, seed: int, work: Work) -> ProfilesResult:
    """Ask the model about one case along every feature (profiles at a case).

    Every value that is drawn is asked of the model, the case's own among them, so that the case lies on its curves.

    Raises
    ------
    Refused : there is no such row, or a value does not fit its column.
    """
    case = subject.editor.case(settings.row, settings.edits)
    cut = subject.decisions.cut_at(settings.row)
    work.begin(1, "curves read")
    grids = {name: _with_own(subject, name, case, settings.points) for name in case.names}
    sizes = [len(grid.values) for grid, _ in grids.values()]
    parts: dict[str, list[NDArray]] = {name: [] for name in case.names}
    for name, (grid, _) in grids.items():
        for other in case.names:
            parts[other].append(grid.values if other == name else np.repeat(case[other], len(grid.values)))
    asked = Frame({name: np.concatenate(held) for name, held in parts.items()})
    outputs = subject.output(asked)
    decided = subject.decisions.of(subject.model.outputs(asked), cut) if subject.kind.decides else None
    ends = np.cumsum([0, *sizes])
    found = []
    for i, (name, (grid, own)) in enumerate(grids.items()):
        mine = slice(ends[i], ends[i + 1])
        taken = None if decided is None else decided[mine]
        found.append(_profile(subject, name, grid, own, outputs[mine], taken))
    work.advance(1)
    here = int(ends[0] + grids[case.names[0]][1])
    return ProfilesResult(
        row=settings.row,
        name=f"{subject.editor.name_of(settings.row)}{', edited' if settings.edits else ''}",
        profiles=tuple(sorted(found, key=lambda one: one.low - one.high)),
        prediction=float(outputs[here]),
        decision="" if decided is None else subject.decisions.named(int(decided[here])),
        threshold=subject.on_scale(cut) if subject.kind.cut else None,
        output=subject.scale,
        event=subject.what,
        rows=subject.n,
    )


def _with_own(subject: Subject, name: str, case: Frame, points: int) -> tuple[Grid, int]:
    """The grid of a feature with the case's own value on it, and its place."""
    grid, own = grid_of(subject, name, points), case[name][0]
    number = case[name].dtype.kind == "f"
    same = [i for i, value in enumerate(grid.values) if value == own or (number and value != value and own != own)]
    if same:
        return grid, same[0]
    # endless values stay at the ends, missing behind them
    at = int(np.searchsorted(grid.values, own)) if number and own == own else len(grid.values)
    label = subject.editor.label(name, own) if number else (own or "missing")
    positions = None if grid.positions is None else np.insert(grid.positions, at, own)
    values = np.insert(grid.values, at, own) if number else np.append(grid.values, np.array([own], dtype=object))
    labels = (*grid.labels[:at], label, *grid.labels[at:])
    return Grid(values, labels, positions, grid.ordered, grid.left_out), at


def _profile(
    subject: Subject, name: str, grid: Grid, own: int, outputs: NDArray[np.float64], taken: NDArray[np.int64] | None
) -> Profile:
    positions = np.full(len(grid.values), np.nan) if grid.positions is None else grid.positions.astype(float)
    near = _near(subject.frame[name], grid)
    turns = [] if taken is None else _turns(subject, name, grid, own, outputs, taken)
    return Profile(
        feature=name,
        numeric=grid.positions is not None,
        points=tuple(
            At(
                position=float(positions[i]) if np.isfinite(positions[i]) else None,
                label=grid.labels[i],
                output=float(outputs[i]),
                rows=int(near[i]),
            )
            for i in range(len(grid.values))
        ),
        own=own,
        low=float(outputs.min()),
        high=float(outputs.max()),
        turns=tuple(turns),
    )


def _near(values: NDArray, grid: Grid) -> NDArray[np.int64]:
    """Rows that are nearer to each point than to another; of levels, rows that hold them."""
    if grid.positions is None:
        return np.array([(values == level).sum() for level in grid.values], np.int64)
    out = np.zeros(len(grid.values), np.int64)
    placed = np.flatnonzero(np.isfinite(grid.positions))
    known = values[np.isfinite(values)]
    if len(placed):
        at = grid.positions[placed]
        out[placed] = np.bincount(np.searchsorted((at[1:] + at[:-1]) / 2, known), minlength=len(placed))
    out[np.isnan(grid.positions)] = int(np.isnan(values).sum())
    return out


def _turns(
    subject: Subject, name: str, grid: Grid, own: int, outputs: NDArray[np.float64], taken: NDArray[np.int64]
) -> list[Turn]:
    """Where the decision is first another one: each way along an axis; of levels, every level that turns it."""
    other = np.flatnonzero(taken != taken[own])
    if grid.positions is None:
        chosen = [(int(i), own) for i in other]
    else:
        # what is missing lies on no side of an axis
        placed = np.flatnonzero(np.isfinite(grid.positions))
        before, after = [i for i in placed if i < own], [i for i in placed if i > own]
        off = set(other.tolist())
        chosen = []
        for way in (before[::-1], after) if own in placed else ():
            last = own
            for i in way:
                if int(i) in off:
                    chosen.append((int(i), int(last)))
                    break
                last = i
        chosen.sort(key=lambda pair: abs(grid.values[pair[0]] - grid.values[own]))
        chosen += [(int(i), own) for i in other if not np.isfinite(grid.positions[i])]
        if own not in placed:
            chosen = [(int(i), own) for i in other[:1]]
    frame = Frame({name: grid.values})
    return [
        Turn(
            below=cell(subject, frame.take(np.array([below])), name),
            at=cell(subject, frame.take(np.array([i])), name),
            position=None if grid.positions is None or not np.isfinite(grid.positions[i]) else float(grid.positions[i]),
            output=float(outputs[i]),
            decision=subject.decisions.named(int(taken[i])),
        )
        for i, below in chosen
    ]


def say(result: ProfilesResult, wording: Wording, settings: ProfilesSettings) -> Reading:
    name, unit = wording.case_named(result.name), wording.unit
    first = result.profiles[0]
    low, high = (words.on_scale(one, result.output, unit) for one in (first.low, first.high))
    if first.low == first.high:
        return plain(
            f"No feature alone moves the output of {name}: it stays at {high}.",
            f"Each is read over what {words.count(result.rows)} {wording.rows} hold, all others kept as they are.",
        )
    headline = (
        f"{words.opening(words.title(first.feature))} could move {name} most: from {low} to {high}, all else kept."
    )
    turning = [one for one in result.profiles if one.turns]
    if result.decision and turning:
        one = turning[0]
        turn = one.turns[0]
        headline += (
            f" {words.plural(len(turning), 'feature')} alone could turn the decision ({result.decision}), "
            f"{words.title(one.feature)} at {words.brief(turn.at)} ({turn.decision})."
        )
    elif result.decision:
        headline += f" No feature alone turns the decision ({result.decision})."
    return plain(
        headline,
        f"Each curve is read over what {words.count(result.rows)} {wording.rows} hold, from the 1st to the 99th percentile "
        "and at the case's own value. This is what the model would say, not what would happen in the world.",
    )


METHOD = Method(
    name="profiles",
    weighs=False,
    area="cases",
    title="Curves of a case",
    settings=ProfilesSettings,
    result=ProfilesResult,
    compute=profiles,
    say=say,
    note=(
        "The model's output along every feature, all others kept as the case has them: at distinct values or quantiles of "
        "the rows between the 1st and the 99th percentile, at every level, and at the case's own value. Curves are "
        "sorted by the reach of their outputs. Where the decision turns is the first value asked, each way, at which it is "
        "another one; it lies between this and the value before."
    ),
    main="profiles",
    part="curves",
    arrays=lambda result: {
        "curves": [
            {"feature": one.feature, **point.model_dump(), "own": place == one.own}
            for one in result.profiles
            for place, point in enumerate(one.points)
        ],
        "turns": [{"feature": one.feature, **turn.model_dump()} for one in result.profiles for turn in one.turns],
    },
    unasked=lambda spec: None,
)
