"""Words and numbers in sentences, and a walk over every text that users see. Needs neither driver nor display."""

from __future__ import annotations

import ast
import functools
import re
from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from wendascope import texts

SOURCE = Path(texts.__file__).parent
FORBIDDEN = {
    r"\bcompan(y|ies)\b": "batch",
    r"\bloners?\b": "single draw",
    r"\b(near-)?kin\b": "same batch key",
    r"\byardsticks?\b(?!\.)": "guideline",
    r"\bdear(er|est)?\b": "expensive",
    r"\bfor nothing\b": "redundant, wasted",
    r"\blook-?ups?\b": "texture sample",
    r"\bfixed functions\b": "fixed-function pipeline",
    r"\bregisters of four\b": "varying slots (vec4)",
    r"\b(is|are) for the proof\b": "the proof shows",
    r"\bnobody is late\b|\bthe GPU is late\b": "GPU-bound, within budget",
    r"\b(calls|bytes|pixels|vertices|samples|triangles|ms) a (step|draw|pixel|vertex|frame|fragment|triangle)\b": "per",
    r"\ba sitting\b|\bthe sitting\b|\bsitting called\b": "capture session",
    r"\blet go\b": "resume",
    r"\b1 (pages|draws|steps|files|textures|programs|batches)\b": "a plural of one",
    r"\bno branchs\b|\bbranchs\b": "branches",
}
"""What no text may say, and what it says instead."""
ALLOWED: dict[str, str] = {}
_CODE = ("registry", "demo", "backends/opengl/calls/packed.py", "backends/opengl/objects/records.py")


@functools.cache
def user_texts() -> list[tuple[str, str]]:
    """(place, text) of every string of more than one word that is no docstring."""
    return list(_walk())


def _walk() -> Iterator[tuple[str, str]]:
    for path in sorted(SOURCE.rglob("*.py")):
        name = str(path.relative_to(SOURCE))
        if name.startswith(_CODE):
            continue
        tree = ast.parse(path.read_text())
        silent = set()
        for node in ast.walk(tree):
            body = getattr(node, "body", None)
            for statement in body if isinstance(body, list) else []:
                if isinstance(statement, ast.Expr) and isinstance(statement.value, ast.Constant):
                    silent.add(id(statement.value))
            if isinstance(node, ast.JoinedStr):
                silent |= {id(part) for part in node.values}
        for node in ast.walk(tree):
            if isinstance(node, ast.JoinedStr):
                parts = [part.value if isinstance(part, ast.Constant) else "\u2026" for part in node.values]
                text = "".join(str(part) for part in parts)
            elif isinstance(node, ast.Constant) and isinstance(node.value, str) and id(node) not in silent:
                text = node.value
            else:
                continue
            if " " in text.strip() and "void main" not in text and "#version" not in text:
                yield f"{name}:{node.lineno}", text


def test_the_walk_sees_the_texts() -> None:
    found = [text for _, text in user_texts()]
    assert len(found) > 1500 and any("state calls are redundant" in text for text in found)


@pytest.mark.parametrize("pattern", FORBIDDEN)
def test_no_text_says_what_it_should_not(pattern: str) -> None:
    said = [
        f"{place}: {text!r} (say: {FORBIDDEN[pattern]})"
        for place, text in user_texts()
        if re.search(pattern, text, re.IGNORECASE) and not any(name in text for name in ALLOWED)
    ]
    assert said == []


def test_per_cent_has_a_space() -> None:
    assert [place for place, text in user_texts() if re.search(r"\d%(?![a-z\d(])", text)] == []


def test_a_sentence_begins_large() -> None:
    """What follows a full stop is no small letter."""
    found = [p for p, text in user_texts() if re.search(r"[a-z]{3}\. [a-z]{3,}", text) and "vert. run" not in text]
    assert found == []


# ---- the helpers ----------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("count", "noun", "several", "told"),
    [
        (0, "page", "", "0 pages"),
        (1, "page", "", "1 page"),
        (1204, "draw", "", "1,204 draws"),
        (2, "batch", "batches", "2 batches"),
        (1, "batch", "batches", "1 batch"),
    ],
)
def test_nouns_follow_their_numbers(count: int, noun: str, several: str, told: str) -> None:
    assert texts.plural(count, noun, several) == told


def test_verbs_follow_their_numbers() -> None:
    assert [texts.verb(n, "is", "are") for n in (0, 1, 2)] == ["are", "is", "are"]


def test_sentences_begin_large_and_end_with_a_mark() -> None:
    assert texts.sentence("three of nine") == "Three of nine." and texts.sentence("really?") == "Really?"
    assert texts.sentence("") == "" and texts.capital("glDraw") == "glDraw"


def test_lists_are_said_as_people_say_them() -> None:
    assert texts.listed([]) == "" and texts.listed(["a"]) == "a" and texts.listed([1, 2]) == "1 and 2"
    assert texts.listed("abc", "or") == "a, b or c"


@given(st.floats(0, 1))
def test_shares_are_per_cent(part: float) -> None:
    assert re.fullmatch(r"\d{1,3} %", texts.share(part)) and abs(float(texts.share(part, 3)[:-2]) - 100 * part) < 1e-3


def test_large_counts_are_said_short() -> None:
    assert texts.large(48_300) == "48,300" and texts.large(10_240_000) == "10.2 million"


@pytest.mark.parametrize(
    ("value", "told"),
    [
        (0, "0"),
        (0.01234, "0.0123"),
        (4.5555, "4.56"),
        (12.34, "12.3"),
        (999.6, "1,000"),
        (1234, "1,230"),
        (-2.5, "-2.50"),
    ],
)
def test_measured_values_have_three_digits(value: float, told: str) -> None:
    assert texts.three_digits(value) == told


@given(st.floats(1e-6, 1e9))
def test_three_digits_are_within_half_a_unit_of_the_third(value: float) -> None:
    said = float(texts.three_digits(value).replace(",", ""))
    assert abs(said - value) <= 0.0051 * value


def test_intervals_come_after_their_median() -> None:
    assert texts.interval(4.5, 4.25, 4.75) == "4.50 ms (4.25 to 4.75)"


@pytest.mark.parametrize(
    ("size", "told"),
    [(812, "812 bytes"), (4670, "4.56 KiB"), (3 << 20, "3.00 MiB"), (5 << 30, "5,120 MiB")],
)
def test_memory_is_said_in_a_unit_that_suits_it(size: int, told: str) -> None:
    assert texts.memory(size) == told


def test_all_parts_of_one_thing_are_one_name() -> None:
    assert texts.joined_parts(["shadow 1 (1/2)", "rain", "shadow 1 (2/2)"]) == ["shadow 1 (2 parts)", "rain"]
    assert texts.joined_parts(["shadow 1/3", "shadow 3/3"]) == ["shadow 1/3", "shadow 3/3"], "one is missing"
    assert texts.joined_parts(["shadow 1/3", "shadow 2/3", "shadow 3/3", "glow"]) == ["shadow (3 parts)", "glow"]
    assert texts.joined_parts([]) == [] and texts.joined_parts(["a 1/1"]) == ["a 1/1"]


def test_names_of_commands_stay_what_they_are() -> None:
    assert texts.capital("glFinish holds the program") == "glFinish holds the program"
    assert texts.capital("glow is drawn") == "Glow is drawn" and texts.capital("") == ""
    assert texts.capital("lamps[5]: no pixel needs it") == "lamps[5]: no pixel needs it"
