"""What a model file's columns stand for: which probability is of which class, and which input is which column.

The file is asked: its own label output, over rows, names the column of the
largest probability. Where that leaves something open nothing is guessed; the
ways of reading it are weighed on the outcomes and put to the person.
"""

from __future__ import annotations

import json
import time
from collections.abc import Callable, Sequence
from difflib import get_close_matches

import numpy as np
import onnx
from numpy.typing import NDArray

from zerotilt.core import words
from zerotilt.core.levels import match_level
from zerotilt.core.meaning import ModelReading
from zerotilt.core.refusal import Choice, Refused
from zerotilt.core.stats import intervals

ASKED_ROWS = 4_000
CLEAR = 1e-6
AGREED = 0.99
LIKELY_YES, LIKELY_NO = ("1", "true", "yes", "y", "t"), ("0", "false", "no", "n", "f")
_CLASSIFIERS = ("LinearClassifier", "SVMClassifier", "TreeEnsembleClassifier", "ZipMap")
PASSING = ("Identity", "Cast", "Reshape", "Normalizer", "Squeeze", "Flatten", "ZipMap")


def written_labels(graph: onnx.GraphProto) -> tuple[str, ...]:
    """Class labels in the order of the probability columns, where the operator that gives the probabilities names them.

    Labels of operators further inside, whose probabilities are worked on, say nothing of the graph's own output.
    """
    producer = {name: node for node in graph.node for name in node.output if name}
    for output in graph.output:
        name, node = output.name, producer.get(output.name)
        while node is not None:
            last = len(node.output) == 1 or name != node.output[0]  # a classifier's first output is its label
            if node.op_type in _CLASSIFIERS and last and (labels := _labels(node)):
                return labels
            if node.op_type not in PASSING:
                break
            name = node.input[0]
            node = producer.get(name)
    return ()


def _labels(node: onnx.NodeProto) -> tuple[str, ...]:
    for attribute in node.attribute:
        if attribute.name == "classlabels_strings" and attribute.strings:
            return tuple(text.decode("utf-8", "replace") for text in attribute.strings)
        if attribute.name in ("classlabels_int64s", "classlabels_ints") and attribute.ints:
            return tuple(str(number) for number in attribute.ints)
    return ()


def written_columns(model: onnx.ModelProto) -> tuple[str, ...]:
    """Names of a wide input's columns, where the file has them among its properties: a JSON list, or names by commas."""
    for entry in model.metadata_props:
        if entry.key.lower().replace("_", "").replace(" ", "") in ("featurenames", "features", "columns", "inputs"):
            try:
                found = json.loads(entry.value)
            except ValueError:
                found = entry.value.split(",")
            if isinstance(found, list) and found and all(isinstance(one, str) for one in found):
                return tuple(one.strip() for one in found)
    return ()


def learnt_labels(
    probabilities: NDArray[np.float64], labels: NDArray, written: tuple[str, ...], levels: Sequence[str]
) -> tuple[str, ...]:
    """What each probability column is of, from the labels that the model itself gives to rows; empty where it stays open.

    Parameters
    ----------
    probabilities : shape (rows, k); one column is taken as the probability of the label given where it is over one half.
    labels : shape (rows,). written : what the operator says. levels : the outcome's values in the table.
    """
    said = np.array([words.value_text(one.item() if hasattr(one, "item") else one) for one in labels.ravel()])
    if probabilities.shape[1] == 1:
        probabilities = np.column_stack([1 - probabilities[:, 0], probabilities[:, 0]])
    ranked = np.sort(probabilities, axis=1)
    clear = ranked[:, -1] - ranked[:, -2] > CLEAR
    column = probabilities.argmax(axis=1)
    found: dict[int, str] = {}
    for c in range(probabilities.shape[1]):
        own, times = np.unique(said[clear & (column == c)], return_counts=True)
        if len(own):
            if times.max() < AGREED * times.sum():
                return ()  # the label is not that of the largest probability
            found[c] = str(own[times.argmax()])
    if len(set(found.values())) < len(found) or not found:
        return ()
    k = probabilities.shape[1]
    if len(found) == k:
        return tuple(found[c] for c in range(k))
    if len(written) == k and all(written[c] == label for c, label in found.items()):
        return written
    # what was never the largest is told where one class alone is left for it
    known = {match_level(label, list(levels)) for label in found.values()}
    left = [level for level in levels if level not in known]
    if None not in known and len(left) == 1 and len(found) == k - 1:
        return tuple(found.get(c, left[0]) for c in range(k))
    return ()


def event_of(labels: tuple[str, ...], event: str, levels: Sequence[str]) -> tuple[int | None, str]:
    """Which of two labels means the event, and what was assumed for it; None where it stays open."""
    exact = match_level(event, list(labels))
    if exact is not None:
        return labels.index(exact), ""
    other = next((level for level in levels if level != event), "")
    if other and (against := match_level(other, list(labels))) is not None:
        place = 1 - labels.index(against)
        return place, f"The model's class “{labels[place]}” is taken as “{event}”, since its other is “{against}”."
    folded = [label.lower() for label in labels]
    for likely, unlikely in ((LIKELY_YES, LIKELY_NO), (LIKELY_NO, LIKELY_YES)):
        if event.strip().lower() in likely:
            places = [i for i, label in enumerate(folded) if label in likely]
            if len(places) == 1 and folded[1 - places[0]] in unlikely:
                return places[0], f"The model's class “{labels[places[0]]}” is taken as “{event}”."
    return None, ""


def ask_event(
    digest: str, scores: NDArray, happened: NDArray[np.bool_] | None, event: str, other: str, single: bool
) -> Refused:
    """The two ways of reading two probabilities, each with how well it would do, where outcomes are known."""
    choices = []
    for column in (0, 1):
        p = scores if column else 1 - scores
        right = area = float("nan")
        if happened is not None:
            right = float(((p >= 0.5) == happened).mean())
            area = intervals.auc(p, happened)[0]
        outputs = (other, event) if column else (event, other)
        if single:
            outputs = (event,) if column else (other,)
        what = "its one column" if single else f"column {column + 1} of 2"
        fit = f"mean {words.percent(float(p.mean()))}"
        if happened is not None:
            fit = f"accuracy {words.percent(right)}" + (f", AUC {words.decimal(area)}" if np.isfinite(area) else "")
        label = f"{what} is of “{event}”" if column or not single else f"{what} is of “{other}”"
        choices.append(
            Choice(
                label=label,
                detail=fit,
                reading=ModelReading(model=digest, outputs=outputs),
                fit=next((one for one in (area, right) if np.isfinite(one)), 0.0),
            )
        )
    return Refused(
        f"The model file does not say which of its outputs is the probability of “{event}”.",
        where="the model file",
        todo="Choose the reading that is right; " + "; ".join(f"{one.label}: {one.detail}" for one in choices) + ".",
        choices=sorted(choices, key=lambda one: -one.fit),
    )


def ask_classes(digest: str, probabilities: NDArray, outcome: NDArray[np.int64], levels: tuple[str, ...]) -> Refused:
    """Orders of the classes: as declared, by name, and the one under which the model does best."""
    k = len(levels)
    took = probabilities.argmax(axis=1)
    together = np.bincount(took * k + outcome, minlength=k * k).reshape(k, k)
    from scipy.optimize import linear_sum_assignment

    columns, classes = linear_sum_assignment(-together)
    best = tuple(levels[c] for _, c in sorted(zip(columns, classes, strict=True)))
    choices = []
    for order in dict.fromkeys((best, tuple(levels), tuple(sorted(levels)))):
        right = float((np.array([levels.index(one) for one in order])[took] == outcome).mean())
        choices.append(
            Choice(
                label=f"its columns are {words.listing(list(order))}",
                detail=f"accuracy {words.percent(right)}",
                reading=ModelReading(model=digest, outputs=order),
                fit=right,
            )
        )
    return Refused(
        "The model file does not say which class each of its columns is of.",
        where="the model file",
        todo="Choose the order that is right; " + "; ".join(f"{one.label}: {one.detail}" for one in choices) + ".",
        choices=sorted(choices, key=lambda one: -one.fit),
    )


FAR_BETTER = 5.0
"""Standard errors by which another order of columns must lower the loss before it is put to the person."""
SECONDS = 6.0


def better_order(
    columns: Sequence[str],
    named: Sequence[Sequence[str]],
    loss: Callable[[Sequence[str]], NDArray[np.float64]],
    seconds: float = SECONDS,
) -> tuple[tuple[str, ...], NDArray[np.float64], NDArray[np.float64]] | None:
    """Another order of the columns under which the model does far better, with both losses of the rows; else None.

    Orders with a name (as in the table, by the alphabet, backwards) come first; from the best of them pairs of
    columns are exchanged while that helps. Half of the rows choose, the other half tell whether it is better.

    Parameters
    ----------
    loss : of an order, the loss of every row, shape (rows,).
    """
    began = time.monotonic()
    before = loss(columns)
    half = np.arange(len(before)) % 2 == 0
    known: dict[tuple[str, ...], float] = {}

    def weighed(order: Sequence[str]) -> float:
        key = tuple(order)
        if key not in known:
            known[key] = float(loss(key)[half].mean())
        return known[key]

    best = min((tuple(columns), *map(tuple, named)), key=weighed)
    improved = True
    while improved and time.monotonic() - began < seconds:
        improved = False
        for i in range(len(best)):
            for j in range(i + 1, len(best)):
                other = list(best)
                other[i], other[j] = other[j], other[i]
                if weighed(other) < weighed(best) - 1e-9:
                    best, improved = tuple(other), True
                if time.monotonic() - began >= seconds:
                    break
    after = loss(best)
    gain = (before - after)[~half]
    error = gain.std(ddof=1) / np.sqrt(len(gain)) if len(gain) > 1 else np.inf
    if best == tuple(columns) or not gain.mean() > FAR_BETTER * error or gain.mean() < 0.02 * before.mean():
        return None
    return best, before, after


def ask_order(
    digest: str, columns: Sequence[str], best: Sequence[str], before: NDArray, after: NDArray, what: str
) -> Refused:
    """Two orders of the columns, each with the model's loss."""
    choices = [
        Choice(
            label=label,
            detail=f"{what} {loss.mean():.4g}: {', '.join(order)}",
            reading=ModelReading(model=digest, inputs=tuple(order)),
            fit=-float(loss.mean()),
        )
        for label, order, loss in (
            ("the order found to fit far better", best, after),
            ("the order of the table", columns, before),
        )
    ]
    return Refused(
        "The model takes its columns in one tensor and does not name them; in another order than the table's it does far "
        "better.",
        where="the model file",
        todo="Choose the order it was trained with; "
        + "; ".join(f"{one.label}, {one.detail}" for one in choices)
        + ".",
        choices=choices,
    )


def unknown_levels(known: Sequence[str], levels: NDArray, rows: NDArray[np.int64]) -> list[tuple[str, int, str | None]]:
    """Levels that an encoder does not know: each with its rows and the nearest spelling that it knows, most rows first."""
    taken = set(known)
    by_folded = {one.strip().lower(): one for one in known}
    found = []
    for level, count in zip(levels.tolist(), rows.tolist(), strict=True):
        if level not in taken and level != "":
            near = by_folded.get(level.strip().lower())
            if near is None:
                close = get_close_matches(level.strip().lower(), list(by_folded), 1, 0.75)
                near = by_folded[close[0]] if close else None
            found.append((level, int(count), near))
    return sorted(found, key=lambda one: -one[1])
