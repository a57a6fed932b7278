"""What was last found in a context: it stays, in the words of then, until it is measured again."""

from __future__ import annotations

import json
from collections.abc import Sequence

from zerotilt.core.findings import Finding
from zerotilt.core.meaning import Context
from zerotilt.store.records import Audit, FoundBefore
from zerotilt.store.renamed import framed


class Memory:
    """Of one audit in one context."""

    def __init__(self, audit: Audit, context: Context):
        self.audit, self.frame = audit, frame(context)
        mine = (FoundBefore.audit == audit) & (FoundBefore.frame == self.frame)
        self._rows = {one.method: one for one in FoundBefore.select().where(mine)}

    def of(self, method: str) -> FoundBefore | None:
        return self._rows.get(method)

    @staticmethod
    def findings(row: FoundBefore) -> list[Finding]:
        return [Finding.model_validate(one) for one in row.findings]

    def keep(self, method: str, key: str, meant: str, findings: Sequence[Finding]) -> None:
        """What is found now; nothing is written where that is known."""
        known = self._rows.get(method)
        if known is not None and (known.evidence_key, known.meant) == (key, meant):
            return
        told = {"evidence_key": key, "meant": meant, "findings": [one.model_dump(mode="json") for one in findings]}
        FoundBefore.insert(audit=self.audit, method=method, frame=self.frame, **told).on_conflict(
            conflict_target=[FoundBefore.audit, FoundBefore.method, FoundBefore.frame], update=told
        ).execute()


def frame(context: Context) -> str:
    """Which model version and rows are read, whatever they mean by now: a segment by its name, picked rows by themselves."""
    segment = context.segment
    return json.dumps(
        [context.model, context.rows, framed(segment.name) if segment else "", context.output, context.read_class]
    )
