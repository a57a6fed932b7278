"""Every method, once: each is declared at the end of its own file and listed here."""

from __future__ import annotations

from zerotilt.core import cases
from zerotilt.core.contributions import checks, ladder, surrogate
from zerotilt.core.counterfactuals import change, flip, nearest
from zerotilt.core.drivers import by_part, expectations, loss_shapley, own, ranking, side_by_side, spread
from zerotilt.core.groups import given, lattice, opened, performance, score_gap, sides, thresholds, tilt
from zerotilt.core.method import Method
from zerotilt.core.refusal import Refused
from zerotilt.core.response import accumulated, expected, interactions, partial, surface

METHODS: dict[str, Method] = {
    module.METHOD.name: module.METHOD
    for module in (
        performance,
        ranking,
        side_by_side,
        spread,
        expectations,
        loss_shapley,
        by_part,
        own,
        partial,
        accumulated,
        surface,
        interactions,
        expected,
        cases,
        ladder,
        surrogate,
        checks,
        nearest,
        change,
        flip,
        tilt,
        lattice,
        opened,
        score_gap,
        given,
        sides,
        thresholds,
    )
}


def method_named(name: str) -> Method:
    if name not in METHODS:
        raise Refused(f"method: “{name}” is unknown; there are {', '.join(METHODS)}.")
    return METHODS[name]
