"""Invented claims of Skerry Post, a parcel service that does not exist, drawn from a seed."""

from __future__ import annotations

import numpy as np
import pyarrow as pa

from zerotilt.demo import planted

CLAIMS = 12_000
SEED = 20
AREAS = ("harbour town", "uplands", "outer isles")
LANGUAGES = ("Tarnish", "Brae", "Holm")
AGE_BANDS = ("16–29", "30–49", "50–69", "70 and over")
GRADES = ("A", "B", "C", "D")
CHANNELS = ("app", "counter", "telephone")
DESKS = ("front desk", "claims desk", "senior desk", "field inspection")
"""From the least work to the most."""


def _pick(rng: np.random.Generator, levels: tuple[str, ...], shares: np.ndarray) -> np.ndarray:
    """One level a row from row-wise shares, shape (n, levels)."""
    edges = np.cumsum(shares, axis=1)
    return np.array(levels, dtype=object)[(rng.random(len(shares))[:, None] > edges[:, :-1]).sum(axis=1)]


def claims(rows: int = CLAIMS, seed: int = SEED) -> pa.Table:
    """A table of claims with the planted facts in it."""
    rng = np.random.default_rng(seed)
    area = rng.choice(np.array(AREAS, dtype=object), rows, p=[0.55, 0.25, 0.20])
    isles, uplands = area == "outer isles", area == "uplands"
    district = np.array(
        [
            f"{'HUI'[('harbour town', 'uplands', 'outer isles').index(place)]}{number:02d}"
            for place, number in zip(area, rng.integers(1, 15, rows), strict=True)
        ],
        dtype=object,
    )
    by_area = {"harbour town": [0.80, 0.15, 0.05], "uplands": [0.55, 0.35, 0.10], "outer isles": [0.30, 0.60, 0.10]}
    language = _pick(rng, LANGUAGES, np.array([by_area[place] for place in area]))  # fact 8: by area alone
    age = rng.choice(4, rows, p=[0.20, 0.39, 0.30, 0.11])
    old = age >= 3
    sender = np.where(rng.random(rows) < 0.3, "shop", "private").astype(object)
    shop = sender == "shop"
    counter = np.clip(0.20 + 0.12 * age, 0, 1)
    channel = _pick(rng, CHANNELS, np.column_stack([0.78 - counter, counter, np.full(rows, 0.22)]))
    helped = np.where(rng.random(rows) < 0.04 + 0.16 * old, "yes", "no").astype(object)
    ferry = np.where(isles, 1 + rng.binomial(2, 0.55, rows), np.where(uplands, rng.binomial(1, 0.12, rows), 0))
    missed = rng.poisson(0.35 + 0.75 * ferry)  # fact 1: scans are missed at ferry transfers
    transit = np.round(np.clip(rng.gamma(3.0, 1.0, rows) + 1.4 * ferry + 0.5, 0.5, 30), 1)
    weight = np.round(np.clip(rng.lognormal(1.35, 0.95, rows), 0.1, 40), 1)
    grade = _pick(rng, GRADES, np.tile([0.30, 0.32, 0.22, 0.16], (rows, 1)))
    weak = np.isin(grade, ["C", "D"])
    value = np.round(rng.lognormal(3.8, 0.8, rows), 2)
    before = rng.poisson(np.where(shop, 1.1, 0.5))
    account = np.round(rng.gamma(1.6, 3.2, rows) + 0.1, 1)
    photo = rng.random(rows) < np.where(channel == "app", 0.78, 0.42)
    message = rng.integers(12, 900, rows)

    newness = np.minimum(account, 6.0)
    logit = (
        0.75
        + 0.85 * photo
        - 0.42 * before
        - 0.05 * (transit - 4)
        + 0.10 * np.log(value / 45)
        - 0.40 * missed
        + np.where(weak, 0.16 * np.clip(weight - 4, -4, 14), 0.0)  # fact 3
        + np.where(shop, -0.22 * (newness - 3), 0.24 * (newness - 3))  # fact 4
        - 0.30 * isles  # fact 2: refusals of the past, kept in the labels
    )
    valid = rng.random(rows) < 1 / (1 + np.exp(-1.25 * logit))
    pocket = (channel == planted.POCKET["channel"]) & (weight > planted.POCKET["parcel_weight"])
    valid = np.where(pocket & (rng.random(rows) < 0.8), rng.random(rows) < 0.5, valid)  # fact 5: close to a coin
    leak = np.round(np.clip(np.where(valid, 0.72, 0.28) + rng.normal(0, 0.12, rows), 0, 1), 3)  # fact 7
    absent = rng.random(rows) < np.where(channel == "counter", 0.10, 0.02) + 0.30 * old  # fact 6
    split = rng.permutation(
        np.repeat(
            np.array(["training", "validation", "test"], dtype=object),
            [rows * 5 // 10, rows * 2 // 10, rows - rows * 7 // 10],
        )
    )
    settled, desk = _handling(rng, value, weight, before, message, channel, isles, photo, valid)
    # what clerks decided before there was a model: much like it, and harder on the isles and on the telephone
    accepted = rng.random(rows) < 1 / (1 + np.exp(-1.1 * logit - 0.2 + 0.5 * isles + 0.4 * (channel == "telephone")))
    return pa.table(
        {
            "claim_number": pa.array([f"{20_000 + i}" for i in range(rows)]),
            "declared_value": value,
            "parcel_weight": weight,
            "days_in_transit": transit,
            "missed_scans": missed,
            "ferry_legs": ferry,
            "packaging_grade": pa.array(grade),
            "sender_kind": pa.array(sender),
            "channel": pa.array(channel),
            "claims_three_years": before,
            "account_age": pa.array(np.where(absent, np.nan, account), from_pandas=True),
            "photo_attached": pa.array(np.where(photo, "yes", "no").astype(object)),
            "message_length": message,
            "postal_district": pa.array(district),
            "reference_photo_score": leak,
            "home_area": pa.array(area),
            "age_band": pa.array(np.array(AGE_BANDS, dtype=object)[age]),
            "preferred_language": pa.array(language),
            "helped_by_another": pa.array(helped),
            "split": pa.array(split),
            "days_to_settle": settled,
            "routing_desk": pa.array(desk),
            "clerk_accepted": pa.array(np.where(accepted, "yes", "no").astype(object)),
            "claim_valid": pa.array(np.where(valid, "yes", "no").astype(object)),
        }
    )


def _handling(rng, value, weight, before, message, channel, isles, photo, valid) -> tuple[np.ndarray, np.ndarray]:
    """How many days a claim took to settle, and which of four desks it ended at; both shapes (rows,)."""
    days = (
        3.0
        + 0.9 * np.clip(np.log(value / 20), 0, 3)
        + 0.5 * np.clip(before, 0, 5)
        + np.where(photo, 0.0, 2.2)
        + np.where(channel == "telephone", 1.5, 0.0)
        + 2.4 * isles
        + 0.0015 * message
        - 1.0 * valid
    )
    days = np.round(days * rng.gamma(9.0, 1 / 9.0, len(value)), 1)
    effort = (
        0.8 * np.log(value / 45)
        + 0.05 * weight
        + 0.6 * before
        - 0.9 * photo
        + 0.5 * (channel == "telephone")
        + rng.logistic(0, 0.7, len(value))
    )
    return days, np.array(DESKS, dtype=object)[np.searchsorted([-0.4, 1.0, 2.4], effort)]
