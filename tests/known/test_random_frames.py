"""Random frames under the tap: no false claim about any of them. `tools/random_frames.py` does the same for as many
as one likes.
"""

from __future__ import annotations

from collections import Counter

import pytest

from ._claims import check, check_sequence
from ._looking import Gallery

pytestmark = pytest.mark.driver

SEEDS = range(10)


def test_no_claim_about_random_frames_is_false(tmp_path_factory: pytest.TempPathFactory) -> None:
    gallery = Gallery(tmp_path_factory.mktemp("random"), settled=32)
    claims: Counter[str] = Counter()
    false: list[str] = []
    try:
        for seed in SEEDS:
            report = check(seed, gallery.take(f"random:{seed}"))
            claims.update(report.claims)
            false += report.false
    finally:
        gallery.close()
    assert not false, false
    assert all(claims[kind] for kind in ("not-visible", "unread-pass", "repeats", "needless", "batches")), claims


def test_no_claim_about_random_sequences_is_false(tmp_path_factory: pytest.TempPathFactory) -> None:
    gallery = Gallery(tmp_path_factory.mktemp("sequences"), settled=32)
    claims: Counter[str] = Counter()
    false: list[str] = []
    try:
        for seed in range(5):
            report = check_sequence(seed, [gallery.take(f"sequence:{seed}", odd=k) for k in range(3)])
            claims.update(report.claims)
            false += report.false
    finally:
        gallery.close()
    assert not false, false
    assert claims["same inputs"], claims
