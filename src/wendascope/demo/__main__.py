"""`python -m wendascope.demo`: draws the depot until it is closed, or for a number of frames."""

from __future__ import annotations

import argparse
import time
from collections.abc import Callable
from functools import partial

from wendascope.demo.flaws import FLAWS, WORSE, parse_better, parse_worse
from wendascope.demo.surface import has_display, open_surface
from wendascope.errors import MachineError

_SIZES = {"depot": "1280x720", "signal-box": "640x360", "platform": "800x450", "store": "640x360"}
"""What can be drawn, and how large it is."""


def main() -> int:
    """Draw until the window is closed; returns the exit code."""
    known = ", ".join(f"{size} of the {view}" for view, size in _SIZES.items())
    parser = argparse.ArgumentParser(
        prog="wendascope.demo", description="A tram depot on a rainy night, drawn in a naive way."
    )
    parser.add_argument(
        "--better",
        default="",
        metavar="LIST",
        help="flaws to switch off, separated by commas, or all: " + ", ".join(FLAWS),
    )
    parser.add_argument("--flaws", default="", metavar="LIST", help="further flaws to switch on: " + ", ".join(WORSE))
    parser.add_argument("--view", choices=tuple(_SIZES), default="depot", help="what is drawn")
    parser.add_argument("--frames", type=int, default=0, help="stop after this many frames; 0 draws until closed")
    parser.add_argument(
        "--size",
        default="",
        help=f"width x height; else {known}",
    )
    parser.add_argument("--off-screen", action="store_true", help="draw into a pbuffer even where there is a display")
    parser.add_argument("--times", action="store_true", help="print the median frame time at the end")
    options = parser.parse_args()
    try:
        better, worse = parse_better(options.better), parse_worse(options.flaws)
        size = options.size or _SIZES[options.view]
        width, height = (int(n) for n in size.split("x"))
        if min(width, height) < 1:
            raise ValueError(f"{size} holds no pixel")
    except ValueError as error:
        parser.error(str(error))
    try:
        surface = open_surface(width, height, "Tram depot", has_display() and not options.off_screen)
    except MachineError as error:
        parser.exit(error.exit_code, f"{error}\n")
    from wendascope.demo.depot import Depot
    from wendascope.demo.platform import Platform
    from wendascope.demo.signal_box import SignalBox
    from wendascope.demo.store import StoreRoom

    views: dict[str, Callable[[int, int, frozenset[str]], Depot | SignalBox | Platform | StoreRoom]] = {
        "depot": Depot,
        "signal-box": SignalBox,
        "platform": Platform,
        "store": partial(StoreRoom, worse=worse),
    }
    scene = views[options.view](width, height, better)
    frame, times = 0, []
    while not surface.closed() and (options.frames == 0 or frame < options.frames):
        started = time.perf_counter()
        scene.draw(frame)
        surface.swap()
        times.append(time.perf_counter() - started)
        frame += 1
    if options.times:
        kept = sorted(times[5:] or times)
        print(f"{1000 * kept[len(kept) // 2]:.3f} ms a frame")
    surface.close()
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
