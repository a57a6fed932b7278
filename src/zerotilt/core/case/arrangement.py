"""The rows themselves, each a dot: laid out along any two things that are known of them."""

from __future__ import annotations

from itertools import pairwise
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from zerotilt.core import words
from zerotilt.core.contributions.explain import explain
from zerotilt.core.contributions.sums_met import cheap
from zerotilt.core.drivers.spread import bins_of
from zerotilt.core.frozen import Frozen
from zerotilt.core.meaning import Wording
from zerotilt.core.method import Method
from zerotilt.core.reading import Reading, plain
from zerotilt.core.refusal import Refused
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

OUTPUT, ERROR, OUTCOME, DECISION, RIGHT = "(output)", "(error)", "(outcome)", "(decision)", "(right or wrong)"
STEP = "(step) "
"""Before a feature: its contribution to each prediction."""
MOST_LEVELS, MOST_PARTS = 24, 6
MOST_NAMES = 20_000
MOST_SAMPLED = 5_000
OTHER = "(other)"


class ArrangementSettings(Frozen):
    x: str = Field(
        default="",
        max_length=500,
        description=f"A column, or {OUTPUT}, {ERROR}, {OUTCOME}, {DECISION}, {RIGHT}, or {STEP}and a feature; the first "
        "numeric feature when empty",
    )
    y: str = Field(default="", max_length=500, description="The output when empty; the decision where none is recorded")
    colour: str = Field(default="", max_length=500, description="What happened when empty; a dash for none")
    wide: str = Field(default="", max_length=500, description="A panel for each of its levels or bins, side by side")
    deep: str = Field(default="", max_length=500, description="The same, one under the other")
    rows: int = Field(default=100_000, ge=1, le=1_000_000, description="Rows laid out; a seeded sample beyond")


class Along(Frozen):
    """One thing that is known of the rows: its name, and where its values lie."""

    name: str
    label: str
    kind: Literal["number", "date", "level"]
    levels: tuple[str, ...] = Field(description="Values are numbers of these, from 0; empty for numbers and dates")


class ArrangementResult(Frozen):
    """Arrays have one entry a row that is laid out."""

    x: Along
    y: Along
    colour: Along | None
    wide: Along | None
    deep: Along | None
    xs: tuple[float, ...]
    ys: tuple[float, ...]
    colours: tuple[int, ...]
    wides: tuple[int, ...]
    deeps: tuple[int, ...]
    table_rows: tuple[int, ...]
    names: tuple[str, ...] = Field(description="Identifiers; empty where there are more rows than can be picked")
    outputs: tuple[float, ...] = Field(description="Empty where only decisions were recorded")
    errors: tuple[float, ...] = Field(description="Of a number: prediction less what happened; empty otherwise")
    marks: str = Field(
        description="One digit a row: 1 the event, or the class that is read, happened; 2 decided wrongly; 4 favoured; summed"
    )
    knows_outcome: bool
    decides: bool
    choices: tuple[str, ...] = Field(description="What rows can be laid out along")
    rows: int
    rows_read: int = Field(description="Rows of the context, or of the sample of them")
    missing: int = Field(description="Rows that are left out because one of the two is missing")
    threshold: float | None
    scale: Literal["probability", "log-odds", "value"]
    event: str


def arrange(subject: Subject, settings: ArrangementSettings, seed: int, work: Work) -> ArrangementResult:
    """Values of every row along two things, with what colours it and which panel it stands in.

    Raises
    ------
    Refused : a name is nothing that is known of these rows.
    """
    work.begin(1, "rows laid out")
    numbers = [
        name for name in (subject.predictor.inputs if subject.predictor else ()) if subject.table.is_number(name)
    ]
    numbers = numbers or [one.name for one in subject.spec.columns if subject.table.is_number(one.name)]
    x = settings.x or (numbers[0] if numbers else OUTCOME if subject.spec.knows_outcome else DECISION)
    y = settings.y or (OUTPUT if subject.read_output is not None else DECISION)
    wanted = settings.colour or (OUTCOME if subject.spec.knows_outcome else DECISION if subject.kind.decides else "-")
    chosen = np.arange(subject.n)
    if subject.n > settings.rows:
        chosen = np.sort(np.random.default_rng(seed).permutation(subject.n)[: settings.rows])
    source = _Source(subject, chosen, seed, work)
    along_x, xs = source.along(x)
    along_y, ys = source.along(y)
    colour, colours = (None, np.zeros(len(chosen), np.int64)) if wanted == "-" else source.parted(wanted)
    wide, wides = source.parted(settings.wide) if settings.wide else (None, np.zeros(len(chosen), np.int64))
    deep, deeps = source.parted(settings.deep) if settings.deep else (None, np.zeros(len(chosen), np.int64))
    there = np.isfinite(xs) & np.isfinite(ys)
    kept = chosen[there]
    output, outcome = subject.read_output, subject.rows.outcome_if_known
    number = not subject.kind.decides
    errors = subject.predictions.values[kept] - outcome[kept] if number and outcome is not None else np.zeros(0)
    rows = subject.rows.numbers[kept]
    work.advance(1)
    return ArrangementResult(
        x=along_x,
        y=along_y,
        colour=colour,
        wide=wide,
        deep=deep,
        xs=_few_digits(xs[there]),
        ys=_few_digits(ys[there]),
        colours=tuple(colours[there].tolist()),
        wides=tuple(wides[there].tolist()) if wide else (),
        deeps=tuple(deeps[there].tolist()) if deep else (),
        table_rows=tuple(rows.tolist()),
        names=tuple(subject.editor.name_of(int(row)) for row in rows) if len(rows) <= MOST_NAMES else (),
        outputs=() if output is None else _few_digits(output[kept]),
        errors=_few_digits(errors),
        marks=_marks(subject, kept),
        knows_outcome=outcome is not None,
        decides=subject.kind.decides,
        choices=source.choices,
        rows=subject.n,
        rows_read=len(chosen),
        missing=int((~there).sum()),
        threshold=subject.threshold if OUTPUT in (x, y) else None,
        scale=subject.scale,
        event=subject.what,
    )


def _few_digits(values: NDArray[np.float64]) -> tuple[float, ...]:
    """Six digits that say something: more than any screen shows, in half the room."""
    size = np.where(values == 0, 1.0, np.abs(values))
    scale = 10.0 ** (5 - np.floor(np.log10(size)))
    return tuple(np.where(np.isfinite(scale), np.round(values * scale) / scale, values).tolist())


def _marks(subject: Subject, kept: NDArray[np.int64]) -> str:
    found = np.zeros(len(kept), np.int64)
    outcome = subject.rows.outcome_if_known
    if subject.kind.decides:
        found += 4 * subject.decisions.favoured[kept]
        if outcome is not None:
            found += 2 * (outcome[kept].astype(np.int64) != subject.decisions.taken[kept])
            found += np.asarray(outcome[kept] == subject.column if subject.classes else outcome[kept], np.int64)
    return "".join("01234567"[one] for one in found.tolist())


class _Source:
    """What is known of some of the rows, by name."""

    def __init__(self, subject: Subject, chosen: NDArray[np.int64], seed: int, work: Work):
        self.subject, self.chosen, self.seed, self.work = subject, chosen, seed, work
        self.steps: dict[str, NDArray[np.float64]] = {}

    @property
    def choices(self) -> tuple[str, ...]:
        subject = self.subject
        own = [] if subject.read_output is None else [OUTPUT]
        if subject.spec.knows_outcome:
            own += [OUTCOME, ERROR] if subject.read_output is not None else [OUTCOME]
        if subject.kind.decides:
            own += [DECISION] + ([RIGHT] if subject.spec.knows_outcome else [])
        steps = [f"{STEP}{name}" for name in subject.model.inputs] if subject.predictor is not None else []
        return (*own, *subject.partable, *steps)

    def along(self, name: str) -> tuple[Along, NDArray[np.float64]]:
        """Values along an axis, shape (chosen,), NaN where missing."""
        subject = self.subject
        if name == OUTPUT and subject.read_output is not None:
            return self._number(name, subject.event_label), subject.read_output[self.chosen]
        if name.startswith(STEP) and subject.predictor is not None:
            feature = name.removeprefix(STEP)
            return self._number(name, f"step of {words.title(feature)}"), self._steps(feature)
        if name == ERROR and subject.spec.knows_outcome:
            missed = subject.kind.missed(subject.rows.outcome, subject.predictions)
            if missed is not None:
                return self._number(name, "error"), missed[self.chosen]
        if name == OUTCOME and not subject.kind.decides:
            return self._number(name, words.title(subject.spec.outcome.name)), subject.rows.outcome[self.chosen]
        if name in subject.partable and (subject.table.is_number(name) or subject.table.is_date(name)):
            kind: Literal["number", "date"] = "date" if subject.table.is_date(name) else "number"
            along = Along(name=name, label=words.title(name), kind=kind, levels=())
            return along, subject.table.numbers(name)[subject.rows.numbers[self.chosen]]
        along, codes = self._levels(name, MOST_LEVELS)
        return along, np.where(codes < 0, np.nan, codes.astype(float))

    def parted(self, name: str) -> tuple[Along, NDArray[np.int64]]:
        """Parts that rows are told apart by: levels, or bins of a number."""
        along, values = self.along(name)
        if along.kind == "level":
            return self._levels(name, MOST_PARTS)
        known = name if name in self.subject.predictions.features.names else ""
        if known:
            labels, codes = bins_of(self.subject, known, values, MOST_PARTS)
            return along.model_copy(update={"kind": "level", "levels": tuple(label for label, _ in labels)}), codes
        edges = np.quantile(values[np.isfinite(values)], np.arange(1, MOST_PARTS) / MOST_PARTS)
        edges = np.unique(np.floor(edges) if along.kind == "date" else edges)
        codes = np.where(np.isfinite(values), np.searchsorted(edges, values, "right"), len(edges) + 1)
        told = (
            [str(np.datetime64(int(one), "D")) for one in edges]
            if along.kind == "date"
            else words.told_apart(edges.tolist())
        )
        between = [f"{a} to before {b}" if along.kind == "date" else f"{a} to {b}" for a, b in pairwise(told)]
        ends = [
            f"{'before' if along.kind == 'date' else 'under'} {told[0]}",
            *between,
            f"{told[-1]} or {'later' if along.kind == 'date' else 'more'}",
        ]
        levels = tuple(ends) + (("missing",) if (codes == len(edges) + 1).any() else ())
        return along.model_copy(update={"kind": "level", "levels": levels}), codes

    def _number(self, name: str, label: str) -> Along:
        return Along(name=name, label=label, kind="number", levels=())

    def _levels(self, name: str, most: int) -> tuple[Along, NDArray[np.int64]]:
        subject = self.subject
        rows = subject.rows.numbers[self.chosen]
        if name == DECISION and subject.kind.decides:
            taken = subject.decisions.taken[self.chosen]
            present = np.unique(taken)
            levels = tuple(subject.decisions.named(int(one)) for one in present)
            return Along(name=name, label="decision", kind="level", levels=levels), np.searchsorted(present, taken)
        if name == RIGHT and subject.kind.decides and subject.spec.knows_outcome:
            right = subject.rows.outcome[self.chosen].astype(np.int64) == subject.decisions.taken[self.chosen]
            along = Along(name=name, label="prediction", kind="level", levels=("right", "wrong"))
            return along, np.where(right, 0, 1)
        column = subject.spec.outcome.name if name == OUTCOME and subject.spec.knows_outcome else name
        if column not in subject.partable:
            raise Refused(
                f"“{name}” is nothing that rows can be laid out along here; there are {words.listing(list(self.choices[:8]))} and more.",
                todo="Choose one of these.",
            )
        if subject.table.is_number(column) or subject.table.is_date(column):
            values = subject.table.numbers(column)[rows]
            present = np.unique(values[np.isfinite(values)])
            if len(present) > most:
                raise Refused(f"“{name}” has {words.count(len(present))} values, too many to tell rows apart by.")
            codes = np.where(np.isfinite(values), np.searchsorted(present, values), -1)
            return self._named(name, column, [subject.editor.label(column, float(one)) for one in present], codes)
        texts = subject.table.texts(column)[rows]
        filled = np.array(["missing" if one is None else one for one in texts], dtype=str)
        found, sizes = np.unique(filled, return_counts=True)
        kept = found[np.argsort(-sizes, kind="stable")][:most].tolist()
        order = [one for one in subject.spec.column(column).order if one in kept]
        levels = [*order, *sorted(one for one in kept if one not in order and one != "missing")]
        levels += ["missing"] if "missing" in kept else []
        place = {level: i for i, level in enumerate(levels)}
        codes = np.array([place.get(one, len(levels)) for one in filled.tolist()], np.int64)
        if len(found) > len(levels):
            levels.append(OTHER)
        return self._named(name, column, levels, codes)

    def _named(self, name: str, column: str, levels: list[str], codes: NDArray) -> tuple[Along, NDArray[np.int64]]:
        return Along(name=name, label=words.title(column), kind="level", levels=tuple(levels)), codes.astype(np.int64)

    def _steps(self, feature: str) -> NDArray[np.float64]:
        """Contributions of one feature to every prediction."""
        subject = self.subject
        if feature not in subject.model.inputs:
            raise Refused(
                f"“{feature}” is not a feature of the model; it has {words.listing(list(subject.model.inputs))}."
            )
        if not self.steps:
            if len(self.chosen) > MOST_SAMPLED and not cheap(subject):
                raise Refused(
                    f"On this scale contributions are sampled, which is done for up to {words.count(MOST_SAMPLED)} rows.",
                    todo="Read the output as log-odds where its sum is exact, or fewer rows.",
                )
            found = explain(subject, subject.rows.numbers[self.chosen], self.seed, self.work, most_pairs=512)
            self.steps = {name: found.values[:, j] for j, name in enumerate(found.features)}
        return self.steps[feature]


def say(result: ArrangementResult, wording: Wording, settings: ArrangementSettings) -> Reading:
    many = len(result.table_rows)
    rows = wording.row if many == 1 else wording.rows
    parts = f", told apart by {result.colour.label}" if result.colour else ""
    panels = [one.label for one in (result.wide, result.deep) if one]
    headline = f"{words.count(many)} {rows} along {result.x.label} and {result.y.label}{parts}{f', in panels by {words.listing(panels)}' if panels else ''}."
    detail = ""
    if result.rows_read < result.rows:
        detail += f"A sample of {words.count(result.rows_read)} of {words.count(result.rows)}. "
    if result.missing:
        detail += f"{words.opening(words.plural(result.missing, wording.row, wording.rows))} {'is' if result.missing == 1 else 'are'} left out because one of the two is missing. "
    return plain(headline, f"{detail}Each dot is one {wording.row}; draw around some to read them.")


def records(result: ArrangementResult) -> dict[str, list[dict[str, Any]]]:
    """The dots as records."""
    names = result.names or tuple(str(row + 1) for row in result.table_rows)
    colour = result.colour
    return {
        "dots": [
            {
                "row": names[i],
                "x": result.x.levels[int(x)] if result.x.levels else x,
                "y": result.y.levels[int(y)] if result.y.levels else y,
                "colour": colour.levels[result.colours[i]] if colour and result.colours[i] < len(colour.levels) else "",
            }
            for i, (x, y) in enumerate(zip(result.xs, result.ys, strict=True))
        ]
    }


METHOD = Method(
    name="arrangement",
    area="cases",
    title="Rows laid out",
    settings=ArrangementSettings,
    result=ArrangementResult,
    compute=arrange,
    say=say,
    note=(
        "Every row of the context (a seeded sample of more than 100,000) by its own values: columns, output, error (the "
        "probability withheld from what happened; of a number the prediction less what happened), what happened, the "
        "decision, or the contribution of a feature. Levels and bins stand beside each other, rows within them spread at "
        "random so that they can be told apart. Shares of a selection are counted from its rows; no weights are used."
    ),
    main="dots",
    arrays=records,
    part="arrangement",
    needs=frozenset({"predictions"}),
    first_look={"rows": 4_000},
)
