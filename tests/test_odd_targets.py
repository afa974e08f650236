"""Programs that do what few programs do end under the tap as they do without, and are captured where that can be."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.attacks import odd_targets

pytestmark = pytest.mark.driver


@pytest.fixture(scope="module")
def odd(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return odd_targets.built(tmp_path_factory.mktemp("odd"))


def test_there_are_many_of_them() -> None:
    assert len(odd_targets.modes()) >= 60
    assert odd_targets.NOT_TAKEN.keys() <= set(odd_targets.modes())


@pytest.mark.parametrize("mode", odd_targets.modes())
def test_an_odd_program_is_unharmed(mode: str, odd: Path) -> None:
    wrong = odd_targets.judge(odd, mode)
    if wrong == "not allowed":
        pytest.skip("this machine does not let a program do it")
    assert not wrong
