"""Compares what findings were estimated to bring with what their proofs showed, over surveyed and proved frames.

    python tools/calibrate_estimates.py [--write] FILE.wend...

Prints a table by rule: how many pairs, the median of proved over estimated, and how many lie within a factor of two,
before and after the correction, and in how many cases the proof's interval allows that; then every recommendation
that was decided. With `--write`, keeps the pairs for the tests, and the corrections that estimates are
multiplied by from then on.
"""

from __future__ import annotations

import json
import sys
from pathlib import Path

from wendascope import records
from wendascope.advice.estimates import Correction, agrees, correction_of, corrections, within_two
from wendascope.advice.recommend import cpu_rule
from wendascope.files import write_atomically
from wendascope.frame.file import load
from wendascope.measure.statistics import Interval
from wendascope.trials.plan import in_frame, recommendations_of, saved_in_frame
from wendascope.trials.proofs.proof import stored_proofs
from wendascope.trials.proofs.verdicts import SHOWN, Verdict
from wendascope.trials.survey.examine import case_of, stored_examination

ROOT = Path(__file__).parent.parent
PAIRS = ROOT / "tests" / "estimates.json"
CORRECTIONS = ROOT / "src" / "wendascope" / "analysis" / "estimates.toml"


Pair = tuple[str, str, float, float, float, float]
"""(program, rule, estimated without correction, proved, and the proof's interval), in ms of the frame as surveyed."""


def pairs_of(path: Path) -> list[Pair]:
    """Of every finding that was estimated and whose proof was decided."""
    _, findings = stored_examination(path)
    survey, proofs, found = records.SURVEY.newest(path), stored_proofs(path), list[Pair]()
    assert survey is not None
    for item in findings:
        proof = proofs.get(item.id)
        if proof is None or not item.estimate_ms or proof.verdict not in SHOWN:
            continue
        gain = in_frame(proof, survey.frame_ms.median, survey.submit_ms.median)
        if gain is not None:
            plain = item.estimate_ms / item.corrected_by
            shown = max(gain.median, 0.0) if proof.verdict == Verdict.SAVES else 0.0
            found.append(_pair(path, item.rule, plain, shown, gain))
        saved = item.facts.submit_ms
        submitted = saved_in_frame(proof.submit_saved_ms, proof.submit_ms_before, survey.submit_ms.median)
        if isinstance(saved, float) and saved > 0 and submitted is not None:
            shown = max(submitted.median, 0.0) if proof.submission_verdict == Verdict.SAVES or proof.side else 0.0
            found.append(_pair(path, cpu_rule(item.rule), saved, shown, submitted))
    return found


def _pair(path: Path, rule: str, estimated: float, proved: float, gain: Interval) -> Pair:
    return path.stem, rule, round(estimated, 4), round(proved, 4), round(gain.low, 4), round(gain.high, 4)


def recommended(path: Path) -> list[tuple[str, float, float, float, float]]:
    """(title, estimated, proved, and its interval) of every recommendation above the fold all of whose findings were
    decided, estimated as if nothing had been proved.
    """
    drawn, findings = stored_examination(path)
    survey, proofs, found = records.SURVEY.newest(path), stored_proofs(path), []
    assert survey is not None
    for item in recommendations_of(case_of(load(path), drawn, survey), findings, {}):
        members = [proofs.get(identity) for identity in item.findings]
        known = [p for p in members if p is not None and p.verdict in SHOWN]
        if item.small or not known or len(known) < len(members):
            continue
        gains = [in_frame(p, survey.frame_ms.median, survey.submit_ms.median) for p in known]
        sums = [sum(max(getattr(g, part), 0.0) for g in gains if g) for part in ("median", "low", "high")]
        found.append((item.title, item.gain, *sums))
    return found


def table(pairs: list[Pair]) -> dict[str, Correction]:
    """Print how estimates of each rule did, and return what corrects them."""
    made: dict[str, Correction] = {}
    total = dict.fromkeys(("pairs", "before", "after", "agree"), 0)
    print(f"{'rule':<24} {'pairs':>5} {'median':>7} {'within 2x':>10} {'corrected':>10} {'proof allows':>13}")
    for rule in sorted({pair[1] for pair in pairs}):
        mine = [pair[2:] for pair in pairs if pair[1] == rule]
        made[rule] = correction_of([(estimated, proved) for estimated, proved, _, _ in mine])
        factor = made[rule].factor
        ratios = sorted(proved / estimated for estimated, proved, _, _ in mine)
        counts = {
            "pairs": len(mine),
            "before": sum(within_two(estimated, proved) for estimated, proved, _, _ in mine),
            "after": sum(within_two(estimated * factor, proved) for estimated, proved, _, _ in mine),
            "agree": sum(agrees(estimated * factor, low, high) for estimated, _, low, high in mine),
        }
        for name, count in counts.items():
            total[name] += count
        middle = ratios[len(ratios) // 2]
        print(
            f"{rule:<24} {len(mine):>5} {middle:>7.2f} {counts['before']:>10} {counts['after']:>10}"
            f" {counts['agree']:>13}"
        )
    print(f"{'all':<24} {total['pairs']:>5} {'':>7} {total['before']:>10} {total['after']:>10} {total['agree']:>13}")
    return made


def main() -> None:
    files = [Path(word) for word in sys.argv[1:] if word.endswith(".wend")]
    kept: list[Pair] = [tuple(pair) for pair in json.loads(PAIRS.read_text())]
    pairs = [pair for path in files for pair in pairs_of(path)] or kept
    made = table(pairs)
    rows = [(path.stem, *row) for path in files for row in recommended(path)]
    for program, title, estimated, proved, low, high in rows:
        mark = "" if within_two(estimated, proved) else "allowed" if agrees(estimated, low, high) else "OFF"
        print(f"{program:<14} {estimated:>9.2f} {proved:>9.2f} ({low:.2f} to {high:.2f}) {mark:<8} {title[:70]}")
    if "--write" in sys.argv[1:]:
        lines = [
            "# Proved over estimated gains by rule, from `tools/calibrate_estimates.py`. Estimates are multiplied by"
        ]
        lines += ["# `factor`; `low` and `high` are the range of what is proved, over the estimate so corrected.", ""]
        for rule, item in made.items():
            lines += [
                f'["{rule}"]',
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
