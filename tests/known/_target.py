"""Draws one known-answer program after the other, each in a context of its own, as an order file says."""

from __future__ import annotations

import functools
import sys
import time
from collections.abc import Callable
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent.parent))

from tests.known import _draw  # noqa: F401  (tells the GL binding how to behave before it is imported)
from tests.known._case import Draw, all_cases


def main(order: Path, answer: Path) -> None:
    import _running
    from OpenGL import GL

    from tests.known import _random_frames, _state_changes

    cases = all_cases()
    context, draw, name, stamp, number, swaps = None, None, "", 0, 0, 0
    while True:
        now = order.stat().st_mtime_ns
        if now != stamp:
            wanted = order.read_text()
            stamp = now
            if wanted and wanted != name:
                if context is not None:
                    context.close()
                name, number = wanted, 0
                fences: list[object] = []
                make: Callable[[], Draw]
                kind, _, rest = name.partition(":")
                if kind == "random":
                    profile, make = "core", functools.partial(_random_frames.program, int(rest))
                elif kind == "sequence":
                    profile, make = "core", functools.partial(_random_frames.program, int(rest), sequence=True)
                elif kind == "state":
                    profile = _state_changes.DEPENDS[rest].profile
                    make = functools.partial(_state_changes.program, rest)
                else:
                    profile, make = cases[name].profile, cases[name].make
                context = getattr(_running, profile)()
                draw = make()
                answer.write_text(f"{name} {swaps}")
        assert draw is not None and context is not None
        draw(number)
        # as programs do that let the GPU lag behind by one frame: this surface never waits by itself
        fences.append(GL.glFenceSync(GL.GL_SYNC_GPU_COMMANDS_COMPLETE, 0))
        context.swap()
        number += 1
        swaps += 1
        if len(fences) > 1:
            oldest = fences.pop(0)
            GL.glClientWaitSync(oldest, GL.GL_SYNC_FLUSH_COMMANDS_BIT, 10**9)
            GL.glDeleteSync(oldest)
        if ":" in name:
            time.sleep(0.002)  # nothing looks at its pace, and it need not keep a processor busy


if __name__ == "__main__":
    main(Path(sys.argv[1]), Path(sys.argv[2]))
