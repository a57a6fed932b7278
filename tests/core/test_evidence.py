"""Evidence: what its key depends on, and that computing it again gives the same."""

import numpy as np
import pytest
from tests.core.systems import matrix, system

from zerotilt.core.evidence import Digests, Evidence, compute, key, method_named
from zerotilt.core.methods import METHODS
from zerotilt.core.refusal import Refused
from zerotilt.core.spec import Context, Role
from zerotilt.core.work import Work

DIGESTS = Digests(table="t", spec="s", model="m")


@pytest.fixture(scope="module")
def subject():
    rng = np.random.default_rng(0)
    x = rng.normal(size=(120, 3))
    columns = {f"x{j}": x[:, j] for j in range(3)} | {"g": rng.choice(["a", "b"], 120), "y": (x[:, 0] > 0).astype(int)}
    return system(
        columns,
        lambda frame: 1 / (1 + np.exp(-matrix(frame).sum(axis=1))),
        ["x0", "x1", "x2"],
        roles={"g": Role.group},
    )


def key_of(digests=DIGESTS, context=None, seed=1, method="response", **settings):
    found = METHODS[method]
    return key(found, digests, context or Context(), found.settings(**settings), seed)


def test_the_key_depends_on_everything_the_result_depends_on():
    keys = [
        key_of(),
        key_of(digests=Digests(table="T", spec="s", model="m")),
        key_of(digests=Digests(table="t", spec="S", model="m")),
        key_of(digests=Digests(table="t", spec="s", model=None)),
        key_of(context=Context(rows="all")),
        key_of(context=Context(output="log-odds")),
        key_of(seed=2),
        key_of(feature="x1"),
        key_of(method="drivers"),
    ]
    assert len(set(keys)) == len(keys)


def test_the_key_does_not_depend_on_a_models_name():
    assert key_of(context=Context(model="one")) == key_of(context=Context(model="another"))


@pytest.mark.parametrize("name", list(METHODS))
def test_computing_again_gives_the_same_result_and_reading(subject, name):
    settings = METHODS[name].settings(**({"row": 3} if name == "ladder" else {}))
    first = compute(subject, DIGESTS, name, settings, 20, Work())
    again = compute(subject, DIGESTS, name, settings, 20, Work())
    assert first.result == again.result
    assert first.key == again.key
    stored = Evidence.model_validate_json(first.model_dump_json())
    assert stored.typed == first.typed
    assert stored.read(subject.spec) == first.read(subject.spec)
    assert stored.read(subject.spec).text
    assert "NaN" not in first.model_dump_json() and "Infinity" not in first.model_dump_json()


def test_an_unknown_method_is_refused_with_those_there_are():
    with pytest.raises(Refused, match="“magic” is unknown; there are performance, drivers"):
        method_named("magic")
