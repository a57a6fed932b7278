"""What evidence says that someone should decide about: contradicted expectations."""

from __future__ import annotations

from zerotilt.core.drivers.expectations import ExpectationsResult, statement
from zerotilt.core.evidence import Evidence


def of_expectations(evidence: Evidence, unit: str) -> list[tuple[str, str]]:
    """Each contradicted expectation as a key that stays the same while model and expectation do, and a sentence."""
    result: ExpectationsResult = evidence.typed
    return [
        (
            f"expected {one.expected}: {one.feature} [{evidence.digests.model or ''}]",
            statement(one, result.output, unit),
        )
        for one in result.checked
        if one.contradicted
    ]
