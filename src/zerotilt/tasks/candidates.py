"""The candidates of an audit beside each other, from its records."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import count
from typing import Any

from zerotilt.core.candidates.recipe import Recipe
from zerotilt.core.candidates.standing import Standing, stand
from zerotilt.core.candidates.validated import Validated
from zerotilt.core.meaning import Spec
from zerotilt.store.records import ACTIVE, Audit, Candidate, ModelVersion, TableFile, Task
from zerotilt.tasks.board import Board, named


def of_table(audit: Audit, table: TableFile, spec: Spec) -> list[Candidate]:
    """Candidates of a table and its meaning, the oldest first."""
    every = audit.candidates.select(Candidate, ModelVersion).join(ModelVersion).order_by(Candidate.created)
    return [one for one in every if one.table_digest == table.digest and one.meaning == spec.digest()]


def free_names(audit: Audit, recipes: Sequence[Recipe]) -> list[str]:
    """A name for each recipe that no version of the audit has, nor one that is being trained."""
    taken = {one.name for one in audit.models.select(ModelVersion.name)}
    taken |= {task.payload["name"] for task in audit.tasks.where((Task.kind == "train") & (Task.state << ACTIVE))}
    found = []
    for recipe in recipes:
        number = next(number for number in count(1) if f"{recipe.called} {number}" not in taken)
        found.append(f"{recipe.called} {number}")
        taken.add(found[-1])
    return found


def ask_to_train(board: Board, audit: Audit, name: str, payload: dict[str, Any]) -> Task:
    """A candidate's training; the one under way where the same recipe is trained on the same table already, by whatever
    name."""
    same = {what: payload[what] for what in ("spec", "table_digest", "recipe", "parent")}
    return board.submit("train", f"Training {name}", payload | {"name": name}, audit, named("train", audit, same))


def standing(audit: Audit, table: TableFile, spec: Spec, **how: str) -> tuple[list[Candidate], Standing]:
    """The candidates that were validated on the same folds as the newest, and how they stand; ``how`` as for
    :func:`~zerotilt.core.candidates.standing.stand`.

    Raises
    ------
    Refused : the metric was not measured.
    """
    here = of_table(audit, table, spec)
    dealing = here[-1].recipe["dealing"] if here else None
    same = [one for one in here if one.recipe["dealing"] == dealing]
    told = [
        (one.model.name, Recipe.model_validate(one.recipe), Validated.model_validate(one.validated)) for one in same
    ]
    return same, stand(spec, told, **how)
