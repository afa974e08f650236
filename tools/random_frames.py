"""Captures random frames and holds every claim about them against a model: `python tools/random_frames.py 1000`.

Prints what was claimed, by kind, and every false claim; exits 1 when there is any. See `tests/known/_claims.py`.
"""

from __future__ import annotations

import argparse
import sys
import tempfile
from collections import Counter
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent))


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("frames", type=int, nargs="?", default=1000)
    parser.add_argument("--sequences", action="store_true", help="sequences of three frames each, instead of frames")
    parser.add_argument("--first", type=int, default=0, help="the first seed")
    arguments = parser.parse_args()

    from PySide6 import QtGui  # noqa: F401  (brings the GL library in before the language binding does)

    from tests.known._claims import check, check_sequence
    from tests.known._looking import Gallery

    claims: Counter[str] = Counter()
    false: list[str] = []
    with tempfile.TemporaryDirectory() as folder:
        gallery = Gallery(Path(folder), settled=32)
        try:
            for number in range(arguments.frames):
                seed = arguments.first + number
                if arguments.sequences:
                    report = check_sequence(seed, [gallery.take(f"sequence:{seed}", odd=k) for k in range(3)])
                else:
                    report = check(seed, gallery.take(f"random:{seed}"))
                claims.update(report.claims)
                for line in report.false:
                    print(f"FALSE: {line}", flush=True)
                false += report.false
                if number % 50 == 49:
                    print(f"{number + 1} frames: {dict(sorted(claims.items()))}, {len(false)} false", flush=True)
        finally:
            gallery.close()
    print(f"{arguments.frames} frames, {len(false)} false claims: {dict(sorted(claims.items()))}")
    return 1 if false else 0


if __name__ == "__main__":
    sys.exit(main())
