"""Going through a frame step by step: the frame's calls run in pieces, with calls of our own between them."""

from __future__ import annotations

import numpy as np

from wendascope.backends.edit import Edit
from wendascope.backends.opengl.running.session import ReplaySession


class Walk:
    """One run of a frame from its start. Whoever puts calls between must leave the context as it was."""

    def __init__(self, session: ReplaySession, edit: Edit | None = None) -> None:
        self._session = session
        self._prepared = session.prepare(edit)
        self._owner = self._prepared.owner
        self._at = 0
        session.restore()
        session.drain()

    def run_to(self, call: int) -> None:
        """Run everything before captured call `call`, with what closes the call before (what was inserted before it
        stays to be run).
        """
        end = int(np.searchsorted(self._owner, call))
        self._session.run_part(self._prepared, self._at, end)
        self._at = max(self._at, end)

    def run_step(self, step: int) -> None:
        """Run the calls of a step, which must be next."""
        self.run_to(int(self._session.frame.steps.call[step]) + 1)

    def again(self, step: int) -> None:
        """Run the calls of the step that ran last once more."""
        first = int(np.searchsorted(self._owner, int(self._session.frame.steps.begin[step])))
        self._session.run_part(self._prepared, first, self._at)

    def finish(self) -> None:
        self.run_to(len(self._session.frame.calls) + 1)
