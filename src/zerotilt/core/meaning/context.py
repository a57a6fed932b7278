"""What every sheet is reading: model version, rows, output, and what is read alongside."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from zerotilt.core.frozen import Frozen
from zerotilt.core.meaning.comparisons import Segment, counting
from zerotilt.core.meaning.digests import sha256

Split = Literal["hold-out", "training", "all"]


class RowSet(Frozen):
    """Which rows are read: those of a split, and of these perhaps a segment only."""

    split: Split = "hold-out"
    segment: Segment | None = None

    @property
    def name(self) -> str:
        """Of the segment; empty where the split is read whole."""
        return self.segment.name if self.segment else ""

    def digest(self) -> str:
        """SHA-256 of what decides which rows these are; a segment's name does not."""
        segment = counting(self.segment.model_dump(mode="json", exclude={"name"})) if self.segment else None
        return sha256({"split": self.split, "segment": segment})


NOBODY = 1.001
"""A threshold that no score reaches, not even 1."""


class GroupThreshold(Frozen):
    group: str
    threshold: float = Field(ge=0, le=NOBODY)


class Rule(Frozen):
    """How decisions follow from scores: one threshold for all, or one for each group of a column or intersection."""

    threshold: float = Field(ge=0, le=NOBODY, description="For every row that no group's threshold is for")
    columns: tuple[str, ...] = Field(default=(), max_length=3, description="Whose groups have thresholds of their own")
    thresholds: tuple[GroupThreshold, ...] = ()


class Alongside(Frozen):
    """A second model version, or a second row set, read in the same figures."""

    model: str | None = Field(default=None, description="Another version; the context's own when empty")
    rows: Split | None = Field(default=None, description="Other rows; the context's own when empty")
    segment: Segment | None = Field(default=None, description="Of those rows only these; the context's own when empty")
    whole: bool = Field(default=False, description="All of those rows, although the context reads a segment")
    rule: Rule | None = Field(default=None, description="The other version's decision rule; kept with the version")


class Other(Frozen):
    """One more model version, read on the same rows."""

    name: str = Field(max_length=200)
    digest: str = Field(max_length=64)
    rule: Rule | None = Field(default=None, description="Its decision rule; the spec's threshold without")


MOST_OTHERS = 24


class Context(Frozen):
    """What every sheet is reading: model version, rows, output, and what is read alongside."""

    model: str | None = Field(default=None, description="Identifier of a model version; None for recorded scores")
    rows: Split = "hold-out"
    segment: Segment | None = Field(default=None, description="Of these rows only those that meet its conditions")
    output: Literal["probability", "log-odds"] = Field(
        default="probability", description="Scale of a classifier's output; a number is read as it is"
    )
    read_class: str = Field(
        default="", description="With several classes the one that is read; the spec's event when empty"
    )
    rule: Rule | None = Field(
        default=None,
        description="The version's decision rule, filled in from where it is kept; the spec's threshold without",
    )
    alongside: Alongside | None = None
    model_named: str = Field(
        default="", max_length=200, description="The version's name, filled in where others are read"
    )
    others: tuple[Other, ...] = Field(
        default=(), max_length=MOST_OTHERS, description="The audit's other versions, filled in where all are read"
    )

    @property
    def row_set(self) -> RowSet:
        """The rows that are read."""
        return RowSet(split=self.rows, segment=self.segment)

    def beside(self) -> Context | None:
        """The context of what is read alongside; None where nothing is.

        >>> Context(model="v3", alongside=Alongside(rows="training")).beside().rows
        'training'
        """
        other = self.alongside
        if other is None:
            return None
        return self.model_copy(
            update={
                "model": other.model or self.model,
                "rows": other.rows or self.rows,
                "segment": None if other.whole else other.segment or self.segment,
                "rule": other.rule if other.model else self.rule,
                "alongside": None,
                "others": (),
                "model_named": "",
            }
        )
