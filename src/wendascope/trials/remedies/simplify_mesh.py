"""Meshes of fewer triangles: the same vertices, with simpler indices."""

from __future__ import annotations

from wendascope.trials.remedies._kinds import Claim, declare

declare("simplify-mesh", Claim.TRADE)
