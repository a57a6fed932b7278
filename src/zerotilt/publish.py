"""A fitted model sent to a running Zero Tilt, once its file is proven to predict as it does."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from zerotilt.core import words
from zerotilt.core.predictors import made
from zerotilt.core.refusal import Refused
from zerotilt.core.tasks import kind_of
from zerotilt.link import TOLERANCE, OpenAudit, Published, how_made, send, server_at
from zerotilt.study import Study
from zerotilt.study_inputs import arrow_of

MOST_PROVEN = 100_000
"""Rows on which a file is held against its estimator; a larger table is sent whole all the same."""


def publish(
    model: Any,
    X: Any,
    y: Any,
    *,
    event: Any = None,
    outcome: str = "outcome",
    title: str = "",
    name: str = "",
    task: str | None = None,
    order: Sequence[str] = (),
    groups: Sequence[str] = (),
    beside: Any = None,
    favourable: str | Sequence[str] = "",
    threshold: float = 0.5,
    predicts: Callable[[Any], Any] | None = None,
    tolerance: float = TOLERANCE,
    server: str | None = None,
    audit: str | OpenAudit | None = None,
) -> Published:
    """Send a fitted model and its rows to a running Zero Tilt; the link to the audit.

    The estimator is written as ONNX, and the file has to predict what the estimator does, on all rows or the first
    100,000: the largest difference is told, and a file that differs by more than the tolerance is not sent. How the model
    was made goes with it, in its file: libraries, parameters, the cell or script that runs, and the git commit.

    Parameters
    ----------
    model : a fitted estimator or pipeline of scikit-learn, XGBoost or LightGBM; or ONNX, as a path or bytes, of any other
        library's own exporter, with ``predicts``.
    X : frame of the model's columns. y : what happened, shape (rows,). outcome : name of its column.
    event : the value of the outcome whose chance the model gives, for an event. task, order, threshold : as for
        :class:`zerotilt.notebook.Study`.
    favourable : as there; has to be given where the words of the outcome do not tell, and is said in the answer.
    groups : columns whose groups are compared, of X or of ``beside``.
    beside : frame of further columns of the same rows that the model does not take: groups, split, weights, identifiers.
    predicts : what the model predicts from X: chances of the event, shape (rows,), or of each class in the order of the
        sorted classes, shape (rows, classes), or numbers; the estimator's own when left out.
    tolerance : largest difference of predictions; of numbers in their standard deviations.
    server : address of a running Zero Tilt, as the start command prints it; ``ZT_SERVER`` in the environment when left out.
    audit : one that is there already, by its link: the model becomes a further version of it, and no table is sent.

    Raises
    ------
    Refused : the estimator cannot be written, its file predicts otherwise, or the server refuses something.
    """
    to = server_at(server or (audit if isinstance(audit, str) else None))
    frame = arrow_of(X)
    given = list(np.asarray(y).ravel())
    if len(given) != frame.num_rows:
        raise Refused(
            f"y: {words.plural(len(given), 'value')} for {words.plural(frame.num_rows, 'row')} of X were given."
        )
    if outcome in frame.column_names:
        raise Refused(
            f"outcome: X has a column “{outcome}” already.",
            todo="Give the outcome another name, or leave that column out of X.",
        )
    whole = _beside(frame.append_column(outcome, pa.array(given)), beside)
    unknown = [one for one in groups if one not in whole.column_names]
    if unknown:
        raise Refused(
            f"groups: neither X nor beside has a column “{unknown[0]}”; there are {words.listing(whole.column_names[:20])}."
        )
    data = _file(model, frame)
    study = Study(
        whole.select([*frame.column_names, outcome]), data, outcome, event, task=task, order=order,
        groups=[one for one in groups if one in frame.column_names], favourable=favourable, threshold=threshold,
        features=frame.column_names,
    )  # fmt: skip
    kind = kind_of(study.spec.task)
    rows = min(frame.num_rows, MOST_PROVEN)
    gaps = differences(study, model, X, predicts, rows)
    largest = float(gaps.max(initial=0.0))
    if not largest <= tolerance:
        beyond = int((gaps > tolerance).sum())
        raise Refused(
            f"The file does not predict what the model does: the largest difference is {largest:.3g}, on "
            f"{words.count(beyond)} of {words.plural(rows, 'row')} it is more than the {tolerance:g} that is allowed.",
            where="model",
            todo="Usual reasons: a row that lies at a split of a tree once numbers are scaled in single precision, and sparse "
            "rows given to boosted trees (make that step dense). Mend that, or give a larger tolerance= that you can answer for.",
        )
    if audit is None and (unsaid := kind.unfavoured(study.spec)) is not None:
        raise unsaid
    how = how_made(model, rows, largest)
    there = audit.rpartition("/audits/")[2].split("/")[0].split("?")[0] if isinstance(audit, str) else None
    if isinstance(audit, OpenAudit):
        there = audit.identity
    called = name or f"{type(model).__name__}" if not isinstance(model, bytes | str | Path) else name or "model"
    number, version = send(
        to,
        whole,
        made.written(data, how),
        study.spec,
        title or f"{called} on {words.title(outcome)}",
        called,
        groups,
        there,
    )
    link = f"{to.base}/audits/{number}/tilt?model={version}"
    told = kind.favour_told(study.spec) if audit is None else ""
    return Published(link=link, audit=number, model=version, made=how, favourable=told)


def _file(model: Any, frame: pa.Table) -> bytes:
    if isinstance(model, bytes):
        return model
    if isinstance(model, str | Path):
        return Path(model).read_bytes()
    from zerotilt.convert.estimators import converted  # loads the general converter, which takes a while

    return converted(model, frame)


def _beside(table: pa.Table, beside: Any) -> pa.Table:
    if beside is None:
        return table
    more = arrow_of(beside)
    if more.num_rows != table.num_rows:
        raise Refused(f"beside: it has {words.plural(more.num_rows, 'row')}, and X has {words.count(table.num_rows)}.")
    for column in more.column_names:
        if column in table.column_names:
            raise Refused(f"beside: “{column}” is a column of X, or the outcome, already.")
        table = table.append_column(column, more.column(column))
    return table


def differences(
    study: Study, model: Any, X: Any, predicts: Callable[[Any], Any] | None, rows: int
) -> NDArray[np.float64]:
    """By how much what the file predicts, read as every method reads it, differs from the model's own predictions; shape
    (rows,), of numbers in standard deviations, infinite where one of them is no number.
    """
    predictor = study.subject.model
    frame = predictor.frame(study.table, np.arange(rows))
    found = np.asarray(predictor.outputs(frame), float)
    if predicts is not None:
        expected = np.asarray(predicts(X), float)[:rows]
    elif hasattr(model, "predict_proba"):
        expected = _in_order(np.asarray(model.predict_proba(X), float)[:rows], model.classes_, study)
    elif hasattr(model, "predict"):
        expected = np.asarray(model.predict(X), float)[:rows]
    else:
        raise Refused(
            "predicts: a file was given, and nothing that says what it should predict.", todo="Give predicts=."
        )
    if found.ndim == 2 and found.shape[1] == 1:
        found = found[:, 0]
    if expected.shape != found.shape:
        raise Refused(f"predicts: it gives shape {expected.shape}, and the file {found.shape}.")
    gap = np.abs(found - expected)
    if not study.subject.kind.cut and not study.subject.kind.classed:
        gap /= float(np.std(expected)) or 1.0
    worst = gap if gap.ndim == 1 else gap.max(axis=1)
    return np.where(np.isfinite(worst), worst, np.inf)


def _in_order(chances: np.ndarray, classes: Any, study: Study) -> np.ndarray:
    """An estimator's chances in the order in which the study reads them; of an event the event's own."""
    texts = [words.value_text(one.item() if hasattr(one, "item") else one) for one in classes]
    wanted: Mapping[str, int] = {text: place for place, text in enumerate(texts)}
    subject = study.subject
    if subject.kind.cut:
        event = study.spec.event
        if event not in wanted:
            raise Refused(
                f"event: “{event}” is none of the classes that the model was fitted on: {words.listing(texts)}."
            )
        return chances[:, wanted[event]]
    return chances[:, [wanted[one] for one in subject.classes]]
