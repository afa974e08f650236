"""Programs that a frame links again: each link becomes a program of its own, which the calls after it name.

So nothing has to know that one name meant two programs, and a replay, which runs the frame many times, links nothing.
"""

from __future__ import annotations

import re

import msgspec
import numpy as np

from wendascope.backends.opengl.calls.journal import LINKS, Journal
from wendascope.backends.opengl.calls.packed import CallStream, merge_streams
from wendascope.backends.opengl.objects.records import Objects, ProgramRecord
from wendascope.backends.opengl.state.tracker import InitialState, StateHistory
from wendascope.registry import tables
from wendascope.registry.numbers import HEADER_WORDS

_FIRST = 0x60000000
"""Names of linked-again programs begin here; edits take theirs further up."""
_OWN_DEFAULTS = re.compile(r"\buniform\b[^;{]*=|\bbinding\s*=")
"""Sources whose uniforms or bindings do not start at zero."""


class LinkSettler:
    """Goes over the calls of a frame and then of the frame after it.

    New programs go to `objects.programs` where all is known of them, which is when they are linked from what they
    were linked from before, and to `objects.relinked` else: the replay needs them, and analysis does not know their
    uniforms.
    """

    def __init__(self, journal: Journal, objects: Objects, state: InitialState) -> None:
        self._journal, self._objects, self._state = journal, objects, state
        self._before = {p.name: p for p in objects.programs}
        self._means: dict[int, int] = {}
        """Program -> the one that its name means by now."""
        self._links = 0
        self._earlier: list[CallStream] = []

    def settle(self, calls: CallStream) -> CallStream:
        """The calls with every link of a program from before the frame as a use of a program of its own."""
        links = [(call, record) for call, record in self._journal.follow(calls) if record.name in self._before]
        whole = merge_streams([*self._earlier, calls])
        self._earlier.append(calls)
        if not links and not self._means:
            return calls
        words = calls.words.copy()
        for old, new in self._means.items():
            _rename(calls, words, -1, old, new)
        at_first = len(whole) - len(calls)
        current = StateHistory(whole, self._state).column("program", np.arange(at_first, len(whole)))
        use = np.uint64(tables()["glUseProgram"].id)
        for call, record in links:
            made = msgspec.structs.replace(record, name=_FIRST + self._links)
            self._links += 1
            (self._objects.programs if _fill_in(made, self._before[record.name]) else self._objects.relinked).append(
                made
            )
            _rename(calls, words, call, record.name, made.name)
            self._means[record.name] = made.name
            at = int(calls.offsets[call])
            words[at] = (words[at] & ~np.uint64(0xFFFF)) | use
            in_use = int(current[call])
            words[at + HEADER_WORDS] = self._means.get(in_use, in_use)
        return CallStream(words, calls.arena, calls.offsets)

    @property
    def caveats(self) -> list[str]:
        if not self._links:
            return []
        return [
            f"{len(self._means)} programs are linked again inside the frame; the replay links them before it, so that"
            " linking is not in its times"
        ]


def _fill_in(record: ProgramRecord, before: ProgramRecord) -> bool:
    """Give a program that was linked anew what GL tells of the one before, as it is right after linking; whether
    that is known.
    """
    same = [(s.type, s.source, s.spirv) for s in record.shaders] == [
        (s.type, s.source, s.spirv) for s in before.shaders
    ]
    same &= all(
        getattr(record, setting) == getattr(before, setting)
        for setting in ("outputs", "feedback_varyings", "separable", "binary")
    )
    if not same or any(_OWN_DEFAULTS.search(s.source) or s.spirv for s in record.shaders):
        return False
    record.attributes = before.attributes | record.attributes
    record.uniforms = [msgspec.structs.replace(u, values=bytes(len(u.values))) for u in before.uniforms]
    record.blocks = {block: (index, 0) for block, (index, _) in before.blocks.items()}
    record.storage_blocks = {block: (index, 0) for block, (index, _) in before.storage_blocks.items()}
    return True


def _rename(calls: CallStream, words: np.ndarray, after: int, old: int, new: int) -> None:
    """From a call on, let every call that names the old program name the new one."""
    for command_id in np.unique(calls.ids).tolist():
        command = tables().commands[command_id]
        if command.name in LINKS:
            continue
        for parameter in command.parameters:
            if parameter.object_class == "program" and parameter.kind != "pointer":
                rows = np.flatnonzero(calls.ids == command_id)
                rows = rows[rows > after]
                at = calls.offsets[rows] + HEADER_WORDS + parameter.slot
                words[at[calls.words[at] == np.uint64(old)]] = new
