"""Every piece of state that a draw can depend on is read, restored and compared, or nothing is said of the draw."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
import pytest

from wendascope.analysis.draws.sharing import Sharing
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.session import OpenGLSession
from wendascope.backends.opengl.tables.step_inputs import step_inputs
from wendascope.frame.call_use import OVERWRITTEN, REPEATS
from wendascope.measure.pictures import verify
from wendascope.replay.progress import Job

from ._looking import Gallery
from ._state_changes import DEPENDS

pytestmark = pytest.mark.driver


@pytest.fixture(scope="module")
def gallery(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Gallery]:
    made = Gallery(tmp_path_factory.mktemp("state"), settled=24)
    yield made
    made.close()


@pytest.mark.parametrize("name", DEPENDS)
def test_what_a_draw_depends_on(name: str, gallery: Gallery) -> None:
    one, other = _both_turns(name, gallery)
    for frame in (one, other):
        session = OpenGLSession(frame)
        try:
            found = verify(session, Job())
        finally:
            session.close()
        assert found.identical, found.sentence
    first, second, third = _turns(one)
    wrong = []
    if not _differ(one, second, one, third):
        wrong.append("two draws of one frame are taken for the same")
    if not _differ(one, first, other, _turns(other)[0]):
        wrong.append("two draws of two frames are taken for the same")
    if not _apart(one, second, third):
        wrong.append("two draws are taken for such that could be one")
    use = one.call_use().use[one.steps.call[second[-1]] + 1 : one.steps.call[third[0]]]
    if len(use) and np.isin(use, (REPEATS, OVERWRITTEN)).all():
        wrong.append("the change is taken for a needless call")
    assert not wrong


def _both_turns(name: str, gallery: Gallery) -> tuple[OpenGLFrame, OpenGLFrame]:
    """Two frames that find different values."""
    found: dict[object, OpenGLFrame] = {}
    for _ in range(6):
        frame = gallery.take(f"state:{name}", odd=len(found))
        (first, *_) = frame.calls.calls_of("glClearBufferfv").tolist()
        found.setdefault(frame.calls.argument(first, "value"), frame)
        if len(found) == 2:
            break
    one, other = found.values()
    return one, other


def _turns(frame: OpenGLFrame) -> list[list[int]]:
    """The steps of each of the three turns, without the clears that the frame begins with."""
    kinds = [frame.steps.kind_name(s) for s in range(len(frame.steps))]
    of = [[s for s in range(2, len(kinds)) if kinds[s] == kind] for kind in ("draw", "clear")]
    found: list[list[int]] = [[], [], []]
    for steps in of:
        if len(steps) % 3 == 0:
            for k in range(3):
                found[k] += steps[k * len(steps) // 3 : (k + 1) * len(steps) // 3]
    assert all(found), kinds
    return [sorted(turn) for turn in found]


def _differ(one: OpenGLFrame, steps: list[int], other: OpenGLFrame, others: list[int]) -> bool:
    (numbers, known), (more, known_more) = step_inputs(one), step_inputs(other)
    return any(not known[a] or not known_more[b] or numbers[a] != more[b] for a, b in zip(steps, others, strict=True))


def _apart(frame: OpenGLFrame, steps: list[int], others: list[int]) -> bool:
    sharing = Sharing(frame)
    columns = [*sharing.columns.values(), sharing.family(True), sharing.sides, sharing.layout]
    return any(column[a] != column[b] for column in columns for a, b in zip(steps, others, strict=True))
