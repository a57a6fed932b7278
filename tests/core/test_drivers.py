"""Drivers: permutation importance and the ranking."""

import numpy as np
import pytest
from tests.core.systems import frame, matrix, system

from zerotilt.core.drivers import permutation, ranking
from zerotilt.core.drivers.permutation import permute
from zerotilt.core.drivers.ranking_result import DriversSettings
from zerotilt.core.meaning import Context, Task, Wording
from zerotilt.core.predictors.function import FunctionPredictor
from zerotilt.core.refusal import Cancelled
from zerotilt.core.stats import intervals
from zerotilt.core.tasks import kind_of
from zerotilt.core.work import Work


def chance(rows):
    x = matrix(rows)
    return 1 / (1 + np.exp(-(2 * x[:, 0] - x[:, 1])))


def setting(n=600, p=4, seed=0):
    rng = np.random.default_rng(seed)
    rows = frame(rng.normal(size=(n, p)))
    outcome = rng.random(n) < chance(rows)
    return rows, outcome, FunctionPredictor(rows.names, chance)


@pytest.mark.parametrize("loss", ["log_loss", "brier_score", "auc", "error_rate"])
def test_a_feature_the_model_ignores_adds_no_loss(loss):
    rows, outcome, predictor = setting()
    found = permute(predictor, rows, outcome, loss, 0.5, 5, 1, Work())
    assert found.value[2:] == pytest.approx([0, 0], abs=1e-15)
    assert found.value[0] > found.value[1] > 3 * found.error[1] > 0


def test_the_rows_values_average_to_the_loss():
    rows, outcome, predictor = setting()
    scores, w = predictor.score(rows), np.ones(rows.rows)
    assert kind_of(Task.binary).lost("auc", outcome, scores[:, None], 0.5, w).mean() == pytest.approx(
        1 - intervals.auc(scores, outcome)[0]
    )
    p = np.where(outcome, scores, 1 - scores)
    assert kind_of(Task.binary).lost("log_loss", outcome, scores[:, None], 0.5, w).mean() == pytest.approx(
        -np.log(p).mean()
    )


def weights_of(n: int, how: str) -> np.ndarray | None:
    rng = np.random.default_rng(1)
    return {"none": None, "whole": rng.integers(0, 4, n).astype(float), "any": rng.lognormal(size=n)}[how]


@pytest.mark.parametrize("how", ["none", "whole", "any"])
@pytest.mark.parametrize("loss", ["log_loss", "brier_score", "error_rate"])
def test_where_all_pairs_can_be_asked_importance_is_the_mean_over_them(loss, how):
    rows, outcome, predictor = setting(50)
    w = weights_of(50, how)
    found = permute(predictor, rows, outcome, loss, 0.5, 2, 3, Work(), w)
    assert found.every_pair.all()
    mass = np.ones(50) if w is None else w

    def lost(frame):
        return kind_of(Task.binary).lost(loss, outcome, predictor.outputs(frame), 0.5, np.ones(frame.rows))

    total = sum(mass[g] * mass @ lost(rows.replace("x0", np.full(50, rows["x0"][g]))) for g in range(50))
    assert found.value[0] == pytest.approx(total / mass.sum() ** 2 - mass @ lost(rows) / mass.sum())
    if how == "whole":  # a weight of two is the row twice
        twice = np.repeat(np.arange(50), mass.astype(int))
        again = permute(predictor, rows.take(twice), outcome[twice], loss, 0.5, 2, 3, Work())
        assert again.value == pytest.approx(found.value)


@pytest.mark.parametrize("how", ["none", "any"])
def test_shuffles_are_a_sample_of_all_pairs(how, monkeypatch):
    rows, outcome, predictor = setting(80)
    w = weights_of(80, how)
    whole = permute(predictor, rows, outcome, "brier_score", 0.5, 2, 3, Work(), w)
    monkeypatch.setattr(permutation, "EVERY_PAIR", 0)
    shuffled = [
        permute(predictor, rows, outcome, "brier_score", 0.5, 20, seed, Work(), w).value[0] for seed in range(40)
    ]
    assert abs(np.mean(shuffled) - whole.value[0]) <= 4 * np.std(shuffled) / np.sqrt(40)


def test_added_loss_by_hand(monkeypatch):
    monkeypatch.setattr(permutation, "EVERY_PAIR", 0)
    rows, outcome, predictor = setting(50)
    found = permute(predictor, rows, outcome, "brier_score", 0.5, 2, 3, Work())
    by_hand = []
    for repeat in range(2):
        order = np.random.default_rng([3, repeat, *b"x0"]).permutation(50)
        shuffled = predictor.score(rows.replace("x0", rows["x0"][order]))
        by_hand.append(((shuffled - outcome) ** 2).mean() - ((predictor.score(rows) - outcome) ** 2).mean())
    assert found.value[0] == pytest.approx(np.mean(by_hand))


@pytest.mark.parametrize("affordable", [True, False])
@pytest.mark.parametrize("loss", ["log_loss", "auc"])
def test_the_interval_covers_what_other_rows_give(loss, affordable, monkeypatch):
    truth = permute(*reversed_args(setting(20_000, seed=99)), loss, 0.5, 3, 1, Work()).value[0]
    if not affordable:
        monkeypatch.setattr(permutation, "EVERY_PAIR", 0)
    covered = 0
    for seed in range(60):
        found = permute(*reversed_args(setting(200, 2, seed=seed)), loss, 0.5, 10, seed, Work())
        covered += abs(found.value[0] - truth) <= 1.96 * found.error[0]
    assert covered >= 52  # 95% of 60 less three standard deviations


def reversed_args(found):
    rows, outcome, predictor = found
    return predictor, rows, outcome


def subject_of(p=4, n=400):
    rng = np.random.default_rng(5)
    columns = {f"x{j}": rng.normal(size=n) for j in range(p)}
    columns["y"] = (rng.random(n) < chance(frame(np.column_stack(list(columns.values()))))).astype(int)
    return system(columns, chance, [f"x{j}" for j in range(p)], context=Context(rows="all"))


def test_the_ranking_says_what_is_used_and_where_it_goes():
    result = ranking.rank(subject_of(), DriversSettings(explained=50), 1, Work())
    assert [driver.feature for driver in result.drivers[:2]] == ["x0", "x1"]
    assert [driver.direction for driver in result.drivers] == ["rises", "falls", "flat", "flat"]
    assert [driver.loss_depends for driver in result.drivers] == [True, True, False, False]
    assert sum(driver.share for driver in result.drivers) == pytest.approx(1)
    assert 1 < result.effective_features < 2
    assert result.drivers[2].mean_abs_shapley.value == pytest.approx(0, abs=1e-12)
    reading = ranking.say(result, Wording(), DriversSettings())
    assert f"{result.drivers[0].permutation.value:.3f}" in reading.text
    assert "On 2 features the loss is not seen to depend." in reading.detail


def test_mean_absolute_values_equal_those_of_the_explained_rows():
    result = ranking.rank(subject_of(3, 60), DriversSettings(explained=60), 1, Work())
    assert result.shapley_method == "enumeration"
    from zerotilt.core.contributions.enumeration import enumerate_coalitions
    from zerotilt.core.contributions.game import background

    subject = subject_of(3, 60)
    exact = np.abs(enumerate_coalitions(subject.output, subject.frame, background(subject.frame))).mean(axis=0)
    found = {driver.feature: driver.mean_abs_shapley.value for driver in result.drivers}
    assert [found["x0"], found["x1"], found["x2"]] == pytest.approx(exact)


def test_work_can_be_cancelled_and_tells_how_far_it_is():
    told = []

    def report(done, total, what):
        told.append((done, total, what))
        if len(told) == 4:
            raise Cancelled

    with pytest.raises(Cancelled):
        ranking.rank(subject_of(), DriversSettings(), 1, Work(report))
    assert told[3] == (3, 40, "exchanged columns scored")
