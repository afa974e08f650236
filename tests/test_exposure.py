"""Dim, wide and strange pictures are seen: the range that is found, what no range holds, and what is said of it."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra import numpy as arrays

from wendascope.frame.contents import INFINITE, MINUS_INFINITE, NO_NUMBER, ImageValues
from wendascope.measure.exposure import COLOURS, DEPTH, Exposure, automatic, exposed, seen, still_fits

RGBA = ["red", "green", "blue", "alpha"]


def _values(rows: np.ndarray, channels: list[str] = RGBA) -> ImageValues:
    return ImageValues(channels, rows.astype(np.float32))


def _ramp(high: float) -> ImageValues:
    line = np.linspace(0, high, 64, dtype=np.float32)
    return _values(np.repeat(np.repeat(line[None, :, None], 64, axis=0), 4, axis=2))


def test_dim_light_fills_the_range_and_what_is_meant_for_a_screen_stays() -> None:
    dim = automatic(_ramp(0.04), "sfloat", window=False)
    assert dim.low == 0 and dim.high == pytest.approx(0.04, rel=0.02) and dim.as_light
    assert exposed(_ramp(0.04), "sfloat", dim).max() == 255
    assert "automatic range 0 to" in dim.sentence and "encoded as sRGB" in dim.sentence
    assert automatic(_ramp(0.04), "unorm", window=True).plain, "a window is shown as it is"
    assert automatic(_ramp(0.9), "unorm", window=False).plain, "eight bits that are bright enough, too"
    assert automatic(_ramp(0.1), "unorm", window=False).high == pytest.approx(0.1, rel=0.02)
    assert Exposure().sentence == ""


def test_few_bright_values_do_not_darken_the_rest() -> None:
    values = _ramp(1.0)
    values.values[0, 0] = 5000.0
    assert automatic(values, "sfloat", window=False).high < 1.5


def test_what_is_no_number_is_marked_and_changes_no_range() -> None:
    values = _ramp(1.0)
    before = automatic(values, "sfloat", window=False)
    values.values[3, 4, 1], values.values[5, 6], values.values[7, 8] = np.nan, np.inf, -np.inf
    found = automatic(values, "sfloat", window=False)
    assert found.high == pytest.approx(before.high, rel=0.05)
    picture = exposed(values, "sfloat", found)[::-1]
    assert tuple(picture[3, 4]) == NO_NUMBER and tuple(picture[5, 6]) == INFINITE
    assert tuple(picture[7, 8]) == MINUS_INFINITE and values.not_finite() == (1, 2)


def test_numbers_that_are_names_have_colours_of_their_own() -> None:
    names = ImageValues(["red"], np.array([[[0], [1], [2], [1], [70000]]], np.uint32))
    assert automatic(names, "uint", window=False).plain
    picture = exposed(names, "uint", Exposure())[0]
    assert tuple(picture[0]) == (0, 0, 0) and tuple(picture[1]) == tuple(picture[3])
    assert len({tuple(p) for p in picture.tolist()}) == 4
    assert np.abs(picture[1].astype(int) - picture[2].astype(int)).max() > 40, "neighbours are told apart"


def test_one_channel_is_grey_and_alpha_can_be_seen() -> None:
    values = _values(np.zeros((2, 2, 4)))
    values.values[..., 3] = 0.5
    picture = exposed(values, "unorm", Exposure(channel="alpha"))
    assert (picture == 128).all()
    assert (exposed(values, "unorm", Exposure(channel=COLOURS)) == 0).all()


def test_depth_is_stretched_over_what_was_drawn() -> None:
    depth = np.ones((16, 16, 1), np.float32)
    depth[4:12, 4:12, 0] = np.linspace(0.99, 0.999, 64).reshape(8, 8)
    values = ImageValues(["depth"], depth)
    found = automatic(values, DEPTH, window=True)
    assert found.low == pytest.approx(0.99, abs=1e-4) and found.high == pytest.approx(0.999, abs=1e-4)
    picture = exposed(values, DEPTH, found)
    assert picture[0, 0].max() == 0 and picture.max() > 200


def test_a_range_stays_while_steps_are_gone_through() -> None:
    fixed = Exposure(0, 1.0, as_light=True)
    assert still_fits(fixed, Exposure(0, 2.0, as_light=True)) and still_fits(fixed, Exposure(0, 0.4, as_light=True))
    assert not still_fits(fixed, Exposure(0, 20.0, as_light=True))
    assert not still_fits(Exposure(), Exposure(0, 0.1)), "an empty target is no measure of a full one"
    assert still_fits(fixed, Exposure()), "and what is empty needs no other range"


@given(
    arrays.arrays(np.float32, (3, 5, 4), elements=st.floats(allow_nan=True, allow_infinity=True, width=32)),
    st.sampled_from(["sfloat", "unorm", "snorm", "", DEPTH]),
    st.booleans(),
)
def test_any_values_give_a_picture(rows: np.ndarray, kind: str, window: bool) -> None:
    values = ImageValues(RGBA, rows)
    with np.errstate(all="ignore"):
        found = automatic(values, kind, window)
        picture = exposed(values, kind, found)
    assert picture.shape == (3, 5, 3) and picture.dtype == np.uint8


@given(st.integers(1, 40), st.integers(1, 40), st.integers(1, 500))
def test_a_sample_is_from_all_over_and_never_empty(width: int, height: int, most: int) -> None:
    values = ImageValues(["red"], np.arange(width * height, dtype=np.float32).reshape(height, width, 1))
    found = values.sample(most)
    assert found.width * found.height >= 1 and (found.width - 1) * (found.height - 1) < max(most, 2)
    assert set(found.values.ravel().tolist()) <= set(values.values.ravel().tolist())
    assert values.ends([0]) == (0.0, width * height - 1.0)


def test_a_picture_is_seen_with_what_was_fixed_for_its_target_while_that_fits() -> None:
    first = seen(_ramp(0.04), "sfloat", window=False)
    assert not first.as_it_is and first.exposure == first.found and first.pixels.max() == 255
    counts, ends = first.spread
    assert counts.sum() > 0 and ends[0] <= first.exposure.low and first.exposure.high <= ends[1]
    brighter = seen(_ramp(0.06), "sfloat", window=False, fixed=first.exposure)
    assert brighter.exposure == first.exposure != brighter.found
    assert seen(_ramp(50.0), "sfloat", window=False, fixed=first.exposure).exposure.high > 40, "it fits no more"
    own = Exposure(0.0, 9.0, automatic=False)
    assert seen(_ramp(0.06), "sfloat", window=False, fixed=own).exposure == own, "what somebody set stays"
    assert seen(_ramp(0.9), "unorm", window=True).as_it_is and seen(_ramp(0.9), "unorm", window=True).sentence == ""
