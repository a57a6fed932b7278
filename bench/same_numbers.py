"""Every number of the demo before and after a change of structure.

    ./zt bench same keep FILE       compute every method on the three audits and keep the results
    ./zt bench same compare FILE    compute them again and say what differs

Heavy methods read fewer rows than a sheet does: what is compared is the way a number is come by, not its precision.
"""

from __future__ import annotations

import gzip
import json
import math
import sys
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from zerotilt.core.meaning import Context
from zerotilt.core.methods import METHODS
from zerotilt.core.predictors.onnx import OnnxPredictor
from zerotilt.core.refusal import Refused
from zerotilt.core.subject import Subject
from zerotilt.core.table import Table
from zerotilt.core.work import Work
from zerotilt.demo import audit

SEED = 20
FEWER = {"rows": 400, "repeats": 2, "explained": 20, "walked": 16, "walks": 16, "sampled": 30, "draws": 2}
MORE: dict[str, list[dict[str, Any]]] = {
    "drivers": [{"loss": "log_loss"}],
    "difference": [{"row": 10, "other": 11}],
    "response": [{"feature": "account_age", "colour": "sender_kind"}, {"feature": "channel"}],
    "ale": [{"feature": "account_age"}],
    "ladder": [{"row": 10}, {"row": 11}],
    "cases": [{"offset": 100}],
    "tilt": [{"reference": "all others"}],
    "lattice": [{"columns": ["home_area", "age_band"]}],
    "one_group": [{"attribute": "home_area", "group": "outer isles"}],
    "given": [{"attribute": "preferred_language", "columns": ["home_area"]}],
    "thresholds": [{"attribute": "age_band"}],
    "flip": [{"feature": "home_area"}],
}
READ_ALL = ("performance", "tilt", "lattice", "one_group", "given", "sides", "thresholds", "cases", "score_gap")
"""Methods that count rows: on the training rows too, and with recorded decisions where a table has them."""


def everything() -> Iterator[tuple[str, dict[str, Any]]]:
    """A name and a result, or the refusal, of each method in each audit."""
    claims, audits = audit.build_all()
    table = Table(claims)
    for one in audits:
        models = dict(list(one.models.items())[-2:]) if len(one.models) > 1 else one.models
        for version, data in models.items():
            predictor = OnnxPredictor(data, table, one.spec)
            for method, settings in asked(one.spec):
                rows = ("hold-out", "training") if method in READ_ALL else ("hold-out",)
                for which in rows:
                    subject = Subject(one.spec, table, predictor, Context(rows=which))
                    yield (
                        f"{one.title}|{version}|{which}|{method}|{json.dumps(settings)}",
                        read(subject, method, settings),
                    )
        for method in READ_ALL:
            yield f"{one.title}|recorded|hold-out|{method}|{{}}", read(Subject(one.spec, table), method, {})


def asked(spec) -> Iterator[tuple[str, dict[str, Any]]]:
    for name, method in METHODS.items():
        fewer = {key: value for key, value in FEWER.items() if key in method.settings.model_fields}
        if method.first_look:
            fewer |= method.first_look
        if name == "expectations":
            fewer["expected"] = spec.expectations
        needed = {key for key, field in method.settings.model_fields.items() if field.is_required()}
        fewer |= {"row": 3} if "row" in needed else {}
        for more in ({}, *MORE.get(name, [])):
            if needed <= (fewer | more).keys():
                yield name, fewer | more


def read(subject: Subject, name: str, settings: dict[str, Any]) -> dict[str, Any]:
    method = METHODS[name]
    try:
        checked = method.settings.model_validate(settings)
        result = method.compute(subject, checked, SEED, Work())
        reading = method.read(result, subject.spec.wording, checked)
    except Refused as refused:  # anything else is a fault, here or there
        return {"refused": refused.as_dict()}
    return {"result": result.model_dump(mode="json"), "reading": reading.model_dump(mode="json")}


def differences(was: Any, now: Any, place: str = "") -> Iterator[str]:
    """Where two results differ by more than rounding."""
    if isinstance(was, dict) and isinstance(now, dict):
        for name in sorted(was.keys() | now.keys()):
            if name not in was or name not in now:
                yield f"{place}.{name} is only {'after' if name in now else 'before'}"
            else:
                yield from differences(was[name], now[name], f"{place}.{name}")
    elif isinstance(was, list) and isinstance(now, list) and len(was) == len(now):
        for number, (one, other) in enumerate(zip(was, now, strict=True)):
            yield from differences(one, other, f"{place}[{number}]")
    elif isinstance(was, float) and isinstance(now, int | float):
        if not (math.isclose(was, now, rel_tol=1e-9, abs_tol=1e-12) or (math.isnan(was) and math.isnan(now))):
            yield f"{place}: {was!r}, now {now!r}"
    elif was != now:
        yield f"{place}: {was!r}, now {now!r}"[:300]


def main(what: str, file: Path) -> int:
    started, found = time.perf_counter(), {}
    for name, result in everything():
        found[name] = json.loads(json.dumps(result))
    print(f"{len(found)} results in {time.perf_counter() - started:.0f} s")
    if what == "keep":
        with gzip.open(file, "wt") as out:
            json.dump(found, out)
        return 0
    with gzip.open(file, "rt") as kept:
        before = json.load(kept)
    changed = 0
    for name in sorted(before.keys() | found.keys()):
        told = list(differences(before.get(name), found.get(name)))
        changed += bool(told)
        for text in told[:3]:
            print(f"{name}{text}"[:400])
        if len(told) > 3:
            print(f"{name}: and {len(told) - 3} more")
    print(f"{changed} of {len(before.keys() | found.keys())} results differ")
    return int(changed > 0)


if __name__ == "__main__":
    given = sys.argv[-2:]
    sys.exit(main(given[0], Path(given[1])))
