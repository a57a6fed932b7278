"""What the script of a candidate calls."""

from __future__ import annotations

from pathlib import Path

from zerotilt.core.candidates.recipe import Recipe
from zerotilt.core.meaning import Spec
from zerotilt.core.table import Table
from zerotilt.core.work import Work
from zerotilt.train.fitting import fit


def train_again(table: str | Path, model: str | Path, recipe: str, meaning: str) -> None:
    """Train a recipe on a Parquet table, and write the model.

    Raises
    ------
    Refused : as for :func:`zerotilt.train.fitting.train`.
    """
    with open(table, "rb") as source:
        made = fit(Spec.model_validate_json(meaning), Table(source), Recipe.model_validate_json(recipe), Work())
    Path(model).write_bytes(made.data)
