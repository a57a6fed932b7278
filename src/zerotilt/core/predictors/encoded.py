"""A model of one tensor that was trained on encoded columns: recognised by its width, and answered with what to do."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from zerotilt.core import words
from zerotilt.core.meaning import Role, Spec
from zerotilt.core.predictors.modelfile import ModelCard
from zerotilt.core.refusal import Refused

NAMED = 8
TODO = (
    "Export the step that encodes and the model together, as one ONNX file that takes the columns as they are; or upload "
    "the table as the model was given it, encoded; or upload its scores as a column of the table."
)


def misfit(
    card: ModelCard, spec: Spec, chosen: Sequence[str], is_text: Callable[[str], bool], levels: Callable[[str], int]
) -> Refused | None:
    """Why the one tensor of a model cannot be fed with columns as they stand in the table; None where it can.

    Parameters
    ----------
    chosen : columns that would be fed, in order.
    is_text : whether a column holds text; numbers, days and truth values are fed as numbers.
    levels : how many different values, missing ones not among them, each column holds.
    """
    if len(card.inputs) != 1 or (width := card.inputs[0].width) in (None, 1):
        return None
    features = list(chosen) or [column.name for column in spec.with_role(Role.feature)]
    texts = [name for name in features if is_text(name)]
    if len(features) == width and not (texts and card.inputs[0].holds != "text"):
        return None
    where = f"model input “{card.inputs[0].name}”"
    wants = f"The model takes {words.count(width)} {card.inputs[0].holds}s in its one input “{card.inputs[0].name}”"
    has = f"the table has {words.plural(len(features), 'feature column')}"
    names = {column.name for column in spec.columns}
    if made := [one for one in card.columns if one not in names and any(_of(one, name) for name in texts)]:
        return Refused(
            f"{wants}, and by the names in its file some are levels of columns, encoded before they reached it (“{made[0]}”); "
            "the step that encodes them is not in the file.",
            where=where,
            todo=TODO,
        )
    fed = {column.name for column in spec.columns if column.role in (Role.feature, Role.group)}
    for held in (features, [column.name for column in spec.columns if column.name in fed]):
        coded = [name for name in held if is_text(name)]
        if coded and width in _widths(len(held) - len(coded), [levels(name) for name in coded]):
            return Refused(
                f"{wants}; {has}. It is as wide as the table is once each level of {_listed(coded)} has a column of its "
                "own: these were encoded before they reached the model, and the step that encodes them is not in the file.",
                where=where,
                todo=TODO,
            )
    if texts and width >= len(features):
        told = f"{wants}; {has}, and {_listed(texts)} {'holds' if len(texts) == 1 else 'hold'} text."
        return Refused(
            f"{told} If the model was trained on encoded columns, the step that encodes them is not in the file.",
            where=where,
            todo=f"{TODO} If it was not, mark exactly its columns as features.",
        )
    return Refused(
        f"{wants}; {has}: {', '.join(features[:12])}{' …' if len(features) > 12 else ''}.",
        where=where,
        todo="Mark exactly the model's columns as features, or ignore the others; or write the order in which it is fed.",
    )


def _listed(names: Sequence[str]) -> str:
    quoted = [f"“{name}”" for name in names[:NAMED]]
    return words.listing([*quoted, f"{len(names) - NAMED} more"] if len(names) > NAMED else quoted)


def _widths(numbers: int, levels: Sequence[int]) -> set[int]:
    """How wide a table is with a column a level: all of them, less the first of each, less one where there are two."""
    return {
        numbers + sum(levels),
        numbers + sum(levels) - len(levels),
        numbers + sum(1 if one == 2 else one for one in levels),
    }


def _of(made: str, column: str) -> bool:
    """Whether a name may be that of a level of a column: "channel_app", "onehot__channel=app"."""
    return column in made and made != column
