"""The demo audit: what its columns mean and how its sentences name things."""

from __future__ import annotations

import pyarrow as pa

from zerotilt.core.spec import ColumnSpec, Kind, Role, Spec, Wording
from zerotilt.demo import generator, planted, training

TITLE = "Skerry Post claims"


def spec(table: pa.Table) -> Spec:
    """The declared meaning of the claims table."""
    groups = ("home_area", "age_band", "preferred_language", "helped_by_another")
    roles = {
        "claim_number": Role.identifier,
        "split": Role.split,
        "claim_valid": Role.outcome,
        planted.LEAK: Role.ignored,
    }
    orders = {"packaging_grade": generator.GRADES, "age_band": generator.AGE_BANDS}
    references = {"home_area": planted.REFERENCE_AREA, "age_band": "30–49"}
    columns = []
    for name in table.column_names:
        number = not pa.types.is_string(table.column(name).type)
        kind = Kind.numeric if number else Kind.ordered if name in orders else Kind.categorical
        columns.append(
            ColumnSpec(
                name=name,
                kind=kind,
                role=Role.group if name in groups else roles.get(name, Role.feature),
                order=orders.get(name, ()),
                reference=references.get(name),
                cuts=(planted.POCKET["parcel_weight"],) if name == "parcel_weight" else (),
            )
        )
    return Spec(
        columns=tuple(columns),
        event="yes",
        holdout_values=("test",),
        training_values=("training",),
        intersections=(("channel", "parcel_weight"),),
        wording=Wording(
            row="claim",
            rows="claims",
            event="the claim is valid",
            favourable="settled at once",
            unfavourable="inspected",
        ),
    )


def build() -> tuple[pa.Table, Spec, dict[str, bytes]]:
    """Table, meaning and trained models of the demo."""
    table = generator.claims()
    return table, spec(table), training.train(table)
