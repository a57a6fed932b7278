"""Which metrics to look at: a few questions about the decision, and what follows from the answers."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from zerotilt.core.frozen import Frozen
from zerotilt.core.groups.metrics import METRICS, of_task
from zerotilt.core.meaning import Task, Wording
from zerotilt.core.tasks import kind_of

Effect = Literal["gives something", "spares something", "takes something", "orders"]
Harmed = Literal["wrongly unfavourable", "wrongly favourable", "both", "neither"]
Labels = Literal["trusted", "tilted", "unknown"]


class Answers(Frozen):
    """What the decision does, who is harmed by which error, and whether recorded outcomes can be taken for the truth."""

    effect: Effect = Field(description="What the favourable decision does to people")
    harmed: Harmed = Field(description="Which error harms those it is made about")
    labels: Labels = Field(
        description="Whether recorded outcomes are the truth, or were shaped by decisions of the past"
    )
    scores_shown: bool = Field(default=False, description="Whether people see the score itself, not just a decision")


class Proposal(Frozen):
    metric: str
    reason: str


def propose(answers: Answers, task: Task, favourable: str, wording: Wording) -> tuple[Proposal, ...]:
    """Metrics that the answers call for, each with its reason, the most telling first.

    Where past decisions shaped the labels, error rates would take them for the
    truth, so shares of decisions lead; where a wrongly unfavourable decision
    harms, the share of those who deserved it and got it (Hardt, Price & Srebro
    2016); where a decision must mean the same for all, the predictive values
    (Chouldechova 2017).
    """
    allowed = {metric.name for metric in of_task(task)}
    kind = kind_of(task)
    if not kind.decides:
        wanted = [
            ("mean_error", "It tells whether a group is systematically given too much or too little."),
            ("mae", "It tells for whom the prediction is off by more, whichever way."),
            ("mean_prediction", "It tells what each group is given, whether or not the outcomes recorded are right."),
        ]
        if answers.labels == "tilted":
            wanted = [wanted[2], wanted[0], wanted[1]]
        return tuple(Proposal(metric=name, reason=reason) for name, reason in wanted)
    event = favourable == "event"
    # who should have got the favourable decision and did not, in terms of the event
    missed = "false_negative_rate" if event else "false_positive_rate"
    got = "true_positive_rate" if event else "true_negative_rate"
    undeserved = "false_positive_rate" if event else "false_negative_rate"
    meant = "positive_predictive_value" if event else "negative_predictive_value"
    if not kind.cut:
        missed, got, undeserved, meant = (
            "false_negative_rate",
            "true_positive_rate",
            "false_positive_rate",
            "positive_predictive_value",
        )
    wanted: list[tuple[str, str]] = []
    share = (
        "selection_rate",
        f"It compares how often each group is {wording.favourable}, whatever the recorded outcomes say.",
    )
    if answers.labels == "tilted":
        wanted.append(
            (
                share[0],
                f"{share[1]} The labels were shaped by past decisions, so error rates would take them for the truth.",
            )
        )
        wanted.append(("base_rate", "It shows how far the labels themselves differ, before any decision."))
    if answers.harmed in ("wrongly unfavourable", "both"):
        wanted.append(
            (
                got,
                f"People are harmed when they should be {wording.favourable} and are not: this is how often they are, among those who should.",
            )
        )
        wanted.append((missed, "The same error told as the harm: how often it happens."))
    if answers.harmed in ("wrongly favourable", "both"):
        wanted.append(
            (
                undeserved,
                f"Harm comes from being {wording.favourable} wrongly: this is how often it happens among those who should not.",
            )
        )
        wanted.append((meant, "It tells how far the same decision can be relied on in each group."))
    if answers.effect != "orders" and answers.labels != "tilted":
        why = {
            "gives something": "gives people something",
            "spares something": "spares people something",
            "takes something": "takes something from people",
        }[answers.effect]
        wanted.append((share[0], f"The decision {why}, so who gets it is compared first of all. {share[1]}"))
    if answers.effect == "orders" or answers.scores_shown:
        wanted.append(
            ("calibration_error", "The score itself is used, so it should mean the same chance in every group.")
        )
        wanted.append(
            ("auc", "People are put in order: this is how well the order tells them apart within each group.")
        )
    if answers.harmed == "neither":
        wanted.append(
            (
                "accuracy",
                "No error harms more than another; this counts both alike. Look at the two error rates too, since equal accuracy can hide them.",
            )
        )
    if answers.labels == "unknown":
        wanted.append(
            (
                "base_rate",
                "Nobody knows how far the labels can be trusted; large differences here are a reason to find out.",
            )
        )
    found: dict[str, str] = {}
    for name, reason in wanted:
        if name in allowed:
            found.setdefault(name, reason)
    order = list(METRICS)
    return tuple(Proposal(metric=name, reason=reason) for name, reason in found.items() if name in order)
