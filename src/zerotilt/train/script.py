"""The lines that train a candidate again, to the same predictions."""

from __future__ import annotations

from zerotilt.core.candidates.recipe import Recipe
from zerotilt.core.meaning import Spec


def script_of(recipe: Recipe, spec: Spec, table_digest: str) -> str:
    """A Python script; it takes the table's path, and where to write the model.

    Meaning and recipe stand in it as JSON, so that it needs nothing but the table.
    """
    return f'''"""Trains a {recipe.called} again from the table with SHA-256 {table_digest or "unknown"}.

python train.py TABLE.parquet MODEL.onnx
"""

import sys

from zerotilt.train.again import train_again

RECIPE = r"""{recipe.model_dump_json(exclude_defaults=True)}"""
MEANING = r"""{spec.model_dump_json()}"""

train_again(sys.argv[1], sys.argv[2], RECIPE, MEANING)
'''
