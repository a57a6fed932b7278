"""What an ONNX graph is made of, where that can be used: trees or a linear form over encoded columns, and their scale.

The graph is cut at its tree and linear operators. What comes before encodes
the raw columns; what comes after is found out by asking it: whether some scale
of its output (as it is, log-odds, logarithm) is a sum over the operators. Which
raw column each encoded one stems from is proven from the operators between them
(:mod:`~zerotilt.core.predictors.lineage`), never concluded from values. Then the
sum is held against the model's own output on real rows, on rare and extreme ones
first, and on rows mixed column by column. Anything that is not proven or does
not agree runs as a black box, with the reason.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

import numpy as np
import onnx
from numpy.typing import NDArray

from zerotilt.core import output, words
from zerotilt.core.predictors.frame import Frame
from zerotilt.core.predictors.graph_cut import Cut, Linear, Piece, cut_of
from zerotilt.core.predictors.lineage import ROWS, Lineage
from zerotilt.core.predictors.session import session_of
from zerotilt.core.predictors.structure import Structure
from zerotilt.core.trees import graph
from zerotilt.core.trees.ensemble import Trees, joined
from zerotilt.core.trees.graph import Ensemble, Unread

PROBED_ROWS = 400
HARD_ROWS = 1_200
"""Rows of rare levels, extremes and gaps that a structure is held against, at most."""


def read(
    model: onnx.ModelProto,
    result: str,
    feed: Callable[[Frame], dict[str, NDArray]],
    outputs_of: Callable[[NDArray], NDArray[np.float64]],
    outputs: Callable[[Frame], NDArray[np.float64]],
    links: Sequence[output.Link],
    frame: Frame,
    fed: Mapping[str, NDArray[np.integer]],
) -> Structure:
    """Read a graph's structure, and check it on the rows of ``frame``.

    Parameters
    ----------
    result : the graph's output that scores are taken from.
    feed : raw rows to the graph's inputs. outputs : raw rows to the predictor's
        outputs, shape (rows, k); outputs_of : the same from the graph's own result.
    links : scales on which a sum is looked for, in order.
    fed : the raw columns that each of the graph's inputs holds, by their number, for two rows.

    Raises
    ------
    Unread : with the reason the model runs as a black box.
    """
    cut = cut_of(model, result, feed)
    sample = frame.take(_telling(frame))
    encoded = cut.encode(sample)
    cut.widths = [part.shape[1] for part in cut.encode.parts(sample.take(slice(0, 1)))]
    owner, finite = _owners(model, result, cut, frame, fed)
    truth = outputs(sample)
    reach = max(float(np.ptp(truth)), 1e-3 * float(np.abs(truth).max()), 1e-12)
    reasons = []
    for link in links:
        try:
            trees, coefficients, base = _terms(
                cut, encoded, sample, lambda got, to=link: output.linked(outputs_of(got), to)
            )
            found = Structure(cut.encode, owner, trees, coefficients, base, link, reach, finite)
            _check(found, sample, frame, encoded, truth, outputs)
            return found
        except Unread as problem:
            reasons.append(str(problem))
    raise Unread(reasons[0] if reasons else "no scale of its output is looked at")


def _telling(frame: Frame) -> NDArray[np.intp]:
    """Rows to hold a structure against: evenly drawn ones, and of each column its ends, its rarest values and its gaps."""
    chosen = list(np.linspace(0, frame.rows - 1, min(frame.rows, PROBED_ROWS)).astype(int))
    each = max(HARD_ROWS // max(len(frame.names), 1), 3)
    for name in frame.names:
        values = frame[name]
        if values.dtype.kind == "f":
            order = np.argsort(values, kind="stable")  # missing values come last
            known = frame.rows - int(np.isnan(values).sum())
            chosen += [int(order[0]), int(order[max(known - 1, 0)]), int(order[-1])]
            continue
        _, first, times = np.unique(values.astype(str), return_index=True, return_counts=True)
        chosen += first[np.argsort(times, kind="stable")[:each]].tolist()
    return np.array(list(dict.fromkeys(chosen)), np.intp)


def _check(found: Structure, sample: Frame, frame: Frame, encoded, truth: NDArray[np.float64], outputs) -> None:
    """On real rows, and on rows mixed in code, which is what every method asks about, against rows mixed as they are."""
    rng = np.random.default_rng(0)
    others = frame.take(rng.integers(0, frame.rows, sample.rows))
    known = rng.random((sample.rows, len(frame.names))) < rng.random((sample.rows, 1))
    mixed = Frame({name: np.where(known[:, j], sample[name], others[name]) for j, name in enumerate(frame.names)})
    rows = np.arange(sample.rows)
    sums = found.mixed_sums(encoded, found.encode(others), rows, rows, known)
    for got, expected in ((found.sums_of(encoded), truth), (sums, outputs(mixed))):
        if not found.agrees(got, expected).all():
            raise Unread("its output is no sum over its trees or columns on a known scale")


def _owners(
    model: onnx.ModelProto, result: str, cut: Cut, frame: Frame, fed: Mapping[str, NDArray[np.integer]]
) -> tuple[NDArray[np.int32], tuple[str, ...]]:
    """Which raw column each encoded column stems from, −1 for none, proven from the graph's operators; and the raw
    columns that must be finite numbers for that.

    Raises
    ------
    Unread : an encoded column can depend on two raw columns or on another row, or the output on a raw column
        beside the operators that are read.
    """
    rows = frame.take(np.arange(ROWS) % frame.rows)

    def shapes(names: Sequence[str]) -> dict[str, tuple[int, ...]]:
        asked = onnx.ModelProto()
        asked.CopyFrom(model)
        del asked.graph.output[:]
        asked.graph.output.extend(onnx.ValueInfoProto(name=name) for name in names)
        session = session_of(asked.SerializeToString())
        taken = {entry.name for entry in session.get_inputs()}
        given = {name: value for name, value in cut.feed(rows).items() if name in taken}
        answers: list[Any] = list(session.run(list(names), given))
        return {name: np.shape(value) for name, value in zip(names, answers, strict=True)}

    lineage = Lineage(fed, cut.constants, shapes, model.opset_import)
    lineage.follow(cut.before)
    owner = []
    for source in cut.sources:
        if not lineage.row_by_row(source):
            raise Unread("how one row is encoded may depend on other rows")
        for columns in lineage.columns(source):
            if len(columns) > 1:
                first, second = (words.title(frame.names[j]) for j in sorted(columns)[:2])
                raise Unread(f"one of its encoded columns mixes “{first}” and “{second}”")
            owner.append(next(iter(columns), -1))
    if set(fed) & set(cut.after_inputs):
        behind = Lineage(fed, cut.constants, shapes, model.opset_import)
        behind.of_pieces([name for piece in cut.pieces for name in piece.node.output if name in cut.after_inputs])
        behind.follow(cut.behind)
        if any(behind.columns(result)):
            raise Unread("its output depends on its columns in other ways than through its trees or linear operators")
    return np.array(owner, np.int32), tuple(frame.names[j] for j in sorted(lineage.finite))


def encoders(
    model: onnx.ModelProto, fed: Mapping[str, NDArray[np.integer]], names: Sequence[str]
) -> list[tuple[onnx.NodeProto, list[str], str]]:
    """Operators that know certain texts only: each with what it knows, and the raw column that alone reaches it."""
    constants = {tensor.name: onnx.numpy_helper.to_array(tensor) for tensor in model.graph.initializer}

    def unknown(asked: Sequence[str]) -> dict[str, tuple[int, ...]]:
        raise KeyError(asked)

    lineage = Lineage(fed, constants, unknown, model.opset_import)
    found = []
    for node in model.graph.node:
        known = next(
            (a.strings for a in node.attribute if a.name in ("cats_strings", "keys_strings") and a.strings), None
        )
        if known is not None and node.op_type in ("OneHotEncoder", "LabelEncoder"):
            try:
                columns = lineage.columns(node.input[0])
            except KeyError:
                columns = []
            if len(columns) == 1 and len(columns[0]) == 1:
                texts = [text.decode("utf-8", "replace") for text in known]
                found.append((node, texts, names[next(iter(columns[0]))]))
        try:
            lineage.follow([node])
        except KeyError:  # what comes after an operator that is not followed is not looked at
            continue
    return found


def reaching(model: onnx.ModelProto, node: onnx.NodeProto, given: Mapping[str, NDArray]) -> NDArray | None:
    """What reaches an operator for some rows; None where the graph cannot be asked for it."""
    if node.input[0] in given:
        return np.asarray(given[node.input[0]])
    asked = onnx.ModelProto()
    asked.CopyFrom(model)
    del asked.graph.output[:]
    asked.graph.output.append(onnx.ValueInfoProto(name=node.input[0]))
    try:
        session = session_of(asked.SerializeToString())
        taken = {entry.name for entry in session.get_inputs()}
        return np.asarray(session.run([node.input[0]], {name: v for name, v in given.items() if name in taken})[0])
    except Exception:  # the notes are not worth failing for
        return None


def _terms(cut: Cut, encoded: NDArray[np.floating], sample: Frame, outputs: Callable[[NDArray], NDArray[np.float64]]):
    """Trees and coefficients on the output's scale, found by moving one piece at a time from a reference row."""
    own = _columns(cut)
    first = [piece.sums(encoded[:1, columns]) for piece, columns in zip(cut.pieces, own, strict=True)]
    asked = [_moves(piece, start) for piece, start in zip(cut.pieces, first, strict=True)]
    sizes = [len(rows) for rows in asked]
    total = 1 + sum(sizes)
    batch = []
    for i, start in enumerate(first):
        rows = np.repeat(start, total, axis=0)
        at = 1 + sum(sizes[:i])
        rows[at : at + sizes[i]] = asked[i]
        batch.append(rows)
    got = outputs(cut.finish(batch, sample.take(np.zeros(total, int))))
    if got.shape[0] != total:
        raise Unread("its last part does not work row by row")
    if not np.isfinite(got).all():
        raise Unread("its output reaches 0 or 1 exactly")
    reference = got[0]
    base = reference.copy()
    trees: list[Trees] = []
    coefficients = np.zeros((encoded.shape[1], got.shape[1]))
    at = 1
    for piece, columns, start, size in zip(cut.pieces, own, first, sizes, strict=True):
        change = got[at : at + size] - reference
        at += size
        k = start.shape[1]
        slope = change[:k]
        straight = np.allclose(change[k : 2 * k], -slope, rtol=1e-6, atol=1e-9 * (np.abs(slope).max() + 1e-30))
        straight &= np.allclose(change[2 * k : 3 * k], 3 * slope, rtol=1e-6, atol=1e-9 * (np.abs(slope).max() + 1e-30))
        if isinstance(piece.does, Linear):
            if not straight:
                raise Unread("its output is not linear in its linear operator on a known scale")
            coefficients[columns] += piece.does.weights @ slope
            base += (piece.does.intercept - start[0]) @ slope
        elif straight:
            held = piece.does.trees
            base += (held.base - start[0]) @ slope
            trees.append(_placed(held, columns, held.leaves @ slope))
        elif len(piece.does.trees.roots) == 1:
            trees.append(_placed(piece.does.trees, columns, change[3 * k :]))
        else:
            raise Unread("its output is not a sum over its trees on a known scale")
    whole = None
    if trees:
        whole = joined(trees)
        whole = whole.with_leaves(whole.leaves, base)
    return whole, coefficients if coefficients.any() or whole is None else None, base


def _moves(piece: Piece, start: NDArray[np.float64]) -> NDArray[np.float64]:
    """Sums to ask about: each output moved up, down and three times up; and every leaf of a single tree."""
    k = start.shape[1]
    step = np.eye(k)
    rows = [start + step, start - step, start + 3 * step]
    if isinstance(piece.does, Ensemble) and len(piece.does.trees.roots) == 1:
        rows.append(piece.does.trees.leaves + piece.does.trees.base)
    return np.concatenate(rows)


def _placed(trees: Trees, columns: slice, leaves: NDArray[np.float64]) -> Trees:
    moved = graph.shifted(Ensemble(trees, "NONE", None, ""), columns.start).trees
    return moved.with_leaves(leaves, np.zeros(leaves.shape[1]))


def _columns(cut: Cut) -> list[slice]:
    """Where each piece's own columns lie in the encoded matrix."""
    ends = np.cumsum([0, *cut.widths])
    widths = dict(zip(cut.sources, cut.widths, strict=True))
    for piece in cut.pieces:
        asked = piece.does.trees.column if isinstance(piece.does, Ensemble) else np.arange(len(piece.does.weights))
        if len(asked) and not 0 <= asked.min() <= asked.max() < widths[piece.source]:
            raise Unread("its trees ask about a column that is not there")
    place = {name: slice(int(ends[i]), int(ends[i + 1])) for i, name in enumerate(cut.sources)}
    return [place[piece.source] for piece in cut.pieces]
