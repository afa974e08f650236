"""Recommendations: findings with one cause, told once, with what became of every try.

One mesh that is too fine in twelve passes is one thing to change, and so is one crate that is drawn in ten. What was
tried stands for what it was: a group is proved where a member of it is, and no estimate stands beside a proof.
"""

from __future__ import annotations

import enum
from collections.abc import Callable, Mapping, Sequence

import msgspec

from wendascope.advice.causes import Key, passes_of, steps_of
from wendascope.advice.estimates import Correction
from wendascope.advice.findings import Case, Finding
from wendascope.advice.ledger import Ledger
from wendascope.advice.rule import Side, Verify, rule_named
from wendascope.texts import capital, memory, three_digits

MOST_SHOWN = 12
"""Recommendations above the fold, in each section."""
SMALL_SHARE = 0.01
"""Of the frame: what could bring less at most is below the fold, and not tried unless it is asked for."""


class State(enum.StrEnum):
    """What is known of a recommendation, or of one finding; the first of these that holds for any member."""

    PROVED = "proved"
    TRADE = "saves, picture changes"
    """And saves time surely."""
    UNTRIED = "not tried yet"
    UNCLEAR = "cannot be told"
    """At the noise of the machine."""
    SMALL = "no difference"
    COSTS = "costs time"
    CHANGES = "picture changes"
    """And no time is saved surely."""
    COUNTED = "counted"
    """In the frame: it has no picture, and a replay has nothing to tell of it."""
    REFUSED = "cannot be tried"


class Section(enum.StrEnum):
    """Where a recommendation stands."""

    TIME = "time"
    QUALITY = "quality for time"
    MEMORY = "memory"
    NOTHING = "tried, and nothing gained"


class Gain(msgspec.Struct):
    """Expected or proved milliseconds, with their range."""

    ms: float
    low: float
    high: float
    proved: bool


class Try(msgspec.Struct):
    """What was tried of one finding, and what came of it."""

    finding: str
    title: str
    state: State
    words: str
    """The verdict with its numbers."""
    gpu: Gain | None = None
    """Of a proof that saves, and of a trade: what it saves of the GPU, and of submission."""
    cpu: Gain | None = None
    pixels: int = 0
    visible: int = 0
    largest: int = 0
    """Of 255."""
    part_of: str = ""
    """The finding whose proof holds this one among others."""


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
    """Proved where the state says so, or estimated; None where nothing is known or expected of the GPU."""
    cpu: Gain | None
    effort: str
    price: str
    risk: str
    conditions: str
    how: list[str]
    """What to do, a sentence for each finding."""
    state: State
    section: Section
    tries: list[Try] = []
    """What became of each finding that was tried or cannot be."""
    small: bool = False
    """Below the fold."""
    fold: str = ""
    """Why it is there."""
    excludes: list[str] = []
    """Ids of others that want the same steps."""
    own_ms: float = 0.0
    """Up to so much of the program's own time between the calls goes as well, by the recording."""
    open_gpu: float = 0.0
    """What the members that were not tried yet are expected to bring the GPU, ms, beside what is proved."""
    open_cpu: float = 0.0
    less_bytes: int = 0
    """Graphics memory, of all its findings."""
    pixels: int = 0
    """Of a trade: pixels that differ, visibly, and the largest difference of 255."""
    visible: int = 0
    largest: int = 0

    @property
    def gain(self) -> float:
        """What it brings, or is expected to bring, the side that it helps, ms."""
        return max(self.gpu.ms if self.gpu else 0.0, self.cpu.ms if self.cpu else 0.0)

    @property
    def state_text(self) -> str:
        """The state, with how many of several tries it is of."""
        mine = sum(item.state is self.state for item in self.tries)
        return f"{self.state}: {mine} of {len(self.findings)}" if len(self.findings) > 1 and mine else str(self.state)


Tried = Callable[[Finding], Try | None]
"""What a proof says of a finding; None where there is none."""


def recommend(
    case: Case, findings: Sequence[Finding], tried: Tried, known: Mapping[str, Correction]
) -> list[Recommendation]:
    """Group findings by cause. `known` has for a rule how its estimates did so far: those of the GPU are corrected
    already, those of submission (`rule cpu`) are here.
    """
    return _Recommending(case, findings, tried, known).find()


def cpu_rule(rule: str) -> str:
    """What the correction of a rule's gain of submission is kept under."""
    return f"{rule} cpu"


def whole_frame_ms(case: Case) -> float:
    """Time of the frame: as a whole where that was measured, else of its passes or steps."""
    return case.frame_ms or sum(case.pass_ms or []) or sum(case.ms or []) or 0.0


class _Recommending:
    def __init__(self, case: Case, findings: Sequence[Finding], tried: Tried, known: Mapping[str, Correction]) -> None:
        self._case, self._known = case, known
        self._tries: dict[str, Try] = {f.id: found for f in findings if (found := _known_try(f, tried)) is not None}
        joins = any(f.kept_rule.joins_draws and not f.kept_rule.whole for f in findings)
        # a plan of draws is its batches in one order: they are told by what they draw, until it was tried as a whole
        self._findings = [
            f for f in findings if not f.kept_rule.whole or not joins or self._state(f) is not State.UNTRIED
        ]
        self._frame_ms = whole_frame_ms(case)

    def _state(self, finding: Finding) -> State:
        found = self._tries.get(finding.id)
        return State.UNTRIED if found is None else found.state

    def find(self) -> list[Recommendation]:
        groups: dict[Key, list[Finding]] = {}
        for finding in self._findings:
            groups.setdefault(finding.kept_rule.cause.key(self._case, finding), []).append(finding)
        found = [self._recommendation(members) for members in groups.values()]
        found.sort(key=_rank)
        self._fold(found)
        self._exclude(found)
        return found

    # ---- one recommendation ---------------------------------------------------------------------------

    def _recommendation(self, members: list[Finding]) -> Recommendation:
        members = sorted(members, key=lambda f: (list(State).index(self._state(f)), -(f.estimate_ms or 0.0), f.id))
        first, rule = members[0], members[0].kept_rule
        tries = [self._tries[f.id] for f in members if f.id in self._tries]
        state = min((self._state(f) for f in members), key=list(State).index)
        deciding = [f for f in members if self._state(f) is state]
        gpu, cpu = self._gains(deciding, state)
        rest = [f for f in members if self._state(f) is State.UNTRIED] if state is not State.UNTRIED else []
        open_gpu, open_cpu = self._gains(rest, State.UNTRIED)
        trades = [t for t in tries if t.state is State.TRADE]
        steps = steps_of(members)
        return Recommendation(
            id=f"recommend-{min(f.id for f in members)}",
            title=capital(self._title(members)),
            why=first.why,
            cause=rule.cause.words if len(members) > 1 else "",
            findings=[f.id for f in members],
            rules=list(dict.fromkeys(f.rule for f in members)),
            steps=steps,
            passes=passes_of(self._case, steps),
            gpu=gpu,
            cpu=cpu,
            effort=str(rule.effort),
            price=first.price,
            risk=next((f.kept_rule.risk for f in members if f.kept_rule.risk), _risk_of(state)),
            conditions=first.conditions,
            how=[f"{f.title}." for f in members],
            state=state,
            section=self._section(state, rule.side, gpu, cpu),
            tries=tries,
            own_ms=sum(self._own_ms(f) for f in deciding) if state in (State.PROVED, State.UNTRIED) else 0.0,
            open_gpu=open_gpu.ms if open_gpu else 0.0,
            open_cpu=open_cpu.ms if open_cpu else 0.0,
            less_bytes=sum(max(f.less_bytes, 0) for f in members),
            pixels=max((t.pixels for t in trades), default=0),
            visible=max((t.visible for t in trades), default=0),
            largest=max((t.largest for t in trades), default=0),
        )

    def _title(self, members: list[Finding]) -> str:
        if len(members) > 1:
            return members[0].kept_rule.cause.title(self._case, members)
        # a title that begins with its pass has the pass at its end here
        (only,) = members
        for index in passes_of(self._case, only.steps):
            name = self._case.names[index]
            if only.title.startswith(f"{name}: "):
                return f"{capital(only.title.removeprefix(f'{name}: '))} ({name})"
        return only.title

    def _own_ms(self, finding: Finding) -> float:
        if finding.kept_rule.leaves_out:
            return self._case.own_time_of(finding.steps)
        return finding.facts.own_ms * self._case.own_scale

    def _section(self, state: State, side: Side, gpu: Gain | None, cpu: Gain | None) -> Section:
        saved = max(gpu.ms if gpu else 0.0, cpu.ms if cpu else 0.0)
        if side is Side.MEMORY and (state is not State.PROVED or saved < SMALL_SHARE * self._frame_ms):
            return Section.MEMORY
        if state is State.TRADE:
            return Section.QUALITY
        if state in (State.PROVED, State.UNTRIED, State.UNCLEAR, State.COUNTED):
            return Section.TIME
        # advice that nothing can be tried of stays where it promises something
        return Section.TIME if state is State.REFUSED and saved > 0 else Section.NOTHING

    # ---- gains ----------------------------------------------------------------------------------------

    def _gains(self, members: Sequence[Finding], state: State) -> tuple[Gain | None, Gain | None]:
        """Of the GPU and of submission: what steps bring that several members have counts once, and nobody brings more
        than what is there.
        """
        ledger = Ledger(self._case, self._frame_ms or float("inf"), self._case.submit_ms or float("inf"))
        gpu: list[Gain] = []
        cpu: list[Gain] = []
        for finding in members:
            found = self._tries.get(finding.id)
            if state in (State.PROVED, State.TRADE) and found is not None:
                on_gpu, on_cpu = found.gpu, found.cpu
            elif state in (State.UNTRIED, State.REFUSED):
                on_gpu, on_cpu = self._expected(finding)
            else:
                continue
            for side, gain, into in ((ledger.gpu, on_gpu, gpu), (ledger.cpu, on_cpu, cpu)):
                if gain is not None and gain.ms > 0:
                    part = side.take(finding.steps, gain.ms) / gain.ms if not gain.proved or len(members) > 1 else 1.0
                    into.append(Gain(gain.ms * part, gain.low * part, gain.high * part, gain.proved))
        return _sum(gpu), _sum(cpu)

    def _expected(self, finding: Finding) -> tuple[Gain | None, Gain | None]:
        rule = finding.kept_rule
        known = self._estimated(rule.name, finding.estimate_ms or 0.0, 1.0)
        if rule.side is Side.CPU:
            return None, known
        name = cpu_rule(rule.name)
        factor = self._known[name].factor if name in self._known else 1.0
        return known, self._estimated(name, finding.facts.submit_ms, factor)

    def _estimated(self, rule: str, ms: float, factor: float) -> Gain | None:
        if ms <= 0:
            return None
        item = self._known.get(rule)
        low, high = (item.low, item.high) if item is not None else (0.5, 2.0)
        return Gain(ms * factor, ms * factor * low, ms * factor * high, False)

    # ---- the list -------------------------------------------------------------------------------------

    def _fold(self, found: list[Recommendation]) -> None:
        """Say which are below the fold, and why."""
        gone: set[int] = set()
        shown: dict[Section, int] = {}
        for item in found:
            mine = set(item.steps)
            parts = {t.part_of for t in item.tries} - {""}
            if parts and all(t.part_of for t in item.tries) and len(item.tries) == len(item.findings):
                item.small, item.fold = True, "tried as a part of the plan of all draws"
            elif mine and item.section is Section.TIME and len(mine & gone) >= _MOSTLY * len(mine):
                item.small, item.fold = True, "its steps go with a larger recommendation"
            elif item.section is Section.NOTHING:
                item.small, item.fold = True, _nothing(item)
            elif (
                item.section is Section.TIME and item.state in (State.UNTRIED, State.REFUSED) and self._too_small(item)
            ):
                item.small, item.fold = True, "a small gain at most"
            elif shown.get(item.section, 0) >= MOST_SHOWN:
                item.small, item.fold = True, "larger gains come first"
            if not item.small:
                shown[item.section] = shown.get(item.section, 0) + 1
                if leaves_out(item) and item.state in (State.PROVED, State.UNTRIED):
                    gone |= mine

    def _too_small(self, item: Recommendation) -> bool:
        """Whether even what its range allows is not worth a row."""
        high = max((g.high for g in (item.gpu, item.cpu) if g is not None), default=0.0)
        return max(high, item.own_ms) < SMALL_SHARE * self._frame_ms

    @staticmethod
    def _exclude(found: list[Recommendation]) -> None:
        """Recommendations that want the same steps in another way."""
        for number, item in enumerate(found):
            mine = set(item.steps)
            for other in found[number + 1 :]:
                if mine & set(other.steps) and _clash(item, other):
                    item.excludes.append(other.id)
                    other.excludes.append(item.id)


_MOSTLY = 0.8
"""Of its steps: what a larger recommendation leaves out needs no change of its own."""


def _known_try(finding: Finding, tried: Tried) -> Try | None:
    found = tried(finding)
    if found is None and finding.remedy is None:
        state = State.COUNTED if finding.kept_rule.verify is Verify.COUNTED else State.REFUSED
        return Try(finding.id, finding.title, state, finding.refused)
    return found


def _rank(item: Recommendation) -> tuple[int, int, float, str]:
    """Sections in their order; in one, what is proved before what is not; the largest gain first. Trades go by time
    for each visible pixel, memory by bytes.
    """
    section = list(Section).index(item.section)
    if item.section is Section.QUALITY:
        return section, 0, -item.gain / (item.visible + 1), item.id
    if item.section is Section.MEMORY:
        return section, 0, -float(item.less_bytes), item.id
    return section, 0 if item.state is State.PROVED else 1, -item.gain, item.id


def _nothing(item: Recommendation) -> str:
    """Why it brings nothing, by its first try."""
    return item.tries[0].words if item.tries else str(item.state)


def _sum(gains: Sequence[Gain]) -> Gain | None:
    if not gains or sum(g.ms for g in gains) <= 0:
        return None
    return Gain(
        sum(g.ms for g in gains), sum(g.low for g in gains), sum(g.high for g in gains), all(g.proved for g in gains)
    )


def leaves_out(item: Recommendation) -> bool:
    """Whether it leaves its steps out."""
    return any(rule_named(rule).leaves_out for rule in item.rules)


def _joins(item: Recommendation) -> bool:
    return any(rule_named(rule).joins_draws for rule in item.rules)


def _risk_of(state: State) -> str:
    return {
        State.PROVED: "low: the changed frame gives the same picture",
        State.TRADE: "the picture changes: look at it",
        State.REFUSED: "not tried here: compare the picture",
        State.UNTRIED: "not proved yet",
    }.get(state, "")


def _clash(a: Recommendation, b: Recommendation) -> bool:
    """Whether both change how the same steps are drawn: one of them leaves them out, or both draw them together."""
    return leaves_out(a) != leaves_out(b) or (_joins(a) and _joins(b))


def gain_words(item: Recommendation) -> str:
    """What it brings, in a few words: time, or memory where that is all."""
    if item.gain > 0:
        proved = (item.gpu or item.cpu) is not None and all(g.proved for g in (item.gpu, item.cpu) if g)
        return f"{'' if proved else '~'}{three_digits(item.gain)} ms"
    return f"{memory(item.less_bytes)} less" if item.less_bytes > 0 else ""
