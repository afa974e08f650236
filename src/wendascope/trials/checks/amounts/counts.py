"""Counts of a frame's calls and steps, and what it keeps: no driver is needed for them."""

from __future__ import annotations

import numpy as np

from wendascope.analysis.memory.sums import total
from wendascope.frame.call_use import NO_STATE, STEP
from wendascope.frame.steps import KINDS
from wendascope.trials.checks.amounts._registry import How, Known, amount
from wendascope.trials.checks.scopes import Scope


def _of_kind(known: Known, scope: Scope, kind: str) -> float:
    return float((np.asarray(known.frame.steps.kind)[scope.steps] == KINDS.index(kind)).sum())


@amount("draws", How.COUNTED)
def draws(known: Known, scope: Scope) -> float:
    """Draw calls."""
    return _of_kind(known, scope, "draw")


@amount("steps", How.COUNTED)
def steps(_known: Known, scope: Scope) -> float:
    """Draws, clears, dispatches, blits and copies."""
    return float(len(scope.steps))


@amount("passes", How.COUNTED)
def passes(known: Known, scope: Scope) -> float:
    """Passes that any of its steps is in."""
    return float(len(np.unique(np.asarray(known.frame.passes.of_step)[scope.steps])))


@amount("calls", How.COUNTED)
def calls(known: Known, scope: Scope) -> float:
    """Calls of the graphics API."""
    return float(scope.calls(known.frame).sum())


@amount("state calls", How.COUNTED)
def state_calls(known: Known, scope: Scope) -> float:
    """Calls that set state."""
    setting = (known.use.use != NO_STATE) & (known.use.use != STEP)
    return float((setting & scope.calls(known.frame)).sum())


@amount("redundant state calls", How.COUNTED)
def redundant(known: Known, scope: Scope) -> float:
    """Calls that set what is set already, or what nothing uses."""
    return float((known.use.redundant & scope.calls(known.frame)).sum())


@amount("triangles", How.COUNTED)
def triangles(known: Known, scope: Scope) -> float:
    """Triangles submitted, instances included."""
    return float(np.asarray(known.frame.steps.triangles)[scope.steps].sum())


@amount("vertices", How.COUNTED)
def vertices(known: Known, scope: Scope) -> float:
    """Vertices submitted, instances included."""
    return float(np.asarray(known.frame.steps.vertices)[scope.steps].sum())


@amount("uploads", How.COUNTED, unit="bytes", whole_only=True)
def uploads(known: Known, _scope: Scope) -> float:
    """Bytes handed over for textures and buffers."""
    return float(sum(work.bytes for work in known.frame.side_work))


@amount("memory", How.COUNTED, unit="bytes", whole_only=True)
def memory(known: Known, _scope: Scope) -> float:
    """Bytes of textures, targets and buffers, by their formats."""
    return float(total(known.frame.memory))


@amount("programs", How.COUNTED)
def programs(known: Known, scope: Scope) -> float:
    """Programs that draw or dispatch."""
    used = np.unique(np.asarray(known.frame.steps.program)[scope.steps])
    return float((used > 0).sum())
