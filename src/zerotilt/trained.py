"""Candidates outside the pages: trained from a frame or a file of recipes, set beside each other, kept in a folder."""

from __future__ import annotations

import hashlib
import json
import re
import tempfile
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import pyarrow as pa
from pydantic import Field, ValidationError

from zerotilt import settings_file
from zerotilt.cluster import executor_at
from zerotilt.core import parsing
from zerotilt.core import table as tables
from zerotilt.core.candidates.recipe import Dealing, Recipe
from zerotilt.core.candidates.standing import Standing, stand
from zerotilt.core.candidates.validated import Validated
from zerotilt.core.frozen import Frozen, in_words
from zerotilt.core.meaning import Context, Spec, Wording
from zerotilt.core.methods import method_named, result_of
from zerotilt.core.predictors.formats import opened
from zerotilt.core.refusal import Refused
from zerotilt.core.subject import Subject
from zerotilt.core.table import Table
from zerotilt.core.work import Work
from zerotilt.study_inputs import arrow_of, spec_of
from zerotilt.train.fitting import train as train_one

Progress = Callable[[int, int, str], None]
KEPT = "candidates.json"
"""The file of a folder of candidates that says what they are."""
MOST = 200


class Named(Recipe):
    """A recipe as a file holds it; its name is the estimator's, with a number, when it has none."""

    name: str = Field(default="", max_length=120)


class RecipeFile(Frozen):
    """A file of recipes (TOML): the table, what its columns are, how rows are dealt, and the candidates."""

    zerotilt: int = Field(ge=1, le=1)
    settings: str = Field(default="", description="File of settings, as Intake writes it, beside this one")
    table: str = Field(default="", description="Table of cases beside this file; the settings' own when empty")
    outcome: str = Field(default="", description="Without settings: the column that says what happened")
    event: str = Field(default="", description="Without settings: the value whose chance is predicted")
    groups: tuple[str, ...] = Field(default=(), description="Without settings: columns whose groups are compared")
    dealing: Dealing = Dealing()
    candidate: tuple[Named, ...] = Field(min_length=1, max_length=MOST)


@dataclass(frozen=True)
class Candidate:
    recipe: Recipe
    validated: Validated
    model: bytes = field(repr=False)
    seconds: float
    largest_difference: float


@dataclass
class Candidates:
    """Candidates that were trained on the same rows, by name."""

    spec: Spec
    table_digest: str
    made: dict[str, Candidate]

    def standing(
        self, metric: str = "", gap: str = "", column: str = "", group: str = "", reference: str = ""
    ) -> Standing:
        """How they stand in a metric, with the gap of a group in another beside; what is not named is chosen as on the page.

        Raises
        ------
        Refused : the metric was not measured.
        """
        told = [(name, one.recipe, one.validated) for name, one in self.made.items()]
        return stand(self.spec, told, metric, gap, column, group, reference)

    def reading(self, **how: str) -> str:
        """What that says, sentence by sentence."""
        found = self.standing(**how)
        return "\n".join(
            [" ".join(found.reading), *found.remedies_said, *found.warned, *(found.frontier_said if found.gap else ())]
        )

    def table(self, **how: str) -> pa.Table:
        """The same as a table, the leader first."""
        found = self.standing(**how)
        return pa.Table.from_pylist(
            [_flat(one.model_dump(exclude={"folds"})) for one in found.table.standings] if found.table else []
        )

    def against(self, table: Table, base: str = "") -> Subject:
        """One of them as a subject on the held-out rows of a table, with all others beside; the leader when none is named.

        Raises
        ------
        Refused : there is no such candidate, or it does not fit the table.
        """
        leader = self.standing().table
        base = base or (leader.leader if leader and leader.leader else next(iter(self.made)))
        if base not in self.made:
            raise Refused(f"“{base}” is none of the candidates {', '.join(self.made)}.")

        def subject(name: str) -> Subject:
            return Subject(self.spec, table, opened(self.made[name].model, table, self.spec), Context(model_named=name))

        return replace(subject(base), others={name: subject(name) for name in self.made if name != base})

    def save(self, folder: str | Path) -> None:
        """Write every model file, and what is known of it, into a folder."""
        folder = Path(folder)
        folder.mkdir(parents=True, exist_ok=True)
        files = dict(zip(self.made, _file_names(self.made), strict=True))
        for name, one in self.made.items():
            (folder / files[name]).write_bytes(one.model)
        told = {
            "zerotilt": 1,
            "table": self.table_digest,
            "spec": self.spec.model_dump(mode="json"),
            "candidates": [
                {
                    "name": name,
                    "file": files[name],
                    "recipe": one.recipe.model_dump(mode="json"),
                    "validated": one.validated.model_dump(mode="json"),
                    "seconds": one.seconds,
                    "largest_difference": one.largest_difference,
                }
                for name, one in self.made.items()
            ],
        }
        (folder / KEPT).write_text(json.dumps(told, ensure_ascii=False, indent=1), encoding="utf-8")

    @classmethod
    def open(cls, folder: str | Path) -> Candidates:
        """Candidates of a folder.

        Raises
        ------
        Refused : it is no folder of candidates, or a file is missing.
        """
        folder = Path(folder)
        try:
            told = parsing.from_json((folder / KEPT).read_bytes())
            return cls(
                Spec.model_validate(told["spec"]),
                told["table"],
                {
                    one["name"]: Candidate(
                        Recipe.model_validate(one["recipe"]),
                        Validated.model_validate(one["validated"]),
                        (folder / Path(one["file"]).name).read_bytes(),
                        one["seconds"],
                        one["largest_difference"],
                    )
                    for one in told["candidates"]
                },
            )
        except OSError as problem:
            raise Refused(
                f"“{folder}” is no folder of candidates: {problem.strerror}.",
                todo="Give the folder that ./zt train wrote.",
            ) from None
        except (ValueError, KeyError, TypeError):
            raise Refused(
                f"“{folder / KEPT}” is not what ./zt train writes.", todo="Train the candidates again."
            ) from None


def _flat(one: Mapping[str, Any]) -> dict[str, Any]:
    """A record whose estimates are columns of their own."""
    out: dict[str, Any] = {}
    for name, value in one.items():
        if isinstance(value, dict):
            out |= {name if end == "value" else f"{name}_{end}": value[end] for end in ("value", "low", "high")}
        else:
            out[name] = value
    return out


def _file_names(names: Sequence[str]) -> list[str]:
    """File names that tell candidates apart whatever they are called."""
    found: list[str] = []
    for name in names:
        plain = re.sub(r"[^\w-]+", "-", name).strip("-").lower()[:60] or "candidate"
        found.append(
            next(one for k in range(len(names) + 1) if (one := f"{plain}{f'-{k + 1}' if k else ''}.onnx") not in found)
        )
    return found


def train(
    frame: Any,
    *recipes: Recipe | Mapping[str, Any],
    outcome: str,
    event: str | None = None,
    groups: Sequence[str] = (),
    dealing: Dealing | None = None,
    spec: Spec | None = None,
    cluster: str | None = None,
    progress: Progress | None = None,
    wording: Wording | None = None,
) -> Candidates:
    """Train candidates from a frame.

    >>> found = train(frame, {"estimator": "linear"}, {"estimator": "linear", "reweigh": "home_area"},
    ...               outcome="claim_valid", event="yes", groups=["home_area"])  # doctest: +SKIP
    >>> print(found.reading(gap="selection_rate"))  # doctest: +SKIP

    Parameters
    ----------
    recipes : as :class:`~zerotilt.core.candidates.recipe.Recipe`, or its fields; with ``name``, else named by the estimator.
    dealing : folds and rows put aside, of recipes that say nothing of it. spec : the whole meaning, instead of the rest.
    cluster : address of a Dask scheduler.

    Raises
    ------
    Refused : the outcome, a recipe or a setting cannot be used.
    """
    found = Table(arrow_of(frame))
    meaning = spec or spec_of(
        found, outcome, event, None, (), {}, list(groups), None, [], "", 0.5, wording or Wording()
    )
    named = [_named(one, dealing) for one in recipes]
    return _trained(meaning, found, named, "", Work(progress, executor_at(cluster)))


def _named(one: Recipe | Mapping[str, Any], dealing: Dealing | None) -> Named:
    body = one.model_dump() if isinstance(one, Recipe) else dict(one)
    if dealing is not None:
        body.setdefault("dealing", dealing)
    try:
        return Named.model_validate(body)
    except ValidationError as problem:
        raise _refusal(problem) from None


def _refusal(problem: ValidationError) -> Refused:
    first = problem.errors()[0]
    where = ".".join(str(one + 1) if isinstance(one, int) else str(one) for one in first["loc"])
    return Refused(f"{where}: {in_words(first)}.", where="recipe", todo="Correct it there.")


def _trained(spec: Spec, table: Table, recipes: Sequence[Named], digest: str, work: Work) -> Candidates:
    made: dict[str, Candidate] = {}
    for one in recipes:
        recipe = Recipe.model_validate(one.model_dump(exclude={"name"}))
        name = one.name or next(called for k in range(1, MOST + 2) if (called := f"{recipe.called} {k}") not in made)
        if name in made:
            raise Refused(f"Two candidates are called “{name}”.", todo="Name them apart.")
        found = train_one(spec, table, recipe, work, digest)
        made[name] = Candidate(recipe, found.validated, found.data, found.seconds, found.largest_difference)
    return Candidates(spec, digest, made)


def train_file(path: Path, cluster: str | None, progress: Progress | None) -> Candidates:
    """Train what a file of recipes asks for.

    Raises
    ------
    Refused : the file, the settings or the table cannot be used; the message says where.
    """
    asked = _read(path)
    spec, source = None, asked.table
    if asked.settings:
        settings = settings_file.read(_text(path.parent / asked.settings))
        spec, source = settings.spec, asked.table or settings.table
    elif not asked.outcome:
        raise Refused("The file names neither settings nor an outcome.", where=str(path), todo="Give one of them.")
    if not source:
        raise Refused("The file names no table.", where=str(path), todo="Give its table.")
    work = Work(progress, executor_at(cluster))
    with tempfile.TemporaryFile() as typed:
        try:
            with (path.parent / source).open("rb") as raw:
                digest = hashlib.file_digest(raw, "sha256").hexdigest()
                raw.seek(0)
                tables.convert(raw, typed, work=work)
        except OSError as problem:
            raise Refused(f"The table “{source}” cannot be read: {problem.strerror}.", todo="Check the path.") from None
        typed.seek(0)
        held = Table(typed)
        if spec is None:
            spec = spec_of(
                held, asked.outcome, asked.event or None, None, (), {}, list(asked.groups), None, [], "", 0.5, Wording()
            )
        recipes = [
            one if "dealing" in one.model_fields_set else one.model_copy(update={"dealing": asked.dealing})
            for one in asked.candidate
        ]
        return _trained(spec, held, recipes, digest, work)


def _read(path: Path) -> RecipeFile:
    try:
        return RecipeFile.model_validate(parsing.toml(_text(path)))
    except Refused as problem:
        raise Refused(problem.message, where=str(path), todo=problem.todo) from None
    except ValidationError as problem:
        raise _refusal(problem) from None


def _text(path: Path) -> str:
    try:
        return path.read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as problem:
        why = problem.strerror if isinstance(problem, OSError) else "it is no text"
        raise Refused(f"“{path}” cannot be read: {why}.", todo="Check the path.") from None


def compared_on(found: Candidates, source: Path, base: str, progress: Progress | None) -> str:
    """What the versions say on the held-out rows of a table file.

    Raises
    ------
    Refused : the table cannot be used, or a candidate does not fit it.
    """
    method = method_named("versions")
    with tempfile.TemporaryFile() as typed:
        try:
            with source.open("rb") as raw:
                tables.convert(raw, typed, work=Work(progress))
        except OSError as problem:
            raise Refused(f"The table “{source}” cannot be read: {problem.strerror}.", todo="Check the path.") from None
        typed.seek(0)
        subject = found.against(Table(typed), base)
        result = result_of(method, subject, method.settings(), 0, Work(progress))
    said = method.read(result, found.spec.wording, method.settings())
    return "\n".join([f"{said.text} {said.detail}".strip(), *said.points])
