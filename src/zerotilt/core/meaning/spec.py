"""The declared meaning of a table for one audit: its parts together.

This is the only definition; storage, API, screens and the command line derive from it.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from pydantic import Field, model_validator

from zerotilt.core.frozen import Frozen
from zerotilt.core.meaning.changeable import Allowed, Changeable
from zerotilt.core.meaning.comparisons import Comparisons, counting
from zerotilt.core.meaning.digests import sha256
from zerotilt.core.meaning.policy import Limits
from zerotilt.core.meaning.problem import Problem, Task
from zerotilt.core.meaning.schema import Expected, Role, Schema
from zerotilt.core.meaning.wording import Names


class Expectations(Frozen):
    """How those who know the field expect the output to go along features; they change no number."""

    expectations: dict[str, Expected] = Field(default_factory=dict, max_length=5_000)


Part = Schema | Expectations | Problem | Comparisons | Limits | Names | Changeable
PARTS: dict[str, type[Part]] = {
    "schema": Schema,
    "problem": Problem,
    "comparisons": Comparisons,
    "policy": Limits,
    "wording": Names,
    "expectations": Expectations,
    "changeable": Changeable,
}
"""What changes apart: each is written, numbered and answered for by itself."""


class Spec(Schema, Problem, Comparisons, Limits, Names, Changeable):
    """All parts of the meaning."""

    @model_validator(mode="after")
    def _names_exist(self) -> Spec:
        names = {column.name for column in self.columns}
        for crossing in self.intersections:
            if unknown := set(crossing) - names:
                raise ValueError(f"an intersection names a column that is not there: {sorted(unknown)[0]}")
        if unknown := {one.feature for one in self.allowed} - names:
            raise ValueError(f"a limit of changes names a column that is not there: {sorted(unknown)[0]}")
        return self

    def part(self, name: str) -> dict:
        """One part as JSON; columns without what is expected of them, which is a part of its own."""
        if name == "expectations":
            return {"expectations": self.expectations}
        without = {"columns": {"__all__": {"expected"}}} if name == "schema" else None
        return self.model_dump(mode="json", include=set(PARTS[name].model_fields), exclude=without)

    @classmethod
    def joined(cls, parts: Mapping[str, Mapping[str, Any]]) -> Spec:
        """All parts from the JSON of each, as ``part`` gives it."""
        fields: dict[str, Any] = {}
        for name in PARTS:
            fields |= parts.get(name, {})
        expected = fields.pop("expectations", {})
        columns = [column | {"expected": expected.get(column["name"])} for column in fields["columns"]]
        return cls.model_validate(fields | {"columns": columns})

    def with_part(self, part: Part) -> Spec:
        """All parts with one of them exchanged.

        Raises
        ------
        ValidationError : they contradict each other.
        """
        if isinstance(part, Expectations):
            for name in part.expectations:
                self.column(name)
            columns, expected = self.columns, part.expectations
        else:
            columns, expected = getattr(part, "columns", self.columns), self.expectations
        fields = {name: getattr(part, name) for name in type(part).model_fields if name in Spec.model_fields}
        columns = tuple(one.model_copy(update={"expected": expected.get(one.name)}) for one in columns)
        return Spec.model_validate({**dict(self), **fields, "columns": columns})

    @property
    def groupings(self) -> list[tuple[str, ...]]:
        """Every way the rows are grouped: single columns first, then intersections; of each, protected attributes first."""
        leading = {column.name for column in self.columns if column.leads}
        single = [(column.name,) for column in self.columns if column.makes_groups]
        return [
            one
            for every in (single, self.intersections)
            for one in sorted(every, key=lambda names: not leading.intersection(names))
        ]

    def leading(self, attribute_columns: Iterable[str]) -> bool:
        """Whether one of these columns is a protected attribute whose groups are compared."""
        return any(column.leads for column in self.columns if column.name in set(attribute_columns))

    @property
    def event_phrase(self) -> str:
        if self.task is Task.regression:
            return self.target
        return self.wording.event or f"{self.target} is {self.event}"

    def digest(self) -> str:
        """SHA-256 of what changes every number.

        Left out: wording, expectations and how sure what is favourable is, which change none, what only comparisons
        of groups or proposed changes read, and what nobody said of recorded predictions, so that evidence from before it could be said is found.
        """
        body = self.model_dump(
            mode="json",
            exclude={"columns": {"__all__": {"expected"}}, **_APART, **_COMPARED},
        )
        for column in body["columns"]:
            if not column["protected"]:  # so that evidence from before it could be said is found
                del column["protected"]
        unsaid = [
            name
            for name in _RECORDED
            if getattr(self, name) == Problem.model_fields[name].get_default(call_default_factory=True)
        ]
        return sha256(
            {name: value for name, value in body.items() if name not in unsaid} | {"confidence": self.policy.confidence}
        )

    def problem_digest(self) -> str:
        """SHA-256 of what is predicted: the outcome, its event, and which decision is favourable at which threshold."""
        told = ("task", "event", "favourable", "favourable_classes", "favourable_end", "threshold", "decision_means")
        target = self.only(Role.outcome) or self.only(Role.decision) or self.only(Role.score)
        body = self.model_dump(mode="json", include=set(told))
        return sha256(body | {"target": target and target.model_dump(mode="json", include={"name", "kind", "order"})})

    def wording_digest(self) -> str:
        """SHA-256 of the names that sentences use."""
        return sha256(self.model_dump(mode="json", include={"wording"}))

    def expectations_digest(self) -> str:
        """SHA-256 of the directions that were expected; they change no number."""
        return sha256({"expectations": self.expectations})

    def comparisons_digest(self) -> str:
        """SHA-256 of what is compared besides single columns."""
        body = self.model_dump(mode="json", include={"intersections", "segments"})
        return sha256(body | {"segments": [counting(one) for one in body["segments"]]})

    def policy_digest(self) -> str:
        """SHA-256 of the limits that flag."""
        return sha256(self.model_dump(mode="json", include={"policy"}))

    def changeable_digest(self) -> str:
        """SHA-256 of what a proposed change may change."""
        return sha256({"allowed": [one.model_dump(mode="json") for one in self.limits]})

    @property
    def limits(self) -> tuple[Allowed, ...]:
        """Limits of every column that has any: those that were set, and columns that make groups, which stay as they are."""
        said = {one.feature for one in self.allowed}
        grouped = [one.name for one in self.columns if one.makes_groups and one.name not in said]
        return (*self.allowed, *(Allowed(feature=name, change="none") for name in grouped))

    def compared_digest(self) -> str:
        """SHA-256 of both together, as evidence of earlier versions has it."""
        return sha256(self.model_dump(mode="json", include=_COMPARED))


_RECORDED = ("decision_means", "score_top")
_APART = {"wording": True, "favourable_said": True, "allowed": True}
_COMPARED = {"policy": True, "intersections": True, "segments": True, "segment_metrics": True}
