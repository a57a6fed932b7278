"""Every sentence with numbers on page one and among the findings is read back and computed anew from the table.

The reader knows patterns of sentences, each with a definition of its own in plain NumPy. A sentence with numbers that no
pattern knows fails the test, so a new one has to be given its definition here.
"""

from __future__ import annotations

import html
import re
from collections import Counter
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import pytest
from scipy import optimize, special, stats
from tests.core.systems import system
from tests.report.test_every_kind import cover
from tests.report.test_render import DIGESTS

from zerotilt.core.meaning import Role, Task, Wording
from zerotilt.core.work import Work
from zerotilt.report.compose import gather
from zerotilt.report.render import render

N = 600


def base(seed=1, n=N, gap=1.2, names=("north", "south", "other"), shares=(0.5, 0.4, 0.1)):
    """A table with recorded scores whose second group does worse, and the plain facts of it."""
    rng = np.random.default_rng(seed)
    x, z = rng.normal(size=n), rng.normal(size=n)
    g = rng.choice(names, n, p=shares)
    p = 1 / (1 + np.exp(-(x - gap * (g == names[1]))))
    return {"x": x, "z": z, "g": g, "y": (rng.random(n) < p).astype(int), "s": p}, rng


def scored(columns, roles=None, **more):
    roles = {"g": Role.group, "s": Role.score} | (roles or {})
    more = {"favourable": "event", "favourable_said": True} | more
    return system(columns, roles=roles, **more)


def pocketed(seed):
    columns, rng = base(seed)
    wrong = (columns["x"] > 0.8) & (rng.random(N) < 0.7)
    return scored(columns | {"s": np.where(wrong, 1 - columns["s"], columns["s"])})


def weighted(seed):
    columns, rng = base(seed)
    return scored(columns | {"w": rng.integers(0, 4, N).astype(float)}, {"w": Role.weight})


def decided(seed, **more):
    columns, _ = base(seed)
    columns["d"] = (columns.pop("s") > 0.5).astype(int)
    return system(
        columns, roles={"g": Role.group, "d": Role.decision}, favourable="event", favourable_said=True, **more
    )


def of_number(seed, weights=False):
    columns, rng = base(seed)
    south = columns["g"] == "south"
    v = 3 * columns["x"] + 10 - 2 * south
    columns |= {"s": v, "y": v + rng.normal(size=N) * (1 + 2 * south)}
    roles = {"g": Role.group, "s": Role.score}
    if weights:
        columns["w"], roles["w"] = rng.integers(1, 5, N).astype(float), Role.weight
    return system(columns, roles=roles, task=Task.regression, event="", favourable="event", favourable_said=True)


def of_classes(seed, task=Task.several):
    columns, rng = base(seed)
    of = np.array(["low", "middle", "high"])
    lie = columns["x"] - 0.8 * (columns["g"] == "south")
    columns["y"] = of[np.clip(np.round(lie + 1 + rng.normal(size=N)), 0, 2).astype(int)]
    columns["d"] = of[np.clip(np.round(lie + 1), 0, 2).astype(int)]
    del columns["s"]
    return system(
        columns, roles={"g": Role.group, "d": Role.decision}, task=task, event="",
        favourable_classes=("high",), favourable_said=True,
    )  # fmt: skip


def untold(seed):
    columns, _ = base(seed)
    del columns["y"]
    return scored(columns, {"y": Role.ignored}) if "y" in columns else scored(columns)


def with_changes(**changes):
    def made(seed):
        columns, rng = base(seed)
        return scored(columns | {name: change(columns, rng) for name, change in changes.items()})

    return made


AUDITS = {
    "a gap": lambda: scored(base(1)[0]),
    "another": lambda: scored(base(2)[0]),
    "clean": lambda: scored(base(3, gap=0.0)[0]),
    "clean and large": lambda: scored(base(4, 3_000, gap=0.0)[0]),
    "14 rows": lambda: scored(base(5, 14)[0]),
    "70 rows": lambda: scored(base(6, 70)[0]),
    "weighted, some with nothing": lambda: weighted(7),
    "weighted": lambda: weighted(8),
    "recorded decisions": lambda: decided(9),
    "favourable is no event": lambda: scored(base(10)[0], favourable="other"),
    "a pocket": lambda: pocketed(11),
    "a pocket again": lambda: pocketed(12),
    "our own words": lambda: scored(base(13, names=("missing", "no", "12.5"))[0]),
    "one row of a level": lambda: with_changes(g=lambda c, r: np.where(np.arange(N) == 5, "lone", c["g"]))(14),
    "missing groups": lambda: with_changes(
        g=lambda c, r: np.array([None if a else b for a, b in zip(r.random(N) < 0.15, c["g"], strict=True)], object)
    )(15),
    "nearly all let through": lambda: with_changes(s=lambda c, r: np.clip(c["s"] + 0.45, 0, 1))(16),
    "scores that tie": lambda: with_changes(s=lambda c, r: np.round(c["s"], 1))(17),
    "nobody of the event": lambda: with_changes(y=lambda c, r: np.where(c["g"] == "south", 0, c["y"]))(18),
    "a number": lambda: of_number(19),
    "a weighted number": lambda: of_number(20, True),
    "classes": lambda: of_classes(21),
    "ordered classes": lambda: of_classes(22, Task.several),
    "the third group is large": lambda: scored(base(23, shares=(0.34, 0.33, 0.33))[0]),
}


@dataclass(frozen=True)
class Own:
    """The plain facts of a table, and every measure of a group by its definition."""

    subject: object
    bundle: object

    @cached_property
    def columns(self):
        table = self.subject.table
        return {
            name: table.numbers(name) if table.is_number(name) else np.array(table.texts(name), object)
            for name in table.names
        }

    @property
    def spec(self):
        return self.subject.spec

    @cached_property
    def w(self):
        return self.columns.get("w", np.ones(len(self.columns["g"])))

    def level(self, said: str) -> str | None:
        """The level that a phrase means: "South rows (g)", "rows whose g is “no”", "rows without g", "north"."""
        if said.lower() == "rows without g":
            return None
        quoted = re.fullmatch(r"[Rr]ows whose g is “(.+)”", said)
        name = quoted[1] if quoted else said.removesuffix(" (g)").removesuffix(" rows")
        found = [str(one) for one in set(self.columns["g"]) if one is not None and str(one).lower() == name.lower()]
        assert len(found) == 1, said
        return found[0]

    def members(self, said: str):
        wanted = self.level(said)
        return np.array([one is None if wanted is None else str(one) == wanted for one in self.columns["g"]])

    @cached_property
    def happened(self):
        return self.columns["y"].astype(float) == 1

    @cached_property
    def predicted(self):
        if "d" in self.columns:
            return self.columns["d"].astype(float) == 1
        return self.columns["s"] >= self.spec.threshold

    @cached_property
    def favoured(self):
        return self.predicted == (self.spec.favourable == "event")

    def measure(self, metric: str):
        """Values and the rows that they are of: a rate where the values are truths."""
        every = np.ones(len(self.w), bool)
        if self.spec.task is Task.several:
            y, d = self.columns["y"], self.columns["d"]
            metric, _, of = metric.partition(" of ") if " of " in metric else metric.partition(" · ")
            of = of.strip("“”")
            rates = {
                "accuracy": (y == d, every), "selection rate": (np.isin(d, ["high"]), every), "base rate": (y == of, every),
                "share decided": (d == of, every), "true positive rate": (d == of, y == of),
                "false positive rate": (d == of, y != of), "true negative rate": (d != of, y != of),
                "false negative rate": (d != of, y == of), "positive predictive value": (y == of, d == of),
            }  # fmt: skip
            return rates[metric]
        if self.spec.task is Task.regression:
            y, s = self.columns["y"], self.columns["s"]
            return {
                "mean prediction": (s, every), "mean outcome": (y, every), "MAE": (np.abs(s - y), every),
                "RMSE": ((s - y) ** 2, every), "mean error": (s - y, every),
            }[metric]  # fmt: skip
        y, d = self.happened, self.predicted
        rates = {
            "selection rate": (self.favoured, every), "base rate": (y, every), "accuracy": (y == d, every),
            "true positive rate": (d, y), "false positive rate": (d, ~y), "true negative rate": (~d, ~y),
            "false negative rate": (~d, y), "positive predictive value": (y, d), "negative predictive value": (~y, ~d),
        }  # fmt: skip
        if metric in rates:
            return rates[metric]
        s = np.clip(self.columns["s"], 1e-15, 1 - 1e-15)
        return {
            "mean score": (self.columns["s"], every), "Brier score": ((self.columns["s"] - y) ** 2, every),
            "log loss": (-np.log(np.where(y, s, 1 - s)), every),
        }[metric]  # fmt: skip

    def told(self, metric: str, group: str):
        """The value of a metric in a group, the rows that it rests on, and whether it is a rate."""
        if metric == "AUC":
            inside = self.members(group)
            s, y, w = self.columns["s"][inside], self.happened[inside], self.w[inside]
            above = (s[y][:, None] > s[~y]) + 0.5 * (s[y][:, None] == s[~y])
            mass = w[y][:, None] * w[~y]
            return float((above * mass).sum() / mass.sum()), int((w > 0).sum()), False
        values, of = self.measure(metric)
        inside = self.members(group) & of & (self.w > 0)
        mean = float(np.average(values[inside].astype(float), weights=self.w[inside]))
        mean = mean**0.5 if metric == "RMSE" else mean
        return mean, int(inside.sum()), values.dtype == bool

    @cached_property
    def tilt(self):
        return self.bundle.needed("tilt").typed

    def compared(self, metric: str, group: str):
        """The comparison in the evidence."""
        key, of, one_class = metric.partition(" of ") if " of " in metric else (metric, "", "")
        names = {"share decided": "class_share"}
        key = names.get(key, key.lower().replace(" ", "_")) + (f" · {one_class}" if of else "")
        wanted = self.level(group)
        (one,) = [
            one
            for one in self.tilt.disparities
            if one.metric.lower() == key.lower()
            and (one.group == wanted or (wanted is None and "missing" in one.group))
        ]
        return one


def near(text: str, value: float) -> None:
    """The number that is printed is the value, rounded as it is printed."""
    said = text.replace(",", "").replace("−", "-").removesuffix("%")
    decimals = len(said.partition(".")[2])
    scale = 100 if text.endswith("%") else 1
    assert abs(float(said) - value * scale) <= 0.5 * 10**-decimals + 1e-9, (text, value)


def score_of_ratio(ratio, x1, n1, x2, n2):
    """Koopman's statistic (1984), by looking for the likeliest rates with that ratio."""

    def lost(p2):
        p = np.clip([ratio * p2, p2], 1e-12, 1 - 1e-12)
        return -(x1 * np.log(p[0]) + (n1 - x1) * np.log(1 - p[0]) + x2 * np.log(p[1]) + (n2 - x2) * np.log(1 - p[1]))

    p2 = optimize.minimize_scalar(
        lost, bounds=(1e-9, min(1, 1 / ratio) - 1e-9), method="bounded", options={"xatol": 1e-12}
    ).x
    p1 = ratio * p2
    return (x1 - n1 * p1) ** 2 / (n1 * p1 * (1 - p1)) + (x2 - n2 * p2) ** 2 / (n2 * p2 * (1 - p2))


def wilson(k, n):
    return stats.binomtest(round(k), n).proportion_ci(0.95, "wilson")


NUMBER = r"[−\d][\d,]*\.?\d*"
SHARE = rf"{NUMBER}%"


def gap(own, m):
    """Who, by how much, how sure, of how many rows."""
    metric = m["metric"] or "selection rate"
    group, reference = m["group"], m["reference"]
    if metric == "calibration error":  # its bins are in tests of their own
        return None
    (here, n1, rate), (there, n2, _) = own.told(metric, group), own.told(metric, reference)
    assert (int(m["n1"].replace(",", "")), int(m["n2"].replace(",", ""))) == (n1, n2)
    one = own.compared(metric, group)
    if m["way"] is None:
        value, (low, high) = here / there if there else np.inf, (one.ratio.low, one.ratio.high)
        if one.corrected:
            values, of = own.measure(metric)
            x1, x2 = ((values & of & own.members(who)).sum() + 0.5 for who in (group, reference))
            value = x1 / (n1 + 1) / (x2 / (n2 + 1))
    else:
        value, (low, high) = here - there, (one.difference.low, one.difference.high)
        assert m["way"] in (("less", "lower") if value < 0 else ("more", "higher"))
        low, high = sorted((abs(low), abs(high))) if low * high > 0 else (low, high)
        value = abs(value) / (0.01 if "points" in m[0] else 1)
        low, high = (low / 0.01, high / 0.01) if "points" in m[0] else (low, high)
    near(m["value"], value)
    near(m["low"], low)
    near(m["high"], high)
    if m["way"] is None and rate and (own.w == 1).all() and not one.corrected:
        x1, x2 = round(here * n1), round(there * n2)
        for end, out in ((m["low"], -1), (m["high"], 1)):
            half = 0.5 * 10 ** -len(end.partition(".")[2])
            beyond = score_of_ratio(max(float(end) + out * half, 1e-6), x1, n1, x2, n2)
            within = score_of_ratio(max(float(end) - out * half, 1e-6), x1, n1, x2, n2)
            assert beyond >= 3.8414 - 1e-3 and within <= 3.8415 + 1e-3, (m[0], beyond, within)
    return metric, group, reference


def rates(own, m, last):
    """Both rates, how many people that is, and in whose favour."""
    metric, group, reference = last
    (here, n1, rate), (there, _, _) = own.told(metric, group), own.told(metric, reference)
    near(m["here"], here)
    near(m["there"], there)
    if m["people"]:
        assert int(m["people"].replace(",", "")) == round(abs(here - there) * n1)
        assert m["more"] == ("more" if here > there else "fewer")
        assert m["than"] == reference
    better = {
        "selection rate": 1, "mean score": 1, "true positive rate": 1, "false positive rate": 1, "false negative rate": -1,
        "true negative rate": -1, "mean prediction": 1, "share decided": 1,
    }.get(metric.removesuffix(" of high"))  # fmt: skip
    if own.spec.task is Task.binary and metric != "selection rate" and own.spec.favourable != "event" and better:
        better = -better
    if m["whose"]:
        assert better is not None, m[0]
        assert m["whose"] == ("advantage" if better * (here - there) > 0 else "disadvantage"), m[0]
    if m["does"]:
        errors = {"accuracy": 1, "AUC": 1}.get(metric, -1)
        assert m["does"] == ("better" if errors * (here - there) > 0 else "worse")
    assert rate == m[0].startswith("The rates")


def adjusted(own, m, last):
    """p by the score test and by Benjamini & Hochberg, over all comparisons that have enough rows."""
    metric, group, reference = last
    tested = [one for one in own.tilt.disparities if one.p_adjusted is not None]
    ps = np.array([one.p_value for one in tested])
    order = np.argsort(ps)
    steps = np.minimum.accumulate((ps[order] * len(ps) / np.arange(1, len(ps) + 1))[::-1])[::-1]
    mine = own.compared(metric, group)
    value = min(1.0, steps[list(order).index(tested.index(mine))])
    if m["below"]:
        assert value < 0.001
    else:
        near(m["p"], value)
    values, of = (None, None) if metric == "AUC" else own.measure(metric)
    if values is not None and values.dtype == bool and (own.w == 1).all():
        sides = [own.members(one) & of for one in (group, reference)]
        k, n = [int(values[one].sum()) for one in sides], [int(one.sum()) for one in sides]
        pooled = sum(k) / sum(n)
        z = (k[0] / n[0] - k[1] / n[1]) / np.sqrt(pooled * (1 - pooled) * (1 / n[0] + 1 / n[1]))
        assert mine.p_value == pytest.approx(2 * stats.norm.sf(abs(z)), abs=1e-9)


def status_of(own, one):
    """The rule as it is written, applied to a comparison's own numbers."""
    policy = own.spec.policy
    if one.p_adjusted is None:
        return "too_few"
    estimate = one.ratio if one.judged == "ratio" else one.difference
    outside = not one.low <= estimate.value <= one.high
    if outside and one.p_adjusted <= policy.alpha:
        return "flagged"
    reaching = estimate.low is None or estimate.low < one.low or estimate.high > one.high
    return "uncertain" if outside or reaching else "within"


def counted(own, m):
    """How many comparisons are flagged, undecided and not tested, by the rule applied anew."""
    found = Counter(status_of(own, one) for one in own.tilt.disparities)
    assert (int(m["flagged"]), int(m["every"])) == (found["flagged"], len(own.tilt.disparities))
    whole = m[0].endswith(("tested", "flagged", "undecided")) and not m.string.startswith(m[0] + ":")
    for name, status in (("undecided", "uncertain"), ("few", "too_few")) if whole else ():
        assert int(m[name] or 0) == found[status], m[0]
    if tests := re.search(r"\((\d+) tests?\)", m.string):
        assert int(tests[1]) == len(own.tilt.disparities) - found["too_few"]


def undecided(own, m):
    found = Counter(status_of(own, one) for one in own.tilt.disparities)
    assert (int(m["undecided"]), int(m["few"])) == (found["uncertain"], found["too_few"])


def right(own, m):
    if own.spec.task is Task.regression:
        off = np.abs(own.columns["s"] - own.columns["y"])
        near(m["off"], float(np.average(off, weights=own.w)))
        return
    same = own.columns["y"] == own.columns["d"] if own.spec.task is Task.several else own.happened == own.predicted
    read = own.w > 0
    share = float(np.average(same[read].astype(float), weights=own.w[read]))
    near(m["share"], share)
    assert int(m["n"].replace(",", "")) == len(read)  # of those that weigh nothing it is said beside it
    if (own.w == 1).all():
        low, high = wilson(share * read.sum(), int(read.sum()))
        near(m["low"], low)
        near(m["high"], high)


def pocket(own, m):
    """A place in the half that confirms: its share and interval are of whole rows, and both sides are half of the table."""
    n, outside = int(m["n"].replace(",", "")), int(m["outside"].replace(",", ""))
    read = int((own.w > 0).sum())
    assert n + outside in (read // 2, read - read // 2)
    if own.spec.task is Task.regression or not (own.w == 1).all():
        return
    here, there = float(m["here"].rstrip("%")) / 100, float(m["there"].rstrip("%")) / 100
    k, rest = round(here * n), round(there * outside)
    near(m["here"], k / n)
    near(m["there"], rest / outside)
    low, high = wilson(k, n)
    near(m["low"], low)
    near(m["high"], high)
    if m["share"]:
        near(m["share"], k / (k + rest))
    wrong = own.columns["y"] != own.columns["d"] if own.spec.task is Task.several else own.happened != own.predicted
    meets = np.ones(len(own.w), bool)
    for column, text in re.findall(r"(?:^|and )(\w+) is ((?:over|up to)[^,]*?)(?= and \w+ is |$)", m["where"]):
        for word, end in re.findall(r"(over|up to) ([−\d.]+)", text):
            value = float(end.replace("−", "-"))
            meets &= own.columns[column] > value if word == "over" else own.columns[column] <= value
    assert n <= meets.sum() and k <= (wrong & meets).sum() and k + rest <= wrong.sum()


def found(own, m):
    facts = [one for one, *_ in own.bundle.all_facts()]
    severe = sum(one.severity == "high" for one in facts)
    assert int(m["many"]) == len(facts)
    said = {"of high severity": 1, "all of high severity": len(facts)}.get(m["how"])
    if said is None and (some := re.match(r"(\d+) of (?:it|them) of high severity", m["how"] or "")):
        said = int(some[1])
    if said is not None:
        assert severe == said, (m[0], severe)


def open_(own, m):
    facts = [one for one, *_ in own.bundle.all_facts()]
    assert int(m["many"]) == len(facts)
    if m["severe"]:
        assert int(m["severe"]) == sum(one.severity == "high" for one in facts)


def nothing(own, m):
    """The largest of the smaller sides of all comparisons, in rows that the metric rests on."""
    assert all(status_of(own, one) == "too_few" for one in own.tilt.disparities)
    least = int(m["least"])
    assert least == own.spec.policy.minimum_rows and int(m["side"]) < least
    if m["every"]:
        assert int(m["every"]) == len(own.tilt.disparities)


def twentieth(own, m):
    read = (own.w > 0).sum()
    if m["rows"]:
        assert int(m["rows"].replace(",", "")) * 20 >= read or "less than" in m[0]
    if m["low"]:
        near(m["low"], own.spec.policy.ratio_low**2)
        near(m["high"], own.spec.policy.ratio_high**2)


def also(own, m, last):
    """Other metrics of the same gap, each with its own size."""
    _, group, reference = last
    for name, size, way in re.findall(
        rf"([A-Za-z][\w “”·-]*?) \(({NUMBER})(?: (points|days))?(?: [\w ]+)? ?(?:times|less|more|lower|higher)[^)]*\)",
        m[0],
    ):
        if name.removeprefix("and ").strip() == "calibration error":
            continue
        (here, _, _), (there, _, _) = (
            own.told(name.removeprefix("and ").strip(), group),
            own.told(name.removeprefix("and ").strip(), reference),
        )
        part = m[0].split(f"{name} (")[1].partition(")")[0]
        value = here / there if "times" in part else abs(here - there) * (100 if way == "points" else 1)
        near(size, value)


def whole(own, m):
    # where rows weigh nothing it is said beside it how many
    assert int(m["n"].replace(",", "")) in (len(own.w), (own.w > 0).sum())


def same_for_all(own, m):
    values = own.columns["y"]
    shares = [float(np.average((values == one).astype(float), weights=own.w)) for one in set(values.tolist())]
    near(m["share"], max(shares))


def balanced(own, m):
    y, d = own.columns["y"], own.columns["d"]
    near(m["share"], float(np.mean([(d[y == one] == one).mean() for one in set(y.tolist())])))


def ranked(own, m):
    s, y, w = own.columns["s"], own.happened, own.w
    above = (s[y][:, None] > s[~y]) + 0.5 * (s[y][:, None] == s[~y])
    mass = w[y][:, None] * w[~y]
    near(m["value"], float((above * mass).sum() / mass.sum()))
    if (w == 1).all():  # DeLong (1988) on the log-odds scale
        area = above.mean()
        error = np.sqrt(
            above.mean(axis=1).var(ddof=1) / above.shape[0] + above.mean(axis=0).var(ddof=1) / above.shape[1]
        )
        reach = stats.norm.ppf(0.975) * error / (area * (1 - area))
        near(m["low"], float(special.expit(special.logit(area) - reach)))
        near(m["high"], float(special.expit(special.logit(area) + reach)))


def explained(own, m):
    off, about = own.columns["s"] - own.columns["y"], own.columns["y"] - np.average(own.columns["y"], weights=own.w)
    near(m["value"], float(1 - (own.w * off**2).sum() / (own.w * about**2).sum()))


def weighing(own, m):
    near(m["rows"], float(own.w.sum() ** 2 / (own.w**2).sum()))


def weightless(own, m):
    assert int(m["rows"]) == (own.w == 0).sum()


WORDS = {"once": 1, "twice": 2}


def few(own, m):
    inside = own.members(m["group"])
    assert int(m["n"]) == inside.sum()
    of = own.happened if m["way"] == "happened" else ~own.happened
    if m["never"]:
        assert (of & inside).sum() == (0 if m["never"] == "never " else inside.sum())
        return
    said = WORDS.get(m["times"].removeprefix("only "))
    assert (of & inside).sum() == (int(m["times"].split()[-2]) if said is None else said)


def confirmed(own, m):
    """As many pockets as the evidence holds, and each in as many halvings as it says."""
    found = own.bundle.needed("pockets").typed
    assert {"One": 1}.get(m["many"]) or int(m["many"]) == sum(one.status == "confirmed" for one in found.pockets)
    whole(own, m)


WHO = r"(?P<group>[^():]+? rows \(g\)|Rows whose g is “[^”]+”|Rows without g)"
AGAINST = r"(?P<reference>rows whose g is “[^”]+”|rows without g|.+? rows)"
HOW_SURE = rf"\(95% interval (?P<low>{NUMBER}%?) (?:\w+ )?to (?P<high>{NUMBER}%?)(?: \w+)?; (?P<n1>[\d,]+) and (?P<n2>[\d,]+) rows(?:; a rate is 0; the ratio is with 0\.5 added to all four cells)?\)"
PATTERNS = [
    (rf"^(?:Found\. |⚑ )?(?:.*It reads: |.*most severe reads: )?{WHO}: (?:decided (?:un)?favourably|(?P<metric>[^:]+?)) (?P<value>{NUMBER})(?: points| days)? (?:times (?:as often as|that of)|(?P<way>less|more|lower|higher) than (?:that of )?)\s?{AGAINST} {HOW_SURE}", gap),
    (rf"^The (?:rates|values) are (?P<here>{NUMBER}%?)(?: \w+)? and (?P<there>{NUMBER}%?)(?: days)?(?:: about (?P<people>[\d,]+) rows (?P<more>more|fewer) than at the rate of (?P<than>[^,]+?))?(?:, to the group's (?P<whose>\w+)|; the model does (?P<does>\w+) for this group)?\.$", rates),
    (r"^Adjusted p (?:(?P<below>below) 0\.001|(?P<p>[\d.]+))\.$", adjusted),
    (r"^Also flagged: ", also),
    (r"(?:\((?P<tests>\d+) tests?\): )?(?P<flagged>\d+) of (?P<every>\d+) comparisons (?:is|are) flagged(?:[,:](?= \d))?(?:(?:,| and) (?P<undecided>\d+) (?:is|are) undecided)?(?:(?:,| and)+ (?P<few>\d+) ha(?:s|ve) too few rows to be tested)?", counted),
    (r"^(?P<undecided>\d+) (?:is|are) undecided, (?P<few>\d+) ha(?:s|ve) too few rows\.$", undecided),
    (rf"(?P<share>{SHARE}) of (?P<n>[\d,]+) rows (?:are decided rightly|get their own class) \(95% interval (?P<low>{SHARE}) to (?P<high>{SHARE})\)\.$", right),
    (rf"the prediction is off by (?P<off>{NUMBER}) on average", right),
    (r"^(?:Found\. )?(?P<many>\d+) findings? came of it(?:, (?P<how>[^.]+))?\.$", found),
    (r"^(?:Open\. )?(?P<many>\d+) findings? (?:is|are) open(?:, (?P<severe>\d+) of high severity)?", open_),
    (r"the flag policy asks for (?P<least>\d+) rows on both sides of a comparison, and the largest smaller side has (?P<side>\d+)(?:(?=.*none of (?P<every>\d+))|.*)", nothing),
    (rf"^(?:⚑ )?(?:.*most severe reads: |.*It reads: )?Where (?P<where>.+?), the (?:error rate|mean absolute error) is (?P<here>{NUMBER}%?) \(95% interval (?P<low>{NUMBER}%?) to (?P<high>{NUMBER}%?); (?P<n>[\d,]+) rows\) against (?P<there>{NUMBER}%?) outside \((?P<outside>[\d,]+)\)(?:; (?P<share>{SHARE}) of the errors of both lie inside)?", pocket),
    (r"^Nothing of concern was found in (?P<n>[\d,]+) rows\.$", whole),
    (r"^(?P<n>[\d,]+) rows\.$", whole),
    (r"^\d+ concerns? in (?P<n>[\d,]+) rows", whole),
    (r"^No pocket .* in (?P<n>[\d,]+) rows", whole),
    (r"^(?P<many>One|\d+) pockets? (?:is|are) confirmed in (?P<n>[\d,]+) rows", confirmed),
    (rf"^Deciding the same for all would be right for (?P<share>{SHARE})\.$", same_for_all),
    (rf"^Balanced accuracy (?P<share>{SHARE})\.$", balanced),
    (r"^AUC (?P<value>[\d.]+) \((?P<low>[\d.]+) to (?P<high>[\d.]+)\)\.$", ranked),
    (r"^R² (?P<value>[\d.]+)\.$", explained),
    (r"^Weighted by w: as precise as (?P<rows>[\d,]+) rows of equal weight\.$", weighing),
    (r"^(?P<rows>\d+) rows weigh nothing and count in no figure\.$", weightless),
    (r"^In (?P<group>.+?) \(g, (?P<n>\d+) rows?\) the event (?P<never>(?:never|always) )?(?P<way>happened|failed to happen) ?(?P<times>(?:only )?(?:once|twice|\d+ times))?\.$", few),
    (rf"^Severity \w+(?:\.$|: )(?:.*twice is (?P<low>{NUMBER}) or (?P<high>{NUMBER}))?(?:.*?(?P<rows>[\d,]+) rows, )?", twentieth),
]  # fmt: skip
ELSEWHERE = (
    "was examined on", "where nothing is so, at most one table in twenty", "Rates that rest on fewer than 30", "halved 12 times",
    "of 12 halvings", "Severity is high where", "A comparison is flagged", "comparisons is flagged", "The share in which",
    "The mean outcome is", "would have been found in four of five cases", "are too few to search one half", "the event always happened",
    "a ratio outside",
    "Audit report", "Examined.", "Intervals are given", "The scores themselves foretell", "That none of", "None of",
    "Comparisons with fewer than", "No pocket", "None is about groups", "Flag policy", "1 finding is made of", "findings are made of",
    "What several metrics", "of them is about groups", "of them are about groups",
)  # fmt: skip
"""Openings of sentences whose numbers are read in tests of their own (rules, and what stands in evidence alone)."""


def sentences(page: str):
    """Sentences with numbers of page one and of the findings, in their order."""
    body = re.sub(r"<(style|svg|table|nav)\b.*?</\1>", "", page, flags=re.S)
    body = body[: body.index("Method notes")]
    body = re.sub(r'<a class="trace".*?</a>', "", body, flags=re.S)
    for paragraph in re.findall(r"<(?:p|li|dd)\b[^>]*>(.*?)(?=</(?:p|li|dd)>|<(?:p|li|dd)\b)", body, re.S):
        text = (
            html.unescape(re.sub(r"\s+", " ", re.sub(r"<[^>]+>", " ", paragraph)))
            .replace(" .", ".")
            .replace(" :", ":")
            .strip()
        )
        text = re.sub(r" ?\[E\d+\]", "", text)
        for one in re.split(r"(?<=[.!?]) (?=[A-Z⚑“\d])", text):
            if re.search(r"\d", one):
                yield one.strip()


def read_back(own, told):
    """Read sentences in their order; how many a pattern knew, and those that none knew."""
    last, read, strange = None, [], []
    for sentence in told:
        for pattern, check in PATTERNS:
            match = re.search(pattern, sentence)
            if not match:
                continue
            before = last
            if check is gap:
                last = gap(own, match)
            elif check in (rates, adjusted, also):
                if last is not None:
                    check(own, match, last)
            else:
                check(own, match)
            read.append((sentence, match, check, before))
            break
        else:
            if not any(word in sentence for word in ELSEWHERE):
                strange.append(sentence)
    return read, strange


def told_of(name):
    subject = AUDITS[name]()
    bundle = gather(subject, DIGESTS, Work(), explained=30)
    return Own(subject, bundle), list(sentences(render(bundle, subject, cover(subject), reader="full").html))


@pytest.mark.parametrize("name", AUDITS)
def test_every_sentence_with_numbers_is_computed_anew(name):
    own, told = told_of(name)
    read, strange = read_back(own, told)
    assert len(read) >= 6
    assert strange == [], "no pattern knows these sentences"


def test_a_group_whose_errors_are_flagged_is_not_counted_again_as_a_pocket():
    """South is off in its errors: one fact, though its rows are also a confirmed pocket."""
    own, told = told_of("a number")
    pockets = [one for one in own.bundle.needed("pockets").typed.pockets if one.status == "confirmed"]
    assert [one.described for one in pockets] == ["g is south"]
    facts = [one for one, _ in own.bundle.all_facts()]
    assert [one.kind for one in facts] == ["disparity"]
    assert any(one.startswith("1 finding came of it") for one in told)
    # a place that is no group stays
    other, _ = told_of("a pocket")
    kinds = Counter(one.kind for one, _ in other.bundle.all_facts())
    assert kinds["weakness"] and kinds["disparity"]


def test_a_limit_of_differences_says_of_which_metrics_and_in_what_unit():
    columns, rng = base(19)
    v = 3 * columns["x"] + 10
    columns |= {"s": v, "y": v + rng.normal(size=N)}
    subject = system(
        columns, roles={"g": Role.group, "s": Role.score}, task=Task.regression, event="", favourable="event",
        favourable_said=True, wording=Wording(unit="days"),
    )  # fmt: skip
    bundle = gather(subject, DIGESTS, Work(), explained=30)
    limit = 0.1 * columns["y"].std()
    (said,) = [
        one
        for one in sentences(render(bundle, subject, cover(subject), reader="full").html)
        if one.startswith("A comparison is flagged where it shows") and "comparisons" in one
    ]
    found = re.search(r"a difference over ([\d.]+) days \(([^)]+)\)", said)
    assert float(found[1]) == pytest.approx(limit, rel=0.1) and "mean error" in found[2]
    assert "a difference over" in " ".join(told_of("a gap")[1]) and "(calibration error)" in " ".join(
        told_of("a gap")[1]
    )


def test_the_reader_notices_a_number_that_is_not_so():
    """Each number of each kind of sentence, changed in its last digit."""
    own, told = told_of("a gap")
    read, _ = read_back(own, told)
    noticed = set()
    for sentence, match, check, before in read:
        if check in (nothing, twentieth, also):
            continue
        for group, text in match.groupdict().items():
            if (
                text is None
                or not re.fullmatch(r"[\d,.]+%?", text)
                or (check is gap and group in ("group", "reference"))
            ):
                continue
            start, end = match.span(group)
            digits = text.rstrip("%")
            other = digits[:-1] + str((int(digits[-1]) + 5) % 10)
            changed = sentence[:start] + other + text[len(digits) :] + sentence[end:]
            again = re.search(
                next(pattern for pattern, one in PATTERNS if one is check and re.search(pattern, changed)), changed
            )
            with pytest.raises(AssertionError):
                if check in (rates, adjusted):
                    check(own, again, before)
                else:
                    check(own, again)
            noticed.add((check.__name__, group))
    assert {name for name, _ in noticed} >= {"gap", "rates", "adjusted", "counted", "right", "found", "open_", "ranked"}
    assert {group for name, group in noticed if name == "gap"} >= {"value", "low", "high", "n1", "n2"}
