"""An audit held against an earlier one, as a build does: which gaps have grown, beyond chance or beyond a set amount."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping
from typing import Any

from pydantic import ValidationError

from zerotilt.core import parsing, words
from zerotilt.core.again import Again, change_said, compare, p_of
from zerotilt.core.frozen import Frozen
from zerotilt.core.groups.disparity import UNTOLD, Disparity, TiltResult
from zerotilt.core.groups.metrics import label
from zerotilt.core.groups.tilt_said import called, measured
from zerotilt.core.refusal import Refused
from zerotilt.core.stats import intervals

GROWN = (
    "A gap has grown where it is further off parity than in the baseline and the p-value of its change, adjusted over all "
    "comparisons of both as the flag policy says, is at most the policy's; or, where an amount was set, where it is further "
    "off by that many tolerances or more. The change's interval is from both gaps' own, as of different rows (Zou & Donner "
    "2008). A comparison that the baseline does not have counts where it is flagged."
)


class Grown(Frozen):
    """One gap that has grown, or that is new and flagged."""

    attribute: str
    metric: str
    sentence: str


class Held(Frozen):
    """What came of holding an audit against a baseline."""

    grown: tuple[Grown, ...]
    compared: int
    """Comparisons of both."""
    only_before: int
    """Comparisons of the baseline that are not made now."""


def read(data: bytes, where: str) -> tuple[Disparity, ...]:
    """The comparisons of an ``audit.json``.

    Raises
    ------
    Refused : it is none.
    """
    try:
        told: Any = parsing.from_json(data)
        if not str(told["format"]).startswith("zerotilt-audit/"):
            raise ValueError
        return tuple(Disparity.model_validate(one) for one in told["disparities"])
    except (Refused, ValueError, KeyError, TypeError, ValidationError):
        raise Refused(
            "This is no audit.json that is known here.", where=where, todo="Give the numbers of an earlier audit."
        ) from None


def held_against(before: Iterable[Disparity], now: TiltResult, amount: float | None = None) -> Held:
    """Which gaps have grown, by the rule that :data:`GROWN` states.

    Parameters
    ----------
    amount : tolerances by which a gap may not grow, whatever its interval says; not asked for when None.
    """
    policy = now.policy
    then: Mapping[str, Disparity] = {f"{called(one)} against {one.reference}": one for one in before}
    gaps, was = measured(now.disparities), measured(then.values())
    found: list[tuple[Disparity, Again, float]] = []
    new: list[Disparity] = []
    for one in now.disparities:
        earlier = then.get(f"{called(one)} against {one.reference}")
        if earlier is None:
            new += [one] if one.status == "flagged" else []
            continue
        again = compare(was[called(earlier)].gap, gaps[called(one)])
        enough = not {earlier.status, one.status} & set(UNTOLD) and earlier.judged == one.judged
        p = p_of(again.change, again.scale, policy.confidence) if enough else math.nan
        found.append((one, again, p))
    adjusted = intervals.adjust([p for _, _, p in found], policy.adjustment)
    grown = [
        Grown(attribute=one.attribute, metric=one.metric, sentence=_said(one, again))
        for (one, again, p), p_adjusted in zip(found, adjusted, strict=True)
        if math.isfinite(p) and _has_grown(one, then, gaps, was, p_adjusted <= policy.alpha, amount)
    ]
    grown += [
        Grown(
            attribute=one.attribute,
            metric=one.metric,
            sentence=f"{_who(one)}: it is flagged, and new since the baseline.",
        )
        for one in new
    ]
    known = {f"{called(one)} against {one.reference}" for one in now.disparities}
    return Held(grown=tuple(grown), compared=len(found), only_before=len(set(then) - known))


def _has_grown(one: Disparity, then, gaps, was, beyond_chance: bool, amount: float | None) -> bool:
    own, earlier = gaps[called(one)].gap, was[called(one)].gap
    more = abs(own.off) - abs(earlier.off)
    return more > 0 and (beyond_chance or (amount is not None and more >= amount))


def _who(one: Disparity) -> str:
    return f"{words.title(one.attribute)}: {one.group} against {one.reference}, {label(one.metric).lower()}"


def _said(one: Disparity, again: Again) -> str:
    """The gap before and now, with the change and its interval."""
    show = words.ratio if again.scale == "ratio" else words.quantity
    was, is_ = (show(found.value) if found.value is not None else "not defined" for found in (again.before, again.now))
    how = change_said(again.change, again.scale)
    return f"{_who(one)}: the {again.scale} was {was} and is {is_}{f', {how}' if how else ''}."
