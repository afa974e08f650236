"""Gathers what remedies do to a frame, so that several can be tried as one edited frame."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import msgspec
import numpy as np
import numpy.typing as npt

from wendascope.backends.doors import Code
from wendascope.backends.edit import Edit, Insertion
from wendascope.backends.opengl.calls.packed import CallBatch
from wendascope.backends.opengl.changes.batching import BatchPlan, NewObjects, plan_batch
from wendascope.backends.opengl.changes.painting import painted_step
from wendascope.backends.opengl.changes.reorder import Planned, reordered
from wendascope.backends.opengl.frame import OpenGLFrame
from wendascope.backends.opengl.objects.compiled import compiled_program
from wendascope.backends.opengl.objects.records import Objects, ProgramRecord
from wendascope.backends.opengl.running.edit import own_calls
from wendascope.backends.opengl.running.span_start import step_calls
from wendascope.discovery import import_all
from wendascope.errors import TrialError
from wendascope.frame.call_use import OVERWRITTEN, REPEATS, CallUse
from wendascope.frame.remedy import Part, Remedy
from wendascope.registry import Role, tables
from wendascope.registry.numbers import HEADER_WORDS


@dataclass
class FrameChange:
    """See `doors.Changes`. Remedies write into it; `edit` makes one edited frame of it."""

    frame: OpenGLFrame
    dropped: set[int] = field(default_factory=set)
    """Steps left out."""
    orders: list[list[int]] = field(default_factory=list)
    """Runs of steps in the order in which they are to come."""
    replaced: dict[int, CallBatch] = field(default_factory=dict)
    """Call -> calls in its place."""
    before: dict[int, CallBatch] = field(default_factory=dict)
    """Step -> calls put before it."""
    after: dict[int, CallBatch] = field(default_factory=dict)
    """Step -> calls put right after it, which count as a part of it."""
    sequences: list[list[int]] = field(default_factory=list)
    """Runs of steps in an order that batches are a part of."""
    redundant: set[int] = field(default_factory=set)
    """Uses (REPEATS, OVERWRITTEN) of which every call is left out."""
    batches: list[Part] = field(default_factory=list)
    """(how, steps) to be drawn together."""
    plans: list[BatchPlan] = field(default_factory=list)
    """What the batches came to, once `edit` was called."""
    painted: bool = False
    """Whether steps that are said to be unseen are drawn in other colours, in place of being left out: to see
    whether anybody sees them.
    """
    kept: set[tuple[str, int]] = field(default_factory=set)
    """(kind, name) of images that have to hold their result from the beginning: that of the frame before."""
    earlier: dict[tuple[str, int], int] = field(default_factory=dict)
    """The same of images that hold what they held so many frames before: (kind, name) -> how many."""
    space: int = 0
    """Changes whose objects are there at the same time have different numbers."""
    left_out: list[str] = field(default_factory=list)
    """Batches among others that cannot be drawn here, each with the reason."""

    def __post_init__(self) -> None:
        self.new = NewObjects(self.frame, space=self.space)
        self.first = CallBatch()
        """Calls before all others."""
        self.insertions: list[Insertion] = []
        """Calls at places of their own, whatever becomes of the steps there."""
        self.unrenamed: list[Insertion] = []
        """Of those, what names objects of the frame whatever takes their place."""
        self.prime_without: set[int] = set()
        """Steps left out of a run ahead of all others, in which what stays from frame to frame is drawn."""
        self.prime_insertions: list[Insertion] = []
        """Calls put into that run; without any, there is none."""
        self.added_steps = 0
        self.added_bytes = 0
        """Graphics memory of what remedies other than batches bring in."""
        self._renamed: dict[tuple[str, int], int] = {}
        self._paints: dict[int, tuple[CallBatch, CallBatch]] = {}
        self.leaves_out = True
        """Whether anything is not drawn, cleared or set any more, by what `edit` was asked for: then what the frame
        left before may come through. Steps that are drawn together, in another order or by other programs are not.
        """

    def program(self, name: int) -> ProgramRecord:
        """A program as the remedies so far have made it, with what of its sources is compiled. Raises TrialError when
        there is none of that name.
        """
        record = self.new.changed_programs.get(name) or self.frame.objects.program(name)
        if record is None:
            raise TrialError(
                f"the frame has no program {name}" if name else "it is drawn without shaders, which this needs"
            )
        return compiled_program(record, self.frame.context.dialect)

    def replace_program(self, name: int, record: ProgramRecord) -> None:
        """Draw with another program wherever the frame draws with this one."""
        self.new.changed_programs[name] = record

    def rename(self, class_name: str, old: int, new: int) -> None:
        """Let every call of the frame that names one object name another."""
        self._renamed[class_name, old] = new

    def renames(self, class_name: str, name: int) -> bool:
        """Whether calls that name an object name another by now."""
        return (class_name, name) in self._renamed

    def enclose(self, step: int, before: CallBatch, after: CallBatch) -> None:
        """Put calls round a step. Raises TrialError where another remedy has done so."""
        if step in self.before or step in self.after:
            raise TrialError("two remedies change the same step")
        self.before[step], self.after[step] = before, after

    def put_in_place(self, call: int, batch: CallBatch) -> None:
        """Put calls in the place of one. Raises TrialError where another remedy has done so."""
        if call in self.replaced:
            raise TrialError("two remedies change the same step")
        self.replaced[call] = batch

    def apply(self, item: Remedy) -> None:
        import_all("wendascope.backends.opengl.changes.remedies")
        if item.kind not in _lowered:
            raise TrialError(f"{item.kind} is not known of frames of {self.frame.context.api}")
        _lowered[item.kind](self, item)

    def leave_out(self, step: int, painted: bool = False) -> None:
        """Drop a step; where steps are painted instead, have it write other colours, unless another remedy changes or
        moves it.
        """
        paint = painted_step(self.frame, step) if self.painted and painted else None
        if paint is not None:
            self._paints[step] = paint
        else:
            self.dropped.add(step)

    def _paint(self) -> None:
        taken = (
            {s for order in self.orders for s in order}
            | {s for part in self.batches for s in part.steps}
            | set(self.before)
            | set(self.after)
            | {s for s in self._paints if int(self.frame.steps.call[s]) in self.replaced}
        )
        for step, paint in self._paints.items():
            if step in taken or step in self.dropped:
                self.dropped.add(step)
            else:
                self.enclose(step, *paint)

    def edit(self) -> Edit:
        """Raises TrialError, saying what stands in the way."""
        frame, steps = self.frame, self.frame.steps
        self.leaves_out = bool(
            self.dropped or self._paints or self.redundant or self.replaced or self.before or self.after
        )
        self._paint()
        self._replace_programs()
        self._rename_in_calls()
        drop = np.zeros(len(frame.calls), bool)
        insertions = []
        self._plan_batches()
        ordered: set[int] = set()
        for order in self.sequences:
            if ordered & set(order):
                raise TrialError("two remedies want the same steps in different orders")
            ordered |= set(order)
            insertion, (first, end) = self._sequence(order)
            drop[first:end] = True
            insertions.append(insertion)
        for order in self.orders:
            kept = [step for step in order if step not in self.dropped]
            if ordered & set(order):
                raise TrialError("two remedies want the same steps in different orders")
            ordered |= set(order)
            if any(step in self.before or step in self.after for step in kept) or any(
                set(order) & set(plan.steps) for plan in self.plans
            ):
                raise TrialError("one remedy moves a step that another changes")
            region, batch = reordered(frame, sorted(order), [(step, None) for step in kept], self.new.known_contents())
            drop[region[0] : region[1]] = True
            insertions.append(Insertion(region[0], batch))
        for step in self.dropped - ordered:
            first, end = step_calls(frame, step)
            drop[first:end] = True
        for step, batch in self.before.items():
            if step not in self.dropped:
                insertions.append(Insertion(int(steps.begin[step]), batch))
        for step, batch in self.after.items():
            if step not in self.dropped:
                self._append(int(steps.call[step]), batch)
        # before what is replaced: a call that is redundant is so under another name as well, and what it needs is gone
        # with it
        drop |= self._scrambled(self._redundant()) if self.painted else self._redundant().redundant
        for call, batch in self.replaced.items():
            if not drop[call]:
                drop[call] = True
                insertions.append(Insertion(call, batch))
        if self.first.starts:
            insertions.append(Insertion(0, self.first))
        insertions += self.insertions
        for insertion in insertions:
            self._rename_in(own_calls(insertion.calls))
        return Edit([*insertions, *self.unrenamed], drop)

    @property
    def prime(self) -> Edit | None:
        """What has to be run once, ahead of the edited frame; None where nothing stays from it."""
        if not self.prime_insertions:
            return None
        drop = np.zeros(len(self.frame.calls), bool)
        for step in self.prime_without:
            first, end = step_calls(self.frame, step)
            drop[first:end] = True
        return Edit(self.prime_insertions, drop)

    def _sequence(self, order: list[int]) -> tuple[Insertion, tuple[int, int]]:
        """The calls of a run of steps in another order, with the batches among them, and the calls they replace.

        Raises TrialError.
        """
        members = set(order)
        plan_of = {step: plan for plan in self.plans for step in plan.steps if step in members}
        if (set(self.before) | set(self.after)) & members:
            raise TrialError("one remedy moves a step that another changes")
        run = sorted(order)
        first, last = 0, len(run)
        changed = plan_of.keys() | self.dropped
        while last - first > 1 and order[first] == run[first] and run[first] not in changed:
            first += 1
        while last - first > 1 and order[last - 1] == run[last - 1] and run[last - 1] not in changed:
            last -= 1
        items: list[Planned] = []
        for step in order[first:last]:
            plan = plan_of.get(step)
            if plan is None:
                if step not in self.dropped:
                    items.append((step, None))
            elif step == plan.steps[-1]:
                items.append((step, plan.calls))
        region, batch = reordered(self.frame, run[first:last], items, self.new.known_contents())
        return Insertion(region[0], batch), region

    def _append(self, call: int, batch: CallBatch) -> None:
        """Put calls after a captured one, in its place with it."""
        whole = CallBatch()
        whole.copy(self.frame.calls, call)
        whole.append(batch)
        self.put_in_place(call, whole)

    @property
    def steps_after(self) -> int:
        """How many steps the edited frame has."""
        ends = set(self.frame.steps.call.tolist())
        emptied = sum(not batch.starts for call, batch in self.replaced.items() if call in ends)
        return len(self.frame.steps) - len(self.dropped) - emptied + self.added_steps

    @property
    def new_bytes(self) -> int:
        """Graphics memory of what is brought in."""
        return sum(plan.new_bytes for plan in self.plans) + self.added_bytes

    @property
    def brought_in(self) -> Objects:
        return self.new.objects

    @property
    def brings_in(self) -> bool:
        made = self.new.objects
        return bool(made.buffers or made.textures or made.programs or made.vertex_arrays or made.framebuffers)

    def changed_sources(self) -> dict[int, list[tuple[int, str]]]:
        changed = self.new.changed_programs
        return {name: [(s.stage, s.source) for s in record.shaders] for name, record in changed.items()}

    def codes(self) -> list[list[Code]]:
        return [plan.code for plan in self.plans]

    def _replace_programs(self) -> None:
        """Bring the changed programs in, and name them in every call that names the old ones."""
        for old, record in self.new.changed_programs.items():
            made = msgspec.structs.replace(
                record, name=self.new.name(), shaders=[msgspec.structs.replace(s, name=0) for s in record.shaders]
            )
            self.new.objects.programs.append(made)
            self.rename("program", old, made.name)
            if self.frame.history.number("program", 0) == old:
                self.first.call("glUseProgram", made.name)

    def _rename_in_calls(self) -> None:
        calls = self.frame.calls
        for command_id in np.unique(calls.ids).tolist():
            for parameter in tables().commands[command_id].parameters:
                if parameter.kind == "pointer" or not any(parameter.object_class == name for name, _ in self._renamed):
                    continue
                rows = np.flatnonzero(calls.ids == command_id)
                column = calls.column(rows, parameter.slot)
                for (class_name, old), new in self._renamed.items():
                    if class_name == parameter.object_class:
                        for call in rows[column == np.uint64(old)].tolist():
                            self._patch(call, parameter.slot, new)

    def _rename_in(self, batch: CallBatch) -> None:
        """Batches and orders put state back as the captured frame has it, by captured names."""
        for start in batch.starts if self._renamed else ():
            for parameter in tables().commands[batch.words[start] & 0xFFFF].parameters:
                if parameter.kind != "pointer":
                    at = start + HEADER_WORDS + parameter.slot
                    batch.words[at] = self._renamed.get(
                        (parameter.object_class or "", batch.words[at]), batch.words[at]
                    )

    def _patch(self, call: int, slot: int, value: int) -> None:
        batch = self.replaced.get(call) or CallBatch()
        if not batch.starts:
            batch.copy(self.frame.calls, call)
        batch.words[HEADER_WORDS + slot] = value
        self.replaced[call] = batch

    def _plan_batches(self) -> None:
        taken: set[int] = set()
        first_error: TrialError | None = None
        for part in self.batches:
            steps = [step for step in part.steps if step not in self.dropped]
            if set(steps) & (taken | set(self.before) | set(self.after)):
                raise TrialError("two remedies change the same step")
            taken |= set(steps)
            if len(steps) < 2:
                continue
            try:
                self.plans.append(plan_batch(self.frame, Part(part.how, steps, part.textures), self.new))
            except TrialError as error:
                self.left_out.append(f"{len(steps)} steps from {steps[0]} on: {error}")
                first_error = first_error or error
        if first_error and not self.plans:
            raise first_error
        moved = {step for order in self.sequences for step in order}
        for plan in self.plans:
            inside = set(plan.steps) & moved
            if inside and inside != set(plan.steps):
                raise TrialError("two remedies want the same steps in different orders")
            self.dropped |= set(plan.steps[:-1])
            if not inside:
                self.replaced[int(self.frame.steps.call[plan.steps[-1]])] = plan.calls

    def _redundant(self) -> CallUse:
        """Calls that are to be left out, and those that only served steps which batches took in."""
        frame = self.frame
        served = np.zeros(len(frame.calls), bool)
        for plan in self.plans:
            for step in plan.steps[:-1]:
                served[int(frame.steps.call[step - 1]) + 1 if step else 0 : int(frame.steps.call[step])] = True
        alive = np.ones(len(frame.steps), bool)
        alive[list(self.dropped)] = False
        if not self.redundant and not self.plans:
            return CallUse.nothing(len(frame.calls))
        everything = np.ones(len(frame.calls), bool)
        allowed = {use: everything if use in self.redundant else served for use in (REPEATS, OVERWRITTEN)}
        return frame.call_use(alive, allowed)

    def _scrambled(self, found: CallUse) -> npt.NDArray[np.bool_]:
        """Of what is redundant, the calls to drop: those said to be overwritten unused stay where they set numbers,
        and set others.
        """
        drop = found.redundant
        calls = self.frame.calls
        for call in np.flatnonzero(found.use == OVERWRITTEN).tolist():
            command = calls.command(call)
            slots = [p.slot for p in command.parameters if p.kind == "float"]
            if call in self.replaced or not slots or not command.has(Role.SETS_NUMBERS):
                continue
            batch = CallBatch()
            batch.copy(calls, call)
            for number, slot in enumerate(slots):
                batch.words[HEADER_WORDS + slot] = _OTHER_NUMBERS[number % len(_OTHER_NUMBERS)]
            self.replaced[call] = batch
            drop[call] = False
        return drop


_OTHER_NUMBERS = (0x3F2B851F, 0x3E6B851F, 0x3F5C28F6, 0x3EAE147B)
"""0.67, 0.23, 0.86 and 0.34: values that a program hardly sets by chance."""


Apply = Callable[[FrameChange, Remedy], None]
_lowered: dict[str, Apply] = {}


def lowers(name: str) -> Callable[[Apply], Apply]:
    """Register what a kind of remedy does to a frame."""

    def register(apply: Apply) -> Apply:
        _lowered[name] = apply
        return apply

    return register
