"""Recommendations: findings with one cause, told once, the largest gain first.

One mesh that is too fine in twelve passes is one thing to change, and so is one crate that is drawn in ten. What each
brings is proved, or estimated with a range; steps that several findings count are counted once.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

import msgspec
import numpy as np

from wendascope.analysis.estimates import Correction
from wendascope.analysis.findings import CALLS_GONE, Case, Finding
from wendascope.frame.grouping import shape_name
from wendascope.frame.roles import SCENE
from wendascope.texts import capital, joined_parts, listed, plural

SETTING, SHADER, ASSET, SUBMISSION, CODE = "setting", "shader edit", "asset", "draw submission", "program logic"
"""Classes of effort."""
MOST_SHOWN = 12
"""Recommendations above the fold."""
_SMALL_SHARE = 0.01
"""Of the frame: what is expected to bring less is below the fold."""
BATCHES = ("copies", "mergeable", "textured-batch", "small-batches")
_EFFORT = {
    SETTING: ("fine-full-screen", "smaller-view", "covered-clear", "medium-precision", "needless-samples"),
    SHADER: (
        "long-loop", "small-branch", "unused-feature", "uniform-expression", "fetched-twice", "per-vertex-work",
        "unused-output", "small-power", "unused-varying", "spared-side", "late-depth-test",
        "stored-directions",
    ),
    ASSET: (
        "too-fine", "degenerate-triangles", "small-visible-part", "plain-texture", "unused-attributes",
        "oversized-texture", "missing-mip-levels", "unread-mip-levels", "same-contents", "near-contents",
        "spare-channels", "solid-texture", "compressible-texture", "opaque-blocks", "wide-attributes",
        "wide-indices",
    ),
    SUBMISSION: (
        *BATCHES, "draw-plan", "switches", "repeated-state", "repeated-upload", "overwritten-state", "immediate-draws",
        "back-to-front", "depth-prepass",
    ),
}  # fmt: skip
_RISK = {
    "unread-pass": "low: nothing in this frame or the next depends on it",
    "moved-layer": "an old part of it stays where a change of what it shows is missed",
    "static-part": "an old image stays where a change of what it shows is missed",
    "unchanged-pass": "an old image stays where a change of what it shows is missed",
    "update-less-often": "the view lags behind: look at it while things move fast",
    "covered-clear": "low",
    "repeated-state": "low, as long as nothing else sets state of the context",
    "overwritten-state": "low",
    "fine-full-screen": "the picture changes a little: look at it",
    "smaller-view": "the view becomes coarser: look at it",
    "too-fine": "shapes change a little: look at it",
    "compressible-texture": "blocks can show in gradients and at edges: look at it",
    "medium-precision": "precision: look at it on the devices",
}
_LEAVING_OUT = {
    "unread-pass",
    "unchanged-pass",
    "static-part",
    "moved-layer",
    "update-less-often",
    "view-without-effect",
    "view-part-without-effect",
    "not-visible",
    "outside-view",
    "facing-away",
}
"""Rules whose remedies leave all their steps out."""
_MOSTLY = 0.8
"""Of its steps: what a larger recommendation leaves out needs no change of its own."""


class Gain(msgspec.Struct):
    """Expected or proved milliseconds, with their range."""

    ms: float
    low: float
    high: float
    proved: bool


class Recommendation(msgspec.Struct):
    """One thing to change."""

    id: str
    title: str
    why: str
    cause: str
    """What its findings have in common, in words."""
    findings: list[str]
    """Ids, the largest gain first."""
    rules: list[str]
    steps: list[int]
    passes: list[int]
    gpu: Gain | None
    """None where nothing is expected of the GPU."""
    cpu: Gain | None
    effort: str
    price: str
    risk: str
    conditions: str
    how: list[str]
    """What to do, a sentence for each finding."""
    state: str
    """`estimated`, `proved`, `no gain` or `cannot be tried`."""
    small: bool = False
    """Below the fold."""
    fold: str = ""
    """Why it is there."""
    excludes: list[str] = []
    """Ids of others that want the same steps."""

    @property
    def gain(self) -> float:
        """What it is expected to bring the side that it helps, ms."""
        return max(self.gpu.ms if self.gpu else 0.0, self.cpu.ms if self.cpu else 0.0)


Saved = Callable[[Finding], tuple[str, Gain | None, Gain | None] | None]
"""What a proof says of a finding: (verdict class: `saves`, `none`, `refused`; gain of the GPU; of submission)."""


def recommend(
    case: Case, findings: Sequence[Finding], saved: Saved, known: Mapping[str, Correction]
) -> list[Recommendation]:
    """Group findings by cause. `known` has for a rule how its estimates did so far: those of the GPU are corrected
    already, those of submission (`rule cpu`) are here.
    """
    return _Recommending(case, findings, saved, known).find()


def cpu_rule(rule: str) -> str:
    """What the correction of a rule's gain of submission is kept under."""
    return f"{rule} cpu"


def _one_mesh(cause: tuple[object, ...]) -> bool:
    """Whether all steps of a cause draw the same mesh: it then names nothing but that."""
    return cause[0] in ("batch", "mesh") and len(cause) == 2


class _Recommending:
    def __init__(self, case: Case, findings: Sequence[Finding], saved: Saved, known: Mapping[str, Correction]) -> None:
        self._case, self._saved, self._known = case, saved, known
        covered = {f.id for f in findings if f.rule in BATCHES}
        # a plan of a pass is its batches in one order: they are told by what they draw
        self._findings = [f for f in findings if f.rule != "draw-plan" or not covered]
        self._frame_ms = sum(case.pass_ms or []) or sum(case.ms or []) or 0.0

    def find(self) -> list[Recommendation]:
        groups: dict[tuple[object, ...], list[Finding]] = {}
        for finding in self._findings:
            groups.setdefault(self._cause(finding), []).append(finding)
        found = [self._recommendation(cause, members) for cause, members in groups.items()]
        found.sort(key=lambda item: (-item.gain, item.id))
        self._fold(found)
        self._exclude(found)
        return found

    # ---- causes ---------------------------------------------------------------------------------------

    def _cause(self, finding: Finding) -> tuple[object, ...]:
        rule, frame = finding.rule, self._case.frame
        if rule in ("copies", "too-fine", "small-visible-part", "degenerate-triangles"):
            meshes = {int(frame.uses.mesh[step]) for step in finding.steps}
            family = "batch" if rule == "copies" else "mesh"
            return (family, *meshes) if len(meshes) == 1 else (family, rule, len(meshes), *sorted(meshes)[:3])
        if rule in BATCHES:
            programs = tuple(sorted({int(frame.steps.program[s]) for s in finding.steps}))
            return ("batch", "programs", *programs[:3], rule == "small-batches")
        if finding.program:
            return ("shader", finding.program, finding.stage, rule)
        if rule in ("repeated-state", "overwritten-state"):
            return ("state",)
        if rule in ("not-visible", "outside-view", "facing-away", "unread-pass"):
            return (rule,)
        if rule in ("back-to-front", "depth-prepass", "untested-overdraw"):
            return ("overdraw", *self._passes(finding.steps)[:1])
        return (rule, finding.id)

    def _passes(self, steps: Sequence[int]) -> list[int]:
        return np.unique(np.asarray(self._case.frame.passes.of_step)[list(steps)]).tolist() if steps else []

    # ---- one recommendation ---------------------------------------------------------------------------

    def _recommendation(self, cause: tuple[object, ...], members: list[Finding]) -> Recommendation:
        members = sorted(members, key=lambda f: -(f.estimate_ms or 0.0))
        first = members[0]
        steps = sorted({step for f in members for step in f.steps})
        rules = list(dict.fromkeys(f.rule for f in members))
        state, gpu, cpu = self._gains(members)
        return Recommendation(
            id=f"recommend-{first.id}",
            title=capital(self._title(cause, members, steps)),
            why=first.why,
            cause=self._cause_words(cause, members),
            findings=[f.id for f in members],
            rules=rules,
            steps=steps,
            passes=self._passes(steps),
            gpu=gpu,
            cpu=cpu,
            effort=next((e for e, of in _EFFORT.items() if first.rule in of), CODE),
            price=first.price,
            risk=next((_RISK[r] for r in rules if r in _RISK), _risk_of(state)),
            conditions=first.conditions,
            how=[f"{f.title}." for f in members],
            state=state,
        )

    def _title(self, cause: tuple[object, ...], members: list[Finding], steps: list[int]) -> str:
        first = members[0]
        if len(members) == 1:
            return self._without_pass(first)
        passes = plural(len(self._passes(steps)), "pass", "passes")
        match cause[0]:
            case "batch":
                now = sum(int(f.evidence.get("draws now", 0)) for f in members)
                then = sum(int(f.evidence.get("draws together", 0)) for f in members)
                return f"{self._what(steps, _one_mesh(cause))}: {now:,} draws in {passes} could be {then:,}"
            case "mesh":
                return f"{self._what(steps, _one_mesh(cause))}: too fine for its size on screen in {passes}"
            case "shader":
                lines = sorted({line for f in members for line in f.lines})
                return f"{first.title} (lines {', '.join(map(str, lines[:6]))})" if lines else first.title
            case "state":
                count = sum(int(f.title.split()[0].replace(",", "")) for f in members)
                return f"{count:,} state calls change nothing that a draw uses"
            case "unread-pass":
                views = self._case.frame.pass_roles
                order = sorted(self._passes(steps), key=lambda index: views[index].role not in SCENE)
                named = joined_parts([self._case.names[index] for index in order])
                more = [f"{len(named) - 2} more"] if len(named) > 3 else named[2:]
                return f"Nothing reads the results of {listed([*named[:2], *more])}"
            case "not-visible":
                return f"{plural(len(steps), 'draw')} in {passes} leave no visible fragment"
            case "outside-view":
                return f"{plural(len(steps), 'draw')} in {passes} lie outside the view"
            case "facing-away":
                return f"{plural(len(steps), 'draw')} in {passes} face away"
        return f"{first.title}, and {plural(len(members) - 1, 'finding')} of the same cause"

    def _without_pass(self, finding: Finding) -> str:
        """A title that begins with its pass, with the pass at its end and without its counts."""
        for index in self._passes(finding.steps):
            name = self._case.names[index]
            if finding.title.startswith(f"{name}: "):
                return f"{capital(finding.title.removeprefix(f'{name}: '))} ({name})"
        return finding.title

    def _what(self, steps: list[int], of_one_mesh: bool) -> str:
        """What is drawn, as a person would call it: a debug group that all share, else facts."""
        frame = self._case.frame
        inner = {frame.steps.group[s][-1] for s in steps if frame.steps.group[s]}
        if len(inner) == 1 and all(frame.steps.group[s] for s in steps):
            return next(iter(inner))
        vertices = np.unique(np.asarray(frame.steps.vertices)[steps])
        if of_one_mesh:
            label = frame.mesh_label(steps[0]) or shape_name(frame, steps[0], int(vertices[0]))
            return f"{capital(label)} of {plural(int(vertices[0]), 'vertex', 'vertices')}"
        programs = sorted({int(p) for p in np.asarray(frame.steps.program)[steps]})
        drawn = listed([frame.program_name(p) for p in programs[:2]])
        return f"Meshes of up to {int(vertices[-1]):,} vertices, {drawn}"

    def _cause_words(self, cause: tuple[object, ...], members: list[Finding]) -> str:
        if len(members) == 1:
            return ""
        words = {
            "batch": "the same draws, submitted one by one in each pass",
            "mesh": "one mesh",
            "shader": "one program",
            "state": "state that is set without looking at what it is",
            "overdraw": "the order of one pass",
        }
        return words.get(str(cause[0]), "one rule in several passes")

    # ---- gains ----------------------------------------------------------------------------------------

    def _gains(self, members: list[Finding]) -> tuple[str, Gain | None, Gain | None]:
        """(state, gain of the GPU, of submission): proofs where there are any, estimates for the rest; steps that
        several findings have count once.
        """
        gpu: list[Gain] = []
        cpu: list[Gain] = []
        verdicts: list[str] = []
        seen: set[int] = set()
        for finding in members:
            known = self._saved(finding)
            share = self._fresh(finding, seen)
            if known is not None:
                verdict, on_gpu, on_cpu = known
                verdicts.append(verdict)
                gpu += [on_gpu] if on_gpu and verdict == "saves" else []
                cpu += [on_cpu] if on_cpu and verdict == "saves" else []
                continue
            verdicts.append("estimated" if finding.remedy is not None else "refused")
            estimate = (finding.estimate_ms or 0.0) * share
            if estimate > 0:
                (cpu if self._of_cpu(finding) else gpu).append(self._estimated(finding.rule, estimate, 1.0))
            saved = finding.evidence.get(CALLS_GONE)
            if isinstance(saved, int | float) and saved > 0 and not self._of_cpu(finding):
                rule = cpu_rule(finding.rule)
                factor = self._known[rule].factor if rule in self._known else 1.0
                cpu.append(self._estimated(rule, saved * share, factor))
        state = (
            "proved"
            if "saves" in verdicts and "estimated" not in verdicts
            else "estimated"
            if "estimated" in verdicts
            else "no gain"
            if "none" in verdicts
            else "cannot be tried"
        )
        return state, self._sum(gpu, members), self._sum(cpu, members)

    def _estimated(self, rule: str, ms: float, factor: float) -> Gain:
        item = self._known.get(rule)
        low, high = (item.low, item.high) if item is not None else (0.5, 2.0)
        return Gain(ms * factor, ms * factor * low, ms * factor * high, False)

    @staticmethod
    def _of_cpu(finding: Finding) -> bool:
        """Whether the estimate is of submission alone."""
        return finding.page == "State" or finding.rule == "immediate-draws"

    @staticmethod
    def _fresh(finding: Finding, seen: set[int]) -> float:
        """The share of a finding's steps that no finding before it had."""
        if not finding.steps:
            return 1.0
        mine = set(finding.steps)
        share = len(mine - seen) / len(mine)
        seen |= mine
        return share

    def _sum(self, gains: list[Gain], members: list[Finding]) -> Gain | None:
        if not gains:
            return None
        total = Gain(
            sum(g.ms for g in gains),
            sum(g.low for g in gains),
            sum(g.high for g in gains),
            all(g.proved for g in gains),
        )
        steps = {step for f in members for step in f.steps}
        most = self._case.time_of(steps) if steps else None
        if most is not None and not total.proved and total.ms > most > 0:
            total = Gain(most, min(total.low, most), min(total.high, most), False)
        return total

    # ---- the list -------------------------------------------------------------------------------------

    def _fold(self, found: list[Recommendation]) -> None:
        """Say which are small, and why."""
        gone: set[int] = set()
        for number, item in enumerate(found):
            mine = set(item.steps)
            if mine and len(mine & gone) >= _MOSTLY * len(mine):
                item.small, item.fold = True, "its steps go with a larger recommendation"
                continue
            if item.state == "no gain":
                item.small, item.fold = True, "no gain on this driver and frame"
            elif item.gain <= 0:
                item.small, item.fold = True, "no gain is expected on this driver and frame"
            elif item.gain < _SMALL_SHARE * self._frame_ms:
                item.small, item.fold = True, "a small gain"
            elif number >= MOST_SHOWN:
                item.small, item.fold = True, "larger gains come first"
            if not item.small and leaves_out(item):
                gone |= mine

    @staticmethod
    def _exclude(found: list[Recommendation]) -> None:
        """Recommendations that want the same steps in another way."""
        for number, item in enumerate(found):
            mine = set(item.steps)
            for other in found[number + 1 :]:
                if mine & set(other.steps) and _clash(item, other):
                    item.excludes.append(other.id)
                    other.excludes.append(item.id)


def leaves_out(item: Recommendation) -> bool:
    """Whether it leaves its steps out."""
    return bool(_LEAVING_OUT & set(item.rules))


def _risk_of(state: str) -> str:
    if state == "proved":
        return "low: the changed frame gives the same picture"
    return "not tried here: compare the picture" if state == "cannot be tried" else "not proved yet"


def _clash(a: Recommendation, b: Recommendation) -> bool:
    """Whether both change how the same steps are drawn: one of them leaves them out, or both draw them together."""
    return leaves_out(a) != leaves_out(b) or (bool(set(BATCHES) & set(a.rules)) and bool(set(BATCHES) & set(b.rules)))
