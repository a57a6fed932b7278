"""One entry for contributions: it chooses the method that applies, says which and why, and can be overruled."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from zerotilt.core import words
from zerotilt.core.contributions.enumeration import MOST_PLAYERS, enumerate_coalitions
from zerotilt.core.contributions.sampled import sample_permutations
from zerotilt.core.predictors import Frame
from zerotilt.core.refusal import Refused
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

MethodChoice = Literal["auto", "enumeration", "sampled"]
ENUMERATION_EVALUATIONS = 400_000
LEAST_BACKGROUND = 100


@dataclass(frozen=True)
class Contributions:
    """Contributions of features to the output of some rows, in the order of ``features``."""

    features: tuple[str, ...]
    values: NDArray[np.float64]
    errors: NDArray[np.float64] | None
    output: NDArray[np.float64]
    baseline: float
    background: int
    method: Literal["enumeration", "sampled"]
    why: str
    evaluations: int
    settled: bool
    """Whether every standard error came under the tolerance."""


def explain(
    subject: Subject,
    rows: NDArray[np.int64],
    seed: int,
    work: Work,
    method: MethodChoice = "auto",
    tolerance: float = 0.01,
    most_pairs: int = 1_024,
    evaluations: int = ENUMERATION_EVALUATIONS,
) -> Contributions:
    """Shapley values of table rows ``rows`` against the rows of the context.

    Enumeration is used for up to 12 features where it fits the number of
    ``evaluations``; otherwise paired permutations until the largest standard
    error is under ``tolerance`` times the standard deviation of the output.

    Raises
    ------
    Refused : no model, or a method that cannot serve so many features.
    """
    features = subject.model.inputs
    cases = subject.model.frame(subject.table, rows)
    p = len(features)
    fits = max(evaluations // (len(rows) * 2**p), 0) if p <= MOST_PLAYERS else 0
    if method == "enumeration" or (method == "auto" and fits >= min(LEAST_BACKGROUND, subject.n)):
        if p > MOST_PLAYERS:
            raise Refused(
                f"method: enumeration takes up to {MOST_PLAYERS} features, the model has {p}.",
                todo="Choose the sampled method.",
            )
        return _enumerated(subject, cases, max(fits, LEAST_BACKGROUND), seed, work)
    reason = (
        f"the model has {p} features" if p > MOST_PLAYERS else f"so many rows × 2^{p} coalitions would take too long"
    )
    return _sampled(subject, cases, reason, tolerance, most_pairs, seed, work)


def _enumerated(subject: Subject, cases: Frame, most: int, seed: int, work: Work) -> Contributions:
    p = len(cases.names)
    background = subject.frame
    if background.rows > most:
        drawn = np.sort(np.random.default_rng(seed).choice(background.rows, most, replace=False))
        background = background.take(drawn)
    values = enumerate_coalitions(subject.output, cases, background, work)
    return Contributions(
        features=cases.names,
        values=values,
        errors=None,
        output=subject.output(cases),
        baseline=float(subject.output(background).mean()),
        background=background.rows,
        method="enumeration",
        why=f"Every one of the {words.count(2**p)} coalitions of {p} features was evaluated; the values are exact.",
        evaluations=cases.rows * 2**p * background.rows,
        settled=True,
    )


def _sampled(
    subject: Subject, cases: Frame, reason: str, tolerance: float, most_pairs: int, seed: int, work: Work
) -> Contributions:
    reference = subject.output(subject.frame)
    spread = float(reference.std())
    found = sample_permutations(subject.output, cases, subject.frame, tolerance * spread, most_pairs, seed, work)
    worst = float(found.errors.max()) / spread if spread else 0.0
    return Contributions(
        features=cases.names,
        values=found.values,
        errors=found.errors,
        output=subject.output(cases),
        baseline=float(reference.mean()),
        background=subject.n,
        method="sampled",
        why=f"Paired permutations, because {reason}; the largest standard error is {worst:.1%} of the output's standard deviation.",
        evaluations=found.evaluations,
        settled=worst <= tolerance,
    )
