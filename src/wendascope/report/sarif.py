"""SARIF 2.1.0, the OASIS standard for results of analysis: what all of ours have in common."""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from typing import Any
from urllib.parse import quote

import wendascope

_SCHEMA = "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json"


def sarif_run(
    rules: Mapping[str, str], results: Sequence[dict[str, Any]], sources: Mapping[str, str] | None = None,
    warnings: Sequence[str] = (),
) -> dict[str, Any]:  # fmt: skip
    """One run. `rules` are identities with what they say, `sources` the texts of files that results name and that are
    kept nowhere else.
    """
    told = [{"id": name, **({"shortDescription": {"text": text}} if text else {})} for name, text in rules.items()]
    run: dict[str, Any] = {
        "tool": {"driver": {"name": "Wendascope", "version": wendascope.__version__, "rules": told}},
        "results": list(results),
    }
    if sources:
        run["artifacts"] = [
            {"location": {"uri": name}, "contents": {"text": text}} for name, text in sorted(sources.items())
        ]
    if warnings:
        said = [{"level": "warning", "message": {"text": text}} for text in warnings]
        run["invocations"] = [{"executionSuccessful": True, "toolExecutionNotifications": said}]
    return {"$schema": _SCHEMA, "version": "2.1.0", "runs": [run]}


def uri_of(path: str) -> str:
    """A path as a reference."""
    return quote(os.fsencode(path))
