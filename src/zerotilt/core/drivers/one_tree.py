"""One tree of a model, drawn to be read: its splits, the rows that come to each, and where a case goes."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from zerotilt.core import rows as row_sets
from zerotilt.core import words
from zerotilt.core.drawing import MOST_BARS, Bars
from zerotilt.core.frozen import Frozen
from zerotilt.core.meaning import Spec, Wording
from zerotilt.core.method import Method
from zerotilt.core.predictors import Frame
from zerotilt.core.predictors.structure import Structure
from zerotilt.core.reading import Reading, Span
from zerotilt.core.refusal import Refused
from zerotilt.core.subject import Subject
from zerotilt.core.trees.ensemble import GT, GTE, LEQ, LT, Trees, mask_of
from zerotilt.core.work import Work

Bools = NDArray[np.bool_]
NAMED = 3
"""Levels of a split that are named one by one."""


class OneTreeSettings(Frozen):
    tree: int = Field(default=1, ge=1, le=1_000_000, description="Which tree, from 1")
    depth: int = Field(
        default=3, ge=1, le=8, description="Splits one under the other that are drawn; the rest is folded"
    )
    start: int | None = Field(
        default=None, ge=0, description="The split that is drawn at the top; the tree's first when null"
    )
    row: int | None = Field(default=None, ge=0, description="A case, by its row in the table: where it goes")


class TreeNode(Frozen):
    """A split, or a leaf."""

    id: int = Field(description="Of a split; of a leaf −1 less its place")
    parent: int | None = Field(description="Place of the split above among the nodes; null at the top")
    side: str = Field(description="yes or no: which answer of the split above leads here; empty at the top")
    depth: int
    condition: str = Field(description="What a split asks; empty for a leaf")
    feature: str
    rows: int
    share: float = Field(description="Of the rows that are read")
    outcome: float | None = Field(description="Share with the event or class that is read, or the mean, of these rows")
    value: float = Field(description="What the tree adds on average for these rows, or a leaf's own value")
    leaf: bool
    folded: int = Field(description="Splits and leaves under it that are not drawn")
    case: bool = Field(description="Whether the case comes here")


class OneTreeResult(Frozen):
    tree: int
    trees: int
    nodes: tuple[TreeNode, ...] = Field(description="From the top, each split before what is under it, yes before no")
    splits: int = Field(description="Of the whole tree")
    deepest: int
    scale: str = Field(description="What leaves are told in")
    what: str = Field(description="What the outcome is the share or mean of")
    row: int | None
    rows: int
    rows_named: str


def one_tree(subject: Subject, settings: OneTreeSettings, seed: int, work: Work) -> OneTreeResult:
    """One tree as the model's own file holds it, over the rows of the context.

    Raises
    ------
    Refused : the model is no sum of trees, there is no such tree or split, or no such row.
    """
    structure, why = subject.predictions.structure
    if structure is None or structure.trees is None or not len(structure.trees.roots):
        raise Refused(
            f"The model has no trees that can be drawn{f': {why}' if structure is None else ''}.",
            todo="Read a version that is a tree, a forest or boosted trees.",
        )
    trees = structure.trees
    if settings.tree > len(trees.roots):
        raise Refused(f"tree: the model has {words.plural(len(trees.roots), 'tree')}.", todo="Choose one of them.")
    root = int(trees.roots[settings.tree - 1])
    start = root if settings.start is None else settings.start
    inside = _inside(trees, root)
    if start not in inside and start != root:
        raise Refused(f"start: tree {settings.tree} has no split {start}.", todo="Open it from the tree's first.")
    work.begin(1, "tree read")
    encoded = structure.of_frame(subject.frame)[0]
    case = None
    if settings.row is not None:
        subject.editor.require(settings.row)
        case = structure.encode(subject.editor.case(settings.row))
    outcome = _outcome(subject)
    drawn = _Drawn(
        structure, trees, subject.frame, encoded, subject.rows.mass, outcome, case, subject.column, settings.depth
    )
    rows = drawn.coming(root, start)
    drawn.walk(start, None, "", 0, rows, drawn.case_comes(root, start))
    work.advance(1)
    return OneTreeResult(
        tree=settings.tree,
        trees=len(trees.roots),
        nodes=tuple(drawn.nodes),
        splits=len(inside),
        deepest=_deepest(trees, root),
        scale={"identity": "value" if subject.scale == "value" else "probability"}.get(structure.link, structure.link),
        what=subject.what,
        row=settings.row,
        rows=subject.n,
        rows_named=subject.context.rows,
    )


def _outcome(subject: Subject) -> NDArray[np.float64] | None:
    known = subject.rows.outcome_if_known
    if known is None:
        return None
    if subject.kind.classed:
        return (known == subject.column).astype(float)
    return known.astype(float)


def _inside(trees: Trees, root: int) -> set[int]:
    """The splits of a tree."""
    found, waiting = set(), [root]
    while waiting:
        node = waiting.pop()
        if node >= 0:
            found.add(node)
            waiting += [int(trees.yes[node]), int(trees.no[node])]
    return found


def _deepest(trees: Trees, root: int) -> int:
    waiting, deepest = [(root, 0)], 0
    while waiting:
        node, depth = waiting.pop()
        deepest = max(deepest, depth)
        if node >= 0:
            waiting += [(int(trees.yes[node]), depth + 1), (int(trees.no[node]), depth + 1)]
    return deepest


@dataclass
class _Drawn:
    """The nodes of a tree, from the top to a depth."""

    structure: Structure
    trees: Trees
    frame: Frame
    encoded: NDArray[np.floating]
    mass: NDArray[np.float64]
    outcome: NDArray[np.float64] | None
    case: NDArray[np.floating] | None
    column: int
    depth: int
    nodes: list[TreeNode] = field(default_factory=list)

    def goes(self, node: int, encoded: NDArray[np.floating]) -> Bools:
        """Of each row whether it takes a split's yes."""
        t, out = self.trees, np.zeros(len(encoded), bool)
        values = np.ascontiguousarray(encoded[:, t.column[node]])
        mask_of(
            values, t.mode[node], t.track[node], t.threshold[node], t.members, t.first[node], t.first[node + 1], out
        )
        return out

    def coming(self, root: int, start: int) -> Bools:
        """Rows that come from the tree's first split to another."""
        found = np.zeros(len(self.encoded), bool)
        for way in self._ways(root, start):
            rows = np.ones(len(self.encoded), bool)
            for node, yes in way:
                goes = self.goes(node, self.encoded)
                rows &= goes if yes else ~goes
            found |= rows
        return found

    def case_comes(self, root: int, start: int) -> bool:
        if self.case is None:
            return False
        return any(
            all(bool(self.goes(node, self.case)[0]) == yes for node, yes in way) for way in self._ways(root, start)
        )

    def _ways(self, root: int, start: int) -> list[list[tuple[int, bool]]]:
        """Every way from one split to another: files may write a set of levels as several questions with one end."""
        found = []
        waiting: list[tuple[int, list[tuple[int, bool]]]] = [(root, [])]
        while waiting:
            node, way = waiting.pop()
            if node == start:
                found.append(way)
            elif node >= 0:
                waiting += [
                    (int(self.trees.yes[node]), [*way, (node, True)]), (int(self.trees.no[node]), [*way, (node, False)])
                ]  # fmt: skip
        return found

    def walk(self, node: int, parent: int | None, side: str, depth: int, rows: Bools, case: bool) -> float:
        """Add a node and what is under it; what the tree adds for its rows on average."""
        place = len(self.nodes)
        self.nodes.append(None)  # type: ignore[arg-type]  it stands before what is under it
        counted = rows & (self.mass > 0)
        n = int(counted.sum())
        outcome = (
            float(np.average(self.outcome[counted], weights=self.mass[counted]))
            if n and self.outcome is not None
            else None
        )
        condition, feature, folded = "", "", 0
        if node < 0:
            value = float(self.trees.leaves[-node - 1, self.column])
        else:
            goes = self.goes(node, self.encoded)
            owner = int(self.structure.owner[self.trees.column[node]])
            feature = self.frame.names[owner] if owner >= 0 else ""
            if depth < self.depth:
                condition = self._asked(node, owner, goes)
                here = bool(self.goes(node, self.case)[0]) if case and self.case is not None else False
                above = self.walk(int(self.trees.yes[node]), place, "yes", depth + 1, rows & goes, case and here)
                under = self.walk(int(self.trees.no[node]), place, "no", depth + 1, rows & ~goes, case and not here)
                first, second = (float(self.mass[rows & one].sum()) for one in (goes, ~goes))
                value = (above * first + under * second) / (first + second) if first + second else (above + under) / 2
            else:
                condition = self._asked(node, owner, goes)
                folded = 2 * len(_inside(self.trees, node))
                value = self._mean(node, rows)
        self.nodes[place] = TreeNode(
            id=node,
            parent=parent,
            side=side,
            depth=depth,
            condition=condition,
            feature=feature,
            rows=n,
            share=float(self.mass[rows].sum() / max(self.mass.sum(), 1e-300)),
            outcome=outcome,
            value=value,
            leaf=node < 0,
            folded=folded,
            case=case,
        )
        return value

    def _mean(self, node: int, rows: Bools) -> float:
        """What is under a folded split adds on average."""
        if node < 0:
            return float(self.trees.leaves[-node - 1, self.column])
        if not (self.mass[rows] > 0).any():
            return 0.0
        alone = Trees(
            roots=np.array([node], np.int32),
            **{name: getattr(self.trees, name) for name in ("column", "threshold", "mode", "track", "yes", "no", "first", "members", "leaves")},
            base=np.zeros(self.trees.outputs),
        )  # fmt: skip
        return float(np.average(alone.sums(self.encoded[rows])[:, self.column], weights=self.mass[rows]))

    def _asked(self, node: int, owner: int, goes: Bools) -> str:
        """What a split asks of the column people know: "parcel weight is at most 10", "home area is outer isles"."""
        if owner < 0:
            return "a value that no column moves"
        name = self.frame.names[owner]
        raw = self.frame[name]
        return f"{words.title(name)} {self._of_number(node, raw, goes) if raw.dtype.kind == 'f' else _of_levels(raw, goes)}"

    def _of_number(self, node: int, raw: NDArray, goes: Bools) -> str:
        known = np.isfinite(raw)
        values, yes = raw[known], goes[known]
        missing = goes[~known]
        also = " or missing" if len(missing) and missing.all() else ""
        own = self.encoded[known, self.trees.column[node]]
        mode, threshold = int(self.trees.mode[node]), float(self.trees.threshold[node])
        if np.array_equal(values.astype(own.dtype), own) and mode in (LEQ, LT, GTE, GT):
            how = {LEQ: "is at most", LT: "is under", GTE: "is at least", GT: "is over"}[mode]
            return f"{how} {words.quantity(threshold)}{also}"
        if not yes.any() or yes.all():
            return f"{'holds' if yes.any() else 'does not hold'} for every row that is read{also}"
        inside, outside = values[yes], values[~yes]
        if inside.max() < outside.min():
            return f"is at most {words.quantity(float(inside.max()))}{also}"
        if inside.min() > outside.max():
            return f"is over {words.quantity(float(outside.max()))}{also}"
        return f"is one of {words.plural(len(np.unique(inside)), 'value')}{also}"


def _of_levels(raw: NDArray, goes: Bools) -> str:
    levels = np.unique(raw.astype(str))
    yes = [str(one) for one in levels if goes[raw.astype(str) == one].all()]
    no = [str(one) for one in levels if str(one) not in yes]
    few, word = (yes, "is") if len(yes) <= len(no) else (no, "is not")
    if not few:
        return "is what every row holds" if yes else "is none of what the rows hold"
    told = [one or "missing" for one in few]
    if len(told) > NAMED:
        return f"{word} one of {words.plural(len(told), 'level')}"
    return f"{word} {words.listing(told, 'or')}"


def say(result: OneTreeResult, wording: Wording, settings: OneTreeSettings) -> Reading:
    of = row_sets.counted(result.rows, result.rows_named, wording.row if result.rows == 1 else wording.rows)
    first = result.nodes[0]
    named = f"Tree {words.count(result.tree)} of {words.count(result.trees)}" if result.trees > 1 else "The tree"
    if first.leaf:
        return Reading(
            headline=(Span(text=f"{named} asks nothing: it adds the same to every one of {of}."),), detail=""
        )
    yes = next(one for one in result.nodes if one.parent == 0 and one.side == "yes")
    no = next(one for one in result.nodes if one.parent == 0 and one.side == "no")
    asks = "asks first" if settings.start is None else "asks here"
    head = (
        f"{named} {asks} whether {first.condition}: {words.count(yes.rows)} of {of if settings.start is None else words.count(first.rows)} "
        f"go one way, {words.count(no.rows)} the other."
    )
    second = ""
    if yes.outcome is not None and no.outcome is not None and result.scale != "value":
        second = (
            f" Of them, {words.percent(yes.outcome)} and {words.percent(no.outcome)} have the outcome that is read."
        )
    detail = (
        f"It has {words.plural(result.splits, 'split')} in all, {words.count(result.deepest)} one under the other at most. "
        + ("Leaves of all trees are added up, so one tree alone explains no prediction." if result.trees > 1 else "")
    )
    return Reading(headline=(Span(text=head), Span(text=second)), detail=detail.strip())


def picture(result: OneTreeResult, spec: Spec) -> Bars | None:
    """The rows that come to each end that is drawn."""
    ends = [one for one in result.nodes if one.leaf or one.folded]

    def way(one: TreeNode) -> str:
        parts = []
        while one.parent is not None:
            above = result.nodes[one.parent]
            parts.append(above.condition if one.side == "yes" else f"not: {above.condition}")
            one = above
        return "; ".join(reversed(parts)) or "all rows"

    shown = ends[:MOST_BARS]
    return Bars(
        names=tuple(way(one) for one in shown),
        values=tuple(one.share for one in shown),
        label="share of the rows",
        spans=tuple((one.share, one.share) for one in shown),
    )


METHOD = Method(
    name="one_tree",
    area="drivers",
    title="One tree",
    settings=OneTreeSettings,
    result=OneTreeResult,
    compute=one_tree,
    say=say,
    note=(
        "A tree as the model's file holds it, whoever trained it. A split is told in the column that people know: where a file "
        "encodes levels or scales numbers, the question is put back by where the rows that are read go. Beside each stands how "
        "many rows come there, the share of them with the outcome (or its mean), and what the tree adds for them on average, in "
        "the model's own terms: log-odds for boosted trees, a probability for a forest. Of a forest or of boosted trees one tree is "
        "one voice of many, and many trees can say the same otherwise."
    ),
    main="nodes",
    part="tree",
    picture=picture,
)
