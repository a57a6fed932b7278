"""Every method, once: each is declared at the end of its own file and listed here."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any, get_args

from pydantic import BaseModel

from zerotilt.core import cases
from zerotilt.core.attached import attached_to
from zerotilt.core.case import (
    alike,
    arrangement,
    difference,
    families,
    mean_ladder,
    odd,
    person,
    profiles,
    tried,
    values,
)
from zerotilt.core.contributions import checks, every, ladder, surrogate
from zerotilt.core.counterfactuals import change, flip, nearest
from zerotilt.core.data import columns, concerns, pairs
from zerotilt.core.drivers import by_part, expectations, loss_shapley, one_tree, own, ranking, side_by_side, spread
from zerotilt.core.groups import given, lattice, opened, performance, score_gap, sides, thresholds, tilt
from zerotilt.core.meaning import Spec
from zerotilt.core.method import Area, Method
from zerotilt.core.pockets import by_hand, explained, found
from zerotilt.core.refusal import Refused
from zerotilt.core.remedies import band, changed, corrected, leaning, repaired, versions, without
from zerotilt.core.response import accumulated, expected, interactions, partial, surface
from zerotilt.core.segmenting import compared, cuts, draft, query
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

AREAS = get_args(Area)
METHODS: dict[str, Method] = {
    module.METHOD.name: module.METHOD
    for module in (
        concerns,
        performance,
        columns,
        pairs,
        draft,
        cuts,
        compared,
        query,
        ranking,
        side_by_side,
        by_part,
        spread,
        expectations,
        loss_shapley,
        own,
        without,
        one_tree,
        partial,
        accumulated,
        surface,
        interactions,
        expected,
        cases,
        every,
        ladder,
        values,
        tried,
        profiles,
        nearest,
        change,
        alike,
        odd,
        difference,
        surrogate,
        checks,
        person,
        flip,
        families,
        mean_ladder,
        arrangement,
        found,
        explained,
        by_hand,
        tilt,
        lattice,
        opened,
        score_gap,
        given,
        sides,
        thresholds,
        versions,
        changed,
        leaning,
        repaired,
        band,
        corrected,
    )
}


def first_shown(spec: Spec, with_model: bool, inputs: Iterable[str] = ()) -> list[tuple[str, dict[str, Any]]]:
    """What the parts of the sheets open with, in the order in which they stand: methods and settings.

    Each part opens with the method that is listed first for it; beneath it stands what is read unasked with settings of
    the audit's own, as the expected directions are. Left out is what needs what the audit has not; ``inputs``: what it was
    given besides table and model.
    """
    has = (
        {"predictions", *inputs} | ({"model"} if with_model else set()) | ({"outcome"} if spec.knows_outcome else set())
    )
    begun: set[tuple[str, str]] = set()
    found: list[tuple[str, dict[str, Any]]] = []
    for method in sorted(METHODS.values(), key=lambda one: AREAS.index(one.area)):
        settings = method.unasked(spec)
        first = (method.area, method.part) not in begun
        begun.add((method.area, method.part))
        if settings is not None and (first or settings) and method.needs <= has:
            found.append((method.name, dict(settings)))
    return found


def result_of(method: Method, subject: Subject, settings: BaseModel, seed: int, work: Work) -> BaseModel:
    """Compute a method; what it reads of another's table is computed before, where nobody gave it."""
    needed = method.reads(settings)
    if needed and needed not in subject.given:
        other = METHODS[needed]
        other.refuse(subject)
        found = other.compute(subject, other.settings(), seed, work)
        subject = subject.with_given({needed: next(iter(attached_to(found).values()))})
    return method.compute(subject, settings, seed, work)


def method_named(name: str) -> Method:
    if name not in METHODS:
        raise Refused(f"method: “{name}” is unknown; there are {', '.join(METHODS)}.")
    return METHODS[name]
