"""Every estimator that can be trained here, and the steps before it."""

from __future__ import annotations

from typing import Any

import numpy as np
from sklearn import ensemble, linear_model, naive_bayes, neighbors, neural_network, tree
from sklearn.compose import ColumnTransformer
from sklearn.impute import SimpleImputer
from sklearn.pipeline import Pipeline, make_pipeline
from sklearn.preprocessing import OneHotEncoder, StandardScaler

from zerotilt.core.candidates.recipe import Recipe
from zerotilt.core.refusal import Refused

SCALED = frozenset({"linear", "nearest neighbours", "small network"})
"""What measures distances or sums, and so takes numbers in their standard deviations."""
BELOW = np.float32(-1e30)
"""Stands for a missing number that is to stand apart, below all others."""


def steps(recipe: Recipe, numbers: list[int], texts: list[int], levels: list[list[str]], classed: bool) -> Pipeline:
    """The steps of a recipe, not fitted.

    Parameters
    ----------
    numbers, texts : places of the columns of each kind. levels : of every column of texts the levels that have a column of
        their own.

    Raises
    ------
    Refused : the estimator is not for what is predicted, or numbers cannot stand apart for it.
    """
    scaled = recipe.estimator in SCALED
    if scaled and recipe.missing == "apart":
        raise Refused(
            f"missing: for a {recipe.called} a missing number cannot stand below all others, which would drown them.",
            todo="Take missing numbers as typical, or train trees.",
        )
    fill = (
        SimpleImputer(strategy="constant", fill_value=BELOW)
        if recipe.missing == "apart"
        else SimpleImputer(strategy="median")
    )
    parts: list[Any] = []
    if numbers:
        parts.append(("numbers", make_pipeline(fill, StandardScaler()) if scaled else fill, numbers))
    if texts:
        # a level that is not named falls to none of the columns: rare ones and unseen ones are taken as one
        encode = OneHotEncoder(
            categories=[np.array(one, dtype=object) for one in levels], handle_unknown="ignore", sparse_output=False
        )
        parts.append(("levels", encode, texts))
    return make_pipeline(ColumnTransformer(parts), estimator(recipe, classed))


def estimator(recipe: Recipe, classed: bool) -> Any:
    """The estimator alone, for classes or for a number."""
    r = recipe
    weights = "balanced" if r.balanced else None
    # what is not said is the estimator's own
    tried = {} if r.split is None else {"max_features": r.split}
    trees = {"n_estimators": r.trees, "max_depth": r.depth, "min_samples_leaf": r.leaf, "random_state": r.seed} | tried
    if r.estimator == "naive Bayes" and not classed:
        raise Refused("estimator: naive Bayes tells classes, and a number is predicted.", todo="Choose another.")
    if not classed:
        made: dict[str, Any] = {
            "linear": lambda: linear_model.Ridge(alpha=r.penalty),
            "one tree": lambda: tree.DecisionTreeRegressor(
                max_depth=r.depth or 6, min_samples_leaf=r.leaf, random_state=r.seed, **tried
            ),
            "forest": lambda: ensemble.RandomForestRegressor(**trees),
            "extra trees": lambda: ensemble.ExtraTreesRegressor(**trees),
            "boosted trees": lambda: ensemble.GradientBoostingRegressor(
                **{"max_features": 0.5} | trees | {"max_depth": r.depth or 3}, learning_rate=r.rate, subsample=0.8
            ),
            "nearest neighbours": lambda: neighbors.KNeighborsRegressor(n_neighbors=r.neighbours),
            "small network": lambda: neural_network.MLPRegressor(
                hidden_layer_sizes=(r.units,), alpha=r.penalty, max_iter=300, early_stopping=True, random_state=r.seed
            ),
        }
        return made[r.estimator]()
    made = {
        "linear": lambda: linear_model.LogisticRegression(C=1 / r.penalty, max_iter=2_000, class_weight=weights),
        "one tree": lambda: tree.DecisionTreeClassifier(
            max_depth=r.depth or 6, min_samples_leaf=r.leaf, random_state=r.seed, class_weight=weights, **tried
        ),
        "forest": lambda: ensemble.RandomForestClassifier(**trees, class_weight=weights),
        "extra trees": lambda: ensemble.ExtraTreesClassifier(**trees, class_weight=weights),
        "boosted trees": lambda: ensemble.GradientBoostingClassifier(
            **{"max_features": 0.5} | trees | {"max_depth": r.depth or 3}, learning_rate=r.rate, subsample=0.8
        ),
        "naive Bayes": lambda: naive_bayes.GaussianNB(),
        "nearest neighbours": lambda: neighbors.KNeighborsClassifier(n_neighbors=r.neighbours),
        "small network": lambda: neural_network.MLPClassifier(
            hidden_layer_sizes=(r.units,), alpha=r.penalty, max_iter=300, early_stopping=True, random_state=r.seed
        ),
    }
    return made[r.estimator]()


UNWEIGHED = frozenset({"nearest neighbours", "small network"})
"""What takes no row weights."""
BY_WEIGHT = frozenset({"boosted trees", "naive Bayes"})
"""What is balanced by row weights, having no class weights of its own."""
