"""What the command line asks for, as the meaning of a table."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from zerotilt.core import guess, levels, profiles, rows, typed_conditions, words
from zerotilt.core.meaning import ColumnSpec, Context, Kind, Role, Segment, Spec, Task
from zerotilt.core.refit import refit
from zerotilt.core.refusal import Refused
from zerotilt.core.table import Table
from zerotilt.core.tasks import kind_of
from zerotilt.core.work import Work
from zerotilt.settings_file import SettingsFile
from zerotilt.study_inputs import favoured, of_decisions, task_of


@dataclass(frozen=True)
class Request:
    """What the command line asks for. Exactly one of model, score and decision is given; with settings a model or none."""

    table: Path
    outcome: str | None
    event: str | None
    groups: Sequence[str]
    out: Path
    settings: SettingsFile | None = None
    """Says all that is not a file or a choice of rows."""
    model: Path | None = None
    score: str | None = None
    decision: str | None = None
    means: Sequence[str] = ()
    score_top: float = 1
    favourable: str | None = None
    threshold: float = 0.5
    ignore: Sequence[str] = ()
    weights: str | None = None
    order: Sequence[str] = ()
    """The outcome's values from the lowest to the highest, where they are ordered classes."""
    explained: int | None = None
    split: str | None = None
    where: Sequence[str] = ()
    picked: Sequence[str] = ()
    segment: str = ""
    model_inputs: Sequence[str] = ()
    model_outputs: Sequence[str] = ()
    against: Path | None = None
    """An ``audit.json`` that this one is held against."""
    grown_by: float | None = None
    inputs: Mapping[str, Path] = field(default_factory=dict)
    """Files that some methods read besides table and model, by the names of their inputs."""
    junit: Path | None = None


def meaning(request: Request, cases: Table, work: Work) -> tuple[Spec, Context, tuple[str, ...]]:
    """What is audited and which of its rows; and what of the settings did not fit.

    Raises
    ------
    Refused : a column, level or row that was named is not there, or contradicts another.
    """
    if request.settings is None:
        spec = _spec(request, cases, work)
        return spec, Context(rows="hold-out" if request.split else "all", segment=_part(request, spec, cases)), ()
    profile = profiles.profile(cases, work)
    columns = guess.guess_columns(profile)
    guessed = Spec.model_validate({"columns": columns, **guess.guess_problem(profile, columns)})
    spec, unfit = refit(request.settings.spec, profile, guessed)
    _event_there(request.settings.spec, spec, cases)
    rows.known(spec, cases)  # refuses an outcome that cannot be used
    how = request.settings.reading
    part = _part(request, spec, cases)
    # where predictions were recorded and nothing splits them, no row is held out
    rows_read = "all" if request.model is None and rows.nothing_trained(spec) else how.rows
    context = Context(rows=rows_read, segment=part, output=how.output, read_class=how.read_class, rule=how.rule)
    return spec, context, unfit


def _event_there(wanted: Spec, spec: Spec, cases: Table) -> None:
    """In pages somebody is asked what the event is; here nobody is, and another one would be another audit."""
    if not (wanted.event and wanted.task is Task.binary and wanted.knows_outcome and wanted.target_name in cases.names):
        return
    found = [level for level in dict.fromkeys(cases.texts(wanted.target_name)) if level is not None]
    if levels.match_level(wanted.event, found) is None:
        raise Refused(
            f"The settings name “{wanted.event}” as the event, which this column does not hold; it holds {levels.listed(sorted(found))}.",
            where=f"column “{wanted.target_name}”",
            todo="Name one of its values as the event in the settings, or give the table that they were made for.",
        )


def _part(request: Request, spec: Spec, cases: Table) -> Segment | None:
    if not (request.where or request.picked or request.segment):
        return None
    return typed_conditions.asked_for(request.where, request.picked, request.segment, cases.names, spec.segments)


def _spec(request: Request, cases: Table, work: Work) -> Spec:
    """What the command line said, and guesses for the rest. Roles nobody asked for are not guessed."""
    references = dict(_group(given, cases.names) for given in request.groups)
    split, _, held = (request.split or "").rpartition(":") if ":" in (request.split or "") else (request.split, "", "")
    named = {
        **({request.outcome: Role.outcome} if request.outcome else {}),
        **{name: Role.group for name in references},
        **{name: Role.ignored for name in request.ignore},
    }
    asked = {request.outcome: "outcome"} if request.outcome else {}
    others = {
        request.score: Role.score,
        request.decision: Role.decision,
        split: Role.split,
        request.weights: Role.weight,
    }
    for name, role in others.items():
        if name and name in asked:
            raise Refused(
                f"“{name}” was given as {asked[name]} and as {role.value}; a column can be one of them.",
                where=f"column “{name}”",
                todo="Give another column, or leave one of them out.",
            )
        if name:
            asked[name] = role.value
            named[name] = role
    for name in named:
        if name not in cases.names:
            raise Refused(
                f"The table has no column “{name}”; it has {', '.join(cases.names[:20])}.",
                where=f"column “{name}”",
                todo="Check the spelling.",
            )
    if request.outcome in references:
        raise Refused("The outcome cannot be a group as well.", where=f"column “{request.outcome}”")
    columns = []
    for found in guess.guess_columns(profiles.profile(cases, work)):
        role = named.get(found.name)
        if found.kind is Kind.bytes and role not in (None, Role.ignored):
            raise Refused(
                f"It holds bytes, which are kept and passed by; it cannot be the {role.value}.",
                where=f"column “{found.name}”",
                todo="Name another column.",
            )
        if role is None:
            plain = found.role in (Role.feature, Role.group, Role.outcome, Role.weight, Role.score, Role.decision)
            role = Role.feature if plain and found.kind is not Kind.text else found.role
            role = Role.ignored if role is Role.split else role
        order = tuple(request.order) if found.name == request.outcome and request.order else found.order
        columns.append(
            ColumnSpec(name=found.name, kind=found.kind, role=role, order=order, reference=references.get(found.name))
        )
    task, said = _problem(request, cases)
    spec = Spec(
        columns=tuple(columns),
        task=task,
        event=said,
        threshold=request.threshold,
        decision_means=_means(request.means),
        score_top=request.score_top,
    )
    if task is Task.binary:
        known = levels.predicted_levels(spec, cases)
        spec = spec.model_copy(update={"event": levels.match_level(said, known) or said})
    rows.known(spec, cases)  # refuses an outcome that cannot be used
    for name, reference in references.items():
        found = [str(level) for level in cases.coded(name)[0]]
        if reference is not None and reference not in found and not cases.is_number(name):
            raise Refused(
                f"The reference group “{reference}” has no rows; the groups are {words.listing(found[:8])}.",
                where=f"column “{name}”",
                todo="Name one of these groups.",
            )
    if split:
        values = sorted({value for value in cases.texts(split) if value is not None})
        held_out, training = (
            ((held,), tuple(v for v in values if v != held)) if held else guess.split_values(values, split)
        )
        if not held_out:
            raise Refused(
                f"Which of its values are held-out rows cannot be told; it holds {levels.listed(values)}.",
                where=f"column “{split}”",
                todo=f"Say it: --split {split}:VALUE.",
            )
        spec = spec.model_copy(update={"holdout_values": held_out, "training_values": training})
    spec = favoured(spec, cases, [] if request.favourable is None else [request.favourable])
    if (unsaid := kind_of(spec.task).unfavoured(spec)) is not None:
        raise unsaid
    return spec


def _problem(request: Request, cases: Table) -> tuple[Task, str]:
    """What is predicted, and the event, as far as there is one."""
    event = request.event
    if request.outcome is not None or event is not None or request.decision is None:
        return task_of(cases, request.outcome, event, None, request.order), event or ""
    return of_decisions(cases, request.decision, request.favourable or "", "--favourable")


def _group(given: str, names: list[str]) -> tuple[str, str | None]:
    """COLUMN or COLUMN:REFERENCE; a column whose own name holds a colon is tried first."""
    if given in names or ":" not in given:
        return given, None
    parts = given.split(":")
    for cut in range(len(parts) - 1, 0, -1):
        if ":".join(parts[:cut]) in names:
            return ":".join(parts[:cut]), ":".join(parts[cut:])
    return parts[0], ":".join(parts[1:])


def _means(given: Sequence[str]) -> dict[str, str]:
    """DECISION=VALUE, as often as there are decisions in words of their own."""
    found = {}
    for one in given:
        decision, sign, value = one.partition("=")
        if not sign:
            raise Refused(f"--means: “{one}” was given; it is written as DECISION=VALUE.")
        found[decision.strip()] = value.strip()
    return found
