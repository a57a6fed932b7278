"""What a model that is a sum gives away: exact values against a context, what they cost, and what to do ahead."""

from __future__ import annotations

import numpy as np

from zerotilt.core import words
from zerotilt.core.contributions import exact
from zerotilt.core.contributions.exact import Explainer
from zerotilt.core.contributions.game import Background, background
from zerotilt.core.contributions.sampled import KnownSums
from zerotilt.core.predictors import Frame
from zerotilt.core.predictors.structure import Structure
from zerotilt.core.subject import Subject
from zerotilt.core.trees.table_plan import DESCENT_SECONDS
from zerotilt.core.work import Work

CHEAP_SECONDS, READY_SECONDS = 2.0, 0.5
"""Up to here many rows are explained; up to here a structure is met with a context before anybody asks."""
MOST_SUMS, SUM_SECONDS = 4, 6.0
"""Sums known beside the output that is sampled; above, that of its own class alone. And how long they may take."""
STEADIED = 5
"""Times as many rows as are sampled without knowing more, where the exact values of a sum steady them …"""
STEADIED_FEATURES = 40
"""… in models of up to so many features; with more, every walk takes longer."""
DEEP_BACKGROUND, DEEP_SECONDS = 1_000, 6.0
"""Background rows for trees too deep for tables, where all of the context's would take longer than so many seconds."""
ADDITIVITY = 1e-6
"""Largest gap, as a share of the output's range, before an exact method is not believed."""


def known_sums(
    subject: Subject, cases: Frame, whole: Background, work: Work, of_context: bool = False
) -> KnownSums | None:
    """Exact contributions to the sums that the output is a link of; None where there are none, or they would take long."""
    structure = subject.predictions.structure[0]
    if structure is None or subject.model.divide is not None:
        return None
    if subject.model.structure_for(cases, whole.frame) is None:
        return None
    columns = _sums_of(structure, subject.column)
    ways = exact.outlook(structure, cases.rows, whole.rows)
    if ways.seconds * len(columns) > SUM_SECONDS:
        return None
    values = np.empty((cases.rows, len(cases.names), len(columns)))
    for place, column in enumerate(columns):
        explainer = _met_with_context(subject, structure, column) if of_context else None
        if explainer is None:
            explainer = exact.prepare(structure, column, whole, Work(executor=work.executor), ways.by_table)
        found, _ = exact.explain_rows(explainer, cases, Work(executor=work.executor))
        if np.abs(found[:, -1]).max(initial=0.0) > ADDITIVITY * max(float(np.abs(found).max(initial=0.0)), 1e-12):
            return None
        values[:, :, place] = found[:, :-1]
    return KnownSums(values, columns)


def make_ready(subject: Subject) -> None:
    """Meet the model's structure with the rows of the context, where that takes no time: every case explained needs it."""
    structure = subject.predictions.structure[0] if subject.model.divide is None else None
    if structure is None or subject.model.structure_for(subject.frame) is None:
        return
    exactly = usable(subject)[0] is not None
    if not exactly:
        structure.of_frame(subject.frame)
        _ = structure.words
    for column in [subject.column] if exactly else _sums_of(structure, subject.column):
        _met_with_context(subject, structure, column)


def _sums_of(structure: Structure, column: int) -> list[int]:
    """Which of a model's sums are known beside the output that is sampled."""
    k = len(structure.base)
    return list(range(k)) if k <= MOST_SUMS else [column]


def _met_with_context(subject: Subject, structure: Structure, column: int) -> Explainer | None:
    """The structure met with all rows of the context, made once for them; None where that takes long."""
    made: dict[int, Explainer] = vars(subject.predictions).setdefault("_met", {})
    if column not in made:
        found = exact.outlook(structure, np.inf, subject.n)
        if len(found.deep) or found.seconds > READY_SECONDS:
            return None
        reference = background(subject.frame, subject.rows.weights)
        made[column] = exact.prepare(structure, column, reference, None, found.by_table)
    return made[column]


def usable(subject: Subject) -> tuple[Structure | None, str]:
    """The model's structure where it is a sum on the scale that is read, else why it is not."""
    if subject.model.divide is not None:
        return None, "what is explained is not its columns"
    structure, why = subject.predictions.structure
    if structure is None:
        return None, why
    wanted = "log-odds" if subject.scale == "log-odds" else "identity"
    if structure.link == wanted:
        if subject.model.structure_for(subject.frame) is None:
            return None, "its sum is not its own output in some of the rows compared with"
        return structure, ""
    kind = "trees add up" if structure.trees is not None else "terms add up"
    here = {
        "identity": f"in {'value' if subject.scale == 'value' else 'probability'}",
        "log-odds": "in log-odds",
        "logarithm": "in the logarithm",
    }
    return None, f"its {kind} {here[structure.link]}, not {here[wanted]}"


def exact_explainer(
    subject: Subject, seed: int, work: Work, reference: Background | None = None, cases: float = np.inf
) -> tuple[Explainer | None, str]:
    """The exact method for this model and scale, ready for any rows, with why it applies; or None with why none does.

    ``cases``: how many rows will be explained, about. Trees too deep for tables
    are met with a seeded sample of the context's rows where all of them would
    take long, unless a ``reference`` was given.
    """
    structure, reason = usable(subject)
    if structure is None:
        return None, reason
    if reference is not None and subject.model.structure_for(reference.frame) is None:
        return None, "its sum is not its own output in some of the rows compared with"
    if reference is None and (ready := _met_with_context(subject, structure, subject.column)) is not None:
        return ready, _exactly(structure)
    whole = subject.n if reference is None else reference.rows
    found = exact.outlook(structure, cases, whole)
    costly = len(found.deep) and min(cases, 1e9) * whole * len(found.deep) * DESCENT_SECONDS > DEEP_SECONDS
    against = reference or background(subject.frame, subject.rows.weights, DEEP_BACKGROUND if costly else None, seed)
    explainer = exact.prepare(structure, subject.column, against, work, found.by_table)
    why = _exactly(structure)
    if structure.trees is not None and against.rows < subject.n and reference is None:
        why = (
            f"The model's {words.plural(len(structure.trees.roots), 'tree')} add up on this scale; the values are "
            f"exact against a seeded sample of {words.count(against.rows)} of the {words.count(subject.n)} rows, since "
            f"{words.plural(len(found.deep), 'tree')} {'is' if len(found.deep) == 1 else 'are'} too deep for tables."
        )
    return explainer, why


def _exactly(structure: Structure) -> str:
    if structure.trees is None:
        return "The model is linear on this scale; the values are exact."
    return f"The model's {words.plural(len(structure.trees.roots), 'tree')} add up on this scale; the values are exact."


def cheap(subject: Subject) -> bool:
    """Whether many rows cost next to nothing: the model is a sum on this scale and none of its trees is deep."""
    structure = usable(subject)[0]
    if structure is None:
        return False
    return _from_tables(structure, subject.n)


def affordable(subject: Subject, exact_rows: int, sampled: int) -> int:
    """How many rows to explain: many where that is exact and cheap, few where it is sampled, more where a sum steadies it."""
    if cheap(subject):
        return exact_rows
    structure = subject.predictions.structure[0] if subject.model.divide is None else None
    if structure is not None and usable(subject)[0] is None and _from_tables(structure, subject.n):
        features = max(len(subject.model.inputs), 1)
        return round(sampled * float(np.clip(STEADIED * STEADIED_FEATURES / features, 1, STEADIED)))
    return sampled


def _from_tables(structure: Structure, background: int) -> bool:
    found = exact.outlook(structure, np.inf, background)
    return not len(found.deep) and found.seconds <= CHEAP_SECONDS
