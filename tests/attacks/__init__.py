"""Attacks on files, targets and sockets: what a tenth of is tried in every test run, and `tools/attack.py` tries as
often as is asked for.

Each attack counts what became of its tries. `Tally.harm` names every try that ended as none may.
"""

from __future__ import annotations

import contextlib
import time
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, field

from wendascope.errors import WendascopeError


@dataclass
class Try:
    """One try. `error` is what was told, empty where nothing went wrong."""

    error: str = ""


@dataclass
class Tally:
    """What became of the tries of one attack."""

    outcomes: Counter[str] = field(default_factory=Counter)
    harm: list[str] = field(default_factory=list)

    def note(self, outcome: str) -> None:
        self.outcomes[outcome] += 1

    def harmed(self, what: str) -> None:
        self.outcomes["harm"] += 1
        self.harm.append(what)

    @contextlib.contextmanager
    def trying(self, what: str, told: str, slowest: float, foreign: str = "") -> Iterator[Try]:
        """One try: what the block does must end in time, and go well or raise one error of ours in one line, which
        counts as `told`.

        An error that contains `foreign` is one that only looks like ours.
        """
        this, began = Try(), time.monotonic()
        try:
            yield this
        except WendascopeError as error:
            this.error = str(error)
            if "\n" in this.error or (foreign and foreign in this.error):
                self.harmed(f"{what}: {this.error}")
            else:
                self.note(told)
        except BaseException as error:
            this.error = f"{type(error).__name__}: {error}"
            self.harmed(f"{what}: {this.error}")
        if time.monotonic() - began > slowest:
            self.harmed(f"{what}: took {time.monotonic() - began:.0f} s")

    @property
    def tries(self) -> int:
        return sum(self.outcomes.values())

    def __str__(self) -> str:
        parts = ", ".join(f"{count:,} {what}" for what, count in self.outcomes.most_common())
        return f"{self.tries:,} tries: {parts}"
