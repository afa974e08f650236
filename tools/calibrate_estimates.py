"""Compares what findings were estimated to bring with what their proofs showed, over surveyed and proved frames.

    python tools/calibrate_estimates.py [--write] FILE.wend...

Prints a table by rule: how many pairs, the median of proved over estimated, and how many lie within a factor of two,
before and after the correction. With `--write`, keeps the pairs for the tests, and the corrections that estimates are
multiplied by from then on.
"""

from __future__ import annotations

import json
import sys
from pathlib import Path

from wendascope.analysis.estimates import Correction, correction_of, corrections, within_two
from wendascope.files import write_atomically
from wendascope.trials.examine import stored_examination
from wendascope.trials.proof import stored_proofs
from wendascope.trials.verdicts import SHOWN

ROOT = Path(__file__).parent.parent
PAIRS = ROOT / "tests" / "estimates.json"
CORRECTIONS = ROOT / "src" / "wendascope" / "analysis" / "estimates.toml"


def pairs_of(path: Path) -> list[tuple[str, str, float, float]]:
    """(program, rule, estimated without correction, proved) of what was estimated and decided, in ms."""
    _, findings = stored_examination(path)
    proofs, found = stored_proofs(path), []
    for item in findings:
        proof = proofs.get(item.id)
        if proof is not None and item.estimate_ms and proof.verdict in SHOWN:
            plain = item.estimate_ms / item.corrected_by
            found.append((path.stem, item.rule, round(plain, 4), round(max(proof.gain_ms or 0.0, 0.0), 4)))
    return found


def main() -> None:
    files = [Path(word) for word in sys.argv[1:] if word.endswith(".wend")]
    pairs = [pair for path in files for pair in pairs_of(path)] or [tuple(p) for p in json.loads(PAIRS.read_text())]
    rules = sorted({pair[1] for pair in pairs})
    made: dict[str, Correction] = {}
    print(f"{'rule':<24} {'pairs':>5} {'median':>7} {'within 2x':>10} {'corrected':>10}")
    for rule in rules:
        mine = [(estimated, proved) for _, of, estimated, proved in pairs if of == rule]
        made[rule] = correction_of(mine)
        ratios = sorted(proved / estimated for estimated, proved in mine)
        before = sum(within_two(estimated, proved) for estimated, proved in mine)
        after = sum(within_two(estimated * made[rule].factor, proved) for estimated, proved in mine)
        middle = ratios[len(ratios) // 2]
        print(f"{rule:<24} {len(mine):>5} {middle:>7.2f} {before:>10} {after:>10}")
    if "--write" in sys.argv[1:]:
        lines = [
            "# Proved over estimated gains by rule, from `tools/calibrate_estimates.py`. Estimates are multiplied by"
        ]
        lines += ["# `factor`; `low` and `high` are the range of what is proved, over the estimate so corrected.", ""]
        for rule, item in made.items():
            lines += [
                f"[{rule}]",
                f"pairs = {item.pairs}",
                f"factor = {item.factor}",
                f"low = {item.low}",
                f"high = {item.high}",
                "",
            ]
        write_atomically(CORRECTIONS, lambda scratch: scratch.write_text("\n".join(lines)))
        text = "[\n" + ",\n".join(json.dumps(pair) for pair in pairs) + "\n]\n"
        write_atomically(PAIRS, lambda scratch: scratch.write_text(text))
        corrections.cache_clear()


if __name__ == "__main__":
    main()
