"""Views drawn less often: rates, motion by whole pixels, and the platform's flaws with their proofs."""

from __future__ import annotations

import shutil
import sys
from pathlib import Path
from typing import Any

import msgspec
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from wendascope import records
from wendascope.advice.findings import Case
from wendascope.advice.findings.left_out import needless_lights, needless_parts, needless_views
from wendascope.advice.findings.less_often import less_often
from wendascope.advice.findings.moved_layer import moved_layers
from wendascope.advice.left_out import Kind, LeftOut
from wendascope.analysis.geometry.drawn import Drawn
from wendascope.analysis.sequence.late_views import Late, LateView, secondary_views
from wendascope.analysis.sequence.over_time import OtherFrames
from wendascope.analysis.sequence.shifted_image import offset_between
from wendascope.demo.data import demo_files
from wendascope.desktop.pages.over_time import OverTimePage
from wendascope.desktop.window.main_window import MainWindow
from wendascope.frame.file import load, save_sequence
from wendascope.frame.places import frame_path
from wendascope.frame.remedy import Remedy
from wendascope.replay.client import Replay
from wendascope.tap.launch import Target, Trigger
from wendascope.task import QUIET
from wendascope.trials.proofs.outcomes import Outcome
from wendascope.trials.proofs.proof import prove
from wendascope.trials.proofs.runs import outcome_of
from wendascope.trials.proofs.verdicts import Verdict
from wendascope.trials.survey import stages
from wendascope.trials.survey.examine import Examined, examine_file
from wendascope.trials.survey.left_out_elsewhere import try_elsewhere

PIXELS = 1280 * 720


def _late(frame: int, ago: int, far: int) -> Late:
    return Late(frame, ago, far * 2, far, 40 if far else 3)


def test_a_rate_holds_only_where_every_shorter_lag_does_too() -> None:
    view = LateView([("mirror", 0)], [_late(2, 1, 3), _late(3, 2, 9), _late(4, 3, 90_000), _late(4, 1, 1)], changes=3)
    assert view.rate_unseen(PIXELS) == 3
    worst = view.worst(3)
    assert worst is not None and (worst.frame, worst.frames_ago, worst.pixels_far) == (3, 2, 9)
    assert LateView([("mirror", 0)], [_late(2, 1, 90_000), _late(3, 2, 0)]).rate_unseen(PIXELS) == 1
    assert LateView([("mirror", 0)], [_late(2, 1, 0)]).worst(3) is None, "nobody tried two frames ago"


def test_findings_of_late_views_leave_alone_what_shows() -> None:
    frame = load(demo_files()[1])
    mirror = frame.passes.names.index("mirror")

    def found(view: LateView, number: int = 4) -> list[Any]:
        case = Case(frame, Drawn([], [], []), None, other_frames=OtherFrames(8, number, [], [([mirror], view)]))
        return [*less_often(case), *moved_layers(case)]

    good = LateView([("mirror", 0)], [_late(k, ago, 5) for k in range(2, 9) for ago in (1, 2, 3) if ago < k], changes=7)
    (finding,) = found(good)
    assert finding.rule == "update-less-often" and finding.remedy.frames_ago == 3 and "fourth" in finding.title
    assert found(good, 2)[0].remedy.frames_ago == 1, "the second frame has but one before it"
    assert found(good, 1)[0].remedy is None and "first frame" in found(good, 1)[0].refused
    assert found(LateView([("mirror", 0)], [_late(2, 1, 90_000)], changes=1)) == []
    moved = LateView([("mirror", 0)], good.late, changes=2, moved=[(2, -2, 0), (3, -2, 0)])
    assert [f.rule for f in found(moved)] == ["moved-layer"], "kept without any lag"
    assert [f.rule for f in found(LateView([("mirror", 0)], good.late, changes=3, moved=[(2, -2, 0)]))] == [
        "update-less-often"
    ], "one frame is not the one before it moved"


def test_secondary_views_are_those_beside_the_main_one() -> None:
    frame = load(demo_files()[0])
    names = [[frame.passes.names[index] for index in passes] for passes in secondary_views(frame)]
    assert names == [["shadow"], ["camera"], ["mirror"]]


@given(st.integers(-12, 12), st.integers(-8, 8), st.integers(0, 10_000), st.data())
def test_motion_by_whole_pixels_is_found_and_one_byte_refutes_it(
    columns: int, rows: int, seed: int, data: st.DataObject
) -> None:
    random = np.random.default_rng(seed)
    whole = random.integers(0, 255, (80, 100, 4), dtype=np.uint8)
    before = whole[16:64, 20:84]
    after = whole[16 - rows : 64 - rows, 20 - columns : 84 - columns].copy()
    expected = (columns, rows) if columns or rows else None
    assert offset_between(before, after) == expected
    y, x = (
        data.draw(st.integers(max(rows, 0), 47 + min(rows, 0))),
        data.draw(st.integers(max(columns, 0), 63 + min(columns, 0))),
    )
    after[y, x, data.draw(st.integers(0, 3))] ^= 1
    assert offset_between(before, after) is None


def test_plain_images_and_others_do_not_move() -> None:
    plain = np.zeros((32, 32, 4), np.uint8)
    dotted = plain.copy()
    dotted[0, 0] = 9
    assert offset_between(plain, dotted) is None and offset_between(plain, plain) is None
    assert offset_between(plain, np.zeros((16, 32, 4), np.uint8)) is None


def test_what_is_left_out_is_told_in_words() -> None:
    item = LeftOut(Kind.ELEMENT, "lamps[3]", [4], Remedy("without-element", [4]))
    assert item.effect(PIXELS) == "not tried yet" and not item.needless
    item.tried = True
    assert item.effect(PIXELS).startswith("none") and item.needless
    item.left_behind = ["texture 3"]
    assert item.effect(PIXELS) == "none in this picture, but texture 3 would hold something else afterwards"
    assert not item.needless, "a later frame, or the program, may read it"
    item.pixels, item.max_difference = 40, 7
    assert item.effect(PIXELS) == "40 pixels, less than 0.1 %, by up to 7 of 255: hardly visible, none by more than 16"
    item.refused = "no source"
    assert item.effect(PIXELS) == "cannot be tried: no source" and not item.needless


# ---- the platform -------------------------------------------------------------------------------------------


@pytest.fixture(scope="module")
def platform(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, Examined]:
    """Four frames of it in a row, small, of which the last is examined."""
    command = [sys.executable, "-m", "wendascope.demo", "--off-screen", "--view", "platform", "--size", "400x225"]
    frames = []
    with Target(command) as target:
        trigger = Trigger(frame=30)
        for number in range(4):
            then = Trigger(frame=31 + number) if number < 3 else None
            frames.append(target.capture(trigger, 120.0, then=then))
            trigger = then or trigger
    path = tmp_path_factory.mktemp("platform") / "platform.wend"
    save_sequence(frames, path)
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(stages, "_LEFT_OUT_SECONDS", 60.0)  # what is tried is not for a busy machine to say
        return path, examine_file(frame_path(path, 4), repeats=2)


@pytest.mark.driver
def test_every_flaw_of_the_platform_is_found_and_proved(platform: tuple[Path, Examined]) -> None:
    path, examined = platform
    last = frame_path(path, 4)
    names = examined.frame.passes.names

    def found(rule: str) -> dict[str, Any]:
        return {names[int(examined.frame.passes.of_step[f.steps[0]])]: f for f in examined.findings if f.rule == rule}

    assert list(found("unchanged-pass")) == ["timetable"]
    assert "so is all that its draws depend on" in found("unchanged-pass")["timetable"].why
    assert list(found("moved-layer")) == ["panorama"] and "-2 columns" in found("moved-layer")["panorama"].why
    assert list(found("static-part")) == ["shadow"] and "213 draws" in found("static-part")["shadow"].title
    assert "monitor" in found("update-less-often") and "panorama" not in found("update-less-often")
    (lamp,) = [f for f in examined.findings if f.rule == "light-without-effect"]
    assert lamp.title.startswith("platform_lamps[5]") and "nor in 3 others" in lamp.price
    with Replay(last) as replay:
        for finding in (found("moved-layer")["panorama"], found("static-part")["shadow"], lamp):
            proof = prove(last, examined.frame, [finding], replay, 0.5)
            assert proof.verdict not in (Verdict.CHANGES, Verdict.LEAVES, Verdict.REFUSED), (finding.id, proof.summary)
        proof = prove(last, examined.frame, [found("update-less-often")["monitor"]], replay, 0.5)
        assert (
            proof.verdict == Verdict.CHANGES
            and 0 < proof.pixels_different < 200
            and proof.steps_after < proof.steps_before
        )


@pytest.mark.driver
def test_what_another_frame_needs_is_told(platform: tuple[Path, Examined]) -> None:
    """Trap: one that this frame did without, for all that is known of it, shows in all the others."""
    path, examined = platform
    (timetable,) = [msgspec.structs.replace(i) for i in examined.left_out if i.name == "timetable" and not i.view]
    timetable.pixels, timetable.pixels_far = 0, 0
    assert timetable.needless
    (found,) = try_elsewhere(frame_path(path, 2), [timetable], QUIET)
    assert found.needed_in == [1, 3, 4] and not found.needless
    assert "none here, but frames 1, 3 and 4" in found.effect(1000)


@pytest.mark.driver
def test_what_stays_too_long_shows(platform: tuple[Path, Examined]) -> None:
    """Traps: the tram kept with the rest of its shadow, a part that does not begin its pass, results of no frame."""
    path, examined = platform
    frame = examined.frame
    shadow, main = (frame.passes.names.index(name) for name in ("shadow", "platform"))
    steps = list(range(int(frame.passes.first[shadow]), int(frame.passes.end[shadow])))

    def tried(remedy: Remedy) -> Outcome:
        return replay.run(outcome_of.asked([remedy]))

    with Replay(frame_path(path, 4)) as replay:
        assert tried(Remedy("keep-part", steps[:-1])).same
        assert tried(Remedy("keep-part", [*steps[:40], *steps[41:-1]])).same, "any part of it can be kept"
        first = int(frame.passes.first[main])
        assert tried(Remedy("keep-part", list(range(first, first + 60)))).same, "of the window as well"
        with pytest.raises(Exception, match="beginning of one pass"):
            tried(Remedy("keep-part", steps[1:4]))
        with pytest.raises(Exception, match="later frame"):
            tried(Remedy("older-result", steps, frames_ago=2))
        with pytest.raises(Exception, match="window keeps nothing"):
            tried(Remedy("older-result", [first], frames_ago=1))


@pytest.mark.driver
def test_the_page_shows_views_and_lights(
    window: MainWindow, platform: tuple[Path, Examined], tmp_path: Path, qtbot: Any
) -> None:
    path = Path(shutil.copy(platform[0], tmp_path / "platform.wend"))
    window.open_files([frame_path(path, 4)])
    window.show_page("Over time")
    page = window.page("Over time")
    assert isinstance(page, OverTimePage)
    views = {view.name: page.views._enough(view) for view in page.views.table.rows.rows}
    assert views["panorama"] == "moved" and views["monitor"].startswith("1 in") and "timetable" not in views
    page.views.table.selectRow([v.name for v in page.views.table.rows.rows].index("monitor"))
    shown: list[str] = []
    window.work.difference.connect(lambda _beside, title: shown.append(title))
    page.views.worst.click()
    qtbot.waitUntil(lambda: bool(shown), timeout=60_000)
    assert shown[0].startswith("monitor as it was")
    lights = {item.name: item for item in page.lights.table.rows.rows}
    assert lights["platform_lamps[5]"].needless and not lights["platform_lamps[0]"].needless
    document = window.workspace.current
    assert document is not None
    before = len(records.LEFT_OUT.all(frame_path(path, 4)))
    if page.lights.rest.isEnabled():
        page.lights.rest.click()
        qtbot.waitUntil(lambda: all(item.tried for item in document.left_out), timeout=120_000)
        assert len(records.LEFT_OUT.all(frame_path(path, 4))) == before + 1
    assert "no pixel" in page.lights.answer.text()


def test_what_no_pixel_needs_is_a_finding_once() -> None:
    """A view that nothing shows is one finding, whatever parts it has; what was not tried or differs is none."""
    frame = load(demo_files()[0])
    camera, shadow = (frame.passes.names.index(name) for name in ("camera", "shadow"))

    def item(kind: Kind, index: int, first: int, count: int, **more: Any) -> LeftOut:
        steps = list(range(int(frame.passes.first[index]) + first, int(frame.passes.first[index]) + first + count))
        return LeftOut(kind, "thing", steps, Remedy("drop-steps", steps), 2.0, tried=True, view="camera", **more)

    case = Case(frame, Drawn([], [], []), None)
    case.left_out = [
        item(Kind.VIEW, camera, 1, 90),
        item(Kind.PART, camera, 5, 20),
        item(Kind.PART, shadow, 5, 20),
        item(Kind.PART, shadow, 40, 20, pixels=3),
        item(Kind.PART, shadow, 80, 20, refused="no source"),
        item(Kind.ELEMENT, shadow, 80, 20, certain=False),
        LeftOut(Kind.SHADOW, "shadow", [3], Remedy("drop-steps", [3])),
    ]
    rules = (needless_lights, needless_views, needless_parts)
    found = [(f.rule, f.steps[0]) for rule in rules for f in rule(case)]
    first = [int(frame.passes.first[index]) for index in (camera, shadow)]
    assert found == [("view-without-effect", first[0] + 1), ("view-part-without-effect", first[1] + 5)]
