"""What the script of a candidate calls."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

from zerotilt.core.candidates.recipe import Recipe
from zerotilt.core.candidates.validated import FoldMeasured
from zerotilt.core.meaning import Spec
from zerotilt.core.subject import Subject
from zerotilt.core.table import Table
from zerotilt.core.work import Work
from zerotilt.train.fitting import fit, folds_of


def train_again(table: str | Path, model: str | Path, recipe: str, meaning: str) -> None:
    """Train a recipe on a Parquet table, and write the model.

    Raises
    ------
    Refused : as for :func:`zerotilt.train.fitting.train`.
    """
    with open(table, "rb") as source:
        made = fit(Spec.model_validate_json(meaning), Table(source), Recipe.model_validate_json(recipe), Work())
    Path(model).write_bytes(made.data)


def trainable(subject: Subject) -> Subject:
    """A subject whose version can be trained again without some columns, where its file says from which recipe it was made."""
    predictor = subject.predictor
    made = predictor.card.made if predictor is not None and predictor.card is not None else None
    if made is None or not made.recipe:
        return subject
    recipe = Recipe.model_validate_json(made.recipe)
    return replace(subject, again=_again(subject.spec, subject.table, recipe), alike=subject)


def _again(spec: Spec, table: Table, recipe: Recipe) -> Callable[[tuple[str, ...], Work], tuple[FoldMeasured, ...]]:
    def again(left_out: tuple[str, ...], work: Work) -> tuple[FoldMeasured, ...]:
        return folds_of(spec, table, recipe.model_copy(update={"left_out": (*recipe.left_out, *left_out)}), work)

    return again
