"""One entry for contributions: it chooses the method that applies, says which and why, and can be overruled."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from zerotilt.core import words
from zerotilt.core.contributions import exact
from zerotilt.core.contributions.enumeration import MOST_PLAYERS, enumerate_against_sample, enumerate_coalitions
from zerotilt.core.contributions.exact import Explainer
from zerotilt.core.contributions.game import Background, background
from zerotilt.core.contributions.least_squares import fit_coalitions
from zerotilt.core.contributions.sampled import Sampled, sample_permutations
from zerotilt.core.contributions.sums_met import ADDITIVITY, exact_explainer, known_sums, usable
from zerotilt.core.links import linked
from zerotilt.core.output import settled
from zerotilt.core.players import players_of
from zerotilt.core.predictors import Frame
from zerotilt.core.refusal import Refused
from zerotilt.core.stats import weighing
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

ShapleyMethod = Literal["linear", "trees", "enumeration", "sampled", "least squares", "hierarchy"]
MethodChoice = Literal["auto", "linear", "trees", "enumeration", "sampled", "least squares", "hierarchy"]
ENUMERATION_EVALUATIONS = 400_000
LEAST_BACKGROUND = 100
LINKED_FROM = 0.5
"""Association from which columns belong together in a hierarchy that nobody gave."""


@dataclass(frozen=True)
class Contributions:
    """Contributions of features to one output of some rows, in the order of ``features``.

    ``values`` (rows, p); ``errors`` the same, zero where a row's values are exact,
    or None where all are; ``output`` (rows,) is the model's own, the baseline and
    the row's contributions together.
    """

    features: tuple[str, ...]
    values: NDArray[np.float64]
    errors: NDArray[np.float64] | None
    output: NDArray[np.float64]
    baseline: float
    background: int
    method: ShapleyMethod
    why: str
    evaluations: int
    settled: bool
    """Whether every standard error came under the tolerance."""

    @property
    def gap(self) -> float:
        """Largest |baseline + Σ contributions − output| over the rows; nothing, where it is but rounding."""
        off = np.abs(self.baseline + self.values.sum(axis=1) - self.output).max(initial=0.0)
        return settled(float(off), float(np.abs(self.output).max(initial=abs(self.baseline))))


def explain(
    subject: Subject,
    rows: NDArray[np.int64] | Frame,
    seed: int,
    work: Work,
    method: MethodChoice = "auto",
    tolerance: float = 0.01,
    most_pairs: int = 1_024,
    evaluations: int = ENUMERATION_EVALUATIONS,
    groups: Sequence[Sequence[str]] | None = None,
    reference: Background | None = None,
) -> Contributions:
    """Shapley values of table rows ``rows``, or of any rows of model inputs, against the rows of the context.

    Exact where the model is a sum on the scale that is read: linear terms, trees.
    Else enumeration for up to 12 features where it fits the number of
    ``evaluations``; else paired permutations until the largest standard error is
    under ``tolerance`` times the standard deviation of the output. ``groups``
    (features that belong together) makes it Owen values along that hierarchy;
    the hierarchy method takes associated columns where none are given.

    Raises
    ------
    Refused : no model, or a method that cannot serve this model.
    """
    subject.predictions.require_steady()
    cases = rows if isinstance(rows, Frame) else subject.model.frame(subject.table, rows)
    whole = reference or background(subject.frame, subject.rows.weights)
    by_column = subject.model.divide is None
    p = len(cases.names if by_column else players_of(subject.asked, cases, whole.frame).names)
    if method == "hierarchy" or (method == "auto" and groups):
        return _hierarchy(subject, cases, whole, groups, tolerance, most_pairs, seed, work)
    structure, reason = usable(subject)
    if method in ("linear", "trees") and (structure is None or (method == "linear") == (structure.trees is not None)):
        kind = "a linear form" if method == "linear" else "a sum of trees"
        raise Refused(
            f"method: {method} was asked for; on this scale the model is not {kind}{f', since {reason}' if reason else ''}.",
            todo="Leave the choice to Zero Tilt, or read the output as log-odds.",
        )
    if structure is not None and method in ("auto", "linear", "trees"):
        explainer, why = exact_explainer(subject, seed, work, reference, cases.rows)
        if explainer is not None:
            found, astray = _exact(subject, explainer, why, cases, work)
            if not len(astray):
                return found
            # never called exact: what does not add up is walked on the model itself
            rest = cases.take(astray)
            walked = sample_permutations(
                subject.asked, rest, whole, tolerance * _spread(subject), most_pairs, seed, work
            )
            return _patched(found, astray, walked, tolerance * _spread(subject))
        reason = why
    if method == "enumeration" and p > MOST_PLAYERS:
        raise Refused(
            f"method: enumeration takes up to {MOST_PLAYERS} features, the model has {p}.",
            todo="Choose the sampled method.",
        )
    fits = max(evaluations // (cases.rows * 2**p), 0) if p <= MOST_PLAYERS and cases.rows else 0
    known = None
    if method == "sampled" or (method == "auto" and fits < whole.rows):
        known = known_sums(subject, cases, whole, work, of_context=reference is None)
    # every coalition against some rows only is further off than walks that know the sum
    enough = whole.rows if known is not None else min(LEAST_BACKGROUND, whole.rows)
    if method == "enumeration" or (method == "auto" and fits >= enough):
        return _enumerated(subject, cases, whole, max(fits, LEAST_BACKGROUND), seed, work)
    if method == "least squares":
        output = subject.asked
        spread = _spread(subject)
        found = fit_coalitions(output, cases, whole, tolerance * spread, 16 * most_pairs, seed, work)
        return _estimated(
            subject, cases, whole, found, tolerance, "least squares", "Least squares over paired coalitions, as asked"
        )
    output = subject.asked
    spread = _spread(subject)
    found = sample_permutations(output, cases, whole, tolerance * spread, most_pairs, seed, work, known=known)
    beside = "" if known is None else "; each feature's exact share of that sum steadies them"
    why = f"Paired permutations, because {reason or 'the model runs as a black box'}{beside}"
    return _estimated(subject, cases, whole, found, tolerance, "sampled", why)


def adding_up(
    subject: Subject, explainer: Explainer, cases: Frame, values: NDArray, sums: NDArray
) -> NDArray[np.bool_]:
    """Of each case whether the contributions, shape (rows, p), add up to the model's own output."""
    reach = max(float(np.ptp(subject.own_output)), float(np.abs(sums - explainer.baseline).max(initial=0)), 1e-12)
    added = np.abs(explainer.baseline + values.sum(axis=1) - sums) <= ADDITIVITY * reach
    return added & explainer.structure.holds_for(cases, subject.model.outputs(cases))


def _exact(
    subject: Subject, explainer: Explainer, why: str, cases: Frame, work: Work
) -> tuple[Contributions, NDArray[np.intp]]:
    """Exact contributions, and the numbers of the rows in which they do not add up to the model's own output."""
    p = len(cases.names)
    values, output = exact.explain_rows(explainer, cases, work)
    found = Contributions(
        features=cases.names,
        values=values[:, :p],
        errors=None,
        output=output,
        baseline=explainer.baseline,
        background=explainer.rows,
        method=explainer.kind,
        why=why,
        evaluations=cases.rows,
        settled=True,
    )
    return found, np.flatnonzero(~adding_up(subject, explainer, cases, found.values, output))


def _patched(found: Contributions, astray: NDArray[np.intp], walked: Sampled, tolerance: float) -> Contributions:
    """Exact contributions with some rows' replaced by sampled ones; each row adds up to its own output."""
    values, errors, output = found.values.copy(), np.zeros_like(found.values), found.output.copy()
    values[astray], errors[astray], output[astray] = walked.values, walked.errors, walked.output
    # both baselines are means over the background; where it was sampled, they differ, and each row keeps its own sum
    output[astray] += found.baseline - walked.baseline
    many = len(output) > 1
    said = f"{words.count(len(astray))} of {words.count(len(output))} rows are" if many else "This row is"
    return replace(
        found,
        values=values,
        errors=errors,
        output=output,
        method="sampled" if len(astray) == len(output) else found.method,
        why=f"{found.why} {said} sampled instead, by paired permutations: there the sum that was read of the model is not "
        f"its own output; the largest standard error is {walked.errors.max():.2g}.",
        evaluations=found.evaluations + walked.evaluations,
        settled=bool(walked.errors.max() <= tolerance),
    )


def _enumerated(subject: Subject, cases: Frame, whole: Background, most: int, seed: int, work: Work) -> Contributions:
    p = len(cases.names)
    output = subject.asked
    every = f"Every one of the {words.count(2**p)} coalitions of {words.plural(p, 'feature')} was evaluated"
    if whole.rows <= most:
        values = enumerate_coalitions(output, cases, whole, work)
        mixer = players_of(output, cases, whole.frame)
        return Contributions(
            features=mixer.names,
            method="enumeration",
            values=values,
            errors=None,
            output=mixer.of_cases(),
            baseline=float(whole.mean(mixer.of_others())),
            background=whole.rows,
            why=f"{every}; the values are exact.",
            evaluations=cases.rows * 2**p * whole.rows,
            settled=True,
        )
    found = enumerate_against_sample(output, cases, whole, most, seed, work)
    spread = _spread(subject)
    worst = float(found.errors.max(initial=0)) / spread if spread else 0.0
    return Contributions(
        features=found.names,
        method="enumeration",
        values=found.values,
        errors=found.errors,
        output=found.output,
        baseline=found.baseline,
        background=whole.rows,
        why=f"{every}, against a sample of {words.count(most)} of the {words.count(whole.rows)} rows; the largest standard "
        f"error is {worst:.1%} of the output's standard deviation.",
        evaluations=found.evaluations,
        settled=worst <= 0.01,
    )


def _hierarchy(subject, cases, whole, groups, tolerance, most_pairs, seed, work) -> Contributions:
    if not groups:
        groups = linked(subject.frame, LINKED_FROM, seed)
        if not groups:
            raise Refused(
                f"groups: none were given, and no two columns are associated by {LINKED_FROM} or more.",
                todo="Say which features belong together, or choose another method.",
            )
    place = {name: j for j, name in enumerate(cases.names)}
    named = [name for group in groups for name in group]
    for name in named:
        if name not in place:
            raise Refused(f"groups: “{name}” is not a feature of the model; it has {words.listing(list(place))}.")
        if named.count(name) > 1:
            raise Refused(f"groups: “{name}” is in two sets; a feature can be in one.")
    alone = [[place[name]] for name in cases.names if name not in named]
    players = [[place[name] for name in group] for group in groups if group] + alone
    found = sample_permutations(
        subject.asked, cases, whole, tolerance * _spread(subject), most_pairs, seed, work, players
    )
    why = f"Owen values along {words.plural(len(players), 'set')} of features, by paired permutations"
    return _estimated(subject, cases, whole, found, tolerance, "hierarchy", why)


def _spread(subject: Subject) -> float:
    return float(weighing.deviation(subject.own_output, subject.rows.mass))


def _estimated(
    subject: Subject, cases, whole, found: Sampled, tolerance: float, method: ShapleyMethod, why: str
) -> Contributions:
    spread = _spread(subject)
    worst = float(found.errors.max(initial=0)) / spread if spread else 0.0
    return Contributions(
        features=found.names,
        values=found.values,
        errors=found.errors,
        output=found.output,
        baseline=found.baseline,
        background=whole.rows,
        method=method,
        why=f"{why}; the largest standard error is {worst:.1%} of the output's standard deviation.",
        evaluations=found.evaluations,
        settled=worst <= tolerance,
    )
