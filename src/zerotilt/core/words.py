"""Numbers and lists as people read them. Screen and report use the same digits."""

from __future__ import annotations

import re
from collections.abc import Sequence

import numpy as np

from zerotilt.core.marks import BEGIN


def count(number: int) -> str:
    return f"{number:,}"


def percent(share: float) -> str:
    return f"{decimal(share * 100, 1)}%"


def ratio(value: float) -> str:
    return f"{value:.2f}" if value >= 0.1 else f"{value:.3f}"


def points(difference: float) -> str:
    """A difference of probabilities in percentage points, with its sign spelled."""
    return f"{abs(difference) * 100:.1f} points"


def signed_points(difference: float) -> str:
    """The same with its sign.

    >>> signed_points(0.0123), signed_points(-0.5)
    ('+1.2 points', '−50.0 points')
    """
    return f"{difference * 100:+.1f} points".replace("-", "−")


def points_span(value: float | None, low: float | None, high: float | None) -> str:
    """A difference of shares with its interval.

    >>> points_span(-0.024, -0.056, 0.008)
    '−2.4 points (−5.6 to +0.8)'
    """
    if value is None:
        return "not defined"
    if low is None or high is None:
        return signed_points(value)
    return f"{signed_points(value)} ({signed_points(low).removesuffix(' points')} to {signed_points(high).removesuffix(' points')})"


def decimal(value: float, digits: int = 3) -> str:
    text = f"{value:.{digits}f}"
    return text.removeprefix("-") if float(text) == 0 else text.replace("-", "−")  # a zero has no sign


def signed_decimal(value: float, digits: int = 3) -> str:
    """A difference with its sign; what rounds to nothing has none.

    >>> signed_decimal(0.0204), signed_decimal(-0.0001), signed_decimal(-2)
    ('+0.020', '0.000', '−2.000')
    """
    text = decimal(value, digits)
    return f"+{text}" if value > 0 and float(f"{value:.{digits}f}") > 0 else text


def quantity(value: float, unit: str = "") -> str:
    """A number in its unit, with four digits at least where they say something.

    >>> quantity(1234.5, "days"), quantity(0.123456), quantity(-3)
    ('1,234 days', '0.1235', '−3')
    """
    size = abs(value)
    text = f"{value:,.0f}" if size >= 1_000 else f"{value + 0.0:.4g}"  # a zero has no sign
    return f"{text.replace('-', '−')} {unit}".strip()


def brief(text: str) -> str:
    """A value as it would be typed, in few digits where it is a number of many.

    >>> brief("0.2020653635263443"), brief("-0.21"), brief("2026-01-31")
    ('0.2021', '−0.21', '2026-01-31')
    """
    if not re.fullmatch(r"-?\d*\.\d{5,}(e[+-]?\d+)?", text):
        return with_minus(text)
    return quantity(float(text))


def with_minus(text: str) -> str:
    """A cell that is a number, as it stands in a sentence: with a minus sign, and every digit it has.

    >>> with_minus("-0.2484"), with_minus("7-day"), with_minus("2026-01-31")
    ('−0.2484', '7-day', '2026-01-31')
    """
    return f"−{text[1:]}" if re.fullmatch(r"-\d+(\.\d+)?(e[+-]?\d+)?", text) else text


def told_apart(values: Sequence[float]) -> tuple[str, ...]:
    """Different numbers in as few digits as keep them different, four at least.

    >>> told_apart([0.25, 1.5]), told_apart([0.12341, 0.12344]), told_apart([1_000_001.5, 1_000_002])
    (('0.25', '1.5'), ('0.12341', '0.12344'), ('1,000,001.5', '1,000,002'))
    """
    usual = tuple(quantity(one) for one in values)
    if len(set(usual)) == len(set(values)):
        return usual
    for digits in range(5, 18):
        found = [float(f"{one:.{digits}g}") for one in values]
        if len(set(found)) == len(set(values)):
            return tuple(f"{one:,}".removesuffix(".0").replace("-", "−") for one in found)
    return tuple(f"{float(one):,}".replace("-", "−") for one in values)


def brief_number(value: float) -> str:
    """A number of which nothing else is known, in a table: three decimals, four digits where it is very small or large.

    >>> brief_number(0.4567891), brief_number(13956860.26), brief_number(1.7e-16), brief_number(0.00004), brief_number(0.0)
    ('0.457', '13,956,860', '0.000', '4e−05', '0.000')
    """
    size = abs(value)
    if size >= 1_000:
        return quantity(value)
    return decimal(value) if size >= 0.001 or size < 1e-12 else quantity(value)


def on_scale(value: float, scale: str, unit: str = "") -> str:
    """An output on its scale: a chance in percent, log-odds with two decimals, a value in its unit."""
    if scale == "probability":
        return percent(value)
    return quantity(value, unit) if scale == "value" else decimal(value, 2)


def difference(value: float, scale: str, unit: str = "") -> str:
    """How far two outputs are apart: points of percent, log-odds with two decimals, or the outcome's unit."""
    if scale == "probability":
        return points(value)
    return quantity(abs(value), unit) if scale == "value" else decimal(abs(value), 2)


def added_up(gap: float) -> str:
    """How well steps add up to what the model says, after "and"."""
    return "all steps add up to the prediction" if gap == 0 else f"all steps together miss the prediction by {gap:.1e}"


def level(confidence: float) -> str:
    return f"{confidence * 100:g}%"


CROSSED = " · "
"""Between the names of what is crossed."""


def listing(items: Sequence[str], joined: str = "and") -> str:
    if len(items) < 2:
        return "".join(items)
    return f"{', '.join(items[:-1])} {joined} {items[-1]}"


SPELLED_WITH_A_VOWEL = "AEFHILMNORSX"


def article(text: str) -> str:
    """A noun with "a" or "an": initials by how their first letter is spelled.

    >>> article("log loss"), article("accuracy"), article("MAE"), article("F1")
    ('a log loss', 'an accuracy', 'an MAE', 'an F1')
    """
    initials = text[:2].upper() == text[:2] and text[:1].isalpha()
    vowel = text[:1] in SPELLED_WITH_A_VOWEL if initials else text[:1].lower() in "aeiou"
    return f"{'an' if vowel else 'a'} {text}"


def plural(number: int, one: str, many: str | None = None) -> str:
    return f"{count(number)} {one if number == 1 else many or one + 's'}"


def title(name: str) -> str:
    """A column name as it stands in a sentence: underscores are spaces, the rest is the person's own."""
    return name.replace("_", " ")


def value_text(value: object) -> str:
    """The one text form of a cell: what levels, groups and event values are compared by.

    Whole floats lose their ".0" so that a column read as 1.0 equals an event given as "1".
    """
    if isinstance(value, bool | np.bool_):
        return "True" if value else "False"
    if isinstance(value, int | np.integer):
        return str(int(value))
    if isinstance(value, float | np.floating):
        number = float(value)
        return str(int(number)) if number.is_integer() and abs(number) < 1e15 else repr(number)
    return str(value)


def opening(text: str) -> str:
    """A phrase at the start of a sentence. A name that is no plain word (v000, iD, 3rd, x) stays as it is written."""
    if text.startswith(BEGIN):  # an audit's own word: it is opened within its marks
        return text[:2] + opening(text[2:])
    first = re.split(r"[^\w]", text, maxsplit=1)[0]
    plain = first.isalpha() and first.islower() and (len(first) > 1 or first == "a")
    return text[:1].upper() + text[1:] if plain else text


def runs(labels: Sequence[str], chosen: Sequence[bool], joined: bool) -> str:
    """Some of the labels in a list; neighbours in it as one stretch where they are ``joined`` ("17 and 32 to 42")."""
    if not joined:
        return listing([label for label, one in zip(labels, chosen, strict=True) if one][:5])
    found: list[list[int]] = []
    for i, one in enumerate(chosen):
        if one and found and found[-1][-1] == i - 1:
            found[-1].append(i)
        elif one:
            found.append([i])
    said = [labels[own[0]] if len(own) == 1 else f"{labels[own[0]]} to {labels[own[-1]]}" for own in found]
    return listing(said if len(said) <= 5 else [*said[:4], f"{len(said) - 4} other stretches"])


def measured(
    value: float, low: float | None, high: float | None, least: int = 0, most: int = 6
) -> tuple[str, str, str]:
    """A number and the ends of its interval in as many digits as the interval justifies: two of its half width.

    >>> measured(12.3456, 11.9, 12.8)
    ('12.35', '11.90', '12.80')
    """
    digits = least
    if low is not None and high is not None and high > low:
        digits = int(np.clip(1 - np.floor(np.log10((high - low) / 2)), least, most))
    shown = ["" if one is None else f"{one:,.{digits}f}".replace("-", "−") for one in (value, low, high)]
    # a zero has no sign
    shown = [one.removeprefix("−") if one and not one.strip("−0.,") else one for one in shown]
    return shown[0], shown[1], shown[2]
