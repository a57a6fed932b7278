"""Candidates: train them from the audit's table, and set them beside each other."""

from __future__ import annotations

from collections import Counter
from datetime import datetime

from fastapi import APIRouter, HTTPException
from pydantic import BaseModel, Field

from zerotilt.api.desk import Saw, Seeing, TheDesk, connected, held, ready
from zerotilt.api.identity import Who, identifier
from zerotilt.api.views import TaskView
from zerotilt.core.candidates.compared import CandidatesTable
from zerotilt.core.candidates.recipe import Dealing, Recipe
from zerotilt.core.candidates.remedied import Remedied
from zerotilt.core.candidates.searching import Search
from zerotilt.core.candidates.validated import AsideMeasured, LearntGroup, Limited, Validated
from zerotilt.core.meaning import Spec
from zerotilt.core.refusal import Refused
from zerotilt.core.tasks import kind_of
from zerotilt.store.records import Audit, Candidate, TableFile, Task, TestLook
from zerotilt.tasks.board import current_table, named, version_of
from zerotilt.tasks.candidates import ask_to_train, free_names, of_table, standing

router = APIRouter(prefix="/api/audits/{audit_id}/candidates", tags=["candidates"])


class Wanted(BaseModel):
    parent: str | None = Field(default=None, description="The version whose recipe was changed into these")
    recipes: list[Recipe] = Field(
        default=[], max_length=40, description="The starter set when empty: every estimator as it comes"
    )
    dealing: Dealing = Field(default=Dealing(), description="Of the starter set")


class CandidateView(BaseModel):
    """A model that was trained here."""

    model: str = Field(description="The model version")
    name: str
    recipe: Recipe
    remedies: tuple[str, ...] = Field(description="What its recipe does about a gap or a weakness, in words")
    learnt: tuple[LearntGroup, ...] = Field(description="Rows and events by group, as recorded and as learnt from")
    limited: Limited | None
    script: str = Field(description="Trains it again")
    seconds: float
    bytes: int
    created: datetime
    test: AsideMeasured | None = Field(description="Rows put aside; null until somebody has looked")
    looks: int = Field(description="Times that somebody looked at them")


class Grouped(BaseModel):
    """Groups whose gap can be told beside."""

    attribute: str
    groups: list[str]


class GapShown(BaseModel):
    """Whose metric is held against whose."""

    metric: str
    column: str
    group: str
    reference: str


class CandidatesView(BaseModel):
    metrics: list[str] = Field(description="What they can be ordered by, the usual one first")
    groups: list[Grouped]
    gap: GapShown | None = Field(
        description="The gap that stands beside: what was not named is the farthest group of the first column"
    )
    remedied: list[Remedied] = Field(description="What remedies did to the gap that stands beside, the worst first")
    remedies_said: list[str]
    frontier_said: list[str] = Field(description="What price stands against what gap")
    reading: list[str] = Field(description="What it says, sentence by sentence")
    table: CandidatesTable | None = Field(description="Those that were validated on the same folds; null where none is")
    candidates: list[CandidateView] = Field(description="Of the table, in its order")
    others: int = Field(description="Trained on another table, meaning or dealing of rows, and so not compared")
    looks: int = Field(description="Times that somebody looked at rows put aside, of any candidate")


def _learnt_from(audit: Audit, saw: Saw) -> tuple[TableFile, Spec]:
    """The table that can be learnt from and what it means, as who asks saw them."""
    table, spec = current_table(ready(held(audit))), Spec.model_validate(audit.spec)
    saw.still(audit, "meaning", "table")
    if not spec.knows_outcome:
        raise Refused("No column holds what happened; nothing can be learnt.", todo="Set the outcome in Intake.")
    return table, spec


@router.post("", status_code=202)
@connected
def train(audit: Audit, desk: TheDesk, saw: Seeing, wanted: Wanted) -> list[TaskView]:
    """Ask for candidates to be trained; each is work of its own, and what is done stays."""
    table, spec = _learnt_from(audit, saw)
    parent = version_of(audit, wanted.parent)
    recipes = wanted.recipes or starter(spec, wanted.dealing)
    known = [Recipe.model_validate(one.recipe) for one in of_table(audit, table, spec)]
    new = [one for place, one in enumerate(recipes) if one not in known and one not in recipes[:place]]
    if not new:
        raise Refused(
            "What was asked for was trained already, on this table and its meaning.",
            todo="Change a setting, or how rows are dealt.",
        )
    found = []
    for recipe, name in zip(new, free_names(audit, new), strict=True):
        payload = {
            "spec": audit.spec,
            "table_digest": table.digest,
            "recipe": recipe.model_dump(mode="json"),
            "parent": str(parent.id) if parent else None,
        }
        task = ask_to_train(desk.board, audit, name, payload)
        found.append(TaskView.of(Task.get_by_id(task.id)))
    return found


class Sought(BaseModel):
    search: Search = Search()
    base: Recipe = Field(
        default=Recipe(estimator="linear"), description="What is not searched: dealing, columns, remedies, seed"
    )
    parent: str | None = Field(default=None, description="The version whose recipe is searched around")


@router.post("/search", status_code=202)
@connected
def seek(audit: Audit, desk: TheDesk, saw: Seeing, wanted: Sought) -> TaskView:
    """Search settings within ranges for a time; the best that was found is trained as a candidate."""
    table, _ = _learnt_from(audit, saw)
    parent = version_of(audit, wanted.parent)
    payload = {
        "spec": audit.spec,
        "table_digest": table.digest,
        "search": wanted.search.model_dump(mode="json"),
        "base": wanted.base.model_dump(mode="json"),
        "parent": str(parent.id) if parent else None,
    }
    task = desk.board.submit("search", "Searching settings", payload, audit, named("search", audit, payload))
    return TaskView.of(Task.get_by_id(task.id))


def starter(spec: Spec, dealing: Dealing) -> list[Recipe]:
    """Every estimator as it comes, the quickest first."""
    classed = kind_of(spec.task).decides
    order = (
        "linear", "one tree", "naive Bayes", "small network", "boosted trees", "forest", "extra trees",
        "nearest neighbours",
    )  # fmt: skip
    return [Recipe(estimator=one, dealing=dealing) for one in order if classed or one != "naive Bayes"]


@router.get("")
@connected
def read_candidates(
    audit: Audit, metric: str = "", gap: str = "", column: str = "", group: str = "", reference: str = ""
) -> CandidatesView:
    """Those that were validated on the same folds as the newest, in one metric; with the gap of a group where one is named.

    ``gap``: the metric whose difference between group and reference is told.
    """
    table, spec = current_table(ready(audit)), Spec.model_validate(audit.spec)
    rows, found = standing(audit, table, spec, metric=metric, gap=gap, column=column, group=group, reference=reference)
    first = next(iter(found.worth.values()), None)
    groups: dict[str, list[str]] = {}
    for one in first.folds[0].groups if first else ():
        groups.setdefault(one.attribute, []).append(one.group)
    counts = Counter(
        look.candidate_id for look in TestLook.select().where(TestLook.candidate << [one.id for one in rows])
    )
    by_name = {one.model.name: one for one in rows}
    gapped = found.gap and GapShown(**dict(zip(("metric", "column", "group", "reference"), found.gap, strict=True)))
    return CandidatesView(
        metrics=found.metrics,
        gap=gapped,
        groups=[Grouped(attribute=name, groups=each) for name, each in groups.items()],
        remedied=list(found.remedied),
        remedies_said=list(found.remedies_said),
        frontier_said=list(found.frontier_said),
        reading=list(found.reading),
        table=found.table,
        candidates=[_view(by_name[one.name], counts[by_name[one.name].id]) for one in found.table.standings]
        if found.table
        else [],
        others=audit.candidates.count() - len(rows),
        looks=sum(counts.values()),
    )


def _view(one: Candidate, looks: int) -> CandidateView:
    recipe, worth = Recipe.model_validate(one.recipe), Validated.model_validate(one.validated)
    return CandidateView(
        model=str(one.model.id),
        name=one.model.name,
        recipe=recipe,
        remedies=recipe.remedies,
        learnt=worth.learnt,
        limited=worth.limited,
        script=(one.model.card.get("made") or {}).get("script", ""),
        seconds=one.seconds,
        bytes=one.bytes,
        created=one.created,
        test=AsideMeasured.model_validate(one.test) if looks and one.test else None,
        looks=looks,
    )


@router.post("/{model_id}/look")
@connected
def look(audit: Audit, model_id: str, who: Who) -> CandidateView:
    """Look at the rows that were put aside, of one candidate; that somebody did is counted."""
    held(audit)
    found = Candidate.get_or_none((Candidate.model == identifier(model_id)) & (Candidate.audit == audit))
    if found is None:
        raise HTTPException(404, "There is no such candidate.")
    if found.test is None:
        raise Refused("No rows were put aside when it was trained.", todo="Train it again with some put aside.")
    TestLook.create(candidate=found, author=who.identity.signed(""))
    return _view(found, found.looks.count())
