"""Two versions held against each other by how they were made, line by line."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from pydantic import Field

from zerotilt.core import words
from zerotilt.core.candidates.recipe import Recipe
from zerotilt.core.frozen import Frozen
from zerotilt.core.predictors.made import Made


class RecipeLine(Frozen):
    """One thing about how two versions were made; empty where a version's file does not say."""

    what: str
    here: str
    there: str
    same: bool = Field(description="Whether both say the same")


NAMES = {
    "trees": "trees",
    "depth": "depth at most",
    "leaf": "rows of a leaf at least",
    "rate": "learning rate",
    "split": "share of columns tried at a split",
    "penalty": "penalty",
    "neighbours": "neighbours",
    "units": "units of the network",
    "balanced": "classes weigh alike",
    "rare": "levels under so many rows are one",
    "missing": "missing numbers",
    "seed": "seed",
}
"""Settings of a recipe, as they stand on a line."""


def facts_of(recipe: Recipe | None, made: Made | None, table_digest: str, inputs: list[str]) -> dict[str, str]:
    """What is known of how a version was made, by what it is about."""
    found: dict[str, str] = {}
    if recipe is not None:
        found["estimator"] = recipe.called
        found["table"] = table_digest
        found |= {said: _text(getattr(recipe, name)) for name, said in NAMES.items()}
        for place, one in enumerate(recipe.remedies, 1):
            found[f"remedy {place}"] = one
        dealing = recipe.dealing
        found["folds"] = str(dealing.folds)
        found["put aside"] = words.percent(dealing.test_share)
        found["kept together by"] = words.title(dealing.together) or "nothing"
        found["in the order of"] = words.title(dealing.in_time) or "nothing"
        found["seed of the folds"] = str(dealing.seed)
    found["takes"] = words.listing([words.title(one) for one in sorted(inputs)])
    if made is not None:
        found.setdefault("estimator", made.estimator)
        found |= {f"library {name}": version for name, version in made.libraries.items()}
        if recipe is None:
            found |= {f"setting {name}": value for name, value in made.parameters.items()}
        if made.commit:
            found["git commit"] = made.commit + (" and changes that were not committed" if made.changed else "")
    return found


def lines_of(here: Mapping[str, str], there: Mapping[str, str]) -> tuple[RecipeLine, ...]:
    """Every line of two versions, those that differ first, each in the order in which recipes say them."""
    names = list(dict.fromkeys([*here, *there]))
    every = [
        RecipeLine(
            what=name, here=here.get(name, ""), there=there.get(name, ""), same=here.get(name) == there.get(name)
        )
        for name in names
    ]
    return tuple(sorted(every, key=lambda one: one.same))


def _text(value: Any) -> str:
    return (
        {None: "its own", True: "yes", False: "no"}[value] if value is None or isinstance(value, bool) else str(value)
    )
