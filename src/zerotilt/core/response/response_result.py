"""What a response along one feature holds."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field, model_validator

from zerotilt.core.frozen import Frozen
from zerotilt.core.response.curves import Direction
from zerotilt.core.stats.estimates import Estimate

PART_ROWS = 10


"""Rows of a part near a point, below which nothing is said of the part there."""


class ResponseSettings(Frozen):
    feature: str = Field(default="", description="A feature of the model; its first one when empty")
    points: int = Field(default=40, ge=2, le=200)
    percentiles: tuple[float, float] = Field(
        default=(1, 99), description="Range of a numeric axis; 0 and 100 are the least and the greatest value"
    )
    low: float | None = Field(default=None, description="Where a region of the axis begins, in place of percentiles")
    high: float | None = Field(default=None, description="Where it ends")
    rows: int = Field(default=1_000, ge=1, le=100_000, description="Rows whose curves are averaged")
    curves: int = Field(default=30, ge=0, le=2_000, description="Single curves returned")
    centred: bool = Field(default=False, description="Every curve less its own value at the first point")
    colour: str = Field(default="", description="A column of the table by which the curves are told apart")
    case: int | None = Field(default=None, ge=0, description="A row of the table whose own curve is given too, from 0")
    edits: dict[str, str] = Field(
        default_factory=dict, description="Values of that case to write over; empty is missing"
    )

    @model_validator(mode="after")
    def _a_range(self) -> ResponseSettings:
        low, high = self.percentiles
        if not 0 <= low < high <= 100:
            raise ValueError(f"percentiles: {low:g} and {high:g} were given; they rise and lie within 0 and 100")
        return self


class CurvePoint(Frozen):
    position: float | None = Field(description="Place on the axis; null for levels and for missing")
    label: str
    mean: float
    mean_low: float
    mean_high: float
    p10: float
    p25: float
    p50: float
    p75: float
    p90: float
    support: int = Field(description="Rows near this point, or at this level")
    scarce: bool


class Density(Frozen):
    low: float
    high: float
    rows: int


class CurvePart(Frozen):
    """The rows of one part by the colour's column."""

    label: str
    rows: int
    mean: tuple[float, ...]
    direction: Direction = Field(description="Where the part has rows")
    support: tuple[int, ...] = Field(description="Rows of the part near each point")


class ClassCurve(Frozen):
    label: str
    mean: tuple[float, ...]


class CaseCurve(Frozen):
    """The chosen row's own curve. The marker at (position, output) lies on the curve through ``path``."""

    row: int
    label: str
    position: float | None = Field(description="Where the row lies on a numeric axis")
    output: float
    values: tuple[float, ...] = Field(description="Over the same points")
    path: tuple[tuple[float, float], ...] = Field(description="On a numeric axis: its curve with its own place in it")
    outside: bool = Field(description="Whether the row lies beyond the drawn range")


class BesideCurve(Frozen):
    """The mean curve of the model or rows read alongside, at the same points."""

    mean: tuple[float, ...]
    mean_low: tuple[float, ...]
    mean_high: tuple[float, ...]
    difference: tuple[Estimate, ...] = Field(description="Alongside less here")
    rows_named: Literal["held-out", "training", "all"]
    segment_named: str = Field(default="", description="Of these rows only those of the segment")
    other_model: bool
    rows_read: int


class ResponseResult(Frozen):
    feature: str
    numeric: bool
    date: bool = Field(description="Whether positions are days since 1970-01-01")
    ordered: bool
    points: tuple[CurvePoint, ...]
    curves: tuple[tuple[float, ...], ...] = Field(description="Single ICE curves over the same points")
    curve_rows: tuple[int, ...] = Field(description="The table's row of each single curve, from 0")
    curve_parts: tuple[int, ...] = Field(description="The part of each single curve, where there is a colour")
    colour: str | None
    parts: tuple[CurvePart, ...]
    classes: tuple[ClassCurve, ...] = Field(description="With several classes: the mean curve of each, in their order")
    density: tuple[Density, ...]
    rug: tuple[float, ...] = Field(description="Distinct values in the drawn range, up to 400 spread evenly over them")
    distinct: int = Field(description="How many distinct values there are in the drawn range")
    outside: int = Field(description="Rows with a value beyond the drawn range")
    least: float | None = Field(description="The least value of any row")
    greatest: float | None
    case: CaseCurve | None
    beside: BesideCurve | None
    output: Literal["probability", "log-odds", "value"]
    centred: bool
    threshold: float | None
    event: str
    direction: Direction
    rows: int
    rows_read: int
    left_out: int = Field(description="Levels beyond the thirty largest that are not drawn")
    features: tuple[str, ...]
    columns: tuple[str, ...] = Field(description="Columns the curves can be told apart by")
    confidence: float


def arrays(result: ResponseResult) -> dict[str, list[dict[str, Any]]]:
    """What a response holds along its points: single curves, classes, parts, the case, the curve alongside."""
    labels = [point.label for point in result.points]
    positions = [point.position for point in result.points]

    def along(values) -> list[dict[str, Any]]:
        return [
            {result.feature: label, "position": position, "value": value}
            for label, position, value in zip(labels, positions, values, strict=True)
        ]

    return {
        "curves": [
            {"row": row} | point
            for row, curve in zip(result.curve_rows, result.curves, strict=True)
            for point in along(curve)
        ],
        "parts": [
            {"part": part.label, "rows": part.rows} | point for part in result.parts for point in along(part.mean)
        ],
        "classes": [{"class": one.label} | point for one in result.classes for point in along(one.mean)],
        "case": [{"row": result.case.row} | point for point in along(result.case.values)] if result.case else [],
        "alongside": [
            point
            | {
                "low": low,
                "high": high,
                "difference": gap.value,
                "difference_low": gap.low,
                "difference_high": gap.high,
            }
            for point, low, high, gap in zip(
                along(result.beside.mean),
                result.beside.mean_low,
                result.beside.mean_high,
                result.beside.difference,
                strict=True,
            )
        ]
        if result.beside
        else [],
    }
