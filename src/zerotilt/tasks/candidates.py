"""The candidates of an audit beside each other, from its records."""

from __future__ import annotations

from zerotilt.core.candidates.recipe import Recipe
from zerotilt.core.candidates.standing import Standing, stand
from zerotilt.core.candidates.validated import Validated
from zerotilt.core.meaning import Spec
from zerotilt.store.records import Audit, Candidate, ModelVersion, TableFile


def of_table(audit: Audit, table: TableFile, spec: Spec) -> list[Candidate]:
    """Candidates of a table and its meaning, the oldest first."""
    every = audit.candidates.select(Candidate, ModelVersion).join(ModelVersion).order_by(Candidate.created)
    return [one for one in every if one.table_digest == table.digest and one.meaning == spec.digest()]


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
