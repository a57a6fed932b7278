"""One response in sentences."""

from __future__ import annotations

import numpy as np

from zerotilt.core import words
from zerotilt.core.meaning import Wording
from zerotilt.core.reading import Reading, plain
from zerotilt.core.response.curves import Direction, told_of
from zerotilt.core.response.response_result import (
    PART_ROWS,
    CurvePoint,
    ResponseResult,
    ResponseSettings,
)
from zerotilt.core.rows import called


def say(result: ResponseResult, wording: Wording, settings: ResponseSettings) -> Reading:
    name = words.title(result.feature)
    kind = {"probability": "mean chance that", "log-odds": "mean log-odds that", "value": "mean"}[result.output]
    what = f"{kind} {result.event}"
    if result.centred:
        what = f"change of the {what}, from {result.points[0].label},"

    def amount(value: float, scale: str) -> str:
        return words.on_scale(value, scale, wording.unit)

    points = [point for point in result.points if point.position is not None or not result.numeric]
    points = points or list(result.points)
    told = points
    if result.numeric:
        spoken = told_of(np.ones(len(points), bool), np.array([point.scarce for point in points]))
        told = [point for point, one in zip(points, spoken, strict=True) if one]
    # nothing is made of a place or level that hardly any row holds; but the ends, the highest and the lowest value of a
    # sentence are of the same points: where the thin ends are spoken of, all of it is
    thin = result.numeric and (told[0].scarce or told[-1].scarce)
    held = told if thin else [point for point in told if not point.scarce] or told
    if len(points) == 1:
        only = points[0]
        value = amount(only.mean, result.output)
        headline = f"{words.opening(name)} is {only.label} in all of these {wording.rows}; the {what} is {value}."
        return plain(headline, _detail(result, wording, name))
    top, bottom = max(held, key=lambda point: point.mean), min(held, key=lambda point: point.mean)
    if result.numeric:
        first, last = told[0], told[-1]
        if result.direction == "flat":
            headline = f"The {what} hardly moves along {name}: {amount(first.mean, result.output)} throughout."
        else:
            verb = {"rises": "rises", "falls": "falls"}.get(result.direction, "goes")
            headline = (
                f"As {name} goes from {first.label} to {last.label}, the {what} {verb} from "
                f"{amount(first.mean, result.output)} to {amount(last.mean, result.output)}"
            )
            if result.direction == "bends":
                headline += (
                    f", highest {amount(top.mean, result.output)} at {top.label} and lowest "
                    f"{amount(bottom.mean, result.output)} at {bottom.label}"
                )
            headline += "."
    else:
        headline = (
            f"The {what} is highest at {name} {top.label} ({amount(top.mean, result.output)}) and lowest at "
            f"{bottom.label} ({amount(bottom.mean, result.output)})."
        )
    headline += _by_part(result, amount) + _alongside(result, wording)
    return plain(headline, _detail(result, wording, name))


def _by_part(result: ResponseResult, amount) -> str:
    """Parts whose mean goes another way than the whole's, or what differs most between them."""
    if len(result.parts) < 2 or not result.points:
        return ""
    name, colour = words.title(result.feature), words.title(result.colour)
    scale = [i for i, point in enumerate(result.points) if point.position is not None or not result.numeric]
    there = {
        part.label: [i for i in scale or range(len(result.points)) if part.support[i] >= PART_ROWS]
        for part in result.parts
    }
    read = [part for part in result.parts if len(there[part.label]) > 1]
    ways = [_way(part.mean, there[part.label], part.direction) for part in read]
    if result.numeric and len(set(ways)) > 1:
        said = [
            f"{way} for {part.label} ({amount(part.mean[there[part.label][0]], result.output)} to "
            f"{amount(part.mean[there[part.label][-1]], result.output)})"
            for part, way in list(zip(read, ways, strict=True))[:4]
        ]
        return f" By {colour} it differs: the mean {words.listing(said)}."
    gaps = {}
    for i in scale or range(len(result.points)):
        means = [(part.mean[i], part.label) for part in result.parts if i in there[part.label]]
        if len(means) > 1:
            gaps[i] = (max(means), min(means))
    if not gaps:
        return f" By {colour} nothing can be compared: no place along {name} has {PART_ROWS} rows in two parts."
    widest = max(gaps, key=lambda i: gaps[i][0][0] - gaps[i][1][0])
    (high, top), (low, bottom) = gaps[widest]
    return (
        f" By {colour} the means are furthest apart at {result.points[widest].label}: {amount(high, result.output)} for {top}, "
        f"{amount(low, result.output)} for {bottom}."
    )


def _way(mean, scale: list[int], direction: Direction) -> str:
    """What one curve does, in words; one that bends may still rise or fall on the whole."""
    if direction in ("rises", "falls"):
        return direction
    if direction == "flat":
        return "hardly moves"
    net, reach = mean[scale[-1]] - mean[scale[0]], max(mean[i] for i in scale) - min(mean[i] for i in scale)
    if abs(net) >= reach / 2:
        return "rises on the whole" if net > 0 else "falls on the whole"
    return "bends"


def _alongside(result: ResponseResult, wording: Wording) -> str:
    if result.beside is None:
        return ""
    gaps = result.beside.difference
    held = [i for i, point in enumerate(result.points) if not point.scarce] or range(len(gaps))
    widest = max(held, key=lambda i: abs(gaps[i].value or 0.0))
    gap = gaps[widest]
    sure = gap.low > 0 or gap.high < 0
    where = (
        "the version alongside"
        if result.beside.other_model
        else called(result.beside.rows_named, wording.rows, result.beside.segment_named)
    )
    amount = words.difference(gap.value, result.output, wording.unit)
    way = "higher" if gap.value > 0 else "lower"
    place = f"at {result.points[widest].label}"
    if _is_missing(result.points[widest], result):
        place = f"where {words.title(result.feature)} is missing"
    tail = "" if sure else ", which their spread may account for"
    return f" In {where} the mean is up to {amount} {way}, {place}{tail}."


def _is_missing(point: CurvePoint, result: ResponseResult) -> bool:
    """Whether a point stands for no value, beside places on an axis."""
    return result.numeric and point.position is None


def _detail(result: ResponseResult, wording: Wording, name: str) -> str:
    detail = f"Mean of {words.count(result.rows_read)} of {words.count(result.rows)} {wording.rows}, each with {name} moved and all else kept."
    there = [point for point in result.points if not _is_missing(point, result)]
    if any(point.scarce for point in there):
        place = words.runs([p.label for p in there], [p.scarce for p in there], result.numeric)
        detail += f" Few rows lie near {place}; the curve is thin and dashed there."
    if any(point.scarce for point in result.points if point not in there):
        detail += f" In few rows {name} is missing."
    if result.left_out:
        detail += (
            f" {words.plural(result.left_out, 'rarer level')} {'is' if result.left_out == 1 else 'are'} not drawn."
        )
    if result.outside:
        detail += (
            f" {words.plural(result.outside, 'row')} {'lies' if result.outside == 1 else 'lie'} beyond the drawn range."
        )
    if result.case is not None and result.case.outside:
        detail += f" The chosen {wording.row} lies beyond it, at {result.case.label}."
    return detail
