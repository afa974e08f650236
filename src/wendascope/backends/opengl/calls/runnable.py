"""Which captured calls may be run in the replay process: those that only read what the file brings along, and a few
that are listed.

What is not allowed here is left out of every run; no command is run because nobody thought of it.
"""

from __future__ import annotations

import functools

from wendascope.registry import Command, Role, tables
from wendascope.registry.rules import NAMES, READ_ONLY

_OWN = frozenset(
    {"wendaWriteBuffer", "wendaIndirect", "wendaWatchBuffer", "wendaContext", "wendaDrawable", "wendaClientArray"}
)


@functools.cache
def _runs(number: int) -> tuple[bool, bool]:
    command = tables().commands[number]
    if command.name.startswith("wenda"):
        return command.name in _OWN, command.name == "wendaClientArray"
    if command.has(Role.WRITES_CLIENT_MEMORY | Role.MAPS):
        return True, False
    roles = {p.role for p in command.parameters if p.kind == "pointer"}
    harmless = (
        roles <= {*READ_ONLY, NAMES}
        and command.returns not in ("pointer", "opaque")
        and all(p.kind != "opaque" for p in command.parameters)
    )
    return harmless, harmless


def may_run(command: Command) -> bool:
    """Whether a call of the frame may be run."""
    return _runs(command.id)[0]


def may_set_up(command: Command) -> bool:
    """Whether a call that sets up the state before the frame may be run: it answers nothing and writes nowhere."""
    return _runs(command.id)[1]
