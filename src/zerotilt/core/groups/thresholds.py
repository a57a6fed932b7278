"""Thresholds weighed: counts by score for every group, and settings that solve for cost and for parity."""

from __future__ import annotations

import numpy as np

from zerotilt.core import membership, words
from zerotilt.core.groups.threshold_counts import STEPS, Counts, Shown, costs_of
from zerotilt.core.groups.threshold_result import (
    AIMS,
    Aim,
    ThresholdResult,
    ThresholdSettings,
    say,
)
from zerotilt.core.groups.threshold_search import NEAR, both_equal, cost_of_finer, frontier_of, held_equal
from zerotilt.core.method import Method
from zerotilt.core.refusal import Refused
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work


def thresholds_of(subject: Subject, settings: ThresholdSettings, seed: int, work: Work) -> ThresholdResult:
    """Count every group's scores once, and solve for the least cost with and without parity.

    Thresholds are thousandths, or reached by no score. Each aim holds one rate
    equal: of all settings of thousandths whose rates lie within the tolerance of
    one another the cheapest is found (:func:`held_equal`); ``finer`` says how
    much less the cheapest setting of any thresholds costs. Both error rates: the
    least largest gap of either, at the share of favourable decisions of the
    least-cost single threshold; for two groups of all settings, for more found
    by a search.

    Raises
    ------
    Refused : no scores, both costs are zero, no groups, or groups that overlap.
    """
    subject.kind.needs_event()
    _ = subject.predictions.required_scores
    if not settings.false_positive and not settings.false_negative:
        raise Refused("Both costs are zero, so every threshold costs the same.", todo="Give one of them a cost.")
    every = membership.all_groupings(subject.spec)
    if not settings.attribute and not every:
        raise Refused("No column is marked as a group.", todo="Mark the columns whose groups are compared in Intake.")
    columns = membership.columns_of(subject.spec, settings.attribute) if settings.attribute else every[0]
    grouping = membership.grouping(subject.spec, subject.table, subject.rows.numbers, columns)
    if grouping.overlapping:
        raise Refused(
            "Groups that overlap cannot have thresholds of their own: a row would have several.",
            where=words.title(grouping.attribute),
            todo="Choose a column whose groups do not overlap.",
        )
    work.begin(len(AIMS) + 2, "settings solved")
    counts = Counts.of(subject, grouping)
    costs = costs_of(counts, settings)
    shown = Shown(subject, grouping, counts, costs, settings)
    single = np.full(counts.k, int(costs.sum(axis=0).argmin()))
    base = float(shown.cost(single))
    found = [
        shown.setting(
            "least cost, one for all", "The one threshold with the least mean cost.", single, base, alone=True
        )
    ]
    work.advance(1)
    free = costs.argmin(axis=1)
    found.append(
        shown.setting(
            "least cost, one a group", "Each group's own least-cost threshold; no parity is asked.", free, base
        )
    )
    for aim, held in AIMS.items():
        if held is None:
            places, within = both_equal(counts, costs, single), NEAR
        else:
            places, within = held_equal(counts.rate(held), costs, NEAR)
        finer = cost_of_finer(subject, grouping, settings, held, within, float(shown.cost(places)))
        found.append(shown.setting(aim, _how(aim, grouping, within), places, base, finer=finer))
        work.advance(1)
    frontier = frontier_of(counts.rate(settings.gap), costs, shown)
    work.advance(1)
    least = subject.spec.policy.minimum_rows
    return ThresholdResult(
        attribute=grouping.attribute,
        histograms=counts.histograms(grouping.labels, subject.rows.weights is not None),
        steps=STEPS,
        current=shown.in_force(base),
        settings=tuple(found),
        frontier=frontier,
        gap=settings.gap,
        false_positive=settings.false_positive,
        false_negative=settings.false_negative,
        favourable=subject.spec.favourable,
        minimum_rows=least,
        few=tuple(label for i, label in enumerate(grouping.labels) if min(counts.plain[i].sum(axis=0)) < least),
        rows=subject.n,
    )


def _how(aim: Aim, grouping: membership.Grouping, within: float) -> str:
    if aim == "both error rates":
        found = "" if len(grouping.labels) <= 2 else ", as far as a search found"
        return (
            f"The least largest gap of true and of false positive rates{found}, with as many favourable decisions as under "
            "the least-cost single threshold."
        )
    if within > NEAR + 1e-9:
        return f"The least cost with {aim}, to within {words.points(within)}: nearer the scores do not allow."
    return f"The least cost with {aim}, to within {words.points(NEAR)}."


METHOD = Method(
    name="thresholds",
    area="tilt",
    part="thresholds",
    title="Thresholds",
    settings=ThresholdSettings,
    result=ThresholdResult,
    compute=thresholds_of,
    say=say,
    note=(
        "Scores are counted once in thousandths, by group and outcome; a threshold moved redraws from these counts. "
        "Cost: the mean over rows of what their error costs. The least-cost thresholds are the best of all "
        "thousandths. Equal rates: of all settings of thousandths whose rates lie within one point of one another the "
        "cheapest is found exactly; where none lies so near, the tolerance is the least that one has, and this is "
        "said. How much less finer thresholds could cost stands beside each. Both error rates: the least largest gap "
        "of either at the share selected under the least-cost single threshold; for more than two groups as far as a "
        "search found. The frontier is the least cost for each gap allowed. No decision is drawn by lot. Thresholds "
        "that differ by group may be unlawful.\n\n"
        "Estimates on this sheet are of these rows, without intervals; a rule in force is read with intervals under "
        "Groups."
    ),
    main="settings",
    needs=frozenset({"predictions", "outcome"}),
    depends=frozenset({"spec", "comparisons", "policy"}),
    address={"false_positive": "fp", "false_negative": "fn"},
    version=2,
)
