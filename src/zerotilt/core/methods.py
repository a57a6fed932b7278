"""Every method, once. A new method is one file, its test, one line here, and one figure."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from types import ModuleType
from typing import Literal, get_type_hints

from pydantic import BaseModel

from zerotilt.core import cases
from zerotilt.core.contributions import checks, ladder, surrogate
from zerotilt.core.counterfactuals import change, flip, nearest
from zerotilt.core.drivers import by_part, expectations, loss_shapley, own, ranking, side_by_side, spread
from zerotilt.core.groups import given, lattice, opened, performance, score_gap, sides, thresholds, tilt
from zerotilt.core.reading import Reading, short
from zerotilt.core.response import accumulated, expected, interactions, partial, surface
from zerotilt.core.spec import Wording
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

Area = Literal["intake", "drivers", "response", "cases", "tilt"]


def _parts(module: ModuleType, compute: str):
    """A method's settings, result, function and sentence, all from its one file."""
    function = getattr(module, compute)
    hints = get_type_hints(function)
    _, settings, _, _, result = hints.values()  # subject, settings, seed, work, and what is returned
    return settings, result, function, module.say


@dataclass(frozen=True)
class Method:
    """A pure function of (subject, settings, seed) with one frozen result, and the sentence that reads it."""

    name: str
    area: Area
    title: str
    settings: type[BaseModel]
    result: type[BaseModel]
    compute: Callable[[Subject, BaseModel, int, Work], BaseModel]
    say: Callable[[BaseModel, Wording, BaseModel], Reading]
    version: int = 1
    """Raised when numbers change, so that older evidence is not taken for the new."""
    reads_alongside: bool = False
    """Whether a second model version or row set is read in the same figure."""
    reads_groups: bool = False
    """Whether it depends on the flag policy, on intersections or on segments."""

    first_look: Mapping[str, int] = field(default_factory=dict)
    """Settings with which it is there within a second, from a sample, while the whole is computed."""

    @property
    def quick(self) -> bool:
        """Whether it only scores the rows and counts."""
        return self.area in ("tilt", "intake") and not self.first_look

    def read(self, result: BaseModel, wording: Wording, settings: BaseModel) -> Reading:
        """The sentences that read a result: at most two, the rest in small print."""
        return short(self.say(result, wording, settings))


METHODS: dict[str, Method] = {
    method.name: method
    for method in (
        Method("performance", "intake", "Performance", *_parts(performance, "perform"), version=4),
        Method(
            "drivers",
            "drivers",
            "Drivers",
            *_parts(ranking, "rank"),
            version=5,
            reads_alongside=True,
            first_look={"rows": 400, "repeats": 2, "explained": 15, "walks": 16},
        ),
        Method(
            "side_by_side",
            "drivers",
            "Methods side by side",
            *_parts(side_by_side, "side_by_side"),
            version=2,
            first_look={"rows": 300, "repeats": 2, "explained": 12, "walked": 16, "walks": 16},
        ),
        Method(
            "spread",
            "drivers",
            "Spread of contributions",
            *_parts(spread, "spread_out"),
            version=2,
            first_look={"sampled": 40, "rows": 2_000, "walks": 24},
        ),
        Method("expectations", "drivers", "Expected directions", *_parts(expectations, "check_all"), version=2),
        Method("loss_shapley", "drivers", "Loss Shapley values", *_parts(loss_shapley, "share_out"), version=2),
        Method(
            "shapley_by_part",
            "drivers",
            "Mean Shapley values apart",
            *_parts(by_part, "by_part"),
            version=3,
            first_look={"rows": 60, "sampled": 24, "walks": 16},
        ),
        Method("own_parts", "drivers", "The model's own parts", *_parts(own, "own_parts"), version=2),
        Method("response", "response", "Response", *_parts(partial, "respond"), version=4, reads_alongside=True),
        Method("ale", "response", "Accumulated local effects", *_parts(accumulated, "accumulate"), version=3),
        Method(
            "surface",
            "response",
            "Two features",
            *_parts(surface, "survey"),
            version=3,
            first_look={"rows": 50, "points": 14},
        ),
        Method(
            "interactions",
            "response",
            "Interactions",
            *_parts(interactions, "pair_up"),
            version=3,
            first_look={"rows": 15, "draws": 2},
        ),
        Method("expected", "response", "Expected direction", *_parts(expected, "check_expected"), version=2),
        Method("cases", "cases", "Cases", *_parts(cases, "page"), version=2, reads_groups=True),
        Method("ladder", "cases", "Ladder", *_parts(ladder, "climb"), version=3),
        Method("surrogate", "cases", "Simple model nearby", *_parts(surrogate, "surround"), version=2),
        Method("checks", "cases", "Checks of an explanation", *_parts(checks, "check_explanation"), version=2),
        Method("nearest", "cases", "Nearest case decided otherwise", *_parts(nearest, "find_nearest"), version=2),
        Method("change", "cases", "Smallest change", *_parts(change, "find_changes"), version=2),
        Method("flip", "cases", "One column changed", *_parts(flip, "flip"), version=2),
        Method(
            "tilt", "tilt", "Tilt", *_parts(tilt, "compare_groups"), version=3, reads_alongside=True, reads_groups=True
        ),
        Method("lattice", "tilt", "Crossings", *_parts(lattice, "cross"), version=2, reads_groups=True),
        Method("one_group", "tilt", "One group", *_parts(opened, "open_group"), version=2, reads_groups=True),
        Method(
            "score_gap",
            "tilt",
            "What drives the gap",
            *_parts(score_gap, "drive"),
            version=2,
            reads_groups=True,
            first_look={"explained": 30, "walks": 16},
        ),
        Method("given", "tilt", "Given other columns", *_parts(given, "compare_given"), version=2, reads_groups=True),
        Method("sides", "tilt", "Labels and decisions", *_parts(sides, "set_beside"), version=2, reads_groups=True),
        Method("thresholds", "tilt", "Thresholds", *_parts(thresholds, "weigh"), version=2, reads_groups=True),
    )
}
