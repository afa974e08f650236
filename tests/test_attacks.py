"""A part of every attack, in every test run. `tools/attack.py` tries the whole."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.attacks.everything import ATTACKS, captured

pytestmark = pytest.mark.driver

SHARE = 0.03


@pytest.fixture(scope="module")
def files(tmp_path_factory: pytest.TempPathFactory, display: str) -> list[Path]:
    with pytest.MonkeyPatch.context() as patch:
        patch.setenv("DISPLAY", display)
        return captured(tmp_path_factory.mktemp("to-be-damaged"))


@pytest.mark.parametrize("name", ATTACKS)
def test_nothing_is_harmed_by(name: str, files: list[Path], tmp_path: Path) -> None:
    tries, attack = ATTACKS[name]
    tally = attack(max(1, round(tries * SHARE)), tmp_path, files)
    assert not tally.harm, "\n".join(tally.harm)
    assert tally.tries >= 1
