"""The demo's audits: what the columns mean and how the sentences name things."""

from __future__ import annotations

from dataclasses import dataclass

import pyarrow as pa

from zerotilt.core.meaning import Allowed, ColumnSpec, Expected, Kind, Role, Spec, Task, Wording
from zerotilt.demo import generator, planted, training

TITLE = "Skerry Post claims"
DAYS_TITLE = "Skerry Post, days to settle"
DESKS_TITLE = "Skerry Post, routing desk"
GROUPS = ("home_area", "age_band", "preferred_language", "helped_by_another")
ORDERS = {
    "packaging_grade": generator.GRADES,
    "age_band": generator.AGE_BANDS,
    "routing_desk": generator.DESKS,
}
OUTCOMES = ("claim_valid", "days_to_settle", "routing_desk")
EXPECTED: dict[str, Expected] = {
    "claims_three_years": "falls",
    "account_age": "rises",
    "ferry_legs": "none",
    "message_length": "none",
    "days_in_transit": "falls",
}
"""What the claims desk says it expects."""


@dataclass(frozen=True)
class DemoAudit:
    """One decision system of the demo."""

    title: str
    spec: Spec
    models: dict[str, bytes]


def spec(table: pa.Table) -> Spec:
    """The declared meaning of the claims table, for the chance that a claim is valid."""
    return _spec(
        table,
        "claim_valid",
        EXPECTED,
        event="yes",
        intersections=(("channel", "parcel_weight"),),
        wording=Wording(
            row="claim",
            rows="claims",
            event="the claim is valid",
            favourable="settled at once",
            unfavourable="inspected",
        ),
    )


def days_spec(table: pa.Table) -> Spec:
    """For the number of days until a claim is settled."""
    expected: dict[str, Expected] = {"declared_value": "rises", "ferry_legs": "none", "message_length": "none"}
    wording = Wording(row="claim", rows="claims", unit="days")
    return _spec(table, "days_to_settle", expected, task=Task.regression, favourable_end="low", wording=wording)


def desk_spec(table: pa.Table) -> Spec:
    """For the desk a claim goes to: four classes in order."""
    wording = Wording(row="claim", rows="claims", favourable="sent to a quick desk")
    return _spec(
        table,
        "routing_desk",
        {},
        task=Task.ordered,
        event=generator.DESKS[-1],
        favourable_classes=generator.DESKS[:2],
        wording=wording,
    )


STAYS = ("claims_three_years", "account_age")
"""What nobody could have otherwise: claims that were made are made."""


def _spec(table: pa.Table, outcome: str, expected: dict[str, Expected], **more) -> Spec:
    roles = {
        "claim_number": Role.identifier,
        "split": Role.split,
        planted.LEAK: Role.ignored,
        "clerk_accepted": Role.decision if outcome == "claim_valid" else Role.ignored,
        **dict.fromkeys(OUTCOMES, Role.ignored),
        outcome: Role.outcome,
    }
    references = {"home_area": planted.REFERENCE_AREA, "age_band": "30–49"}
    columns = []
    for name in table.column_names:
        number = not pa.types.is_string(table.column(name).type)
        kind = Kind.numeric if number else Kind.ordered if name in ORDERS else Kind.categorical
        columns.append(
            ColumnSpec(
                name=name,
                kind=kind,
                role=Role.group if name in GROUPS else roles.get(name, Role.feature),
                order=ORDERS.get(name, ()),
                reference=references.get(name),
                cuts=(planted.POCKET["parcel_weight"],) if name == "parcel_weight" else (),
                expected=expected.get(name),
                protected=name in GROUPS,
            )
        )
    stays = tuple(Allowed(feature=name, change="none") for name in STAYS)
    return Spec(columns=tuple(columns), holdout_values=("test",), training_values=("training",), allowed=stays, **more)


def build() -> tuple[pa.Table, Spec, dict[str, bytes]]:
    """Table, meaning and trained models of the demo's first audit."""
    table = generator.claims()
    return table, spec(table), training.claims_models(table)


def build_all() -> tuple[pa.Table, list[DemoAudit]]:
    """The table, and every audit of it: one decision system each."""
    table, meaning, models = build()
    return table, [
        DemoAudit(TITLE, meaning, models),
        DemoAudit(DAYS_TITLE, days_spec(table), training.days_models(table)),
        DemoAudit(DESKS_TITLE, desk_spec(table), training.desk_models(table)),
    ]
