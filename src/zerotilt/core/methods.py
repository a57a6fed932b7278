"""Every method, once. A new method is one file, its test, one line here, and one figure."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Literal

from pydantic import BaseModel

from zerotilt.core import cases
from zerotilt.core.contributions import ladder
from zerotilt.core.drivers import ranking
from zerotilt.core.groups import performance, tilt
from zerotilt.core.reading import Reading
from zerotilt.core.response import partial
from zerotilt.core.spec import Wording
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

Area = Literal["intake", "drivers", "response", "cases", "tilt"]


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


METHODS: dict[str, Method] = {
    method.name: method
    for method in (
        Method(
            "performance",
            "intake",
            "Performance",
            performance.PerformanceSettings,
            performance.PerformanceResult,
            performance.perform,
            performance.say,
        ),
        Method(
            "drivers", "drivers", "Drivers", ranking.DriversSettings, ranking.DriversResult, ranking.rank, ranking.say
        ),
        Method(
            "response",
            "response",
            "Response",
            partial.ResponseSettings,
            partial.ResponseResult,
            partial.respond,
            partial.say,
        ),
        Method("cases", "cases", "Cases", cases.CasesQuery, cases.CasesPage, cases.page, cases.say),
        Method("ladder", "cases", "Ladder", ladder.LadderSettings, ladder.LadderResult, ladder.climb, ladder.say),
        Method("tilt", "tilt", "Tilt", tilt.TiltSettings, tilt.TiltResult, tilt.compare_groups, tilt.say),
    )
}
