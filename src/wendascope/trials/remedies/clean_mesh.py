"""Meshes without triangles that draw nothing, and without those that a draw holds twice."""

from __future__ import annotations

from wendascope.trials.remedies._kinds import Claim, Trying, declare

declare("clean-mesh", Claim.SAME, Trying.TOGETHER)
