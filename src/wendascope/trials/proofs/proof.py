"""Proofs: a remedy applied to the captured frame, replayed against the original, measured and its picture compared."""

from __future__ import annotations

import datetime
import hashlib
from collections.abc import Collection, Iterable, Mapping
from pathlib import Path
from typing import Any

import msgspec

from wendascope import records
from wendascope.advice.findings import Finding
from wendascope.analysis.guidelines import guidelines
from wendascope.analysis.time.frame_bound import CPU, GPU, Bound, frame_bound
from wendascope.errors import TrialError, UsageError
from wendascope.frame.frame import Frame
from wendascope.frame.remedy import Part, Remedy
from wendascope.measure.clocks import Clock
from wendascope.measure.deciding import Decision
from wendascope.measure.statistics import Interval
from wendascope.replay.client import Replay
from wendascope.task import QUIET, Task
from wendascope.texts import memory, plural
from wendascope.trials.proofs.api_part import api_part
from wendascope.trials.proofs.compare import Count
from wendascope.trials.proofs.outcomes import differ
from wendascope.trials.proofs.runs import TrialRun, driver_name, try_remedies
from wendascope.trials.proofs.verdicts import API, SHOWN, SUBMISSION, VERDICTS, Verdict, bound_ms, judge_sides
from wendascope.trials.remedies import kind_of
from wendascope.trials.survey.late_views import bring_what_stays

UNTRIED = "not tried yet"
COMBINED = "combined"
"""What proofs of several findings together are kept under begins with it."""


def together_name(findings: Collection[str]) -> str:
    """What the proof of some findings together is kept under."""
    own = hashlib.sha1(" ".join(sorted(findings)).encode(), usedforsecurity=False).hexdigest()[:12]
    return f"{COMBINED}-{own}"


def newest_together(proofs: Mapping[str, Proof]) -> Proof | None:
    """The newest proof of several findings together."""
    return max((p for p in proofs.values() if p.together), key=lambda p: p.made_at, default=None)


class Proof(msgspec.Struct):
    """What one remedy did. Times in ms; ratios are edited over original, of pairs taken one after the other."""

    finding: str
    verdict: str
    reason: str = ""
    """Why it could not be tried, or what is to be said besides the numbers; mostly empty."""
    repeats: int = 0
    """Pairs of runs."""
    steps_before: int = 0
    steps_after: int = 0
    calls_before: int = 0
    calls_after: int = 0
    fragments_before: int | None = None
    fragments_after: int | None = None
    frame_ms_before: Interval | None = None
    frame_ms_after: Interval | None = None
    ratio: Interval | None = None
    saved_ms: Interval | None = None
    """Original less edited, of what the remedy touches, in ms of the frame; see `deciding` for how sure it is."""
    pixels_different: int = 0
    max_difference: int = 0
    where: tuple[int, int, int, int] | None = None
    """(x0, y0, x1, y1) that holds all pixels that differ, y from the bottom."""
    together: list[str] = []
    """Of a combined proof, the findings in it."""
    excluded: list[str] = []
    """Of a combined proof, what was left out of it, each with the reason."""
    made_at: str = ""
    submit_ms_before: Interval | None = None
    submit_ms_after: Interval | None = None
    submit_saved_ms: Interval | None = None
    """CPU time of the submitting thread over the frame's calls: original less edited, as surely as `saved_ms`."""
    new_bytes: int = 0
    """Graphics memory of the buffers and textures that the remedy brings in."""
    left_out: list[str] = []
    """Parts of the remedy that could not be tried, each with the reason."""
    in_order: bool = False
    """Whether the steps of a batch were kept in their order, because the picture changed otherwise."""
    side: str = ""
    """`submission` where it is the submission of the frame that is faster or slower, and its drained time shows
    nothing.
    """
    later_pixels: int = 0
    """Pixels that differ in the frame after."""
    left_behind: list[str] = []
    """What holds other contents after the frame, and may be read later."""
    rewritten: list[str] = []
    """What holds other contents after the frame, and is written anew by the frame after without being read."""
    by_pattern: bool = False
    """Whether only what earlier frames had left made the picture come out as captured."""
    unlike_capture: int = 0
    """Pixels in which the replay of the unchanged frame differs from the captured picture."""
    clock: str = ""
    """By which the work was measured."""
    seconds: float = 0.0
    """That measuring took."""
    submission_verdict: str = ""
    """Of the submission alone."""
    bound: str = ""
    """What the frame is bound by, and what that makes of the verdict."""
    counts: list[Count] = []
    """Of what original and edited frame consist."""
    api_ms_before: float | None = None
    """The API's part of submission: CPU time with a driver that draws nothing. None where there is none."""
    api_saved_ms: Interval | None = None
    api_verdict: str = ""
    pixels_visible: int = -1
    """Of the pixels that differ, those further apart than a just noticeable difference of colour; -1 where that was not
    looked at: then all of them count as visible.
    """
    driver: str = ""
    """What it was measured on; empty in files of before that was kept."""

    @property
    def gain_ms(self) -> float | None:
        """What it saves (or costs, below zero), where that is sure; None where nothing was shown."""
        saved = {SUBMISSION: self.submit_saved_ms, API: self.api_saved_ms}.get(self.side, self.saved_ms)
        return saved.median if saved is not None and self.verdict in (Verdict.SAVES, Verdict.COSTS) else None

    @property
    def both_ms(self) -> float:
        """By which proofs are compared: what is surely saved, of the GPU's work and of submission together."""
        if self.verdict != Verdict.SAVES:
            return 0.0
        work = self.saved_ms.median if self.saved_ms is not None and not self.side else 0.0
        submission = self.submission_gain
        return max(work, 0.0) + max(submission.median if submission is not None else 0.0, 0.0)

    @property
    def submission_gain(self) -> Interval | None:
        """What is surely saved of submission, ms: as a whole, or of the API's part where only that shows anything."""
        if self.side == API:
            return self.api_saved_ms
        return self.submit_saved_ms if self.side or self.submission_verdict == Verdict.SAVES else None

    @property
    def visible(self) -> int:
        """Pixels that differ visibly, as far as that is known."""
        return self.pixels_visible if self.pixels_visible >= 0 else self.pixels_different

    @property
    def trade_ms(self) -> float | None:
        """What it saves surely although the picture changes; None where it keeps the picture, or saves nothing."""
        if self.verdict != Verdict.CHANGES or self.saved_ms is None or self.saved_ms.low <= 0:
            return None
        return self.saved_ms.median

    @property
    def told_verdict(self) -> str:
        """The verdict with what it is of, or the bound that it holds within."""
        if self.verdict == Verdict.NO_DIFFERENCE and self.saved_ms is not None:
            return f"{Verdict.NO_DIFFERENCE} (less than {bound_ms(self.saved_ms):.2f} ms)"
        if self.verdict == Verdict.NOISE and self.saved_ms is not None:
            return f"{Verdict.NOISE} ({self.saved_ms.low:.2f} to {self.saved_ms.high:.2f} ms)"
        if (
            self.verdict == Verdict.CHANGES
            and self.saved_ms is not None
            and (self.saved_ms.low > 0 or self.saved_ms.high < 0)
        ):
            saved = self.saved_ms.median
            return f"{Verdict.CHANGES}, {Verdict.SAVES if saved > 0 else Verdict.COSTS} {abs(saved):.2f} ms"
        gain = self.gain_ms
        if gain is not None:
            return f"{self.verdict} {abs(gain):.2f} ms{f' of {self.side}' if self.side else ''}"
        return self.verdict

    @property
    def submission(self) -> str:
        """What submitting the frame took before and after, in one line; empty where it was not measured."""
        if self.submit_ms_before is None or self.submit_ms_after is None or self.submit_saved_ms is None:
            return ""
        saved, verdict = self.submit_saved_ms, self.submission_verdict
        word = f"{verdict}: " if verdict in (Verdict.SAVES, Verdict.COSTS) else ""
        api = ""
        if self.api_ms_before and self.api_saved_ms is not None:
            left = self.api_ms_before - self.api_saved_ms.median
            api = f"; the API's part alone {self.api_ms_before:.2f} -> {max(left, 0.0):.2f} ms"
        return (
            f"{word}{self.submit_ms_before.median:.2f} -> {self.submit_ms_after.median:.2f} ms of CPU, saved"
            f" {saved.median:.2f} ms ({saved.low:.2f} to {saved.high:.2f}){api}"
        )

    @property
    def overlapping_ms(self) -> tuple[float, float] | None:
        """What a frame takes before and after where it is drawn while the next one is submitted: the longer of the two.
        None where it was not measured.
        """
        frames, submissions = (self.frame_ms_before, self.frame_ms_after), (self.submit_ms_before, self.submit_ms_after)
        found = []
        for frame, submission in zip(frames, submissions, strict=True):
            if frame is None or submission is None:
                return None
            # drained without timer queries, a frame's time is that of its submission and of what was left to draw then
            drawing = frame.median - (submission.median if self.clock != Clock.QUERY else 0.0)
            found.append(max(drawing, submission.median))
        return found[0], found[1]

    @property
    def together_summary(self) -> str:
        """Of a combined proof, the shortest that can be said."""
        before, after, overlapping = self.frame_ms_before, self.frame_ms_after, self.overlapping_ms
        shown = self.verdict in SHOWN and not self.side  # else the frame's own time shows nothing
        times = f"{before.median:.1f} -> {after.median:.1f} ms, " if shown and before and after else ""
        if times and overlapping:
            times += f"{overlapping[0]:.1f} -> {overlapping[1]:.1f} ms where submission overlaps drawing, "
        fewer = (
            f"{self.steps_before:,} -> {self.steps_after:,} steps, " if self.steps_before != self.steps_after else ""
        )
        return f"{plural(len(self.together), 'change')} together, {fewer}{times}{self.picture}"

    @property
    def picture(self) -> str:
        """What became of the picture and of what is left behind, in words."""
        parts = [
            "picture identical" if not self.pixels_different else differ(self.pixels_different, self.max_difference)
        ]
        if self.pixels_visible > 0:
            parts[0] += f", {self.pixels_visible:,} of them visibly"
        if self.where:
            x0, y0, x1, y1 = self.where
            parts[0] += f", within {x1 - x0} x {y1 - y0} pixels at {x0}, {y0}"
        if self.by_pattern:
            parts.append("it was the same only by what earlier frames had left")
        if self.later_pixels:
            parts.append(f"in the frame after, {differ(self.later_pixels, 0)}")
        if self.left_behind:
            parts.append(f"left behind otherwise: {', '.join(self.left_behind)}")
        if self.rewritten:
            parts.append(f"the frame after writes {', '.join(self.rewritten)} anew")
        return "; ".join(parts)

    @property
    def summary(self) -> str:
        """What was measured, in one line."""
        if self.verdict == Verdict.REFUSED and not self.steps_before:
            return self.reason
        steps = (
            f"{self.steps_before:,} -> {self.steps_after:,} steps, " if self.steps_before != self.steps_after else ""
        )
        calls = (
            f"{self.calls_before:,} -> {self.calls_after:,} calls, " if self.calls_before != self.calls_after else ""
        )
        saved, picture = self.saved_ms, self.picture
        if self.new_bytes:
            more = "of new buffers and textures" if self.new_bytes > 0 else "less in memory"
            picture += f", {memory(abs(self.new_bytes))} {more}"
        picture += ", its steps kept in their order" if self.in_order else ""
        if self.unlike_capture and self.verdict != Verdict.REFUSED:
            pixels = plural(self.unlike_capture, "pixel")
            picture += f" (against the replay, which the driver rounds otherwise than the captured picture in {pixels})"
        picture += f"; {self.reason}" if self.reason else ""
        if saved is None or self.frame_ms_before is None:
            return f"{steps}{calls}{picture}"
        return (
            f"{steps}{calls}saved {saved.median:.2f} ms ({saved.low:.2f} to {saved.high:.2f}) of a frame of"
            f" {self.frame_ms_before.median:.2f} ms, by {self.clock} in {plural(self.repeats, 'pair')}; {picture}"
        )


def told(proof: Proof) -> dict[str, Any]:
    """A proof as it is printed: times as their medians, with the interval of the ratio."""
    plain: dict[str, Any] = msgspec.to_builtins(proof)
    for name in ("frame_ms_before", "frame_ms_after"):
        plain[name] = plain[name]["median"] if plain[name] else None
    plain["overlapping_ms_before"], plain["overlapping_ms_after"] = proof.overlapping_ms or (None, None)
    return plain


def prove(
    path: Path, frame: Frame, findings: Iterable[Finding], replay: Replay, seconds: float | None = None,
    task: Task = QUIET,
) -> Proof:  # fmt: skip
    """Try the remedies of some findings as one edited frame and keep the proof in the file.

    `seconds` limits the measuring, in place of the guidelines. Raises ReplayError, CancelledError.
    """
    chosen = list(findings)
    identity = chosen[0].id if len(chosen) == 1 else together_name([f.id for f in chosen])
    without = next((f for f in chosen if f.remedy is None), None)
    if without is not None:
        proof = Proof(identity, Verdict.REFUSED, without.refused)
    else:
        remedies = [f.remedy for f in chosen if f.remedy]
        try:
            bring_what_stays(path, frame, remedies, replay, task)
            proof = measured_proof(frame, identity, remedies, replay, seconds, task)
        except TrialError as error:
            proof = Proof(identity, Verdict.REFUSED, str(error))
    proof.together = [f.id for f in chosen] if len(chosen) > 1 else []
    keep_proof(path, proof)
    return proof


def keep_proof(path: Path, proof: Proof) -> None:
    """Keep a proof in the file, with the time. Raises FileError."""
    proof.made_at = now()
    records.PROOF.keep(path, proof)


def measured_proof(
    frame: Frame, identity: str, remedies: list[Remedy], replay: Replay, seconds: float | None = None,
    task: Task = QUIET,
) -> Proof:  # fmt: skip
    """Remedies as one edited frame against the original, without keeping it. Raises ReplayError, CancelledError.

    What cannot be tried is a proof that says why.
    """
    careful = in_order(remedies[0]) if len(remedies) == 1 else None

    def attempt(tried: list[Remedy]) -> Proof:
        most = seconds or guidelines().proofs.seconds
        found = replay.run(try_remedies.asked(tried, touched_passes(frame, tried), most), task)
        proof = _judge(identity, found)
        if proof.verdict in (*SHOWN, Verdict.NOISE) and proof.calls_after != proof.calls_before:
            api = api_part(replay, tried, task)
            if api is not None:
                judged = judge_sides(found.times.work.decision, found.times.submission.decision, api.decision)
                proof.verdict, proof.side = judged.verdict, judged.side
                proof.api_ms_before, proof.api_saved_ms = api.before_ms, api.saved
                proof.api_verdict = judge_sides(api.decision, Decision.OPEN).verdict
        return proof

    try:
        proof = attempt(remedies)
        if proof.verdict in (Verdict.CHANGES, Verdict.LEAVES) and careful is not None and careful.parts:
            again = attempt([careful])
            if again.verdict not in (Verdict.CHANGES, Verdict.LEAVES):
                proof, proof.in_order = again, True
    except TrialError as error:
        return Proof(identity, Verdict.REFUSED, str(error))
    if proof.verdict in (Verdict.NO_DIFFERENCE, Verdict.NOISE) and len({r.kind for r in remedies}) == 1:
        proof.reason = proof.reason or kind_of(remedies[0]).no_difference
    proof.bound = bound_sentence(frame_bound(frame), proof)
    return proof


def touched_passes(frame: Frame, remedies: Iterable[Remedy]) -> list[int]:
    """Passes whose steps remedies change; none where one is of the whole frame."""
    tried = list(remedies)
    if any(not r.steps for r in tried):
        return []
    return sorted({int(frame.passes.of_step[s]) for r in tried for s in r.steps})


def bound_sentence(bound: Bound | None, proof: Proof) -> str:
    """What a saving means for a frame that is bound by one side; empty where that is not known."""
    if bound is None or proof.verdict != Verdict.SAVES:
        return ""
    if bound.who == GPU and proof.side:
        return "the program is GPU-bound: its frame stays as long"
    if bound.who == CPU and proof.side:
        return "the program is CPU-bound: its frame gets shorter"
    if bound.who == CPU and proof.submission_verdict != Verdict.SAVES:
        return "the program is CPU-bound: its frame stays as long where GPU and CPU overlap"
    return ""


def now() -> str:
    """The time, as files keep it."""
    return datetime.datetime.now(datetime.UTC).isoformat(timespec="seconds")


def _judge(identity: str, found: TrialRun) -> Proof:
    outcome, ground = found.outcome, found.ground
    judged = judge_sides(found.times.work.decision, found.times.submission.decision)
    verdict, reason = judged.verdict, ""
    if found.only_state:
        reason = "all steps stay as they are, so only submission was measured, without making fragments"
    if ground.unsteady:
        verdict, reason = Verdict.REFUSED, ground.trouble  # what differs may be that
    elif outcome.pixels_different or outcome.later_pixels:
        verdict = Verdict.CHANGES
    elif outcome.left_behind:
        verdict = Verdict.LEAVES
        if not outcome.following:
            reason = "capture the frame again to have the calls of the frame after, which tell whether they are read"
    elif ground.trouble:
        verdict, reason = Verdict.REFUSED, ground.trouble
    before, saved = found.times.work.frame_ms, found.times.work.saved
    after = _less(before, saved)
    return Proof(
        identity,
        verdict,
        reason,
        found.times.pairs,
        found.steps_before,
        found.steps_after,
        found.calls_before,
        found.calls_after,
        found.fragments_before,
        found.fragments_after,
        before,
        after,
        None if after is None else Interval(*(ms / before.median for ms in (after.median, after.low, after.high))),
        saved,
        outcome.pixels_different,
        outcome.max_difference,
        outcome.where,
        submit_ms_before=found.times.submission.frame_ms,
        submit_ms_after=_less(found.times.submission.frame_ms, found.times.submission.saved),
        submit_saved_ms=found.times.submission.saved,
        new_bytes=found.new_bytes,
        left_out=found.left_out,
        side=judged.side if verdict == judged.verdict else "",
        later_pixels=outcome.later_pixels,
        left_behind=outcome.left_behind,
        driver=found.driver,
        rewritten=outcome.rewritten,
        by_pattern=outcome.by_pattern,
        unlike_capture=ground.unlike_capture,
        clock=found.times.clock,
        seconds=found.times.seconds,
        submission_verdict=judge_sides(found.times.submission.decision, Decision.OPEN).verdict,
        counts=found.counts,
        pixels_visible=outcome.pixels_visible,
    )


def _less(before: Interval, saved: Interval | None) -> Interval | None:
    """What is left when so much is saved."""
    if saved is None:
        return None
    return Interval(before.median - saved.median, before.median - saved.high, before.median - saved.low)


def as_proved(finding: Finding, proof: Proof) -> Finding:
    """A finding with the remedy that held."""
    if not proof.in_order or finding.remedy is None:
        return finding
    return msgspec.structs.replace(finding, remedy=in_order(finding.remedy))


def in_order(remedy: Remedy) -> Remedy | None:
    """A batch split so that no step changes places with one outside of it; None where it is so already."""
    parts = []
    for part in remedy.parts:
        run: list[int] = []
        for step in sorted(part.steps):
            if run and step != run[-1] + 1:
                parts.append(Part(part.how, run, part.textures))
                run = []
            run.append(step)
        parts.append(Part(part.how, run, part.textures))
    parts = [part for part in parts if len(part.steps) > 1]
    if parts == [part for part in remedy.parts if len(part.steps) > 1]:
        return None
    return Remedy(remedy.kind, sorted(s for part in parts for s in part.steps), parts=parts)


def stored_proofs(path: Path) -> dict[str, Proof]:
    """Finding -> its newest proof in the file, made with the driver of its newest survey: numbers of another one are
    not mixed with it. Those of older versions, which compared the window alone, do not count. Raises FileError.
    """
    driver, found = _proofs_and_driver(path)
    return {proof.finding: proof for proof in found if not _elsewhere(proof, driver)}


def _proofs_and_driver(path: Path) -> tuple[str, list[Proof]]:
    """(the driver of the newest survey, empty where it is not known, every proof in the file that counts)."""
    survey = records.SURVEY.newest(path)
    found = [proof for proof in records.PROOF.all(path) if proof.verdict in VERDICTS]
    return survey.renderer if survey else "", found


def _elsewhere(proof: Proof, driver: str) -> bool:
    return bool(driver and proof.driver) and proof.driver != driver


def proofs_elsewhere(path: Path) -> list[str]:
    """A sentence for each driver, other than that of the newest survey, on which proofs were made. Raises FileError."""
    driver, proofs = _proofs_and_driver(path)
    made: dict[str, set[str]] = {}
    for proof in proofs:
        if _elsewhere(proof, driver):
            made.setdefault(proof.driver, set()).add(proof.finding)
    return [
        f"{plural(len(found), 'proof')} made on {other} {'is' if len(found) == 1 else 'are'} not shown beside what was"
        f" measured on {driver}"
        for other, found in sorted(made.items())
    ]


def check_driver(path: Path, replay: Replay) -> None:
    """Raises UsageError where the newest survey was made with another driver than this machine's."""
    survey = records.SURVEY.newest(path)
    here = replay.run(driver_name.asked())
    if survey is not None and survey.renderer and survey.renderer != here:
        raise UsageError(
            f"{path.name} was surveyed on {survey.renderer}, and this machine has {here}: run `wendascope survey` here"
            " first, since numbers of two drivers are not mixed"
        )


def state_of(finding: Finding, proofs: Mapping[str, Proof]) -> str:
    """What is known of a finding: `UNTRIED`, or the verdict of its proof."""
    proof = proofs.get(finding.id)
    if proof is not None:
        return proof.verdict
    return UNTRIED if finding.remedy is not None else Verdict.REFUSED
