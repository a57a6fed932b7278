"""First guesses of kind and role for each column. Every guess is shown and can be corrected."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Any

from zerotilt.core.levels import match_level
from zerotilt.core.meaning import ColumnSpec, Kind, Problem, Role, Spec, Task
from zerotilt.core.profiles import LONGEST_LEVEL, ColumnProfile, TableProfile
from zerotilt.core.table import NO, YES

_TRUTH = YES | NO
_TRAINING = {
    "train", "training", "trained", "learn", "learning", "fit", "dev", "development", "lernen", "lern", "lernmenge", "anlernen",
    "apprentissage", "entraînement", "entrainement", "entrenamiento", "treino", "treinamento", "addestramento", "trening",
    "träning",
}  # fmt: skip
_HELD_OUT = {
    "test", "testing", "tested", "holdout", "hold-out", "hold_out", "held-out", "held_out", "held out", "prüfung", "pruefung",
    "prüfmenge", "prueba", "teste", "verifica", "toets", "essai", "evaluation", "eval",
}  # fmt: skip
_VALIDATION = {"valid", "validation", "val", "validierung", "validación", "validacion", "validação", "later"}
_SPLITS = _TRAINING | _HELD_OUT | _VALIDATION
_OF_SPLITS = re.compile(
    r"(^|_)(split|partition|hold_?out|held_?out|(is|in)_(test|train|training)|(test|train|training)_(set|split|rows))$"
)
"""Names of columns that say which rows were held out; a "test" or a "training" alone may be one that people took."""
_OF_TRAINING = re.compile(r"(^|_)(train|training)(_(set|split|rows))?$")
_OF_HELD_OUT = re.compile(r"(^|_)(hold_?out|held_?out|test)(_(set|split|rows))?$")
_SCALES = (("low", "medium", "high"), ("none", "low", "medium", "high"), ("small", "medium", "large"))
_OUTCOMES = {"outcome", "label", "target", "y", "actual", "truth", "observed"}
_WEIGHTS = {"weight", "weights", "row_weight", "sample_weight", "case_weight"}
_SCORES = {"score", "probability", "prediction_score", "predicted_probability", "model_score"}
_DECISIONS = {"decision", "decided", "predicted", "prediction", "model_decision"}
_GOOD = re.compile(
    r"approv|accept|grant|admit|hired?\b|offer|award|eligib|valid|settled|paid\b|repaid|repay|pass(ed)?\b|success|promot|"
    r"invit|employ|graduat|good\b|cured|survi|benefit|qualif|select"
)
_BAD = re.compile(
    r"reject|den(y|ied)|refus|default|arrest|fraud|recid|reoffend|convict|delinq|overdue|late\b|churn|bad\b|fail|drop_?out|"
    r"terminat|charged_?off|risk|illness|disease|death|died|accident|inspect|suspen|evict|jail|prison|bankrupt|violat"
)
_MANY_VALUES = 10
"""More numbers than these are not the names of classes."""
_IDENTIFIERS = re.compile(r"(^|_)(id|ids|key|number|nr|no|uuid|code|reference|ref)$")
_GROUPS = re.compile(
    r"(^|_)(age_?(band|group)|sex|gender|ethnic\w*|race|religion|faith|language|region|area|nationality|disab\w*|marital\w*"
    r"|geschlecht|altersgruppe|alters_?klasse|herkunft|staatsangeh\w*|nationalit\w*|sprache|gebiet|behinderung|familienstand|konfession"
    r"|sexe|genre|tranche_d_age|origine|nationalite|langue|handicap|etat_civil|situation_familiale"
    r"|sexo|g[eé]nero|grupo_(de_)?edad|edad_grupo|etnia|raza|religi[oó]n|idioma|nacionalidad|regi[oó]n|discapacidad|estado_civil"
    r"|sesso|fascia_(di_)?eta|etnia|religione|lingua|nazionalita|regione|disabilita|stato_civile"
    r"|geslacht|leeftijds?(groep|klasse)|herkomst|nationaliteit|taal|regio|burgerlijke_staat"
    r"|k[oö]n|[aå]ldersgrupp|kjonn|kjønn|aldersgruppe|plec|p[lł]e[cć]|grupa_wieku|narodowosc|narodowość|faixa_etaria|faixa_etária|ra[cç]a)($|_)"
)

_OF_PLACES = re.compile(
    r"(^|_)(region\w*|regi[oó]n|regio|regione|area|gebiet|language|langue|lingua|taal|sprache|idioma)($|_)"
)
"""Names of groups that no rule protects in most places: where somebody lives, and what they speak."""


def guess_columns(profile: TableProfile) -> tuple[ColumnSpec, ...]:
    """One guess a column, in table order."""
    return tuple(column for column, _ in guesses(profile))


def guesses(profile: TableProfile) -> list[tuple[ColumnSpec, str]]:
    """One guess a column, in table order, each with its reason in words."""
    found = [_guess(column, profile.rows) for column in profile.columns]
    if found and not any(column.role is Role.outcome for column, _ in found):
        last = found[-1][0]
        if profile.columns[-1].distinct == 2 and last.role is Role.feature:  # by habit the outcome is the last column
            found[-1] = last.model_copy(update={"role": Role.outcome}), "the last column, with two values"
    return found


def guess_problem(profile: TableProfile, columns: Sequence[ColumnSpec]) -> dict[str, Any]:
    """What the outcome is (an event, classes, a number), which value is the event, and which decision is favourable.

    ``favourable_said`` is false where the outcome's own words do not tell whether it is good for the person; then
    somebody has to say.
    """
    by_name = {column.name: column for column in profile.columns}
    draft: dict[str, Any] = {"event": "", "favourable_said": False}
    for column in columns:
        levels = [level.level for level in by_name[column.name].levels]
        if column.role is Role.split:
            draft |= as_split(by_name[column.name])
        if column.role is Role.outcome:
            draft |= as_outcome(by_name[column.name], column.kind)
            draft |= _recorded(levels, [by_name[one.name] for one in columns if one.role is Role.decision])
    return draft


def favoured(spec: Spec, levels: Sequence[str]) -> Spec:
    """The meaning with which decision is favourable as the words of the outcome tell; not said where they do not.

    Parameters
    ----------
    levels : what can be predicted, the event and its absence, or the classes.
    """
    if spec.task is Task.regression:
        return spec
    outcome = spec.only(Role.outcome)
    if spec.task is Task.binary:
        event = match_level(spec.event, list(levels)) or spec.event
        if levels and event not in levels:  # refused where it is read
            return spec
        other = next((one for one in levels if one != event), "")
        told = _favour(event, other, outcome.name if outcome else "")
    else:
        told = _favoured_classes(levels)
    return spec.model_copy(update=told)


def guess_by_model(profile: TableProfile, spec: Spec, gives: str | None, classes: Sequence[str]) -> Problem | None:
    """What is predicted, where numbers in the outcome could be either and the model's file tells which; None where not.

    A model of one number a row reads few different numbers as numbers; one that names as many classes as there are
    numbers reads them as classes. Two values stay an event, which a regression may well have been made for.

    Parameters
    ----------
    gives, classes : "chances" or "number", and the classes that the file names; as its card has them.
    """
    outcome = spec.only(Role.outcome)
    column = next((one for one in profile.columns if outcome is not None and one.name == outcome.name), None)
    if column is None or column.stored not in ("int64", "double") or column.distinct < 3:
        return None
    task = spec.task
    if gives == "number":
        task = Task.regression
    elif gives == "chances" and spec.task is Task.regression:
        levels = [level.level for level in column.levels]
        if len({match_level(one, levels) for one in classes} - {None}) == len(levels) == column.distinct:
            task = Task.several
    if task is spec.task:
        return None
    problem = Problem.model_validate(spec.part("problem"))
    # a number is not decided; which of several numbers is the better class, numbers do not tell
    return problem.model_copy(update={"task": task, "event": "", "favourable_said": task is Task.regression})


def outcome_by_model(profile: TableProfile, spec: Spec, classes: Sequence[str]) -> Spec | None:
    """The meaning with the outcome moved to the one column whose values are the classes that the model's file names; None
    where the outcome holds them already, or no column or several do. Numbers and yes and no are names of too many things.
    """
    wanted = {one.strip().lower() for one in classes}
    if len(wanted) < 2 or wanted <= _TRUTH or all(_is_number(one) for one in wanted):
        return None
    holding = [one.name for one in profile.columns if {level.level.strip().lower() for level in one.levels} == wanted]
    now = spec.only(Role.outcome)
    if len(holding) != 1 or (now is not None and now.name == holding[0]):
        return None
    role = {holding[0]: Role.outcome} | ({now.name: Role.ignored} if now is not None else {})
    columns = tuple(one.model_copy(update={"role": role.get(one.name, one.role)}) for one in spec.columns)
    column = next(one for one in profile.columns if one.name == holding[0])
    told = {"event": "", "favourable_said": False, "favourable_classes": ()} | as_outcome(
        column, spec.column(holding[0]).kind
    )
    return spec.model_copy(update={"columns": columns, **told})


def _is_number(text: str) -> bool:
    try:
        float(text)
    except ValueError:
        return False
    return True


def _recorded(outcomes: list[str], decisions: list[ColumnProfile]) -> dict[str, Any]:
    """What decisions in words of their own stand for, where they and the outcome's values are a good and a bad one each."""
    if len(decisions) != 1 or len(outcomes) != 2:
        return {}
    taken = [level.level for level in decisions[0].levels]
    if not taken or set(taken) <= set(outcomes):
        return {}
    of = {_meaning(text): text for text in outcomes}
    means = {text: of.get(_meaning(text)) for text in taken}
    if None in of or None in means.values() or len(of) != 2:
        return {}
    return {"decision_means": means}


def _meaning(text: str) -> bool | None:
    """Whether a value says yes or something good; None where it does not tell."""
    plain = text.strip().lower()
    return True if plain in YES else False if plain in NO else _good(text)


def as_outcome(profile: ColumnProfile, kind: Kind) -> dict[str, Any]:
    """What is predicted where this column is the outcome: its task, event, and which decision is favourable."""
    levels = [level.level for level in profile.levels]
    if profile.stored in ("int64", "double") and profile.distinct > _MANY_VALUES:
        return {"task": Task.regression, "favourable_said": True}
    if len(levels) > 2:
        task = Task.ordered if kind is Kind.ordered else Task.several
        return {"task": task} | _favoured_classes(levels)
    if len(levels) != 2:
        return {}
    event = next((level for level in levels if level.lower() in YES), None) or next(
        (level for level in levels if _GOOD.search(_plain(level)) or _BAD.search(_plain(level))), sorted(levels)[-1]
    )
    other = next(level for level in levels if level != event)
    return {"task": Task.binary, "event": event} | _favour(event, other, profile.name)


def _favoured_classes(levels: Sequence[str]) -> dict[str, Any]:
    told = {level: _good(level) for level in levels}
    good = [level for level in levels if told[level]]
    # who would be better off with which class is known only where every class says so
    said = bool(good) and len(good) < len(levels) and None not in told.values()
    return {"favourable_said": said, "favourable_classes": tuple(good) if said else ()}


def _favour(event: str, other: str, name: str) -> dict[str, Any]:
    """Which of two decisions is the better one for the person, from the words of the values, else of the column."""
    said = [_good(text) for text in (event, name)]
    if said[0] is None and (opposite := _good(other)) is not None:
        said[0] = not opposite
    good = next((one for one in said if one is not None), None)
    if good is None:
        return {"favourable_said": False}
    return {"favourable": "event" if good else "other", "favourable_said": True}


def _good(text: str) -> bool | None:
    """Whether words mean something good for a person; None where they do not tell, or say both."""
    good, bad = bool(_GOOD.search(_plain(text))), bool(_BAD.search(_plain(text)))
    return good if good != bad else None


def _plain(text: str) -> str:
    return re.sub(r"\W+", "_", text.strip().lower())


def _guess(column: ColumnProfile, rows: int) -> tuple[ColumnSpec, str]:
    kind, order = _kind(column)
    if kind is Kind.bytes:
        return ColumnSpec(name=column.name, kind=kind, role=Role.ignored), "it holds bytes"
    name = _plain(column.name)
    levels = {level.level.lower() for level in column.levels}
    filled = rows - column.missing
    role, why = Role.feature, ""
    if levels and levels <= _SPLITS and 2 <= len(levels) <= 4:
        role, why = Role.split, f"its values are {', '.join(sorted(levels))}"
    elif len(levels) == 2 and levels <= _TRUTH and _OF_SPLITS.search(name) and filled == rows:
        role, why = Role.split, "its name, and it says yes or no of every row"
    elif column.missing == rows:
        role, why = Role.ignored, "it is empty"
    elif column.distinct == 1:
        role, why = Role.ignored, "it holds one value"
    elif name in _OUTCOMES:
        role, why = Role.outcome, "its name"
    elif name in _WEIGHTS and kind is Kind.numeric and (column.low or 0) >= 0:
        role, why = Role.weight, "its name, and no number is below 0"
    elif name in _SCORES and column.low is not None and column.low >= 0 and (column.high or 0) <= 100:
        high = 1 if (column.high or 0) <= 1 else 100
        role, why = Role.score, f"its name, and all numbers lie within 0 and {high}"
    elif name in _DECISIONS and column.distinct == 2:
        role, why = Role.decision, "its name, and it has two values"
    elif column.distinct == filled and filled > 20 and _names_rows(column, name):
        role, why = Role.identifier, "no value comes twice"
    elif _GROUPS.search(name) and column.distinct <= 30:
        role, why = Role.group, "its name is one of groups of people"
    elif kind is Kind.text:
        role, why = Role.ignored, "it holds long or ever other texts"
    return ColumnSpec(
        name=column.name,
        kind=kind,
        role=role,
        order=order,
        protected=role is Role.group and not _OF_PLACES.search(name),
    ), why


def _names_rows(column: ColumnProfile, name: str) -> bool:
    """Text that never repeats names a row; numbers do when they count up or are called so."""
    if column.stored == "string":
        return column.longest <= LONGEST_LEVEL
    counts_up = column.low is not None and column.high is not None and column.high - column.low + 1 == column.distinct
    return column.stored == "int64" and (counts_up or bool(_IDENTIFIERS.search(name)))


def _kind(column: ColumnProfile) -> tuple[Kind, tuple[str, ...]]:
    if column.stored in ("int64", "double"):
        return Kind.numeric, ()
    if column.stored == "bool":
        return Kind.boolean, ()
    if column.stored.startswith("date"):
        return Kind.date, ()
    if column.stored == "binary":
        return Kind.bytes, ()
    if column.longest > LONGEST_LEVEL:
        return Kind.text, ()
    levels = [level.level for level in column.levels]
    if len(levels) == 2 and {level.lower() for level in levels} <= _TRUTH:
        return Kind.boolean, ()
    if order := ordered_levels(levels):
        return Kind.ordered, order
    return (Kind.categorical if levels or column.distinct <= 1000 else Kind.text), ()


def ordered_levels(levels: list[str]) -> tuple[str, ...]:
    """An order where the levels carry one: number bands, single letters, known scales. Else empty."""
    if len(levels) < 3:
        return ()
    by_lower = {level.lower(): level for level in levels}
    for scale in _SCALES:
        if set(by_lower) == set(scale):
            return tuple(by_lower[step] for step in scale)
    if all(re.fullmatch(r"[A-Z]", level) for level in levels):
        return tuple(sorted(levels))
    bands = [re.match(r"^\D{0,3}(\d+(?:\.\d+)?)\s*(?:[-–+]|to\b|and\b|or\b)", level) for level in levels]
    if bands and all(bands):
        lowest = {level: float(band[1]) for level, band in zip(levels, bands, strict=True) if band}
        return tuple(sorted(levels, key=lambda level: lowest[level]))
    return ()


def as_split(profile: ColumnProfile) -> dict[str, tuple[str, ...]]:
    """Which of a column's values are held-out rows and which training rows, where it is the split."""
    held, training = split_values([level.level for level in profile.levels], profile.name)
    return {"holdout_values": held, "training_values": training}


def split_values(levels: list[str], name: str = "") -> tuple[tuple[str, ...], tuple[str, ...]]:
    """Held-out and training values among the levels of a split column; none of either where neither they nor its name tell.

    The test split is held out; where there is none, whatever is not training.

    Parameters
    ----------
    name : the column's, which says what yes and no mean.
    """
    low = {level: level.strip().lower() for level in levels}
    training = tuple(level for level in levels if low[level] in _TRAINING)
    held = tuple(level for level in levels if low[level] in _HELD_OUT)
    if not held and not training and len(levels) == 2 and set(low.values()) <= _TRUTH:
        yes = tuple(level for level in levels if low[level] in YES)
        no = tuple(level for level in levels if low[level] in NO)
        if _OF_TRAINING.search(_plain(name)):
            return no, yes
        return (yes, no) if _OF_HELD_OUT.search(_plain(name)) else ((), ())
    if not held and (training or all(one in _VALIDATION for one in low.values())):
        held = tuple(level for level in levels if level not in training and low[level] != "later")
    return held, training
