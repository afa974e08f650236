"""Names from there to here, also where a name means different objects in the course of a frame."""

from __future__ import annotations

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from wendascope.backends.opengl.rebuild.names import NameMap, translate

names_strategy = st.dictionaries(st.integers(1, 2**32 - 1), st.integers(1, 2**31), max_size=30)


@given(names_strategy, st.lists(st.integers(0, 2**32 - 1), max_size=50))
def test_known_names_are_replaced_and_others_stay(mapping: dict[int, int], values: list[int]) -> None:
    found = translate(mapping, np.array(values, np.uint64))
    assert found.tolist() == [mapping.get(v, v) for v in values]


def test_a_name_made_twice_means_the_latest_object() -> None:
    names = NameMap()
    names.set("texture", 7, 70)
    names.create("texture", 10, 7, 71)
    names.create("texture", 20, 7, 72)
    used = np.array([7, 7, 7, 7, 8], np.uint64)
    calls = np.array([5, 10, 11, 21, 21], np.int64)
    assert names.translate("texture", used, calls).tolist() == [70, 70, 71, 72, 8]
    assert names.translate("buffer", used, calls).tolist() == [7, 7, 7, 7, 8]


def test_programs_and_shaders_share_their_names() -> None:
    names = NameMap()
    names.set("shader", 3, 30)
    names.create("program", 4, 5, 50)
    assert names.get("program", 3) == 30 and names.get("shader", 5) == 50 and names.get("program", 0) == 0
