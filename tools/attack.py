"""Attacks files, targets and sockets, and counts what was survived: `python tools/attack.py [words...] [--share 1.0]`.

Only attacks whose name contains one of the words; `--share` of the tries that make up the whole (the test run does
0.1). Exits 1 when anything was harmed. See `tests/attacks/`.
"""

from __future__ import annotations

import argparse
import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent))


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("words", nargs="*")
    parser.add_argument("--share", type=float, default=1.0)
    arguments = parser.parse_args()

    from tests.attacks.everything import ATTACKS, captured

    harmed = 0
    with tempfile.TemporaryDirectory() as folder:
        files = captured(Path(folder))
        for name, (tries, attack) in ATTACKS.items():
            if arguments.words and not any(word in name for word in arguments.words):
                continue
            began = time.monotonic()
            own = Path(folder) / name.replace(" ", "-").replace(",", "")
            own.mkdir()
            tally = attack(max(1, round(tries * arguments.share)), own, files)
            print(f"{name}: {tally} ({time.monotonic() - began:.0f} s)", flush=True)
            for line in tally.harm:
                print(f"  HARM: {line}", flush=True)
            harmed += len(tally.harm)
    return 1 if harmed else 0


if __name__ == "__main__":
    sys.exit(main())
