"""Drivers beside drivers: methods, versions, row sets, expectations, and what one feature carries."""

import numpy as np
import pytest
from scipy import stats
from tests.core import zoo
from tests.core.systems import system

from zerotilt.core import links
from zerotilt.core.drivers import expectations, loss_shapley, ranking, side_by_side
from zerotilt.core.drivers.expectations import ExpectationsSettings
from zerotilt.core.drivers.ranking_result import DriversSettings
from zerotilt.core.drivers.side_by_side import SideSettings
from zerotilt.core.meaning import Context, Role, Task, Wording
from zerotilt.core.predictors.frame import Frame
from zerotilt.core.predictors.function import FunctionPredictor
from zerotilt.core.subject import Subject
from zerotilt.core.work import Work

FEW = DriversSettings(repeats=3, explained=40)


def memory(rows):
    """A model that knows the training outcomes by heart through ``code`` and has learnt ``x``."""
    score = 1 / (1 + np.exp(-1.5 * rows["x"]))
    return np.clip(np.where(rows["code"] > 0, score + 0.35 * rows["code"] - 0.15, score), 0.001, 0.999)


def split_subject(rows="hold-out", beside_rows=None, beside_function=None, n=1_200):
    rng = np.random.default_rng(5)
    x, part = rng.normal(size=n), np.where(np.arange(n) % 2, "training", "test")
    happened = rng.random(n) < 1 / (1 + np.exp(-1.5 * x))
    # in training rows the code gives the outcome away; in the others it is drawn by chance
    code = np.where(part == "training", happened * 1.0, rng.integers(0, 2, n) * 1.0)
    columns = {"x": x, "code": code, "part": part.astype(object), "y": happened.astype(int)}
    found = system(
        columns, memory, ["x", "code"], {"part": Role.split}, Context(rows=rows),
        holdout_values=("test",), training_values=("training",),
    )  # fmt: skip
    if beside_rows is None and beside_function is None:
        return found
    predictor = (
        found.predictor if beside_function is None else FunctionPredictor(["x", "code", "part"], beside_function)
    )
    other = Subject(found.spec, found.table, predictor, Context(rows=beside_rows or rows))
    return Subject(found.spec, found.table, found.predictor, found.context, other)


def test_a_feature_that_matters_only_in_training_is_said_and_flagged():
    result = ranking.rank(split_subject(beside_rows="training"), FEW, 1, Work())
    code = next(driver for driver in result.drivers if driver.feature == "code")
    assert not code.loss_depends and code.beside.loss_depends
    assert code.beside.difference.low > 0
    assert code.beside.difference.value == pytest.approx(code.beside.permutation.value - code.permutation.value)
    assert result.beside.only_there_used == ("code",) and not result.beside.other_model
    spans = ranking.say(result, Wording(row="claim", rows="claims"), FEW).headline
    flagged = [span.text for span in spans if span.flagged]
    assert any("Code matters in training claims only, not in held-out claims." in text for text in flagged)


def test_the_same_alongside_differs_in_nothing():
    result = ranking.rank(split_subject(beside_rows="hold-out"), FEW, 1, Work())
    for rank, driver in enumerate(result.drivers, 1):
        assert driver.beside.rank == rank
        assert driver.beside.difference.value == pytest.approx(0, abs=1e-15)
    assert result.beside.agreement.tau == 1 and result.beside.loss_as_is == result.loss_as_is
    assert "are the same in" in ranking.say(result, Wording(), FEW).text


def test_a_version_that_takes_more_names_what_only_it_takes():
    subject = split_subject(beside_function=lambda rows: 1 / (1 + np.exp(-1.5 * rows["x"])))
    result = ranking.rank(subject, FEW, 1, Work())
    assert result.beside.other_model and result.beside.only_there == ("part",)
    assert "Only the version alongside takes part." in ranking.say(result, Wording(), FEW).text


def test_a_feature_that_carries_the_model_is_warned_of_with_the_spread_left():
    rng = np.random.default_rng(2)
    x = rng.normal(size=(800, 3))
    happened = rng.random(800) < 1 / (1 + np.exp(-3 * x[:, 0]))
    columns = {"a": x[:, 0], "b": x[:, 1], "c": x[:, 2], "y": happened.astype(int)}
    subject = system(columns, lambda f: 1 / (1 + np.exp(-(3 * f["a"] + 0.1 * f["b"]))), ["a", "b", "c"])
    result = ranking.rank(subject, FEW, 1, Work())
    assert result.dominant.feature == "a" and result.dominant.share > 0.95
    alone = np.std([np.mean(1 / (1 + np.exp(-(3 * x[:, 0] + 0.1 * b)))) for b in x[:, 1]])
    assert result.dominant.spread_without == pytest.approx(alone, rel=0.2)
    assert result.dominant.spread == pytest.approx(subject.own_output.std(), rel=1e-9)
    warned = [span for span in ranking.say(result, Wording(), FEW).headline if span.flagged]
    assert "A alone carries" in warned[0].text and "of the output's spread is left" in warned[0].text
    columns["y"] = (rng.random(800) < 1 / (1 + np.exp(-x.sum(axis=1)))).astype(int)
    even = system(columns, lambda f: 1 / (1 + np.exp(-(f["a"] + f["b"] + f["c"]))), ["a", "b", "c"])
    assert ranking.rank(even, FEW, 1, Work()).dominant is None


def test_linked_columns_are_joined_with_their_strength_and_the_sum_of_each_alone():
    rng = np.random.default_rng(3)
    a = rng.normal(size=600)
    columns = {"a": a, "b": a + 0.05 * rng.normal(size=600), "c": rng.normal(size=600)}
    happened = rng.random(600) < 1 / (1 + np.exp(-2 * a))
    subject = system(
        columns | {"y": happened.astype(int)}, lambda f: 1 / (1 + np.exp(-(f["a"] + f["b"]))), ["a", "b", "c"]
    )
    result = ranking.rank(subject, FEW, 1, Work())
    (found,) = result.linked
    assert found.features == ("a", "b")
    assert found.least == pytest.approx(abs(stats.spearmanr(columns["a"], columns["b"]).statistic), abs=1e-9)
    alone = {driver.feature: driver.permutation.value for driver in result.drivers}
    assert found.singles == pytest.approx(alone["a"] + alone["b"])
    assert found.permutation.value > max(alone["a"], alone["b"])
    assert "Linked columns share one effect: a and b" in ranking.say(result, Wording(), FEW).detail


def test_one_class_against_the_rest_is_the_loss_of_that_class_alone():
    rng = np.random.default_rng(4)
    x = rng.normal(size=(500, 2))

    def shares(f):
        raw = np.exp(np.column_stack([np.zeros(f.rows), f["a"], 2 * f["b"]]))
        return raw / raw.sum(axis=1, keepdims=True)

    levels = np.array(["low", "middle", "high"], dtype=object)
    p = shares(Frame({"a": x[:, 0], "b": x[:, 1]}))
    drawn = (rng.random(500)[:, None] > p.cumsum(axis=1)).sum(axis=1)
    columns = {"a": x[:, 0], "b": x[:, 1], "y": levels[drawn]}
    base = system(columns, roles={}, task=Task.several, event="")
    predictor = FunctionPredictor(["a", "b"], shares, Task.several, ["low", "middle", "high"])
    subject = Subject(base.spec, base.table, predictor, Context(rows="all", read_class="middle"))
    settings = DriversSettings(repeats=3, explained=20, against_rest=True, loss="brier_score")
    result = ranking.rank(subject, settings, 1, Work())
    p = predictor.outputs(subject.frame)[:, 1]
    assert result.loss_as_is == pytest.approx(np.mean((p - (subject.rows.outcome == 1)) ** 2))
    assert result.of_class == "middle" and "of middle against the rest" in ranking.say(result, Wording(), settings).text
    again = subject.of_class("high")
    assert again.column == 2 and again.frame is subject.frame and again.what == "y is high"
    assert np.allclose(again.output(subject.frame), predictor.outputs(subject.frame)[:, 2])


def test_ranks_and_agreement_of_the_measures_are_scipys():
    task, model, columns = zoo.made("random forest")
    subject = zoo.subject_of(model, columns, task)
    result = side_by_side.side_by_side(subject, SideSettings(repeats=2, walked=40), 1, Work())
    by = {}
    for one in result.placed:
        by.setdefault(one.measure, {})[one.feature] = one
    assert {"shuffled", "moved", "signed", "explained loss", "splits"} == set(by)
    features = list(by["shuffled"])
    sizes = {measure: [found[f].value for f in features] for measure, found in by.items()}
    # of all rows against themselves raises and lowers cancel: such a mean ranks nobody, whatever its last digits
    assert np.abs(sizes["signed"]).max() < 1e-12
    sizes["signed"] = [0.0] * len(features)
    for measure, found in by.items():
        expected = stats.rankdata(-np.array(sizes[measure]), method="min")
        expected[np.array(sizes[measure]) == 0] = len(features)
        assert [found[f].rank for f in features] == expected.tolist()
    names = {card.label: card.measure for card in result.measures}
    for one in result.agreements:
        tau = stats.kendalltau(sizes[names[one.first]], sizes[names[one.second]]).statistic
        assert one.tau is None if np.isnan(tau) else one.tau == pytest.approx(tau)
    assert "signed" not in {measure for one in result.partings for measure in (one.first,)}
    for one in result.partings:
        assert one.second_rank - one.first_rank >= side_by_side.FAR
        assert side_by_side.ASKS[one.first] in one.why
    said = side_by_side.say(result, Wording(), SideSettings())
    assert "compare ranks, not lengths" in said.detail
    assert "By signed mean Shapley value no feature is told from none" in said.detail


def test_a_black_box_has_no_parts_of_its_own_and_says_so():
    result = side_by_side.side_by_side(split_subject(), SideSettings(repeats=2, explained=20, walked=20), 1, Work())
    assert {card.measure for card in result.measures} == {"shuffled", "moved", "signed", "explained loss"}
    assert result.own_missing in side_by_side.say(result, Wording(), SideSettings()).detail


def field(f: Frame):
    wave = np.where(np.abs(f["bends"]) < 1, f["bends"] ** 2, 1.0)
    return 1 / (1 + np.exp(-(f["up"] - f["down"] + wave)))


def expected_subject():
    rng = np.random.default_rng(6)
    columns = {name: rng.uniform(-1.5, 1.5, 400) for name in ("up", "down", "bends", "idle")}
    columns["grade"] = rng.choice(["A", "B"], 400)
    return system(columns | {"y": rng.integers(0, 2, 400)}, field, [*columns])


def test_expectations_hold_or_are_contradicted_by_the_mean_curve():
    wanted = {"up": "rises", "down": "rises", "bends": "rises", "idle": "none", "grade": "rises", "elsewhere": "falls"}
    settings = ExpectationsSettings(expected=wanted)
    result = expectations.check_all(expected_subject(), settings, 1, Work())
    found = {one.feature: one for one in result.checked}
    # a column the model does not take, and a direction along levels without order, are no contradiction
    assert set(found) == {"up", "down", "bends", "idle"}
    assert {name for name, one in found.items() if one.contradicted} == {"down", "bends"}
    assert found["down"].mean_against == pytest.approx(found["down"].moves)
    assert found["down"].curves_against == 1 and found["up"].curves_against == 0
    assert found["idle"].moves == 0 and found["idle"].curves_against is None
    reading = expectations.say(result, Wording(), settings)
    assert [span.flagged for span in reading.headline] == [True, True, False]
    assert "Down was expected to rise; the mean falls" in reading.text and "2 other expectations hold." in reading.text


def test_no_effect_is_contradicted_by_a_movement_of_its_size():
    settings = ExpectationsSettings(expected={"up": "none"})
    result = expectations.check_all(expected_subject(), settings, 1, Work())
    assert result.checked[0].contradicted
    amount = f"{result.checked[0].moves * 100:.1f} points"
    assert (
        f"expected to have no effect; it moves the mean by {amount}"
        in expectations.say(result, Wording(), settings).text
    )


def test_an_expectation_changes_no_digest():
    spec = expected_subject().spec
    columns = tuple(column.model_copy(update={"expected": "rises"}) for column in spec.columns)
    changed = spec.model_copy(update={"columns": columns})
    assert changed.digest() == spec.digest() and changed.expectations["up"] == "rises"


def test_association_with_one_column_is_a_row_of_all_associations():
    rng = np.random.default_rng(8)
    a = rng.normal(size=300)
    kinds = np.array(["u", "v", "w"], dtype=object)[np.clip((a + 1).astype(int), 0, 2)]
    frame = Frame(
        {"a": a, "b": -a + rng.normal(size=300), "kind": kinds, "other": rng.choice(["p", "q"], 300).astype(object)}
    )
    whole = links.association(frame)
    for place, name in enumerate(frame.names):
        assert links.association_with(frame, name) == pytest.approx(whole[place], abs=1e-12)
    assert whole[0, 1] == pytest.approx(abs(stats.spearmanr(frame["a"], frame["b"]).statistic), abs=1e-12)
    ranks = stats.rankdata(a)
    means = np.array([ranks[kinds == one].mean() for one in kinds])
    corrected = 1 - (1 - means.var() / ranks.var()) * 299 / 297  # for chance (Kelley 1935)
    assert whole[0, 2] == pytest.approx(np.sqrt(corrected), abs=1e-12)


@pytest.mark.parametrize("name", ["gradient boosting", "gradient boosting, three classes", "LightGBM"])
def test_shares_of_the_loss_from_the_trees_are_those_of_the_model_itself(name, monkeypatch):
    task, model, columns = zoo.made(name)
    subject = zoo.subject_of(model, columns, task)
    assert subject.predictions.structure[0] is not None
    settings = loss_shapley.LossShapleySettings(rows=40, background=16)
    fast = loss_shapley.share_out(subject, settings, 3, Work())
    monkeypatch.setattr(loss_shapley, "_means_from_sum", lambda *given: None)
    slow = loss_shapley.share_out(subject, settings, 3, Work())
    values = [{one.feature: one.value.value for one in found.features} for found in (fast, slow)]
    assert values[0] == pytest.approx(values[1], abs=1e-5)
    assert sum(values[0].values()) == pytest.approx(fast.with_none - fast.with_all, abs=1e-5)
