"""What an audit is about: which column is what, which decision is favourable, which limits flag; and what is read of it."""

from zerotilt.core.meaning.changeable import Allowed, Changeable
from zerotilt.core.meaning.comparisons import (
    MOST_ALTERNATIVES,
    MOST_CONDITIONS,
    MOST_PICKED,
    MOST_SEGMENTS,
    Block,
    Comparisons,
    Condition,
    Segment,
    counting,
)
from zerotilt.core.meaning.context import (
    MOST_OTHERS,
    NOBODY,
    Alongside,
    Context,
    GroupThreshold,
    Other,
    RowSet,
    Rule,
    Split,
)
from zerotilt.core.meaning.digests import sha256
from zerotilt.core.meaning.policy import FlagPolicy, Limits, Tolerance
from zerotilt.core.meaning.problem import ModelReading, Problem, Task
from zerotilt.core.meaning.schema import ColumnSpec, Expected, Kind, Role, Schema
from zerotilt.core.meaning.spec import PARTS, Expectations, Part, Spec
from zerotilt.core.meaning.wording import Names, Wording

__all__ = [
    "MOST_ALTERNATIVES",
    "MOST_CONDITIONS",
    "MOST_OTHERS",
    "MOST_PICKED",
    "MOST_SEGMENTS",
    "NOBODY",
    "PARTS",
    "Allowed",
    "Alongside",
    "Block",
    "Changeable",
    "ColumnSpec",
    "Comparisons",
    "Condition",
    "Context",
    "Expectations",
    "Expected",
    "FlagPolicy",
    "GroupThreshold",
    "Kind",
    "Limits",
    "ModelReading",
    "Names",
    "Other",
    "Part",
    "Problem",
    "Role",
    "RowSet",
    "Rule",
    "Schema",
    "Segment",
    "Spec",
    "Split",
    "Task",
    "Tolerance",
    "Wording",
    "counting",
    "sha256",
]
