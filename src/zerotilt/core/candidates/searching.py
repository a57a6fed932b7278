"""A search for settings: drawn at random within ranges, and tried on ever more rows while fewer are left."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import NamedTuple

import numpy as np
from pydantic import Field, model_validator

from zerotilt.core import words
from zerotilt.core.candidates.recipe import EstimatorName, Recipe
from zerotilt.core.frozen import Frozen

BRACKET = 9
"""Recipes that are begun together."""
KEPT = 3
"""Of how many one goes on, on as many times more rows."""
Range = tuple[float, float]


class Search(Frozen):
    """What is searched, within which ranges, and for how long."""

    estimators: tuple[EstimatorName, ...] = Field(
        default=("linear", "boosted trees", "forest", "extra trees"), min_length=1, max_length=8
    )
    seconds: int = Field(default=60, ge=5, le=24 * 3600, description="No new try is begun after so long")
    most: int = Field(default=900, ge=1, le=10_000, description="Recipes that are tried at most")
    trees: Range = (50, 400)
    depth: Range = (2, 12)
    leaf: Range = (2, 100)
    rate: Range = (0.02, 0.3)
    penalty: Range = (0.01, 100)
    neighbours: Range = (5, 200)
    units: Range = (4, 64)
    seed: int = Field(default=7, ge=0, le=2**31 - 1)

    @model_validator(mode="after")
    def _from_small_to_large(self):
        for name in RANGES:
            low, high = getattr(self, name)
            if not 0 < low <= high:
                raise ValueError(f"{name}: a range goes from a number over 0 to one that is no smaller")
            Recipe.model_validate({"estimator": "linear", name: WHOLE.get(name, float)(low)})
            Recipe.model_validate({"estimator": "linear", name: WHOLE.get(name, float)(high)})
        return self


RANGES = ("trees", "depth", "leaf", "rate", "penalty", "neighbours", "units")
WHOLE = {name: int for name in ("trees", "depth", "leaf", "neighbours", "units")}
OF: dict[EstimatorName, tuple[str, ...]] = {
    "linear": ("penalty",),
    "one tree": ("depth", "leaf"),
    "forest": ("trees", "depth", "leaf"),
    "extra trees": ("trees", "depth", "leaf"),
    "boosted trees": ("trees", "depth", "leaf", "rate"),
    "naive Bayes": (),
    "nearest neighbours": ("neighbours",),
    "small network": ("units", "penalty"),
}
"""The settings that an estimator has, of those that are searched."""


class Try(Frozen):
    """A recipe on a share of the rows."""

    recipe: Recipe
    share: float
    value: float | None = Field(description="Mean of the metric over folds; null where it is not defined")
    seconds: float


class Searched(Frozen):
    metric: str
    tries: tuple[Try, ...]
    best: Recipe | None = Field(description="Best of those that were tried on all rows, or else on most of them")
    recipes: int = Field(description="How many different ones were tried")
    ended: str = Field(description="Why no more were tried")


class Rung(NamedTuple):
    recipe: Recipe
    value: float


def drawn(search: Search, base: Recipe, rng: np.random.Generator) -> Recipe:
    """A recipe whose settings are drawn evenly on the scale of their logarithm, all else as in ``base``."""
    name = search.estimators[int(rng.integers(len(search.estimators)))]
    settings = {}
    for one in OF[name]:
        low, high = getattr(search, one)
        value = float(np.exp(rng.uniform(np.log(low), np.log(high))))
        # rounded, so that a recipe can be read and typed again
        settings[one] = round(value) if one in WHOLE else float(f"{value:.3g}")
    return base.model_copy(update={"estimator": name, **settings})


def halved(
    search: Search,
    base: Recipe,
    metric: str,
    worth: Callable[[Recipe, float], tuple[float, float] | None],
    better: Callable[[float], float],
    more: Callable[[int], str],
) -> Searched:
    """Successive halving (Jamieson & Talwalkar 2016), bracket after bracket.

    Nine recipes are tried on a ninth of the rows, the best three of them on a third, the best of these on all; then the next
    nine begin.

    Parameters
    ----------
    worth : the mean of the metric of a recipe on a share of the rows, and the seconds it took; None where time ran out in it.
    better : a value so that more is better. more : why no more recipe may be begun, given how many were; empty while one may.
    """
    rng = np.random.default_rng(search.seed)
    tries: list[Try] = []
    seen: set[Recipe] = set()
    ended = ""
    while not ended:
        fresh = _fresh(search, base, rng, seen)
        if not fresh:
            ended = "every recipe within the ranges was tried"
            break
        share = 1 / KEPT**2
        while fresh:
            rungs: list[Rung] = []
            for recipe in fresh:
                ended = ended if recipe in seen else more(len(seen))
                if ended and recipe not in seen:
                    break  # those that were begun go on
                found = worth(recipe, share)
                if found is None:
                    return _ended(metric, tries, seen, better, "the time was over")
                seen.add(recipe)
                value = found[0] if np.isfinite(found[0]) else None
                tries.append(Try(recipe=recipe, share=share, value=value, seconds=found[1]))
                if value is not None:
                    rungs.append(Rung(recipe, value))
            if share == 1 or not rungs:
                break
            rungs.sort(key=lambda one: -better(one.value))
            fresh = [one.recipe for one in rungs[: max(len(fresh) // KEPT, 1)]]
            share = min(share * KEPT, 1.0)
    return _ended(metric, tries, seen, better, ended)


def _ended(
    metric: str, tries: Sequence[Try], seen: set[Recipe], better: Callable[[float], float], why: str
) -> Searched:
    return Searched(metric=metric, tries=tuple(tries), best=_best(tries, better), recipes=len(seen), ended=why)


def _fresh(search: Search, base: Recipe, rng: np.random.Generator, seen: set[Recipe]) -> list[Recipe]:
    found: dict[Recipe, None] = {}
    for _ in range(BRACKET * 20):
        one = drawn(search, base, rng)
        if one not in seen:
            found[one] = None
        if len(found) == BRACKET:
            break
    return list(found)


def _best(tries: Sequence[Try], better: Callable[[float], float]) -> Recipe | None:
    known = [one for one in tries if one.value is not None]
    most = max((one.share for one in known), default=0.0)
    final = [one for one in known if one.share == most]
    return max(final, key=lambda one: better(one.value or 0.0)).recipe if final else None


def say(found: Searched) -> str:
    """What was tried, and why it ended."""
    whole = sum(one.share == 1 for one in found.tries)
    head = (
        f"{words.opening(words.plural(found.recipes, 'recipe'))} {'was' if found.recipes == 1 else 'were'} tried, "
        f"{words.count(whole)} of them on all rows; {found.ended}."
    )
    if found.best is None:
        return f"{head} None was worth anything that could be measured."
    return f"{head} The best of so many looks better on these folds than it is: confirm it on the rows put aside."
